// Package live changes what a server has in use: by one rename of a link, after all that it leads to is on the disk;
// and runs a server's tasks, each without a shell, within its time.
package live

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// Point lets a link lead to a path, by one rename, and makes sure that this outlives a loss of power. What is there and
// is no link is left, and is an error.
func Point(link, to string) error {
	if k := files.KindOf(link); k != files.None && k != files.Link {
		return fault.New(fault.Refused, "%s is there, and is not a link", text.Visible(link))
	}
	fresh := link + ".uncinate-new"
	if err := files.Remove(fresh); err != nil {
		return err
	}
	if err := os.Symlink(to, fresh); err != nil {
		return fault.New(fault.Failed, "the link %s cannot be made: %s", text.Visible(fresh), files.Plain(err)).Because(err)
	}
	if err := os.Rename(fresh, link); err != nil {
		return fault.New(fault.Failed, "the link %s cannot be put into its place: %s", text.Visible(link), files.Plain(err)).Because(err)
	}
	return files.Settle(filepath.Dir(link))
}

// LeadsTo is where a link leads, as it says itself; "" where there is none.
func LeadsTo(link string) string {
	to, err := os.Readlink(link)
	if err != nil {
		return ""
	}
	return to
}

// Link makes a link where nothing is.
func Link(at, to string) error {
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return err
	}
	return os.Symlink(to, at)
}

// settleEach makes sure of each file and folder below a folder, one by one.
func settleEach(folder string) error {
	return filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir():
			return files.Settle(path)
		case !e.Type().IsRegular():
			return nil
		}
		f, err := os.Open(path)
		if errors.Is(err, fs.ErrPermission) {
			return nil // a task made it so that nobody reads it
		}
		if err != nil {
			return err
		}
		err = f.Sync()
		return errors.Join(err, f.Close())
	})
}

// Size is how many bytes the files below a folder have; links are not followed.
func Size(folder string) int64 {
	var n int64
	_ = filepath.WalkDir(folder, func(_ string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			if s, err := e.Info(); err == nil {
				n += s.Size()
			}
		}
		return nil // what cannot be seen, or goes meanwhile, is left out
	})
	return n
}

// mostOutput is how many bytes of a task's output are kept: the last ones.
const mostOutput = 256 << 10

// Task is a program to be run.
type Task struct {
	Folder string
	Words  []string
	More   []string // variables of its environment, besides those of the system
	Within time.Duration
}

// passed are the variables that a task gets from the environment of this program: none in which a secret is usual.
var passed = []string{"HOME", "USER", "LOGNAME", "LANG", "LC_ALL", "LC_CTYPE", "TZ", "TMPDIR", "XDG_RUNTIME_DIR", "SYSTEMROOT", "TEMP", "TMP", "USERPROFILE", "PATHEXT"}

// paths is the PATH without what is not absolute: no program is taken from where a task runs.
func paths() string {
	var out []string
	for _, dir := range filepath.SplitList(os.Getenv("PATH")) {
		if filepath.IsAbs(dir) {
			out = append(out, dir)
		}
	}
	return strings.Join(out, string(filepath.ListSeparator))
}

// Run runs a task to its end, or to the end of its time; then all that it started in its group is ended. What it says
// goes to out, up to a bound. says is why it failed, "" where it did not; err is that of running it at all.
func Run(ctx context.Context, t Task, out io.Writer) (says string, err error) {
	program := t.Words[0]
	switch {
	case filepath.IsAbs(program):
	case strings.ContainsRune(program, '/'):
		program = filepath.Join(t.Folder, filepath.FromSlash(program))
	default:
		found := ""
		for _, dir := range filepath.SplitList(paths()) {
			if at, err := exec.LookPath(filepath.Join(dir, program)); err == nil {
				found = at
				break
			}
		}
		if found == "" {
			return "there is no program " + text.Quote(program) + " on the PATH", nil
		}
		program = found
	}
	within, cancel := context.WithTimeout(ctx, t.Within)
	defer cancel()
	c := exec.CommandContext(within, program, t.Words[1:]...)
	c.Dir = t.Folder
	c.Env = []string{"PATH=" + paths()}
	for _, name := range passed {
		if v, set := os.LookupEnv(name); set {
			c.Env = append(c.Env, name+"="+v)
		}
	}
	c.Env = append(c.Env, t.More...)
	kept := &last{most: mostOutput}
	c.Stdout, c.Stderr = kept, kept
	c.WaitDelay = 2 * time.Second
	apart(c)
	err = c.Run()
	endGroup(c)
	if _, e := out.Write(kept.bytes()); e != nil {
		return "", e
	}
	var ended *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return "", ctx.Err()
	case within.Err() != nil:
		return fmt.Sprintf("it did not end within %s", t.Within), nil
	case err == nil, errors.Is(err, exec.ErrWaitDelay): // it ended; what it started in the background held its output
		return "", nil
	case errors.As(err, &ended):
		return "it ended with " + ended.String(), nil
	}
	return "it cannot be run: " + files.Plain(err), nil
}

// last keeps the end of what is written to it.
type last struct {
	kept []byte
	most int
	cut  bool
}

func (l *last) Write(p []byte) (int, error) {
	l.kept = append(l.kept, p...)
	if over := len(l.kept) - l.most; over > 0 {
		l.cut = true
		l.kept = append(l.kept[:0], l.kept[over:]...)
	}
	return len(p), nil
}

func (l *last) bytes() []byte {
	if l.cut {
		return append([]byte("(the beginning is left out)\n"), l.kept...)
	}
	return l.kept
}
