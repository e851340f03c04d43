package rehearse

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/practice"
	"uncinate/internal/screen"
)

func tourCommand() *screen.Command {
	var named []string
	for _, c := range chapters {
		named = append(named, c.name+": "+c.title)
	}
	return &screen.Command{Name: "tour", Args: "[CHAPTER]...", Most: -1, Words: chapterNames(), Short: "run through the whole job on the practice hosts, in chapters",
		Long: `Starts practice hosts in a temporary folder and plays the job on machines of its own, in chapters:

` + strings.Join(named, ";\n") + `.

Without a name it plays all of them, and waits between them at a terminal. What a chapter needs of those before it is done unseen.
Every command is run for real and shown with its real output. Nothing of yours is touched, and nothing is left behind without --keep.`,
		Examples: []string{"uncinate tour", "uncinate tour every-day clashes"},
		Options: func(o *flag.FlagSet) screen.Run {
			keep := o.String("keep", "", "keep everything in this `folder` to look at")
			return func(ctx context.Context, e *screen.Env, names []string) error {
				chosen, err := chosenChapters(names)
				if err != nil {
					return err
				}
				return runTour(ctx, e, *keep, chosen)
			}
		}}
}

// machine is one of the computers that the tour plays: a home folder and this
// program's own folders of its own.
type machine struct {
	tour *tour
	name string
	home string
	at   string // the current folder
}

type tour struct {
	ctx      context.Context
	e        *screen.Env
	top      string
	program  string
	machines map[string]*machine
	gannet   *practice.Running
	tokens   []string        // of tern: for pier, for launch, one that ends soon, one in its place, for isle, for buoy
	done     map[string]bool // what was done, by the names of needs
	others   *others
	quiet    bool // what is done is not shown
}

func runTour(ctx context.Context, e *screen.Env, keep string, chosen []chapter) (err error) {
	if err := errors.Join(needGit(), needKeygen(chosen)); err != nil {
		return err
	}
	if entries, err := os.ReadDir(keep); keep != "" && err == nil && len(entries) > 0 {
		return fault.New(fault.Refused, "the folder %s is not empty", text.Visible(keep)).Try("name another", "uncinate tour --keep FOLDER")
	}
	top, clear, err := workshop(keep, "tour")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, clear()) }()
	program, err := os.Executable()
	if err != nil {
		return err
	}
	g, err := practice.Start("gannet", filepath.Join(top, "gannet"), "127.0.0.1:0", nil)
	if err != nil {
		return fault.New(fault.Failed, "the practice host cannot be started").Because(err)
	}
	defer func() { err = errors.Join(err, g.Close()) }()
	tokens, err := g.Demo()
	if err != nil {
		return err
	}
	year := tokens[0].Expires
	secrets := []string{tokens[0].Secret}
	for _, until := range []time.Time{year, time.Now().AddDate(0, 0, 6), year, year, year} {
		token, err := g.NewToken("tern", until)
		if err != nil {
			return err
		}
		secrets = append(secrets, token.Secret)
	}
	t := &tour{ctx: ctx, e: e, top: top, program: program, gannet: g, tokens: secrets, machines: map[string]*machine{}, done: map[string]bool{}}
	defer func() {
		if t.others != nil {
			err = errors.Join(err, t.others.petrel.Close())
		}
	}()
	e.Say("The practice host gannet runs at %s. The machines are new.", g.URL)
	for i, c := range chosen {
		if err := t.play(c); err != nil {
			return err
		}
		if i+1 < len(chosen) {
			if goes, err := e.GoOn(ctx, fmt.Sprintf("Next: %s (%s). Enter goes on, q ends here: ", chosen[i+1].name, chosen[i+1].title)); err != nil || !goes {
				return err
			}
		}
	}
	if t.done["cloned"] && t.done["in step"] {
		return t.compare()
	}
	e.Say("\nThe tour is over.")
	return nil
}

// play plays a chapter, after what it needs and was not done yet.
func (t *tour) play(c chapter) error {
	for _, need := range c.needs {
		if err := t.ready(need); err != nil {
			return err
		}
	}
	if c.name == "with-others" {
		var err error
		if t.others, err = t.startOthers(); err != nil {
			return err
		}
	}
	t.e.Say("\n%s", t.e.Strong(strings.ToUpper(c.name[:1])+c.name[1:]+": "+c.title))
	return t.scenes(c.scenes(t), c.does...)
}

// ready does unseen what a chapter needs.
func (t *tour) ready(need string) error {
	if t.done[need] {
		return nil
	}
	n := needs[need]
	for _, before := range n.after {
		if err := t.ready(before); err != nil {
			return err
		}
	}
	t.quiet = true
	defer func() { t.quiet = false }()
	return t.scenes(n.scenes(t), need)
}

func (t *tour) scenes(all []scene, does ...string) error {
	for _, s := range all {
		if s.about != "" && !t.quiet {
			t.e.Say("\n%s", s.about)
		}
		m, err := t.machine(s.m)
		if err != nil {
			return err
		}
		m.at = filepath.Join(m.home, s.cd)
		if err := m.run(s.line, s.in, s.exit); err != nil {
			return err
		}
	}
	for _, what := range does {
		t.done[what] = true
	}
	return nil
}

