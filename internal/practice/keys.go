package practice

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Key is an SSH key's public half: a person's own, one that verifies a person's
// signatures, or one that opens a single repository.
type Key struct {
	ID     string    `json:"id"`
	User   string    `json:"user"`
	Title  string    `json:"title"`
	Line   string    `json:"line"` // as in an authorized_keys file (sshd(8))
	Added  time.Time `json:"added"`
	Used   time.Time `json:"used,omitzero"`
	Signs  bool      `json:"signs,omitempty"`  // it signs, and signs nobody in
	Repo   string    `json:"repo,omitempty"`   // of a deploy key: the repository's id
	Writes bool      `json:"writes,omitempty"` // of a deploy key
}

// KeyFilter says which keys are meant.
type KeyFilter struct {
	User  string // whose, unless Repo is given
	Signs bool
	Repo  string // the deploy keys of one repository
}

func (f KeyFilter) of(k *Key) bool {
	if f.Repo != "" {
		return k.Repo == f.Repo
	}
	return k.Repo == "" && k.User == f.User && k.Signs == f.Signs
}

// KeysOf lists keys, oldest first.
func (st *Store) KeysOf(f KeyFilter) []*Key {
	st.mu.Lock()
	defer st.mu.Unlock()
	var out []*Key
	for _, k := range st.s.Keys {
		if f.of(k) {
			c := *k
			out = append(out, &c)
		}
	}
	return out
}

// Keys lists a person's keys for signing in, oldest first.
func (st *Store) Keys(user string) []*Key { return st.KeysOf(KeyFilter{User: user}) }

// AddKey puts a key on the host. A key for signing in is one person's, or one
// repository's, alone.
func (st *Store) AddKey(want Key) (*Key, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	public, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(want.Line))
	if err != nil || strings.ContainsAny(want.Line, "\n\r") {
		return nil, wrongIn("key", "invalid", "this is not a public key")
	}
	for _, k := range st.s.Keys {
		if k.Signs == want.Signs && bytes.Equal(blob(k.Line), public.Marshal()) {
			return nil, wrongIn("key", "taken", "the key is in use already, by %s", k.User)
		}
	}
	st.s.Next++
	want.ID, want.Added = fmt.Sprintf("k%06d", st.s.Next), st.now().UTC().Truncate(time.Second)
	want.Line = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))
	if comment != "" {
		want.Line += " " + comment
	}
	st.s.Keys = append(st.s.Keys, &want)
	c := want
	return &c, st.save()
}

// blob is the key itself of an authorized_keys line (RFC 4253, 6.6).
func blob(line string) []byte {
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line)); err == nil {
		return key.Marshal()
	}
	return nil
}

// RemoveKey takes a key off the host.
func (st *Store) RemoveKey(f KeyFilter, id string) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	before := len(st.s.Keys)
	st.s.Keys = slices.DeleteFunc(st.s.Keys, func(k *Key) bool { return k.ID == id && f.of(k) })
	if len(st.s.Keys) == before {
		return problem("none", "there is no such key")
	}
	return st.save()
}

// KeyOf finds the key for signing in that was offered; nil for nobody's.
func (st *Store) KeyOf(offered []byte) *Key {
	st.mu.Lock()
	defer st.mu.Unlock()
	for _, k := range st.s.Keys {
		if !k.Signs && bytes.Equal(blob(k.Line), offered) {
			c := *k
			return &c
		}
	}
	return nil
}

// KeyByID finds a key; nil where it was removed meanwhile.
func (st *Store) KeyByID(id string) *Key {
	st.mu.Lock()
	defer st.mu.Unlock()
	if i := slices.IndexFunc(st.s.Keys, func(k *Key) bool { return k.ID == id }); i >= 0 {
		c := *st.s.Keys[i]
		return &c
	}
	return nil
}

// forKey gives a repository that a key opens.
func (st *Store) forKey(k *Key, owner, name string) (*Repo, error) {
	if k.Repo == "" {
		return st.Find(k.User, owner, name)
	}
	st.mu.Lock()
	defer st.mu.Unlock()
	if r := st.byPath(owner, name); r != nil && r.ID == k.Repo {
		c := *r
		return &c, nil
	}
	return nil, problem("none", "there is no repository %s/%s, or this key may not see it", owner, name)
}

// mayWrite reports whether a key may write to a repository that it opens.
func (st *Store) mayWrite(k *Key, r *Repo) bool {
	if k.Repo != "" {
		return k.Writes
	}
	return st.Right(r, k.User) >= Write
}

// usedEvery is how exactly it is noted when a key was used last.
const usedEvery = time.Minute

// used notes that a key was used now, as hosts do: not for each of hundreds of commands.
func (st *Store) used(id string) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	for _, k := range st.s.Keys {
		if now := st.now().UTC().Truncate(time.Second); k.ID == id && now.Sub(k.Used) >= usedEvery {
			k.Used = now
			return st.save()
		}
	}
	return nil
}
