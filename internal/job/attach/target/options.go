package target

import (
	"reflect"

	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
)

// Options are a person's wishes. Empty ones are proposed. The journal keeps them as one value.
type Options struct {
	Folder      string `json:"-"`
	To          string // a repository made on the host before: its name or any of its addresses
	Name        string // of the repository to be made; may be owner/name
	Owner       string
	Account     string
	Host        string
	Visibility  string
	Description string
	Remote      string
	Message     string   // of the first commit
	FullName    string   // who signs commits, where the account does not say
	Email       string   //
	Over        string   // "https" or "ssh"
	Key         string   // the file of an SSH key, for a server on which there is no account
	Branches    bool     // publish all local branches
	Let         []string // files, folders or patterns that go up although the survey would stop them
	Reason      string   // why
	Move        bool     // from where the project is attached to now, with all branches and tags
	Trust       bool     // what the folder's own configuration leads elsewhere is meant so
	Second      bool     // a second place, which only receives
	Large       []string // paths or patterns of files that go into large-file storage
	Readme      bool     // write a readme where there is none
	Licence     string   // write this licence where there is none, by its SPDX identifier
	Branch      string   // what the branch is called in a folder without repository; main by default
	Clash       string   // how files that both sides hold are decided: "mine", "theirs" or "both"
	Only        []string // what goes into the first commit: paths, folders or patterns; all by default
	Except      []string // what of it does not
	Preview     bool     `json:"-"` // only the plan is wanted, so nobody is kept out meanwhile
}

// choices are what the journal of an attach keeps of what it was made from.
type choices struct {
	Options  Options
	Standing string // the branches, tags and stash that was here before it, in short
}

// Recall puts the choices of an interrupted run in where this run makes none, and lets the journal
// keep what came of it. An address is kept without what secret may be in it.
func (work *Work) Recall(o Options) (Options, error) {
	kept := choices{}
	if work.Resumed {
		if _, err := work.Run.Wanted(&kept); err != nil {
			return o, err
		}
	}
	o.fill(kept.Options)
	o.fill(Options{Remote: "origin", Message: "First commit"})
	work.Options, work.standing = o, kept.Standing
	return o, work.keepChoices()
}

// keepChoices lets the journal keep them as they are now.
func (work *Work) keepChoices() error {
	kept := work.chosen
	kept.fill(work.Options)
	kept.To = project.WithoutSecret(kept.To)
	return work.Run.Wants(choices{kept, work.standing})
}

// Stands lets the journal keep what was here before.
func (work *Work) Stands(standing string) error {
	work.standing = files.Short(standing)
	return work.keepChoices()
}

// StoodSo reports whether what is here is what was before.
func (work *Work) StoodSo(standing string) bool { return files.Short(standing) == work.standing }

// fill takes over what is said in other options and not in these.
func (o *Options) fill(from Options) {
	to, other := reflect.ValueOf(o).Elem(), reflect.ValueOf(from)
	for i := range to.NumField() {
		if to.Field(i).IsZero() || to.Field(i).Kind() == reflect.Slice && to.Field(i).Len() == 0 {
			to.Field(i).Set(other.Field(i))
		}
	}
}
