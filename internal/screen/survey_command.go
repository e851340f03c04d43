package screen

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/handover"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/surveying"
)

func surveyCommand() *Command {
	return &Command{Name: "survey", Args: "[FOLDER]", Most: 1,
		Short: "judge files: what would go up, what should stay, what must not go",
		Long: `Looks at every file of the folder (default: the current one) and sorts it: work,
which would go up; what is generated; what is one person's or one machine's; and
what must not go up as it is: keys, passwords, tokens, this machine's own paths,
files beyond the host's limits. Each finding comes with the command that deals with it.
Nothing is changed and nothing of the folder is run.

The first commit of an attach takes exactly what the survey says would go up. Kinds of
projects that this program does not know are added in files of your own, in the folder
kinds of its configuration.`,
		Examples: []string{"uncinate survey", "uncinate survey --full gauge-firmware", "uncinate survey --except '*.dwg' mooring-drawings"},
		Takes:    []string{"folder"}, Gives: surveying.Surveyed{}, Needs: map[string][]string{"preview": {"handover"}}, Apart: [][]string{{"prove", "preview"}},
		Options: func(o *flag.FlagSet) Run {
			var s surveying.Options
			in := inFolder(o)
			o.StringVar(&s.Host, "host", "", "use the limits of this `host`")
			o.BoolVar(&s.Full, "full", false, "show every finding, and every file")
			o.StringVar(&s.Prove, "prove", "", "run this `command`, such as make, in a fresh copy of only what would go up, and report what it lacks")
			o.BoolVar(&s.Over, "handover", false, "write into the project what those who clone it must make or supply")
			o.Var((*list)(&s.Choice.Only), "only", "count only this `path`, folder or pattern as going up; may be repeated")
			o.Var((*list)(&s.Choice.Except), "except", "count this `path`, folder or pattern as staying; may be repeated")
			o.BoolVar(&s.Preview, "preview", false, "with --handover: show what would be written and stop")
			return withDesk(func(ctx context.Context, e *Env, d *desk.Desk, args []string) (err error) {
				if s.Folder, err = in.of(args...); err != nil {
					return err
				}
				r, err := surveying.Survey(ctx, d, s)
				if err != nil {
					return err
				}
				return e.Give(r, func() { e.surveyed(r, s) })
			})
		}}
}

// mostFolders is how many folders a survey shows, and mostFindings how many findings
// of a weight, unless all are asked for.
const (
	mostFolders  = 12
	mostFindings = 10
)

func (e *Env) surveyed(r *surveying.Surveyed, o surveying.Options) {
	for _, w := range r.Wrong {
		e.Say("%s", e.Out.wrap("Is this the folder you mean? "+w.Says+".", 0))
		if len(w.Fix) > 0 {
			e.Say("    %s", text.Command(append([]string{"uncinate"}, w.Fix...)...))
		}
	}
	head := fmt.Sprintf("%s: %s, %s would go up; %s.", text.Visible(filepath.Base(r.Folder)), text.Count(r.Up.Files, "file"), text.Size(r.Up.Bytes), stay(r.Stays.Files))
	e.Say("%s", e.Out.strong(head))
	if len(r.Kinds) > 0 {
		e.Say("%s", e.Out.wrap("Made of "+strings.Join(r.Kinds, ", ")+".", 0))
	}
	if len(r.Folders) > 0 {
		e.Say("")
		e.weights(r.Folders, o.Full)
	}
	for _, w := range []struct{ weight, head string }{{survey.Stop, "Must not go up as it is:"}, {survey.Look, "Look at:"}, {survey.Know, "Good to know:"}} {
		e.findings(r, w.weight, w.head, o)
	}
	for _, l := range r.Let {
		e.Say("Let through: %s", e.Out.wrap(text.Visible(l.Path)+" ("+text.Visible(l.Reason)+")", 13))
	}
	if o.Full {
		e.Say("")
		var rows [][]string
		for _, f := range r.Files {
			rows = append(rows, []string{f.Path, text.Size(f.Bytes), f.Class, f.Why})
		}
		e.Table([]string{"file", "size", "is", "because"}, rows)
	}
	if r.Proved != nil {
		e.proved(r.Proved)
	}
	if r.HandOver != nil {
		e.Say("")
		e.handedOver(text.Either(o.Preview, "Would be written to ", "Written to ")+handover.File+" for those who clone it:", r.HandOver)
	}
	if len(r.Rules) > 0 {
		e.Aside("")
		e.Aside("%s", e.Err.wrap(fmt.Sprintf("The first attach writes %s for %s; to write %s now:", text.Count(len(r.Rules), "ignore rule"), rulesFor(r.Rules), desk.ItThem(len(r.Rules))), 0))
		e.Aside("    %s", desk.FolderCommand(o.Folder, "ignore", "add", "--suggested"))
	}
}

// rulesFor says what suggested rules are for.
func rulesFor(all []surveying.SuggestedRule) string {
	now := slices.ContainsFunc(all, func(r surveying.SuggestedRule) bool { return r.Files > 0 })
	later := slices.ContainsFunc(all, func(r surveying.SuggestedRule) bool { return r.Files == 0 })
	switch {
	case now && later:
		return "what stays and what a build will make"
	case later:
		return "what a build will make"
	}
	return "what stays"
}

func stay(n int) string {
	if n == 0 {
		return "nothing stays"
	}
	if n == 1 {
		return "1 stays"
	}
	return text.Number(n) + " stay"
}

