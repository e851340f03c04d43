package job

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/licences"
	"uncinate/internal/core/text"
)

// notePublic says what "public" means before it is agreed to.
func (a *Attach) notePublic(ctx context.Context) error {
	if !a.create || a.target.Visibility != "public" {
		return nil
	}
	what := "every file"
	var top []string
	if a.folder.head != "" {
		out, err := a.folder.repo.Do(ctx, "log", "--format=%ae%n%ce", "--no-show-signature", "HEAD")
		if err != nil {
			return gitFault(err, "git cannot list the commits")
		}
		people := strings.Split(out, "\n")
		slices.Sort(people)
		what = fmt.Sprintf("every file in every commit, with the names and e-mail addresses of %s", text.Count(len(slices.Compact(people)), "author"))
		if top, err = a.folder.repo.Lines(ctx, "ls-tree", "-z", "--name-only", "HEAD"); err != nil {
			return gitFault(err, "git cannot list the files")
		}
	} else {
		what += ", and the e-mail address " + text.Visible(a.email)
		top = slices.Clone(a.travel.up)
	}
	a.Notes = append(a.Notes, "Public lets everybody see "+what+", for ever: what was public once may have been copied. To share it with some people it need not be public.")
	for _, f := range a.first {
		top = append(top, f.name)
	}
	if !licensed(top) {
		a.Notes = append(a.Notes, "Without a licence nobody may use what they see. --licence adds one: "+strings.Join(licences.Known(), ", ")+".")
	}
	return nil
}
