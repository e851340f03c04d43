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
	return &screen.Command{Name: "tour", Short: "run through the whole job on the practice hosts",
		Long: `Starts the practice host gannet in a temporary folder, writes a demo project, and plays
two machines: pier, the office computer, attaches the project to gannet; launch, the laptop
aboard, clones it; both stay in step; a token lives its life; then three people work together, on gannet and
petrel. Every command is run for real and shown with its real output. Nothing of yours is touched, and nothing is left behind without --keep.`,
		Options: func(o *flag.FlagSet) screen.Run {
			keep := o.String("keep", "", "keep everything in this `folder` to look at")
			return func(ctx context.Context, e *screen.Env, _ []string) error { return runTour(ctx, e, *keep) }
		}}
}

// machine is one of the two computers that the tour plays: a home folder and this
// program's own folders of its own.
type machine struct {
	tour *tour
	name string
	home string
	at   string // the current folder
}

type tour struct {
	ctx     context.Context
	e       *screen.Env
	top     string
	program string
}

func runTour(ctx context.Context, e *screen.Env, keep string) (err error) {
	if err := needGit(); err != nil {
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
	// launch's tokens: one for the work, one that ends soon, one in its place.
	year := tokens[0].Expires
	secrets := []string{tokens[0].Secret}
	for _, until := range []time.Time{year, time.Now().AddDate(0, 0, 6), year} {
		token, err := g.NewToken("tern", until)
		if err != nil {
			return err
		}
		secrets = append(secrets, token.Secret)
	}
	t := &tour{ctx: ctx, e: e, top: top, program: program}
	return t.play(g, secrets[0], secrets[1:])
}

func (t *tour) play(g *practice.Running, piers string, launchs []string) (err error) {
	pier, err := t.machine("pier")
	if err != nil {
		return err
	}
	launch, err := t.machine("launch")
	if err != nil {
		return err
	}
	if err := practice.WriteProjects(pier.home); err != nil {
		return err
	}
	t.e.Say("The practice host gannet runs at %s. Two machines, pier and launch, are new.", g.URL)
	with, err := t.startOthers(pier, g)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, with.petrel.Close()) }()
	for _, s := range append(t.script(pier, launch, g, piers, launchs), with.script()...) {
		if s.about != "" {
			t.e.Say("\n%s", s.about)
		}
		s.m.at = filepath.Join(s.m.home, s.cd)
		if err := s.m.run(s.line, s.in, s.exit); err != nil {
			return err
		}
	}
	return t.compare(pier, launch, g)
}

// scene is one line of the tour.
type scene struct {
	m     *machine
	about string // a heading
	cd    string
	line  string
	in    string // standard input
	exit  int    // the exit code that is meant to come
}

// script is the whole job, in order.
func (t *tour) script(pier, launch *machine, g *practice.Running, piers string, launchs []string) []scene {
	return []scene{
		{pier, "1. On pier, the office computer: add the host, and your account on it", "", "uncinate host add gannet --at " + g.URL, "", 0},
		{pier, "", "", "uncinate vault make --by file", "", 0},
		{pier, "", "", "uncinate account add tern --host gannet", piers, 0},
		{pier, "2. Look at what would go up and what would happen, then let it happen", "gauge-firmware", "uncinate survey", "", 0},
		{pier, "", "gauge-firmware", "uncinate attach --preview", "", 0},
		{pier, "", "gauge-firmware", "uncinate attach --yes", "", 0},
		{pier, "", "gauge-firmware", "uncinate attach --yes", "", 0},
		{pier, "3. Another project holds a token and this machine's paths: nothing of it goes up by accident", "tide-almanac", "uncinate attach --yes", "", int(fault.Refused)},
		{pier, "", "tide-almanac", "uncinate ignore add config/settings.local.toml config/places.toml", "", 0},
		{pier, "", "tide-almanac", "uncinate attach --yes", "", 0},
		{launch, "4. On launch, the laptop aboard: the same account, then the same project", "", "uncinate host add gannet --at " + g.URL, "", 0},
		{launch, "", "", "uncinate vault make --by file", "", 0},
		{launch, "", "", "uncinate account add tern --host gannet", launchs[0], 0},
		{launch, "", "", "uncinate clone gauge-firmware", "", 0},
		{launch, "5. Work aboard with plain git: it signs in by itself", "gauge-firmware", "edit src/level.h", "", 0},
		{launch, "", "gauge-firmware", "git commit -q -a -m 'Correct the level by the datum'", "", 0},
		{launch, "", "gauge-firmware", "git push -q", "", 0},
		{pier, "6. Back on pier, where something was written meanwhile: save it, receive and send, in one", "gauge-firmware", "edit README.md", "", 0},
		{pier, "", "gauge-firmware", "uncinate status", "", 0},
		{pier, "", "gauge-firmware", "uncinate changes", "", 0},
		{pier, "", "gauge-firmware", "uncinate sync --save --message 'Say where the gauge stands'", "", 0},
		{pier, "", "gauge-firmware", "uncinate history", "", 0},
		{launch, "7. And launch follows, with all its projects at once", "", "uncinate clone tide-almanac", "", 0},
		{launch, "", "", "uncinate status --all", "", 0},
		{launch, "", "", "uncinate sync --all", "", 0},
		{launch, "8. The life of a token: one that expires soon is warned of, replaced, tested, revoked", "gauge-firmware", "uncinate token replace tern --yes", launchs[1], 0},
		{launch, "", "gauge-firmware", "uncinate sync", "", 0},
		{launch, "", "gauge-firmware", "uncinate token replace tern --yes", launchs[2], 0},
		{launch, "", "gauge-firmware", "uncinate token test tern", "", 0},
		{launch, "", "gauge-firmware", "uncinate token revoke tern --yes", "", 0},
		{launch, "", "gauge-firmware", "uncinate sync", "", int(fault.Decision)},
	}
}

// compare looks for itself that both machines and the host hold the same.
func (t *tour) compare(pier, launch *machine, g *practice.Running) error {
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

func (t *tour) machine(name string) (*machine, error) {
	m := &machine{tour: t, name: name, home: filepath.Join(t.top, name)}
	return m, os.MkdirAll(m.home, 0o700)
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
	e.Say("\n%s %s%s", prompt, line, note)
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
	bold, _ := e.Terminal()
	shown := out.String()
	if words[0] == m.tour.program {
		shown = screen.Again(shown)
	}
	for line := range strings.SplitSeq(strings.TrimRight(shown, "\n"), "\n") {
		if line != "" || bold && out.Len() > 0 {
			e.Say("%s", strings.ReplaceAll(line, m.home, "~"))
		}
	}
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
		return fault.New(fault.Failed, "the tour's command ended with %d: %s", exit.ExitCode(), line)
	}
	return err
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
