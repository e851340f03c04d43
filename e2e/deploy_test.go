package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// makesPage is a tasks file's program: it makes a page of the board's level, says so, and fails when told to.
const makesPage = "#!/bin/sh\nset -e\n. ./lib.sh\nmkdir public\nlevel >public/index.html\necho made\nif [ -f fail ]; then echo told to fail; exit 3; fi\n"

// board is a project whose tasks make a page.
func (m *machine) board(name string) {
	m.write(name, map[string]string{"make-page": makesPage, "lib.sh": "level() { cat level.txt; }\n", "level.txt": "3.41\n",
		"uncinate-deploy.toml": "lasting = [\"levels/\"]\n\n[[task]]\ndo = [\"./make-page\"]\nruns = [\"lib.sh\"]\nwithin = \"1m\"\n\n[[task]]\ndo = [\"cp\", \"public/index.html\", \"levels/last.html\"]\nafter-switch = true\n"})
	require.NoError(m.t, os.Chmod(filepath.Join(m.home, name, "make-page"), 0o755))
}

// pushes saves and sends contents.
func (m *machine) pushes(name, message string, contents map[string]string) string {
	m.t.Helper()
	m.write(name, contents)
	m.ok(name, "", "save", "--message", message)
	m.ok(name, "", "sync")
	return m.git(name, "rev-parse", "HEAD")
}

// live is what a folder that follows a branch has in use: the commit, and a file of it.
func (m *machine) live(folder, file string) (commit, says string) {
	m.t.Helper()
	to, err := os.Readlink(filepath.Join(m.home, folder))
	require.NoError(m.t, err)
	data, err := os.ReadFile(filepath.Join(m.home, folder, file))
	require.NoError(m.t, err)
	return filepath.Base(to), string(data)
}

// TestDeploy lets a server follow a branch by a key of its own: nothing runs before it is approved; what comes next is in
// use at once; a task that fails leaves what was in use, and is named with its output; back goes back; tasks that
// changed wait, also where only a file that they run did.
func TestDeploy(t *testing.T) {
	t.Parallel()
	h, pier := attached(t)
	pier.alone = true
	pier.board("board")
	pier.ok("board", "", "attach", "--yes")
	assert.Contains(t, pier.ok("board", "", "deploy", "check"), "covered by an approval: lib.sh")
	tasks := pier.read("board/uncinate-deploy.toml")
	pier.write("board", map[string]string{"uncinate-deploy.toml": tasks + "within = 1\n"})
	assert.Contains(t, pier.ok("board", "", "save", "--message", "A mistake"), "uncinate-deploy.toml has 1 mistake, so that no server takes it: uncinate deploy check")
	pier.refused(2, []string{"line 11, column 1: \"within\" must be a text in quotes"}, "board", "", "deploy", "check")
	first := pier.pushes("board", "Mended", map[string]string{"uncinate-deploy.toml": tasks})

	hut := signedInAs(t, h, "tern")
	hut.alone = true
	shown := hut.ok("", "", "deploy", "make", "board", "srv", "--preview")
	for _, w := range []string{"Make a key for this repository alone", "Let the key read tern/board, and nothing else, if tern may"} {
		assert.Contains(t, shown, w)
	}
	out := hut.ok("", "", "deploy", "make", "board", "srv", "--yes")
	assert.Contains(t, out, "wait for approval; nothing of them ran")
	assert.NoFileExists(t, filepath.Join(hut.home, "srv"))
	r := hut.run("", "", "deploy", "approve")
	assert.Equal(t, 3, r.code)
	for _, w := range []string{"./make-page", "lib.sh, new:", "level() { cat level.txt; }", "after the switch"} {
		assert.Contains(t, r.out+r.err, w)
	}
	assert.Contains(t, hut.ok("", "", "deploy", "approve", "--yes"), "In use: "+first[:10])
	commit, says := hut.live("srv", "public/index.html")
	assert.Equal(t, []string{first, "3.41\n"}, []string{commit, says})
	assert.Equal(t, "3.41\n", hut.read("srv.uncinate/lasting/levels/last.html"), "what comes after the switch has run")
	assert.Contains(t, hut.ok("", "", "deploy", "update"), "is in use already")

	second := pier.pushes("board", "Rising", map[string]string{"level.txt": "3.42\n"})
	assert.Contains(t, hut.ok("", "", "deploy", "update", "--preview"), "Receive "+second[:10])
	assert.Contains(t, hut.ok("", "", "deploy", "update", "--fetch-only"), second[:10]+" was received")
	assert.Contains(t, hut.ok("", "", "deploy", "update"), "in the place of "+first[:10])
	third := pier.pushes("board", "Told to fail", map[string]string{"fail": "", "level.txt": "3.43\n"})
	said := hut.refused(1, []string{third[:10] + " is not in use: the task ./make-page failed: it ended with exit status 3", "In use is " + second[:10] + ", as before"}, "", "", "deploy", "update")
	assert.Contains(t, hut.read(strings.TrimPrefix(strings.Fields(said[strings.Index(said, "cat -- ")+7:])[0], hut.home)), "made\ntold to fail\n")
	commit, says = hut.live("srv", "public/index.html")
	assert.Equal(t, []string{second, "3.42\n"}, []string{commit, says})
	assert.Contains(t, hut.ok("", "", "deploy", "list"), "failed")

	pier.changesTasks(hut, second)
	hut.ok("", "", "deploy", "remove", "srv", "--yes")
	assert.NoFileExists(t, filepath.Join(hut.home, "srv"))
	assert.Equal(t, "9\n", hut.read("srv.uncinate/lasting/levels/last.html"))
	assert.Empty(t, h.Store.KeysOf(practice.KeyFilter{User: "tern", Repo: h.repoAt(t, h.URL+"/tern/board").ID}))
}

