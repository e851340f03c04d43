package project

import (
	"context"
	"crypto/sha256"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/noise"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/openfiles"
)

// What is noise to git's packer is added as it is, in one pack or, where much of it is saved, in two: git copies it from there, now
// and later, without trying to make it smaller. All else is added as git always does it.

// Taking is a piece of work: files are taken into an index.
type Taking struct {
	Desk *desk.Desk
	Run  func(context.Context, git.Cmd) ([]byte, error)
	Env  []string                // names the index, where it is not the project's own
	How  []string                // of git-update-index, for what is not noise
	Size func(path string) int64 // a file's size, in bytes; nil where the files have to be asked
	All  bool                    // it may be all that git would take by itself, which it does faster
}

// How much is handed to git at a time, so that one sees how far it is.
const (
	mostBytes = 16 << 20
	mostFiles = 20_000
	mostNamed = 5_000 // paths of noise: git add compares each file with each path
	manyFiles = 2_000
	manyBytes = 32 << 20 // of noise, which is worth two runs of git
)

// Into takes paths into an index, noise first. They are from the top, with slashes.
func (x Taking) Into(ctx context.Context, f *Folder, paths []string) error {
	if x.Size == nil {
		x.Size = func(path string) int64 { return files.Size(filepath.Join(f.Path, filepath.FromSlash(path))) }
	}
	sizes, total := make([]int64, len(paths)), int64(0)
	for i, p := range paths {
		sizes[i] = max(x.Size(p), 0)
		total += sizes[i]
	}
	defer x.Desk.Tell.Progress("Adding", 0, 0, "")
	loud, err := noisy(ctx, f, paths, sizes)
	if err != nil {
		return err
	}
	done, err := x.noise(ctx, f, paths, loud, sizes, total)
	if err != nil {
		return err
	}
	if all, err := x.atOnce(ctx, f, paths, loud, total-done); all || err != nil {
		return err
	}
	var in strings.Builder
	n, bytes := 0, int64(0)
	give := func() error {
		if n == 0 {
			return nil
		}
		_, err := x.Run(ctx, git.Cmd{Env: x.Env, In: strings.NewReader(in.String()), Args: append(append([]string{"update-index"}, x.How...), "-z", "--stdin")})
		done += bytes
		in.Reset()
		n, bytes = 0, 0
		x.Desk.Tell.Progress("Adding", done, max(total, 1), text.Size(done)+" of "+text.Size(total))
		return err
	}
	for i, p := range paths {
		if loud[i] {
			continue
		}
		in.WriteString(p + "\x00")
		if n, bytes = n+1, bytes+sizes[i]; n == mostFiles || bytes >= mostBytes {
			if err := give(); err != nil {
				return err
			}
		}
	}
	return give()
}

// noise adds what is noise, and gives how much that is.
func (x Taking) noise(ctx context.Context, f *Folder, paths []string, loud []bool, sizes []int64, total int64) (int64, error) {
	var named []string
	sum := int64(0)
	for i, p := range paths {
		if loud[i] {
			named = append(named, p)
			sum += sizes[i]
		}
	}
	if sum == 0 {
		return 0, nil
	}
	if err := f.SweepPacks(); err != nil {
		return 0, err
	}
	stop := x.grows(f, sum, total)
	defer stop()
	if index, own := strings.CutPrefix(strings.Join(x.Env, ""), "GIT_INDEX_FILE="); own && len(x.Env) == 1 && sum >= manyBytes && len(named) > 1 && runtime.GOMAXPROCS(0) > 1 {
		if done, err := x.byTwo(ctx, index, named); done || err != nil {
			return sum, err
		}
	}
	return sum, x.asNoise(ctx, x.Env, named)
}

