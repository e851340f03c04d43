package screen

import (
	"context"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/licences"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/history"
	"uncinate/internal/job/offers"
	"uncinate/internal/job/repositories"
	"uncinate/internal/job/settings"
	"uncinate/internal/world/vault"
)

// optionSources says what the values of options are: of one command's, or of any.
var optionSources = map[string]string{"account": "account", "host": "host", "visibility": "visibility", "folder": "folder", "keep": "folder", "man": "folder", "root": "folder", "into": "folder",
	"after-push": "folder", "home": "folder", "git": "path", "let": "path", "only": "path", "except": "path", "large": "path", "key": "path", "public": "path", "list": "path", "with": "path",
	"repository": "repository", "branch": "branch", "from": "commit", "to": "commit", "commit": "commit", "over": "transport", "right": "right", "may": "want", "clash": "clash", "licence": "licence",
	"state": "state", "way": "merging", "kind": "key-kind", "by": "bringing",

	"account add by": "sign-in", "token add by": "sign-in", "vault make by": "vault", "vault change by": "vault", "offer create into": "branch", "attach to": "repository", "machine pack to": "path",
	"access withdraw key": "", "claim create from": "", "repository protect only": ""}

// valueSource says what the value of a command's option is.
func valueSource(path []string, option string) string {
	if kind, own := optionSources[strings.Join(path, " ")+" "+option]; own {
		return kind
	}
	return optionSources[option]
}

// fixedWords are those of a kind that are always the same.
func fixedWords(kind string) []string {
	switch kind {
	case "licence":
		return licences.Known()
	case "setting":
		return settings.Names()
	case "want":
		var all []string
		for _, w := range description.Wants {
			all = append(all, w.Name)
		}
		return all
	}
	return map[string][]string{"transport": {"https", "ssh"}, "visibility": description.Visibilities, "sign-in": {"token", "device", "browser"}, "vault": vault.Ways, "shell": {"bash", "zsh", "fish"},
		"part": {"settings", "people", "history"}, "right": {"read", "write", "admin"}, "clash": {"mine", "theirs", "both"},
		"state": {"open", "accepted", "closed"}, "merging": description.Ways, "key-kind": {"ed25519", "ecdsa", "rsa"}, "bringing": {"replay", "merge"}}[kind]
}

// longestWords is how long a host is waited for by somebody who pressed a key.
const longestWords = 2 * time.Second

// onHosts are the repositories that the accounts see, of those that may be asked without a word; nothing where that takes long.
func (e *Env) onHosts(d *desk.Desk, current string) []candidate {
	if strings.Contains(current, "://") {
		return nil
	}
	ctx, stop := context.WithTimeout(e.ctx, longestWords)
	defer stop()
	list, err := accounts.All(d)
	if err != nil {
		return nil // the command itself tells
	}
	all := words{current: current}
	for _, a := range list {
		if a.Host == "" {
			continue
		}
		there, err := login.RepositoriesOf(ctx, d, a.Name, "")
		if err != nil {
			continue
		}
		for _, r := range there {
			all.add(r.Path(), "on "+a.Host)
		}
	}
	return all.found
}

// numbered gives what is known by a number, or by a name that git or a host gave it: rescue copies, offers, invitations, tags, commits.
func (e *Env) numbered(d *desk.Desk, kind, current string) (found []candidate, is bool, err error) {
	all := words{current: current}
	ctx, stop := context.WithTimeout(e.ctx, longestWords)
	defer stop()
	switch kind {
	case "rescue":
		list, err := worktree.Rescues(ctx, d, "")
		for _, c := range list {
			all.add(strconv.Itoa(c.Number), "before "+c.Before+", "+c.When.Format("2006-01-02 15:04"))
		}
		return all.found, true, err
	case "offer":
		list, err := offers.Numbers(ctx, d)
		for _, o := range list {
			all.add(o.Number, o.Title)
		}
		return all.found, true, err
	case "invitation":
		list, _, err := repositories.Invitations(ctx, d, "")
		for _, i := range list {
			all.add(i.Repository, "by "+i.By)
		}
		return all.found, true, err
	case "tag", "commit":
		tags, err := history.Tags(ctx, d, "")
		for _, t := range tags {
			all.add(t.Name, "tag")
		}
		if kind == "tag" || err != nil {
			return all.found, true, err
		}
		list, err := history.Branches(ctx, d, ".")
		for _, b := range list {
			all.add(b.Name, "branch")
		}
		return all.found, true, err
	}
	return nil, false, nil
}
