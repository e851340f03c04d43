// Package trial runs a command that the person named in a folder that was made for it. It
// never goes through a shell.
package trial

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// mostKept is how many bytes, and mostLines how many lines, of what a command says are
// kept: the last ones.
const (
	mostKept  = 16 << 10
	mostLines = 20
)

// Run runs a command in a folder, without git's own variables, and gives its exit code
// and its last lines. A program with a slash in its name is looked for from that folder.
func Run(ctx context.Context, dir string, words []string) (exit int, last []string, err error) {
	program, err := exec.LookPath(words[0])
	if strings.ContainsRune(words[0], filepath.Separator) {
		program, err = filepath.Join(dir, words[0]), nil
		if filepath.IsAbs(words[0]) {
			program = words[0]
		}
	}
	if err != nil {
		return 0, nil, fault.New(fault.Failed, "there is no program %s on the PATH", text.Quote(words[0])).Because(err)
	}
	c := exec.CommandContext(ctx, program, words[1:]...)
	c.Dir = dir
	for _, kv := range os.Environ() {
		if !strings.HasPrefix(kv, "GIT_") && !strings.HasPrefix(kv, "PWD=") {
			c.Env = append(c.Env, kv)
		}
	}
	out := &end{}
	c.Stdout, c.Stderr = out, out
	c.WaitDelay = 5 * time.Second
	err = c.Run()
	if ctx.Err() != nil {
		return 0, nil, ctx.Err()
	}
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		return 0, nil, fault.New(fault.Failed, "%s cannot be run", text.Quote(words[0])).Because(err)
	}
	return c.ProcessState.ExitCode(), out.lines(), nil
}

// end keeps the end of what a command says.
type end struct{ kept []byte }

func (e *end) Write(p []byte) (int, error) {
	e.kept = append(e.kept, p...)
	if over := len(e.kept) - mostKept; over > 0 {
		e.kept = slices.Clone(e.kept[over:])
	}
	return len(p), nil
}

func (e *end) lines() []string {
	out := []string{}
	for line := range strings.SplitSeq(strings.TrimRight(string(e.kept), "\n"), "\n") {
		if line != "" {
			out = append(out, text.Excerpt(strings.TrimRight(line, "\r"), 200))
		}
	}
	return out[max(0, len(out)-mostLines):]
}
