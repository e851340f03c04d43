//go:build linux

package e2e

import (
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// judgeCopies brings rescue copies back in a copy of the project in which everything that
// no ref holds was tidied away, and compares them with what was kept. was is what was in
// the folder before the copies were made, nil where that is no longer known.
func (w *storyWorld) judgeCopies(l, was *look, refs []string, found func(string, string, ...any)) {
	if l.rescue == "" || len(refs) == 0 || l.own != l.common {
		return
	}
	w.scratch++
	top := filepath.Join(w.kept, "scratch", strconv.Itoa(w.scratch))
	project := filepath.Join(top, "project")
	defer os.RemoveAll(top)
	if err := copyTree(l.common, filepath.Join(project, ".git")); err != nil {
		found(ruleCopy, "the project cannot be copied: %s", err)
		return
	}
	for _, n := range l.odd { // what a killed run left is told of by its own rule
		_ = os.Remove(filepath.Join(project, ".git", n))
	}
	m := *w.all[l.machine]
	m.env = append(slices.Clone(m.env), "UNCINATE_HOME="+filepath.Join(top, "home"), "GIT_CONFIG_GLOBAL=/dev/null")
	store := filepath.Join(project, ".git/uncinate/rescue.git")
	for _, words := range [][]string{{"reflog", "expire", "--expire=now", "--all"}, {"gc", "-q", "--prune=now"}, {"--git-dir=" + store, "gc", "-q", "--prune=now"}} {
		if r := w.exec(project, &m, "", "git", words...); r.code != 0 {
			found(ruleDamaged, "git %s: %s", strings.Join(words[:1], " "), excerpt(r.err))
			return
		}
	}
	var copies []struct {
		Number  int
		Commits []struct{ Commit, Ref string }
	}
	r := w.exec(project, &m, "", "uncinate", "rescue", "list", "--json")
	if err := json.Unmarshal([]byte(r.out), &copies); err != nil {
		found(ruleCopy, "the copies cannot be listed: %s", excerpt(r.out+r.err))
		return
	}
	for _, ref := range refs {
		i := slices.IndexFunc(copies, func(c struct {
			Number  int
			Commits []struct{ Commit, Ref string }
		}) bool {
			return ref == "refs/copies/"+strconv.Itoa(c.Number)
		})
		if i < 0 {
			found(ruleCopy, "%s is not listed", ref)
			continue
		}
		c := copies[i]
		number := strconv.Itoa(c.Number)
		into := filepath.Join(top, "into-"+number)
		if r := w.exec(project, &m, "", "uncinate", "rescue", "bring", number, "--as", "deep-"+number, "--into", into); r.code != 0 {
			found(ruleCopy, "copy %s cannot be brought back: %s", number, excerpt(r.err))
			continue
		}
		for _, k := range c.Commits {
			want := map[string]bool{}
			w.objects.below(l.common, []string{k.Commit}, nil, want)
			r := w.exec(project, &m, "", "git", "rev-list", "--objects", "--no-object-names", k.Commit)
			if got := len(strings.Fields(r.out)); r.code != 0 || got != len(want) {
				found(ruleCopy, "copy %s of %s holds %d of the %d objects of its history %s", number, k.Ref, got, len(want), excerpt(r.err))
				break
			}
		}
		w.judgeCopiedFiles(&m, store, l.copies[ref], into, was, found)
	}
}

// judgeCopiedFiles compares the files that a copy gave back with what it holds, and with
// what was in the folder.
func (w *storyWorld) judgeCopiedFiles(m *machine, store, id, into string, was *look, found func(string, string, ...any)) {
	r := w.exec(into, m, "", "git", "--git-dir="+store, "ls-tree", "-r", "-z", id)
	back := w.filesBelow(into)
	for item := range strings.SplitSeq(r.out, "\x00") {
		about, path, is := strings.Cut(item, "\t")
		fields := strings.Fields(about)
		if !is || len(fields) < 3 {
			continue
		}
		if f := back[path]; f.id != fields[2] || (fields[0] == "100755") != (f.mode.Perm()&0o100 != 0) && fields[0] != "120000" {
			found(ruleCopy, "the file %s came back as %.10s %v, and %s was kept", path, f.id, f.mode, about)
			return
		}
		if was == nil {
			continue
		}
		if old, there := was.files[path]; there && old.id == fields[2] && old.mode.Perm() != back[path].mode.Perm() {
			found(ruleCopy, "the file %s had the mode %v, and came back as %v", path, old.mode, back[path].mode)
			return
		}
	}
}

// newCopies are the refs of copies that a look has and an earlier one had not.
func newCopies(was, now *look) []string {
	var fresh []string
	for _, ref := range slices.Sorted(maps.Keys(now.copies)) {
		if was == nil || was.copies[ref] != now.copies[ref] {
			fresh = append(fresh, ref)
		}
	}
	return fresh
}
