// Package git runs the installed git program through its documented interfaces:
// plumbing commands and the output formats made for scripts. It translates; it does
// not decide. Never through a shell; secrets never in arguments or the environment.
package git

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"uncinate/internal/core/gitconfig"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// Least is the oldest version of git that is supported.
var Least = [2]int{2, 39}

// MostOutput is how much of git's output, in bytes, is read.
const MostOutput = 256 << 20

// Git is one installed git program.
type Git struct {
	Path    string
	Version string
	Keep    *os.File // a lock's file that every run inherits; nil for none
	log     *slog.Logger
	tops    *sync.Map // folders that were found to be the tops of repositories
}

// Cmd is one run of git.
type Cmd struct {
	Dir    string // where it runs; "" for a run that needs no folder
	Args   []string
	Config []Set         // for this run alone
	Env    []string      // more environment: dates, an index file
	In     io.Reader     // standard input; nil for none
	Watch  func(string)  // gets each line of standard error as it comes, carriage returns too
	Stall  time.Duration // after so long without a word of git's the run is ended: a host that says nothing; 0 for never
}

// Error is a run of git that did not end with 0.
type Error struct {
	Command string        // the sub-command, such as "push"
	Code    int           // -1 when it did not run or was killed
	Says    string        // standard error, control characters shown
	Full    bool          // the file system on which it ran has no room
	Stalled time.Duration // it was ended since nothing came for so long; 0 where it was not
	cause   error
}

func (e *Error) Error() string {
	return fmt.Sprintf("git %s failed (%d): %s", e.Command, e.Code, e.Says)
}
func (e *Error) Unwrap() error { return e.cause }

// Lines gives git's own words, at most most lines: those that are marked as errors or
// as the other side's, or all but hints where none is.
func (e *Error) Lines(most int) []string {
	var marked, all []string
	for line := range strings.SplitSeq(e.Says, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "hint:") || percent().MatchString(line) {
			continue
		}
		line = text.Excerpt(line, 160)
		all = append(all, line)
		for _, mark := range []string{"error: ", "fatal: ", "remote: ", "ssh: ", "Permission denied", "Host key verification", "@@@", "ERROR: "} {
			if strings.HasPrefix(line, mark) {
				marked = append(marked, line)
			}
		}
	}
	if len(marked) > 0 {
		all = marked
	}
	return all[:min(len(all), most)]
}

// Code gives the exit code git ended with, or -1 if err is not of a run of git.
func Code(err error) int {
	var e *Error
	if errors.As(err, &e) {
		return e.Code
	}
	return -1
}

// passed lists the variables of git's own that reach our children. All others of
// git's are dropped: they would redirect it (GIT_DIR), sign for someone else
// (GIT_AUTHOR_NAME), ask in windows (GIT_ASKPASS) or print secrets (GIT_TRACE_CURL).
var passed = []string{"GIT_CONFIG_GLOBAL", "GIT_CONFIG_SYSTEM", "GIT_CONFIG_NOSYSTEM", "GIT_EXEC_PATH", "GIT_TEMPLATE_DIR",
	"GIT_SSL_CAINFO", "GIT_SSL_CAPATH", "GIT_SSL_NO_VERIFY", "GIT_PROXY_COMMAND", "GIT_SSH", "GIT_SSH_COMMAND", "GIT_SSH_VARIANT",
	"GIT_CEILING_DIRECTORIES", "GIT_DISCOVERY_ACROSS_FILESYSTEM", "GIT_ATTR_NOSYSTEM"}

// Set is a setting of git's configuration: its key and its value, never in one word, since a key
// may hold any character (git documentation, GIT_CONFIG_KEY_<n>).
type Set struct{ Key, Value string }

