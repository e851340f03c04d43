package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDamage meets what may be wrong with a repository: each is named, and nothing is lost.
func TestDamage(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	whole := tree(t, filepath.Join(launch.home, "gauge"))
	daily := [][]string{{"status"}, {"changes"}, {"save", "X"}, {"sync"}, {"sync", "--save", "--message", "X"}, {"history"}, {"branch", "list"}, {"branch", "switch", "main"}, {"rescue", "list"}}
	fails := func(words ...string) {
		t.Helper()
		for _, args := range daily {
			r := launch.run("gauge", "", args...)
			if r.code == 0 {
				continue
			}
			assert.NotContains(t, r.err, "panic", args)
			assert.Contains(t, r.err, "uncinate: ", args)
			assert.Greater(t, strings.Count(r.err, "\n"), 1, "%v: no detail and no remedy: %s", args, r.err)
		}
		err := launch.run("gauge", "", "sync").err
		for _, w := range words {
			assert.Contains(t, err, w)
		}
		assert.Equal(t, whole, tree(t, filepath.Join(launch.home, "gauge")))
	}
	pier.write("gauge", map[string]string{"notes.txt": "theirs\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Theirs")

	// A damaged index.
	index := filepath.Join(launch.home, "gauge/.git/index")
	good, err := os.ReadFile(index)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(index, []byte("DIRCgarbage"), 0o600))
	fails("git says: ", "index")
	require.NoError(t, os.WriteFile(index, good, 0o600))

	// An object that is gone.
	blob := launch.id("gauge", "HEAD^{tree}")
	object := filepath.Join(launch.home, "gauge/.git/objects", blob[:2], blob[2:])
	if _, err := os.Stat(object); err != nil { // it came in a pack
		pack, _ := filepath.Glob(filepath.Join(launch.home, "gauge/.git/objects/pack/*.pack"))
		require.NotEmpty(t, pack)
		moved := pack[0] + ".away"
		require.NoError(t, os.Rename(pack[0], moved))
		data, err := os.ReadFile(moved)
		require.NoError(t, err)
		unpack := exec.Command("git", "-C", filepath.Join(launch.home, "gauge"), "unpack-objects", "-q")
		unpack.Stdin = strings.NewReader(string(data))
		require.NoError(t, unpack.Run())
		require.NoError(t, os.Remove(strings.TrimSuffix(pack[0], ".pack")+".idx"))
	}
	kept, err := os.ReadFile(object)
	require.NoError(t, err)
	require.NoError(t, os.Remove(object))
	fails()
	require.NoError(t, os.WriteFile(object, kept, 0o444))
	othersAreAtWork(t, launch)
}

// othersAreAtWork meets a rebase and a merge of plain git's, and another run of ours.
func othersAreAtWork(t *testing.T, launch *machine) {
	t.Helper()
	// Plain git is in the middle of a rebase, and of a merge.
	launch.write("gauge", map[string]string{"notes.txt": "mine\n"})
	launch.git("gauge", "commit", "-q", "-a", "-m", "Mine")
	launch.git("gauge", "fetch", "-q")
	for _, way := range []string{"rebase", "merge"} {
		require.NotEqual(t, 0, launch.command("gauge", "", "git", way, "origin/main").code)
		whole := tree(t, filepath.Join(launch.home, "gauge"))
		for _, args := range [][]string{{"sync"}, {"save", "X"}, {"branch", "join", "main"}, {"tag", "make", "v1.0.0"}} {
			launch.refused(3, []string{"a " + way + ", begun by plain git, is not finished here", way + " --abort"}, "gauge", "", args...)
		}
		assert.Equal(t, whole, tree(t, filepath.Join(launch.home, "gauge")))
		launch.git("gauge", way, "--abort")
	}
	launch.git("gauge", "reset", "-q", "--hard", "origin/main")
	assert.Contains(t, launch.ok("gauge", "", "sync"), "In step")

	// Another run of ours is at work.
	hook := filepath.Join(launch.home, "gauge/.git/hooks/pre-commit")
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\ntouch ../waiting\nwhile [ ! -e ../go ]; do sleep 0.05; done\n"), 0o755))
	launch.ok("gauge", "", "project", "trust", "--yes")
	launch.write("gauge", map[string]string{"late.txt": "l\n"})
	first := exec.Command(program, "save", "Late")
	first.Dir, first.Env = filepath.Join(launch.home, "gauge"), launch.env
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(launch.home, "waiting")); return err == nil }, 20*time.Second, 10*time.Millisecond)
	launch.refused(1, []string{"another uncinate", "is working on"}, "gauge", "", "sync")
	launch.write("", map[string]string{"go": ""})
	require.NoError(t, first.Wait())
	require.NoError(t, os.Remove(hook))
	launch.ok("gauge", "", "sync")
}

