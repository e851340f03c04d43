// Package worktree changes the files of a project, and nothing else may. A Weaver tries out aside
// what two histories become; InWay says what is where files come in; a Rescuer keeps copies of
// what is overwritten or dropped, before it is; Lay brings the files in. Callers hold the
// folder's lock.
package worktree

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/openfiles"
)

// InWay sorts the files that are where others are to come, of which tree holds the contents:
// clash are those that hold work that is not saved. The others do not stop it: files that git
// was told to ignore, and new ones that are the same already. They are given back as way, and
// a rescue copy of them is kept first.
func InWay(ctx context.Context, f *project.Folder, st *git.Status, coming []string, w *git.Weaver, tree string) (clash, way []string, err error) {
	as := func(p string) string { return p }
	folds, err := f.FoldsCase(ctx)
	if err != nil {
		return nil, nil, err
	}
	if folds {
		as = naming.Fold
	}
	comes := map[string]bool{} // paths, and the folders above them
	for _, p := range coming {
		p = as(p)
		for comes[p] = true; ; {
			i := strings.LastIndexByte(p, '/')
			if i < 0 {
				break
			}
			p = p[:i]
			comes[p+"/"] = true
		}
	}
	meets := func(p string) bool {
		p = as(strings.TrimSuffix(p, "/"))
		if comes[p+"/"] {
			return true
		}
		for {
			if comes[p] {
				return true
			}
			i := strings.LastIndexByte(p, '/')
			if i < 0 {
				return false
			}
			p = p[:i]
		}
	}
	for _, e := range st.Entries {
		switch {
		case e.Inner: // what is in a repository inside is not touched
		case !meets(e.Path) && (e.From == "" || !meets(e.From)):
		case (e.Untracked() || asComing(f, e)) && holds(ctx, f, w, tree, e):
			if e.XY[1] != '.' { // else git's index has it as it comes in, and the file stays
				way = append(way, e.Path)
			}
		default:
			clash = append(clash, e.Path)
		}
	}
	for _, p := range st.Ignored {
		switch {
		case !meets(p):
		case strings.HasSuffix(p, "/"):
			clash = append(clash, p) // a repository of its own
		default:
			way = append(way, p)
		}
	}
	slices.Sort(clash)
	return clash, way, nil
}

// asComing reports whether a tracked file's change can be just what comes in: it is in the folder, and
// git's index has it either so or as in the last commit.
func asComing(f *project.Folder, e git.Entry) bool {
	return e.From == "" && !e.Submodule && e.Kind != "clashing" && !strings.Contains(e.XY, "D") && strings.Contains(e.XY, ".") && !files.Missing(at(f, e.Path))
}

// holds reports whether a tree has a file just as it is here; of a tracked one, its mode too.
func holds(ctx context.Context, f *project.Folder, w *git.Weaver, tree string, e git.Entry) bool {
	s, err := os.Lstat(at(f, e.Path))
	if err != nil {
		return false
	}
	id, err := f.Repo.HashFile(ctx, e.Path)
	if err != nil {
		return false
	}
	entry, err := w.Do(ctx, "", []string{"GIT_LITERAL_PATHSPECS=1"}, "ls-tree", tree, "--", e.Path)
	mode := modeOf(s)
	if e.Untracked() {
		mode, _, _ = strings.Cut(entry, " ")
	}
	return err == nil && strings.HasPrefix(entry, mode+" blob "+id+"\t")
}

// WrittenOver is the fault about files that hold work of the person's that is not saved.
func WrittenOver(paths []string) *fault.Fault {
	f := fault.New(fault.Decision, "%s here would be written over by what comes in, and %s not saved", text.Count(len(paths), "file"), desk.IsAre(len(paths)))
	desk.FirstOf(f, desk.Visible(paths))
	return f
}

// OpenFiles lists what programs have open; for many projects side by side it is looked at
// once in a while.
func OpenFiles(d *desk.Desk) map[string]openfiles.Process {
	if !d.Among {
		all, _ := openfiles.All() // where the system does not tell, nothing is known to be open
		return all
	}
	s := d.Common()
	s.Mu.Lock()
	defer s.Mu.Unlock()
	if now := time.Now(); now.Sub(s.OpenSince) > 500*time.Millisecond {
		s.Open, _ = openfiles.All()
		s.OpenSince = now
	}
	return s.Open
}

// HeldOpen says of which of a project's files a running program has open that would be replaced under it.
func HeldOpen(d *desk.Desk, f *project.Folder, paths []string) []string {
	open := OpenFiles(d)
	var out []string
	for _, p := range paths {
		if x, held := open[filepath.Join(f.Path, filepath.FromSlash(p))]; held {
			out = append(out, fmt.Sprintf("%s, by %s (process %d)", text.Visible(p), text.Visible(x.Name), x.ID))
		}
	}
	return out
}

// hasHook reports whether a hook of the person's may be; where a configuration leads to
// other folders, git tells.
func hasHook(f *project.Folder, name string) bool {
	for _, s := range f.Settings {
		if strings.EqualFold(s.Key, "core.hooksPath") {
			return true
		}
	}
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return true
	}
	return git.HasHook(common, name)
}
