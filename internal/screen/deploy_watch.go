package screen

import (
	"context"
	"errors"
	"flag"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/deploy"
)

// leastEvery is how often hosts may be asked.
const leastEvery = 2 * time.Second

func deployWatch() *Command {
	return &Command{Name: "watch", Args: "[NAME...]", Most: -1, Takes: []string{"deploy"}, Short: "stay, and bring new commits into use as they come",
		Long: "It asks the hosts at an interval, and says in a line each what it did. It stops on an interrupt, with what is in use whole.",
		Options: func(o *flag.FlagSet) Run {
			every := o.Duration("every", time.Minute, "how often to ask, such as `30s` or 5m")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if *every < leastEvery {
					return fault.New(fault.Usage, "asking more often than every %s is too often", leastEvery).Try("", "uncinate deploy watch --every 30s")
				}
				all, err := deploy.All(d)
				if err != nil {
					return err
				}
				if len(args) > 0 {
					all = nil
					for _, name := range args {
						x, err := deploy.Named(d, name)
						if err != nil {
							return err
						}
						all = append(all, x)
					}
				}
				if len(all) == 0 {
					_, err := deploy.Named(d, "")
					return err
				}
				e.Say("Following %s, asking every %s.", text.Count(len(all), "branch"), *every)
				said := map[string]string{}
				for {
					for _, x := range all {
						if line := follow(ctx, d, x); line != said[x.Name] && ctx.Err() == nil {
							said[x.Name] = line
							if line != "" {
								e.Say("%s %s: %s", d.Now().Local().Format("15:04:05"), x.Name, line)
							}
						}
					}
					if err := d.Pause(ctx, *every); err != nil {
						if errors.Is(err, context.Canceled) {
							return nil
						}
						return err
					}
				}
			})
		}}
}

// follow updates one, and says what came of it in a line; "" where nothing is new.
func follow(ctx context.Context, d *desk.Desk, x deploy.Deploy) string {
	u, err := deploy.Update(ctx, d, x, deploy.UpdateOptions{Ring: true})
	if err != nil {
		return text.Visible(fault.Of(err).Says)
	}
	switch {
	case u.Failed != nil:
		return brief(u.Failed.Commit) + " is not in use: " + text.Visible(u.Failed.Task+" "+u.Failed.Says)
	case u.State == "in use":
		return brief(u.InUse) + " is in use"
	case u.State == "waiting":
		return "the tasks of " + brief(u.Commit) + " wait for approval: " + text.Command("uncinate", "deploy", "approve", x.Name)
	}
	return ""
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