// asNoise adds paths as they are.
func (x Taking) asNoise(ctx context.Context, env, named []string) error {
	for some := range slices.Chunk(named, mostNamed) {
		// git-config documentation, core.bigFileThreshold and core.compression; git-add documentation, --pathspec-from-file
		_, err := x.Run(ctx, git.Cmd{Env: append([]string{"GIT_LITERAL_PATHSPECS=1"}, env...), In: strings.NewReader(strings.Join(some, "\x00") + "\x00"),
			Config: []git.Set{{Key: "core.bigFileThreshold", Value: "1"}, {Key: "core.compression", Value: "0"}, {Key: "pack.compression", Value: "0"}},
			Args:   []string{"add", "--force", "--pathspec-from-file=-", "--pathspec-file-nul"}})
		if err != nil {
			return err
		}
	}
	return nil
}

// byTwo lets two runs of git add one half each, the second to a copy of the index, and puts their entries together: git names each
// object by one processor. false where that cannot be, and all is to be added by one; what was written by then counts.
func (x Taking) byTwo(ctx context.Context, index string, named []string) (done bool, err error) {
	other := index + ".two"
	defer fault.Also(&err, func() error {
		if gone := os.Remove(other); !errors.Is(gone, fs.ErrNotExist) {
			return gone
		}
		return nil
	})
	if err := files.CopyFile(index, other); errors.Is(err, fs.ErrNotExist) {
		return false, nil // there is no index yet
	} else if err != nil {
		return false, err
	}
	halves := [2][]string{}
	for i, p := range named {
		halves[i%2] = append(halves[i%2], p)
	}
	both, within := errgroup.WithContext(ctx)
	both.Go(func() error { return x.asNoise(within, x.Env, halves[0]) })
	both.Go(func() error { return x.asNoise(within, []string{"GIT_INDEX_FILE=" + other}, halves[1]) })
	if err := both.Wait(); err != nil {
		return false, err
	}
	return git.MergeIndex(index, other, halves[1])
}

// atOnce lets git take in very many small files by itself, where they are just those that it would take; false where they
// are not, or are few.
func (x Taking) atOnce(ctx context.Context, f *Folder, paths []string, loud []bool, bytes int64) (bool, error) {
	wanted := make(map[string]bool, len(paths))
	n := 0
	for i, p := range paths {
		wanted[p] = true
		if !loud[i] {
			n++
		}
	}
	if !x.All || n < manyFiles || bytes/int64(n) > mostBytes/256 {
		return false, nil
	}
	same := func(args ...string) (bool, error) {
		out, err := x.Run(ctx, git.Cmd{Env: x.Env, Args: append([]string{"ls-files", "-z"}, args...)})
		for _, p := range git.SplitNUL(out) {
			if err == nil && !wanted[p] {
				return false, nil
			}
		}
		return err == nil, err
	}
	if would, err := same("--cached", "--others", "--exclude-standard"); !would || err != nil {
		return false, err
	}
	x.Desk.Tell.Progress("Adding", 0, max(bytes, 1), text.Size(bytes))
	if _, err := x.Run(ctx, git.Cmd{Env: x.Env, Args: []string{"add", "--all"}}); err != nil {
		return false, err
	}
	did, err := x.Run(ctx, git.Cmd{Env: x.Env, Args: []string{"ls-files", "-z", "--cached"}})
	if err != nil {
		return false, err
	}
	var extra strings.Builder // what came meanwhile
	for _, p := range git.SplitNUL(did) {
		if !wanted[p] {
			extra.WriteString(p + "\x00")
		}
		delete(wanted, p)
	}
	if extra.Len() > 0 {
		if _, err := x.Run(ctx, git.Cmd{Env: x.Env, In: strings.NewReader(extra.String()), Args: []string{"update-index", "--force-remove", "-z", "--stdin"}}); err != nil {
			return false, err
		}
	}
	return len(wanted) == 0, nil // what is missing is named then
}

