package screen

import (
	"flag"
	"fmt"
	"path/filepath"
	"strings"

	"uncinate/internal/core/board"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/project"
)

// Commands are all commands but those of the practice hosts.
func Commands() []*Command {
	return []*Command{readyCommand(), surveyCommand(), ignoreCommand(), attachCommand(), detachCommand(), cloneCommand(), statusCommand(), changesCommand(), saveCommand(), syncCommand(), historyCommand(), branchCommand(), tagCommand(), rescueCommand(), visitCommand(),
		hostedCommand(), accessCommand(), hostCommand(), accountCommand(), tokenCommand(), keyCommand(), vaultCommand(), completionCommand(), credentialCommand(), helpCommand(), versionCommand()}
}

// plans are the options of every command that shows a plan first.
type plans struct{ preview, yes bool }

func (p *plans) add(o *flag.FlagSet) {
	o.BoolVar(&p.preview, "preview", false, "show the plan and stop")
	o.BoolVar(&p.yes, "yes", false, "go ahead without asking")
}

// accountOption is the option that says which account.
func accountOption(o *flag.FlagSet) *string {
	return o.String("account", "", "which `account` to use")
}

type list []string

func (l *list) String() string     { return strings.Join(*l, ",") }
func (l *list) Set(s string) error { *l = append(*l, s); return nil }

func folderOf(args []string) string {
	if len(args) == 0 {
		return "."
	}
	return args[0]
}

func changes(m map[string]int) string { return board.Changes(m) }

func (e *Env) standing(s *project.Standing) {
	e.Say("%s on branch %s", e.Out.strong(text.Visible(filepath.Base(s.Folder))), text.Visible(s.Branch))
	files := "all saved"
	if !s.Clean() {
		files = changes(s.Changed) + "; not saved yet"
	}
	host := ""
	next := ""
	switch {
	case s.Commit == "":
		host, next = "nothing sent yet: there is no commit here", "write something, then: uncinate sync --save \"What was done\""
	case s.Unsent:
		host, next = "this branch was never sent", "uncinate sync"
	case s.Moved && s.Ahead > 0:
		host, next = fmt.Sprintf("new commits there, and %s only here", text.Count(s.Ahead, "commit")), "uncinate sync"
	case s.Moved:
		host, next = "new commits there that are not here", "uncinate sync"
	case s.Ahead > 0 && s.Behind > 0:
		host, next = fmt.Sprintf("%s only here, %s only there", text.Count(s.Ahead, "commit"), text.Count(s.Behind, "commit")), "uncinate sync"
	case s.Ahead > 0:
		host, next = text.Count(s.Ahead, "commit")+" only here", "uncinate sync"
	case s.Behind > 0:
		host, next = text.Count(s.Behind, "commit")+" only there", "uncinate sync"
	default:
		host = "in step"
	}
	if s.NowAt != "" {
		host, next = host+", as far as known; the repository is called "+s.NowAt+" now", "uncinate sync"
	} else if !s.Asked && s.WhyNot != "" {
		host += ", as far as known; no answer from the host: " + s.WhyNot
	} else if !s.Asked {
		host += ", as far as known; the host was not asked"
	}
	account := s.Account
	if account == "" {
		account = "none; git signs in with what it has"
	}
	only := ""
	if len(s.Branches) > 0 {
		only = "branches " + strings.Join(s.Branches, ", ")
	}
	if s.Stashes > 0 {
		only = strings.TrimPrefix(only+"; "+text.Count(s.Stashes, "change")+" laid aside by git stash", "; ")
	}
	rescued := ""
	if s.Rescues > 0 {
		rescued = text.Count(s.Rescues, "rescue copy") + ": uncinate rescue list"
	}
	e.Facts([2]string{"files", files}, [2]string{"host", host}, [2]string{"only here", only}, [2]string{"kept", rescued}, [2]string{"address", s.Address}, [2]string{"account", account})
	switch {
	case s.Clean() || s.Commit == "":
	case next == "":
		next = `uncinate save "What was done"`
	default:
		next = `uncinate sync --save "What was done"`
	}
	if next != "" {
		e.Say("Next: %s", next)
	}
}
