// Package settings is all that this program remembers as set, of this machine or of one project:
// List shows it, Set and Unset change it. Each setting has one name; what holds several values
// gets and loses them one by one.
package settings

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strconv"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/claims"
	"uncinate/internal/job/history"
	"uncinate/internal/job/surveying"
)

// Setting is one of them, as it is now.
type Setting struct {
	Name    string   `json:"name"`
	Of      string   `json:"of" says:"the machine, or the folder of the project that it is of"`
	Values  []string `json:"values" says:"empty: not set"`
	Default string   `json:"default,omitempty" says:"what holds where it is not set"`
	About   string   `json:"about"`
}

// kept is how a setting is read and written.
type kept struct {
	name, def, about string
	ofProject        bool
	several          bool
	get              func(ctx context.Context, d *desk.Desk, folder string) ([]string, error)
	set              func(ctx context.Context, d *desk.Desk, folder string, values []string) error
	unset            func(ctx context.Context, d *desk.Desk, folder string, values []string) error
}

func all() []kept {
	return []kept{
		{name: "git", def: "the one on the PATH", about: "path of the git program",
			get: machineGet(func(s desk.Settings) string { return s.Git }),
			set: func(ctx context.Context, d *desk.Desk, _ string, v []string) error { return d.UseGit(ctx, v[0]) },
			unset: func(ctx context.Context, d *desk.Desk, _ string, _ []string) error {
				return d.UseGit(ctx, "")
			}},
		{name: "machine", def: "its name on the network", about: "this machine's name in its keys",
			get:   machineGet(func(s desk.Settings) string { return s.Machine }),
			set:   func(ctx context.Context, d *desk.Desk, _ string, v []string) error { return d.NameMachine(ctx, v[0]) },
			unset: change(func(s *desk.Settings) { s.Machine = "" })},
		{name: "rescue.days", def: "90", about: "days that rescue copies are kept",
			get: machineGet(func(s desk.Settings) string { return number(s.RescueDays) }), set: setDays,
			unset: change(func(s *desk.Settings) { s.RescueDays = 0 })},
		{name: "foresee.megabytes", def: "50", about: "how much is received at most to foresee clashes; 0 for nothing",
			get: machineGet(func(s desk.Settings) string { return text.Either(s.Foresee < 0, "0", number(s.Foresee)) }), set: setForesee,
			unset: change(func(s *desk.Settings) { s.Foresee = 0 })},
		{name: "clone.layout", def: "owner", about: "folders of several clones: one per owner, or flat",
			get: machineGet(func(s desk.Settings) string { return text.Either(s.Flat, "flat", "") }), set: setLayout,
			unset: change(func(s *desk.Settings) { s.Flat = false })},
		{name: "save.ask-about", ofProject: true, several: true, about: "paths that save asks about", get: askedAbout,
			set: func(ctx context.Context, d *desk.Desk, folder string, v []string) error {
				_, _, err := history.AskAbout(ctx, d, folder, func(old []string) []string { return append(old, v...) })
				return err
			},
			unset: func(ctx context.Context, d *desk.Desk, folder string, v []string) error {
				_, _, err := history.AskAbout(ctx, d, folder, func(old []string) []string { return without(old, v) })
				return err
			}},
		{name: "claim.required", ofProject: true, several: true, about: "files that must be claimed before they are saved; kept in .gitattributes, for all who use this program",
			get: func(_ context.Context, _ *desk.Desk, folder string) ([]string, error) {
				return claims.RequiredBy(folder)
			},
			set: func(ctx context.Context, d *desk.Desk, folder string, v []string) error {
				return claims.Require(ctx, d, folder, v, nil)
			},
			unset: func(ctx context.Context, d *desk.Desk, folder string, v []string) error {
				old, err := claims.RequiredBy(folder)
				if err != nil || len(v) == 0 {
					v = old
				}
				return errors.Join(err, claims.Require(ctx, d, folder, nil, v))
			}},
		{name: "survey.let", ofProject: true, several: true, about: "paths sent although the survey would stop them (set by --let and --reason)", get: letThrough,
			unset: func(ctx context.Context, d *desk.Desk, folder string, v []string) error {
				f, err := worktree.LooseAt(ctx, d, folder)
				if err != nil {
					return err
				}
				return surveying.DropLet(ctx, d, f.Path, func(path string) bool { return len(v) == 0 || slices.Contains(v, path) })
			}},
	}
}

func machineGet(of func(desk.Settings) string) func(context.Context, *desk.Desk, string) ([]string, error) {
	return func(_ context.Context, d *desk.Desk, _ string) ([]string, error) {
		s, err := d.Settings()
		if v := of(s); v != "" {
			return []string{v}, err
		}
		return nil, err
	}
}

