package main

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"uncinate/internal/core/kinds"
	"uncinate/internal/core/secrets"
)

// surveys measures the survey of a large folder against a plain search of the same
// files for as many patterns, and of one that did not change against git status.
func (b *bench) surveys(pairs int) error {
	if _, err := exec.LookPath("rg"); err != nil {
		return fmt.Errorf("rg is missing; install it with: apt-get install ripgrep")
	}
	dir := filepath.Join(b.top, "large")
	if err := b.largeFolder(dir); err != nil {
		return err
	}
	args := []string{"-i", "-F", "-c", "--no-ignore", "--hidden", "--no-messages", "--glob", "!.git"}
	for _, p := range secrets.New([]string{dir, b.top}, []string{"plunge~"}).Patterns() {
		args = append(args, "-e", p)
	}
	search := func(int) error {
		c := exec.Command("rg", append(args, ".")...)
		c.Dir, c.Env = dir, b.env
		out, err := c.Output()
		if err != nil || !bytes.Contains(out, []byte(":")) {
			return fmt.Errorf("rg: %w", err)
		}
		return nil
	}
	var most int64 // kilobytes
	look := func(int) error {
		c := exec.Command(b.program, "survey", "--json", dir)
		c.Dir, c.Env = b.top, b.env
		out, err := c.Output()
		if err != nil || !bytes.Contains(out, []byte(`"findings"`)) {
			return fmt.Errorf("survey: %w", err)
		}
		most = max(most, memoryOf(c.ProcessState))
		return nil
	}
	forget := func(int) error { return os.RemoveAll(filepath.Join(b.top, "home/state/looked")) }
	if err := search(0); err != nil { // both find the files in memory
		return err
	}
	if err := compare("survey of 100,000 files, 600 MB", "1.3", pairs, forget, look, search); err != nil {
		return err
	}
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"config", "gc.auto", "0"}, {"add", "-A"}, {"-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "All"}, {"status", "--porcelain"}} {
		if err := b.command(dir, "", "git", args...); err != nil {
			return err
		}
	}
	if err := look(0); err != nil { // it is in git now, and known
		return err
	}
	if err := compare("survey again, nothing changed", "1.3", pairs, func(int) error { return nil }, look,
		func(int) error { return b.command(dir, "", "git", "--no-optional-locks", "status", "--porcelain") }); err != nil {
		return err
	}
	fmt.Printf("\nmost memory of a survey of 100,000 files: %d MB (bound: 200 MB)\n", most>>10)
	return b.hugeFile()
}

// hugeFile surveys a folder with one file of 2 GB of text.
func (b *bench) hugeFile() error {
	dir := filepath.Join(b.top, "huge")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(dir, "levels.log"))
	if err != nil {
		return err
	}
	part := bytes.Repeat([]byte("pier 3.41 m rising, battery 12.4 V, token of the day: none\n"), 1<<14)
	for n := 0; n < 2<<30; n += len(part) {
		if _, err := f.Write(part); err != nil {
			return err
		}
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := forgetPeak(); err != nil {
		return err
	}
	c := exec.Command(b.program, "survey", "--json", dir)
	c.Dir, c.Env = b.top, b.env
	began := time.Now()
	if out, err := c.Output(); err != nil || !bytes.Contains(out, []byte("levels.log")) {
		return fmt.Errorf("survey: %w", err)
	}
	fmt.Printf("one file of 2 GB: %d MB of memory, %.1f s\n", memoryOf(c.ProcessState)>>10, time.Since(began).Seconds())
	return os.RemoveAll(dir)
}