// changesTasks changes a file that the tasks run: they wait for approval; and goes back and forth between what was in use.
func (m *machine) changesTasks(hut *machine, second string) {
	t := m.t
	t.Helper()
	m.pushes("board", "Another library", map[string]string{"lib.sh": "level() { echo 9; }\n"})
	m.git("board", "rm", "-q", "fail")
	fourth := m.pushes("board", "Mended", nil)
	assert.Contains(t, hut.ok("", "", "deploy", "update"), "The tasks of "+fourth[:10]+" wait for approval")
	assert.Regexp(t, `waiting +srv`, hut.ok("", "", "deploy", "list"))
	r := hut.run("", "", "deploy", "approve", "--preview")
	assert.Contains(t, r.err, "-level() { cat level.txt; }")
	assert.Contains(t, r.err, "+level() { echo 9; }")
	assert.NotContains(t, r.err, "make-page, new", "only what changed is shown")
	hut.ok("", "", "deploy", "approve", "--yes")
	hut.ok("", "", "deploy", "back")
	commit, says := hut.live("srv", "public/index.html")
	assert.Equal(t, []string{second, "3.42\n"}, []string{commit, says})
	assert.Equal(t, "3.42\n", hut.read("srv.uncinate/lasting/levels/last.html"))
	assert.Contains(t, hut.ok("", "", "deploy", "update"), "A person went back from "+fourth[:10])
	hut.ok("", "", "deploy", "back", "srv", fourth[:8])
	commit, _ = hut.live("srv", "level.txt")
	assert.Equal(t, fourth, commit)
	hut.refused(1, []string{"no state that is kept is 0123456", "uncinate deploy back srv " + second[:10]}, "", "", "deploy", "back", "srv", "0123456")
}

