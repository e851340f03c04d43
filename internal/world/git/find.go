package git

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"sync"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

var versionLine = text.Pattern(`^git version (\d+)\.(\d+)(\S*)`)

// Known is a git program whose version was asked for: it is the same one as long as its path, its
// size in bytes and the time of its last change, in nanoseconds since 1970, are.
type Known struct {
	Path     string `json:"path"`
	Size     int64  `json:"size"`
	Modified int64  `json:"modified"`
	Version  string `json:"version"`
}

// Find looks at the git at a path, or the one on the PATH, and asks its version.
func Find(ctx context.Context, path string, log *slog.Logger) (*Git, error) {
	g, _, err := FindKnown(ctx, path, log, Known{})
	return g, err
}

// FindKnown is Find, and asks no version of the program that is known already. It gives what is known
// of the one that it found.
func FindKnown(ctx context.Context, path string, log *slog.Logger, known Known) (*Git, Known, error) {
	g, err := find(ctx, path, log)
	if err != nil {
		return nil, known, err
	}
	now := Known{Path: g.Path, Version: known.Version}
	real, err := filepath.EvalSymlinks(g.Path)
	if err == nil {
		now.Size, now.Modified, err = files.Stamp(real)
	}
	if err == nil && now == known && known.Version != "" {
		g.Version = known.Version
		return g, known, nil
	}
	if err := g.ask(ctx); err != nil {
		return nil, known, err
	}
	now.Version = g.Version
	return g, now, nil
}

// find looks where git is.
func find(ctx context.Context, path string, log *slog.Logger) (*Git, error) {
	said, err := path, error(nil)
	if path == "" {
		said = "git"
	}
	path, err = exec.LookPath(said)
	if err != nil && said != "git" {
		return nil, fault.New(fault.Failed, "there is no program at %s", text.Visible(said)).Because(err)
	}
	if err != nil {
		newer := (&Git{log: log, tops: &sync.Map{}}).newer(ctx)
		f := fault.New(fault.Failed, "git is not installed, or not on the PATH")
		if newer != nil {
			f = fault.New(fault.Failed, "git is not on the PATH")
		}
		return nil, newer.instead(f.Because(err))
	}
	return &Git{Path: path, log: log, tops: &sync.Map{}}, nil
}

// ask asks for the version, and refuses what is not git or is too old.
func (g *Git) ask(ctx context.Context) error {
	enough, err := g.version(ctx)
	if err != nil || enough {
		return err
	}
	return g.newer(ctx).instead(fault.New(fault.Failed, "git %s at %s is too old; version %d.%d or newer is needed", g.Version, text.Visible(g.Path), Least[0], Least[1]))
}

// instead lets a fault of git tell to use this one; where it is nil, to install one.
func (g *Git) instead(f *fault.Fault) error {
	if g != nil {
		return f.Try(fmt.Sprintf("git %s is here; to use it", g.Version), text.Command("uncinate", "settings", "set", "git", g.Path))
	}
	return f.Try("on Debian and its kin", "sudo apt install git")
}

// version asks for the version and notes it; it reports whether that is new enough.
func (g *Git) version(ctx context.Context) (enough bool, err error) {
	path := g.Path
	out, err := g.Run(ctx, Cmd{Args: []string{"version"}})
	if err != nil {
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		return false, fault.New(fault.Failed, "%s does not run as git does", text.Visible(path)).Because(err)
	}
	m := versionLine().FindSubmatch(out)
	if m == nil {
		return false, fault.New(fault.Failed, "%s is not git: asked for its version it says %q", text.Visible(path), text.Excerpt(string(out), 60))
	}
	major, _ := strconv.Atoi(string(m[1]))
	minor, _ := strconv.Atoi(string(m[2]))
	g.Version = fmt.Sprintf("%d.%d%s", major, minor, m[3])
	return major > Least[0] || major == Least[0] && minor >= Least[1], nil
}

// newer looks through the PATH, and where systems have git, for one that is new enough; nil if there is none.
func (g *Git) newer(ctx context.Context) *Git {
	asked := []string{filepath.Dir(g.Path)}
	for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/local/bin", "/usr/bin") {
		if !filepath.IsAbs(dir) || slices.Contains(asked, dir) || len(asked) > 20 {
			continue
		}
		asked = append(asked, dir)
		path, err := exec.LookPath(filepath.Join(dir, "git"))
		if err != nil {
			continue
		}
		other := &Git{Path: path, log: g.log, tops: g.tops}
		if enough, err := other.version(ctx); err == nil && enough {
			return other
		}
	}
	return nil
}
