package screen

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/attach"
	"uncinate/internal/job/attach/join"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/job/surveying"
)

func attachCommand() *Command {
	return &Command{Name: "attach", First: []string{"to", "name", "owner", "visibility", "description", "account", "host", "over", "key", "remote", "only", "except", "pick", "message", "branch", "readme", "licence", "large", "full-name", "email", "branches", "clash", "let", "reason", "trust", "copy", "move"}, Args: "[FOLDER]", Most: 1,
		Short: "publish a local project to a repository on a host, and keep them tied",
		Long: `Looks at the folder (default: the current one), at git and at the host, shows the plan,
asks, does it, and checks the result with the host itself. The repository is created on
the host (default: private); with --to, one that was created on the host before is used.
An empty folder is attached too; its first commit can come later.

Interrupted, or run again, it goes on where it was and creates nothing twice. When all
is done it says so and changes nothing.`,
		Examples: []string{"uncinate attach --preview", "uncinate attach --yes gauge-firmware",
			"uncinate attach --name saltmarsh/gauge-firmware --visibility members", "uncinate attach --to https://gannet.example/tern/gauge-firmware --clash both", "uncinate attach --move --account tern-petrel"},
		Takes: []string{"folder"}, Gives: attach.Attached{}, Needs: map[string][]string{"copy": {"remote"}, "reason": {"let"}, "key": {"to"}},
		Apart: [][]string{{"to", "name"}, {"key", "account"}, {"to", "owner"}, {"move", "copy"}, {"copy", "only"}, {"copy", "except"}, {"copy", "message"}},
		Options: func(o *flag.FlagSet) Run {
			var p plans
			p.add(o)
			var a target.Options
			in := inFolder(o)
			o.StringVar(&a.To, "to", "", "use the `repository` that was created on the host before: its name, any of its addresses, or the path of a clone of it")
			o.StringVar(&a.Name, "name", "", "`name` of the new repository, or OWNER/NAME (default: the folder's)")
			o.StringVar(&a.Owner, "owner", "", "its `owner`, a person or a group (default: the account's own)")
			o.StringVar(&a.Account, "account", "", "which `account` to use")
			o.StringVar(&a.Host, "host", "", "which `host`, if there are accounts on several")
			o.StringVar(&a.Key, "key", "", "the `file` of an SSH key, for a server where you have no account, such as a deploy key (with --to)")
			o.StringVar(&a.Visibility, "visibility", "", "private, members or public: `who` can see it (default: private)")
			o.StringVar(&a.Description, "description", "", "one `line` about the repository")
			o.StringVar(&a.Remote, "remote", "", "git's `name` for it here (default: origin)")
			o.StringVar(&a.Message, "message", "", "the first commit's message, a `text`")
			o.StringVar(&a.FullName, "full-name", "", "the `name` for commits (default: the account's)")
			o.StringVar(&a.Email, "email", "", "the e-mail `address` for commits (default: the account's)")
			o.StringVar(&a.Over, "over", "", "the `transport`: https or ssh (default: as it is, or the account's)")
			o.BoolVar(&a.Branches, "branches", false, "send all local branches, not only the one checked out")
			o.BoolVar(&a.Move, "move", false, "move an attached project to another host or account, with all branches and tags; the old repository stays")
			o.BoolVar(&a.Second, "copy", false, "add a second remote, which only receives: sync sends to it too (with --remote NAME)")
			o.Var((*list)(&a.Large), "large", "keep this `path`, folder or pattern in large-file storage (git-lfs); may be repeated")
			o.BoolVar(&a.Trust, "trust", false, "use what the folder's own git configuration says, also where it leads traffic or a token elsewhere")
			o.BoolVar(&a.Readme, "readme", false, "write a readme with the name and the description, where there is none")
			o.StringVar(&a.Licence, "licence", "", "write this licence where there is none: its `SPDX` identifier, such as MIT")
			o.StringVar(&a.Branch, "branch", "", "the branch's `name` in a folder that is not a repository yet (default: main)")
			o.StringVar(&a.Clash, "clash", "", "`how` clashing files are decided: mine, theirs or both")
			o.Var((*list)(&a.Only), "only", "send only this `path`, folder or pattern with the first commit; may be repeated")
			o.Var((*list)(&a.Except), "except", "leave this `path`, folder or pattern out of the first commit; may be repeated")
			pick := o.Bool("pick", false, "show what would go up, by folder and by ending, and ask what should stay")
			o.Var((*list)(&a.Let), "let", "send this `path`, folder or pattern although the survey would stop it; may be repeated")
			o.StringVar(&a.Reason, "reason", "", "why it may go up: a `text`, kept with it")
			return func(ctx context.Context, e *Env, args []string) error {
				var err error
				if a.Folder, err = in.of(args...); err != nil {
					return err
				}
				if *pick {
					if err := e.pick(ctx, &a); err != nil {
						return err
					}
				}
				return runAttach(ctx, e, p, a)
			}
		}}
}

