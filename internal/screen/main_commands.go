package screen

import (
	"cmp"
	"flag"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"uncinate/internal/core/board"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/project"
)

// Commands are all commands but those of the practice hosts.
func Commands() []*Command {
	return []*Command{readyCommand(), surveyCommand(), ignoreCommand(), attachCommand(), detachCommand(), cloneCommand(), projectCommand(), machineCommand(), deployCommand(), statusCommand(), changesCommand(), saveCommand(), syncCommand(), settleCommand(), undoCommand(), rescueCommand(), claimCommand(), historyCommand(), branchCommand(), tagCommand(), visitCommand(),
		repositoryCommand(), offerCommand(), accessCommand(), invitationCommand(), hostCommand(), accountCommand(), tokenCommand(), keyCommand(), vaultCommand(), settingsCommand(), completionCommand(), credentialCommand(), helpCommand(), versionCommand()}
}

// plans are the options of every command that shows a plan first.
type plans struct {
	preview, yes bool
	typed        string // what is to be typed in place of a yes; "" for a yes
}

func (p *plans) add(o *flag.FlagSet) {
	o.BoolVar(&p.preview, "preview", false, "show the plan and stop")
	o.BoolVar(&p.yes, "yes", false, "go ahead without asking")
}

// accountOption is the option that says which account.
func accountOption(o *flag.FlagSet) *string {
	return o.String("account", "", "which `account` to use")
}

// previewOption is for the commands that do at once what they are told, without asking.
func previewOption(o *flag.FlagSet) *bool {
	return o.Bool("preview", false, "show what would be done and stop")
}

// place is which project a command is about.
type place struct{ folder string }

// inFolder adds the option that names the project's folder.
func inFolder(o *flag.FlagSet) *place {
	p := &place{}
	o.StringVar(&p.folder, "folder", "", "the project's `folder` (default: the current one)")
	return p
}

// given is the folder as it was named, by the option or, in commands that take nothing else,
// as the argument; "" where neither names one.
func (p *place) given(args []string) (string, error) {
	if len(args) > 0 && p.folder != "" {
		return "", fault.New(fault.Usage, "the folder is named twice: %s and %s", text.Quote(args[0]), text.Quote(p.folder))
	}
	if len(args) > 0 {
		return args[0], nil
	}
	return p.folder, nil
}

// of is the folder as it was named, or the current one.
func (p *place) of(args ...string) (string, error) {
	folder, err := p.given(args)
	return cmp.Or(folder, "."), err
}

// in is the folder that the option names, or the current one.
func (p *place) in() string { return cmp.Or(p.folder, ".") }

type list []string

func (l *list) String() string     { return strings.Join(*l, ",") }
func (l *list) Set(s string) error { *l = append(*l, s); return nil }

func changes(m map[string]int) string { return board.Changes(m) }

// nextOf is the one next thing to type for a project, where next is what its commits ask for; "" for nothing.
func nextOf(s *project.Standing, next string) string {
	switch {
	case len(s.Clashing) > 0 && s.State == "clash":
		return text.Either(s.Moved || !s.Clean(), "uncinate sync", "uncinate settle") // it has to be received first
	case s.CutOff:
		return "uncinate sync"
	case s.State == s.Reply && len(s.Remedies) > 0:
		return s.Remedies[0]
	case s.Clean() || s.Commit == "":
		return next
	case next == "":
		return `uncinate save --message "What was done"`
	}
	return `uncinate sync --save --message "What was done"`
}

// sides says how a project and its host stand to each other, and what comes next; "" for nothing.
func sides(s *project.Standing) (host, next string) {
	switch {
	case s.Branch == "":
		return "no branch to sync", ""
	case s.Commit == "":
		host, next = "nothing to send yet: there is no commit here", "write something, then: uncinate sync --save --message \"What was done\""
	case s.Gone && s.HeldBy != "":
		host, next = "this branch is no longer on the host, where "+text.Visible(s.HeldBy)+" holds all of it", "uncinate branch switch "+text.Quote(s.HeldBy)
	case s.Gone:
		host, next = "this branch is no longer on the host", "uncinate sync"
	case s.Unsent:
		host, next = "this branch was never sent", "uncinate sync"
	case s.Moved && s.Ahead > 0:
		host, next = fmt.Sprintf("new commits on the host, and %s not sent", text.Count(s.Ahead, "commit")), "uncinate sync"
	case s.Moved:
		host, next = "new commits on the host", "uncinate sync"
	case s.Ahead > 0 && s.Behind > 0:
		host, next = fmt.Sprintf("%s not sent, %s not received", text.Count(s.Ahead, "commit"), text.Count(s.Behind, "commit")), "uncinate sync"
	case s.Ahead > 0 && s.Follows:
		host = text.Count(s.Ahead, "commit") + " only here; this copy of the project never sends"
	case s.Ahead > 0:
		host, next = text.Count(s.Ahead, "commit")+" not sent", "uncinate sync"
	case s.Behind > 0:
		host, next = text.Count(s.Behind, "commit")+" not received", "uncinate sync"
	case len(s.Others) > 0:
		host, next = "this branch is in step", "uncinate branch switch "+text.Quote(s.Others[0])+" && uncinate sync"
	default:
		host = "in step"
	}
	if s.NowAt != "" {
		host, next = host+", as last seen; the repository is now called "+s.NowAt, "uncinate sync"
	} else if s.Reply == "refused" {
		host = text.Either(host == "in step", "", host+", as last seen; ") + "the host refused: " + s.WhyNot
	} else if !s.Asked && s.WhyNot != "" {
		host += ", as last seen; " + text.Either(s.Reply == "not asked", "the host was not asked", "no answer from the host") + ": " + s.WhyNot
	} else if !s.Asked {
		host += ", as last seen; the host was not asked"
	}
	return host, next
}

