package main

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
)

// bigWork is a project with much that cannot be made smaller.
type bigWork struct {
	what, bound string
	files       int
	size        int // of a file, in bytes
	noise       int // of a hundred files how many are noise; the others are text
	pairs       int
}

// bigNoise is the biggest project.
func bigNoise(pairs int) bigWork {
	return bigWork{"attach, 600 MB of noise in 120 files", "0.25", 120, 5_000_000, 100, pairs}
}

// bigs attaches big projects, and saves into them, against git by hand: add, one call that makes the repository, commit, push.
// small leaves all out but the one of small files.
func (b *bench) bigs(pairs int, small bool) error {
	works := []bigWork{
		bigNoise(min(pairs, 2)),
		{"attach, 1,700 pictures of 60 kB", "0.5", 1700, 60_000, 100, min(pairs, 3)},
		{"attach, mixed work: 2,000 files of 50 kB, a third noise", "1.0", 2000, 50_000, 33, min(pairs, 3)},
		{"attach, 50,000 small files", "1.15", 50_000, 300, 0, max(pairs, 4)}, // git add alone takes from 2 s to 6 s from one time to the next
	}
	for k, w := range works {
		if small && w.noise > 0 {
			continue
		}
		var ours, hand []string
		prepare := func(i int) error {
			for _, side := range []struct {
				to   *[]string
				name string
			}{{&ours, fmt.Sprintf("big%d-%d", k, i)}, {&hand, fmt.Sprintf("big%d-%d-by-hand", k, i)}} {
				dir := filepath.Join(b.top, side.name)
				if err := w.write(dir, uint64(2*i)); err != nil {
					return err
				}
				*side.to = append(*side.to, dir)
			}
			return nil
		}
		err := compare(w.what, w.bound, w.pairs, prepare, func(i int) error { return b.command(ours[i], "", b.program, "attach", "--yes") },
			func(i int) error { return b.handAttach(hand[i]) })
		if err != nil {
			return err
		}
		if err := packed(ours[0], hand[0]); err != nil {
			return err
		}
		if k == 0 {
			if err := b.bigClone(filepath.Base(ours[0]), 3); err != nil {
				return err
			}
		}
		for _, dir := range append(ours, hand...) {
			if err := os.RemoveAll(dir); err != nil {
				return err
			}
		}
	}
	if small {
		return nil
	}
	return b.bigSave(pairs)
}

// clones attaches the biggest project and clones it.
func (b *bench) clones(pairs int) error {
	dir := filepath.Join(b.top, "big")
	if err := errors.Join(bigNoise(1).write(dir, 0), b.command(dir, "", b.program, "attach", "--yes")); err != nil {
		return err
	}
	return b.bigClone("big", pairs)
}

// bigClone clones a big project that was attached, against git clone.
func (b *bench) bigClone(name string, pairs int) error {
	at := strings.Replace(b.host.URL, "//", "//tern:"+b.token+"@", 1) + "/tern/" + name + ".git"
	folder := func(side string, i int) string { return fmt.Sprintf("clone-%s-%d", side, i) }
	err := compare("clone of the same 600 MB", "1.1", pairs, func(int) error { return nil },
		func(i int) error { return b.command(b.top, "", b.program, "clone", name, folder("ours", i)) },
		func(i int) error { return b.command(b.top, "", "git", "clone", "-q", at, folder("hand", i)) })
	for i := range pairs {
		err = errors.Join(err, os.RemoveAll(filepath.Join(b.top, folder("ours", i))), os.RemoveAll(filepath.Join(b.top, folder("hand", i))))
	}
	return err
}

// bigSave saves 200 MB of noise, against git add and commit.
func (b *bench) bigSave(pairs int) error {
	ours, hand := filepath.Join(b.top, "save"), filepath.Join(b.top, "save-by-hand")
	w := bigWork{files: 40, size: 5_000_000, noise: 100}
	for _, dir := range []string{ours, hand} {
		if err := errors.Join(os.MkdirAll(dir, 0o755), b.command(dir, "", "git", "init", "-q", "-b", "main"), b.command(dir, "", "git", "config", "user.name", "T"), b.command(dir, "", "git", "config", "user.email", "t@skerry.example")); err != nil {
			return err
		}
	}
	return compare("save, 200 MB of noise", "0.4", min(pairs, 3), func(i int) error {
		return errors.Join(w.write(filepath.Join(ours, strconv.Itoa(i)), uint64(100+i)), w.write(filepath.Join(hand, strconv.Itoa(i)), uint64(100+i)))
	}, func(i int) error { return b.command(ours, "", b.program, "save", "--many", "--message", "More") },
		func(i int) error {
			return errors.Join(b.command(hand, "", "git", "add", "-A"), b.command(hand, "", "git", "commit", "-q", "-m", "More"))
		})
}

// write makes the project's files.
func (w bigWork) write(dir string, seed uint64) error {
	r := rand.New(rand.NewPCG(seed, 7))
	data := make([]byte, w.size)
	for i := range w.files {
		path := filepath.Join(dir, fmt.Sprintf("part%02d", i/100), fmt.Sprintf("%05d.bin", i))
		if i%100 < w.noise {
			for k := 0; k+8 <= len(data); k += 8 {
				v := r.Uint64()
				for j := range 8 {
					data[k+j] = byte(v >> (8 * j))
				}
			}
		} else {
			line := fmt.Sprintf("reading %d of %d\n", i, r.Uint64())
			data = []byte(strings.Repeat(line, w.size/len(line)+1))[:w.size]
		}
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, data, 0o644)); err != nil {
			return err
		}
	}
	return nil
}

// packed prints how large both sides' objects are, as they are now and after a gc.
func packed(ours, hand string) error {
	size := func(dir string) (int64, error) {
		out, err := exec.Command("du", "-sk", filepath.Join(dir, ".git/objects")).Output()
		if err != nil {
			return 0, err
		}
		return strconv.ParseInt(strings.Fields(string(out))[0], 10, 64)
	}
	for _, dir := range []string{ours, hand} { // by hand it is loose until then
		if err := exec.Command("git", "-C", dir, "gc", "-q").Run(); err != nil {
			return err
		}
	}
	a, e1 := size(ours)
	h, e2 := size(hand)
	if err := errors.Join(e1, e2); err != nil {
		return err
	}
	fmt.Printf("| its objects after git gc | %d kB | %d kB | %.3f | 1.02 |\n", a, h, float64(a)/float64(h))
	return nil
}