// scene is one line of the tour.
type scene struct {
	m     string // the machine
	about string // a heading
	cd    string
	line  string
	in    string // standard input
	exit  int    // the exit code that is meant to come
}

// compare looks for itself that both machines and the host hold the same.
func (t *tour) compare() error {
	pier, launch, g := t.machines["pier"], t.machines["launch"], t.gannet
	r, err := g.Store.Find("tern", "tern", "gauge-firmware")
	if err != nil {
		return err
	}
	var ids []string
	for _, dir := range []string{filepath.Join(pier.home, "gauge-firmware"), filepath.Join(launch.home, "gauge-firmware"), g.Store.GitDir(r.ID)} {
		c := exec.CommandContext(t.ctx, "git", "-C", dir, "rev-parse", "refs/heads/main")
		c.Env = pier.env()
		out, err := c.Output()
		if err != nil {
			return fault.New(fault.Failed, "the end of the tour cannot be checked in %s", dir).Because(err)
		}
		ids = append(ids, strings.TrimSpace(string(out)))
	}
	if ids[0] != ids[1] || ids[1] != ids[2] {
		return fault.New(fault.Failed, "the tour ended out of step: %s", strings.Join(ids, ", "))
	}
	t.e.Say("\npier, launch and gannet all have main at %.10s. The tour is over.", ids[0])
	return nil
}

// machine is the one of a name; the first time it is new, and on pier are the demo projects.
func (t *tour) machine(name string) (*machine, error) {
	if m := t.machines[name]; m != nil {
		return m, nil
	}
	m := &machine{tour: t, name: name, home: filepath.Join(t.top, name)}
	t.machines[name] = m
	err := os.MkdirAll(m.home, 0o700)
	if err == nil && name == "pier" {
		err = practice.WriteProjects(m.home)
	}
	return m, err
}

// env is a fresh machine's environment.
func (m *machine) env() []string {
	env := []string{"HOME=" + m.home, "UNCINATE_HOME=" + filepath.Join(m.home, ".uncinate"), "PATH=" + os.Getenv("PATH"), "TERM=" + os.Getenv("TERM"),
		"GIT_CONFIG_NOSYSTEM=1", "LC_ALL=C.UTF-8"}
	for _, name := range []string{"SYSTEMROOT", "TMPDIR", "NO_COLOR"} {
		if v := os.Getenv(name); v != "" {
			env = append(env, name+"="+v)
		}
	}
	if bold, width := m.tour.e.Terminal(); bold {
		env = append(env, "CLICOLOR_FORCE=1", "COLUMNS="+strconv.Itoa(width))
	}
	return env
}

// run shows a command as typed, runs it, and shows its real output.
func (m *machine) run(line, in string, expected int) error {
	e := m.tour.e
	where, err := filepath.Rel(m.home, m.at)
	if err != nil {
		return err
	}
	prompt := m.name + ":" + strings.TrimSuffix("~/"+filepath.ToSlash(where), "/.") + "$"
	note := ""
	if in != "" {
		note = "  (the token is pasted)"
	}
	if !m.tour.quiet {
		e.Say("\n%s %s%s", prompt, line, note)
	}
	words, err := text.Words(line)
	if err != nil {
		return err
	}
	switch words[0] {
	case "edit":
		return m.edit(words[1], words[2:]...)
	case "uncinate":
		words[0] = m.tour.program
	}
	c := exec.CommandContext(m.tour.ctx, words[0], words[1:]...)
	c.Dir, c.Env = m.at, m.env()
	if in != "" {
		c.Stdin = strings.NewReader(in + "\n")
	}
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	err = c.Run()
	m.shows(out.String(), words[0] == m.tour.program)
	if m.tour.ctx.Err() != nil {
		return m.tour.ctx.Err()
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == expected {
		return nil
	}
	if err == nil && expected != 0 {
		return fault.New(fault.Failed, "the tour's command went well, and was meant to be refused: %s", line)
	}
	if errors.As(err, &exit) {
		f := fault.New(fault.Failed, "the tour's command ended with %d: %s", exit.ExitCode(), line)
		if m.tour.quiet {
			f.Detail("%s", text.Excerpt(out.String(), 500))
		}
		return f
	}
	return err
}

// shows shows what a command printed.
func (m *machine) shows(printed string, own bool) {
	if m.tour.quiet {
		return
	}
	bold, _ := m.tour.e.Terminal()
	shown := printed
	if own {
		shown = screen.Again(shown)
	}
	for line := range strings.SplitSeq(strings.TrimRight(shown, "\n"), "\n") {
		if line != "" || bold && printed != "" {
			m.tour.e.Say("%s", strings.ReplaceAll(line, m.home, "~"))
		}
	}
}

// edit adds a line to a file, as a person would with an editor.
func (m *machine) edit(name string, line ...string) error {
	f, err := os.OpenFile(filepath.Join(m.at, name), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	says := "The gauge is at the pier of an invented harbour.\n"
	if strings.HasSuffix(name, ".h") {
		says = "#define DATUM_MM 412 /* invented */\n"
	}
	if len(line) > 0 {
		says = strings.Join(line, " ") + "\n"
	}
	_, err = fmt.Fprint(f, says)
	return errors.Join(err, f.Close())
}
