package surveying

import (
	"context"
	"errors"
	"io"
	"path"
	"path/filepath"
	"strings"

	"uncinate/internal/core/ignore"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/tree"
)

// catalogue gives the kinds that ship with the program and the person's own, which
// are in the folder kinds of the configuration.
func catalogue(d *desk.Desk) ([]kinds.Kind, error) {
	all, err := kinds.Shipped()
	if err != nil {
		return nil, err
	}
	folder := filepath.Join(d.Home.Config, "kinds")
	own, err := files.Names(folder)
	if err != nil {
		return nil, err
	}
	for _, name := range own {
		p := filepath.Join(folder, name)
		if filepath.Ext(p) != ".toml" {
			continue
		}
		data, err := files.Read(p, 1<<20)
		if err != nil {
			return nil, err
		}
		more, err := kinds.Load(p, data)
		if err != nil {
			return nil, err
		}
		all = append(all, more...)
	}
	return all, nil
}

// outerRules gives the ignore rules that are outside the work tree, as git finds them
// (gitignore documentation, "DESCRIPTION").
func outerRules(ctx context.Context, d *desk.Desk, f *project.Folder) ([]*ignore.List, error) {
	own, err := "", error(nil)
	for _, s := range f.Settings { // the last one counts
		if strings.EqualFold(s.Key, "core.excludesfile") {
			own = s.Value
		}
	}
	if own == "" && !f.IsRepo || strings.HasPrefix(own, "~") || strings.HasPrefix(own, "%") {
		own, err = f.Repo.Do(ctx, "config", "--type=path", "--get", "core.excludesFile")
	}
	if err != nil || own == "" {
		own = git.UserIgnoreFile(d.UserHome)
	}
	paths := []string{own}
	if files.KindOf(filepath.Join(f.Path, ".git")) == files.Folder {
		paths = append(paths, filepath.Join(f.Path, ".git", "info", "exclude"))
	} else if f.IsRepo {
		private, err := f.Repo.Do(ctx, "rev-parse", "--git-path", "info/exclude")
		if err != nil {
			return nil, git.Fault(err, "git cannot work with the repository in %s", text.Visible(f.Path))
		}
		if !filepath.IsAbs(private) {
			private = filepath.Join(f.Path, private)
		}
		paths = append(paths, private)
	}
	var lists []*ignore.List
	for _, p := range paths {
		if l := tree.RulesOf(p); l != nil {
			lists = append(lists, l)
		}
	}
	return lists, nil
}

// cacheTag is how the tag of a cache folder begins (the Cache Directory Tagging
// Specification).
const cacheTag = "Signature: 8a477f597d28d172789f06886806bc55"

// caches gives the folders that say of themselves that they are caches.
func caches(top string, all []survey.File) []string {
	var out []string
	for _, f := range all {
		if f.Rule != nil || path.Base(f.Path) != "CACHEDIR.TAG" || f.Path == "CACHEDIR.TAG" {
			continue
		}
		r, err := tree.Open(top, f.Path)
		if err != nil {
			continue
		}
		head := make([]byte, len(cacheTag))
		_, err = io.ReadFull(r, head)
		if err = errors.Join(err, r.Close()); err == nil && string(head) == cacheTag {
			out = append(out, path.Dir(f.Path))
		}
	}
	return out
}

// LimitsFor gives a host's limits: of the one that is named, of the one that the folder
// is attached to, or of the only one that is known.
func LimitsFor(d *desk.Desk, where, named string) (survey.Limits, error) {
	var none survey.Limits
	if named == "" {
		p, attached, err := project.ProjectAt(d, where)
		if err != nil {
			return none, err
		}
		known, err := hosts.All(d)
		if err != nil {
			return none, err
		}
		switch {
		case attached && p.Host != "":
			named = p.Host
		case !attached && len(known) == 1:
			named = known[0].Name
		default:
			return none, nil
		}
	}
	h, err := hosts.Named(d, named)
	if err != nil {
		return none, err
	}
	return hosts.LimitsOf(h), nil
}
