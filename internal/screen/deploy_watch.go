package screen

import (
	"context"
	"errors"
	"flag"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"uncinate/internal/core/deploying"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/deploy"
	"uncinate/internal/world/files"
)

// leastEvery is how often hosts may be asked.
const leastEvery = 2 * time.Second

func deployWatch() *Command {
	return &Command{Name: "watch", Args: "[NAME...]", Most: -1, Takes: []string{"deploy"}, Short: "stay, and bring new commits into use as they come",
		Long: `It asks the hosts at an interval and whenever it is rung (deploy ring), and says in a line each what it did.
It stops on an interrupt, with what is in use whole. To a service manager it says that it is ready, and that it works.`,
		Options: func(o *flag.FlagSet) Run {
			every := o.Duration("every", time.Minute, "how often to ask, such as `30s` or 5m")
			listen := o.String("listen", "", "the `address` on loopback where web hooks ring, such as 127.0.0.1:8790")
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *every < leastEvery {
					return fault.New(fault.Usage, "asking more often than every %s is too often", leastEvery).Try("", "uncinate deploy watch --every 30s")
				}
				w, err := deploy.PlanWatch(d, args)
				if err != nil {
					return err
				}
				if *preview {
					return e.would(ctx, "", here("Follow "+text.Count(w.Count(), "folder's branch")+", asking every "+every.String()+", until it is interrupted"))
				}
				var mu sync.Mutex
				w.Every, w.Tell = *every, func(name, line string) {
					mu.Lock()
					defer mu.Unlock()
					e.Say("%s %s: %s", d.Now().Local().Format("15:04:05"), name, line)
				}
				if *listen != "" {
					at, err := w.Listen(*listen)
					if err != nil {
						return err
					}
					e.Say("Web hooks ring at http://%s/NAME.", at)
				}
				e.Say("Following %s, asking every %s.", text.Count(w.Count(), "folder's branch"), *every)
				return w.Do(ctx)
			})
		}}
}

func deployHook() *Command {
	return &Command{Name: "hook", Args: "NAME", Least: 1, Most: 1, Takes: []string{"deploy"}, Gives: Planned{}, Short: "let the host ring whenever something is sent, by a signed web hook",
		Long: `ADDRESS is where the host reaches this machine: a web server of yours in front, which encrypts, hands calls on to
deploy watch --listen. A call only rings: it is taken if its signature, as the host's description says, is right and new.`,
		Examples: []string{"uncinate deploy hook board --at https://hut.example/hooks/board"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			at := o.String("at", "", "the `address` that the host calls; its path ends with NAME")
			account := o.String("account", "", "the `account` that adds it on the host")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				x, err := deploy.Named(d, args[0])
				if err != nil {
					return err
				}
				if path.Base(*at) != x.Name {
					return fault.New(fault.Usage, "name the address that the host calls; its path ends with %s", x.Name).Try("", text.Command("uncinate", "deploy", "hook", x.Name, "--at", "https://SERVER/"+x.Name))
				}
				c, err := deploy.PlanHook(ctx, d, x, *at, *account)
				if err != nil {
					return err
				}
				if done, err := e.carryOut(ctx, p, c.Head, c, c.Notes); err != nil || !done {
					return err
				}
				return e.Give(Planned{Plan: c.Items(), Notes: c.Notes}, func() {
					e.Say("%s", e.Out.strong("The host rings from now on."))
					e.Say("To listen: uncinate deploy watch --listen 127.0.0.1:8790")
				})
			})
		}}
}

