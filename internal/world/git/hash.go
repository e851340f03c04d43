package git

import (
	"context"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Hash gives the id of a blob of these contents, and keeps it in the store if told to
// (git-hash-object's page).
func (r *Repo) Hash(ctx context.Context, contents io.Reader, keep bool) (string, error) {
	args := []string{"hash-object", "--stdin"}
	if keep {
		args = append(args, "-w")
	}
	out, err := r.Run(ctx, Cmd{Dir: r.Dir, Args: args, In: contents})
	return strings.TrimSpace(string(out)), err
}

// HashFile gives the id that git gives to a file of the work tree as it is, with the
// repository's own conversions as Safe allows them. A symbolic link is not followed: its id is
// that of its target's name.
func (r *Repo) HashFile(ctx context.Context, path string) (string, error) {
	full := filepath.Join(r.Dir, filepath.FromSlash(path))
	s, err := os.Lstat(full)
	if err != nil {
		return "", err
	}
	if s.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(full)
		if err != nil {
			return "", err
		}
		return r.Hash(ctx, strings.NewReader(target), false)
	}
	return r.Do(ctx, "hash-object", "--", path)
}