func change(set func(*desk.Settings)) func(context.Context, *desk.Desk, string, []string) error {
	return func(ctx context.Context, d *desk.Desk, _ string, _ []string) error { return d.Change(ctx, set) }
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

func setDays(ctx context.Context, d *desk.Desk, _ string, v []string) error {
	days, err := strconv.Atoi(v[0])
	if err != nil || days < 1 || days > 3650 {
		return fault.New(fault.Usage, "rescue copies are kept for 1 to 3650 days, not for %s", text.Quote(v[0])).Try("", "uncinate settings set rescue.days 90")
	}
	return d.Change(ctx, func(s *desk.Settings) { s.RescueDays = days })
}

func setForesee(ctx context.Context, d *desk.Desk, _ string, v []string) error {
	most, err := strconv.Atoi(v[0])
	if err != nil || most < 0 || most > 100_000 {
		return fault.New(fault.Usage, "the bound is a number of megabytes from 0 to 100,000, not %s", text.Quote(v[0])).Try("", "uncinate settings set foresee.megabytes 50")
	}
	return d.Change(ctx, func(s *desk.Settings) { s.Foresee = text.Either(most == 0, -1, most) })
}

func setLayout(ctx context.Context, d *desk.Desk, _ string, v []string) error {
	if v[0] != "owner" && v[0] != "flat" {
		return fault.New(fault.Usage, "the layout is owner or flat, not %s", text.Quote(v[0])).Try("", "uncinate settings set clone.layout owner")
	}
	return d.Change(ctx, func(s *desk.Settings) { s.Flat = v[0] == "flat" })
}

func askedAbout(ctx context.Context, d *desk.Desk, folder string) ([]string, error) {
	_, all, err := history.AskAbout(ctx, d, folder, nil)
	return all, err
}

func letThrough(ctx context.Context, d *desk.Desk, folder string) ([]string, error) {
	f, err := worktree.LooseAt(ctx, d, folder)
	if err != nil {
		return nil, err
	}
	let, err := surveying.LetThrough(d, f.Path)
	var paths []string
	for _, l := range let {
		paths = append(paths, l.Path)
	}
	return paths, err
}

// without leaves values out of old, or all where none is named.
func without(old, values []string) []string {
	if len(values) == 0 {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(old), func(p string) bool { return slices.Contains(values, p) })
}

// Names are the names of all settings.
func Names() []string {
	var names []string
	for _, k := range all() {
		names = append(names, k.name)
	}
	return names
}

// List gives the machine's settings, and those of the project that a folder is in; a folder that
// is in none has none, unless it was named.
func List(ctx context.Context, d *desk.Desk, folder string) ([]Setting, error) {
	machine := "this machine"
	if name, err := d.Machine(); err == nil {
		machine = name
	}
	at := folder
	if at == "" {
		at = "."
	}
	_, top, found := project.FindTop(ctx, d, at)
	if found == nil && top == "" && folder != "" {
		_, found = worktree.LooseAt(ctx, d, folder) // says what is the matter with it
	}
	if found != nil && folder != "" {
		return nil, found
	}
	var out []Setting
	for _, k := range all() {
		of := machine
		if k.ofProject {
			if of = top; top == "" {
				continue
			}
		}
		values, err := k.get(ctx, d, of)
		if err != nil {
			return nil, err
		}
		out = append(out, Setting{k.name, of, append([]string{}, values...), k.def, k.about})
	}
	return out, nil
}

// find finds a setting by its name.
func find(name string) (kept, error) {
	for _, k := range all() {
		if k.name == name {
			return k, nil
		}
	}
	f := fault.New(fault.Usage, "there is no setting %s", text.Quote(name))
	if near := text.Nearest(name, Names()); near != "" {
		f.Detail("Did you mean %s?", near)
	}
	return kept{}, f.Try("see the settings", "uncinate settings list")
}

// Set sets a setting; what holds several values gets them beside those that it has. The change is
// given as it is before and, without preview, after.
func Set(ctx context.Context, d *desk.Desk, folder, name string, values []string, preview bool) error {
	k, err := find(name)
	switch {
	case err != nil:
		return err
	case k.set == nil:
		return fault.New(fault.Usage, "%s is not set by itself: a path gets in with its reason", name).Try("", text.Command("uncinate", "save", "--let", values[0], "--reason", "TEXT", "--message", "TEXT"))
	case !k.several && len(values) > 1:
		return fault.New(fault.Usage, "%s takes one value, not %d", name, len(values))
	case preview:
		return nil
	}
	return k.set(ctx, d, filepath.Clean(folder), values)
}

// Unset takes a setting back to its default, or values out of one that holds several.
func Unset(ctx context.Context, d *desk.Desk, folder, name string, values []string, preview bool) error {
	k, err := find(name)
	switch {
	case err != nil:
		return err
	case !k.several && len(values) > 0:
		return fault.New(fault.Usage, "%s has one value, which need not be named", name).Try("", text.Command("uncinate", "settings", "unset", name))
	}
	if k.several {
		old, err := k.get(ctx, d, folder)
		if err != nil {
			return err
		}
		for _, v := range values {
			if near := text.Nearest(v, old); near != "" && !slices.Contains(old, v) {
				return fault.New(fault.Failed, "%s does not hold %s", name, text.Quote(v)).
					Detail("Did you mean %s?", text.Visible(near)).Try("see the settings", "uncinate settings list")
			} // what is not there need not go
		}
	}
	if preview {
		return nil
	}
	return k.unset(ctx, d, filepath.Clean(folder), values)
}
