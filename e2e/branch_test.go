package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestHistory(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	pier.write("gauge", map[string]string{"notes.txt": "two\n", "pic.bin": "\x00\x01"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Two: \x1b[31mred")
	launch.git("gauge", "fetch", "-q")
	launch.write("gauge", map[string]string{"src/level.c": "int level;\n"})
	launch.ok("gauge", "", "save", "Mine")
	launch.git("gauge", "tag", "v1")
	out := launch.ok("gauge", "", "history")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, lines, 6)
	var marks []string
	for _, l := range lines[1:4] {
		marks = append(marks, strings.Fields(l)[0])
	}
	assert.ElementsMatch(t, []string{"here", "host", "both"}, marks)
	assert.Contains(t, out, "Mine  [main, v1]")
	assert.Contains(t, out, `Two: \x1b[31mred`)
	assert.NotContains(t, out, "\x1b")
	assert.NotContains(t, launch.ok("gauge", "", "history", "--on-host"), "Mine")
	assert.NotContains(t, launch.ok("gauge", "", "history", "--here"), "Two")
	assert.Contains(t, launch.ok("gauge", "", "history", "src/level.c"), "Mine")
	assert.NotContains(t, launch.ok("gauge", "", "history", "src/level.c"), "Two")
	full := launch.ok("gauge", "", "history", "--full")
	assert.Contains(t, full, "pic.bin  binary")
	assert.Contains(t, full, "src/level.c  0 added, 9 removed")
	assert.Contains(t, launch.ok("gauge", "", "changes", "--commit", launch.id("gauge", "origin/main"), "--full"), "+two")
	assert.Contains(t, launch.ok("gauge", "", "changes", "--commit", "v1"), "changed  src/level.c  9 removed")
	assert.Contains(t, launch.ok("gauge", "", "changes", "--commit", "HEAD~1"), "new  README.md", "the first one came from nothing")
	launch.refused(1, []string{"there is no commit --all here"}, "gauge", "", "changes", "--commit", "--all")
	assert.Contains(t, launch.ok("gauge", "", "history", "--most", "1"), "Older ones: uncinate history --most 3")
	assert.Regexp(t, `(?m)^=    (here|host) .*\n\| =  (here|host) .*\n=-'  both `, launch.ok("gauge", "", "history", "--graph"), "two lines of descent that meet")
	launch.refused(1, []string{"there is no branch, tag or commit mian here", "--branch main"}, "gauge", "", "history", "--branch", "mian")
	var doc struct{ Commits []struct{ ID, Where string } }
	require.NoError(t, json.Unmarshal([]byte(launch.ok("gauge", "", "history", "--json")), &doc))
	for _, c := range doc.Commits {
		local := launch.command("gauge", "", "git", "merge-base", "--is-ancestor", c.ID, "HEAD").code == 0
		there := launch.command("gauge", "", "git", "merge-base", "--is-ancestor", c.ID, "origin/main").code == 0
		assert.Equal(t, map[[2]bool]string{{true, true}: "both", {true, false}: "here", {false, true}: "host"}[[2]bool{local, there}], c.Where)
	}
}

func TestBranchesAndTags(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	assert.Contains(t, pier.ok("gauge", "", "branch", "make", "survey", "--for", "knot", "--for", "dunlin", "--publish"), "2 branches made.")
	dir := h.gitDir(t, "tern", "saltmarsh", "gauge")
	assert.Equal(t, "dunlin/survey\nknot/survey\nmain", pier.git(dir, "for-each-ref", "--format=%(refname:short)"))
	pier.ok("gauge", "", "branch", "make", "scale", "--switch")
	pier.refused(3, []string{"there is a branch scale already", "uncinate branch switch scale"}, "gauge", "", "branch", "make", "scale")
	pier.refused(2, []string{"not a name for a branch"}, "gauge", "", "branch", "make", "--", "-q")
	pier.write("gauge", map[string]string{"scale.txt": "s\n"})
	pier.ok("gauge", "", "save", "Scale")
	pier.ok("gauge", "", "sync")
	out := pier.ok("gauge", "", "branch", "list")
	assert.Regexp(t, `current +scale +here, on host +1 ahead +just now, `, out)
	assert.Regexp(t, `knot/survey +here, on host +the same`, out)

	// Changes come along, or stop it.
	pier.write("gauge", map[string]string{"notes.txt": "being written\n"})
	assert.Contains(t, pier.ok("gauge", "", "branch", "switch", "main"), "Came along, not saved yet: 1 changed file.")
	pier.write("gauge", map[string]string{"scale.txt": "another\n"})
	pier.refused(3, []string{"1 file here would be written over", "scale.txt"}, "gauge", "", "branch", "switch", "scale")
	require.NoError(t, os.Remove(filepath.Join(pier.home, "gauge/scale.txt")))
	keepsWhatIsInTheWay(t, pier, launch, dir)
}

// keepsWhatIsInTheWay switches where ignored files are in the way, and new ones that are the same: both are kept as a copy first.
func keepsWhatIsInTheWay(t *testing.T, pier *machine, launch *machine, dir string) {
	t.Helper()
	// Ignored files in the way, and new ones that are the same, are kept as a copy first.
	pier.ok("gauge", "", "branch", "make", "logs")
	pier.git("gauge", "stash", "-q")
	pier.git("gauge", "switch", "-q", "logs")
	pier.write("gauge", map[string]string{"tide.log": "theirs\n", "deep.log/x": "theirs\n", "same.txt": "same\n"})
	pier.git("gauge", "add", "-f", "-A")
	pier.git("gauge", "commit", "-q", "-m", "Logs")
	pier.git("gauge", "switch", "-q", "main")
	pier.git("gauge", "stash", "pop", "-q")
	pier.write("gauge", map[string]string{"tide.log": "mine\n", "deep.log": "mine too\n", "same.txt": "same\n"})
	said := pier.ok("gauge", "", "branch", "switch", "logs")
	assert.Contains(t, said, "3 files in the way")
	assert.Equal(t, "mine\n", pier.ok("gauge", "", "rescue", "show", "1", "tide.log"))
	assert.Equal(t, "mine too\n", pier.ok("gauge", "", "rescue", "show", "1", "deep.log"))
	assert.Equal(t, "M notes.txt", pier.git("gauge", "status", "--porcelain"), "what is not saved came along")
	pier.ok("gauge", "", "branch", "switch", "main")
	pier.write("gauge", map[string]string{"same.txt": "not the same\n"})
	pier.refused(3, []string{"1 file here would be written over", "same.txt"}, "gauge", "", "branch", "switch", "logs")
	require.NoError(t, os.Remove(filepath.Join(pier.home, "gauge/same.txt")))
	pier.ok("gauge", "", "rescue", "drop", "1", "--yes")
	pier.refused(1, []string{"there is no branch scael", "Did you mean scale?"}, "gauge", "", "branch", "switch", "scael")
	joinsBranches(t, pier, launch, dir)
}

// joinsBranches joins branches, clean and not, then renames one on both sides; the other copy is told.
func joinsBranches(t *testing.T, pier *machine, launch *machine, dir string) {
	t.Helper()
	// Joined, clean and not.
	pier.ok("gauge", "", "save", "Notes")
	assert.Contains(t, pier.ok("gauge", "", "branch", "join", "scale"), "Joined: 1 commit of scale is now on main, here only.")
	assert.Equal(t, "Merge branch 'scale'", pier.git("gauge", "log", "-1", "--format=%s"))
	assert.Contains(t, pier.ok("gauge", "", "branch", "join", "scale"), "has all of it already")
	pier.ok("gauge", "", "branch", "make", "other", "--from", "scale", "--switch")
	pier.write("gauge", map[string]string{"notes.txt": "otherwise\n"})
	pier.ok("gauge", "", "save", "Otherwise")
	pier.ok("gauge", "", "branch", "switch", "main")
	head := pier.id("gauge", "HEAD")
	pier.refused(3, []string{"both sides changed the same file on main", "notes.txt, changed on other by", "uncinate settle\n"}, "gauge", "", "branch", "join", "other")
	assert.Contains(t, pier.ok("gauge", "", "changes", "--branch", "other", "--full", "notes.txt"), "+otherwise")
	assert.Contains(t, pier.ok("gauge", "", "changes", "--branch", "other", "--here"), "uncinate changes --branch other --here --full")
	assert.Contains(t, pier.ok("gauge", "", "changes", "--branch", "knot/survey"), "Branch knot/survey holds nothing that is not here.")
	pier.refused(1, []string{"there is no branch othre", "Did you mean other?"}, "gauge", "", "changes", "--branch", "othre")
	pier.refused(2, []string{"--commit and --branch cannot be used together"}, "gauge", "", "changes", "--branch", "other", "--commit", "HEAD")
	assert.Equal(t, head, pier.id("gauge", "HEAD"))
	assert.Empty(t, pier.git("gauge", "status", "--porcelain"))
	pier.ok("gauge", "", "sync")

	// Renamed on both sides; the other copy is told.
	launch.ok("gauge", "", "sync")
	launch.ok("gauge", "", "branch", "switch", "scale")
	pier.ok("gauge", "", "branch", "rename", "scale", "new-scale", "--yes")
	assert.NotContains(t, pier.git(dir, "for-each-ref", "--format=%(refname:short)"), "\nscale")
	assert.Equal(t, "origin/new-scale", pier.git("gauge", "rev-parse", "--abbrev-ref", "new-scale@{upstream}"))
	launch.refused(3, []string{"the branch scale is no longer on the host"}, "gauge", "", "sync")
	pier.refused(3, []string{"main is the default branch on the host", "uncinate branch rename main trunk --here"}, "gauge", "", "branch", "rename", "main", "trunk")
	leavesBranches(t, pier, launch, dir)
}

// leavesBranches goes away from a commit that no branch holds, removes branches, and tags versions.
func leavesBranches(t *testing.T, pier *machine, launch *machine, dir string) {
	t.Helper()
	// A commit that no branch holds is kept when one goes away from it, and none is made.
	pier.git("gauge", "checkout", "-q", "--detach")
	pier.write("gauge", map[string]string{"adrift.txt": "a\n"})
	pier.refused(3, []string{"no branch is checked out", "uncinate branch make NAME --switch"}, "gauge", "", "save", "Adrift")
	pier.git("gauge", "add", "-A")
	pier.git("gauge", "commit", "-q", "-m", "Adrift")
	adrift := pier.id("gauge", "HEAD")
	assert.Contains(t, pier.ok("gauge", "", "branch", "switch", "main"), "1 commit on no branch")
	pier.git("gauge", "reflog", "expire", "--expire=now", "--all")
	pier.git("gauge", "gc", "-q", "--prune=now")
	assert.Contains(t, pier.ok("gauge", "", "rescue", "list"), "HEAD at "+adrift[:10])
	pier.ok("gauge", "", "rescue", "bring", "1", "--as", "found")
	assert.Equal(t, adrift, pier.id("gauge", "found"))
	pier.git("gauge", "checkout", "-q", "--detach", "found")
	assert.NotContains(t, pier.ok("gauge", "", "branch", "switch", "main"), "Kept", "a branch holds it")
	pier.ok("gauge", "", "rescue", "drop", "1", "--yes")
	pier.ok("gauge", "", "branch", "remove", "found", "--here", "--yes")
	pier.ok("gauge", "", "rescue", "drop", "1", "--yes")

	// Removed: nothing is lost of what is joined, and the rest is kept.
	pier.refused(3, []string{"main is checked out"}, "gauge", "", "branch", "remove", "main", "--here")
	pier.ok("gauge", "", "branch", "remove", "new-scale", "--yes")
	assert.Contains(t, pier.ok("gauge", "", "rescue", "list"), "no rescue copies")
	other := pier.id("gauge", "other")
	assert.Contains(t, pier.ok("gauge", "", "branch", "remove", "other", "--preview"), "1 commit of it is in no other branch")
	r := pier.run("gauge", "", "branch", "remove", "other", "--yes")
	assert.Contains(t, r.err, "kept as rescue copy 1")
	pier.git("gauge", "reflog", "expire", "--expire=now", "--all")
	pier.git("gauge", "gc", "-q", "--prune=now")
	pier.ok("gauge", "", "rescue", "bring", "1", "--as", "back")
	assert.Equal(t, other, pier.id("gauge", "back"))
	pier.refused(3, []string{"there is no terminal to ask on"}, "gauge", "", "rescue", "drop", "1")
	pier.ok("gauge", "", "rescue", "drop", "1", "--yes")
	pier.refused(1, []string{"there is no rescue copy 1 here"}, "gauge", "", "rescue", "show", "1")

	// Versions.
	pier.ok("gauge", "", "tag", "make", "v1.2.0", "--message", "First")
	assert.Equal(t, "tag First", pier.git(dir, "for-each-ref", "--format=%(objecttype) %(contents:subject)", "refs/tags/v1.2.0"))
	launch.git("gauge", "checkout", "-q", "main")
	assert.Contains(t, launch.ok("gauge", "", "sync"), "tag v1.2.0")
	assert.Equal(t, pier.id("gauge", "v1.2.0"), launch.id("gauge", "v1.2.0"))
	pier.refused(2, []string{`is not a version number such as 1.2.3`, "--any-name"}, "gauge", "", "tag", "make", "spring")
	pier.ok("gauge", "", "tag", "make", "spring", "--any-name", "--here")
	pier.refused(3, []string{"There is a later version already: v1.2.0."}, "gauge", "", "tag", "make", "v1.1.9")
	pier.write("gauge", map[string]string{"late.txt": "l\n"})
	pier.ok("gauge", "", "save", "Late")
	pier.refused(4, []string{"there is a tag v1.2.0 already, and a tag is never moved"}, "gauge", "", "tag", "make", "v1.2.0")
}

func TestCloneMany(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier := signedIn(t, h)
	for _, n := range []string{"tide-almanac", "tide-tables", "buoys"} {
		pier.write(n, map[string]string{"README.md": "# " + n + "\n", "sub/package.json": "{}\n", "sub/x.js": "x\n"})
		pier.ok(n, "", "attach", "--yes", "--name", map[bool]string{true: "saltmarsh/", false: ""}[n == "buoys"]+n)
	}
	pier.write("buoys", map[string]string{"two.txt": "2\n"})
	pier.ok("buoys", "", "sync", "--save", "--message", "Two")
	pier.git("buoys", "branch", "task")
	pier.git("buoys", "push", "-q", "origin", "task")
	m := signedIn(t, h)

	// By a part of the name.
	r := m.run("", "", "clone", "alman")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "Only tern/tide-almanac has that in its name")
	m.refused(3, []string{"2 repositories have tide in their name; say which", "uncinate clone tern/tide-tables"}, "", "", "clone", "tide")
	k := m.talk("", "clone", "tide", "chosen")
	k.asked("Which one?", "2\n")
	code, said := k.ends()
	assert.Equal(t, 0, code, said)
	assert.Contains(t, m.git("chosen", "remote", "get-url", "origin"), "tide-tables")

	// Branch, depth, partial, snapshot, read-only.
	m.refused(1, []string{"has no branch tsk", "--branch task"}, "", "", "clone", "saltmarsh/buoys", "b1", "--branch", "tsk")
	m.ok("", "", "clone", "saltmarsh/buoys", "b1", "--branch", "task")
	assert.Equal(t, "task", m.git("b1", "branch", "--show-current"))
	m.ok("", "", "clone", "saltmarsh/buoys", "b2", "--depth", "1")
	assert.Equal(t, "true 1", m.git("b2", "rev-parse", "--is-shallow-repository")+" "+m.git("b2", "rev-list", "--count", "HEAD"))
	assert.Contains(t, m.ok("", "", "clone", "saltmarsh/buoys", "b3", "--snapshot"), "files only")
	assert.NoFileExists(t, filepath.Join(m.home, "b3/.git"))
	assert.FileExists(t, filepath.Join(m.home, "b3/sub/x.js"))
	m.ok("", "", "clone", "saltmarsh/buoys", "b4", "--partial")
	out := m.ok("", "", "clone", "saltmarsh/buoys", "b5", "--read-only")
	assert.Contains(t, out, "sync sends nothing from it")
	assert.Regexp(t, `inside +\S.* in sub`, out)
	m.write("b5", map[string]string{"own.txt": "o\n"})
	m.ok("b5", "", "sync", "--save", "--message", "Own")
	assert.Equal(t, "1", m.git("b5", "rev-list", "--count", "origin/main..HEAD"))
	m.ok("b2", "", "sync")
	clonesSeveral(t, h, m, r)
}

// clonesSeveral brings several at once, and is killed in the middle.
func clonesSeveral(t *testing.T, h *host, m *machine, r result) {
	t.Helper()
	// Several at once, in their owners' folders or flat; again goes on, and passes over.
	assert.Contains(t, m.ok("", "", "clone", "--everything", "--into", "work", "--preview"), filepath.Join(m.home, "work/saltmarsh/buoys"))
	assert.Contains(t, m.ok("", "", "clone", "--everything", "--into", "work"), "3 repositories cloned.")
	assert.FileExists(t, filepath.Join(m.home, "work/tern/tide-tables/README.md"))
	assert.Contains(t, m.ok("", "", "clone", "--everything", "--into", "work"), "3 repositories here already.")
	m.write("", map[string]string{"names.txt": "# some\nsaltmarsh/buoys\n" + h.URL + "/tern/tide-tables\n"})
	m.ok("", "", "settings", "set", "clone.layout", "flat")
	m.ok("", "", "clone", "--list", "names.txt", "--into", "flat")
	piped := m.command("", "", "bash", "-c", "uncinate clone --list <(cat names.txt) --into piped")
	require.Equal(t, 0, piped.code, piped.err)
	assert.FileExists(t, filepath.Join(m.home, "flat/buoys/README.md"))
	m.write("again/tide-tables", map[string]string{"mine.txt": "m\n"})
	r = m.run("", "", "clone", "tern/tide-*", "--into", "again")
	assert.Equal(t, 4, r.code)
	assert.Contains(t, r.out, "tern/tide-tables: the folder "+filepath.Join(m.home, "again/tide-tables")+" is here already and is not empty.")
	assert.Contains(t, r.out, "1 repository cloned, 1 failed.")
	m.refused(5, []string{"no account here sees a repository buyos"}, "", "", "clone", "buyos", "--into", "x")
	m.refused(2, []string{"which repositories?"}, "", "", "clone", "--into", "x")
	m.ok("", "", "clone", "saltmarsh/", "--into", "group")
	assert.FileExists(t, filepath.Join(m.home, "group/buoys/README.md"))
	assert.Contains(t, m.ok("", "", "status", "--all"), "in step")

	// Killed in the middle of many: the same command goes on.
	for n := range 4 {
		into := fmt.Sprint("killed", n)
		m.killAfter(n*3+4, "clone", "--everything", "--into", into)
		m.free()
		m.ok("", "", "clone", "--everything", "--into", into)
		for _, p := range []string{"buoys", "tide-tables", "tide-almanac"} {
			assert.Empty(t, m.git(filepath.Join(into, p), "status", "--porcelain"))
		}
	}
}

// killAfter kills the program when its git was run so many times, if it is.
func (m *machine) killAfter(runs int, args ...string) (killed bool) {
	m.t.Helper()
	bin := m.t.TempDir()
	count := filepath.Join(bin, "count")
	real := strings.TrimSpace(m.command("", "", "sh", "-c", "command -v git").out)
	script := fmt.Sprintf("#!/bin/sh\necho x >> %s\nif [ $(wc -l < %s) -eq %d ]; then kill -9 $PPID; fi\nexec %s \"$@\"\n", count, count, runs, real)
	require.NoError(m.t, os.WriteFile(filepath.Join(bin, "git"), []byte(script), 0o755))
	was := m.env
	m.env = append(was[:len(was):len(was)], "PATH="+bin+":"+os.Getenv("PATH"))
	killed = m.run("", "", args...).code == -1
	m.env = was
	return killed
}
