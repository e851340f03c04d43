package screen

import (
	"context"
	"flag"
	"strings"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/settings"
)

func settingsCommand() *Command {
	return &Command{Name: "settings", Short: "what this program remembers as set: list, set, unset",
		Long: "Some settings are this machine's, some one project's. An account's are changed by account change.",
		Subs: []*Command{
			settingsList(),
			settingsSet(),
			settingsUnset(),
		}}
}

func settingsList() *Command {
	return &Command{Name: "list", Args: "[FOLDER]", Most: 1, Takes: []string{"project"}, Gives: []settings.Setting{},
		Short: "list the settings of this machine, and of a project",
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				folder, err := in.given(args)
				if err != nil {
					return err
				}
				return e.giveSettings(ctx, d, folder, "")
			})
		}}
}

func settingsSet() *Command {
	return &Command{Name: "set", Args: "NAME VALUE...", Least: 2, Most: -1, Takes: []string{"setting", "path"}, Gives: []settings.Setting{},
		Short: "set one of them", Long: "A setting that holds several values gets these beside those that it has.",
		Examples: []string{"uncinate settings set rescue.days 30", "uncinate settings set git /opt/git/bin/git", "uncinate settings set save.ask-about settings.ini"},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if err := settings.Set(ctx, d, in.in(), args[0], args[1:], *preview); err != nil {
					return err
				}
				if *preview {
					return e.would(ctx, "", here("Set "+args[0]+" to "+text.Visible(strings.Join(args[1:], ", "))))
				}
				return e.giveSettings(ctx, d, in.folder, args[0])
			})
		}}
}

func settingsUnset() *Command {
	return &Command{Name: "unset", Args: "NAME [VALUE...]", Least: 1, Most: -1, Takes: []string{"setting", "path"}, Gives: []settings.Setting{},
		Short: "take one back to its default", Long: "Of a setting that holds several values, only those that are named are removed.",
		Examples: []string{"uncinate settings unset git", "uncinate settings unset save.ask-about settings.ini"},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if err := settings.Unset(ctx, d, in.in(), args[0], args[1:], *preview); err != nil {
					return err
				}
				if *preview {
					what := "Take " + args[0] + " back to its default"
					if len(args) > 1 {
						what = "Remove " + text.Visible(strings.Join(args[1:], ", ")) + " from " + args[0]
					}
					return e.would(ctx, "", here(what))
				}
				return e.giveSettings(ctx, d, in.folder, args[0])
			})
		}}
}

// giveSettings shows all settings, or the one of a name.
func (e *Env) giveSettings(ctx context.Context, d *desk.Desk, folder, name string) error {
	all, err := settings.List(ctx, d, folder)
	if err != nil {
		return err
	}
	shown := []settings.Setting{}
	for _, s := range all {
		if name == "" || s.Name == name {
			shown = append(shown, s)
		}
	}
	return e.Give(shown, func() {
		var rows [][]string
		for _, s := range shown {
			value := strings.Join(s.Values, ", ")
			if value == "" && s.Default != "" {
				value = "(default: " + s.Default + ")"
			} else if value == "" {
				value = "(none)"
			}
			rows = append(rows, []string{s.Name, value, s.About})
		}
		e.Table([]string{"setting", "value", "what it is"}, rows)
	})
}