// quiet is configuration for every run: no background work that outlives it, no prompt, no
// advice, no repositories inside, and none found on the way that keeps itself without a .git
// (git-config documentation, safe.bareRepository).
var quiet = []Set{{"gc.auto", "0"}, {"maintenance.auto", "false"}, {"core.fsmonitor", "false"}, {"core.askPass", ""}, {"advice.detachedHead", "false"},
	{"log.showSignature", "false"}, {"submodule.recurse", "false"}, {"fetch.recurseSubmodules", "false"}, {"push.recurseSubmodules", "no"}, {"safe.bareRepository", "explicit"}}

// looking is what is added for a run that only looks: no hook, and no way to another machine or
// folder, also where an object is missing that a host has (git documentation,
// GIT_ALLOW_PROTOCOL and GIT_NO_LAZY_FETCH; versions before 2.45 do not know the latter).
var looking = []Set{{"core.hooksPath", os.DevNull}}

// Stall is for how long a host may send nothing while git receives from it.
const Stall = 60 * time.Second

// slow ends what goes over HTTP at less than a byte a second for two minutes (git-config
// documentation, http.lowSpeedLimit); git's own servers say every few seconds that they are still
// at work.
var slow = []Set{{"http.lowSpeedLimit", "1"}, {"http.lowSpeedTime", "120"}}

// transports are the ways to a host for a run that works; none of them runs a program that an
// address names.
const transports = "file:git:http:https:ssh"

// briefs are the commands that write a little and end at once. They are let finish
// when the person stops the work: one that is cut off may leave git's lock behind.
var briefs = []string{"config", "remote", "init", "update-ref", "symbolic-ref", "write-tree", "commit-tree"}

func environment(c Cmd, works, fetches bool) []string {
	var env []string
	for _, kv := range os.Environ() {
		name, _, _ := strings.Cut(kv, "=")
		if name == "SSH_ASKPASS" || name == "LC_ALL" || name == "LANGUAGE" || strings.HasPrefix(name, "GIT_") && !slices.Contains(passed, name) {
			continue
		}
		env = append(env, kv)
	}
	config := slices.Clone(quiet)
	allowed := transports
	if !works {
		config = append(config, looking...)
	}
	if !works && !fetches {
		allowed = "none"
		env = append(env, "GIT_NO_LAZY_FETCH=1")
	}
	config = append(config, c.Config...)
	env = append(env, "LC_ALL=C.UTF-8", "GIT_TERMINAL_PROMPT=0", "GIT_OPTIONAL_LOCKS=0", "GIT_ASKPASS=", fmt.Sprintf("GIT_CONFIG_COUNT=%d", len(config)))
	env = append(env, "GIT_ALLOW_PROTOCOL="+allowed)
	for i, set := range config {
		env = append(env, fmt.Sprintf("GIT_CONFIG_KEY_%d=%s", i, set.Key), fmt.Sprintf("GIT_CONFIG_VALUE_%d=%s", i, set.Value))
	}
	if c.Watch != nil {
		env = append(env, "GIT_PROGRESS_DELAY=0") // git's page: else it is silent for two seconds
	}
	return append(env, c.Env...)
}

// Run runs git, only to look, and gives its standard output.
func (g *Git) Run(ctx context.Context, c Cmd) ([]byte, error) { return g.run(ctx, c, false, false) }

