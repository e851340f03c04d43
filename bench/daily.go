package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"uncinate/internal/practice"
)

// How many projects are looked at and brought into step.
const (
	looked = 100
	synced = 500
)

// daily measures the board of many projects, and bringing many into step.
func (b *bench) daily(pairs int) error {
	if err := b.boards(pairs); err != nil {
		return err
	}
	return b.fleets(pairs)
}

// fleets brings many projects into step, on every way of asking.
func (b *bench) fleets(pairs int) error {
	for _, c := range []struct{ host, way, bound string }{{"gannet", "the host lists heads", "0.2"}, {"petrel", "ls-refs over HTTP", "0.286"}, {"petrel", "one SSH connection", "0.2"}} {
		if b.way != "" && b.way != c.way {
			continue
		}
		if err := b.syncs(c.host, c.way, c.bound, pairs); err != nil {
			return err
		}
	}
	return nil
}

// in runs a command in a home of its own, and gives the most memory it took, in kilobytes.
func (b *bench) in(home, dir, in, name string, args ...string) (int64, error) {
	c := exec.Command(name, args...)
	c.Dir, c.Stdin = dir, strings.NewReader(in)
	c.Env = []string{"HOME=" + home, "UNCINATE_HOME=" + filepath.Join(home, "own"), "PATH=" + os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1", "GIT_TERMINAL_PROMPT=0"}
	out, err := c.CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("%s %v: %w\n%s", filepath.Base(name), args, err, out)
	}
	return memoryOf(c.ProcessState), nil
}

// boards looks at 100 projects of 2,000 files.
func (b *bench) boards(pairs int) error {
	home := filepath.Join(b.top, "boards")
	one := filepath.Join(home, "one")
	for i := range 2000 {
		path := filepath.Join(one, fmt.Sprintf("part%02d/reading%04d.txt", i/50, i))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(fmt.Sprintln("level", i)), 0o644); err != nil {
			return err
		}
	}
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "-A"}, {"-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "First"},
		{"remote", "add", "origin", "https://skerry.example/tern/one.git"}, {"update-ref", "refs/remotes/origin/main", "HEAD"}, {"branch", "-q", "-u", "origin/main"}} {
		if _, err := b.in(home, one, "", "git", args...); err != nil {
			return err
		}
	}
	var all []string
	for i := range looked {
		dir := filepath.Join(home, "work", fmt.Sprintf("project%03d", i))
		if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
			return err
		}
		if out, err := exec.Command("cp", "-r", one, dir).CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		if _, err := b.in(home, dir, "", "git", "status"); err != nil { // its index knows the copied files then
			return err
		}
		all = append(all, dir)
	}
	if _, err := b.in(home, home, "", b.program, "project", "find", "work", "--yes"); err != nil {
		return err
	}
	list := strings.Join(all, "\n") + "\n"
	return compare(fmt.Sprintf("status --all --offline, %d projects of 2,000 files", looked), "1.3", pairs, func(int) error { return nil },
		func(int) error {
			_, err := b.in(home, home, "", b.program, "status", "--all", "--offline")
			return err
		},
		func(int) error {
			_, err := b.in(home, home, list, "xargs", "-P", fmt.Sprint(runtime.NumCPU()), "-I{}", "git", "--no-optional-locks", "-C", "{}", "status", "--porcelain=v2", "--branch")
			return err
		})
}

// fleet is a host with many repositories, each with two copies: one of ours and one of
// plain git.
type fleet struct {
	*bench
	host  *practice.Running
	home  string
	hand  []string
	bares []string
	most  int64
	relay *relay // what calls pass on their way to it; nil where the host itself waits
}

