package worktree

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/desk"
	"uncinate/internal/desk/desktest"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
)

// layable is a project with two commits that differ in every way, the first checked out.
func layable(t *testing.T) (d *desk.Desk, f *project.Folder, run func(...string) string, from, to string) {
	f, run = woven(t)
	d, _ = desktest.New(t)
	from = put(t, f, run, "one", map[string]string{"same.txt": "same\n", "a.txt": "1\n", "gone.txt": "g\n", "was/file": "w\n", "is": "a file\n", "deep/er/x": "1\n", "run.sh": "r\n"})
	require.NoError(t, os.RemoveAll(filepath.Join(f.Path, "was")))
	require.NoError(t, os.Remove(filepath.Join(f.Path, "is")))
	require.NoError(t, os.Remove(filepath.Join(f.Path, "gone.txt")))
	require.NoError(t, os.Chmod(filepath.Join(f.Path, "run.sh"), 0o755))
	to = put(t, f, run, "two", map[string]string{"a.txt": "2\n", "was": "a file now\n", "is/file": "i\n", "deep/er/x": "2\n", "new/y": "n\n"})
	run("reset", "-q", "--hard", from)
	f.Branch, f.Head = "main", from
	return d, f, run, from, to
}

func laying(from, to string) Laying {
	return Laying{Before: "a test", From: from, To: to, Branch: "main", Head: from}
}

// staged is a writing that is prepared, and of which nothing was moved yet.
func staged(t *testing.T, d *desk.Desk, f *project.Folder, from, to string) (*gate, []change) {
	t.Helper()
	g, err := gateOf(d, f)
	require.NoError(t, err)
	g.said.Laying = laying(from, to)
	all, err := g.changes(t.Context())
	require.NoError(t, err)
	require.NoError(t, g.stage(t.Context(), all))
	return g, all
}

func contents(t *testing.T, f *project.Folder, p string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(f.Path, p))
	require.NoError(t, err)
	return string(data)
}

// TestLay receives files of every kind of change, beside what is staged and what is new, and over
// what was changed since it was looked at.
func TestLay(t *testing.T) {
	d, f, run, from, to := layable(t)
	write := func(p, s string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(f.Path, p)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(f.Path, p), []byte(s), 0o644))
	}
	write("staged.txt", "staged\n")
	run("add", "staged.txt")
	write("same.txt", "not saved\n")
	write("untracked.txt", "u\n")
	write("a.txt", "changed meanwhile\n")
	write("gone.txt", "changed too\n")
	write("new", "is where a folder comes in\n")
	later := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(f.Path, "deep/er/x"), later, later), "only touched")
	numbers, err := Lay(t.Context(), d, f, laying(from, to))
	require.NoError(t, err)
	assert.Equal(t, to, run("rev-parse", "main"))
	assert.Equal(t, "M same.txt\nA  staged.txt\n?? untracked.txt", run("status", "--porcelain"))
	for p, s := range map[string]string{"a.txt": "2\n", "was": "a file now\n", "is/file": "i\n", "deep/er/x": "2\n", "new/y": "n\n", "same.txt": "not saved\n", "untracked.txt": "u\n"} {
		assert.Equal(t, s, contents(t, f, p), p)
	}
	assert.NoFileExists(t, filepath.Join(f.Path, "gone.txt"))
	require.Equal(t, []int{1}, numbers)
	c, err := Rescue(t.Context(), d, f.Path, 1)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"a.txt", "gone.txt", "new"}, c.Files)
	assert.NoFileExists(t, filepath.Join(f.Path, ".git/index.lock"))

	// And back, by checking another branch out.
	run("branch", "back", from)
	run("reset", "-q", "--hard")
	asides := filepath.Join(f.Path, ".git/uncinate/asides")
	first, err := files.Names(asides)
	require.NoError(t, err)
	require.Len(t, first, 1)
	at, err := strconv.ParseInt(first[0], 10, 64)
	require.NoError(t, err)
	old := strconv.FormatInt(at-2*aWhile.Nanoseconds(), 10) // it is there for two minutes now
	require.NoError(t, os.Rename(filepath.Join(asides, first[0]), filepath.Join(asides, old)))
	numbers, err = Lay(t.Context(), d, f, Laying{Before: "a test", From: to, To: from, Head: to, Switch: "back"})
	require.NoError(t, err)
	assert.Empty(t, numbers)
	assert.Equal(t, "back", run("branch", "--show-current"))
	assert.Equal(t, "?? untracked.txt", run("status", "--porcelain"))
	run("switch", "-q", "-")
	assert.Equal(t, "main", run("branch", "--show-current"), "git knows the branch before")
	left, err := files.Names(asides)
	require.NoError(t, err)
	assert.Len(t, left, 1, "what was aside after the first is gone with the second, after a while")
	assert.NotContains(t, left, old)
}

