package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shared is a project of the group, published by tern from pier, with a copy on launch
// (tern too) and one on hut (knot).
func shared(t *testing.T, h *host) (pier, launch, hut *machine) {
	t.Helper()
	pier, launch = signedIn(t, h), signedIn(t, h)
	hut = newMachine(t)
	hut.ok("", "", "host", "add", h.Name, "--at", h.URL)
	hut.ok("", "", "vault", "make", "--by", "file")
	hut.ok("", h.token["knot"]+"\n", "account", "add", "--host", h.Name, "--user", "knot")
	pier.write("gauge", map[string]string{"README.md": "# gauge\n", "src/level.c": "int level;\nint height = 3;\n\n\n\n\n\n\n\nint end;\n", "notes.txt": "one\n", ".gitignore": "*.log\n"})
	pier.ok("gauge", "", "attach", "--name", "saltmarsh/gauge", "--yes")
	launch.ok("", "", "clone", "saltmarsh/gauge", "gauge")
	hut.ok("", "", "clone", "saltmarsh/gauge", "gauge")
	return pier, launch, hut
}

// id gives a commit's id.
func (m *machine) id(dir, rev string) string { return m.git(dir, "rev-parse", rev) }

func TestSaveAndSync(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, hut := shared(t, h)

	// Both changed other lines of one file: replayed, with author and text as they were.
	pier.write("gauge", map[string]string{"src/level.c": "int level;\nint height = 4;\n\n\n\n\n\n\n\nint end;\n", "new.txt": "new\n"})
	said := pier.ok("gauge", "", "save", "Raise the height")
	assert.Contains(t, said, "Saved: 1 changed file, 1 new.")
	assert.Contains(t, pier.ok("gauge", "", "sync"), "Sent 1 commit.")
	launch.write("gauge", map[string]string{"src/level.c": "int level;\nint height = 3;\n\n\n\n\n\n\n\nint end_of_it;\n", "tide.log": "kept\n", "README.md": "# gauge, being written\n"})
	launch.ok("gauge", "", "save", "Name the end", "--except", "README.md")
	before := launch.id("gauge", "HEAD")
	said = launch.ok("gauge", "", "sync")
	assert.Contains(t, said, "Received 1 commit, and sent 1 commit on top of it.")
	assert.Contains(t, said, "rescue copy 1")
	assert.Contains(t, said, "Not saved yet: 1 changed file.")
	both, err := os.ReadFile(filepath.Join(launch.home, "gauge/src/level.c"))
	require.NoError(t, err)
	assert.Equal(t, "int level;\nint height = 4;\n\n\n\n\n\n\n\nint end_of_it;\n", string(both))
	assert.Equal(t, "M README.md", launch.git("gauge", "status", "--porcelain"))
	assert.Equal(t, "Name the end\nRaise the height", launch.git("gauge", "log", "-2", "--format=%s"))
	assert.Equal(t, launch.git("gauge", "log", "-1", "--format=%an %at", before), launch.git("gauge", "log", "-1", "--format=%an %at"))
	assert.Equal(t, launch.id("gauge", "HEAD"), launch.id("gauge", "origin/main"))
	assert.Equal(t, "Done", launch.git("gauge", "push", "--porcelain", "--dry-run", "-q"))

	// The commit as it was can be brought back.
	launch.ok("gauge", "", "rescue", "bring", "1")
	assert.Equal(t, before, launch.id("gauge", "rescued-1"))
	syncStopsAtAClash(t, h, pier, launch, hut)
}

