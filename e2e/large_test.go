package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLargeFileStorage keeps drawings in the hosts' large-file storage, with the real
// git-lfs: what git tracks are pointers, and a copy gets the very drawings.
func TestLargeFileStorage(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("git-lfs"); err != nil {
		t.Fatal("git-lfs is missing; install it with: apt-get install git-lfs")
	}
	for _, name := range []string{"gannet", "petrel", "fulmar"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHostOf(t, name)
			m := newMachine(t)
			m.ok("", "", "host", "add", name, "--at", h.URL)
			m.ok("", "", "vault", "make", "--by", "file")
			m.ok("", h.token["tern"]+"\n", "account", "add", "--host", name, "--user", "tern")
			m.write("moorings", map[string]string{"README.md": "# moorings\n", "plans/pier 1.dwg": strings.Repeat("pier", 5000), "plans/skerry.dwg": strings.Repeat("skerry", 5000), ".gitattributes": "*.md text\n"})
			m.large("moorings/harbour.dwg", 30<<20) // more than fulmar takes as a plain file
			before := tree(t, filepath.Join(m.home, "moorings"))
			r := m.run("moorings", "", "attach", "--preview", "--large", "*.dwg")
			require.Equal(t, 0, r.code, r.err)
			assert.Contains(t, r.out, "Set up large-file storage for *.dwg: 3 files, 32 MB")
			if name == "gannet" {
				assert.Contains(t, r.out+r.err, "has 13 GiB for it in all, none of which used")
			}
			assert.Equal(t, before, tree(t, filepath.Join(m.home, "moorings")))
			assert.Contains(t, m.ok("moorings", "", "attach", "--yes", "--large", "*.dwg"), "3 files in large-file storage")
			there := h.gitDir(t, "tern", "tern", "moorings")
			assert.Contains(t, m.git(there, "show", "main:harbour.dwg"), "version https://git-lfs")
			assert.Contains(t, m.git(there, "show", "main:plans/pier 1.dwg"), "size 20000")
			objects, err := filepath.Glob(filepath.Join(there, "large/*"))
			require.NoError(t, err)
			assert.Len(t, objects, 3)
			assert.Empty(t, m.git("moorings", "status", "--porcelain"))
			assert.Contains(t, m.ok("moorings", "", "attach", "--yes"), "Already attached")

			// On a second machine: pointers, said so, and the pasted command gets them.
			r = m.run("", "", "clone", "moorings", "copy")
			require.Equal(t, 0, r.code, r.err)
			require.Contains(t, r.err, "still only pointers")
			m.git("copy", "lfs", "install", "--local")
			m.git("copy", "lfs", "pull")
			after := tree(t, filepath.Join(m.home, "copy"))
			for path, text := range before {
				if path != ".gitattributes" {
					assert.True(t, text == after[path], path)
				}
			}
			// A change goes up by plain git.
			m.write("copy", map[string]string{"plans/skerry.dwg": strings.Repeat("changed", 5000)})
			m.git("copy", "commit", "-q", "-a", "-m", "Change")
			m.git("copy", "push", "-q")
			objects, err = filepath.Glob(filepath.Join(there, "large/*"))
			require.NoError(t, err)
			assert.Len(t, objects, 4)
		})
	}
}

func TestLargeFilesPutBackAndRefused(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.write("moorings", map[string]string{"a.dwg": "a", "b.txt": "b"})
	m.git("moorings", "init", "-q", "-b", "main")
	before := m.whole("moorings")
	require.NoError(t, h.Faults.Set([]string{"cut on info/refs"}))
	assert.NotZero(t, m.run("moorings", "", "attach", "--yes", "--large", "*.dwg").code)
	require.NoError(t, h.Faults.Set(nil))
	m.ok("moorings", "", "detach", "--yes")
	assert.Equal(t, before, m.whole("moorings"))
	hooks, err := filepath.Glob(filepath.Join(m.home, "moorings/.git/hooks/*"))
	require.NoError(t, err)
	for _, hook := range hooks {
		assert.True(t, strings.HasSuffix(hook, ".sample"), hook)
	}
	m.refused(2, []string{"no file that would go up matches '*.png'"}, "moorings", "", "attach", "--large", "*.png")
	m.refused(2, []string{"is not a path or pattern"}, "moorings", "", "attach", "--large", "!x")

	bin := filepath.Join(m.home, "bin")
	require.NoError(t, os.Mkdir(bin, 0o755))
	git, err := exec.LookPath("git")
	require.NoError(t, err)
	require.NoError(t, os.Symlink(git, filepath.Join(bin, "git")))
	was := m.env
	m.env = append(was[:len(was):len(was)], "PATH="+bin, "GIT_EXEC_PATH="+m.git("", "--exec-path"))
	m.refused(1, []string{"git-lfs, which keeps large files, is not installed", "apt install git-lfs"}, "moorings", "", "attach", "--large", "*.dwg")
	m.env = was
	m.git("moorings", "add", "-A")
	m.git("moorings", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "One")
	m.refused(2, []string{"from a first commit on"}, "moorings", "", "attach", "--large", "*.dwg")
}