// TestLaidFolderCopied tells of nothing that was written to what is aside where the whole folder was copied, so that all in it
// is new; but for what was written before.
func TestLaidFolderCopied(t *testing.T) {
	d, f, _, from, to := layable(t)
	_, err := Lay(t.Context(), d, f, laying(from, to))
	require.NoError(t, err)
	asides, err := filepath.Glob(filepath.Join(f.Path, ".git/uncinate/asides/*"))
	require.NoError(t, err)
	require.Len(t, asides, 1)
	for _, p := range []string{"a.txt", "deep/er/x", "gone.txt"} { // as a copy would have them
		require.NoError(t, os.Chtimes(filepath.Join(asides[0], "aside", p), time.Now(), time.Now().Add(time.Second)))
	}
	require.NoError(t, os.WriteFile(filepath.Join(asides[0], "aside/gone.txt"), []byte("written late\n"), 0o644))
	require.NoError(t, os.Chtimes(filepath.Join(asides[0], "aside/gone.txt"), time.Now(), time.Now().Add(time.Second)))
	g, err := gateOf(d, f)
	require.NoError(t, err)
	require.NoError(t, g.sweep(t.Context(), 0))
	all, err := Rescues(t.Context(), d, f.Path)
	require.NoError(t, err)
	require.Len(t, all, 1)
	c, err := Rescue(t.Context(), d, f.Path, all[0].Number)
	require.NoError(t, err)
	assert.Equal(t, []string{"gone.txt"}, c.Files)
	assert.NoDirExists(t, asides[0])
}

// TestLayRefuses leaves everything as it was where a commit was made meanwhile, a lock stands, or
// what is staged would be lost.
func TestLayRefuses(t *testing.T) {
	d, f, run, from, to := layable(t)
	lock := filepath.Join(f.Path, ".git/index.lock")
	require.NoError(t, os.WriteFile(lock, nil, 0o600))
	_, err := Lay(t.Context(), d, f, laying(from, to))
	assert.ErrorContains(t, err, "lock")
	assert.FileExists(t, lock, "it is another's")
	require.NoError(t, os.Remove(lock))
	require.NoError(t, os.WriteFile(filepath.Join(f.Path, "a.txt"), []byte("staged\n"), 0o644))
	run("add", "a.txt")
	_, err = Lay(t.Context(), d, f, laying(from, to))
	assert.ErrorContains(t, err, "cannot bring the commits")
	assert.Equal(t, "M  a.txt", run("status", "--porcelain"))
	run("commit", "-q", "-m", "meanwhile")
	_, err = Lay(t.Context(), d, f, laying(from, to))
	assert.ErrorContains(t, err, "a commit was made here meanwhile")
	assert.Empty(t, run("status", "--porcelain"))
	assert.NoFileExists(t, lock)
	assert.NoDirExists(t, filepath.Join(f.Path, ".git/uncinate/laying"))
}

// TestLayGoesOn cuts a writing off after each of its moves, and lets Heal go through with it.
func TestLayGoesOn(t *testing.T) {
	for n := 0; ; n++ {
		d, f, run, from, to := layable(t)
		g, all := staged(t, d, f, from, to)
		moves := 0
		step := func(do func() error) bool {
			if moves++; moves > n {
				return false
			}
			require.NoError(t, do())
			return true
		}
		for _, c := range all {
			if c.goes() && !step(func() error { return g.takeAway(c.path) }) {
				break
			}
		}
		for _, c := range all {
			// The exchange alone, without the move aside after it: as a kill between the two leaves it.
			if moves <= n && !c.goes() && !step(func() error {
				if _, err := g.parents(c.path, true); err != nil {
					return err
				}
				if files.Missing(g.work(c.path)) {
					return files.MoveNew(g.staged(c.path), g.work(c.path))
				}
				if err := files.Exchange(g.staged(c.path), g.work(c.path)); err != nil || moves == n {
					return err
				}
				return g.stagedAside(c.path)
			}) {
				break
			}
		}
		if moves <= n && step(func() error { return g.install(t.Context()) }) {
			step(func() error { return g.moveRefs(t.Context()) })
		}
		require.NoError(t, os.WriteFile(filepath.Join(f.Path, "later.txt"), []byte("made after the kill\n"), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(f.Path, "same.txt"), []byte("edited after the kill\n"), 0o644))
		numbers, err := Heal(t.Context(), d, f)
		require.NoError(t, err, "cut off after %d", n)
		assert.Empty(t, numbers, "cut off after %d", n)
		assert.Equal(t, to, run("rev-parse", "main"))
		assert.Equal(t, "M same.txt\n?? later.txt", strings.TrimSpace(run("status", "--porcelain")), "cut off after %d", n)
		assert.NoFileExists(t, filepath.Join(f.Path, ".git/index.lock"))
		if moves <= n {
			break
		}
	}
}