// syncStopsAtAClash meets one line that both changed, then merges as asked for.
func syncStopsAtAClash(t *testing.T, h *host, pier *machine, launch *machine, hut *machine) {
	t.Helper()
	// One line changed by both: it stops, names file and person, and leaves all as it was.
	hut.write("gauge", map[string]string{"notes.txt": "one, said knot\n"})
	hut.ok("gauge", "", "sync", "--save", "--message", "Say who")
	launch.write("gauge", map[string]string{"notes.txt": "one, said tern\n"})
	launch.ok("gauge", "", "save", "Say it", "--only", "notes.txt")
	was, index := tree(t, filepath.Join(launch.home, "gauge")), launch.git("gauge", "ls-files", "-s")
	objects := launch.git("gauge", "count-objects", "-v")
	launch.refused(3, []string{"both sides changed the same file on main", "notes.txt, changed on the host by Knot of Saltmarsh on ", "(Say who)", "nothing changed, on either side", "uncinate settle\n"}, "gauge", "", "sync")
	assert.Equal(t, was, tree(t, filepath.Join(launch.home, "gauge")))
	assert.Equal(t, index, launch.git("gauge", "ls-files", "-s"))
	launch.refused(3, nil, "gauge", "", "sync")
	after := launch.git("gauge", "count-objects", "-v")
	assert.NotEqual(t, objects, after, "what came from the host is here")
	assert.Contains(t, launch.ok("gauge", "", "changes", "--on-host", "--full"), "+one, said knot")
	assert.Contains(t, launch.ok("gauge", "", "changes", "--here", "--full"), "+one, said tern")
	launch.git("gauge", "reset", "-q", "--hard", "HEAD~1")
	launch.ok("gauge", "", "sync")

	// Merged, as asked for and as git is set.
	for _, set := range []bool{false, true} {
		pier.ok("gauge", "", "sync")
		pier.write("gauge", map[string]string{"a.txt": "a" + launch.id("gauge", "HEAD")})
		pier.ok("gauge", "", "sync", "--save", "--message", "Write a")
		launch.write("gauge", map[string]string{"b.txt": "b" + launch.id("gauge", "HEAD")})
		args := []string{"sync", "--save", "--message", "Write b", "--by", "merge"}
		if set {
			launch.git("gauge", "config", "pull.rebase", "false")
			args = args[:4]
		}
		said := launch.ok("gauge", "", args...)
		assert.Contains(t, said, "merged it with 1 commit of yours, and sent that")
		assert.Equal(t, "Merge branch 'main' of "+h.URL+"/saltmarsh/gauge.git", launch.git("gauge", "log", "-1", "--format=%s"))
	}
	hut.ok("gauge", "", "sync")
	assert.Equal(t, launch.id("gauge", "HEAD"), hut.id("gauge", "HEAD"))
	launch.refused(2, []string{"by replay or merge"}, "gauge", "", "sync", "--by", "rebase")
}

func TestSaveRules(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	secret := "token = \"" + h.token["tern"] + "\"\n"
	m.write("gauge", map[string]string{"settings.ini": secret, "src/level.c": "int level = 1;\n", "build/level.elf": "object", "notes.txt": "n\n"})
	index := m.git("gauge", "ls-files", "-s")
	said := m.refused(4, []string{"1 file would go up that must not", "settings.ini", "uncinate ignore add settings.ini", "--let settings.ini --reason TEXT"}, "gauge", "", "save", "Work")
	assert.NotContains(t, said, h.token["tern"])
	assert.Equal(t, index, m.git("gauge", "ls-files", "-s"))
	m.refused(2, []string{"--let needs --reason"}, "gauge", "", "save", "Work", "--let", "settings.ini")
	out := m.ok("gauge", "", "save", "Work", "--except", "settings.ini")
	assert.Contains(t, out, "Saved: 1 changed file, 1 new.")
	assert.Contains(t, out, "build/level.elf: ")
	assert.Equal(t, "notes.txt\nsrc/level.c", m.git("gauge", "show", "--format=", "--name-only", "HEAD"))
	m.refused(3, []string{"nothing was saved", "build/level.elf"}, "gauge", "", "save", "Work", "--except", "settings.ini")
	m.refused(1, []string{"nothing to save at the paths"}, "gauge", "", "save", "Work", "--only", "src")
	m.refused(2, []string{"a commit needs a message"}, "gauge", "", "save")
	m.ok("gauge", "", "save", "The object too", "--only", "build/level.elf")
	m.ok("gauge", "", "ignore", "add", "settings.ini")

	// What is staged keeps its place; odd names are names.
	m.write("gauge", map[string]string{"-n": "x\n", ":(top)odd*": "x\n", "staged.txt": "s\n", "no\nline": "x\n"})
	m.git("gauge", "add", "staged.txt")
	require.NoError(t, os.Remove(filepath.Join(m.home, "gauge/notes.txt")))
	m.git("gauge", "mv", "README.md", "READ.md")
	m.ok("gauge", "", "save", "Odd names", "--except", "staged.txt")
	assert.Equal(t, "A  staged.txt", m.git("gauge", "status", "--porcelain"))
	assert.ElementsMatch(t, []string{"-n", ".gitignore", ":(top)odd*", "no\nline", "READ.md", "README.md", "notes.txt"}, strings.Split(strings.TrimSuffix(m.git("gauge", "show", "--format=", "--no-renames", "-z", "--name-only", "HEAD"), "\x00"), "\x00"))

	// Reworded while nobody else has it, never after.
	last := m.id("gauge", "HEAD")
	out = m.ok("gauge", "", "save", "--reword", "Names that are odd")
	assert.Contains(t, out, "rescue copy 1")
	assert.Equal(t, "Names that are odd", m.git("gauge", "log", "-1", "--format=%s"))
	assert.Equal(t, "A  staged.txt", m.git("gauge", "status", "--porcelain"))
	assert.Contains(t, m.ok("gauge", "", "rescue", "show", "1"), "main at "+last[:10]+"  Odd names")
	m.ok("gauge", "", "sync")
	m.refused(4, []string{"was sent already (origin/main holds it)"}, "gauge", "", "save", "--reword", "Late")
	saveIsStopped(t, m)
}