// TestHostileRepository clones and works in a repository whose contents would have git, or
// us, do something else: nothing of it is run, and nothing outside is touched.
func TestHostileRepository(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier := signedIn(t, h)
	launch := signedIn(t, h)
	marker := filepath.Join(launch.home, "was-run")
	pier.write("evil", map[string]string{
		".gitattributes": "* filter=evil diff=evil merge=evil\n", ".gitmodules": "[submodule \"--upload-pack=touch " + marker + "\"]\n\tpath = -x\n\turl = --upload-pack=touch " + marker + "\n[submodule \"a\"]\n\tpath = sub\n\turl = ext::sh -c touch% " + marker + "\n",
		"--exec=touch": "x\n", "-n": "x\n", ":(exclude)*": "x\n", ".githooks/post-checkout": "#!/bin/sh\ntouch " + marker + "\n", ".lfsconfig": "[lfs]\n\turl = ext::x\n", "a\x1b[31mred": "x\n",
		"$(touch " + marker[1:2] + ")": "x\n", "uncinate-handover.toml": "junk [[[\x1b[2J", "sub/x": "x\n"})
	require.NoError(t, os.Symlink(launch.home, filepath.Join(pier.home, "evil/home")))
	pier.git("evil", "init", "-q", "-b", "main")
	pier.ok("evil", "", "attach", "--yes", "--except", ".gitmodules")
	pier.git("evil", "branch", "with;semicolon")
	pier.git("evil", "add", "-f", ".gitmodules")
	pier.git("evil", "commit", "-q", "-m", "What this host would not take")
	bare := h.gitDir(t, "tern", "tern", "evil")
	pier.git(bare, "config", "transfer.fsckObjects", "false")
	pier.git(bare, "-c", "fetch.fsckObjects=false", "fetch", "-q", filepath.Join(pier.home, "evil"), "+refs/heads/*:refs/heads/*")
	pier.git("evil", "fetch", "-q")

	shown := func(r result) {
		t.Helper()
		assert.NotContains(t, r.out+r.err, "\x1b[")
		assert.NoFileExists(t, marker)
	}
	r := launch.run("", "", "clone", "evil")
	require.Equal(t, 0, r.code, r.err)
	shown(r)
	outside, err := os.ReadDir(launch.home)
	require.NoError(t, err)
	for round := range 2 {
		launch.write("evil", map[string]string{"-n": strings.Repeat("y", round+1) + "\n", "--all": "new\n", "mine " + string(rune('a'+round)): "m\n"})
		for _, args := range [][]string{{"status"}, {"changes"}, {"changes", "--full"}, {"changes", "--", "-n"}, {"history", "--full"}, {"history", "--", "-n"}, {"branch", "list"}, {"branch", "switch", "with;semicolon"},
			{"branch", "switch", "main"}, {"save", "Mine", "--except", "--all"}, {"sync", "--save", "--message", "More"}, {"status", "--all"}, {"sync", "--all"}, {"rescue", "list"}} {
			r := launch.run("evil", "", args...)
			assert.Contains(t, []int{0, 3}, r.code, "%v: %s", args, r.err)
			if args[0] == "changes" {
				assert.Contains(t, r.out, "-n", "%d: %v", round, args)
			}
			shown(r)
		}
		// Something comes in, by replay.
		pier.git("evil", "pull", "-q", "--rebase")
		pier.write("evil", map[string]string{"-n": strings.Repeat("z", round+1) + "\n"})
		pier.git("evil", "commit", "-q", "-a", "-m", "From the other \x1b[31mside")
		pier.git("evil", "push", "-q")
		shown(launch.run("evil", "", "sync", "--save", "--message", "Own"))
	}
	after, err := os.ReadDir(launch.home)
	require.NoError(t, err)
	assert.Len(t, after, len(outside), "nothing is outside of the folder")
	shown(launch.run("", "", "clone", "evil", "again", "--snapshot"))
}
