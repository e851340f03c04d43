package checks

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
)

// keyKinds are the kinds of a person's keys: those that sign in, and those for signatures.
var keyKinds = []string{"", "signing-"}

// scratchKey makes the public line of a new key whose private half nobody keeps
// (RFC 8709, section 4).
func scratchKey() (string, error) {
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	const kind = "ssh-ed25519"
	var blob []byte
	for _, part := range [][]byte{[]byte(kind), public} {
		blob = append(binary.BigEndian.AppendUint32(blob, uint32(len(part))), part...)
	}
	return kind + " " + base64.StdEncoding.EncodeToString(blob) + " scratch", nil
}

// keys adds keys of each kind, and removes them.
func (s *scratched) keys(ctx context.Context) {
	for _, kind := range keyKinds {
		if h := s.login.Host; h.Actions[kind+"key-add"] != nil && h.Actions[kind+"key-remove"] == nil {
			s.done(Tried{Action: kind + "key-add", How: NotTried, State: desk.Doubtful, Says: "no " + kind + "key-remove is described, so that the key could not be taken away again"})
			continue
		}
		s.act(kind+"key-add", func() (string, error) { return s.addKey(ctx, kind) })
		if s.pending[kind] == "" {
			continue
		}
		s.act(kind+"key-remove", func() (string, error) {
			_, err := s.login.Do(ctx, kind+"key-remove", "remove the key", description.Vars{"id": s.pending[kind]})
			if err == nil {
				delete(s.pending, kind)
			}
			return "the key was removed", err
		})
	}
}

// addKey adds a scratch key, and looks whether it is listed.
func (s *scratched) addKey(ctx context.Context, kind string) (string, error) {
	line, err := scratchKey()
	if err != nil {
		return "", err
	}
	s.pending[kind] = ""
	f, err := s.login.Do(ctx, kind+"key-add", "add a key", description.Vars{"title": s.name, "key": line})
	if err != nil {
		return "", err
	}
	if f["id"] == nil {
		return "", errors.New("no id was read of the key that was added, so it could not be removed again")
	}
	s.pending[kind] = fmt.Sprint(f["id"])
	items, err := s.login.List(ctx, kind+"key-list", "list keys", nil)
	if err == nil && !slices.ContainsFunc(items, func(i map[string]any) bool { return fmt.Sprint(i["id"]) == s.pending[kind] }) {
		err = errors.New("the list of keys does not hold it")
	}
	return "a key was added, and is listed", err
}

// dropKeys removes a scratch key that is there still, and those that a trial before this one left when it was cut off. One of
// which no answer could be read is found by its title.
func (s *scratched) dropKeys(ctx context.Context, kind string) error {
	l := s.login
	id, asked := s.pending[kind]
	if l.Host.Actions[kind+"key-remove"] == nil || !asked && (l.Host.Actions[kind+"key-list"] == nil || len(l.Lacks(kind+"key-remove")) > 0) {
		return nil
	}
	var ids []string
	if id != "" {
		ids = append(ids, id)
	}
	untold := text.Either(id == "", "no answer told its id", "")
	if l.Host.Actions[kind+"key-list"] != nil {
		items, err := l.List(ctx, kind+"key-list", "list keys", nil)
		switch {
		case err == nil:
			untold = ""
		case untold != "":
			untold = fault.Of(err).Says
		}
		for _, item := range items {
			title, id := description.Written(item["title"]), description.Written(item["id"])
			if strings.HasPrefix(title, scratch) && id != "" && !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
		}
	}
	if asked && untold != "" {
		return s.keyLeft(untold)
	}
	for _, id := range ids {
		if _, err := l.Do(ctx, kind+"key-remove", "remove the scratch key", description.Vars{"id": id}); err != nil && !login.Means(err, description.NotFound) {
			return s.keyLeft(fault.Of(err).Says)
		}
	}
	return nil
}

// keyLeft says that a key may be left behind.
func (s *scratched) keyLeft(why string) error {
	f := fault.New(fault.Failed, "the scratch key %s may be left behind on %s: it could not be removed (%s)", s.name, s.login.Host.Name, why)
	if page := s.login.Host.Pages["key"]; page != nil {
		if at, err := s.login.Host.Expand(page, s.vars); err == nil {
			f.Detail("Look, and remove it by hand, at %s", at)
		}
	}
	return f
}

// opens lets a key open the scratch repository alone, and takes that back.
func (s *scratched) opens(ctx context.Context) {
	line, err := scratchKey()
	if err != nil {
		return // no randomness, of which the keys before it told
	}
	id := any(nil)
	s.both(ctx, "deploy-key-add", "deploy-key-remove", func() (description.Vars, error) {
		vars, err := s.about(ctx)
		if err == nil {
			vars["title"], vars["key"], vars["right"] = s.name, line, "read"
			if id != nil {
				vars["id"] = id
			}
		}
		return vars, err
	}, func() (bool, error) {
		vars, err := s.about(ctx)
		if err != nil {
			return false, err
		}
		all, err := s.login.List(ctx, "deploy-key-list", "list deploy keys", vars)
		i := slices.IndexFunc(all, func(f map[string]any) bool { return f["title"] == s.name })
		if i >= 0 {
			id = all[i]["id"]
		}
		return i >= 0, err
	}, "a key was let in, and is listed", "it was removed")
}
