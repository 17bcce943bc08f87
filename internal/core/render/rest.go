package render

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/order"
)

// restName is the text that says what is neither the command, the environment nor a file.
const restName = "how it is run"

// rest says everything else that a spec has, a line each by its path: version, user, ports, limits, probes. Secrets are named, not shown.
func rest(spec *order.Spec) Text {
	other := *spec
	other.Ref, other.Role, other.Command, other.Env, other.Files, other.TLS = "", "", nil, nil, nil, nil
	if spec.Floating != nil { // what its holder speaks TLS with is as little for people as the member's own
		floating := *spec.Floating
		floating.TLS = nil
		other.Floating = &floating
	}
	var tree map[string]any
	if data, err := json.Marshal(other); err != nil || json.Unmarshal(data, &tree) != nil {
		return Text{Name: restName}
	}
	out := Text{Name: restName}
	var walk func(path string, v any)
	walk = func(path string, v any) {
		at := func(name string) string { return strings.TrimPrefix(path+"."+name, ".") }
		switch v := v.(type) {
		case map[string]any:
			names := make([]string, 0, len(v))
			for name := range v {
				names = append(names, name)
			}
			slices.Sort(names)
			for _, name := range names {
				walk(at(name), v[name])
			}
		case []any:
			for i, x := range v {
				walk(at(fmt.Sprint(i+1)), x)
			}
		case nil:
		default:
			for _, text := range strings.Split(Put(fmt.Sprint(v), Named), "\n") {
				out.Lines = append(out.Lines, Line{Text: path + ": " + text})
			}
		}
	}
	walk("", tree)
	return out
}
