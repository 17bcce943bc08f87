// Package examples carries the example field files inside the program.
package examples

import "embed"

// Files are the example field files.
//
//go:embed *.field.yaml
var Files embed.FS

// Demo is the file that `lanternfield demo` opens.
const Demo = "saltmarsh-ferries.field.yaml"
