package screen

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/attach"
	"uncinate/internal/job/many"
	"uncinate/internal/job/repositories"
)

func cloneCommand() *Command {
	return &Command{Name: "clone", First: []string{"account", "branch", "into", "everything", "list", "read-only", "depth", "partial", "snapshot", "submodules", "over", "key"}, Args: "REPOSITORY [FOLDER]", Most: -1,
		Short: "bring repositories from a host onto this machine, one or many",
		Long: `REPOSITORY is a name on the account's host or a part of one, OWNER/NAME, or any address of
it. FOLDER is made if it is missing and refused if it is not empty. Sign-in, name and
e-mail are set in the clone, so that plain git push and pull work in it.

Several at once: a pattern such as 'saltmarsh/*', an owner as saltmarsh/, --list with a file
of names, or --everything that the account sees. Each gets a folder in its owner's folder, or
in one for all ("settings set clone.layout flat"), below the current folder or --into another.
Existing clones are skipped; interrupted ones continue.`,
		Examples: []string{"uncinate clone gauge-firmware", "uncinate clone saltmarsh/inlet-board board", "uncinate clone --everything --into ~/work", "uncinate clone 'saltmarsh/*'", "uncinate clone tide-almanac --snapshot"},
		Takes:    []string{"repository", "folder"}, Gives: attach.Cloned{}, Also: map[string]any{"--everything": []many.ClonedRow{}},
		Apart: [][]string{{"everything", "list"}, {"snapshot", "read-only"}, {"snapshot", "partial"}, {"depth", "partial"}, {"key", "account"}, {"submodules", "snapshot"}},
		Options: func(o *flag.FlagSet) Run {
			var m many.Options
			c := &m.CloneOptions
			preview := previewOption(o)
			o.StringVar(&c.Account, "account", "", "which `account` to use")
			o.StringVar(&c.Key, "key", "", "the `file` of an SSH key, for a server where you have no account, such as a deploy key")
			o.StringVar(&c.Over, "over", "", "the `transport`: https or ssh (default: the account's)")
			o.StringVar(&c.Branch, "branch", "", "the `branch` to start on (default: the repository's)")
			o.IntVar(&c.Depth, "depth", 0, "only this `many` of the newest commits")
			o.BoolVar(&c.Partial, "partial", false, "all commits, and old contents only when they are needed")
			o.BoolVar(&c.Snapshot, "snapshot", false, "the files only, without git")
			o.BoolVar(&c.ReadOnly, "read-only", false, "a clone that only receives: sync never sends from it")
			o.BoolVar(&c.Submodules, "submodules", false, "the repositories inside it (submodules) too, each from its own address")
			everything := o.Bool("everything", false, "all that the account sees")
			o.StringVar(&m.List, "list", "", "a `file` that names repositories, one per line")
			o.StringVar(&m.Into, "into", "", "the `folder` for the folders of several")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				if c.Snapshot && c.Depth == 0 {
					c.Depth = 1
				}
				if *everything || m.List != "" || m.Into != "" || len(args) > 2 || len(args) > 0 && namesSeveral(args[0]) {
					m.Which = args
					if len(args) == 0 && !*everything && m.List == "" {
						return fault.New(fault.Usage, "which repositories? Name them, or use --everything").Try("", text.Command("uncinate", "clone", "--everything", "--into", m.Into))
					}
					return e.cloneMany(ctx, d, m, *preview)
				}
				if len(args) == 0 {
					return fault.New(fault.Usage, "usage: uncinate clone [options] REPOSITORY [FOLDER]").Try("see the repositories", "uncinate repository list").Try("all that the account sees", "uncinate clone --everything")
				}
				if c.What = args[0]; len(args) > 1 {
					c.Folder = args[1]
				}
				return e.clone(ctx, d, *c, *preview)
			})
		}}
}

// namesSeveral tells a pattern or an owner from one repository; an address may hold such signs.
func namesSeveral(what string) bool {
	return !strings.Contains(what, ":") && (strings.ContainsAny(what, "*?[") || strings.HasSuffix(what, "/"))
}

