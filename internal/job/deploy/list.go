package deploy

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/deploying"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/places"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/repositories"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/live"
)

// Row is one folder that follows a branch, as it stands.
type Row struct {
	Deploy
	InUse  string    `json:"in_use,omitempty" says:"the commit"`
	Title  string    `json:"title,omitempty" says:"the commit's first line"`
	Since  time.Time `json:"since,omitzero"`
	Newest string    `json:"newest,omitempty" says:"as the host told last"`
	Asked  time.Time `json:"asked,omitzero" says:"when the host told"`
	State  string    `json:"state" says:"in use, waiting, failed, held, behind, nothing or broken"`
	Says   string    `json:"says,omitempty"`
	Failed *Failure  `json:"failed,omitempty"`
	States int       `json:"states" says:"how many commits' files are kept"`
	Bytes  int64     `json:"bytes" says:"of all that is kept beside the folder"`
	Next   string    `json:"next,omitempty" says:"the command to go on with"`
}

// List tells where all stand; no host is asked.
func List(ctx context.Context, d *desk.Desk) ([]Row, error) {
	all, err := All(d)
	if err != nil {
		return nil, err
	}
	out := []Row{}
	for _, x := range all {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		out = append(out, row(ctx, d, x))
	}
	return out, nil
}

func row(ctx context.Context, d *desk.Desk, x Deploy) Row {
	r := Row{Deploy: x, InUse: x.InUse(), Bytes: live.Size(x.Beside())}
	s, err := x.read()
	if err != nil {
		r.State, r.Says = "broken", fault.Of(err).Says
		return r
	}
	r.Newest, r.Asked, r.Since, r.States, r.Failed = s.Head, s.Asked, s.Since, len(s.Built), s.Failed
	if repo, err := x.store(ctx, d); err == nil && r.InUse != "" {
		if title, err := repo.Do(ctx, "log", "-1", "--format=%s", r.InUse); err == nil {
			r.Title = title
		}
	}
	line := func(words ...string) string { return text.Command(append([]string{"uncinate", "deploy"}, words...)...) }
	switch {
	case r.InUse == "" && filepath.Dir(live.LeadsTo(x.Folder)) == filepath.Base(x.Beside()):
		r.State, r.Says, r.Next = "broken", "the files that "+text.Visible(x.Folder)+" leads to are gone", line("update", x.Name)
	case r.InUse == "" && files.KindOf(x.Folder) != files.None:
		r.State, r.Says = "broken", text.Visible(x.Folder)+" is not a link of this program's any longer"
	case s.Failed != nil && s.Failed.Commit == s.Head:
		r.State, r.Says = "failed", s.Failed.words()
		r.Next = line("update", x.Name)
	case s.Waiting != "" && s.Waiting != r.InUse:
		r.State, r.Says, r.Next = "waiting", "the tasks of "+s.Waiting[:10]+" wait for approval", line("approve", x.Name)
	case s.Held != "" && s.Held == s.Head && r.InUse != s.Head:
		r.State, r.Says, r.Next = "held", "a person went back from "+s.Held[:10], line("update", x.Name, "--again")
	case r.InUse == "":
		r.State, r.Says, r.Next = "nothing", "nothing of it was received yet", line("make", x.Address, x.Folder, "--name", x.Name)
	case r.InUse != s.Head:
		r.State, r.Says, r.Next = "behind", s.Head[:min(10, len(s.Head))]+" was received", line("update", x.Name)
	default:
		r.State = "in use"
	}
	return r
}

// words say why a commit is not in use.
func (f *Failure) words() string {
	if f.Task == "" {
		return f.Says
	}
	return f.Task + ": " + f.Says
}

// Checked is what was found in a tasks file.
type Checked struct {
	File     string           `json:"file"`
	Tasks    int              `json:"tasks"`
	Mistakes []places.Mistake `json:"mistakes"`
	Warnings []string         `json:"warnings,omitempty" says:"what an approval does not cover"`
	Covered  []string         `json:"covered,omitempty" says:"the files whose contents an approval covers"`
}

// Check reads a tasks file as it stands in a folder, and compares it with what git tracks there.
func Check(ctx context.Context, d *desk.Desk, file string) (*Checked, error) {
	at, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	if files.Reached(at) == files.Folder {
		at = filepath.Join(at, deploying.File)
	}
	data, err := files.Read(at, deploying.Most+1)
	if err != nil {
		f := fault.New(fault.Failed, "%s cannot be read: %s", text.Visible(at), files.Plain(err)).Because(err)
		return nil, f.Try("see how one is written", "uncinate help deploy check")
	}
	c := &Checked{File: at, Mistakes: []places.Mistake{}}
	tasks, mistakes := deploying.Load(data)
	if len(mistakes) > 0 {
		c.Mistakes = mistakes
		return c, nil
	}
	c.Tasks = len(tasks.Tasks)
	t, err := tracked(ctx, d, filepath.Dir(at))
	if err != nil {
		return nil, err
	}
	c.Mistakes = append(c.Mistakes, tasks.Missing(data, t)...)
	covered, err := tasks.Covered(t, func(p string) (string, error) {
		return live.LeadsTo(filepath.Join(filepath.Dir(at), filepath.FromSlash(p))), nil
	})
	if err != nil {
		c.Mistakes = append(c.Mistakes, places.Mistake{Line: 1, Column: 1, Says: err.Error()})
	}
	c.Warnings = tasks.Warnings(t, covered)
	for p := range covered {
		c.Covered = append(c.Covered, p)
	}
	slices.Sort(c.Covered)
	return c, nil
}

