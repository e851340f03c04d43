package git

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/world/files"
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

// HashAs gives the id that git gives to a file that lies elsewhere and would be at a path of the
// repository (git-hash-object documentation, --path).
func (w *Work) HashAs(ctx context.Context, file, path string) (string, error) {
	return w.Do(ctx, "hash-object", "--path="+path, "--", file)
}

// mostMarks is how much of what fast-import notes is read, in bytes: of a million files.
const mostMarks = 64 << 20

// HashPaths gives the ids that git would give to files, as its filters read them in, by one run of a
// command like c (git-hash-object documentation, --stdin-paths): paths have no line end, and do not
// begin with a quote. They are in order.
func HashPaths(ctx context.Context, run func(context.Context, Cmd) ([]byte, error), c Cmd, paths []string) ([]string, error) {
	c.In, c.Args = strings.NewReader(strings.Join(paths, "\n")+"\n"), []string{"hash-object", "--stdin-paths"}
	said, err := run(ctx, c)
	if err != nil {
		return nil, Fault(err, "git cannot look at the files")
	}
	ids := strings.Fields(string(said))
	if len(ids) != len(paths) {
		return nil, fault.New(fault.Failed, "git looked at %d files of %d", len(ids), len(paths))
	}
	return ids, nil
}

// HashAll keeps the contents of n files in the store by one run of git, in one pack, and gives their
// ids (git-fast-import documentation). next gives one after the other; they are held one at a time.
func (r *Repo) HashAll(ctx context.Context, n int, next func(i int) ([]byte, error)) (ids []string, err error) {
	if n == 0 {
		return nil, nil
	}
	marks, done, err := files.Temporary("uncinate-marks-", "")
	defer fault.Also(&err, done)
	if err != nil {
		return nil, err
	}
	in, out := io.Pipe()
	fed := make(chan error, 1)
	go func() {
		err := feed(out, n, next)
		fed <- err
		out.CloseWithError(err)
	}()
	_, err = r.Run(ctx, Cmd{Dir: r.Dir, In: in, Config: []Set{{"fastimport.unpackLimit", "1"}, {"pack.compression", "1"}},
		Args: []string{"fast-import", "--quiet", "--done", "--depth=0", "--export-marks=" + marks}})
	in.CloseWithError(io.ErrClosedPipe) // where git ended before it had read all
	if cause := <-fed; cause != nil && (err == nil || cause != io.ErrClosedPipe) {
		return nil, cause
	}
	if err != nil {
		return nil, err
	}
	said, err := files.Read(marks, mostMarks)
	if err != nil {
		return nil, err
	}
	ids = make([]string, n)
	for line := range strings.Lines(string(said)) { // ":MARK ID"
		mark, id, _ := strings.Cut(strings.TrimSpace(line), " ")
		i, err := strconv.Atoi(strings.TrimPrefix(mark, ":"))
		if err != nil || i < 1 || i > n || !IsID(id) {
			return nil, fmt.Errorf("git fast-import notes %q", line)
		}
		ids[i-1] = id
	}
	for i, id := range ids {
		if id == "" {
			return nil, fmt.Errorf("git fast-import does not tell the id of file %d", i+1)
		}
	}
	return ids, nil
}

// feed writes a stream of blobs.
func feed(to io.Writer, n int, next func(i int) ([]byte, error)) error {
	w := bufio.NewWriterSize(to, 256<<10)
	for i := range n {
		data, err := next(i)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "blob\nmark :%d\ndata %d\n", i+1, len(data)); err != nil {
			return err
		}
		if _, err := w.Write(data); err != nil {
			return err
		}
		if err := w.WriteByte('\n'); err != nil {
			return err
		}
	}
	if _, err := w.WriteString("done\n"); err != nil {
		return err
	}
	return w.Flush()
}