func deployRing() *Command {
	return &Command{Name: "ring", Args: "[NAME]", Most: 1, Takes: []string{"deploy"}, Short: "let deploy watch look at the branch now",
		Long: `It changes the time of FOLDER.uncinate/ring, which watch looks at, and nothing else; who is in the way of a push, such as
git's hook post-receive on the same machine, can do just that by one line, and is not held up.`,
		Examples: []string{"uncinate deploy ring board", "uncinate deploy ring board --after-push /srv/git/inlet-board.git"},
		Options: func(o *flag.FlagSet) Run {
			preview := previewOption(o)
			after := o.String("after-push", "", "let this bare repository's hook post-receive ring from now on, after what is there: its `folder` on this machine")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				x, err := deploy.Named(d, first(args))
				if err != nil {
					return err
				}
				if *preview {
					return e.would(ctx, "", here(text.Either(*after == "", "Change the time of "+text.Visible(x.Beside())+"/ring", "Let the hook post-receive of "+text.Visible(*after)+" ring, after what is there")))
				}
				if *after != "" {
					if err := deploy.RingAfterPush(x, *after); err != nil {
						return err
					}
					e.Say("A push to %s rings %s from now on.", text.Visible(*after), x.Name)
					return nil
				}
				if err := deploy.Ring(x); err != nil {
					return err
				}
				e.Say("Rung.")
				return nil
			})
		}}
}

func deployUnit() *Command {
	return &Command{Name: "unit", Short: "print a systemd unit that runs deploy watch, with nothing it does not need",
		Examples: []string{"uncinate deploy unit | sudo tee /etc/systemd/system/uncinate-deploy.service"},
		Options: func(o *flag.FlagSet) Run {
			every := o.Duration("every", time.Minute, "how often to ask, such as `30s` or 5m")
			listen := o.String("listen", "", "the `address` on loopback where web hooks ring")
			return withDesk(func(_ context.Context, e *Env, d *desk.Desk, _ []string) error {
				unit, err := deploy.Unit(d, *every, *listen)
				if err != nil {
					return err
				}
				e.Say("%s", strings.TrimSuffix(unit, "\n"))
				return nil
			})
		}}
}

// tasksAreWrong says, before they are sent, that the tasks for servers which follow a project cannot be used.
func (e *Env) tasksAreWrong(ctx context.Context, d *desk.Desk, folder string) {
	file := filepath.Join(folder, deploying.File)
	if files.KindOf(file) != files.Regular {
		return
	}
	if c, err := deploy.Check(ctx, d, file); err == nil && len(c.Mistakes) > 0 {
		e.Say("%s has %s, so that no server takes it: uncinate deploy check", deploying.File, text.Count(len(c.Mistakes), "mistake"))
	}
}

func deployCheck() *Command {
	return &Command{Name: "check", Args: "[FILE]", Most: 1, Takes: []string{"file"}, Gives: deploy.Checked{}, Short: "check a tasks file before it is sent: every mistake, with line and column",
		Long: `FILE is uncinate-deploy.toml at the repository's top (the default). One task is:

    [[task]]
    do = ["./make-page", "--out", "public"]
    within = "2m"

"do" is a program and its words, without a shell. Further keys of a task: "folder" to run in, "if-it-fails" ("stop" or
"go on"), "after-switch" = true for what needs the new files in use, "runs" for further files that it runs, and "any" = true
to let each commit wait for approval. At the top may stand "branch", and "lasting": paths that outlive a commit's files.`,
		Examples: []string{"uncinate deploy check"},
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				file := "."
				if len(args) > 0 {
					file = args[0]
				}
				c, err := deploy.Check(ctx, d, file)
				if err != nil {
					return err
				}
				if len(c.Mistakes) > 0 {
					f := fault.New(fault.Usage, "%s has %s", text.Visible(c.File), text.Count(len(c.Mistakes), "mistake"))
					for _, m := range c.Mistakes {
						f.Detail("%s", m)
					}
					if e.json {
						err = e.JSON(c)
					}
					return errors.Join(f, err)
				}
				return e.Give(c, func() {
					e.Say("%s", e.Out.strong("It can be used: "+text.Count(c.Tasks, "task")+"."))
					for _, p := range c.Covered {
						e.Say("  covered by an approval: %s", text.Visible(p))
					}
					for _, w := range c.Warnings {
						e.Say("%s", e.Out.wrap("Warning: "+text.Visible(w), 0))
					}
				})
			})
		}}
}
