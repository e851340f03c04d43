package screen

import (
	"context"
	_ "embed"
	"flag"
	"io"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// linkedIn are the licences of what is linked in: go run ./release licences.
//
//go:embed licences.txt
var linkedIn string

// Versioned is the program's version as a JSON document.
type Versioned struct {
	Version  string `json:"version"`
	Licences string `json:"licences,omitempty" says:"with --licences: of what is linked in, as text"`
}

func versionCommand() *Command {
	return &Command{Name: "version", Short: "show the program's version", Gives: Versioned{}, Examples: []string{"uncinate version", "uncinate version --licences"},
		Options: func(o *flag.FlagSet) Run {
			all := o.Bool("licences", false, "show the licences of what is linked into the program")
			return func(_ context.Context, e *Env, _ []string) error {
				if !*all {
					return e.Give(Versioned{Version: Version}, func() { e.Say("uncinate %s", Version) })
				}
				var err error
				give := e.Give(Versioned{Version, linkedIn}, func() { _, err = io.WriteString(e.Out, linkedIn) })
				if err != nil {
					err = fault.New(fault.Failed, "the licences could not be written").Because(err)
				}
				return text.Either(give != nil, give, err)
			}
		}}
}