// grows tells how far git is that writes a pack, or two, by their size.
func (x Taking) grows(f *Folder, sum, total int64) (stop func()) {
	end, ended := make(chan struct{}), make(chan struct{})
	_, common, err := git.Folders(f.Path)
	folder := filepath.Join(common, "objects", "pack")
	go func() {
		defer close(ended)
		tick := time.NewTicker(200 * time.Millisecond)
		defer tick.Stop()
		for err == nil {
			select {
			case <-end:
				return
			case <-tick.C:
			}
			names, _ := files.Names(folder) // it may not be there yet
			done := int64(0)
			for _, n := range names {
				if strings.HasPrefix(n, packing) {
					done += max(files.Size(filepath.Join(folder, n)), 0)
				}
			}
			if done = min(done, sum); done > 0 {
				x.Desk.Tell.Progress("Adding", done, total, text.Size(done)+" of "+text.Size(total))
			}
		}
	}()
	return func() { close(end); <-ended }
}

// packing is how the name of a pack begins that git is writing.
const packing = "tmp_pack_"

// noisy finds the paths whose content is noise. One of which a part is in another one too is left to git, which stores what
// they have in common once; so is one that passes through a filter.
func noisy(ctx context.Context, f *Folder, paths []string, sizes []int64) ([]bool, error) {
	type look struct {
		digest [][sha256.Size]byte
		noise  bool
	}
	looks := make([]look, len(paths))
	work, within := errgroup.WithContext(ctx)
	work.SetLimit(runtime.GOMAXPROCS(0))
	for i, p := range paths {
		full := filepath.Join(f.Path, filepath.FromSlash(p))
		at := noise.Places(sizes[i])
		if at == nil {
			continue
		}
		work.Go(func() error {
			samples, err := files.Samples(full, at, noise.SampleSize)
			if err != nil || within.Err() != nil {
				return within.Err() // git finds what is wrong with it
			}
			x := look{noise: true}
			for k := len(samples) - 1; k >= 0 && x.noise; k-- {
				x.noise = noise.Is(samples[k], k == 0)
				x.digest = append(x.digest, sha256.Sum256(samples[k]))
			}
			looks[i] = x
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return nil, err
	}
	seen := map[[sha256.Size]byte]int{}
	for _, x := range looks {
		if x.noise {
			for _, s := range x.digest {
				seen[s]++
			}
		}
	}
	loud := make([]bool, len(paths))
	var named []string
	for i, x := range looks {
		if loud[i] = x.noise && !common(x.digest, seen); loud[i] {
			named = append(named, paths[i])
		}
	}
	filtered, err := filtered(ctx, f, named)
	for i, p := range paths {
		loud[i] = loud[i] && !filtered[p]
	}
	return loud, err
}

func common(digests [][sha256.Size]byte, seen map[[sha256.Size]byte]int) bool {
	for _, s := range digests {
		if seen[s] > 1 {
			return true
		}
	}
	return false
}

// filtered finds the paths that pass through a filter, such as large-file storage's (gitattributes documentation).
func filtered(ctx context.Context, f *Folder, paths []string) (map[string]bool, error) {
	if len(paths) == 0 {
		return nil, nil
	}
	words, err := f.Repo.Run(ctx, git.Cmd{Args: []string{"check-attr", "-z", "--stdin", "filter"}, In: strings.NewReader(strings.Join(paths, "\x00") + "\x00")})
	if err != nil {
		return nil, git.Fault(err, "git cannot tell through which filters files pass")
	}
	out := map[string]bool{}
	told := git.SplitNUL(words) // path, attribute and value
	for i := 0; i+2 < len(told); i += 3 {
		out[told[i]] = told[i+2] != "unspecified" && told[i+2] != "unset"
	}
	return out, nil
}

// SweepPacks removes what is left of packs that were being written when a run was killed: no program has them open.
func (f *Folder) SweepPacks() error {
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return err
	}
	folder := filepath.Join(common, "objects", "pack")
	names, err := files.Names(folder)
	if err != nil {
		return nil // there is none yet
	}
	left := slices.DeleteFunc(names, func(n string) bool { return !strings.HasPrefix(n, packing) })
	if len(left) == 0 {
		return nil
	}
	open, known := openfiles.Below(folder)
	for _, n := range left {
		if _, is := open[filepath.Join(folder, n)]; known && !is {
			if err := files.Remove(filepath.Join(folder, n)); err != nil {
				return err
			}
		}
	}
	return nil
}