// tracked lists what git has of a folder that is a repository's top: as it will be committed.
func tracked(ctx context.Context, d *desk.Desk, folder string) (deploying.Tree, error) {
	f, err := project.LookTop(ctx, d, folder)
	if err != nil {
		return nil, err
	}
	if f.Path != folder {
		if real, err := filepath.EvalSymlinks(folder); err != nil || f.Path != real {
			return nil, fault.New(fault.Decision, "the tasks file is at the repository's top, and this is in %s", text.Visible(f.Path))
		}
	}
	lines, err := f.Repo.Lines(ctx, "ls-files", "-s", "-z")
	if err != nil {
		return nil, git.Fault(err, "git cannot list the files")
	}
	out := deploying.Tree{}
	for _, l := range lines {
		meta, p, _ := strings.Cut(l, "\t")
		if w := strings.Fields(meta); len(w) == 3 {
			out[p] = deploying.Entry{Mode: w[0], ID: w[1]}
		}
	}
	return out, nil
}

// Remove plans to let a folder follow no branch any longer: its states go, what is lasting stays.
func Remove(ctx context.Context, d *desk.Desk, x Deploy) (*desk.Change, error) {
	c := &desk.Change{Desk: d, Job: "deploy-remove", Subject: x.Folder, Host: x.Host, AsWas: "It follows its branch as before.", About: x.Name, Head: "To let " + text.Visible(x.Folder) + " follow nothing any longer:"}
	add := func(id string, place plan.Place, sentence string, do func(context.Context) error) {
		c.Steps = append(c.Steps, desk.Step{Item: plan.Item{ID: id, Place: place, Sentence: sentence}, Do: do, Stays: desk.Always})
	}
	if x.Key != nil {
		if how := withdraw(ctx, d, x); how != nil {
			add("withdraw", plan.Host, "Take the key of this repository off "+x.Host, how)
		} else {
			c.Notes = append(c.Notes, "The key stays on its host, where no account here can remove it: "+x.key().Fingerprint())
		}
	}
	if s := stepUnhook(ctx, d, x); s != nil {
		c.Steps = append(c.Steps, *s)
	} else if x.Hook != nil {
		c.Notes = append(c.Notes, "The web hook to "+text.Visible(x.Hook.Address)+" stays on its host, where no account here can remove it.")
	}
	add("link", plan.Here, "Remove the link "+text.Visible(x.Folder)+", and the files of all commits beside it", func(context.Context) error {
		if files.KindOf(x.Folder) == files.Link && x.InUse() != "" {
			if err := files.Remove(x.Folder); err != nil {
				return err
			}
		}
		names, err := files.Names(x.Beside())
		if err != nil {
			return err
		}
		for _, n := range names {
			if n != "lasting" {
				err = errors.Join(err, files.RemoveAll(x.at(n)))
			}
		}
		if err == nil && files.KindOf(x.at("lasting")) == files.None {
			err = files.Remove(x.Beside())
		}
		return err
	})
	if names, err := files.Names(x.at("lasting")); err == nil && len(names) > 0 {
		c.Notes = append(c.Notes, "What is lasting stays, in "+text.Visible(x.at("lasting"))+".")
	}
	add("forget", plan.Here, "Forget it, and remove its key here", func(ctx context.Context) error {
		key := keyFile(d, x.Name)
		for _, f := range []string{key, key + ".pub", key + ".hook"} {
			if err := files.Remove(f); err != nil {
				return err
			}
		}
		if names, err := files.Names(filepath.Dir(key)); err == nil && len(names) == 0 {
			if err := files.Remove(filepath.Dir(key)); err != nil {
				return err
			}
		}
		return alter(ctx, d, func(all []Deploy) []Deploy {
			return slices.DeleteFunc(all, func(y Deploy) bool { return y.Folder == x.Folder })
		})
	})
	return c, nil
}

// withdraw gives how the key is taken off its host; nil where no account here can.
func withdraw(ctx context.Context, d *desk.Desk, x Deploy) func(context.Context) error {
	all, err := accounts.On(d, x.Host)
	if x.Host == "" || err != nil {
		return nil
	}
	for _, a := range all {
		l, err := login.Open(ctx, d, a)
		if err != nil || l.May("deploy-key-remove", "take a key's access back") != nil {
			continue
		}
		owner, name, found := l.Host.Recognise(x.Address)
		if !found {
			continue
		}
		c, err := repositories.WithdrawKey(ctx, d, a.Name, owner+"/"+name, x.key().Fingerprint())
		if err != nil {
			continue
		}
		return func(ctx context.Context) error {
			for _, s := range c.Steps {
				if err := s.Do(ctx); err != nil {
					return err
				}
			}
			return nil
		}
	}
	return nil
}