func (g *Git) run(ctx context.Context, c Cmd, works, fetches bool) ([]byte, error) {
	runs, done := ctx, func() {}
	brief := slices.Contains(briefs, name(c.Args))
	if brief {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var cancel context.CancelFunc
		runs, cancel = context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		done = cancel
	}
	defer done()
	runs, cancel := context.WithCancel(runs)
	defer cancel()
	cmd := exec.CommandContext(runs, g.Path, c.Args...)
	if brief {
		apart(cmd)
	}
	cmd.Dir, cmd.Env, cmd.Stdin = c.Dir, environment(c, works, fetches), c.In
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	if g.Keep != nil && runtime.GOOS != "windows" {
		cmd.ExtraFiles = []*os.File{g.Keep}
	}
	cmd.WaitDelay = 5 * time.Second
	out := &bounded{most: MostOutput}
	errs := &tail{watch: c.Watch}
	cmd.Stdout, cmd.Stderr = out, errs
	began := time.Now()
	stalled, watched := errs.watchFor(c.Stall, cancel)
	err := cmd.Run()
	watched()
	if g.log != nil {
		g.log.Debug("git", "command", name(c.Args), "dir", c.Dir, "took", time.Since(began).Round(time.Millisecond), "code", cmd.ProcessState.ExitCode())
	}
	if err == nil && out.over {
		err = fmt.Errorf("more than %d bytes of output", MostOutput)
	}
	if err == nil {
		return out.kept.Bytes(), nil
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	e := &Error{Command: name(c.Args), Code: -1, Says: text.Visible(err.Error()), cause: err}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		e.Code, e.Says = exit.ExitCode(), errs.String()
		e.Full = c.Dir != "" && files.Full(c.Dir)
	}
	if stalled() {
		e.Stalled = c.Stall
	}
	return out.kept.Bytes(), e
}

func name(args []string) string {
	for _, a := range args {
		if !strings.HasPrefix(a, "-") {
			return a
		}
	}
	return ""
}

// Repo is a folder seen through git. Its runs only look: they reach no other machine, and run
// no hook and nothing that Safe puts aside.
type Repo struct {
	*Git
	Dir     string   // the folder git runs in
	Safe    []Set    // configuration that keeps a stranger's repository from running anything
	GitDir  string   // the git folder by name, so that git looks for none further up; "" lets it look
	Env     []string // more environment, such as further folders of objects
	Fetches bool     // what a partial clone lacks may be received by a look, since its host is trusted
}

// Run runs git in the repository that is named, if one is (git documentation, --git-dir).
func (r *Repo) Run(ctx context.Context, c Cmd) ([]byte, error) {
	return r.Git.run(ctx, r.here(c), false, r.Fetches)
}

// here makes it a run in the repository, with what keeps that safe.
func (r *Repo) here(c Cmd) Cmd {
	if c.Dir == "" {
		c.Dir = r.Dir
	}
	c.Config = append(slices.Clone(r.Safe), c.Config...)
	if len(r.Env) > 0 {
		c.Env = append(slices.Clone(r.Env), c.Env...)
	}
	if r.GitDir != "" {
		c.Args = append([]string{"--git-dir=" + r.GitDir}, c.Args...)
	}
	return c
}

// Work is a repository whose configuration is trusted: its runs reach hosts and run hooks.
type Work struct{ repo *Repo }

// Works gives the repository for work. Whoever calls it knows that the configuration is trusted.
func (r *Repo) Works() *Work { return &Work{r} }

// Named gives the same for runs that name the git folder, and work on other files than its own.
func (w *Work) Named(gitDir string) *Work {
	repo := *w.repo
	repo.GitDir = gitDir
	return &Work{&repo}
}

// Run runs git in the folder, and gives its standard output.
func (w *Work) Run(ctx context.Context, c Cmd) ([]byte, error) {
	c.Config = append(slices.Clone(slow), c.Config...)
	return w.repo.Git.run(ctx, w.repo.here(c), true, true)
}

// Do runs git in the folder, and gives what it printed without its last line break.
func (w *Work) Do(ctx context.Context, args ...string) (string, error) {
	out, err := w.Run(ctx, Cmd{Args: args})
	return strings.TrimRight(string(out), "\n"), err
}

// In gives the repository that holds a folder, or that will be made there.
func (g *Git) In(dir string) *Repo { return &Repo{Git: g, Dir: dir} }

// Do runs git in the folder.
func (r *Repo) Do(ctx context.Context, args ...string) (string, error) {
	out, err := r.Run(ctx, Cmd{Dir: r.Dir, Args: args})
	return strings.TrimRight(string(out), "\n"), err
}