func runAttach(ctx context.Context, e *Env, p plans, o target.Options) (err error) {
	d, err := e.Desk()
	if err != nil {
		return err
	}
	o.Preview = p.preview
	a, err := attach.Plan(ctx, d, o)
	unknown, clash := (*login.UnknownHost)(nil), (*worktree.Undecided)(nil)
	if err != nil && e.asks && !p.preview && !errors.As(err, &unknown) && !errors.As(err, &clash) {
		// No account yet: set one up here, then go on.
		if again, setUp := e.setUp(ctx, d, o.Host, err); setUp != nil || !again {
			return setUp
		}
		a, err = attach.Plan(ctx, d, o)
	}
	if again, vouch := e.vouch(ctx, d, err); again {
		a, err = attach.Plan(ctx, d, o)
	} else {
		err = vouch
	}
	if errors.As(err, &clash) && e.asks && !p.yes && !p.preview {
		if o.Clash, err = e.askClash(ctx, clash); err != nil {
			return err
		}
		a, err = attach.Plan(ctx, d, o)
	}
	if err != nil {
		return err
	}
	defer fault.Also(&err, a.Close)
	finished, err := a.Finished(ctx)
	if err != nil {
		return err
	}
	if finished {
		if err := a.Unheeded(ctx); err != nil {
			return err
		}
		if p.preview && e.json {
			return e.would(ctx, "")
		}
	} else {
		if a.Resumed {
			e.Aside("An earlier attach was interrupted; this one goes on from there.")
		}
		if goes, err := e.propose(ctx, p, a.Headline(), a, a.Notes); err != nil || !goes {
			return err
		}
	}
	r, err := a.Do(ctx)
	if err != nil {
		return err
	}
	return e.Give(r, func() {
		e.attached(r, a.HostName())
		e.tasksAreWrong(ctx, d, r.Folder)
	})
}

// pick shows what would go up, in parts, and asks which of them stay.
func (e *Env) pick(ctx context.Context, o *target.Options) error {
	d, err := e.Desk()
	if err != nil {
		return err
	}
	where, err := project.FindFolder(d, o.Folder)
	if err != nil {
		return err
	}
	switch f, err := project.LookLoosely(ctx, d, where); {
	case err != nil:
		return err
	case f.Head != "":
		return attach.ChoosesFirst("--pick", where).
			TryWithout("attach what is committed", "uncinate attach", "pick")
	case !e.asks:
		return fault.New(fault.Decision, "there is no terminal to ask on what should stay").
			TryWithout("name it", "uncinate attach --except PATH", "pick").Try("see what there is", "uncinate survey")
	}
	groups, err := surveying.Groups(ctx, d, o.Folder, survey.Choice{Only: o.Only, Except: o.Except})
	if err != nil || len(groups) == 0 {
		return err
	}
	for i, g := range groups {
		if i > 0 && strings.HasPrefix(g.Name, "*") && !strings.HasPrefix(groups[i-1].Name, "*") {
			e.Aside("or by ending")
		}
		e.Aside("%3d  %-24s %s, %s", i+1, text.Visible(g.Name), text.Count(g.Files, "file"), text.Size(g.Bytes))
	}
	for {
		answer, err := e.ask(ctx, "Which of these stay here? (numbers such as 2 4-6; Enter for none) ")
		if err != nil {
			return err
		}
		if chosen, ok := survey.Numbers(answer, len(groups)); ok {
			for _, n := range chosen {
				o.Except = append(o.Except, groups[n-1].Rule)
			}
			return nil
		}
	}
}

// askClash asks how files that both sides hold are decided.
func (e *Env) askClash(ctx context.Context, c *worktree.Undecided) (string, error) {
	e.Aside("%s:", c.Says)
	for _, p := range c.Paths {
		e.Aside("  %s", text.Visible(p))
	}
	for {
		answer, err := e.ask(ctx, "Use mine, theirs, or both (mine is put beside)? ")
		if err != nil {
			return "", err
		}
		switch {
		case answer == "":
			return "", c
		case joining.Valid(answer):
			return answer, nil
		}
	}
}

