package practice

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Guard is how a branch is protected.
type Guard struct {
	Rewrite bool     `json:"rewrite"`           // its history may be rewritten
	Delete  bool     `json:"delete"`            // it may be deleted
	Least   int      `json:"least"`             // the least right that may send to it; None: any that may send
	Mergers []string `json:"mergers,omitempty"` // who alone may send to it; nil: any
}

// guardHook lets through, or refuses, what is sent to a branch that is protected (githooks documentation,
// update). GUARDS has what whoever sends may do, a line each: branch, rewrite, delete, send.
const guardHook = `#!/bin/sh
printf '%s\n' "$GUARDS" | while read -r branch rewrite delete send; do
	[ "refs/heads/$branch" = "$1" ] || continue
	says() { echo "$branch is moored: $1" >&2; exit 1; }
	[ "$send" = true ] || says "you may not haul it"
	case $3 in *[!0]*) ;; *) [ "$delete" = true ] && exit 0; says "it may not be sunk" ;; esac
	case $2 in *[!0]*) ;; *) exit 0 ;; esac
	[ "$rewrite" = true ] || [ "$(git merge-base "$2" "$3")" = "$2" ] || says "its wake may not be rewritten"
	exit 0
done
`

// Guard protects a branch, or with nil protects it no longer.
func (st *Store) Guard(ctx context.Context, by, owner, name, branch string, g *Guard) error {
	r, err := st.Find(by, owner, name)
	if err != nil {
		return err
	}
	if g == nil && !slices.Contains(slices.Collect(maps.Keys(r.Guards)), branch) {
		return problem("none", "%s is not protected", branch)
	}
	if err := gitCommand(ctx, "check-ref-format", "--branch", branch).Run(); err != nil {
		return wrongIn("branch", "invalid", "no such branch name")
	}
	hooks := filepath.Join(st.GitDir(r.ID), "hooks")
	if err := os.MkdirAll(hooks, 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(hooks, "update"), []byte(guardHook), 0o700); err != nil {
		return err
	}
	_, err = st.Change(ctx, by, owner, name, 0, func(r *Repo) error {
		if r.Guards = maps.Clone(r.Guards); r.Guards == nil {
			r.Guards = map[string]Guard{}
		}
		if delete(r.Guards, branch); g != nil {
			r.Guards[branch] = *g
		}
		return nil
	})
	return err
}

// guards is what the hook is told of a repository for whoever sends to it.
func (st *Store) guards(r *Repo, user string) string {
	var b strings.Builder
	right := st.Right(r, user)
	for _, branch := range slices.Sorted(maps.Keys(r.Guards)) {
		g := r.Guards[branch]
		fmt.Fprintln(&b, branch, g.Rewrite, g.Delete, right >= g.Least && (len(g.Mergers) == 0 || slices.Contains(g.Mergers, user)))
	}
	return b.String()
}

// Copy makes a repository that holds all of another one that the user can see.
func (st *Store) Copy(ctx context.Context, user, owner, name, into, as string) (*Repo, error) {
	from, err := st.Find(user, owner, name)
	if err != nil {
		return nil, err
	}
	r, err := st.Create(ctx, user, Repo{Owner: into, Name: cmp.Or(as, from.Name), Description: from.Description, Visibility: from.Visibility, Default: from.Default})
	if err != nil {
		return nil, err
	}
	return r, st.receive(ctx, user, r, st.GitDir(from.ID))
}

// receive takes all branches and tags from an address; a repository that cannot be filled goes again.
func (st *Store) receive(ctx context.Context, user string, r *Repo, from string) error {
	ctx = context.WithoutCancel(ctx)
	out, err := gitCommand(ctx, "-C", st.GitDir(r.ID), "fetch", "-q", "--", from, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*").CombinedOutput()
	if err != nil {
		if e := st.Delete(user, r.Owner, r.Name, 0); e != nil {
			return e
		}
		return problem("invalid", "it cannot be read from there: %s", strings.TrimSpace(string(out)))
	}
	return nil
}

// Import makes a repository of what is at an address, which must be on this machine.
func (st *Store) Import(ctx context.Context, user string, want Repo, from string) (*Repo, error) {
	if at, err := url.Parse(from); err != nil || at.Scheme != "http" || !loopback(at.Hostname()) {
		return nil, wrongIn("address", "invalid", "a practice host takes from addresses on this machine only")
	}
	r, err := st.Create(ctx, user, want)
	if err != nil {
		return nil, err
	}
	if err := st.receive(ctx, user, r, from); err != nil {
		return nil, err
	}
	if out, err := gitCommand(ctx, "ls-remote", "--symref", "--", from, "HEAD").Output(); err == nil {
		if head, _, found := strings.Cut(strings.TrimPrefix(string(out), "ref: refs/heads/"), "\t"); found && !strings.ContainsAny(head, " \n") {
			return st.Change(ctx, user, r.Owner, r.Name, 0, func(r *Repo) error { r.Default = head; return nil })
		}
	}
	return r, nil
}