// largeFolder writes 100,000 files of 6 kB: sources, settings, tables and noise, in
// words of which some are those that are looked for.
func (b *bench) largeFolder(dir string) error {
	random := rand.New(rand.NewPCG(11, 12))
	words := strings.Fields("tide level pier skerry gauge reading station rising falling return if for int float string := == { } ( ) [ ] ; , . + - * / token secret password key name value error nil true false harbour mooring buoy channel depth metres hour minute day")
	endings := []string{".c", ".go", ".py", ".toml", ".md", ".csv", ".json", ".txt"}
	for i := range 100_000 {
		path := filepath.Join(dir, fmt.Sprintf("part%03d/unit%05d%s", i/250, i, endings[i%len(endings)]))
		if i%250 == 0 {
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return err
			}
		}
		data := make([]byte, 0, 6100)
		for len(data) < 6000 {
			if i%50 == 49 {
				data = append(data, byte(random.Uint32()))
				continue
			}
			data = append(data, words[random.IntN(len(words))]...)
			data = append(data, " \n"[min(1, random.IntN(9)/8)])
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// findings prints how well secrets are told from what looks like them, and made files
// from work, on labelled samples.
func findings() error {
	finder := secrets.New([]string{"/home/tern"}, []string{"plunge~"})
	buf := secrets.Buffer()
	random := rand.New(rand.NewPCG(21, 22))
	right, missed, wrong, quiet := 0, 0, 0, 0
	misses := map[string]int{}
	for range 200 {
		for _, s := range samples(random) {
			c, err := finder.Read(s.name, strings.NewReader(s.contents), buf)
			if err != nil {
				return err
			}
			switch found := len(c.Findings) > 0; {
			case found && s.secret:
				right++
			case found:
				wrong++
				misses["taken for one: "+s.what]++
			case s.secret:
				missed++
				misses["missed: "+s.what]++
			default:
				quiet++
			}
		}
	}
	fmt.Printf("\nsecrets: %d of %d found (recall %.3f), %d of %d findings right (precision %.3f), %d look-alikes\n",
		right, right+missed, float64(right)/float64(right+missed), right, right+wrong, float64(right)/float64(right+wrong), wrong+quiet)
	for _, m := range slices.Sorted(maps.Keys(misses)) {
		fmt.Printf("  %s: %d\n", m, misses[m])
	}
	if err := collected(finder, random); err != nil {
		return err
	}
	data, err := os.ReadFile("internal/core/kinds/testdata/projects.toml")
	if err != nil {
		return err
	}
	var labelled struct {
		Project []struct {
			Name                       string
			Work, Made, Personal, Also []string
		}
	}
	if err := toml.Unmarshal(data, &labelled); err != nil {
		return err
	}
	catalogue, err := kinds.Shipped()
	if err != nil {
		return err
	}
	made, found, work, lost := 0, 0, 0, 0
	for _, p := range labelled.Project {
		files := slices.Concat(p.Work, p.Made, p.Personal, p.Also)
		slices.Sort(files)
		taken := kinds.Suggest(catalogue, files, nil, kinds.Look{}).Taken
		for i, f := range files {
			if slices.Contains(p.Work, f) || slices.Contains(p.Also, f) {
				work++
				if taken[i] >= 0 {
					lost++
				}
				continue
			}
			made++
			if taken[i] >= 0 {
				found++
			}
		}
	}
	fmt.Printf("kinds: %d projects; %d of %d generated or personal files found, %d of %d files of work wrongly left out\n", len(labelled.Project), found, made, lost, work)
	return nil
}

// collected prints how well the forms are told that were collected from what others wrote.
func collected(finder *secrets.Finder, random *rand.Rand) error {
	data, err := os.ReadFile("internal/core/secrets/testdata/forms.tsv")
	if err != nil {
		return err
	}
	buf := secrets.Buffer()
	right, missed, wrong, quiet := 0, 0, 0, 0
	for range 50 {
		for line := range strings.Lines(string(data)) {
			p := strings.SplitN(strings.TrimSuffix(line, "\n"), "\t", 3)
			if len(p) < 3 {
				continue
			}
			value := drawn(random, p[0])
			c, err := finder.Read(p[1], strings.NewReader(strings.ReplaceAll(strings.ReplaceAll(p[2], `\t`, "\t"), "VALUE", value)+"\n"), buf)
			if err != nil {
				return err
			}
			switch found := len(c.Findings) > 0; {
			case p[0] == "none" && found:
				wrong++
			case p[0] == "none":
				quiet++
			case found:
				right++
			default:
				missed++
			}
		}
	}
	fmt.Printf("collected forms: %d of %d found (recall %.3f), precision %.3f, %d look-alikes\n", right, right+missed, float64(right)/float64(right+missed), float64(right)/float64(right+wrong), wrong+quiet)
	return nil
}

// drawn makes a value of a kind: a token, or a password as people make them.
func drawn(r *rand.Rand, kind string) string {
	draw := func(of string, n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = of[r.IntN(len(of))]
		}
		return string(b)
	}
	if kind == "token" {
		return draw(mixed, 24+8*r.IntN(3))
	}
	word := []string{"tide", "ebb", "pier", "skerry", "mooring", "harbour", "buoy", "gauge", "anchor", "lantern"}[r.IntN(10)]
	switch r.IntN(4) {
	case 0:
		return strings.ToUpper(word[:1]) + word[1:] + []string{"-reed", "_pier", "!salt", ".reed"}[r.IntN(4)] + draw("0123456789", 2)
	case 1:
		return word + draw("0123456789", 3)
	case 2:
		return draw(mixed, 12)
	}
	return draw(mixed+"!#%*-_+", 14)
}
