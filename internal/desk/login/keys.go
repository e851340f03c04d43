package login

import (
	"context"
	"slices"

	"uncinate/internal/core/description"
	"uncinate/internal/core/sshkey"
)

// DeployKey is a key that opens one repository.
type DeployKey struct {
	ID          string `json:"id"`
	Title       string `json:"title,omitempty"`
	Fingerprint string `json:"fingerprint"`
	Right       string `json:"right" says:"read or write"`
}

// RepositoryVars are the variables by which actions name a repository.
func RepositoryVars(r description.Repository) description.Vars {
	return description.Vars{"owner": r.Owner, "name": r.Name, "path": r.Path(), "id": r.ID, "version": r.Version}
}

// DeployKeys lists the keys that open one repository.
func (l *Login) DeployKeys(ctx context.Context, r description.Repository) ([]DeployKey, error) {
	items, err := l.List(ctx, "deploy-key-list", "list the deploy keys of "+r.Path(), RepositoryVars(r))
	out := []DeployKey{}
	for _, f := range items {
		k := DeployKey{ID: description.Written(f["id"]), Title: description.Written(f["title"]), Right: description.Written(f["right"])}
		if half, err := sshkey.Read(description.Written(f["key"])); err == nil {
			k.Fingerprint = half.Fingerprint()
		}
		out = append(out, k)
	}
	return out, err
}

// HostKeyEntry is a person's key as the host lists it.
type HostKeyEntry struct {
	ID, Title string
	Half      sshkey.Public
	Fields    map[string]any
}

// HostKeys lists the account's keys on the host; kind is "" or "signing-".
func (l *Login) HostKeys(ctx context.Context, kind string) ([]HostKeyEntry, error) {
	items, err := l.List(ctx, kind+"key-list", "list keys", nil)
	if err != nil {
		return nil, err
	}
	var out []HostKeyEntry
	for _, f := range items {
		e := HostKeyEntry{ID: description.Written(f["id"]), Title: description.Written(f["title"]), Fields: f}
		if half, err := sshkey.Read(description.Written(f["key"])); err == nil {
			e.Half = half
			if e.Title == "" {
				e.Title = half.Comment
			}
		}
		out = append(out, e)
	}
	return out, nil
}

// OnHost finds a key among those of the account on the host.
func (l *Login) OnHost(ctx context.Context, kind string, half sshkey.Public) (HostKeyEntry, bool, error) {
	all, err := l.HostKeys(ctx, kind)
	i := slices.IndexFunc(all, func(e HostKeyEntry) bool { return e.Half.Same(half) })
	if err != nil || i < 0 {
		return HostKeyEntry{}, false, err
	}
	return all[i], true, nil
}