// TestLayIsNotReady takes back what was only prepared when it was cut off.
func TestLayIsNotReady(t *testing.T) {
	d, f, run, from, to := layable(t)
	g, _ := staged(t, d, f, from, to)
	g.said.Ready = false
	require.NoError(t, files.WriteJSON(g.journal(), g.said))
	_, err := Heal(t.Context(), d, f)
	require.NoError(t, err)
	assert.Equal(t, from, run("rev-parse", "HEAD"))
	assert.Empty(t, run("status", "--porcelain"))
	assert.NoFileExists(t, g.lock())
	assert.NoDirExists(t, g.at)
}

// TestLayUnderAWriter replaces a file over and over while a program opens it by name, waits,
// appends a line and closes it: every line is in the file, in a rescue copy, or aside still.
func TestLayUnderAWriter(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Log("elsewhere the name is missing for a moment, as the docs say")
	}
	f, run := woven(t)
	d, _ := desktest.New(t)
	one := put(t, f, run, "one", map[string]string{"log.txt": "first\n"})
	two := put(t, f, run, "two", map[string]string{"log.txt": "second\n"})
	f.Branch, f.Head = "main", two
	path, told := filepath.Join(f.Path, "log.txt"), filepath.Join(t.TempDir(), "told")
	c := exec.Command("sh", "-c", `i=0; while [ ! -e "$1.stop" ]; do i=$((i+1)); exec 3>>"$0"; sleep 0.0005; echo "line $i." >&3; exec 3>&-; echo $i > "$1"; done`, path, told)
	require.NoError(t, c.Start())
	from, to, times := two, one, 20
	if os.Getenv("UNCINATE_SOAK") != "" {
		times = 2000
	}
	for range times {
		_, err := Lay(t.Context(), d, f, laying(from, to))
		require.NoError(t, err)
		from, to = to, from
	}
	require.NoError(t, os.WriteFile(told+".stop", nil, 0o600))
	require.NoError(t, c.Wait())
	said, err := os.ReadFile(told)
	require.NoError(t, err)
	count, err := strconv.Atoi(strings.TrimSpace(string(said)))
	require.NoError(t, err)
	found := map[string]bool{}
	look := func(s string) {
		for _, l := range regexp.MustCompile(`line (\d+)\.`).FindAllString(s, -1) {
			found[l] = true
		}
	}
	look(contents(t, f, "log.txt"))
	require.NoError(t, filepath.WalkDir(filepath.Join(f.Path, ".git/uncinate/asides"), func(p string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			data, err := os.ReadFile(p)
			look(string(data))
			return err
		}
		return err
	}))
	all, err := Rescues(t.Context(), d, f.Path)
	require.NoError(t, err)
	for _, c := range all {
		var b strings.Builder
		require.NoError(t, RescuedFile(t.Context(), d, f.Path, c.Number, "log.txt", &b))
		look(b.String())
	}
	require.Greater(t, count, 20, "the writer wrote")
	for i := 1; i <= count; i++ {
		assert.True(t, found[fmt.Sprintf("line %d.", i)], "line %d of %d is lost", i, count)
	}
}

