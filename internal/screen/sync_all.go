package screen

import (
	"context"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/job/many"
	"uncinate/internal/job/syncing"
)

// mostNeeds is how many projects that were not brought into step are told of.
const mostNeeds = 20

// syncAll brings all into step, and tells of those that moved or need somebody.
func (e *Env) syncAll(ctx context.Context, d *desk.Desk, o many.SyncAllOptions) error {
	rows, err := many.SyncAll(ctx, d, o, func(r many.SyncedRow) {
		if !e.json && r.State == "moved" {
			e.clearBar()
			e.Say("%s: %s", e.Out.visible(r.Name), did(r.Synced))
		}
	})
	if err != nil {
		return err
	}
	count := map[string]int{}
	var needs []many.SyncedRow
	exit, failed := fault.Kind(0), 0
	for _, r := range rows {
		count[r.State]++
		if r.Says != "" {
			needs = append(needs, r)
		}
		if r.Exit != 0 {
			failed++
			if exit == 0 {
				exit = r.Exit
			} else if exit != r.Exit {
				exit = fault.Failed
			}
		}
	}
	if e.json {
		err = e.JSON(rows)
	} else {
		for i, r := range needs {
			if i == mostNeeds && !e.verbose {
				e.Say("and %d more; all of them: uncinate sync --all --json", len(needs)-i)
				break
			}
			e.Say("%s: %s.", e.Out.strong(e.Out.visible(r.Name)), e.Out.wrap(e.Out.visible(r.Says), 2))
			if len(r.Remedies) > 0 {
				e.Say("      %s", text.Visible(inItsFolder(r)))
			}
		}
		var parts []string
		for _, x := range [][2]string{{"in step", "in step already"}, {"moved", "now in step"}, {"your decision", "for you to decide"}, {"failed", "failed"}} {
			if n := count[x[0]]; n > 0 {
				parts = append(parts, text.Number(n)+" "+x[1])
			}
		}
		e.Say("%s: %s.", text.Count(len(rows), "project"), strings.Join(parts, ", "))
	}
	if err == nil && exit != 0 && failed == len(rows) {
		err = fault.New(exit, "no project could be synced")
	} else if err == nil && exit != 0 {
		err = fault.New(exit, "%s not synced; the others are", text.Count(failed, "project")+text.Either(failed == 1, " was", " were"))
	}
	return err
}

// inItsFolder is a project's remedy, fit to be pasted anywhere.
func inItsFolder(r many.SyncedRow) string {
	next := r.Remedies[0]
	if strings.Contains(next, r.Folder) || !strings.HasPrefix(next, "uncinate ") {
		return next
	}
	return text.Command("cd", r.Folder) + " && " + next
}

func did(s *syncing.Synced) string {
	if s.Received+s.Sent+len(s.Tags) == 0 && !s.Rewritten {
		return "saved, and in step"
	}
	words := movedBy(s)
	return strings.ToLower(words[:1]) + words[1:]
}
