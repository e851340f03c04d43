package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shell runs a line of shell in a folder of a machine, for what a person does to files there.
func (m *machine) shell(dir, line string) {
	m.t.Helper()
	r := m.command(dir, "", "sh", "-e", "-c", line)
	require.Equal(m.t, 0, r.code, "%s: %s", line, r.err)
}

// rescuedAs finds the line that brings what was undone back.
var rescuedAs = regexp.MustCompile(`(?m)^To have it back: uncinate (rescue bring \d+)`)

func (m *machine) bringBack(dir, said string) string {
	m.t.Helper()
	found := rescuedAs.FindStringSubmatch(said)
	require.Len(m.t, found, 2, said)
	return m.ok(dir, "", strings.Fields(found[1])...)
}

// TestRescueAfterAKill keeps a copy although a run that was killed left git's locks in the store.
func TestRescueAfterAKill(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	m.write("gauge", map[string]string{"src/level.c": "one\n"})
	m.bringBack("gauge", m.ok("gauge", "", "undo", "changes", "--yes"))
	for _, left := range []string{"refs/copies/2.lock", "packed-refs.lock", "HEAD.lock", "objects/pack/pack-1.keep"} {
		m.write("gauge/.git/uncinate/rescue.git", map[string]string{left: ""})
	}
	m.bringBack("gauge", m.ok("gauge", "", "undo", "changes", "--yes"))
	assert.Equal(t, "one\n", m.read("gauge", "src/level.c"))
	for _, left := range []string{"refs/copies/*.lock", "*.lock", "objects/pack/*.keep"} {
		found, err := filepath.Glob(filepath.Join(m.home, "gauge/.git/uncinate/rescue.git", left))
		require.NoError(t, err)
		assert.Empty(t, found)
	}
}

// sorts are sorts of changes, each in a folder of its own in which a.txt, b.txt and sub/c.txt are.
var sorts = []struct{ name, line string }{
	{"changed", "echo more >> a.txt; chmod 600 a.txt"},
	{"new", "mkdir -p deep/er; printf 'no line end' > deep/er/n.txt; chmod 755 deep/er/n.txt; ln -s n.txt deep/er/link"},
	{"deleted", "rm a.txt; rm -r sub"},
	{"mode", "chmod 755 a.txt"},
	{"to-link", "rm a.txt; ln -s b.txt a.txt"},
	{"to-folder", "rm a.txt; mkdir a.txt; echo in > a.txt/in.txt; echo i > a.txt/x.log"},
	{"to-file", "rm -r sub; echo file > sub"},
	{"renamed", "git mv a.txt z.txt; echo more >> z.txt"},
	{"staged-else", "echo staged > a.txt; echo staged > n.txt; git add a.txt n.txt; echo else > a.txt; rm n.txt"},
	{"forgotten", "git rm -q --cached a.txt; echo more >> a.txt"},
	{"meant", "echo n > n.txt; git add -N n.txt"},
	{"binary", `printf '\000\001' > a.txt; printf 'a\r\n' > b.txt`},
	{"odd-names", "touch -- '-n' 'odd name' '*.txt'; printf x > \"$(printf 'line\\nbreak')\""},
}

// undoing prepares a project with a folder for each sort of change.
func undoing(t *testing.T) (m *machine, before map[string]string) {
	m = newMachine(t)
	files := map[string]string{".gitignore": "*.log\n", "keep.log": "ignored\n", "work/.gitattributes": "b.txt text eol=lf\n"}
	for _, s := range sorts {
		for _, name := range []string{"a.txt", "b.txt", "sub/c.txt"} {
			files[s.name+"/"+name] = s.name + " " + name + "\n"
		}
	}
	m.write("gauge", files)
	m.git("gauge", "init", "-q", "-b", "main")
	m.git("gauge", "config", "user.name", "Tern")
	m.git("gauge", "config", "user.email", "tern@saltmarsh.example")
	m.git("gauge", "add", "-A")
	m.git("gauge", "commit", "-q", "-m", "Readings")
	return m, tree(t, filepath.Join(m.home, "gauge"))
}