func (e *Env) clone(ctx context.Context, d *desk.Desk, c attach.CloneOptions, preview bool) error {
	cloning, err := attach.PlanClone(ctx, d, c)
	if again, vouch := e.vouch(ctx, d, err); again {
		cloning, err = attach.PlanClone(ctx, d, c)
	} else {
		err = vouch
	}
	if fault.Is(err, fault.HostSaidNo) && !strings.ContainsAny(c.What, ":@") {
		if chosen, e2 := e.byPart(ctx, d, c, err); e2 != nil {
			return e2
		} else if chosen != nil {
			cloning, err = attach.PlanClone(ctx, d, *chosen)
		}
	}
	if err != nil {
		return err
	}
	p := plans{preview: preview, yes: true}
	if goes, err := e.propose(ctx, p, "To bring "+text.Visible(c.What)+" onto this machine:", cloning, cloning.Notes()); err != nil || !goes {
		return err
	}
	r, err := cloning.Do(ctx)
	if err != nil {
		return err
	}
	return e.Give(r, func() { e.cloned(r) })
}

// byPart finds the repository of whose name a part was given: the only one, or the one
// that the person chooses. Nil leaves the refusal as it is.
func (e *Env) byPart(ctx context.Context, d *desk.Desk, c attach.CloneOptions, refused error) (*attach.CloneOptions, error) {
	all, _, err := repositories.List(ctx, d, c.Account, c.What)
	if err != nil || len(all) == 0 || len(fault.Of(refused).Details) > 0 && len(all) > 20 {
		return nil, refused
	}
	pick := all[0]
	if len(all) > 1 {
		if !e.asks {
			f := fault.New(fault.Decision, "%s repositories have %s in their name; say which", text.Number(len(all)), text.Quote(c.What))
			for i, r := range all {
				if i == 6 {
					f.Detail("and %d more", len(all)-i)
					break
				}
				f.Try("", text.Command("uncinate", "clone", r.Path(), "--account", r.Account))
			}
			return nil, f
		}
		for i, r := range all {
			e.Aside("%3d  %s  (%s)", i+1, text.Visible(r.Path()), text.Visible(r.Account))
		}
		for {
			answer, err := e.ask(ctx, "Which one? (its number) ")
			if err != nil {
				return nil, err
			}
			if n, ok := survey.Numbers(answer, len(all)); ok && len(n) == 1 {
				pick = all[n[0]-1]
				break
			}
		}
	}
	e.Aside("Only %s has that in its name, so that one is used.", text.Visible(pick.Path()))
	c.What, c.Account = pick.Path(), pick.Account
	return &c, nil
}

func (e *Env) cloned(r *attach.Cloned) {
	e.Say("%s", e.Out.strong("Cloned."))
	holds := fmt.Sprintf("%s, %s; branch %s at %.10s", text.Count(r.Files, "file"), text.Size(r.Bytes), text.Visible(r.Branch), r.Commit)
	if r.Commit == "" {
		holds = "nothing yet: no commit was sent to it"
	}
	account := r.Account
	if account == "" {
		account = "none; git uses its own sign-in"
	}
	kept := ""
	switch {
	case r.Snapshot:
		kept = "files only; .git was removed"
	case r.ReadOnly:
		kept = "receives only; sync sends nothing from it"
	}
	e.Facts([2]string{"folder", r.Folder}, [2]string{"from", r.Address}, [2]string{"account", account}, [2]string{"holds", holds}, [2]string{"use", kept}, [2]string{"inside", inside(r.Inside)}, [2]string{"brought", broughtParts(e, r.Submodules)})
	if r.HandOver != nil {
		e.handedOver("What git does not bring:", r.HandOver)
	}
}

// broughtParts names submodules that were brought.
func broughtParts(e *Env, paths []string) string {
	if len(paths) == 0 {
		return ""
	}
	return text.Count(len(paths), "submodule") + ": " + e.Out.visible(text.Excerpt(strings.Join(paths, ", "), 200))
}

// inside names the projects of a copy, and where they are.
func inside(all []attach.Inside) string {
	var parts []string
	for _, x := range all {
		if len(x.Folders) == 1 && x.Folders[0] == "." {
			parts = append(parts, x.Kind)
			continue
		}
		some := x.Folders[:min(3, len(x.Folders))]
		words := x.Kind + " in " + strings.Join(some, ", ")
		if more := len(x.Folders) - len(some); more > 0 {
			words += fmt.Sprintf(" and %d more", more)
		}
		parts = append(parts, words)
	}
	return strings.Join(parts, "; ")
}

