package git

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"uncinate/internal/core/gitconfig"
	"uncinate/internal/world/files"
)

// What is read of a repository's own files at most: a process for each of hundreds of
// projects would cost more than all else.
const (
	mostRefs   = 1 << 20
	mostPacked = 256 << 20
	mostLine   = 64 << 10
)

// ErrOtherForm says that a repository keeps its refs in a form that only git reads.
var ErrOtherForm = errors.New("the refs are not kept in files")

// Folders finds a work tree's git folder, and the one that it shares with other work trees
// of the same repository (gitrepository-layout documentation).
func Folders(top string) (own, common string, err error) {
	own = filepath.Join(top, ".git")
	s, err := os.Lstat(own)
	if err != nil {
		return "", "", err
	}
	if !s.IsDir() {
		line, err := firstLine(own)
		target, found := strings.CutPrefix(line, "gitdir: ")
		if err != nil || !found {
			return "", "", errors.Join(err, fmt.Errorf("%s names no git folder", own))
		}
		if own = filepath.FromSlash(target); !filepath.IsAbs(own) {
			own = filepath.Join(top, own)
		}
	}
	common = own
	if line, err := firstLine(filepath.Join(own, "commondir")); err == nil {
		if common = filepath.FromSlash(line); !filepath.IsAbs(common) {
			common = filepath.Join(own, common)
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", "", err
	}
	return own, common, nil
}

func firstLine(path string) (string, error) {
	f, err := files.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	line, err := bufio.NewReader(io.LimitReader(f, mostLine)).ReadString('\n')
	if err == io.EOF {
		err = nil
	}
	return strings.TrimRight(line, "\r\n"), err
}

// ReadHead gives the branch that a work tree's HEAD stands for, "" for none.
func ReadHead(own string) (string, error) {
	line, err := firstLine(filepath.Join(own, "HEAD"))
	if err != nil {
		return "", err
	}
	branch, _ := strings.CutPrefix(line, "ref: refs/heads/")
	if branch == line {
		return "", nil
	}
	return branch, nil
}

// Elsewhere gives the work tree, other than the one whose git folder is own, in which a branch is
// checked out; "" for none (gitrepository-layout documentation, worktrees/).
func Elsewhere(own, common, branch string) (string, error) {
	if own != common {
		if b, err := ReadHead(common); err == nil && b == branch {
			return filepath.Dir(common), nil
		}
	}
	names, err := files.Names(filepath.Join(common, "worktrees"))
	if err != nil {
		return "", err
	}
	for _, name := range names {
		other := filepath.Join(common, "worktrees", name)
		if other == own {
			continue
		}
		if b, err := ReadHead(other); err == nil && b == branch {
			line, err := firstLine(filepath.Join(other, "gitdir"))
			if top := filepath.Dir(filepath.FromSlash(line)); err == nil && files.Reached(top) == files.Folder {
				return top, nil
			}
		}
	}
	return "", nil
}

// ReadRefs reads the refs of a repository without running git: loose ones and packed ones
// (gitrepository-layout documentation; the packed file's form is in git-pack-refs'). Those
// that stand for another ref, such as refs/remotes/origin/HEAD, are left out.
func ReadRefs(common string) (map[string]string, error) {
	if _, err := os.Stat(filepath.Join(common, "reftable")); err == nil {
		return nil, ErrOtherForm
	}
	out := map[string]string{}
	if err := readPacked(filepath.Join(common, "packed-refs"), out); err != nil {
		return nil, err
	}
	err := filepath.WalkDir(filepath.Join(common, "refs"), func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case !e.Type().IsRegular() || strings.HasSuffix(path, ".lock"):
			return nil
		case len(out) > mostRefs:
			return fmt.Errorf("more than %d refs", mostRefs)
		}
		line, err := firstLine(path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it was packed meanwhile, or dropped
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(common, path)
		if err == nil && IsID(line) {
			out[filepath.ToSlash(rel)] = line
		}
		return err
	})
	return out, err
}

// readRef gives what a branch, one of a remote, or HEAD stands for, without running git; "" where
// that is not told by files alone, or there is none.
func readRef(top, name string) string {
	own, common, err := Folders(top)
	if err != nil || files.KindOf(filepath.Join(common, "reftable")) != files.None {
		return ""
	}
	if name == "HEAD" {
		line, err := firstLine(filepath.Join(own, "HEAD"))
		if err != nil || IsID(line) {
			return line
		}
		name, _ = strings.CutPrefix(line, "ref: ")
	}
	if !strings.HasPrefix(name, "refs/heads/") && !strings.HasPrefix(name, "refs/remotes/") || !filepath.IsLocal(filepath.FromSlash(name)) {
		return ""
	}
	line, err := firstLine(filepath.Join(common, filepath.FromSlash(name)))
	switch {
	case err == nil && IsID(line):
		return line
	case !errors.Is(err, fs.ErrNotExist):
		return "" // it stands for another one, or cannot be read
	}
	packed := map[string]string{}
	if readPacked(filepath.Join(common, "packed-refs"), packed) != nil {
		return "" // git tells why
	}
	return packed[name]
}

func readPacked(path string, into map[string]string) error {
	f, err := files.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(io.LimitReader(f, mostPacked))
	lines.Buffer(make([]byte, 4096), mostLine)
	for lines.Scan() {
		id, name, found := strings.Cut(lines.Text(), " ")
		if found && IsID(id) && len(into) < mostRefs {
			into[name] = id
		}
	}
	return lines.Err()
}

// LocalRefs gives the refs of the repository whose common folder is given, by git itself
// where they are in a form that only it reads.
func (r *Repo) LocalRefs(ctx context.Context, common string) (map[string]string, error) {
	out, err := ReadRefs(common)
	if !errors.Is(err, ErrOtherForm) {
		return out, err
	}
	list, err := r.Do(ctx, "for-each-ref", "--format=%(objectname) %(symref) %(refname)")
	if err != nil {
		return nil, err
	}
	out = map[string]string{}
	for line := range strings.Lines(list) {
		if fields := strings.Fields(line); len(fields) == 2 {
			out[fields[1]] = fields[0]
		}
	}
	return out, nil
}

// ReadConfig reads one file of git's configuration as it is, without what it includes:
// each key, as git names it, with all its values (git-config documentation, "Syntax").
func ReadConfig(path string) (map[string][]string, error) {
	f, err := files.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, 4<<20))
	out := map[string][]string{}
	for _, l := range gitconfig.Parse(string(data)) {
		out[l.Key] = append(out[l.Key], l.Value)
	}
	return out, err
}

// Own gives what a key has in the repository's own configuration, the last value where it has
// several; false for none. It is read without a run of git (git config --local --get).
func (r *Repo) Own(key string) (string, bool, error) {
	all, err := r.OwnAll(key)
	if err != nil || len(all) == 0 {
		return "", false, err
	}
	return all[len(all)-1], true, nil
}

// OwnAll gives all values of a key there (git config --local --get-all).
func (r *Repo) OwnAll(key string) ([]string, error) {
	_, common, err := Folders(r.Dir)
	if err != nil {
		return nil, nil // there is no repository yet
	}
	all, err := ReadConfig(filepath.Join(common, "config"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return all[key], err
}
