// Package descriptions holds the host descriptions that ship with the program:
// those of its practice hosts, which double as examples.
package descriptions

import "embed"

// Files has one NAME.toml for each practice host.
//
//go:embed *.toml
var Files embed.FS
