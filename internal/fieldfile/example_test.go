package fieldfile_test

import (
	"fmt"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/fieldfile"
)

const ferries = `format: 1
field: saltmarsh
nodes:
  - {name: gull-1, zone: north}
  - {name: tern-1, zone: south}
roles:
  crews:
    members: 3 # one for each tide
    program: {command: [sleep, "600"]}
`

// A field file is read, what it comes to is worked out, and an edit is spliced into its bytes, comments and all.
func ExampleParse() {
	f, err := fieldfile.Parse("saltmarsh.field.yaml", []byte(ferries), nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	draft := resolve.Draft(f.Field, plan.Live{}, nil)
	for _, m := range plan.Make(draft, plan.Live{}).Adds {
		fmt.Println(m.Name, "on", m.Node)
	}
	fmt.Println(finding.Counted(finding.All(draft)))
	data, err := f.Put(arrange.OfRole("crews", "5", "members"))
	if err == nil {
		fmt.Println(strings.Split(string(data), "\n")[7])
	}
	// Output:
	// crews-1 on gull-1
	// crews-2 on tern-1
	// crews-3 on gull-1
	// nothing found
	//     members: 5 # one for each tide
}
