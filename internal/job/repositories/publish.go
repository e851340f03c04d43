package repositories

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/job/surveying"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

const holdsNothing = "It holds nothing yet."

// seen receives all that a repository holds, aside, and tells what everybody would see of it. What must
// not be seen is told by itself.
func seen(ctx context.Context, d *desk.Desk, l *login.Login, r description.Repository) (notes, bad []string, err error) {
	dir, done, err := files.ScratchIn(d.Home.State, "look-")
	if err != nil {
		return nil, nil, err
	}
	defer fault.Also(&err, done)
	told, store, err := receiveAll(ctx, d, l, r, filepath.Join(dir, "it.git"))
	if err != nil {
		f := *fault.Of(err)
		return nil, nil, f.Detail("So what would be seen is not known, and nothing was changed.")
	}
	if len(told.IDs) == 0 {
		return []string{holdsNothing}, nil, nil
	}
	branches, tags := counted(told)
	count := func(args ...string) (int, error) {
		out, err := store.Do(ctx, args...)
		if err != nil {
			return 0, git.Fault(err, "what %s holds cannot be read", r.Path())
		}
		n, err := strconv.Atoi(out)
		return n, err
	}
	commits, err := count("rev-list", "--count", "--all")
	if err != nil {
		return nil, nil, err
	}
	who, err := store.Do(ctx, "log", "--all", "--format=%aN <%aE>")
	if err != nil {
		return nil, nil, git.Fault(err, "what %s holds cannot be read", r.Path())
	}
	people := map[string]bool{}
	var first []string
	for line := range strings.SplitSeq(who, "\n") {
		if line != "" && !people[line] {
			people[line] = true
			first = append(first, text.Visible(line))
		}
	}
	names := strings.Join(first[:min(len(first), 3)], ", ")
	if len(first) > 3 {
		names += " and " + many(len(first)-3) + " more"
	}
	notes = []string{"Everybody will see it, with its whole history: " + text.Count(commits, "commit") + " on " + text.Count(branches, "branch") + text.Either(tags > 0, ", "+text.Count(tags, "tag"), "") +
		", with the names and e-mail addresses of those who made them: " + names + "."}
	found, err := surveying.InCommits(ctx, d, store, d.UserHome, []string{"--all"}, survey.Limits{}, func(string) bool { return false })
	if err != nil || len(found) == 0 {
		return notes, nil, err
	}
	bad, err = surveying.SayInCommits(ctx, store, found)
	return notes, bad, err
}

// counted counts the branches and tags that a host told of.
func counted(told web.Refs) (branches, tags int) {
	for ref := range told.IDs {
		switch {
		case strings.HasPrefix(ref, "refs/heads/"):
			branches++
		case strings.HasPrefix(ref, "refs/tags/") && !strings.HasSuffix(ref, "^{}"):
			tags++
		}
	}
	return branches, tags
}

// publish adds to a change that makes a repository public what everybody would see then, and a name to
// be typed. What must not be seen goes only where a person, having read of it, types the name.
func publish(ctx context.Context, d *desk.Desk, l *login.Login, r description.Repository, c *desk.Change) error {
	notes, bad, err := seen(ctx, d, l, r)
	if err != nil {
		return err
	}
	c.Notes, c.About = append(c.Notes, notes...), r.Path()
	if len(notes) == 1 && notes[0] == holdsNothing {
		return nil
	}
	c.Notes = append(c.Notes, "Copies of it will be made: making it private again takes none of them back.")
	if len(bad) > 0 {
		c.Notes = append(c.Notes, fmt.Sprintf("%s must not be seen by everybody; a secret that anybody else has had is to be replaced where it is used:", text.Count(len(bad), "thing")))
		for _, b := range bad[:min(len(bad), desk.MostShown)] {
			if b != "" {
				c.Notes = append(c.Notes, "  "+b)
			}
		}
		if more := len(bad) - desk.MostShown; more > 0 {
			c.Notes = append(c.Notes, "  and "+text.Number(more)+" more")
		}
		c.MustType = true
	}
	return nil
}
