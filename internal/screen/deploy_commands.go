package screen

import (
	"context"
	"flag"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/deploy"
)

// DeployApproved is tasks that were approved, as a JSON document.
type DeployApproved struct {
	Name    string          `json:"name"`
	Commit  string          `json:"commit"`
	Tasks   []string        `json:"tasks"`
	Files   []deploy.Shown  `json:"files" says:"whose contents were approved"`
	Updated *deploy.Updated `json:"updated,omitempty"`
}

// DeployMade is a folder that follows a branch, as a JSON document.
type DeployMade struct {
	deploy.Deploy
	Updated *deploy.Updated `json:"updated,omitempty"`
}

func deployCommand() *Command {
	return &Command{Name: "deploy", Short: "let a server follow a branch: list, make, update, approve, back, watch, hook, ring, unit, check, remove",
		Subs: []*Command{
			deployList(),
			deployMake(),
			deployUpdate(),
			deployApprove(),
			deployBack(),
			deployWatch(),
			deployHook(),
			deployRing(),
			deployUnit(),
			deployCheck(),
			deployRemove(),
		}}
}

func deployList() *Command {
	return &Command{Name: "list", Gives: []deploy.Row{}, Short: "list the folders that follow a branch: what is in use, and what waits",
		Options: func(*flag.FlagSet) Run {
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				rows, err := deploy.List(ctx, d)
				if err != nil {
					return err
				}
				return e.Give(rows, func() { e.deploys(rows, d.Now()) })
			})
		}}
}

// brief is a commit's id as it is shown.
func brief(commit string) string { return commit[:min(len(commit), 10)] }

// deploys shows the folders that follow a branch.
func (e *Env) deploys(rows []deploy.Row, now time.Time) {
	if len(rows) == 0 {
		e.Say("Nothing on this machine follows a branch yet.")
		e.Aside("Next: uncinate deploy make REPOSITORY FOLDER")
		return
	}
	var table [][]string
	for _, r := range rows {
		since := ""
		if !r.Since.IsZero() && r.InUse != "" {
			since = ago(now.Sub(r.Since))
		}
		table = append(table, []string{r.State, r.Name, r.Branch, brief(r.InUse), since, text.Excerpt(r.Title, 40), text.Size(r.Bytes)})
	}
	e.Table([]string{"state", "name", "branch", "in use", "since", "commit", "kept"}, table)
	for _, r := range rows {
		if r.Says == "" && r.Next == "" {
			continue
		}
		line := text.Visible(r.Name)
		if r.Says != "" {
			line += ": " + text.Visible(r.Says) + "."
		}
		if r.Failed != nil && r.Failed.Output != "" && r.State == "failed" {
			line += " Its output: " + text.Visible(r.Failed.Output)
		}
		e.Say("%s", e.Out.wrap(line, 0))
		if r.Next != "" {
			e.Say("  Next: %s", r.Next)
		}
	}
}

func deployMake() *Command {
	return &Command{Name: "make", Args: "REPOSITORY FOLDER", Least: 2, Most: 2, Takes: []string{"repository", "file"}, Gives: DeployMade{}, Short: "let a folder hold the files of one branch, and follow it",
		Long: `FOLDER becomes a link to the files of the newest commit; beside it, in FOLDER.uncinate, is a folder for each commit,
whole before it is in use, and lasting/ for what outlives them. Over SSH a key is made for this repository alone, and put
onto the host to read only, if an account here can. Tasks that the repository lists run only once they are approved.`,
		Examples: []string{"uncinate deploy make saltmarsh/inlet-board /srv/board", "uncinate deploy make ssh://git@gannet.example/saltmarsh/inlet-board /srv/board --branch main"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var m deploy.MakeOptions
			o.StringVar(&m.Branch, "branch", "", "the `branch` to follow (default: the host's default one)")
			o.StringVar(&m.Name, "name", "", "what to call it here (default: the folder's `name`)")
			o.StringVar(&m.Account, "account", "", "the `account` that puts the key onto the host, or signs in")
			o.StringVar(&m.Over, "over", "", "the `transport`: ssh, with a key of its own, or https, by the account's sign-in")
			o.IntVar(&m.Days, "days", deploy.UsualDays, "how many `days` states are kept that are no longer in use")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if m.Over != "" && m.Over != "ssh" && m.Over != "https" {
					return fault.New(fault.Usage, "the transport is ssh or https, not %s", text.Quote(m.Over)).Try("", "uncinate help deploy make")
				}
				m.What, m.Folder = args[0], args[1]
				k, err := deploy.PlanMake(ctx, d, m)
				if err != nil {
					return err
				}
				done, err := e.carryOut(ctx, p, k.Head, k, k.Notes)
				if again, vouched := e.vouch(ctx, d, err); again {
					err = k.Do(ctx)
				} else {
					err = vouched
				}
				if err != nil || !done && k.Updated == nil {
					return err
				}
				return e.Give(DeployMade{k.X, k.Updated}, func() { e.updated(d, k.X, k.Updated) })
			})
		}}
}

