// Command bench measures the program against the same work done by hand with plain
// git, pair by pair in one run, and prints ratios. Run it by: make bench
package main

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"uncinate/internal/practice"
)

func main() {
	program := flag.String("program", "build/uncinate", "the built program")
	pairs := flag.Int("pairs", 5, "how many pairs of each")
	only := flag.String("only", "", "measure only attach, big, branches, claims, clone, daily, fleets, foresee, lists, offers, people, rings, save, small, step, survey, undo, version or findings")
	way := flag.String("way", "", "of fleets, measure only this way of asking, such as \"one SSH connection\"")
	table := flag.Bool("table", false, "measure nothing; write the table of docs/benchmarks.md from bench/latest.json")
	flag.Parse()
	debug.SetGCPercent(400) // as the program sets it
	err := error(nil)
	if *table {
		var all []row
		if all, err = recorded(); err == nil {
			err = publish(all)
		}
	} else {
		err = run(*program, *pairs, *only, *way)
		err = errors.Join(err, record()) // also what was measured before something went wrong
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// bench is one run: a practice host and a home folder, in a temporary folder.
type bench struct {
	top, program, token string
	way                 string // of asking many projects; "" for all
	env                 []string
	host                *practice.Running
}

func run(program string, pairs int, only, way string) (err error) {
	top, err := os.MkdirTemp("", "uncinate-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(top)
	b := &bench{top: top, way: way}
	if b.program, err = filepath.Abs(program); err != nil {
		return err
	}
	if b.host, err = practice.Start("gannet", filepath.Join(top, "gannet"), "127.0.0.1:0", nil); err != nil {
		return err
	}
	defer b.host.Close()
	tokens, err := b.host.Demo()
	if err != nil {
		return err
	}
	b.token = tokens[0].Secret
	b.env = []string{"HOME=" + top, "UNCINATE_HOME=" + filepath.Join(top, "home"), "PATH=" + os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1", "GIT_TERMINAL_PROMPT=0"}
	for _, c := range [][]string{{"host", "add", "gannet", "--at", b.host.URL}, {"vault", "make", "--by", "file"}, {"account", "add", "--host", "gannet"}} {
		if err := b.command(top, b.token, b.program, c...); err != nil {
			return err
		}
	}
	size, err := os.Stat(b.program)
	if err != nil {
		return err
	}
	fmt.Printf("binary: %.1f MB\n\n| what | ours, median | by hand, median | ratio | bound |\n|---|---|---|---|---|\n", float64(size.Size())/1e6)
	switch only {
	case "lists":
		return b.lists(pairs)
	case "daily":
		return b.daily(min(pairs, 3))
	case "fleets":
		return b.fleets(min(pairs, 3))
	case "branches":
		if err := b.switches(pairs); err != nil {
			return err
		}
		return b.listed(pairs)
	case "foresee":
		return b.foresee(pairs)
	case "save":
		return b.bigSave(pairs)
	case "big":
		return b.bigs(pairs, false)
	case "clone":
		return b.clones(pairs)
	case "small":
		return b.bigs(pairs, true)
	case "version":
		return b.version(pairs * 8)
	case "attach":
		return b.attaches(pairs)
	case "step":
		return b.inStep(pairs)
	case "undo":
		return b.undo(pairs)
	case "claims":
		return b.claims(pairs)
	case "rings":
		return b.rings()
	case "people":
		return b.people(pairs)
	case "offers":
		return b.offers(pairs)
	case "survey":
		if err := b.surveys(pairs); err != nil {
			return err
		}
		return findings()
	case "findings":
		return findings()
	}
	if err := b.attaches(pairs); err != nil {
		return err
	}
	if err := b.lists(pairs); err != nil {
		return err
	}
	if err := b.version(pairs * 8); err != nil {
		return err
	}
	if err := b.surveys(min(pairs, 3)); err != nil {
		return err
	}
	if err := findings(); err != nil {
		return err
	}
	if err := b.switches(min(pairs, 3)); err != nil {
		return err
	}
	if err := b.listed(min(pairs, 3)); err != nil {
		return err
	}
	if err := errors.Join(b.foresee(min(pairs, 5)), b.inStep(min(pairs, 5)), b.bigs(min(pairs, 2), false), b.undo(min(pairs, 5)), b.claims(pairs), b.people(pairs), b.offers(min(pairs, 5))); err != nil {
		return err
	}
	if err := b.daily(min(pairs, 3)); err != nil {
		return err
	}
	return checks()
}

func (b *bench) attaches(pairs int) error {
	return compare("attach, 5,000 files, 50 MB", "1.15", pairs, b.prepare, b.attach, b.byHand)
}

func (b *bench) version(pairs int) error {
	return timed("version", "3", pairs, func() error { return nil }, func(int) error { return nil }, // of milliseconds, as it is when one works
		func(int) error { return b.command(b.top, "", b.program, "version") },
		func(int) error { return b.command(b.top, "", "git", "--version") })
}

// compare times pairs, in turn first one and then the other, and prints a row. What
// prepare does is not timed. Each begins with nothing left to be written from before.
func compare(what, bound string, pairs int, prepare, ours, theirs func(int) error) error {
	settle := func() error { return errors.Join(exec.Command("sync").Run(), forgetPeak()) }
	return timed(what, bound, pairs, settle, prepare, ours, theirs)
}

// timed times pairs, each side after settle.
func timed(what, bound string, pairs int, settle func() error, prepare, ours, theirs func(int) error) error {
	var a, b []float64
	for i := range pairs {
		if err := prepare(i); err != nil {
			return err
		}
		order := []struct {
			to *[]float64
			do func(int) error
		}{{&a, ours}, {&b, theirs}}
		if i%2 == 1 {
			slices.Reverse(order)
		}
		for _, o := range order {
			if err := settle(); err != nil {
				return err
			}
			began := time.Now()
			if err := o.do(i); err != nil {
				return err
			}
			*o.to = append(*o.to, time.Since(began).Seconds())
		}
	}
	var ratios []float64
	for i := range a {
		ratios = append(ratios, a[i]/b[i])
	}
	fmt.Printf("| %s | %.4f s | %.4f s | %.3f | %s |\n", what, median(a), median(b), median(ratios), bound)
	keep(what, bound, pairs, median(a), median(b), median(ratios))
	return nil
}

// median is the middle one, or the mean of the two in the middle.
func median(x []float64) float64 {
	x = slices.Clone(x)
	slices.Sort(x)
	return (x[len(x)/2] + x[(len(x)-1)/2]) / 2
}

func (b *bench) command(dir, in, name string, args ...string) error {
	c := exec.Command(name, args...)
	c.Dir, c.Env, c.Stdin = dir, b.env, strings.NewReader(in)
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("%s %v: %w\n%s", filepath.Base(name), args, err, out)
	}
	return nil
}

// project writes 5,000 files of 10 kB, half of each text and half noise.
func (b *bench) project(name string, seed uint64) (string, error) {
	dir := filepath.Join(b.top, name)
	random := rand.New(rand.NewPCG(seed, 2))
	for i := range 5000 {
		path := filepath.Join(dir, fmt.Sprintf("part%02d/reading%04d.dat", i/100, i))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return "", err
		}
		data := make([]byte, 10_000)
		for j := range data {
			if j < 5000 {
				data[j] = "tide level pier 3.41 m rising\n"[j%30]
			} else {
				data[j] = byte(random.Uint32())
			}
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			return "", err
		}
	}
	return dir, nil
}

// prepare writes the projects of a pair, alike.
func (b *bench) prepare(i int) error {
	for _, kind := range []string{"ours", "hand"} {
		if _, err := b.project(fmt.Sprintf("%s-%d", kind, i), uint64(i)); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) attach(i int) error {
	return b.command(filepath.Join(b.top, fmt.Sprintf("ours-%d", i)), "", b.program, "attach", "--yes")
}

// byHand does the same with git init, add, commit, one HTTP call and git push.
func (b *bench) byHand(i int) error {
	return b.handAttach(filepath.Join(b.top, fmt.Sprintf("hand-%d", i)))
}

// handAttach publishes a folder by hand.
func (b *bench) handAttach(dir string) error {
	name := filepath.Base(dir)
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "-A"}, {"-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "First"}} {
		if err := b.command(dir, "", "git", args...); err != nil {
			return err
		}
	}
	q, err := http.NewRequest("POST", b.host.URL+"/deck/hulls", bytes.NewReader([]byte(`{"flag":"tern","name":"`+name+`","reach":"hold","main":"main"}`)))
	if err != nil {
		return err
	}
	q.Header.Set("Gannet-Token", b.token)
	r, err := http.DefaultClient.Do(q)
	if err != nil {
		return err
	}
	r.Body.Close()
	at := strings.Replace(b.host.URL, "://", "://tern:"+b.token+"@", 1) + "/tern/" + name + ".git"
	return b.command(dir, "", "git", "push", "-q", at, "main")
}