// TestUndoChanges takes every sort of change back, alone and all at once, and brings each back byte for
// byte, modes included.
func TestUndoChanges(t *testing.T) {
	t.Parallel()
	m, before := undoing(t)
	at := filepath.Join(m.home, "gauge")
	for _, s := range sorts {
		m.shell("gauge/"+s.name, s.line)
	}
	changed := tree(t, at)
	for _, s := range sorts {
		if os.Getenv("UNCINATE_SOAK") == "" && !slices.Contains([]string{"to-folder", "renamed", "staged-else"}, s.name) {
			continue
		}
		said := m.ok("gauge", "", "undo", "changes", s.name, "--yes")
		assert.Empty(t, m.git("gauge", "status", "--porcelain", "--", s.name), s.name)
		for p, was := range before {
			if strings.HasPrefix(p, s.name+"/") {
				assert.Equal(t, was, tree(t, at)[p], p)
			}
		}
		m.bringBack("gauge", said)
		assert.Equal(t, changed, tree(t, at), s.name)
		if s.name == "staged-else" {
			assert.Contains(t, said, "What was staged, or changed meanwhile, is kept too: uncinate rescue show ")
		}
	}
	assert.Equal(t, os.FileMode(0o600), mode(t, filepath.Join(at, "changed/a.txt")))
	shown := m.ok("gauge", "", "undo", "changes", "--preview")
	assert.Contains(t, shown, "To go back to the last commit, "+m.id("gauge", "HEAD")[:10]+" (Readings):")
	for _, says := range []string{"Keep a rescue copy of ", "as in the commit: ", "that were deleted: ", "that the commit does not have: "} {
		assert.Contains(t, shown, says)
	}
	m.refused(3, []string{"no terminal to ask on", "uncinate undo changes --yes"}, "gauge", "", "undo", "changes")
	assert.Equal(t, changed, tree(t, at))

	said := m.ok("gauge", "", "undo", "changes", "--yes")
	assert.Empty(t, m.git("gauge", "status", "--porcelain"))
	assert.Equal(t, before, tree(t, at))
	assert.Contains(t, m.ok("gauge", "", "undo", "changes"), "Every file is as in the last commit; nothing changed.")
	assert.Contains(t, m.bringBack("gauge", said), " files brought back into ")
	assert.Equal(t, changed, tree(t, at))
	again := m.ok("gauge", "", "undo", "changes", "--yes")
	m.write("gauge", map[string]string{"changed/a.txt": "someone's own\n"})
	m.refused(3, []string{"1 file of the copy would overwrite what is there now", "changed/a.txt"}, "gauge", "", strings.Fields(rescuedAs.FindStringSubmatch(again)[1])...)
	assert.Equal(t, before["new/a.txt"], tree(t, at)["new/a.txt"])
	m.ok("gauge", "", "undo", "file", "changed/a.txt", "--yes")
	assert.Equal(t, before, tree(t, at))
}

func mode(t *testing.T, path string) os.FileMode {
	t.Helper()
	s, err := os.Lstat(path)
	require.NoError(t, err)
	return s.Mode().Perm()
}

// TestUndoIsRefused holds that what cannot be undone is told, with the cause and the next thing to do.
func TestUndoIsRefused(t *testing.T) {
	t.Parallel()
	m, before := undoing(t)
	at := filepath.Join(m.home, "gauge")
	m.write("empty", map[string]string{"a.txt": "a"})
	m.git("empty", "init", "-q")
	m.refused(3, []string{"there is no commit here yet"}, "empty", "", "undo", "changes", "--yes")
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{1, "changed/a.txt is as in the last commit, and so is everything else", []string{"changes", "changed/a.txt"}},
		{1, "keep.log is not undone: git was told to ignore it", []string{"changes", "keep.log"}},
		{1, "nothing that differs is called b.text", []string{"changes", "b.text"}},
		{2, "../x is not a path below the project's top", []string{"changes", "../x"}},
		{1, "there is no nowhere.txt in commit", []string{"file", "nowhere.txt"}},
		{1, "uncinate undo file changed/a.txt", []string{"file", "changed/a.tx"}},
		{1, "there is no branch, tag or commit v9 here", []string{"file", "changed/a.txt", "--to", "v9"}},
		{1, "there is no branch, tag or commit v9 here", []string{"commit", "v9"}},
		{2, "--drop is for the last commit", []string{"commit", "--drop", "HEAD"}},
		{3, "the last commit is the first one", []string{"commit", "--drop"}},
		{2, "no commit is made that could have a message", []string{"commit", "--message", "x"}},
		{2, "is not a merge, so it has no sides", []string{"commit", "HEAD", "--parent", "1"}},
		{2, "a run of commits is FROM..TO, with two dots", []string{"commit", "HEAD...main"}},
		{2, "the older one comes first", []string{"commit", "HEAD..HEAD"}},
		{2, "did you mean", []string{"merge"}},
		{2, "uncinate undo changes notes.txt", []string{"notes.txt"}},
	} {
		r := m.command("gauge", "", program, append([]string{"undo"}, append(c.args, "--yes")...)...)
		assert.Equal(t, c.code, r.code, "%v: %s", c.args, r.err)
		assert.Contains(t, strings.ToLower(r.err), strings.ToLower(c.says), c.args)
	}
	assert.Equal(t, before, tree(t, at))

	// A repository of its own stays, and stops what would come back in its place.
	m.git("gauge", "init", "-q", "inner")
	assert.Contains(t, m.ok("gauge", "", "undo", "changes"), "inner/: it is a repository of its own")
	require.NoError(t, os.Remove(filepath.Join(at, "changed/a.txt")))
	m.git("gauge", "init", "-q", "changed/a.txt")
	m.refused(3, []string{"changed/a.txt is a repository of its own, and is where changed/a.txt was"}, "gauge", "", "undo", "changes", "--yes")
	require.NoError(t, os.RemoveAll(filepath.Join(at, "changed/a.txt")))

	undoMeetsOthers(t, m)
}

