package screen

import (
	"context"
	"flag"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/text"
)

func helpCommand() *Command {
	return &Command{Name: "help", Args: "[COMMAND]", Most: -1, Short: "show all commands, or one in full",
		Takes: []string{"command"}, Gives: Helped{}, Apart: [][]string{{"reference", "schema", "man", "descriptions", "description-schema"}, {"json", "reference"}, {"json", "man"}, {"json", "descriptions"}},
		Options: func(o *flag.FlagSet) Run {
			reference := o.Bool("reference", false, "print the reference page of all commands")
			schema := o.Bool("schema", false, "print the JSON Schema of all that --json prints")
			page := o.Bool("descriptions", false, "print the reference page of the language of host descriptions")
			pageSchema := o.Bool("description-schema", false, "print the JSON Schema of host descriptions, for editors")
			man := o.String("man", "", "write the manual pages, one for each command, into this `folder`")
			return func(_ context.Context, e *Env, args []string) error {
				switch {
				case *reference:
					Reference(e.Out, e.commands)
					return nil
				case *schema:
					return e.JSON(Schema(e.commands))
				case *page:
					DescriptionsPage(e.Out)
					return nil
				case *pageSchema:
					return e.JSON(description.Schema())
				case *man != "":
					return e.manuals(*man)
				case e.json && len(args) == 0:
					return e.JSON(Helped{Commands: helped(e.commands)})
				case len(args) == 0:
					e.overview(e.Out)
					return nil
				}
				c, path, rest := find(e.commands, args)
				if c == nil || len(rest) > 0 {
					return unknown("there is no command "+text.Quote(strings.Join(args, " ")), args[0], names(e.commands), "uncinate help")
				}
				return e.Give(Helped{Commands: helped([]*Command{c})}, func() { e.help(e.Out, c, path) })
			}
		}}
}

// Helped is what there is, as a JSON document.
type Helped struct {
	Commands []HelpedCommand `json:"commands"`
}

// HelpedCommand is one command of it.
type HelpedCommand struct {
	Name      string          `json:"name"`
	Arguments string          `json:"arguments,omitempty"`
	Does      string          `json:"does"`
	Options   []HelpedOption  `json:"options,omitempty"`
	Commands  []HelpedCommand `json:"commands,omitempty"`
}

// HelpedOption is one option of a command.
type HelpedOption struct {
	Name  string `json:"name"`
	Value string `json:"value,omitempty"`
	Does  string `json:"does"`
}

func helped(all []*Command) []HelpedCommand {
	out := []HelpedCommand{}
	for _, c := range all {
		if c.Hidden {
			continue
		}
		h := HelpedCommand{Name: c.Name, Arguments: c.Args, Does: c.Short}
		if c.Options != nil {
			eachOption(c, func(name, value, use string) { h.Options = append(h.Options, HelpedOption{name, value, use}) })
		}
		if len(c.Subs) > 0 {
			h.Commands = helped(c.Subs)
		}
		out = append(out, h)
	}
	return out
}

// names are those of the commands that help shows, in the order of letters.
func names(all []*Command) []string { return slices.Sorted(slices.Values(shown(all))) }