// again is the command that was typed, with --yes.
func again(args []string) string { return typed(args) + " --yes" }

// typed is the command that was typed, fit to be pasted, without a secret that may be in an address.
func typed(args []string) string {
	words := []string{"uncinate"}
	for _, w := range args {
		words = append(words, withoutSecret(w))
	}
	return text.Command(words...)
}

func (e *Env) attached(r *attach.Attached, host string) {
	e.Say("%s", e.Out.strong(text.Either(r.Changed, "Attached.", "Already attached; nothing was changed.")))
	up, went := "nothing yet: the folder is empty", "sent"
	checked := cmp.Or(host, "the address") + " has it, and it is empty"
	if r.Commit != "" {
		up = fmt.Sprintf("%s, %s; branch %s at %.10s", text.Count(r.Files, "file"), text.Size(r.Bytes), text.Visible(r.Branch), r.Commit)
		checked = cmp.Or(host, "the address") + " holds the same commit"
		went = text.Either(r.Sent, "sent", "holds")
	}
	if r.Visibility != "" {
		checked += ", " + text.Either(r.Visibility == "members", "visible to members", r.Visibility)
		if r.Default != "" {
			checked += ", default branch " + text.Visible(r.Default)
		}
	}
	nested, others, tags, large := "", "", "", ""
	if len(r.OtherTags) > 0 {
		tags = text.Count(len(r.OtherTags), "tag") + ": " + e.Out.visible(text.Excerpt(strings.Join(r.OtherTags, ", "), 120)) + " (sent by: " + text.Command("git", "-C", r.Folder, "push", r.Remote, "--tags") + ")"
	}
	if len(r.Nested) > 0 {
		nested = strings.Join(r.Nested, ", ") + " (a repository of its own)"
	}
	if len(r.OtherBranches) > 0 {
		others = text.Count(len(r.OtherBranches), "branch") + ": " + strings.Join(r.OtherBranches, ", ") + " (--branches sends them)"
	}
	if r.Large > 0 {
		large = text.Count(r.Large, "file") + " in large-file storage"
	}
	joined, beside := joinedWords(r.Joined)
	e.Facts([2]string{"page", r.Page}, [2]string{"clone", r.Address}, [2]string{"joined", joined}, [2]string{"put beside", beside}, [2]string{went, up}, [2]string{"large files", large},
		[2]string{"stayed", stayedWords(r.Stays)}, [2]string{"stayed", nested}, [2]string{"stayed", others}, [2]string{"stayed", tags}, [2]string{"checked", checked})
	if r.Commit == "" {
		e.Aside("Next: write something, then: uncinate sync --save --message \"What was done\"")
	}
}

// stayedWords tells how many files stayed, and why.
func stayedWords(all []surveying.Stay) string {
	var stays []string
	total := 0
	for _, s := range all {
		total += s.Files
		name := s.Why
		if s.Pattern != "" {
			name = s.Pattern + " (" + s.Why + ")"
		}
		stays = append(stays, fmt.Sprintf("%s %s", text.Number(s.Files), name))
	}
	said := strings.Join(stays, ", ")
	switch len(all) {
	case 0:
		return ""
	case 1:
		return text.Count(total, "file") + ": " + strings.TrimPrefix(said, text.Number(total)+" ")
	}
	return text.Count(total, "file") + ": " + said
}

// joinedWords tells how the folder and what was on the host became one, and which files were
// kept beside.
func joinedWords(j *join.Result) (joined, beside string) {
	if j == nil {
		return "", ""
	}
	joined = text.Count(j.Commits, "commit") + " from the host"
	if len(j.Added) > 0 {
		joined += "; added here: " + strings.Join(j.Added[:min(4, len(j.Added))], ", ")
	}
	if more := len(j.Added) - 4; more > 0 {
		joined += fmt.Sprintf(" and %d more", more)
	}
	if j.Rules {
		joined += "; ignore rules of both"
	}
	var kept []string
	for _, d := range j.Decided {
		joined += "; " + d.Path + map[string]string{"mine": " is yours", "theirs": " is theirs", "both": " is theirs"}[d.Way]
		if d.Beside != "" {
			kept = append(kept, d.Beside)
		}
	}
	return joined, strings.Join(kept, ", ")
}
