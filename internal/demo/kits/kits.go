// Package kits are the kits of the demo's own programs.
package kits

import "embed"

// Files holds one folder for each, with its kit.yaml.
//
//go:embed */kit.yaml
var Files embed.FS