// TestDeployFromEverywhere follows over https and over SSH, from gannet, petrel and a plain server, as who may only read.
func TestDeployFromEverywhere(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"gannet", "petrel"} {
		h := newHostOf(t, name)
		pier := signedInAs(t, h, "tern")
		pier.board("board")
		pier.ok("board", "", "attach", "--yes")
		require.NoError(t, h.Store.SetRight(t.Context(), "tern", "tern", "board", "knot", practice.Read, 0))
		hut := signedInAs(t, h, "knot")
		hut.alone = true
		assert.Contains(t, hut.ok("", "", "deploy", "make", "tern/board", "srv", "--over", "https", "--yes"), "wait for approval", name)
		hut.ok("", "", "deploy", "approve", "--yes")
		second := pier.pushes("board", "Rising", map[string]string{"level.txt": "3.42\n"})
		hut.ok("", "", "deploy", "update")
		commit, says := hut.live("srv", "public/index.html")
		assert.Equal(t, []string{second, "3.42\n"}, []string{commit, says}, name)
		if name == "petrel" {
			continue
		}
		// Whoever may not put a key there shows it to whoever may.
		at := strings.Replace(h.URL, "http://", "ssh://git@", 1) + "/tern/board.git"
		said := hut.refused(3, []string{"the host does not know this key yet", "ssh-ed25519 ", "uncinate deploy make " + at}, "", "", "deploy", "make", at, "by-key", "--yes")
		line := said[strings.Index(said, "ssh-ed25519 "):]
		pier.write("", map[string]string{"deploy.pub": line[:strings.Index(line, "\n")+1]})
		pier.ok("", "", "access", "grant", "--repository", "tern/board", "--key", "deploy.pub", "--yes")
		hut.ok("", "", "deploy", "make", at, "by-key", "--yes")
		hut.ok("", "", "deploy", "approve", "by-key", "--yes")
		commit, _ = hut.live("by-key", "public/index.html")
		assert.Equal(t, second, commit)
	}
	s := newPlainSSH(t)
	pier := newMachine(t)
	pier.command("", "", "git", "init", "-q", "--bare", "-b", "main", filepath.Join(s.dir, "board.git"))
	pier.board("board")
	pier.git("board", "init", "-q", "-b", "main")
	pier.git("board", "add", "-A")
	pier.git("board", "-c", "user.name=Tern", "-c", "user.email=tern@gannet.example", "commit", "-q", "-m", "First")
	pier.git("board", "push", "-q", filepath.Join(s.dir, "board.git"), "main")
	hut := newMachine(t)
	hut.alone = true
	hut.ok("", "", "host", "pin", "127.0.0.1:"+s.port, "--fingerprint", s.fingerprint())
	said := hut.refused(3, []string{"the host does not know this key yet"}, "", "", "deploy", "make", s.at+s.dir+"/board.git", "srv", "--yes")
	line := said[strings.Index(said, "ssh-ed25519 "):]
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "authorized_keys"), []byte(line[:strings.Index(line, "\n")+1]), 0o600))
	hut.ok("", "", "deploy", "make", s.at+s.dir+"/board.git", "srv", "--yes")
	hut.ok("", "", "deploy", "approve", "--yes")
	_, says := hut.live("srv", "public/index.html")
	assert.Equal(t, "3.41\n", says)
}

