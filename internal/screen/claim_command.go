package screen

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"time"

	"uncinate/internal/core/board"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/claims"
)

func claimCommand() *Command {
	return &Command{Name: "claim", Falls: "create", Short: "say \"I am working on this file\": list, create, release",
		Long: `A claim is seen by everybody who can read the repository: status, save, sync and changes tell
of files that others have claimed. It is kept on the host, in a ref of its own, and keeps nobody
from writing who does not use this program.`,
		Means: map[string]string{"show": "list", "make": "create", "add": "create", "take": "create", "end": "release", "drop": "release", "remove": "release", "delete": "release"},
		Subs:  []*Command{claimList(), claimCreate(), claimRelease()}}
}

func claimList() *Command {
	return &Command{Name: "list", Args: "[FOLDER]", Most: 1, Short: "list who has claimed what, since when, until when and why", Takes: []string{"project"}, Gives: claims.List{},
		Options: func(o *flag.FlagSet) Run {
			in := inFolder(o)
			most := mostOption(o)
			full := o.Bool("full", false, "those that have ended too")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				folder, err := in.of(args...)
				if err != nil {
					return err
				}
				l, err := claims.All(ctx, d, folder, *full)
				if err != nil {
					return err
				}
				return e.Give(l, func() { e.claims(l, time.Now(), *most) })
			})
		}}
}

func claimCreate() *Command {
	return &Command{Name: "create", First: []string{"until", "reason", "from", "branch"}, Args: "PATH...", Least: 1, Most: -1, Short: "claim files, folders or patterns", Takes: []string{"path"}, Gives: claims.Changed{},
		Long: `PATH is from the project's top; of a folder, all in it is claimed. "uncinate claim PATH" does the
same. What others have claimed is not claimed twice: it is said who has it, and --from takes it.`,
		Examples: []string{"uncinate claim create mooring/plan.dwg", "uncinate claim create 'mooring/*.dwg' --until 3d --reason 'The new mast'", "uncinate claim create mooring --from knot"},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			var c claims.Options
			o.StringVar(&c.Until, "until", "", "a `time` (2026-05-01, \"2026-05-01 17:00\") or for how long (30m, 8h, 3d, 2w); default: 1w")
			o.StringVar(&c.Reason, "reason", "", "what you do with it: a `text`")
			o.StringVar(&c.From, "from", "", "take it from this `person`")
			o.BoolVar(&c.Branch, "branch", false, "it ends, too, once the host no longer has the current branch")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				c.Folder, c.Paths = in.in(), args
				r, err := claims.Create(ctx, d, c)
				if err != nil {
					return err
				}
				return e.changeClaims(ctx, p, r)
			})
		}}
}

func claimRelease() *Command {
	return &Command{Name: "release", Args: "[PATH...]", Most: -1, Short: "release your claims: those of some paths, or all", Takes: []string{"path"}, Gives: claims.Changed{},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			in := inFolder(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				r, err := claims.Release(ctx, d, in.in(), args)
				if err != nil {
					return err
				}
				return e.changeClaims(ctx, p, r)
			})
		}}
}

// changeClaims carries a change of claims out; it is shown first where it takes something from somebody.
func (e *Env) changeClaims(ctx context.Context, p plans, c *claims.Change) error {
	p.yes = p.yes || !c.Asks()
	if p.preview || !p.yes {
		if goes, err := e.propose(ctx, p, "To change the claims:", c, c.Notes); err != nil || !goes {
			return err
		}
	}
	r, err := c.Do(ctx)
	if err != nil {
		return err
	}
	return e.Give(r, func() {
		for _, n := range c.Notes {
			e.Say("Note: %s", n)
		}
		for _, x := range r.Claimed {
			e.Say("Claimed: %s, until %s. When you are done: %s", e.Out.visible(x.Path), x.Until.Local().Format("2006-01-02 15:04"), text.Command(text.WithOperand([]string{"uncinate", "claim", "release"}, x.Path)...))
		}
		for _, x := range r.Taken {
			e.Say("Taken from %s: %s. The next uncinate status there says so.", e.Out.visible(x.By), e.Out.visible(x.Path))
		}
		for _, x := range r.Ended {
			e.Say("Released: %s.", e.Out.visible(x.Path))
		}
		if len(r.Claimed)+len(r.Ended) == 0 {
			e.Say("You have claimed nothing here.")
		}
	})
}

// claims lists claims.
func (e *Env) claims(l *claims.List, now time.Time, most int) {
	for _, t := range l.Taken {
		e.Say("%s.", e.Out.visible(t))
	}
	if l.Dropped != "" {
		e.Say("%s", l.Dropped)
	}
	if len(l.Claims) == 0 {
		e.Say("Nobody has claimed anything. To claim a file: uncinate claim create PATH")
		return
	}
	var rows [][]string
	for _, c := range l.Claims {
		who := c.By
		if c.Mine {
			who += " (you)"
		}
		until := day(c.Until)
		if c.Over {
			until += ", over"
		}
		here := ""
		if len(c.Changed) > 0 {
			here = text.Count(len(c.Changed), "file") + " changed"
			if len(c.Changed) == 1 && c.Changed[0] == c.Path {
				here = "changed"
			}
		}
		rows = append(rows, []string{c.Path, who, board.Age(now.Sub(c.Since)), until, here, c.Reason})
	}
	e.List([]string{"path", "who", "since", "until", "here", "why"}, rows, most)
	if !l.Clock {
		e.Say("The host tells no time: claims end by this machine's clock, 15 minutes later.")
	}
}

// claimed tells of changed files that others have claimed, and of those that must be claimed.
func (e *Env) claimed(s *project.Standing) {
	for _, t := range s.Taken {
		e.Say("%s", strings.TrimSuffix(e.Out.visible(t), ".")+".")
	}
	e.heldBy(s.Held)
	if n := len(s.Needs); n > 0 {
		e.Say("Must be claimed before %s saved: %s", text.Either(n == 1, "it is", "they are"), claims.Line(fromHere(s.Folder), s.Needs[:min(n, desk.MostShown)]))
	}
}

// fromHere is a folder as it is named in a command that is typed here.
func fromHere(folder string) string {
	if here, err := os.Getwd(); err == nil && here == folder {
		return "."
	}
	return folder
}

// heldBy tells which files others have claimed.
func (e *Env) heldBy(all []project.Held) {
	for i, h := range all {
		if i == desk.MostShown {
			e.Say("%s", fmt.Sprintf("and %d more: uncinate claim list", len(all)-i))
			return
		}
		e.Say("%s.", e.Out.visible(h.Says()))
	}
}