// Resolve gives the object ID that a name stands for; it fails, and git says nothing, where no
// object has that name. Source: git-rev-parse, --verify and --quiet. Branches are read without git.
func (r *Repo) Resolve(ctx context.Context, name string) (string, error) {
	if err := ctx.Err(); err != nil {
		return "", err
	}
	if r.GitDir == "" {
		if id := readRef(r.Dir, strings.TrimSuffix(name, "^{commit}")); id != "" {
			return id, nil
		}
	}
	return r.Do(ctx, "rev-parse", "-q", "--verify", name)
}

// Lines runs git and splits output that ends each item with NUL.
func (r *Repo) Lines(ctx context.Context, args ...string) ([]string, error) {
	out, err := r.Run(ctx, Cmd{Dir: r.Dir, Args: args})
	return SplitNUL(out), err
}

// SplitNUL splits items that each end with NUL.
func SplitNUL(out []byte) []string {
	s := strings.TrimSuffix(string(out), "\x00")
	if s == "" {
		return nil
	}
	return strings.Split(s, "\x00")
}

// Top finds the top of the work tree that holds dir, with symbolic links resolved;
// "" when dir is in none.
func (r *Repo) Top(ctx context.Context) (string, error) {
	if err := Ordinary(r.Dir); err != nil {
		return "", err
	}
	if _, known := r.tops.Load(r.Dir); known {
		if _, err := os.Lstat(filepath.Join(r.Dir, ".git")); err == nil {
			return r.Dir, nil
		}
	}
	out, err := r.Do(ctx, "rev-parse", "--show-toplevel")
	if err == nil {
		top := filepath.FromSlash(out)
		if err := holds(r.Dir, top); err != nil {
			return top, err
		}
		r.tops.Store(top, true)
		return top, nil
	}
	if Code(err) == 128 {
		return "", nil
	}
	return "", err
}

// Setting is one line of git's configuration.
type Setting = gitconfig.Setting

// Settings lists the configuration that holds in the folder, without what our own runs add.
func (r *Repo) Settings(ctx context.Context) ([]Setting, error) {
	items, err := r.Lines(ctx, "config", "--show-scope", "--show-origin", "-z", "--list")
	if err != nil {
		return nil, err
	}
	return settings(items), nil
}

// settings reads what git config --list prints, with scopes and origins.
func settings(items []string) (out []Setting) {
	for i := 0; i+2 < len(items); i += 3 {
		key, value, _ := strings.Cut(items[i+2], "\n")
		if items[i] == "command" {
			continue
		}
		out = append(out, Setting{Scope: items[i], Origin: strings.TrimPrefix(items[i+1], "file:"), Key: key, Value: value})
	}
	return out
}

// Refs reads what an address offers: name → object id; symrefs under "HEAD" give the
// branch that HEAD stands for as the second result. It runs in a folder in which there is no
// repository, apart, so that no repository's configuration has a say.
func (g *Git) Refs(ctx context.Context, apart, address string, config ...Set) (map[string]string, string, error) {
	out, err := g.run(ctx, Cmd{Dir: apart, Env: []string{"GIT_CEILING_DIRECTORIES=" + filepath.Dir(apart)}, Args: []string{"ls-remote", "--symref", "--", address}, Config: config, Stall: Stall}, true, true)
	if err != nil {
		return nil, "", err
	}
	refs, head := map[string]string{}, ""
	for line := range strings.SplitSeq(string(out), "\n") {
		left, ref, found := strings.Cut(line, "\t")
		if !found {
			continue
		}
		if target, ok := strings.CutPrefix(left, "ref: "); ok {
			if ref == "HEAD" {
				head = strings.TrimPrefix(target, "refs/heads/")
			}
			continue
		}
		if IsID(left) {
			refs[ref] = left
		}
	}
	return refs, head, nil
}

// IsID reports whether a word is an object's id, of either hash (gitformat-pack documentation).
func IsID(s string) bool {
	return (len(s) == 40 || len(s) == 64) && strings.Trim(s, "0123456789abcdef") == ""
}