// undoMeetsOthers meets a program that has a file open, changes that come while it is asked, and what
// plain git left half done.
func undoMeetsOthers(t *testing.T, m *machine) {
	t.Helper()
	at := filepath.Join(m.home, "gauge")

	// What a program has open is named.
	m.write("gauge", map[string]string{"changed/a.txt": "open\n"})
	reader, err := os.Open(filepath.Join(at, "changed/a.txt"))
	require.NoError(t, err)
	assert.Contains(t, m.ok("gauge", "", "undo", "changes", "--preview"), "changed/a.txt, by "+filepath.Base(os.Args[0])+" (process ")
	require.NoError(t, reader.Close())

	// A change that comes while it is asked about stops it.
	talk := m.talk("gauge", "undo", "changes")
	require.Eventually(t, func() bool { return strings.Contains(talk.screen(), "Go ahead?") }, 20*time.Second, 10*time.Millisecond)
	m.write("gauge", map[string]string{"changed/b.txt": "meanwhile\n"})
	talk.asked("Go ahead?", "yes\n")
	code, said := talk.ends()
	assert.Equal(t, 3, code, said)
	assert.Contains(t, said, "other files differ now than when the plan was shown")
	assert.Contains(t, tree(t, at)["changed/a.txt"], "open")

	// What plain git could not merge, as a stash that is brought back leaves it.
	m.git("gauge", "stash", "push", "-q")
	m.write("gauge", map[string]string{"changed/a.txt": "else\n"})
	m.ok("gauge", "", "save", "Else")
	require.NotEqual(t, 0, m.command("gauge", "", "git", "stash", "pop").code)
	said = m.ok("gauge", "", "undo", "changes", "--yes")
	assert.Empty(t, m.git("gauge", "status", "--porcelain", "--untracked-files=no"))
	m.bringBack("gauge", said)
	assert.Contains(t, tree(t, at)["changed/a.txt"], "<<<<<<<")
}

// TestUndoKilled kills each undo at every few runs of git: run again, it is done, and nothing is lost.
func TestUndoKilled(t *testing.T) {
	t.Parallel()
	step := 11
	if os.Getenv("UNCINATE_SOAK") != "" {
		step = 1
	}
	m, _ := undoing(t)
	m.shell("gauge", "echo 1 > deleted/a.txt; rm deleted/b.txt")
	m.ok("gauge", "", "save", "One")
	m.shell("gauge", "echo 2 > mode/a.txt; echo n > mode/n.txt")
	m.ok("gauge", "", "save", "Two")
	m.shell("gauge", "echo unsaved > new/n.txt; echo more >> changed/a.txt; rm -r to-file/sub; echo file > to-file/sub")
	head, kept := m.id("gauge", "HEAD"), m.home+"-kept"
	was := tree(t, filepath.Join(m.home, "gauge"))
	m.command("/", "", "cp", "-a", m.home, kept)
	t.Cleanup(func() { m.command("/", "", "rm", "-rf", kept) })
	kills := 0
	for _, line := range []string{"undo changes", "undo commit", "undo commit --drop", "undo commit HEAD~1", "undo file mode --to HEAD~2"} {
		for n, killed := 1, true; killed; n += step {
			m.command("/", "", "rm", "-rf", m.home)
			m.command("/", "", "cp", "-a", kept, m.home)
			args := append(strings.Fields(line), "--yes", "--folder", filepath.Join(m.home, "gauge"))
			killed = m.killAfter(n, args...)
			m.free()
			about := fmt.Sprintf("%s, killed at run %d of git", line, n)
			if killed {
				kills++
				r := m.command("", "", program, args...)
				assert.True(t, r.code == 0 || r.code == 1 && strings.Contains(r.err, "is as in"), "%s: %s", about, r.err)
			}
			now := tree(t, filepath.Join(m.home, "gauge"))
			switch line {
			case "undo changes":
				assert.Empty(t, m.git("gauge", "status", "--porcelain"), about)
				assert.Equal(t, head, m.id("gauge", "HEAD"))
				m.ok("gauge", "", "rescue", "bring", "1")
				assert.Equal(t, was, tree(t, filepath.Join(m.home, "gauge")), about)
			case "undo commit":
				assert.Equal(t, "One", m.git("gauge", "log", "-1", "--format=%s"), about)
				assert.Equal(t, was, now, about)
			case "undo commit --drop":
				assert.Equal(t, "One", m.git("gauge", "log", "-1", "--format=%s"), about)
				assert.NotContains(t, now, "mode/n.txt", about)
				assert.Equal(t, was["new/n.txt"], now["new/n.txt"], about)
			case "undo commit HEAD~1":
				assert.Equal(t, "Revert \"One\"\nTwo", m.git("gauge", "log", "-2", "--format=%s"), about)
				assert.Equal(t, was["mode/n.txt"], now["mode/n.txt"], about)
				assert.Contains(t, now, "deleted/b.txt", about)
			default:
				assert.NotContains(t, now, "mode/n.txt", about)
				assert.Equal(t, " D mode/n.txt", strings.Split(m.git("gauge", "status", "--porcelain", "mode"), "\n")[1], about)
			}
			m.git("gauge", "fsck", "--strict")
		}
	}
	assert.Greater(t, kills, 7)
}
