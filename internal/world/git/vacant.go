package git

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/world/files"
)

// Vacant asks an address where no commit is yet what its first branch is to be called, and how its objects are named; ""
// for what it does not say. Git tells the first only to a clone, and both only in what it writes of its talk (git's page,
// GIT_TRACE_PACKET). An older server tells the second only to who sends: sends says that this may be asked.
func (g *Git) Vacant(ctx context.Context, apart, address string, sends bool, config ...Set) (head, format string, err error) {
	dir, err := os.MkdirTemp(apart, "vacant-")
	if err != nil {
		return "", "", err
	}
	defer fault.Also(&err, func() error { return os.RemoveAll(dir) })
	talk, bare := filepath.Join(dir, "talk"), filepath.Join(dir, "it")
	said := func(args ...string) (string, error) {
		c := Cmd{Dir: dir, Env: []string{"GIT_CEILING_DIRECTORIES=" + apart, "GIT_TRACE_PACKET=" + talk}, Config: config, Stall: Stall, Args: args}
		if _, err := g.run(ctx, c, true, true); err != nil && (args[0] == "clone" || ctx.Err() != nil) {
			return "", err
		}
		text, err := files.ReadNamed(talk, 4<<20)
		return string(text), err
	}
	s, err := said("clone", "-q", "--bare", "--depth=1", "--no-tags", "--template=", "--", address, bare)
	if err != nil {
		return "", "", err
	}
	for line := range strings.Lines(s) {
		if _, after, found := strings.Cut(line, "< unborn HEAD symref-target:refs/heads/"); found {
			head = strings.TrimSpace(after)
		}
	}
	if format = formatIn(s); format == "" && sends { // a branch that is not there is taken away there, and only as a trial
		if s, err = said("--git-dir="+bare, "push", "--dry-run", "-q", "--", address, ":refs/heads/uncinate/none"); err != nil {
			return head, "", err
		}
		format = formatIn(s)
	}
	return head, format, nil
}

// formatIn finds in a talk what the other side said of its objects.
func formatIn(talk string) string {
	for line := range strings.Lines(talk) {
		if _, after, found := strings.Cut(line, "object-format="); found && strings.Contains(line, "< ") {
			return strings.Fields(after + " ?")[0]
		}
	}
	return ""
}