// TestDeployRunsNothingUnapproved follows repositories that mean no good: nothing of them runs, and nothing leads out.
func TestDeployRunsNothingUnapproved(t *testing.T) {
	t.Parallel()
	h, pier := attached(t)
	pier.alone = true
	ran := filepath.Join(t.TempDir(), "ran")
	evil := "#!/bin/sh\ntouch " + ran + "\n"
	for name, c := range map[string]struct {
		contents map[string]string
		link     [2]string
		says     string
	}{
		"hooks":   {map[string]string{"hooks/post-checkout": evil, ".gitattributes": "* filter=evil\n", ".gitconfig": "[core]\n\thooksPath = hooks\n[filter \"evil\"]\n\tsmudge = ./hooks/post-checkout\n", "HEAD": "ref: refs/heads/main\n", "config": "[core]\n\tfsmonitor = ./hooks/post-checkout\n"}, [2]string{}, "In use"},
		"tasks":   {map[string]string{"run": evil, "uncinate-deploy.toml": "[[task]]\ndo = [\"./run\"]\n"}, [2]string{}, "wait for approval"},
		"out":     {map[string]string{"a.txt": "a\n"}, [2]string{"secret", "/etc/passwd"}, "secret is a link that leads out of the repository"},
		"up":      {map[string]string{"a.txt": "a\n"}, [2]string{"sub/up", "../../state.json"}, "leads out of the repository"},
		"link":    {map[string]string{"other.toml": "[[task]]\ndo = [\"true\"]\n"}, [2]string{"uncinate-deploy.toml", "other.toml"}, "is a link, and has to be a file"},
		"program": {map[string]string{"uncinate-deploy.toml": "[[task]]\ndo = [\"../../../run\"]\n"}, [2]string{}, "leads out of the repository"},
		"lasting": {map[string]string{"uncinate-deploy.toml": "lasting = [\"a/b/\"]\n"}, [2]string{"a", "sub"}, "cannot be made"},
	} {
		dir := "r-" + name
		pier.write(dir, c.contents)
		if c.link[0] != "" {
			at := filepath.Join(pier.home, dir, c.link[0])
			require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
			require.NoError(t, os.Symlink(c.link[1], at))
		}
		for p := range c.contents {
			if strings.HasPrefix(c.contents[p], "#!") {
				require.NoError(t, os.Chmod(filepath.Join(pier.home, dir, p), 0o755))
			}
		}
		pier.command(dir, "", "git", "init", "-q", "-b", "main")
		pier.git(dir, "add", "-f", "-A")
		pier.git(dir, "-c", "user.name=Tern", "-c", "user.email=tern@gannet.example", "commit", "-q", "-m", "First")
		repo, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: dir, Visibility: "private"})
		require.NoError(t, err)
		pier.git(dir, "push", "-q", h.Store.GitDir(repo.ID), "main")
		hut := signedInAs(t, h, "tern")
		hut.alone = true
		r := hut.run("", "", "deploy", "make", "tern/"+dir, "srv", "--over", "https", "--yes")
		r2 := hut.run("", "", "deploy", "update")
		assert.Contains(t, r.out+r.err+r2.out+r2.err, c.says, name)
		assert.NoFileExists(t, ran, name)
		if c.says != "In use" {
			assert.NoFileExists(t, filepath.Join(hut.home, "srv"), name)
		}
	}
}

// wholeBoard holds that all files in use are of one level, and gives the commit.
func (m *machine) wholeBoard(when string) string {
	m.t.Helper()
	commit, page := m.live("small/srv", "public/index.html")
	want := page
	if page == "3.41\n" {
		want = "0\n"
	}
	for i := range 60 {
		_, says := m.live("small/srv", fmt.Sprintf("many/%02d.txt", i))
		require.Equal(m.t, want, says, when)
	}
	return commit
}

// TestDeployStaysWhole kills updates at all times, fills the disk, and takes the host and the branch away: what is in use
// is whole at each moment, and the next run goes on.
func TestDeployStaysWhole(t *testing.T) {
	t.Parallel()
	linux(t)
	h, pier := attached(t)
	pier.alone = true
	pier.board("board")
	many := map[string]string{}
	for i := range 60 {
		many[fmt.Sprintf("many/%02d.txt", i)] = "0\n"
	}
	pier.write("board", many)
	pier.ok("board", "", "attach", "--yes")
	hut := signedInAs(t, h, "tern")
	hut.alone = true
	leave := hut.smallDisk("small", 4096)
	hut.ok("", "", "deploy", "make", "board", "small/srv", "--yes")
	hut.ok("", "", "deploy", "approve", "--yes")
	whole := hut.wholeBoard
	whole("at first")
	kills := 0
	rounds := 6
	if os.Getenv("UNCINATE_SOAK") != "" {
		rounds = 24
	}
	for round := range rounds {
		level := fmt.Sprint(round + 10)
		for p := range many {
			many[p] = level + "\n"
		}
		many["level.txt"] = level + "\n"
		newest := pier.pushes("board", "Level "+level, many)
		delete(many, "level.txt")
		began, wait := time.Now(), time.Duration(round*192/rounds)*time.Millisecond
		if hut.cutOff("", func() bool { return time.Since(began) > wait }, "deploy", "update") {
			kills++
		}
		whole(fmt.Sprint("killed after ", wait))
		free := []int{0, 4, 20, 60}[round%4]
		leave(free)
		if r := hut.run("", "", "deploy", "update"); r.code != 0 {
			assert.Contains(t, strings.ToLower(r.err), "no space left on device")
		}
		whole(fmt.Sprint(free, " pages free"))
		leave(-1)
		hut.free()
		hut.ok("", "", "deploy", "update")
		require.Equal(t, newest, whole("at the end"))
	}
	assert.Greater(t, kills, rounds/4)

	goesAway(t, h, pier, hut, whole)
	var rows []struct{ States int }
	require.NoError(t, json.Unmarshal([]byte(hut.ok("", "", "deploy", "list", "--json")), &rows))
	assert.Equal(t, rounds+2, rows[0].States, "states are kept for two weeks")
}

