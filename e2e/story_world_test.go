//go:build linux

package e2e

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A story is a line of commands that people run on three machines: tern on pier and
// launch, knot on hut. It begins in a world that is always the same: two projects of the
// group saltmarsh on the practice host, gauge and almanac, copied to all three; pier sends
// almanac to a plain server as well. The world is built once and put back before each story.

// machineNames are the machines of a story.
var machineNames = []string{"pier", "launch", "hut"}

// storyWorld is where stories are played.
type storyWorld struct {
	t       *testing.T
	homes   string // the machines' homes, one file system of their own, so that it can be full
	kept    string // the world as it begins
	host    *host
	at      string // where the host listens
	plain   *plainSSH
	program string // what is played against: the program, or one with a fault planted
	all     map[string]*machine
	objects *objects
	hashes  map[string]hashed
	scratch int
	longest time.Duration // how long a command may take before it counts as hanging
}

// homesSize is what the machines' file system holds.
const homesSize = "96m"

// newStoryWorld builds the world in which each story begins.
func newStoryWorld(t *testing.T) *storyWorld {
	t.Helper()
	linux(t)
	needs(t, "strace", "strace")
	if os.Getuid() != 0 {
		t.Fatal("a small file system is mounted for this test, which takes root; run it as root, in a container for example")
	}
	homes, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size="+homesSize, "tmpfs", homes).CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() {
		out, err := exec.Command("umount", "-l", homes).CombinedOutput()
		require.NoError(t, err, string(out))
	})
	w := &storyWorld{t: t, homes: homes, kept: t.TempDir(), host: newHost(t), plain: newPlainSSH(t), program: program, all: map[string]*machine{}, objects: newObjects(), hashes: map[string]hashed{}, longest: time.Minute}
	w.at = strings.TrimPrefix(w.host.URL, "http://")
	for _, name := range machineNames {
		home := filepath.Join(homes, name)
		require.NoError(t, os.MkdirAll(filepath.Join(home, "templates"), 0o755))
		m := &machine{t: t, home: home, runs: &atomic.Int32{}, alone: true}
		m.env = []string{"HOME=" + home, "UNCINATE_HOME=" + filepath.Join(home, ".uncinate"), "PATH=" + os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1", "TMPDIR=" + os.TempDir(), "LC_ALL=C.UTF-8",
			"GIT_TEMPLATE_DIR=" + filepath.Join(home, "templates"), "GIT_EDITOR=true"}
		user := map[string]string{"pier": "tern", "launch": "tern", "hut": "knot"}[name]
		m.ok("", "", "host", "add", w.host.Name, "--at", w.host.URL)
		m.ok("", "", "vault", "make", "--by", "file")
		m.ok("", w.host.token[user]+"\n", "account", "add", "--host", w.host.Name, "--user", user)
		w.all[name] = m
	}
	w.furnish()
	for from, to := range w.places() {
		require.NoError(t, copyTree(from, to))
	}
	return w
}

// furnish publishes the projects and copies them to all machines.
func (w *storyWorld) furnish() {
	w.t.Helper()
	pier := w.all["pier"]
	lines := func(word string) string {
		var b strings.Builder
		for i := range 8 {
			fmt.Fprintf(&b, "%s %d\n", word, i)
		}
		return b.String()
	}
	for _, name := range []string{"gauge", "almanac"} {
		pier.write(name, map[string]string{"README.md": "# " + name + "\n", "notes.txt": lines("note"), "src/level.c": lines("level"), "tables/may.csv": lines("may"), ".gitignore": "*.log\n*.o\nbuild/\n"})
		pier.ok(name, "", "attach", "--name", "saltmarsh/"+name, "--yes")
	}
	pier.git("gauge", "checkout", "-q", "-b", "deck")
	pier.write("gauge", map[string]string{"deck.txt": lines("deck")})
	pier.git("gauge", "add", "-A")
	pier.git("gauge", "commit", "-q", "-m", "Deck")
	pier.git("gauge", "push", "-q", "-u", "origin", "deck")
	pier.git("gauge", "checkout", "-q", "main")
	for _, name := range machineNames[1:] {
		for _, project := range []string{"gauge", "almanac"} {
			w.all[name].ok("", "", "clone", "saltmarsh/"+project, project)
		}
	}
	w.joinServer(pier)
}

