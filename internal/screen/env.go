package screen

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/term"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/keyring"
	"uncinate/internal/world/vault"
	"uncinate/internal/world/web"
)

// Version is the program's version; a build says which by -X (see the Makefile).
var Version = "0.1.0+unreleased"

// Env is the program's surroundings: its three streams, and what it can ask of them.
type Env struct {
	In  *os.File
	Out *stream // results
	Err *stream // everything else

	Shipped fs.FS  // descriptions that come with the program
	Gone    func() // called when standard output can no longer be written

	commands []*Command
	ctx      context.Context // of the whole run; prompts end with it
	veil     *veil
	answers  io.Writer // standard output as it is, for git's credential protocol alone
	quiet    bool
	verbose  bool
	json     bool
	gave     bool   // the JSON document was printed
	home     string // where the program's own things are, if said
	typed    typedLine
	program  string // what to type for this program
	yes      bool   // the person agreed beforehand, by --yes
	asks     bool   // standard input and standard error are terminals
	reader   *bufio.Reader
	meter    meter
	every    time.Duration // how often progress is told where it cannot be drawn
	items    []plan.Item   // the plan that is being done
	planned  bool          // it was shown already
}

// NewEnv looks at the process's streams.
func NewEnv(shipped fs.FS) *Env {
	files.KnowHome()
	v := &veil{}
	for _, arg := range os.Args[1:] {
		if a, err := address.Parse(arg); err == nil {
			v.add(a.Secret) // a token that is in an address that was pasted
		}
	}
	e := &Env{In: os.Stdin, Out: newStream(os.Stdout, v), Err: newStream(os.Stderr, v), Shipped: shipped, program: program(), veil: v, answers: os.Stdout, every: 10 * time.Second}
	e.meter.beats = true
	e.asks = e.Err.terminal && term.IsTerminal(int(os.Stdin.Fd()))
	e.reader = bufio.NewReader(io.LimitReader(os.Stdin, 1<<20))
	return e
}

// Desk writes what jobs work with.
func (e *Env) Desk() (*desk.Desk, error) {
	home, err := files.FindHome(e.home)
	if err != nil {
		return nil, fault.New(fault.Failed, "the program's own folders cannot be found").Because(err)
	}
	program, err := os.Executable()
	if err != nil {
		return nil, fault.New(fault.Failed, "the program's own path cannot be found").Because(err)
	}
	if real, err := filepath.EvalSymlinks(program); err == nil {
		program = real
	}
	userHome, err := os.UserHomeDir()
	if err != nil && home.Top != "" { // nobody of the system's list, as in some containers
		userHome, err = home.Top, nil
	}
	if err != nil {
		return nil, fault.New(fault.Failed, "your home folder is not known: the variable HOME is not set").Because(err)
	}
	level := slog.LevelWarn
	if e.verbose {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(e.Err, &slog.HandlerOptions{Level: level}))
	v := vault.At(home.Vault, home.Run, keyring.System{})
	v.OnSecret(e.veil.add)
	v.CountIn(filepath.Join(home.State, "vault-seen.json"), func(is, was int) {
		e.Note("Note: the vault is older than it was: it went through %s, and %d were made. A token that was forgotten or replaced since may be back in it. To see what it holds: uncinate token list", text.Count(is, "change"), was)
	})
	if e.asks {
		v.AskWith(func() (string, error) { return e.secret("Passphrase of the vault: ") })
	}
	d := &desk.Desk{Home: home, Vault: v, Web: web.New(30*time.Second, "uncinate/"+Version, log), Shipped: e.Shipped, Program: program,
		UserHome: userHome, Now: time.Now, Tell: e, Log: log}
	d.Web.As(d.PersonsGit)
	return d, nil
}

// withDesk makes a Run of work that needs the desk.
func withDesk(work func(ctx context.Context, e *Env, d *desk.Desk, args []string) error) Run {
	return func(ctx context.Context, e *Env, args []string) error {
		d, err := e.Desk()
		if err != nil {
			return err
		}
		err = work(ctx, e, d, args)
		if again, trust := e.meetStrange(ctx, d, err); again {
			return work(ctx, e, d, args)
		} else {
			return trust
		}
	}
}

// Problem is a fault as a JSON document.
type Problem struct {
	Error struct {
		Kind     string   `json:"kind"`
		Exit     int      `json:"exit"`
		Says     string   `json:"says"`
		Details  []string `json:"details,omitempty"`
		Remedies []Remedy `json:"remedies,omitempty"`
	} `json:"error"`
}

// Remedy is one next thing to do, in a Problem.
type Remedy struct {
	Why     string `json:"why,omitempty"`
	Command string `json:"command"`
}

// Fault shows an error: the cause, what belongs to it, and what to do next. With
// --json it is a document too, if none was printed yet.
func (e *Env) Fault(err error) {
	e.clearBar()
	f := fault.Of(err)
	if e.json && !e.gave {
		var p Problem
		p.Error.Kind, p.Error.Exit, p.Error.Says, p.Error.Details = f.Kind.String(), int(f.Kind), f.Says, f.Details
		for _, r := range e.completed(f.Remedies) {
			p.Error.Remedies = append(p.Error.Remedies, Remedy{r.Why, r.Command})
		}
		_ = e.JSON(p) // standard error says the same
	}
	if f.Kind == fault.Interrupted {
		fmt.Fprintln(e.Err, "uncinate: stopped.")
		for _, d := range f.Details {
			fmt.Fprintf(e.Err, "  %s\n", e.Err.wrap(text.Visible(d), 2))
		}
		return
	}
	fmt.Fprintln(e.Err, e.Err.wrap("uncinate: "+strings.TrimSuffix(text.Visible(f.Says), ".")+".", 2))
	for _, d := range f.Details {
		fmt.Fprintf(e.Err, "  %s\n", e.Err.wrap(text.Visible(d), 2))
	}
	e.showRemedies(e.Err, f)
	if e.verbose {
		for cause := errors.Unwrap(err); cause != nil; cause = errors.Unwrap(cause) {
			fmt.Fprintf(e.Err, "  because: %s\n", text.Excerpt(cause.Error(), 400))
		}
	}
}
