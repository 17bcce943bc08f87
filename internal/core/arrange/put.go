package arrange

import "lanternfield/internal/core/field"

// Put writes a value, as YAML has it, at a path of the field file, and what is missing above it too. Without a value it
// takes out what is there. A last step "+" adds an item to a list. A node is addressed by its name; where it comes from a
// range, the range is divided.
type Put struct {
	Path  []string
	Value string
}

// At makes a Put.
func At(value string, path ...string) Put { return Put{Path: path, Value: value} }

// OfRole makes a Put below a role.
func OfRole(role field.RoleName, value string, path ...string) Put {
	return Put{Path: append([]string{"roles", string(role)}, path...), Value: value}
}

// What can be renamed, with all that refers to it.
const (
	ARole = "role"
	ANode = "node"
	AZone = "zone"
)

// Rename gives a role, a node, a range of nodes or a zone another name, wherever the file speaks of it.
type Rename struct{ What, From, To string }