// goesAway rewrites the branch that is followed, and takes it away.
func goesAway(t *testing.T, h *host, pier, hut *machine, whole func(string) string) {
	t.Helper()
	was := whole("before")
	pier.git("board", "commit", "-q", "--amend", "-m", "Rewritten")
	pier.git("board", "push", "-q", "--force", "origin", "main")
	assert.Contains(t, hut.ok("", "", "deploy", "update"), "The branch was rewritten: "+was[:10]+" is not part of it any longer.")
	was = whole("rewritten")
	repo := h.repoAt(t, h.URL+"/tern/board")
	pier.git("board", "push", "-q", "origin", "main:other")
	pier.git("", "--git-dir="+h.Store.GitDir(repo.ID), "update-ref", "-d", "refs/heads/main")
	hut.refused(5, []string{"has no branch main any longer", "What is in use stays."}, "", "", "deploy", "update")
	require.Equal(t, was, whole("gone"))
}

// TestDeployTwoAtOnce runs two updates at the same time: one works, and the other is told so or finds it done.
func TestDeployTwoAtOnce(t *testing.T) {
	t.Parallel()
	h, pier := attached(t)
	pier.alone = true
	pier.board("board")
	pier.ok("board", "", "attach", "--yes")
	hut := signedInAs(t, h, "tern")
	hut.alone = true
	hut.ok("", "", "deploy", "make", "board", "srv", "--over", "https", "--yes")
	noted := func() bool {
		data, err := os.ReadFile(filepath.Join(hut.home, "srv.uncinate/state.json"))
		return err == nil && strings.Contains(string(data), `"approved"`)
	}
	hut.cutOff("", noted, "deploy", "approve", "--yes")
	hut.ok("", "", "deploy", "approve", "--yes") // goes on where it was cut off
	assert.FileExists(t, filepath.Join(hut.home, "srv/public/index.html"))
	for i := range 5 {
		newest := pier.pushes("board", "Level", map[string]string{"level.txt": fmt.Sprint(i, "\n")})
		ended := make(chan result, 2)
		for range 2 {
			go func() { ended <- hut.command("", "", program, "deploy", "update") }()
		}
		for range 2 {
			if r := <-ended; r.code != 0 {
				assert.Contains(t, r.err, "another uncinate is at work on srv")
			}
		}
		commit, _ := hut.live("srv", "level.txt")
		assert.Equal(t, newest, commit)
	}
	was, _ := hut.live("srv", "level.txt")
	require.NoError(t, h.Faults.Set([]string{"fail on GET"}))
	hut.refused(6, nil, "", "", "deploy", "update")
	require.NoError(t, h.Faults.Set(nil))
	now, _ := hut.live("srv", "level.txt")
	assert.Equal(t, was, now, "the host was away")
	require.NoError(t, os.RemoveAll(filepath.Join(hut.home, "srv.uncinate", was)))
	assert.Regexp(t, `broken +srv`, hut.ok("", "", "deploy", "list"))
	hut.ok("", "", "deploy", "update")
	now, _ = hut.live("srv", "level.txt")
	assert.Equal(t, was, now, "files that are gone are made again")
}

