// Package rehearse holds the two commands with which the program is tried out:
// practice starts the practice hosts, tour plays the whole job through on them.
package rehearse

import (
	"context"
	"errors"
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/practice"
	"uncinate/internal/screen"
)

// Commands are practice and tour.
func Commands() []*screen.Command { return []*screen.Command{practiceCommand(), tourCommand()} }

func needGit() error {
	if _, err := exec.LookPath("git"); err != nil {
		return fault.New(fault.Failed, "git is not installed, or not on the PATH").Because(err).Try("on Debian and its kin", "sudo apt install git")
	}
	return nil
}

// workshop gives the folder to work in: the one to be kept, or a temporary one that
// clear removes.
func workshop(keep, name string) (dir string, clear func() error, err error) {
	if keep == "" {
		if dir, err = os.MkdirTemp("", "uncinate-"+name+"-"); err != nil {
			return "", nil, fault.New(fault.Failed, "no temporary folder can be made").Because(err)
		}
		dir, err = filepath.EvalSymlinks(dir)
		return dir, func() error { return os.RemoveAll(dir) }, err
	}
	if err := os.MkdirAll(keep, 0o700); err != nil {
		return "", nil, fault.New(fault.Failed, "the folder %s cannot be made", text.Visible(keep)).Because(err)
	}
	if dir, err = filepath.Abs(keep); err == nil {
		dir, err = filepath.EvalSymlinks(dir)
	}
	return dir, func() error { return nil }, err
}

// Practised is how the practice hosts are reached, as a JSON document.
type Practised struct {
	Hosts    []PractisedHost `json:"hosts"`
	Projects string          `json:"projects" says:"folder of the demo projects"`
}

// PractisedHost is one of them.
type PractisedHost struct {
	Name  string          `json:"name"`
	At    string          `json:"at" says:"its address"`
	Users []PractisedUser `json:"users"`
}

// PractisedUser is a demo user, with a token that is good for trying only.
type PractisedUser struct {
	User  string `json:"user"`
	Token string `json:"token"`
}

func practiceCommand() *screen.Command {
	return &screen.Command{Name: "practice", Short: "start the practice hosts, with demo users, tokens and projects",
		Long: `The practice host gannet runs on this machine's loopback address until Ctrl-C. It
serves real git. Its state lies in a temporary folder that is removed at the end, or in
the folder that --keep names. The tokens are for trying only; they are made anew at
each start.`,
		Examples: []string{"uncinate practice", "uncinate practice --fault 'lose on POST times 1'", "uncinate practice --listen 127.0.0.1:8765 --keep practice-state"},
		Gives:    Practised{},
		Options: func(o *flag.FlagSet) screen.Run {
			listen := o.String("listen", "127.0.0.1:0", "loopback `address` to listen on; port 0 takes a free one")
			keep := o.String("keep", "", "keep the state in this `folder`")
			seed := o.Uint64("seed", 1, "`number` from which faults that come by chance are drawn")
			var faults []string
			o.Func("fault", "let the host misbehave: `what`, as docs/practice.md says; may be given again", func(s string) error {
				_, err := practice.ParseFault(s)
				faults = append(faults, s)
				return err
			})
			return func(ctx context.Context, e *screen.Env, _ []string) error {
				wrong, err := practice.NewFaults(*seed, faults...)
				if err != nil {
					return err
				}
				return runPractice(ctx, e, *listen, *keep, wrong)
			}
		}}
}

func runPractice(ctx context.Context, e *screen.Env, listen, keep string, faults *practice.Faults) (err error) {
	if err := needGit(); err != nil {
		return err
	}
	dir, clear, err := workshop(keep, "practice")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, clear()) }()
	g, err := practice.Start("gannet", filepath.Join(dir, "gannet"), listen, faults)
	if err != nil {
		return fault.New(fault.Failed, "the practice host cannot be started: %s", text.Visible(err.Error())).Because(err)
	}
	defer func() { err = errors.Join(err, g.Close()) }()
	tokens, err := g.Demo()
	if err != nil {
		return err
	}
	projects := filepath.Join(dir, "projects")
	if _, statErr := os.Stat(projects); os.IsNotExist(statErr) {
		if err := practice.WriteProjects(projects); err != nil {
			return fault.New(fault.Failed, "the demo projects cannot be written").Because(err)
		}
	}
	doc := Practised{[]PractisedHost{{Name: "gannet", At: g.URL}}, projects}
	for _, t := range tokens {
		doc.Hosts[0].Users = append(doc.Hosts[0].Users, PractisedUser{t.User, t.Secret})
	}
	if err := e.Give(doc, func() {
		e.Say("gannet runs at %s until Ctrl-C.", g.URL)
		var rows [][]string
		for _, t := range tokens {
			rows = append(rows, []string{t.User, t.Secret, t.Expires.Format(time.DateOnly)})
		}
		e.Table([]string{"user", "token (for trying only)", "until"}, rows)
		e.Say("Demo projects: %s", projects)
		e.Say("")
		e.Say("In another terminal:")
		e.Say("  uncinate host add gannet --at %s", g.URL)
		e.Say("  uncinate account add tern --host gannet        (paste tern's token)")
		e.Say("  uncinate attach %s", text.Quote(filepath.Join(projects, "gauge-firmware")))
	}); err != nil {
		return err
	}
	<-ctx.Done()
	e.Aside("gannet has stopped.")
	return nil
}
