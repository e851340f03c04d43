package target

import (
	"strings"

	"uncinate/internal/desk/project"
)

// Options are a person's wishes. Empty ones are proposed.
type Options struct {
	Folder      string
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
	Branches    bool     // publish all local branches
	Let         []string // files, folders or patterns that go up although the survey would stop them
	Reason      string   // why
	Move        bool     // from where the project is attached to now, with all branches and tags
	Trust       bool     // what the folder's own configuration leads elsewhere is meant so
	Second      bool     // a second place, which only receives
	Large       []string // paths or patterns of files that go into large-file storage
	Readme      bool     // write a readme where there is none
	Licence     string   // write this licence where there is none, by its SPDX identifier
	Branch      string   // what the branch is called in a folder without repository; main unless said
	Clash       string   // how files that both sides hold are decided: "mine", "theirs" or "both"
	Only        []string // what goes into the first commit: paths, folders or patterns; all unless said
	Except      []string // what of it does not
	Preview     bool     // only the plan is wanted, so nobody is kept out meanwhile
}

// Recall puts the choices of an interrupted run in where this run makes none.
func (work *Work) Recall(o Options) Options {
	w := work.Run.State.Head.Wanted
	if work.Resumed {
		for key, field := range o.kept() {
			if *field == "" {
				*field = w[key]
			}
		}
	}
	if work.Resumed && o.To == "" {
		o.To = w["to"]
	}
	for key, wish := range map[string]*bool{"readme": &o.Readme, "move": &o.Move, "copy": &o.Second, "trust": &o.Trust} {
		*wish = *wish || work.Resumed && w[key] == "yes"
		if *wish {
			w[key] = "yes"
		}
	}
	for key, field := range o.keptLists() {
		if work.Resumed && len(*field) == 0 && w[key] != "" {
			*field = strings.Split(w[key], "\n")
		}
		if len(*field) > 0 {
			w[key] = strings.Join(*field, "\n")
		}
	}
	if o.To != "" {
		w["to"] = project.WithoutSecret(o.To)
	}
	if o.Remote == "" {
		o.Remote = "origin"
	}
	if o.Message == "" {
		o.Message = "First commit"
	}
	for key, field := range o.kept() {
		if *field != "" {
			w[key] = *field
		}
	}
	return o
}

// kept names the choices that the journal remembers. An address is kept without
// what secret may stand in it.
func (o *Options) kept() map[string]*string {
	return map[string]*string{"name": &o.Name, "owner": &o.Owner, "account": &o.Account, "host": &o.Host, "visibility": &o.Visibility,
		"description": &o.Description, "over": &o.Over, "remote": &o.Remote, "message": &o.Message, "full-name": &o.FullName, "email": &o.Email, "reason": &o.Reason, "clash": &o.Clash, "licence": &o.Licence, "branch": &o.Branch}
}

func (o *Options) keptLists() map[string]*[]string {
	return map[string]*[]string{"only": &o.Only, "except": &o.Except, "let": &o.Let, "large": &o.Large}
}