// TestDeployWatch stays and follows, says in lines what it does, and ends when it is interrupted.
func TestDeployWatch(t *testing.T) {
	t.Parallel()
	h, pier := attached(t)
	pier.board("board")
	pier.ok("board", "", "attach", "--yes")
	hut := signedInAs(t, h, "tern")
	hut.ok("", "", "deploy", "make", "board", "srv", "--over", "https", "--yes")
	hut.ok("", "", "deploy", "approve", "--yes")
	hut.refused(2, []string{"every 2s is too often"}, "", "", "deploy", "watch", "--every", "1s")
	c := exec.Command(program, "deploy", "watch", "--every", "2s")
	c.Dir, c.Env = hut.home, hut.env
	var said strings.Builder
	c.Stdout = &said
	require.NoError(t, c.Start())
	newest := pier.pushes("board", "Rising", map[string]string{"level.txt": "3.42\n"})
	assert.Eventually(t, func() bool { commit, _ := hut.live("srv", "level.txt"); return commit == newest }, 10*time.Second, 50*time.Millisecond)
	failing := pier.pushes("board", "Fails", map[string]string{"fail": ""})
	time.Sleep(5 * time.Second)
	require.NoError(t, c.Process.Signal(os.Interrupt))
	require.NoError(t, c.Wait())
	assert.Contains(t, said.String(), "srv: "+newest[:10]+" is in use")
	assert.Equal(t, 1, strings.Count(said.String(), failing[:10]+" is not in use: ./make-page: it ended with exit status 3"), "what failed is tried and told once: %s", said.String())
}

// TestDeployReaders lets many read, each of whom resolves the link once, while what is in use is switched again and
// again: none sees two states mixed, or a file that is missing.
func TestDeployReaders(t *testing.T) {
	t.Parallel()
	readers, switches, most := 250, 6, 2*time.Second
	if os.Getenv("UNCINATE_SOAK") != "" {
		readers, switches, most = 10_000, 50, time.Minute
	}
	h, pier := attached(t)
	files := map[string]string{}
	for i := range 20 {
		files[fmt.Sprintf("page-%02d.txt", i)] = "0\n"
	}
	pier.write("board", files)
	pier.ok("board", "", "attach", "--yes")
	hut := signedInAs(t, h, "tern")
	hut.ok("", "", "deploy", "make", "board", "srv", "--over", "https", "--days", "0", "--yes")
	var wrong atomic.Pointer[string]
	over := make(chan struct{})
	var work sync.WaitGroup
	for i := range readers {
		work.Go(func() {
			dice := rand.New(rand.NewPCG(1, uint64(i)))
			for {
				if at, err := filepath.EvalSymlinks(filepath.Join(hut.home, "srv")); err != nil || readsMixed(at, dice, most) {
					says := fmt.Sprint(at, " ", err)
					wrong.Store(&says)
				}
				select {
				case <-over:
					return
				default:
				}
			}
		})
	}
	for i := range switches {
		if i%3 == 2 {
			hut.ok("", "", "deploy", "back")
			continue
		}
		for p := range files {
			files[p] = fmt.Sprint(i+1, "\n")
		}
		pier.pushes("board", fmt.Sprint("Page ", i+1), files)
		hut.ok("", "", "deploy", "update")
	}
	close(over)
	work.Wait()
	if says := wrong.Load(); says != nil {
		t.Error("a reader saw two states mixed, or a file missing: ", *says)
	}
}

// readsMixed reads all pages in a folder, slowly, and reports whether one is missing or of another state than the first.
func readsMixed(at string, dice *rand.Rand, most time.Duration) bool {
	first := ""
	for i := range 20 {
		data, err := os.ReadFile(filepath.Join(at, fmt.Sprintf("page-%02d.txt", i)))
		if err != nil || i > 0 && string(data) != first {
			return true
		}
		first = string(data)
		time.Sleep(time.Duration(dice.Int64N(int64(most / 10))))
	}
	return false
}
