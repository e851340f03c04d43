package deploying

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"uncinate/internal/core/places"
	"uncinate/internal/core/text"
)

// The modes of a tree's entries (git-ls-tree documentation).
const (
	Executable = "100755"
	Link       = "120000"
)

// Entry is a file of a commit: its mode, and the id of its contents.
type Entry struct {
	Mode string `json:"mode"`
	ID   string `json:"id"`
}

// Tree is the files of a commit, by their paths.
type Tree map[string]Entry

// has reports whether a path is a file of the tree, or a folder of one.
func (t Tree) has(p string) bool { return t[p] != (Entry{}) || len(t.below(p)) > 0 }

// below lists the files in a folder.
func (t Tree) below(folder string) []string {
	var out []string
	for p := range t {
		if folder == "" || strings.HasPrefix(p, folder+"/") {
			out = append(out, p)
		}
	}
	slices.Sort(out)
	return out
}

// Covered are the files whose contents an approval of the tasks covers: the tasks file, each file of the repository that
// a task names in "do" or "runs", and what those lead to that are links. read gives where a link leads.
func (t *Tasks) Covered(tree Tree, read func(p string) (string, error)) (Tree, error) {
	out := Tree{}
	var add func(p string, depth int) error
	add = func(p string, depth int) error {
		e := tree[p]
		if e == (Entry{}) || out[p] != (Entry{}) {
			return nil
		}
		out[p] = e
		if e.Mode != Link {
			return nil
		}
		to, err := read(p)
		if err != nil {
			return err
		}
		at := path.Join(path.Dir(p), to)
		if path.IsAbs(to) || !inside(at) || depth > 20 {
			return fmt.Errorf("%s leads out of the repository, to %s", text.Visible(p), text.Quote(text.Excerpt(to, 100)))
		}
		for _, q := range append([]string{at}, tree.below(at)...) {
			if err := add(q, depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	named := []string{File}
	for _, x := range t.Tasks {
		for _, w := range x.Do {
			named = append(named, path.Join(x.Folder, w), path.Clean(w))
		}
		for _, p := range x.Runs {
			p = strings.TrimSuffix(p, "/")
			named = append(append(named, p), tree.below(p)...)
		}
	}
	for _, p := range named {
		for dir := p; dir != "." && dir != "/" && dir != ""; dir = path.Dir(dir) { // a folder on the way may be a link
			if tree[dir].Mode == Link {
				if err := add(dir, 0); err != nil {
					return nil, err
				}
			}
		}
		if err := add(p, 0); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// AnyOf reports whether some task wants each commit approved.
func (t *Tasks) AnyOf() bool {
	return slices.ContainsFunc(t.Tasks, func(x Task) bool { return x.Any })
}

// Digest names what an approval is of: the contents of all that is covered and, where a task says any, the commit.
func (t *Tasks) Digest(covered Tree, commit string) string {
	h := sha256.New()
	for _, p := range slices.Sorted(maps.Keys(covered)) {
		fmt.Fprintf(h, "%s %s %d %s\n", covered[p].Mode, covered[p].ID, len(p), p)
	}
	if t.AnyOf() {
		fmt.Fprintf(h, "commit %s\n", commit)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Missing finds what the tasks name and the repository does not have, or has and should not; data is the tasks file.
func (t *Tasks) Missing(data []byte, tree Tree) []places.Mistake {
	r := &reader{data: data}
	for _, p := range t.Lasting {
		if clean := strings.TrimSuffix(p, "/"); tree.has(clean) {
			r.wrong("", "lasting", "", "%s is in the repository, and cannot outlive its states", text.Quote(text.Excerpt(p, 60)))
		}
	}
	for _, x := range t.Tasks {
		if x.Folder != "" && len(tree.below(x.Folder)) == 0 {
			r.wrong(x.at, "folder", "", "there is no folder %s in the repository", text.Quote(text.Excerpt(x.Folder, 60)))
			continue
		}
		for _, p := range x.Runs {
			if !tree.has(strings.TrimSuffix(p, "/")) {
				r.wrong(x.at, "runs", text.Nearest(p, slices.Collect(maps.Keys(tree))), "there is no %s in the repository", text.Quote(text.Excerpt(p, 60)))
			}
		}
		program := x.Do[0]
		if !strings.Contains(program, "/") || path.IsAbs(program) {
			continue
		}
		at := path.Join(x.Folder, program)
		switch e := tree[at]; {
		case !inside(at):
			r.wrong(x.at, "do", "", "%s leads out of the repository", text.Quote(text.Excerpt(program, 60)))
		case e == (Entry{}) && !t.isLasting(at):
			r.wrong(x.at, "do", text.Nearest(at, slices.Collect(maps.Keys(tree))), "there is no %s in the repository", text.Quote(text.Excerpt(at, 60)))
		case e != (Entry{}) && e.Mode != Executable && e.Mode != Link:
			r.wrong(x.at, "do", "", "%s is not executable: git update-index --chmod=+x %s", text.Quote(text.Excerpt(at, 60)), text.Quote(text.Excerpt(at, 60)))
		}
	}
	places.Sort(r.mistakes)
	return r.mistakes
}

// isLasting reports whether a path is below one that outlives the states.
func (t *Tasks) isLasting(p string) bool {
	return slices.ContainsFunc(t.Lasting, func(l string) bool {
		l = strings.TrimSuffix(l, "/")
		return p == l || strings.HasPrefix(p, l+"/")
	})
}

// Warnings say what an approval of the tasks, which covers so much, does not.
func (t *Tasks) Warnings(tree, covered Tree) []string {
	var out []string
	for _, x := range t.Tasks {
		program := path.Base(x.Do[0])
		switch {
		case x.Any: // each commit is looked at
		case slices.Contains([]string{"sh", "bash", "dash", "zsh", "ksh"}, program) && len(x.Do) > 1 && strings.HasPrefix(x.Do[1], "-") && strings.Contains(x.Do[1], "c"):
			out = append(out, text.Quote(x.Words())+" is a shell's line: what it runs in turn is not covered by an approval, unless \"runs\" names it.")
		case program == "make" && !slices.ContainsFunc([]string{"Makefile", "makefile", "GNUmakefile"}, func(f string) bool { return covered[path.Join(x.Folder, f)] != (Entry{}) }):
			out = append(out, text.Quote(x.Words())+" does what its makefile says, which is not covered by an approval, unless \"runs\" names it.")
		case slices.Contains([]string{"npm", "npx", "yarn", "pnpm", "cargo", "go", "rake", "composer", "gradle", "mvn", "ant", "cmake", "ninja", "just", "tox"}, program):
			out = append(out, text.Quote(x.Words())+" does what files of the repository say: name them in \"runs\", or say any = true.")
		}
	}
	var loose []string
	for p, e := range tree {
		if e.Mode == Executable && covered[p] == (Entry{}) {
			loose = append(loose, p)
		}
	}
	if slices.Sort(loose); len(loose) > 0 && len(t.Tasks) > 0 && !t.AnyOf() {
		says := text.Excerpt(strings.Join(loose[:min(len(loose), 5)], ", "), 200)
		if len(loose) > 5 {
			says += fmt.Sprintf(" and %d more", len(loose)-5)
		}
		out = append(out, text.Count(len(loose), "executable file")+" of the repository that no task names: if a task runs one, name it in \"runs\": "+says+".")
	}
	return out
}
