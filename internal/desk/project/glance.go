package project

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Asking for many projects at once, without a process for each: the host's own list of
// branches where it has one, otherwise git's protocol over few connections.

// Answer is what the host of one project told.
type Answer struct {
	Refs  web.Refs
	Tags  bool // it told of tags too
	Whole bool // it told of all refs, as git does
	Err   error
}

// Local is what is read of a project without a process.
type Local struct {
	Own, Common string
	Remote      string
	Branch      string
	Refs        map[string]string
	URL         string
	Plain       bool // its own configuration holds nothing that could do something
	Simple      bool // its remote is followed in the usual way
	Unfinished  string
	Repo        *git.Repo
	Status      *git.Status
	CutOff      bool // files were being received when a run of ours was killed
	Pending     bool // a sync of ours was cut off
}

// Glance reads a project's refs and its remote.
func Glance(d *desk.Desk, p Project) (*Local, error) {
	l := &Local{}
	var err error
	if l.Own, l.Common, err = git.Folders(p.Folder); err != nil {
		return nil, err
	}
	config, err := git.ReadConfig(filepath.Join(l.Common, "config"))
	if err != nil {
		return nil, err
	}
	remotes := map[string]string{}
	for key, urls := range config {
		if name, ok := strings.CutPrefix(key, "remote."); ok && strings.HasSuffix(name, ".url") && len(urls) > 0 {
			remotes[strings.TrimSuffix(name, ".url")] = urls[0]
		}
	}
	l.Remote, l.Plain = remoteNow(p, remotes), LooksThrough(d, config)
	l.URL = remotes[l.Remote]
	l.Simple = slices.Equal(config["remote."+l.Remote+".fetch"], []string{"+refs/heads/*:refs/remotes/" + l.Remote + "/*"})
	if l.Branch, err = git.ReadHead(l.Own); err != nil {
		return nil, err
	}
	if l.Refs, err = git.ReadRefs(l.Common); err != nil {
		return nil, err
	}
	if x := git.InMiddle(l.Own); x != nil && !x.Search() {
		l.Unfinished = x.What
	}
	l.CutOff = files.Reached(filepath.Join(l.Own, "uncinate", "laying")) == files.Folder
	l.Pending = files.Reached(d.Home.JournalAt("sync", p.Folder).Path()) != files.None
	return l, nil
}

// Contact tells when the host of a project last answered: us, or plain git.
func Contact(common string) time.Time {
	var last time.Time
	for _, path := range []string{contactFile(common), filepath.Join(common, "FETCH_HEAD")} {
		if s, err := os.Stat(path); err == nil && s.ModTime().After(last) {
			last = s.ModTime()
		}
	}
	return last.UTC()
}

// Apart counts the commits that only one of two has.
func Apart(ctx context.Context, repo *git.Repo, ours, theirs string) (ahead, behind int, err error) {
	out, err := repo.Do(ctx, "rev-list", "--count", "--left-right", ours+"..."+theirs)
	if err == nil {
		_, err = fmt.Sscanf(out, "%d %d", &ahead, &behind)
	}
	return ahead, behind, git.Fault(err, "git cannot compare both sides")
}

// OnlyHere lists the branches, but for the one that is checked out, whose commits no
// remote is known to hold.
func OnlyHere(ctx context.Context, d *desk.Desk, repo *git.Repo, l *Local, st *git.Status) []string {
	held := map[string]bool{}
	for ref, id := range l.Refs {
		if strings.HasPrefix(ref, "refs/remotes/") {
			held[id] = true
		}
	}
	var doubtful []string
	for ref, id := range l.Refs {
		if b, is := strings.CutPrefix(ref, "refs/heads/"); is && b != st.Branch && !held[id] {
			doubtful = append(doubtful, b)
		}
	}
	slices.Sort(doubtful)
	return slices.DeleteFunc(doubtful, func(b string) bool {
		out, err := repo.Do(ctx, "rev-list", "--count", "-1", "refs/heads/"+b, "--not", "--remotes")
		return err == nil && out == "0"
	})
}

// NotReceived lists the branches, but for the current one, of whose counterparts on the host
// something is not in them: as the host told just now, or as git knows of it where told is empty.
func NotReceived(ctx context.Context, repo *git.Repo, l *Local, current string, told web.Refs) []string {
	var out []string
	for ref, own := range l.Refs {
		b, is := strings.CutPrefix(ref, "refs/heads/")
		there := l.Refs["refs/remotes/"+l.Remote+"/"+b]
		if told.IDs != nil {
			there = told.Branch(b)
		}
		if !is || b == current || there == "" || there == own {
			continue
		}
		if _, err := repo.Do(ctx, "merge-base", "--is-ancestor", there, own); err != nil { // or it is not here at all
			out = append(out, b)
		}
	}
	slices.Sort(out)
	return out
}

// HeldOnHost tells that the host's default branch holds all of a commit, and which branch that is:
// as the host told just now. It gives "" where it does not, or where that is not known here.
func HeldOnHost(ctx context.Context, repo *git.Repo, l *Local, commit string, told web.Refs) string {
	head := told.Head
	if head == "" {
		name, err := repo.Do(ctx, "symbolic-ref", "-q", "refs/remotes/"+l.Remote+"/HEAD")
		if err != nil {
			return ""
		}
		head = strings.TrimPrefix(name, "refs/remotes/"+l.Remote+"/")
	}
	if there := told.Branch(head); there != "" && commit != "" {
		if _, err := repo.Do(ctx, "merge-base", "--is-ancestor", commit, there); err == nil {
			return head
		}
	}
	return ""
}