// TestLayLeavesOut keeps files that are left out of the folder left out, and does not lose what
// was changed in one that git was told to take for unchanged.
func TestLayLeavesOut(t *testing.T) {
	d, f, run, from, to := layable(t)
	run("update-index", "--skip-worktree", "deep/er/x")
	require.NoError(t, os.RemoveAll(filepath.Join(f.Path, "deep")))
	run("update-index", "--assume-unchanged", "a.txt")
	require.NoError(t, os.WriteFile(filepath.Join(f.Path, "a.txt"), []byte("mine alone\n"), 0o644))
	_, err := Lay(t.Context(), d, f, laying(from, to))
	require.NoError(t, err)
	assert.NoDirExists(t, filepath.Join(f.Path, "deep"))
	assert.Equal(t, "2\n", contents(t, f, "a.txt"))
	var b strings.Builder
	require.NoError(t, RescuedFile(t.Context(), d, f.Path, 1, "a.txt", &b))
	assert.Equal(t, "mine alone\n", b.String())
	assert.Empty(t, run("status", "--porcelain"))
	assert.Equal(t, "S deep/er/x", run("ls-files", "-v", "deep/er/x"))

	// A sparse checkout gets what is in its part, and nothing else.
	run("update-index", "--no-skip-worktree", "deep/er/x")
	run("reset", "-q", "--hard")
	run("sparse-checkout", "set", "is")
	run("branch", "part", from)
	_, err = Lay(t.Context(), d, f, Laying{Before: "a test", From: to, To: from, Head: to, Switch: "part"})
	require.NoError(t, err)
	assert.NoDirExists(t, filepath.Join(f.Path, "deep"))
	assert.FileExists(t, filepath.Join(f.Path, "gone.txt"), "files at the top belong to every part")
	assert.Empty(t, run("status", "--porcelain"))
}

// TestThin makes room where very much is aside: the largest go first, but for what a program has
// open or wrote to since.
func TestThin(t *testing.T) {
	d, f, _, _, _ := layable(t)
	d.Sleep = func(context.Context, time.Duration) error { return nil }
	g, err := gateOf(d, f)
	require.NoError(t, err)
	top := filepath.Join(g.asides, "1", "aside")
	require.NoError(t, os.MkdirAll(top, 0o700))
	before := time.Now().Add(-time.Minute)
	for name, size := range map[string]int{"large": 900, "held": 800, "late": 700, "small": 10} {
		require.NoError(t, os.WriteFile(filepath.Join(top, name), make([]byte, size), 0o600))
		require.NoError(t, os.Chtimes(filepath.Join(top, name), before, before))
	}
	require.NoError(t, os.WriteFile(filepath.Join(g.asides, "1", "marker"), nil, 0o600))
	late := time.Now().Add(time.Second)
	require.NoError(t, os.Chtimes(filepath.Join(top, "late"), late, late))
	c := exec.Command("sleep", "30")
	c.Stdin, err = os.Open(filepath.Join(top, "held"))
	require.NoError(t, err)
	require.NoError(t, c.Start())
	defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
	g.bulk, g.most = 2410, 1600
	require.NoError(t, g.thin(t.Context()))
	left, err := files.Names(top)
	require.NoError(t, err)
	assert.Equal(t, []string{"held", "late", "small"}, left)
	require.NoError(t, g.sweep(t.Context(), 0))
	assert.FileExists(t, filepath.Join(top, "held"), "a program has it open")
}

// TestLayKnowsConversions holds that a file is not taken for changed whose line ends git converts by
// attributes, in the file's own folder or above it.
func TestLayKnowsConversions(t *testing.T) {
	f, run := woven(t)
	d, _ := desktest.New(t)
	from := put(t, f, run, "one", map[string]string{".gitattributes": "*.txt text eol=crlf\n", "a.txt": "1\n", "deep/b.ini": "1\n", "deep/.gitattributes": "*.ini text eol=crlf\n", "c.raw": "1\n"})
	to := put(t, f, run, "two", map[string]string{"a.txt": "2\n", "deep/b.ini": "2\n", "c.raw": "2\n"})
	run("reset", "-q", "--hard", from)
	require.NoError(t, os.Remove(filepath.Join(f.Path, "a.txt")))
	run("checkout", "--", "a.txt")
	require.Equal(t, "1\r\n", contents(t, f, "a.txt"))
	require.Equal(t, "1\r\n", contents(t, f, "deep/b.ini"))
	f.Branch, f.Head = "main", from
	numbers, err := Lay(t.Context(), d, f, laying(from, to))
	require.NoError(t, err)
	assert.Empty(t, numbers, "nothing was changed meanwhile")
	assert.Equal(t, "2\r\n", contents(t, f, "a.txt"))
	assert.Equal(t, "2\n", contents(t, f, "c.raw"))

	// What really was changed is kept, whatever its line ends.
	g, all := staged(t, d, f, to, from)
	require.NoError(t, os.WriteFile(filepath.Join(f.Path, "deep/b.ini"), []byte("mine\r\n"), 0o644))
	require.NoError(t, g.finish(t.Context(), all))
	assert.Len(t, g.rescued, 1)
}
