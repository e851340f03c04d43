package screen

import (
	"context"
	"flag"
	"strings"
	"time"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/repositories"
)

func repositoryShow() *Command {
	return &Command{Name: "show", Args: "REPOSITORY", Least: 1, Most: 1, Takes: []string{"repository"}, Gives: repositories.Shown{}, Short: "show one, with its people, protected branches and limits",
		Options: func(o *flag.FlagSet) Run {
			account := accountOption(o)
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) error {
				r, err := repositories.Show(ctx, d, *account, args[0])
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.repository(r) })
			})
		}}
}

// repository shows one.
func (e *Env) repository(r *repositories.Shown) {
	made, empty, archived := "", "", ""
	if !r.Created.IsZero() {
		made = r.Created.Format(time.DateOnly)
		if r.Creator != "" {
			made += " by " + r.Creator
		}
	}
	if r.Empty != nil && *r.Empty {
		empty = "nothing yet"
	}
	if r.Archived {
		archived = "yes: it may only be read"
	}
	e.Say("%s", e.Out.strong(text.Visible(r.Path())))
	facts := [][2]string{{"host", r.Host}, {"about", r.Description}, {"visibility", r.Visibility}, {"archived", archived}, {"branch", r.DefaultBranch}, {"holds", empty},
		{"your right", r.Right}, {"created", made}, {"page", r.Page}, {"https", r.HTTPS}, {"ssh", r.SSH}}
	var people []string
	for _, p := range r.People {
		people = append(people, p.User+" ("+p.Right+text.Either(p.Inherited == "", "", ", by "+p.Inherited)+")")
	}
	for _, i := range r.Invited {
		people = append(people, i.To()+" (invited: "+i.Right+")")
	}
	facts = append(facts, [2]string{"people", some(people)})
	var guards []string
	for _, g := range r.Protected {
		guards = append(guards, g.Branch+text.Either(g.Says() == "", "", " ("+g.Says()+")"))
	}
	facts = append(facts, [2]string{"protected", some(guards)})
	var keys []string
	for _, k := range r.Keys {
		keys = append(keys, k.Title+" ("+k.Right+")")
	}
	e.Facts(append(facts, [2]string{"deploy keys", some(keys)}, [2]string{"limits", strings.Join(r.Limits, ", ")})...)
	for _, u := range r.Unable {
		e.Aside("%s", u)
	}
}

// some names the first of many.
func some(all []string) string {
	const most = 6
	says := strings.Join(all[:min(len(all), most)], ", ")
	if len(all) > most {
		says += " and " + text.Number(len(all)-most) + " more"
	}
	return says
}