// saveIsStopped meets a check of the person's own, and a file that is always asked about.
func saveIsStopped(t *testing.T, m *machine) {
	t.Helper()
	// The person's own check stops it, and is named; nothing is half done.
	hook := filepath.Join(m.home, "gauge/.git/hooks/pre-commit")
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho no semicolons today\nexit 7\n"), 0o755))
	m.write("gauge", map[string]string{"late.txt": "l\n"})
	status := m.git("gauge", "status", "--porcelain")
	m.ok("gauge", "", "project", "trust", "--yes")
	m.refused(4, []string{"your own check pre-commit stopped it (it ended with 7); nothing was committed", "no semicolons today", ".git/hooks/pre-commit"}, "gauge", "", "save", "Late")
	assert.Equal(t, status, m.git("gauge", "status", "--porcelain"))
	require.NoError(t, os.Remove(hook))

	// What is always asked about is left out where nobody can be asked.
	m.ok("gauge", "", "settings", "set", "save.ask-about", "late.txt")
	m.write("gauge", map[string]string{"other.txt": "o\n"})
	assert.Contains(t, m.ok("gauge", "", "save", "Other"), "late.txt: it is always asked about")
	k := m.talk("gauge", "save", "Late")
	k.asked("Save late.txt too? (yes or no)", "yes\n")
	code, _ := k.ends()
	assert.Equal(t, 0, code)
	k = m.talk("gauge", "save", "--pick")
	code, _ = k.ends()
	require.NotEqual(t, 0, code, "nothing is left to pick from")
	m.write("gauge", map[string]string{"p1": "1\n", "p2": "2\n", "p3": "3\n"})
	k = m.talk("gauge", "save", "--pick", "Picked")
	k.asked("Which of these are saved?", "1 3\n")
	code, _ = k.ends()
	assert.Equal(t, 0, code)
	assert.Equal(t, "?? p2", m.git("gauge", "status", "--porcelain"))
	assert.Equal(t, "p1\np3", m.git("gauge", "show", "--format=", "--name-only", "HEAD"))

	// Plain git in the middle of something, and a lock that was left.
	require.NoError(t, os.WriteFile(filepath.Join(m.home, "gauge/.git/index.lock"), nil, 0o600))
	for _, args := range [][]string{{"save", "X"}, {"sync"}} {
		m.refused(1, []string{"left its lock in", "no program has it open", "rm -- "}, "gauge", "", args...)
	}
	require.NoError(t, os.Remove(filepath.Join(m.home, "gauge/.git/index.lock")))
	m.git("gauge", "config", "user.email", "")
	m.refused(3, []string{"nothing says who commits here: git has no user.email"}, "gauge", "", "save", "X", "--only", "p2")
}