// weights shows the folders by weight, each with a bar: its dark part goes up.
func (e *Env) weights(all []survey.Weight, full bool) {
	heaviest := all[0].Up.Bytes + all[0].Stays.Bytes
	const bar = 12
	rest := all[:0:0]
	if len(all) > mostFolders && !full {
		all, rest = all[:mostFolders], all[mostFolders:]
	}
	told := func(t survey.Totals) string {
		if t.Files == 0 {
			return "-"
		}
		return text.Number(t.Files) + ", " + text.Size(t.Bytes)
	}
	dark, light := "█", "░"
	if e.Out.ascii {
		dark, light = "#", "."
	}
	var rows [][]string
	for _, w := range all {
		total := w.Up.Bytes + w.Stays.Bytes
		n, up := 0, 0
		if heaviest > 0 && total > 0 {
			n = max(1, int(total*bar/heaviest))
			up = int((w.Up.Bytes*int64(n) + total/2) / total)
		}
		name := w.Folder + "/"
		if w.Folder == "." {
			name = "(here)"
		}
		rows = append(rows, []string{name, told(w.Up), told(w.Stays), strings.Repeat(dark, up) + strings.Repeat(light, n-up), w.Why})
	}
	e.Table([]string{"folder", "goes up", "stays", "", ""}, rows)
	if len(rest) > 0 {
		var up, stays survey.Totals
		for _, w := range rest {
			up.Files, up.Bytes = up.Files+w.Up.Files, up.Bytes+w.Up.Bytes
			stays.Files, stays.Bytes = stays.Files+w.Stays.Files, stays.Bytes+w.Stays.Bytes
		}
		e.Say("and %s with %s that go up and %s that stay (--full shows them)", text.Count(len(rest), "folder"), text.Count(up.Files, "file"), text.Number(stays.Files))
	}
}

// findings shows those of one weight: one by one, each with its command, or those that
// say the same together where there are many.
func (e *Env) findings(r *surveying.Surveyed, weight, head string, o surveying.Options) {
	var all []survey.Finding
	for _, f := range r.Findings {
		if f.Weight == weight {
			all = append(all, f)
		}
	}
	if len(all) == 0 {
		return
	}
	if !o.Full {
		all = surveying.PerFile(all)
	}
	e.Say("")
	e.Say("%s", e.Out.strong(head))
	same := map[string][]survey.Finding{}
	var order []string
	for _, f := range all {
		if _, ok := same[f.Says]; !ok {
			order = append(order, f.Says)
		}
		same[f.Says] = append(same[f.Says], f)
	}
	shown := 0
	for _, says := range order {
		group := same[says]
		if len(group) > 3 && weight != survey.Stop && !o.Full {
			var names []string
			for _, f := range group[:3] {
				names = append(names, text.Visible(f.Path))
			}
			e.Say("  %s", e.Out.wrap(fmt.Sprintf("%s of which each %s: %s and %d more", text.Count(len(group), "file"), says, strings.Join(names, ", "), len(group)-3), 4))
			shown++
			continue
		}
		for i, f := range group {
			if shown >= mostFindings && !o.Full {
				break
			}
			shown++
			e.Say("  %s", e.Out.wrap(surveying.Sentence(f), 4))
			last := i == len(group)-1 || group[i+1].Path != f.Path
			if len(f.Fix) > 0 && last {
				e.Say("      %s", desk.FolderCommand(o.Folder, f.Fix...))
			}
		}
	}
	if shown >= mostFindings && !o.Full && len(all) > shown {
		e.Say("  and %s more (--full shows all)", text.Number(len(all)-shown))
	}
}

func (e *Env) proved(p *surveying.Proved) {
	e.Say("")
	if p.Exit == 0 {
		e.Say("%s", e.Out.strong(fmt.Sprintf("Proved: in a fresh copy of %s, %s succeeded in %s.", text.Count(p.Copied, "file"), text.Quote(p.Command), strings.TrimSuffix(p.Took, "s")+" s")))
		if p.Made > 0 {
			e.Say("  It made %s again of those that stay.", text.Count(p.Made, "file"))
		}
	} else {
		e.Say("%s", e.Out.strong(fmt.Sprintf("Not proved: in a fresh copy of %s, %s failed with %d.", text.Count(p.Copied, "file"), text.Quote(p.Command), p.Exit)))
		for _, line := range p.Output {
			e.Say("  | %s", line)
		}
		for _, a := range p.Asked {
			e.Say("  It speaks of %s, which stays here.", text.Visible(a))
		}
	}
	if n := len(p.Missing); n > 0 && p.Exit == 0 {
		shown := strings.Join(p.Missing[:min(n, 3)], ", ")
		if n > 3 {
			shown += ", ..."
		}
		e.Say("  %s", e.Out.wrap(fmt.Sprintf("It did not make %s that would stay: %s", text.Count(n, "file"), text.Visible(shown)), 4))
	}
}

// handedOver shows what a copy needs besides what git brings.
func (e *Env) handedOver(head string, n *handover.Note) {
	if n.Empty() {
		e.Say("%s nothing more is needed.", head)
		return
	}
	e.Say("%s", head)
	for _, x := range n.Make {
		e.Say("  %s", e.Out.wrap(text.Visible(x.What)+": "+text.Visible(x.How), 4))
	}
	for _, x := range n.Supply {
		e.Say("  %s", e.Out.wrap(text.Visible(x.What)+": "+text.Visible(x.How), 4))
	}
}