// updated says what came of an update.
func (e *Env) updated(d *desk.Desk, x deploy.Deploy, u *deploy.Updated) {
	if u.Rewrite {
		e.Say("The branch was rewritten: %s is not part of it any longer.", brief(u.Before))
	}
	switch u.State {
	case "in use":
		from := ""
		if u.Before != "" {
			from = ", in the place of " + brief(u.Before)
		}
		e.Say("%s", e.Out.strong("In use: "+brief(u.InUse)+from+"."))
	case "already":
		e.Say("%s is in use already.", brief(u.InUse))
	case "received":
		e.Say("%s was received. To bring it into use: %s", brief(u.Commit), text.Command("uncinate", "deploy", "update", x.Name))
	case "waiting":
		e.Say("%s", e.Out.strong("The tasks of "+brief(u.Commit)+" wait for approval; nothing of them ran."))
		e.Say("To see and approve them: %s", text.Command("uncinate", "deploy", "approve", x.Name))
	case "held":
		e.Say("A person went back from %s; it is taken again with: %s", brief(u.Commit), text.Command("uncinate", "deploy", "update", x.Name, "--again"))
	}
	for _, w := range u.GoesOn {
		e.Say("%s", e.Out.wrap("Failed, and let: "+text.Visible(w)+".", 0))
	}
	for _, l := range u.Missing {
		e.Say("%s", e.Out.wrap("Lasting, and not there yet: "+text.Visible(l)+".", 0))
	}
	if u.Pointers {
		e.Say("Its large files outside of git are not brought: they stay pointers.")
	}
}

// notInUse is the fault where the newest commit could not be brought into use.
func notInUse(x deploy.Deploy, u *deploy.Updated) error {
	if u.Failed == nil {
		return nil
	}
	f := fault.New(fault.Failed, "%s is not in use: %s", brief(u.Failed.Commit), u.Failed.Says)
	if u.Failed.Task != "" {
		f = fault.New(fault.Failed, "%s is not in use: the task %s failed: %s", brief(u.Failed.Commit), u.Failed.Task, u.Failed.Says)
	}
	if u.InUse != "" {
		f.Detail("In use is %s, as before.", brief(u.InUse))
	}
	if u.Failed.Output != "" {
		f.Try("see what it said", text.Command("cat", "--", u.Failed.Output))
	}
	return f.Try("when it is mended, and sent", text.Command("uncinate", "deploy", "update", x.Name))
}

func deployUpdate() *Command {
	return &Command{Name: "update", Args: "[NAME]", Most: 1, Takes: []string{"deploy"}, Gives: deploy.Updated{}, Short: "receive the newest commit of the branch, and bring it into use",
		Long: "A commit is in use once its files are whole and its tasks, if they are approved, have run. Where one fails, what was in use stays.",
		Options: func(o *flag.FlagSet) Run {
			var u deploy.UpdateOptions
			preview := previewOption(o)
			o.BoolVar(&u.FetchOnly, "fetch-only", false, "receive it, and leave what is in use")
			o.BoolVar(&u.Again, "again", false, "also a commit from which a person went back")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				x, err := deploy.Named(d, strings.Join(args, ""))
				if err != nil {
					return err
				}
				if *preview {
					return e.wouldUpdate(ctx, d, x)
				}
				out, err := deploy.Update(ctx, d, x, u)
				if err != nil {
					return err
				}
				if err := notInUse(x, out); err != nil {
					return err
				}
				return e.Give(out, func() { e.updated(d, x, out) })
			})
		}}
}

// wouldUpdate says what an update would take over, as the host tells now.
func (e *Env) wouldUpdate(ctx context.Context, d *desk.Desk, x deploy.Deploy) error {
	head, err := deploy.Newest(ctx, d, x)
	if err != nil {
		return err
	}
	if head == x.InUse() {
		return e.would(ctx, "")
	}
	return e.would(ctx, "", here("Receive "+brief(head)+", and let "+text.Visible(x.Folder)+" lead to its files, once its tasks are approved and have run"))
}

