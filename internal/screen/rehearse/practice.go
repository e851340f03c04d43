// Package rehearse holds the two commands with which the program is tried out:
// practice starts the practice hosts, tour plays the whole job through on them.
package rehearse

import (
	"context"
	"errors"
	"flag"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"

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
	return &screen.Command{Name: "practice", Args: "[HOST]...", Most: -1, Takes: []string{"practice"},
		Short: "start the practice hosts, with demo users, tokens and projects",
		Long: `The practice hosts gannet, petrel and fulmar (or those that are named) run on this
machine's loopback address until Ctrl-C. They serve real git, and their APIs are as
unlike as hosts are. Their state is in a temporary folder that is removed at the end,
or in the folder that --keep names. The tokens are for trying only; they are new at
each start.`,
		Examples: []string{"uncinate practice", "uncinate practice petrel", "uncinate practice gannet --fault 'lose on POST times 1'", "uncinate practice --listen 127.0.0.1:8765 --keep practice-state"},
		Gives:    Practised{}, Needs: map[string][]string{"seed": {"fault"}},
		Options: func(o *flag.FlagSet) screen.Run {
			listen := o.String("listen", "127.0.0.1:0", "loopback `address` to listen on, the next ports for the next hosts; port 0 takes free ones")
			keep := o.String("keep", "", "keep the state in this `folder`")
			seed := o.Uint64("seed", 1, "`number` from which faults that come by chance are drawn")
			var faults []string
			o.Func("fault", "let the hosts misbehave: `what`, as docs/practice.md says; may be repeated", func(s string) error {
				_, err := practice.ParseFault(s)
				faults = append(faults, s)
				return err
			})
			return func(ctx context.Context, e *screen.Env, names []string) error {
				if len(names) == 0 {
					names = practice.Hosts
				}
				return runPractice(ctx, e, names, *listen, *keep, *seed, faults)
			}
		}}
}

func runPractice(ctx context.Context, e *screen.Env, names []string, listen, keep string, seed uint64, faults []string) (err error) {
	if err := needGit(); err != nil {
		return err
	}
	dir, clear, err := workshop(keep, "practice")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, clear()) }()
	doc := Practised{Projects: filepath.Join(dir, "projects")}
	var rows [][]string
	var running []*practice.Running
	defer func() {
		for _, h := range running {
			err = errors.Join(err, h.Close())
		}
	}()
	for i, name := range names {
		at, err := after(listen, i)
		if err != nil {
			return err
		}
		wrong, err := practice.NewFaults(seed, faults...)
		if err != nil {
			return err
		}
		h, err := practice.Start(name, filepath.Join(dir, name), at, wrong)
		if err != nil {
			return fault.New(fault.Failed, "the practice host cannot be started: %s", text.Visible(err.Error())).Because(err)
		}
		running = append(running, h)
		one, err := demoUsers(h)
		if err != nil {
			return err
		}
		for _, u := range one.Users {
			rows = append(rows, []string{name, h.URL, u.User, u.Token})
		}
		doc.Hosts = append(doc.Hosts, one)
	}
	if _, statErr := os.Stat(doc.Projects); os.IsNotExist(statErr) {
		if err := practice.WriteProjects(doc.Projects); err != nil {
			return fault.New(fault.Failed, "the demo projects cannot be written").Because(err)
		}
	}
	if err := e.Give(doc, func() {
		e.Table([]string{"host", "address", "user", "token (for trying only, valid for a year)"}, rows)
		e.Say("Demo projects: %s", doc.Projects)
		e.Say("They run until Ctrl-C. In another terminal:")
		first := doc.Hosts[0]
		e.Say("  uncinate host add %s --at %s", first.Name, first.At)
		e.Say("  uncinate account add tern --host %s --user tern     (paste tern's token)", first.Name)
		e.Say("  uncinate attach %s", text.Quote(filepath.Join(doc.Projects, "gauge-firmware")))
	}); err != nil {
		return err
	}
	<-ctx.Done()
	e.Aside("The practice hosts have stopped.")
	return nil
}

// demoUsers gives a practice host its users, and what they sign in with.
func demoUsers(h *practice.Running) (PractisedHost, error) {
	one := PractisedHost{Name: h.Name, At: h.URL}
	tokens, err := h.Demo()
	for _, t := range tokens {
		one.Users = append(one.Users, PractisedUser{t.User, t.Secret})
	}
	return one, err
}

// after gives the address of the n-th host: the next ports, unless any free one will do.
func after(listen string, n int) (string, error) {
	host, port, err := net.SplitHostPort(listen)
	number, e := strconv.ParseUint(port, 10, 16)
	if err != nil || e != nil || number+uint64(n) > 65535 {
		return "", fault.New(fault.Usage, "%s is not an address to listen on, such as 127.0.0.1:8765", text.Quote(listen))
	}
	if number > 0 {
		number += uint64(n)
	}
	return net.JoinHostPort(host, strconv.FormatUint(number, 10)), nil
}
