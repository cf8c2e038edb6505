// Package dialects holds the dialect files that ship with the program.
package dialects

import "embed"

// Files are the shipped dialects, one YAML file each.
//
//go:embed *.yaml
var Files embed.FS