func deployApprove() *Command {
	return &Command{Name: "approve", Args: "[NAME]", Most: 1, Takes: []string{"deploy"}, Gives: DeployApproved{}, Short: "see the tasks of the newest commit, what changed of them, and let them run",
		Long: `Shown are the tasks, and each file of the repository that they name, as a difference to what was approved before. The
approval is of these files' contents. What they call in turn is not covered, unless the tasks file names it in "runs"; a
task with any = true lets each commit wait.`,
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				x, err := deploy.Named(d, strings.Join(args, ""))
				if err != nil {
					return err
				}
				a, err := deploy.PlanApprove(ctx, d, x)
				if err != nil {
					return err
				}
				doc := DeployApproved{Name: x.Name, Commit: a.Commit, Tasks: []string{}, Files: append([]deploy.Shown{}, a.Files...)}
				if a.GoesOn && !p.preview {
					e.Aside("The tasks of %s are approved; it is brought into use.", brief(a.Commit))
					if err := a.Do(ctx); err != nil {
						return err
					}
					if err := notInUse(x, a.Updated); err != nil {
						return err
					}
					doc.Updated = a.Updated
					return e.Give(doc, func() { e.updated(d, x, a.Updated) })
				}
				if len(a.Tasks) == 0 {
					return e.Give(doc, func() { e.Say("Nothing of %s waits for approval.", x.Name) })
				}
				for _, t := range a.Tasks {
					doc.Tasks = append(doc.Tasks, t.Words())
				}
				e.approving(a)
				if done, err := e.carryOut(ctx, p, "To approve the tasks of "+brief(a.Commit)+" on this machine:", a, nil); err != nil || !done {
					return err
				}
				if err := notInUse(x, a.Updated); err != nil {
					return err
				}
				doc.Updated = a.Updated
				return e.Give(doc, func() { e.updated(d, x, a.Updated) })
			})
		}}
}

// approving shows the tasks, and the files whose contents are approved.
func (e *Env) approving(a *deploy.Approving) {
	if e.json {
		return
	}
	e.Aside("%s of %s would run, as you, in its files:", text.Count(len(a.Tasks), "task"), brief(a.Commit))
	for i, t := range a.Tasks {
		words := text.Visible(t.Words())
		if t.Folder != "" {
			words += "   in " + text.Visible(t.Folder)
		}
		if t.After {
			words += "   after the switch"
		}
		e.Aside(" %2d. %s", i+1, words)
	}
	same := 0
	for _, f := range a.Files {
		if f.State == "same" {
			same++
			continue
		}
		e.Aside("%s, %s:", e.Err.strong(text.Visible(f.Path)), f.State)
		for _, l := range f.Lines {
			e.Aside("    %s", text.Visible(l))
		}
	}
	if same > 0 {
		e.Aside("%s as approved before.", text.Count(same, "further file"))
	}
	e.Aside("%s", e.Err.wrap("The approval is of these contents. What they call in turn is not covered, unless the tasks file names it.", 0))
}

func deployBack() *Command {
	return &Command{Name: "back", Args: "[NAME [COMMIT]]", Most: 2, Takes: []string{"deploy", "commit"}, Gives: deploy.Updated{}, Short: "go back to what was in use before, at once",
		Long:     "The commit that it went back from is not taken again until a newer one comes, or until update --again.",
		Examples: []string{"uncinate deploy back", "uncinate deploy back board 3f2a10c2b1"},
		Options: func(o *flag.FlagSet) Run {
			preview := previewOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				x, err := deploy.Named(d, first(args))
				if err != nil {
					return err
				}
				to := ""
				if len(args) > 1 {
					to = args[1]
				}
				out, err := deploy.Back(ctx, d, x, to, *preview)
				if err != nil {
					return err
				}
				if *preview {
					return e.would(ctx, "", here("Let "+text.Visible(x.Folder)+" lead to "+brief(out.InUse)+", in the place of "+brief(out.Before)))
				}
				if out.Failed != nil {
					return fault.New(fault.Failed, "%s is in use again, but the task %s failed: %s", brief(out.InUse), out.Failed.Task, out.Failed.Says).Try("see what it said", text.Command("cat", "--", out.Failed.Output))
				}
				return e.Give(out, func() { e.updated(d, x, out) })
			})
		}}
}

func first(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

func deployRemove() *Command {
	return &Command{Name: "remove", Args: "NAME", Least: 1, Most: 1, Takes: []string{"deploy"}, Gives: Planned{}, Short: "let a folder follow nothing any longer; what is lasting stays",
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				x, err := deploy.Named(d, args[0])
				if err != nil {
					return err
				}
				c, err := deploy.Remove(ctx, d, x)
				if err != nil {
					return err
				}
				if done, err := e.carryOut(ctx, p, c.Head, c, c.Notes); err != nil || !done {
					return err
				}
				return e.Give(Planned{Plan: c.Items(), Notes: c.Notes}, func() { e.Say("%s", e.Out.strong("Removed.")) })
			})
		}}
}