// joinServer gives pier's almanac a second place, on the plain server.
func (w *storyWorld) joinServer(m *machine) {
	w.t.Helper()
	m.agent()
	require.Equal(w.t, 0, m.command("", "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "by hand", "-f", "own").code)
	require.Equal(w.t, 0, m.command("", "", "ssh-add", "-q", "own").code)
	key := m.command("", "", "cat", "own.pub").out
	require.NoError(w.t, os.WriteFile(filepath.Join(w.plain.dir, "authorized_keys"), []byte(key), 0o640))
	m.write("", map[string]string{"skerry.toml": "language = 1\nname = \"skerry\"\nbase = \"ssh://git@skerry.example\"\ntransport = \"shell\"\n[shell]\nfolder = \"" + w.plain.dir + "/srv\"\nkeys = \"" + w.plain.dir + "/authorized_keys\"\n"})
	m.ok("", "", "host", "add", "./skerry.toml", "--at", w.plain.at)
	m.ok("", "", "host", "pin", "127.0.0.1:"+w.plain.port, "--fingerprint", w.plain.fingerprint())
	m.ok("", "", "account", "add", "tern-skerry", "--host", "skerry")
	m.ok("", "", "settings", "set", "machine", "pier")
	m.ok("", "", "key", "make", "tern-skerry", "--open")
	m.ok("", "", "key", "install", "tern-skerry", "--yes")
	m.ok("almanac", "", "attach", "--yes", "--copy", "--remote", "server", "--account", "tern-skerry", "--name", "almanac")
}

// places are the folders that make the world, each with where it is kept.
func (w *storyWorld) places() map[string]string {
	all := map[string]string{w.host.dir: filepath.Join(w.kept, "host"), filepath.Join(w.plain.dir, "srv"): filepath.Join(w.kept, "srv")}
	for _, name := range machineNames {
		all[filepath.Join(w.homes, name)] = filepath.Join(w.kept, name)
	}
	return all
}

// begin puts the world back as it was at the beginning.
func (w *storyWorld) begin() error {
	if err := w.host.Close(); err != nil {
		return err
	}
	left, err := os.ReadDir(w.homes)
	if err != nil {
		return err
	}
	for _, e := range left {
		if err := os.RemoveAll(filepath.Join(w.homes, e.Name())); err != nil {
			return err
		}
	}
	for to, from := range w.places() {
		if err := errors.Join(os.RemoveAll(to), copyTree(from, to)); err != nil {
			return err
		}
	}
	if w.host.Running, err = again(w.host.Name, w.host.dir, w.at); err != nil {
		return err
	}
	w.hashes = map[string]hashed{}
	for _, m := range w.all { // git's notes of times and inodes are those of the first world
		for _, project := range []string{"gauge", "almanac"} {
			if r := w.exec(m.home+"/"+project, m, "", "git", "update-index", "-q", "--refresh"); r.code != 0 {
				return fmt.Errorf("git cannot refresh its index: %s", r.err)
			}
		}
	}
	return nil
}

// exec runs a program on a machine. A run that never ends is told by the code -2, a killed
// one by -1.
func (w *storyWorld) exec(dir string, m *machine, in, name string, args ...string) result {
	return w.execKilled(dir, m, in, nil, name, args...)
}

// killed says when a run is killed, and how far.
type killed struct {
	all   bool          // with all its processes
	after time.Duration // so long after its start
	event string        // or, where it is not "", at a moment in the project's folder: see moment
	when  time.Duration // when it was killed; 0 where it ended before
	saw   int           // how many events there were until then
	took  time.Duration // how long it ran
}

func (w *storyWorld) execKilled(dir string, m *machine, in string, k *killed, name string, args ...string) result {
	if name == "uncinate" {
		name = w.program
	}
	slow := k != nil && strings.HasPrefix(k.event, "slow:")
	if slow {
		args = append(slices.Clone(slowly), append([]string{name}, args...)...)
		name = "strace"
	}
	ctx, cancel := context.WithTimeout(context.Background(), w.longest)
	defer cancel()
	c := exec.CommandContext(ctx, name, args...)
	c.Dir, c.Env, c.Stdin = dir, m.env, strings.NewReader(in)
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.Cancel = func() error { killAll(c.Process.Pid); return nil }
	c.WaitDelay = 20 * time.Second
	var out, errs strings.Builder
	c.Stdout, c.Stderr = &out, &errs
	var seen *watch
	if k != nil && k.event != "" {
		var err error
		if seen, err = w.watchFor(dir, k.event); err != nil {
			return result{-2, "", err.Error()}
		}
	}
	begun := time.Now()
	if err := c.Start(); err != nil {
		seen.close()
		return result{-1, "", err.Error()}
	}
	if k != nil {
		ended := make(chan error, 1)
		go func() { ended <- c.Wait() }()
		var at <-chan struct{}
		var after <-chan time.Time
		if seen != nil {
			at = seen.reached
		} else {
			after = time.After(k.after)
		}
		select {
		case <-ended:
			k.took, k.saw = time.Since(begun), seen.count()
			seen.close()
			return result{c.ProcessState.ExitCode(), out.String(), errs.String()}
		case <-at:
		case <-after:
		}
		k.when, k.saw = time.Since(begun), seen.count()
		k.took = k.when
		if k.all {
			killAll(c.Process.Pid)
		} else {
			killAlone(c.Process, slow)
		}
		seen.close() // before anything else opens a file there
		<-ended
		if !slow && !c.ProcessState.Sys().(syscall.WaitStatus).Signaled() {
			k.when = 0
		}
		w.settle(m)
		return result{c.ProcessState.ExitCode(), out.String(), errs.String()}
	}
	_ = c.Wait() // how it ended is asked of its state
	if ctx.Err() != nil {
		return result{-2, out.String(), errs.String()}
	}
	return result{c.ProcessState.ExitCode(), out.String(), errs.String()}
}

// slowly are the words that let a run take its time over each change that it makes to a
// folder, so that a kill can hit between any two.
var slowly = []string{"-f", "-qq", "-o", "/dev/null", "-e", "trace=mkdir,mkdirat,rename,renameat,renameat2,unlink,unlinkat,rmdir,link,linkat,symlink,symlinkat",
	"-e", "inject=mkdir,mkdirat,rename,renameat,renameat2,unlink,unlinkat,rmdir,link,linkat,symlink,symlinkat:delay_enter=1500"}

// killAll kills a run with all that it started, also what has a process group of its own.
// What is found is stopped first, so that nothing more is started meanwhile.
func killAll(pid int) {
	all := []int{pid}
	for at := 0; at < len(all); at++ {
		_ = syscall.Kill(all[at], syscall.SIGSTOP) // each may have ended by itself
		threads, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", all[at]))
		for _, path := range threads {
			data, _ := os.ReadFile(path)
			for child := range strings.FieldsSeq(string(data)) {
				if n, err := strconv.Atoi(child); err == nil && !slices.Contains(all, n) {
					all = append(all, n)
				}
			}
		}
	}
	for _, n := range all {
		_ = syscall.Kill(n, syscall.SIGKILL)
	}
}

// killAlone kills the program, and not what it started; what runs it slowly ends by itself.
func killAlone(p *os.Process, slow bool) {
	if !slow {
		_ = p.Kill() // it may have ended
		return
	}
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", p.Pid, p.Pid))
	for child := range strings.FieldsSeq(string(data)) {
		if pid, err := strconv.Atoi(child); err == nil {
			_ = syscall.Kill(pid, syscall.SIGKILL) // it may have ended
		}
	}
}

// watchFor waits for a moment, written as NUMBER or NAME:NUMBER for so many changes (of a
// slowed run: slow:NUMBER), and as open:NUMBER or open:NAME:NUMBER for so many files opened.
func (w *storyWorld) watchFor(dir, event string) (*watch, error) {
	parts := strings.Split(strings.TrimPrefix(event, "slow:"), ":")
	n, err := strconv.Atoi(parts[len(parts)-1])
	if err != nil {
		return nil, err
	}
	name := ""
	if len(parts) > 1 {
		name = parts[len(parts)-2]
	}
	if parts[0] != "open" {
		return countChanges(dir, name, n)
	}
	if len(parts) == 2 {
		name = ""
	}
	return holdAtOpen(w.homes, dir, name, n)
}

// settle waits until what a killed run left behind has ended: runs of git that keep its
// lock, and what the host still does for them.
func (w *storyWorld) settle(m *machine) {
	for range 1000 {
		busy := false
		locks, _ := filepath.Glob(filepath.Join(m.home, ".uncinate/state/locks/*.lock"))
		for _, path := range locks {
			f, err := os.Open(path)
			if err != nil {
				continue
			}
			busy = busy || unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil
			f.Close()
		}
		waiting, _ := filepath.Glob(filepath.Join(w.host.dir, "repos/*/objects/tmp_objdir-incoming-*"))
		held, _ := filepath.Glob(filepath.Join(w.host.dir, "repos/*/refs/heads/*.lock"))
		if !busy && len(waiting)+len(held) == 0 {
			return
		}
		time.Sleep(3 * time.Millisecond)
	}
}
