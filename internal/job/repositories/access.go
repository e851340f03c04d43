package repositories

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/world/files"
)

// GrantKey plans to let a key open one repository: only to read it, unless right is "write".
func GrantKey(ctx context.Context, d *desk.Desk, account, what, file, title, right string) (*desk.Change, error) {
	if right == "" {
		right = "read"
	}
	if right != "read" && right != "write" {
		return nil, fault.New(fault.Usage, "a key may read or write, and not %s", text.Quote(right))
	}
	half, err := deployKeyIn(d, file)
	if err != nil {
		return nil, err
	}
	l, r, err := Find(ctx, d, account, what)
	if err != nil {
		return nil, err
	}
	if err := l.May("deploy-key-add", "give a key access to one repository"); err != nil {
		return nil, err
	}
	title = cmp.Or(title, half.Comment, "deploy key")
	standing := func(ctx context.Context) (login.DeployKey, bool, error) {
		all, err := l.DeployKeys(ctx, r)
		i := slices.IndexFunc(all, func(k login.DeployKey) bool { return k.Fingerprint == half.Fingerprint() })
		if err != nil || i < 0 {
			return login.DeployKey{}, false, err
		}
		return all[i], true, nil
	}
	c := &desk.Change{Desk: d, Job: "access-grant", Subject: l.Host.Name + " " + r.Path() + " " + half.Fingerprint(), Host: l.Host.Name, AsWas: "Nothing was granted.", About: r.Path(), Head: "To let a key open " + r.Path() + ":"}
	c.Steps = []desk.Step{{Item: plan.Item{ID: "grant", Place: plan.Host, Sentence: fmt.Sprintf("Let the key %s (%s) %s %s, and nothing else", half.Fingerprint(), text.Visible(title), right, r.Path())},
		Done: func(ctx context.Context) (bool, error) {
			k, found, err := standing(ctx)
			if err == nil && found && k.Right != "" && k.Right != right {
				err = fault.New(fault.Decision, "the key has access to %s already: it may %s", r.Path(), k.Right).
					Try("take that back first", text.Command("uncinate", "access", "withdraw", "--repository", r.Path(), "--key", half.Fingerprint()))
			}
			return found, err
		},
		Do: func(ctx context.Context) error {
			vars := login.RepositoryVars(r)
			vars["title"], vars["key"], vars["right"] = title, half.Line(), right
			_, err := l.Do(ctx, "deploy-key-add", "give the key access to "+r.Path(), vars)
			return login.Lost(err, func() (bool, error) {
				_, found, err := standing(ctx)
				return found, err
			})
		}}}
	return c, nil
}

// deployKeyIn reads the public half of a key for one repository: strong enough, and no
// account's own.
func deployKeyIn(d *desk.Desk, file string) (sshkey.Public, error) {
	path, err := filepath.Abs(file)
	if err != nil {
		return sshkey.Public{}, err
	}
	data, err := files.Read(path, sshkey.Longest)
	if errors.Is(err, fs.ErrNotExist) {
		return sshkey.Public{}, fault.New(fault.Usage, "there is no file %s", text.Visible(path)).
			Try("make a pair for the machine that is to have it", text.Command("ssh-keygen", "-t", "ed25519", "-f", strings.TrimSuffix(file, ".pub")))
	}
	if err != nil {
		return sshkey.Public{}, err
	}
	half, err := sshkey.Read(string(data))
	if err != nil {
		return half, err
	}
	if why := half.Weak(); why != "" {
		return half, fault.New(fault.Refused, "the key is too weak: %s", why)
	}
	mine, err := accounts.Keys(d)
	for _, k := range mine {
		if k.Half().Same(half) {
			return half, fault.New(fault.Decision, "this is the key of your account %s, which opens all its repositories; a key for one repository is one of its own", k.Account).
				Try("make one", text.Command("ssh-keygen", "-t", "ed25519", "-f", "deploy-key"))
		}
	}
	return half, err
}

// WithdrawKey plans to take a deploy key's access back; key is its fingerprint, or the
// host's own id of it.
func WithdrawKey(ctx context.Context, d *desk.Desk, account, what, key string) (*desk.Change, error) {
	l, r, err := Find(ctx, d, account, what)
	if err != nil {
		return nil, err
	}
	if err := l.May("deploy-key-remove", "take a key's access back"); err != nil {
		return nil, err
	}
	all, err := l.DeployKeys(ctx, r)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(k login.DeployKey) bool { return k.Fingerprint == key || k.ID == key })
	if i < 0 {
		return nil, fault.New(fault.Failed, "no deploy key %s opens %s", text.Quote(key), r.Path()).Try("see those that do", text.Command("uncinate", "access", "list", "--repository", r.Path(), "--account", l.Account.Name))
	}
	c := &desk.Change{Desk: d, Job: "access-withdraw", Subject: l.Host.Name + " " + r.Path() + " " + key, Host: l.Host.Name, AsWas: "It has access still.", About: r.Path(), Head: "To take access to " + r.Path() + " back:"}
	c.Steps = []desk.Step{{Item: plan.Item{ID: "withdraw", Place: plan.Host, Sentence: "Remove the key " + all[i].Fingerprint + " (" + text.Visible(all[i].Title) + ") from " + r.Path()},
		Do: func(ctx context.Context) error {
			vars := login.RepositoryVars(r)
			vars["id"] = all[i].ID
			_, err := l.Do(ctx, "deploy-key-remove", "take the key's access back", vars)
			if login.Means(err, description.NotFound) {
				return nil
			}
			return login.Lost(err, func() (bool, error) {
				now, err := l.DeployKeys(ctx, r)
				return !slices.ContainsFunc(now, func(k login.DeployKey) bool { return k.ID == all[i].ID }), err
			})
		}}}
	return c, nil
}