func TestChanges(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	m.write("gauge", map[string]string{"pic.png": "\x89PNG\r\n\x1a\n\x00\x00old", "old name.txt": strings.Repeat("line\n", 9)})
	m.ok("gauge", "", "attach", "--yes")
	assert.Contains(t, m.ok("gauge", "", "changes"), "Nothing differs")
	m.write("gauge", map[string]string{"src/level.c": "int level = 1;\nint more;\n", "new/b\tc.txt": "one\ntwo\n", "pic.png": "\x89PNG\r\n\x1a\n\x00\x00newer", "large.txt": strings.Repeat("x\n", 1<<20)})
	require.NoError(t, os.Remove(filepath.Join(m.home, "gauge/README.md")))
	m.git("gauge", "mv", "old name.txt", "name.txt")
	index := m.git("gauge", "ls-files", "-s")
	out := m.ok("gauge", "", "changes")
	for _, want := range []string{"6 files", `changed  src/level.c`, "2 added, 1 removed", "image/png, 13 B before, 15 B now", "old name.txt → name.txt", "deleted  README.md", `new      new/b\tc.txt`, "2.1 MB, too large to be shown"} {
		assert.Contains(t, out, want)
	}
	assert.Equal(t, index, m.git("gauge", "ls-files", "-s"), "looking changes nothing")
	// Elsewhere than on a terminal it is a patch that git takes.
	patch := m.ok("gauge", "", "changes", "src", "new")
	m.write("", map[string]string{"some.patch": patch})
	m.git("", "clone", "-q", "gauge", "again")
	m.git("again", "apply", "../some.patch")
	assert.Equal(t, "int level = 1;\nint more;\n", tree(t, filepath.Join(m.home, "again"))["src/level.c"][len("---------- "):])
	m.refused(1, []string{"there is no src/levl.c in"}, "gauge", "", "changes", "src/levl.c")
	m.refused(3, []string{"is not in a git repository"}, "", "", "changes")
}

// TestChangesAtOnce changes a file without changing its size, in the second in which git
// noted it, and looks in a later one: git knows by its index's time that it has to look.
func TestChangesAtOnce(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.write("gauge", map[string]string{"level.txt": "0\n"})
	m.git("gauge", "init", "-q", "-b", "main")
	for i := range 3 {
		m.git("gauge", "add", "-A")
		m.git("gauge", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "--allow-empty", "-m", "One")
		assert.Contains(t, m.ok("gauge", "", "changes", "level.txt"), "Nothing differs in ")
		time.Sleep(time.Until(time.Now().Truncate(time.Second).Add(time.Second)))
		m.write("gauge", map[string]string{"level.txt": fmt.Sprintln(i)})
		m.git("gauge", "reset", "-q")
		m.write("gauge", map[string]string{"level.txt": fmt.Sprintln(i + 1), "new.txt": "n\n"})
		time.Sleep(time.Until(time.Now().Truncate(time.Second).Add(time.Second)))
		assert.Regexp(t, `changed +level.txt`, m.ok("gauge", "", "changes"))
	}
	m.refused(1, []string{"there is no none.txt in"}, "gauge", "", "changes", "none.txt")
	assert.Contains(t, m.ok("gauge", "", "changes", "--commit", "HEAD", "none.txt"), "Nothing differs in ")
}

// TestOddRepositories looks at git's own folder, a bare repository and a shallow copy.
func TestOddRepositories(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.project("gauge")
	m.git("gauge", "init", "-q", "-b", "main")
	for _, text := range []string{"One", "Two"} {
		m.git("gauge", "add", "-A")
		m.git("gauge", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "--allow-empty", "-m", text)
	}
	m.git("", "clone", "-q", "--bare", "gauge", "bare.git")
	m.git("", "clone", "-q", "--depth", "1", "file://"+filepath.Join(m.home, "gauge"), "shallow")
	for _, command := range []string{"status", "changes", "save", "survey"} {
		words := []string{command, "Text"}
		if command != "save" {
			words = words[:1]
		}
		m.refused(4, []string{"is a bare repository, without the files of a project"}, "bare.git", "", words...)
		m.refused(4, []string{"is git's own folder of the project above it", "uncinate status "}, "gauge/.git", "", words...)
	}
	said := m.ok("shallow", "", "history", "--graph")
	assert.Contains(t, said, "Two  [main, origin/main]")
	assert.NotContains(t, said, "One")
}
