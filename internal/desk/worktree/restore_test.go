package worktree

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/world/files"
)

// restored is a project with changes of several sorts, and what takes them back.
func restored(t *testing.T) (g func() *gate, to Restoring, was map[string]string) {
	d, f, run, _, _ := layable(t)
	write := func(p, s string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(f.Path, p)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(f.Path, p), []byte(s), 0o644))
	}
	write("a.txt", "changed\n")
	write("fresh/n.txt", "new\n")
	require.NoError(t, os.RemoveAll(filepath.Join(f.Path, "was")))
	write("was", "a file\n")
	to = Restoring{Before: "a test", Indexes: true}
	for p, there := range map[string]bool{"a.txt": true, "was/file": true, "was": false, "fresh/n.txt": false} {
		x := Restored{Path: p}
		if there {
			x.Is = Standing{"100644", run("rev-parse", "HEAD:"+p)}
			x.Index = x.Is
		}
		to.Files = append(to.Files, x)
	}
	return func() *gate {
		g, err := gateOf(d, f)
		require.NoError(t, err)
		g.said.Laying = Laying{Before: to.Before, From: f.Head, To: f.Head, Branch: f.Branch, Head: f.Head}
		g.said.Restoring = &to
		return g
	}, to, map[string]string{"a.txt": "changed\n", "fresh/n.txt": "new\n", "was": "a file\n"}
}

// TestRestoreCutOff stops a restoring at every path, in the middle of the exchange: the next run goes on,
// and all that stood is in one rescue copy, which comes back.
func TestRestoreCutOff(t *testing.T) {
	for at := range 5 {
		make, _, was := restored(t)
		g := make()
		all := g.said.Restoring.changes()
		require.NoError(t, g.stageBy(t.Context(), all, func(ctx context.Context, index string) error {
			if err := g.reindex(ctx, index); err != nil {
				return err
			}
			return g.checkOut(ctx)
		}))
		switch { // as a kill leaves it
		case at < 4:
			for _, c := range all[:at] {
				if c.goes() {
					require.NoError(t, g.takeAway(c.path))
				}
			}
		default:
			for _, c := range all {
				if c.goes() {
					require.NoError(t, g.takeAway(c.path))
				}
			}
			require.NoError(t, files.Exchange(g.staged("a.txt"), g.work("a.txt")))
			require.NoError(t, os.WriteFile(g.work("a.txt"), []byte("since\n"), 0o644)) // and somebody worked on
			was["a.txt"] = "changed\n"
		}
		f, d := g.folder, g.desk
		numbers, err := Heal(t.Context(), d, f)
		require.NoError(t, err, at)
		require.NotEmpty(t, numbers)
		if at < 4 {
			assert.Equal(t, "1\n", contents(t, f, "a.txt"))
			assert.NoFileExists(t, filepath.Join(f.Path, "fresh/n.txt"))
			_, err = BringRescue(t.Context(), d, BringOptions{Folder: f.Path, Number: numbers[0]})
			require.NoError(t, err)
		} else {
			assert.Equal(t, "since\n", contents(t, f, "a.txt"))
			_, err = BringRescue(t.Context(), d, BringOptions{Folder: f.Path, Number: numbers[0], Into: filepath.Join(f.Path, "back")})
			require.NoError(t, err)
			f.Path = filepath.Join(f.Path, "back")
		}
		for p, s := range was {
			assert.Equal(t, s, contents(t, f, p), "%d: %s", at, p)
		}
	}
}

// TestPlantedRestoring refuses a journal that leads out of the folder, or into git's own.
func TestPlantedRestoring(t *testing.T) {
	make, _, _ := restored(t)
	g := make()
	for _, p := range []string{"../x", "/etc/x", ".git/hooks/pre-commit", "a/.GIT/config", ".", "", "a/../../x"} {
		g.said.Ready = true
		g.said.Restoring = &Restoring{Files: []Restored{{Path: p}}}
		require.NoError(t, files.WriteJSON(g.journal(), g.said))
		_, err := Heal(t.Context(), g.desk, g.folder)
		assert.ErrorContains(t, err, "was not written by this program", p)
	}
	g.said.Restoring = &Restoring{Files: []Restored{{Path: "a.txt", Is: Standing{"100644", "--help"}}}}
	require.NoError(t, files.WriteJSON(g.journal(), g.said))
	_, err := Heal(t.Context(), g.desk, g.folder)
	assert.ErrorContains(t, err, "was not written by this program")
}

// TestReverts knows what was taken back, and what was brought in again since.
func TestReverts(t *testing.T) {
	_, f, run, _, to := layable(t)
	run("reset", "-q", "--hard", to)
	revert := func(id string) string {
		run("revert", "--no-edit", id)
		return run("rev-parse", "HEAD")
	}
	one := revert(to)
	taken, err := Reverts(t.Context(), f.Repo, "HEAD")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{to: one}, taken)
	two := revert(one)
	taken, err = Reverts(t.Context(), f.Repo, "HEAD")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{one: two}, taken)
}