// clash says which files clash, of what is committed on both sides.
func clash(s *project.Standing) string {
	if len(s.Clashing) == 0 {
		return ""
	}
	return text.Either(len(s.Clashing) == 1, "1 file", text.Count(len(s.Clashing), "file")) + " changed on both sides: " + text.Excerpt(strings.Join(s.Clashing, ", "), 120)
}

// mostMeets is how many files are named that others changed too.
const mostMeets = 8

// alsoThere tells who else changed what is changed here.
func (e *Env) alsoThere(all []project.Meets) {
	if len(all) == 0 {
		return
	}
	e.Say("Changed on the host too:")
	var facts [][2]string
	for _, m := range all[:min(len(all), mostMeets)] {
		on := ""
		if m.Branch != "" {
			on = " on branch " + m.Branch
		}
		facts = append(facts, [2]string{e.Out.visible(text.Excerpt(m.Path, 60)), m.By + on + ", " + ago(time.Since(m.When)) + ": " + m.Title})
	}
	e.Facts(facts...)
	if more := len(all) - len(facts); more > 0 {
		e.Say("  and %d more", more)
	}
}

// meets tells that, what was not looked through, and what was put beside to be done again.
func (e *Env) meets(s *project.Standing) {
	e.alsoThere(s.Meets)
	if s.NotAll != "" {
		e.Say("%s", e.Out.visible(s.NotAll))
	}
	for i, b := range s.Redo {
		if i == mostMeets {
			e.Say("and %d more, beside theirs", len(s.Redo)-i)
			break
		}
		e.Say("To do again: your %s is %s, beside theirs. Put your work into %s, save, and delete %s.", e.Out.visible(b.Path), e.Out.visible(b.At), e.Out.visible(b.Path), e.Out.visible(b.At))
	}
}

func (e *Env) standing(s *project.Standing) {
	on := "on branch " + text.Visible(s.Branch)
	if s.Branch == "" {
		on = "on no branch (a detached HEAD)"
	}
	e.Say("%s %s", e.Out.strong(text.Visible(filepath.Base(s.Folder))), on)
	files := "all saved"
	if !s.Clean() {
		files = changes(s.Changed) + "; not saved yet"
	}
	host, next := sides(s)
	account := s.Account
	if account == "" {
		account = "none; git uses its own sign-in"
	}
	only := ""
	if len(s.Branches) > 0 {
		only = "branches " + strings.Join(s.Branches, ", ")
	}
	if s.Stashes > 0 {
		only = strings.TrimPrefix(only+"; "+text.Count(s.Stashes, "change")+" stashed", "; ")
	}
	rescued := ""
	if s.Rescues > 0 {
		rescued = text.Count(s.Rescues, "rescue copy") + ": uncinate rescue list"
	}
	if s.CutOff {
		files += "; files were being received when that was cut off"
	}
	others := ""
	if len(s.Others) > 0 {
		others = board.NewFor(s.Others)
	}
	e.Facts([2]string{"unfinished", s.Unfinished}, [2]string{"files", files}, [2]string{"sync", host}, [2]string{"clash", clash(s)}, [2]string{"branches", others}, [2]string{"only here", only}, [2]string{"rescue", rescued}, [2]string{"address", s.Address}, [2]string{"offer", s.Offer}, [2]string{"account", account})
	e.meets(s)
	e.claimed(s)
	if s.Stopped != nil {
		e.showRemedies(e.Out, s.Stopped)
		return
	}
	next = nextOf(s, next)
	if next != "" {
		e.Say("Next: %s", next)
	}
}
