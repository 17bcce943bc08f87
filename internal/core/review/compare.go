package review

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"

	"lanternfield/internal/core/field"
)

// Difference is one thing in which two drafts differ, by its path in the field.
type Difference struct {
	Path   string `json:"path"`             // e.g. roles.crews.members
	Before string `json:"before,omitempty"` // empty where it was not there
	After  string `json:"after,omitempty"`  // empty where it is not there any more
}

// Compare lists in what two drafts differ, sorted by path. What the product finds out by itself is left out.
func Compare(before, after *field.Field) ([]Difference, error) {
	a, err := flat(before)
	if err != nil {
		return nil, err
	}
	b, err := flat(after)
	if err != nil {
		return nil, err
	}
	var out []Difference
	for path, value := range a {
		if b[path] != value {
			out = append(out, Difference{path, value, b[path]})
		}
	}
	for path, value := range b {
		if _, was := a[path]; !was {
			out = append(out, Difference{Path: path, After: value})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out, nil
}

// flat gives all values of a draft by their paths. Roles and nodes go by their names, other lists by their places.
func flat(f *field.Field) (map[string]string, error) {
	data, err := json.Marshal(f)
	if err != nil {
		return nil, err
	}
	var tree map[string]any
	if err := json.Unmarshal(data, &tree); err != nil {
		return nil, err
	}
	delete(tree, "extras")
	out := map[string]string{}
	var walk func(path string, v any)
	walk = func(path string, v any) {
		at := func(name string) string {
			if path == "" {
				return name
			}
			return path + "." + name
		}
		switch v := v.(type) {
		case map[string]any:
			for name, x := range v {
				if name != "others" {
					walk(at(name), x)
				}
			}
		case []any:
			for i, x := range v {
				name := fmt.Sprint(i + 1)
				if m, ok := x.(map[string]any); ok && slices.Contains([]string{"nodes", "roles"}, path) {
					if n, ok := m["name"].(string); ok {
						name = n
						delete(m, "name")
						out[at(name)] = "there"
					}
				}
				walk(at(name), x)
			}
		case nil:
		default:
			out[path] = fmt.Sprint(v)
		}
	}
	walk("", tree)
	return out, nil
}
