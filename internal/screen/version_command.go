package screen

import (
	"context"
	"flag"
)

// Versioned is the program's version as a JSON document.
type Versioned struct {
	Version string `json:"version"`
}

func versionCommand() *Command {
	return &Command{Name: "version", Short: "show the program's version", Gives: Versioned{},
		Options: func(*flag.FlagSet) Run {
			return func(_ context.Context, e *Env, _ []string) error {
				return e.Give(Versioned{Version}, func() { e.Say("uncinate %s", Version) })
			}
		}}
}