func (b *bench) fleet(name, way string) (f *fleet, err error) {
	home, err := os.MkdirTemp(b.top, "fleet-")
	if err != nil {
		return nil, err
	}
	f = &fleet{bench: b, home: home}
	if f.host, err = practice.Start(name, filepath.Join(home, "host"), "127.0.0.1:0", nil); err != nil {
		return nil, err
	}
	tokens, err := f.host.Demo()
	if err != nil {
		return f, err
	}
	base := f.host.URL
	if strings.Contains(way, "SSH") {
		if f.relay, err = newRelay(strings.TrimPrefix(base, "http://")); err != nil {
			return f, err
		}
		base = "http://" + f.relay.Addr().String()
	}
	run := func(dir, in, program string, args ...string) error {
		_, err := b.in(home, dir, in, program, args...)
		return err
	}
	seed := filepath.Join(home, "seed")
	if err := os.MkdirAll(seed, 0o755); err != nil {
		return f, err
	}
	if err := os.WriteFile(filepath.Join(seed, "README.md"), []byte("# seed\n"), 0o644); err != nil {
		return f, err
	}
	for _, c := range [][]string{{b.program, "host", "add", name, "--at", base}, {b.program, "vault", "make", "--by", "file"}, {b.program, "account", "add", "--host", name, "--user", "tern"},
		{"git", "init", "-q", "-b", "main"}, {"git", "add", "-A"}, {"git", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "First"},
		{"git", "update-ref", "refs/remotes/origin/main", "HEAD"}} {
		if err := run(seed, tokens[0].Secret+"\n", c[0], c[1:]...); err != nil {
			return f, err
		}
	}
	key := ""
	if f.relay != nil {
		for _, c := range [][]string{{"host", "pin", strings.TrimPrefix(base, "http://"), "--fingerprint", f.host.HostKey()}, {"key", "make", "tern", "--open"}, {"key", "install", "tern", "--yes"}} {
			if err := run(home, "", b.program, c...); err != nil {
				return f, err
			}
		}
		found, err := filepath.Glob(filepath.Join(home, "own/state/git/tern/*.sshconfig"))
		if err != nil {
			return f, err
		}
		for _, path := range found {
			if !strings.HasSuffix(path, "none.sshconfig") {
				key = "ssh -F " + path
			}
		}
	}
	for i := range synced {
		repo, err := f.host.Store.Create(context.Background(), "tern", practice.Repo{Owner: "tern", Name: fmt.Sprintf("gauge-%03d", i), Visibility: "private", Default: "main"})
		if err != nil {
			return f, err
		}
		bare := f.host.Store.GitDir(repo.ID)
		f.bares = append(f.bares, bare)
		if err := run(seed, "", "git", "push", "-q", bare, "main"); err != nil {
			return f, err
		}
		at := fmt.Sprintf("%s%s/tern/gauge-%03d.git", base, map[string]string{"petrel": "/nest"}[name], i)
		secret := strings.Replace(at, "://", "://tern:"+tokens[0].Secret+"@", 1)
		if key != "" {
			at = strings.Replace(base, "http://", "ssh://git@", 1) + fmt.Sprintf("/tern/gauge-%03d.git", i)
			secret = at
		}
		for kind, url := range map[string]string{"ours": at, "hand": secret} {
			dir := filepath.Join(home, kind, fmt.Sprintf("gauge-%03d", i))
			if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
				return f, err
			}
			if out, err := exec.Command("cp", "-r", seed, dir).CombinedOutput(); err != nil {
				return f, fmt.Errorf("%w: %s", err, out)
			}
			more := "[remote \"origin\"]\n\turl = " + url + "\n\tfetch = +refs/heads/*:refs/remotes/origin/*\n[branch \"main\"]\n\tremote = origin\n\tmerge = refs/heads/main\n[user]\n\tname = T\n\temail = t@skerry.example\n"
			if kind == "hand" {
				f.hand = append(f.hand, dir)
				if key != "" {
					more += "[core]\n\tsshCommand = " + key + "\n"
				}
			}
			config, err := os.OpenFile(filepath.Join(dir, ".git/config"), os.O_APPEND|os.O_WRONLY, 0)
			if err != nil {
				return f, err
			}
			_, err = config.WriteString(more)
			if err := errors.Join(err, config.Close()); err != nil {
				return f, err
			}
		}
	}
	return f, run(home, "", b.program, "project", "find", "ours", "--yes")
}

func (f *fleet) sync(int) error {
	most, err := f.in(f.home, f.home, "", f.program, "sync", "--all")
	f.most = max(f.most, most)
	return err
}

// fetch does the same with plain git, eight at a time.
func (f *fleet) fetch(which []string) error {
	_, err := f.in(f.home, f.home, strings.Join(which, "\n")+"\n", "xargs", "-P8", "-I{}", "git", "-C", "{}", "fetch", "-q")
	return err
}

func (b *bench) syncs(host, way, bound string, pairs int) (err error) {
	f, err := b.fleet(host, way)
	if f != nil && f.host != nil {
		defer func() { err = errors.Join(err, f.host.Close()) }()
	}
	if f != nil && f.relay != nil {
		defer func() { err = errors.Join(err, f.relay.Close()) }()
	}
	if err != nil {
		return err
	}
	nothing := func(int) error { return nil }
	for _, delay := range []string{"", "delay=20ms"} {
		label := fmt.Sprintf("sync --all, %d unchanged, %s", synced, way)
		if delay != "" {
			label += ", 20 ms away"
			if f.relay != nil {
				f.relay.delay.Store(int64(10 * time.Millisecond)) // there, and back
			} else if err := f.host.Faults.Set([]string{delay}); err != nil {
				return err
			}
		}
		if err := f.sync(0); err != nil {
			return err
		}
		if err := compare(label, bound, pairs, nothing, f.sync, func(int) error { return f.fetch(f.hand) }); err != nil {
			return err
		}
	}
	fmt.Fprintf(os.Stderr, "most memory of sync --all, %s: %d MB (bound: 150 MB)\n", way, f.most>>10)
	// Five of them change, for both copies; by hand is the fetch of those five, and the
	// check of all as it is when nothing changed.
	var check float64
	return compare(fmt.Sprintf("the same, 5 of %d changed", synced), "1.5", pairs, func(i int) error {
		began := time.Now()
		if err := f.sync(0); err != nil {
			return err
		}
		check = time.Since(began).Seconds()
		for k := range 5 {
			bare := f.bares[(i*5+k)*7%synced]
			tree, err := exec.Command("git", "-C", bare, "rev-parse", "main^{tree}").Output()
			if err != nil {
				return err
			}
			id, err := exec.Command("git", "-C", bare, "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit-tree", "-p", "main", "-m", fmt.Sprint("More ", i), strings.TrimSpace(string(tree))).Output()
			if err == nil {
				err = exec.Command("git", "-C", bare, "update-ref", "refs/heads/main", strings.TrimSpace(string(id))).Run()
			}
			if err != nil {
				return err
			}
		}
		return nil
	}, f.sync, func(i int) error {
		var five []string
		for k := range 5 {
			five = append(five, f.hand[(i*5+k)*7%synced])
		}
		time.Sleep(time.Duration(check * float64(time.Second)))
		return f.fetch(five)
	})
}