func (e *Env) cloneMany(ctx context.Context, d *desk.Desk, o many.Options, preview bool) error {
	m, err := many.CloneMany(ctx, d, o)
	if err != nil {
		return err
	}
	for _, n := range m.Notes {
		e.Aside("Note: %s", text.Visible(n))
	}
	if preview {
		return e.wantedClones(m)
	}
	rows, err := m.Do(ctx, func(r many.ClonedRow) {
		if r.State == "cloned" && e.verbose {
			e.Aside("%s: %s", text.Visible(r.Name), text.Visible(r.Folder))
		}
	})
	if err != nil {
		return err
	}
	count, exit := map[string]int{}, fault.Kind(0)
	for _, r := range rows {
		count[r.State]++
		if r.Exit != 0 && exit == 0 {
			exit = r.Exit
		} else if r.Exit != 0 && exit != r.Exit {
			exit = fault.Failed
		}
	}
	if e.json {
		err = e.JSON(append([]many.ClonedRow{}, rows...))
	} else {
		e.clonedMany(rows, count)
	}
	if err == nil && exit != 0 {
		err = fault.New(exit, "%s not cloned; the same command, run again, goes on", text.Count(count["failed"], "repository")+text.Either(count["failed"] == 1, " was", " were"))
	}
	return err
}

// wantedClones shows what would be cloned, and where to.
func (e *Env) wantedClones(m *many.Many) error {
	doc, rows := Planned{Plan: []plan.Item{}}, [][]string{}
	for i, r := range m.Wanted {
		doc.Plan = append(doc.Plan, plan.Item{ID: "clone " + r.Path(), Place: plan.Here, Sentence: "Clone " + r.Path() + " into " + m.Folders[i]})
		rows = append(rows, []string{r.Path(), r.Account, m.Folders[i]})
	}
	return e.Give(doc, func() {
		e.Table([]string{"repository", "account", "folder"}, rows[:min(len(rows), mostLines)])
		if more := len(rows) - mostLines; more > 0 {
			e.Say("")
			e.Say("%s more. To see all:", text.Number(more))
			e.Say("    %s --json", typed(os.Args[1:]))
		}
	})
}

// countsOf says how many repositories of each state there are, but for none of one.
func countsOf(all [][2]any) string {
	var parts []string
	for _, x := range all {
		n, _ := x[1].(int)
		switch {
		case n == 0:
		case len(parts) == 0:
			parts = append(parts, text.Count(n, "repository")+" "+x[0].(string))
		default:
			parts = append(parts, text.Number(n)+" "+x[0].(string))
		}
	}
	if len(parts) == 0 {
		return "No repository was cloned"
	}
	return strings.Join(parts, ", ")
}

// clonedMany says what came of each, and what some of them need now.
func (e *Env) clonedMany(rows []many.ClonedRow, count map[string]int) {
	var supply, large, alike []string
	for _, r := range rows {
		if r.Exit != 0 {
			e.Say("%s: %s.", e.Out.strong(e.Out.visible(r.Name)), e.Out.wrap(e.Out.visible(r.Says), 2))
			if len(r.Remedies) > 0 {
				e.Say("      %s", text.Visible(r.Remedies[0]))
			}
		}
		if r.Cloned == nil {
			continue
		}
		if r.Cloned.HandOver != nil && !r.Cloned.HandOver.Empty() {
			supply = append(supply, r.Name)
		}
		if r.Cloned.Pointers {
			large = append(large, r.Name)
		}
		if len(r.Cloned.Alike) > 0 {
			alike = append(alike, r.Name)
		}
	}
	e.Say("%s.", countsOf([][2]any{{"cloned", count["cloned"]}, {"here already", count["here already"]}, {"failed", count["failed"]}}))
	for _, about := range []struct {
		says  string
		names []string
	}{{"Something must be made or supplied in: ", supply}, {"Large files are only pointers, until git lfs pull, in: ", large},
		{"Names that differ only in upper and lower case cannot be side by side here, in: ", alike}} {
		if len(about.names) > 0 {
			e.Say("%s", e.Out.wrap(about.says+e.Out.visible(strings.Join(about.names, ", ")), 2))
		}
	}
	e.Say("To see their state: uncinate status --all")
}
