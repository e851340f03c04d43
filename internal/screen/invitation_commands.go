package screen

import (
	"context"
	"flag"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/naming"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/repositories"
)

// ListedInvitations are the invitations to accounts, as a JSON document.
type ListedInvitations struct {
	Invitations []repositories.Invitation `json:"invitations"`
	Notes       []string                  `json:"notes,omitempty" says:"what could not be asked"`
}

func invitationCommand() *Command {
	return &Command{Name: "invitation", Short: "see who invites you to a repository, accept or decline: list, accept, decline",
		Long: "Over all your accounts, unless --account names one. To invite others: uncinate access grant PERSON",
		Subs: []*Command{
			invitationList(),
			invitationAnswer("accept", "accept one, and clone the repository", true),
			invitationAnswer("decline", "decline one", false),
		}}
}

func invitationList() *Command {
	return &Command{Name: "list", Gives: ListedInvitations{}, Short: "list the invitations to your accounts",
		Options: func(o *flag.FlagSet) Run {
			account := accountOption(o)
			most := mostOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, _ []string) error {
				all, notes, err := repositories.Invitations(ctx, d, *account)
				if err != nil {
					return err
				}
				return e.Give(ListedInvitations{all, notes}, func() {
					var rows [][]string
					for _, i := range all {
						sent := ""
						if !i.Sent.IsZero() {
							sent = i.Sent.Format(time.DateOnly)
						}
						rows = append(rows, []string{i.Repository, i.Right, i.By, sent, i.Host, i.Account})
					}
					if len(rows) == 0 {
						e.Say("There is no invitation to you.")
					} else {
						e.List([]string{"repository", "right", "by", "sent", "host", "account"}, rows, *most)
						e.Say("To accept one: %s", text.Command(text.WithOperand([]string{"uncinate", "invitation", "accept"}, text.Either(operand(all[0].Repository), all[0].Repository, all[0].ID))...))
					}
					for _, n := range notes {
						e.Aside("%s", n)
					}
				})
			})
		}}
}

// operand reports whether what a host names can be pasted as a repository's path.
func operand(path string) bool {
	owner, name := naming.Split(path)
	return owner != "" && !strings.HasPrefix(path, "-") && naming.Check(name) == nil && naming.Check(strings.ReplaceAll(owner, "/", "-")) == nil
}

func invitationAnswer(name, short string, takes bool) *Command {
	c := &Command{Name: name, Takes: []string{"invitation"}, Args: "REPOSITORY", Least: 1, Most: 1, Gives: DoneThings{}, Short: short, Examples: []string{"uncinate invitation " + name + " saltmarsh/gauge-firmware"}}
	c.Options = func(o *flag.FlagSet) Run {
		var p plans
		p.add(o)
		account := accountOption(o)
		clone := new(bool)
		if takes {
			clone = o.Bool("clone", false, "clone it then, into a folder of its name")
		}
		return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
			change, i, err := repositories.Answer(ctx, d, *account, args[0], takes)
			if err != nil {
				return err
			}
			if i == nil {
				return e.Give(DoneThings{Done: change.Notes}, func() { e.Say("%s", change.Notes[0]) })
			}
			says := text.Either(takes, "Accepted.", "Declined.")
			if takes && !*clone && operand(i.Repository) {
				says += " To clone it: " + text.Command("uncinate", "clone", i.Repository, "--account", i.Account)
			}
			if !*clone {
				return e.doChange(ctx, change, p, says)
			}
			if done, err := e.carryOut(ctx, p, change.Head, change, change.Notes); err != nil || !done {
				return err
			}
			if !operand(i.Repository) {
				return fault.New(fault.Refused, "accepted; a repository of such a name is not cloned: %s", text.Visible(i.Repository))
			}
			e.Aside("%s", says)
			return dispatch(ctx, e, []string{"clone", "--account", i.Account, "--", i.Repository})
		})
	}
	return c
}
