// Package practice holds the practice hosts: small hosting services that run on this
// machine's loopback, keep their state in a folder, and serve git for real by git's
// own http-backend. Their APIs are inventions. Only the commands practice and tour,
// and tests, know this package.
package practice

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"uncinate/internal/core/naming"
	"uncinate/internal/world/files"
)

// Rights on a repository, each holding the ones before it.
const (
	None = iota
	Read
	Write
	Admin
)

// User is a person with an account on a practice host.
type User struct {
	Name          string `json:"name"`
	FullName      string `json:"full_name"`
	Email         string `json:"email"`
	MailConfirmed bool   `json:"mail_confirmed"`
}

// Group owns repositories together.
type Group struct {
	Name    string         `json:"name"`
	Members map[string]int `json:"members"` // user → right
}

// Token is an access token. Its secret is kept as a hash only.
type Token struct {
	Hash    string    `json:"hash"` // SHA-256 of the secret, in hex
	User    string    `json:"user"`
	Scopes  []string  `json:"scopes"`
	Expires time.Time `json:"expires,omitzero"`
	Signed  bool      `json:"signed,omitempty"` // it was given by a sign-in through the host's pages
	Name    string    `json:"name,omitempty"`   // as its owner called it
	Made    time.Time `json:"made,omitzero"`
	Renews  bool      `json:"renews,omitempty"`  // it is good for getting new tokens, and for nothing else
	SignIn  string    `json:"sign_in,omitempty"` // of which sign-in it is; its tokens end together
}

// Repo is a hosted repository.
type Repo struct {
	ID          string               `json:"id"`
	Owner       string               `json:"owner"`
	Name        string               `json:"name"`
	Description string               `json:"description"`
	Visibility  string               `json:"visibility"` // private, members or public
	Default     string               `json:"default"`
	Naming      string               `json:"naming,omitempty"` // of its objects: sha1 or sha256
	Creator     string               `json:"creator"`
	Created     time.Time            `json:"created"`
	Version     int                  `json:"version"`            // counts changes, for entity tags
	People      map[string]int       `json:"people"`             // user → right
	Since       map[string]time.Time `json:"since,omitempty"`    // user → since when
	Archived    bool                 `json:"archived,omitempty"` // nothing may be changed
	Guards      map[string]Guard     `json:"guards,omitempty"`   // branch → how it is protected
	Bells       []Bell               `json:"bells,omitempty"`    // what is called when something was sent
}

type state struct {
	Users     map[string]*User  `json:"users"`
	Groups    map[string]*Group `json:"groups"`
	Tokens    []*Token          `json:"tokens"`
	Repos     map[string]*Repo  `json:"repos"` // by id
	Keys      []*Key            `json:"keys,omitempty"`
	Invites   []*Invite         `json:"invites,omitempty"`
	Offers    []*Offer          `json:"offers,omitempty"`
	Soundings []Sounding        `json:"soundings,omitempty"`
	Next      int               `json:"next"`
}

// Store is one practice host's state, in a folder: state.json and bare repositories
// under repos/ID.git. It is safe for concurrent use.
type Store struct {
	dir string
	now func() time.Time

	mu      sync.Mutex
	s       state
	byOrder []*Repo             // all repositories by path; nil when they have to be sorted again
	members map[string][]Member // who may open a repository, by its id and version; nil when something was changed
}

// Problem is a refusal of the store.
type Problem struct {
	Kind  string // "taken", "none", "denied", "invalid", "changed", "already", "full", "archived", "over", "clash", "checks"
	Says  string
	Field string // which part of what was wanted is meant: "name", "visibility", "key" ...
}

func (p *Problem) Error() string { return p.Says }

func problem(kind, format string, args ...any) error { return wrongIn("", kind, format, args...) }

func wrongIn(field, kind, format string, args ...any) error {
	return &Problem{Kind: kind, Says: fmt.Sprintf(format, args...), Field: field}
}

// OpenStore opens the state in a folder, or starts an empty one.
func OpenStore(dir string) (*Store, error) {
	st := &Store{dir: dir, now: time.Now, s: state{Users: map[string]*User{}, Groups: map[string]*Group{}, Repos: map[string]*Repo{}}}
	data, err := files.Read(st.path(), 64<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return st, os.MkdirAll(filepath.Join(dir, "repos"), 0o700)
	}
	if err != nil {
		return nil, err
	}
	return st, json.Unmarshal(data, &st.s)
}

func (st *Store) path() string { return filepath.Join(st.dir, "state.json") }

// save writes the state; the caller holds mu.
func (st *Store) save() error {
	st.byOrder, st.members = nil, nil
	return files.WriteJSON(st.path(), st.s)
}

// AddUser makes a user known.
func (st *Store) AddUser(u User) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	st.s.Users[u.Name] = &u
	return st.save()
}

// Knows reports whether there is such a user.
func (st *Store) Knows(user string) bool {
	st.mu.Lock()
	defer st.mu.Unlock()
	return st.s.Users[user] != nil
}

// AddGroup makes a group known.
func (st *Store) AddGroup(g Group) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	st.s.Groups[g.Name] = &g
	return st.save()
}

// ByID finds a repository that the user can see by the host's own id.
func (st *Store) ByID(user, id string) (*Repo, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	r := st.s.Repos[id]
	if r == nil || st.right(r, user) < Read {
		return nil, problem("none", "there is no repository %s, or you may not see it", id)
	}
	c := *r
	return &c, nil
}

// right gives what a user may do with a repository; the caller holds mu.
func (st *Store) right(r *Repo, user string) int {
	best := r.People[user]
	if user != "" && r.Owner == user {
		best = Admin
	}
	if inherited, _ := st.groupRight(r.Owner, user); inherited > best {
		best = inherited
	}
	if best == None && (r.Visibility == "public" || r.Visibility == "members" && user != "") {
		best = Read
	}
	return best
}

// Right gives what a user may do with a repository.
func (st *Store) Right(r *Repo, user string) int {
	st.mu.Lock()
	defer st.mu.Unlock()
	return st.right(r, user)
}

// Find gives a repository that the user can see.
func (st *Store) Find(user, owner, name string) (*Repo, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	r := st.byPath(owner, name)
	if r == nil || st.right(r, user) < Read {
		return nil, problem("none", "there is no repository %s/%s, or you may not see it", owner, name)
	}
	c := *r
	return &c, nil
}

func (st *Store) byPath(owner, name string) *Repo {
	for _, r := range st.s.Repos {
		if r.Owner == owner && strings.EqualFold(r.Name, name) {
			return r
		}
	}
	return nil
}

// List gives what a user can see, by path, those with find in their name.
func (st *Store) List(user, find string) []*Repo {
	st.mu.Lock()
	defer st.mu.Unlock()
	if st.byOrder == nil {
		st.byOrder = slices.SortedFunc(maps.Values(st.s.Repos), func(a, b *Repo) int {
			return cmp.Or(strings.Compare(a.Owner+"/", b.Owner+"/"), strings.Compare(a.Name, b.Name))
		})
	}
	var out []*Repo
	for _, r := range st.byOrder {
		if st.right(r, user) >= Read && strings.Contains(r.Name, find) {
			out = append(out, r) // what changes is put in its place as a whole, so nobody sees it half changed
		}
	}
	return out
}

// Owners lists whose repositories a user may create: the user and groups.
func (st *Store) Owners(user string) []string {
	st.mu.Lock()
	defer st.mu.Unlock()
	out := []string{user}
	for _, name := range slices.Sorted(maps.Keys(st.s.Groups)) {
		if st.s.Groups[name].Members[user] >= Write {
			out = append(out, name)
		}
	}
	return out
}

// gitCommand is a run of git that knows nothing of the person's own configuration.
func gitCommand(ctx context.Context, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, "git", args...)
	c.Env = []string{"PATH=" + os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=" + os.DevNull}
	return c
}

// Log gives the newest commits of the default branch, one line each.
func (st *Store) Log(ctx context.Context, id string) []string {
	out, err := gitCommand(ctx, "-C", st.GitDir(id), "log", "-z", "-20", "--date=short", "--format=%h  %ad  %an  %s").Output()
	if err != nil {
		return nil // no commit yet
	}
	return strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00")
}

// hosted is what a hosted repository's own configuration says besides (git-config documentation).
const hosted = "[http]\n\treceivepack = true\n[receive]\n\tautogc = false\n\tdenyDeleteCurrent = ignore\n[transfer]\n\tfsckObjects = true\n[uploadpack]\n\tallowFilter = true\n"

// Create makes a repository, empty.
func (st *Store) Create(ctx context.Context, user string, want Repo) (*Repo, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	g := st.s.Groups[want.Owner]
	switch {
	case naming.Check(want.Name) != nil:
		return nil, wrongIn("name", "invalid", "a name is made of letters, digits, '.', '_' and '-'")
	case want.Owner != user && (g == nil || g.Members[user] < Write):
		return nil, problem("denied", "you may not make repositories for %s", want.Owner)
	case st.byPath(want.Owner, want.Name) != nil:
		return nil, wrongIn("name", "taken", "there is a repository %s/%s already", want.Owner, want.Name)
	case !slices.Contains([]string{"private", "members", "public"}, want.Visibility):
		return nil, wrongIn("visibility", "invalid", "no such visibility")
	}
	ctx = context.WithoutCancel(ctx) // what was begun comes to its end, also when the caller goes away
	if want.Default == "" {
		want.Default = "main"
	}
	if err := gitCommand(ctx, "check-ref-format", "--branch", want.Default).Run(); err != nil {
		return nil, problem("invalid", "no such branch name")
	}
	if want.Naming = cmp.Or(want.Naming, "sha1"); want.Naming != "sha1" && want.Naming != "sha256" {
		return nil, wrongIn("naming", "invalid", "objects are named by sha1 or sha256")
	}
	st.s.Next++
	r := want
	r.ID, r.Creator, r.Created, r.Version, r.People = fmt.Sprintf("g%06d", st.s.Next), user, st.now().UTC().Truncate(time.Second), 1, map[string]int{}
	dir := st.GitDir(r.ID)
	if out, err := gitCommand(ctx, "init", "-q", "--bare", "--template=", "--initial-branch="+r.Default, "--object-format="+r.Naming, dir).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("git init: %w: %s", err, out)
	}
	config, err := os.OpenFile(filepath.Join(dir, "config"), os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = config.WriteString(hosted)
		err = errors.Join(err, config.Close())
	}
	if err != nil {
		return nil, fmt.Errorf("git's configuration: %w", err)
	}
	st.s.Repos[r.ID] = &r
	c := r
	return &c, st.save()
}

// Change changes what set changes, if version is 0 or the present one.
func (st *Store) Change(ctx context.Context, user, owner, name string, version int, set func(*Repo) error) (*Repo, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	r := st.byPath(owner, name)
	switch {
	case r == nil || st.right(r, user) < Read:
		return nil, problem("none", "there is no repository %s/%s, or you may not see it", owner, name)
	case st.right(r, user) < Admin:
		return nil, problem("denied", "you may not change %s/%s", owner, name)
	case version != 0 && version != r.Version:
		return nil, problem("changed", "the repository was changed meanwhile")
	}
	c := *r
	if err := set(&c); err != nil {
		return nil, err
	}
	if r.Archived && c.Archived {
		return nil, problem("archived", "%s/%s is archived", owner, name)
	}
	if other := st.byPath(c.Owner, c.Name); naming.Check(c.Name) != nil || other != nil && other.ID != c.ID {
		return nil, problem("taken", "the name %s cannot be had", c.Name)
	}
	ctx = context.WithoutCancel(ctx) // what was begun comes to its end, also when the caller goes away
	if c.Default != r.Default {
		if err := gitCommand(ctx, "-C", st.GitDir(c.ID), "symbolic-ref", "HEAD", "refs/heads/"+c.Default).Run(); err != nil {
			return nil, problem("invalid", "no such branch name")
		}
	}
	c.Version++
	st.s.Repos[c.ID] = &c
	answer := c
	return &answer, st.save()
}

// Delete removes a repository, if version is 0 or the present one.
func (st *Store) Delete(user, owner, name string, version int) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	r := st.byPath(owner, name)
	switch {
	case r == nil || st.right(r, user) < Read:
		return problem("none", "there is no repository %s/%s, or you may not see it", owner, name)
	case st.right(r, user) < Admin:
		return problem("denied", "you may not delete %s/%s", owner, name)
	case version != 0 && version != r.Version:
		return problem("changed", "the repository was changed meanwhile")
	}
	delete(st.s.Repos, r.ID)
	st.s.Invites = slices.DeleteFunc(st.s.Invites, func(i *Invite) bool { return i.Repo == r.ID })
	st.s.Offers = slices.DeleteFunc(st.s.Offers, func(o *Offer) bool { return o.Repo == r.ID })
	if err := st.save(); err != nil {
		return err
	}
	return os.RemoveAll(st.GitDir(r.ID))
}

// GitDir is where a repository's objects are.
func (st *Store) GitDir(id string) string { return filepath.Join(st.dir, "repos", id+".git") }

// Used gives how many bytes of large-file storage a user's own repositories take.
func (st *Store) Used(user string) int64 {
	total := int64(0)
	for _, r := range st.List(user, "") {
		if r.Owner != user {
			continue
		}
		// What vanishes while it is counted takes no place.
		_ = filepath.WalkDir(filepath.Join(st.GitDir(r.ID), "large"), func(_ string, e fs.DirEntry, err error) error {
			if err == nil && e.Type().IsRegular() {
				if info, err := e.Info(); err == nil {
					total += info.Size()
				}
			}
			return nil
		})
	}
	return total
}

// Size gives how many bytes a repository takes.
func (st *Store) Size(id string) (total int64) {
	// What vanishes while it is counted takes no place.
	_ = filepath.WalkDir(st.GitDir(id), func(_ string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			if info, err := e.Info(); err == nil {
				total += info.Size()
			}
		}
		return nil
	})
	return total
}

// Empty reports whether a repository has no ref. It looks into the folder itself
// (gitrepository-layout documentation): a list of thousands asks it of each.
func (st *Store) Empty(id string) bool {
	dir := st.GitDir(id)
	if packed, err := os.ReadFile(filepath.Join(dir, "packed-refs")); err == nil {
		for line := range strings.SplitSeq(string(packed), "\n") {
			if line != "" && line[0] != '#' && line[0] != '^' {
				return false
			}
		}
	}
	found := errors.New("found")
	err := filepath.WalkDir(filepath.Join(dir, "refs"), func(_ string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() && !strings.HasSuffix(e.Name(), ".lock") {
			return found
		}
		return nil
	})
	return !errors.Is(err, found)
}

// Fill adds many repositories to a user's, without anything in them, for measuring.
func (st *Store) Fill(user string, many int) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	for i := range many {
		st.s.Next++
		id := fmt.Sprintf("g%06d", st.s.Next)
		st.s.Repos[id] = &Repo{ID: id, Owner: user, Name: fmt.Sprintf("gauge-%05d", i), Visibility: "private", Default: "main", Creator: user, Created: st.now().UTC().Truncate(time.Second), Version: 1}
	}
	return st.save()
}

// Reload reads the state again, after its folder was put back to what it was.
func (st *Store) Reload() error {
	st.mu.Lock()
	defer st.mu.Unlock()
	fresh, err := OpenStore(st.dir)
	if err == nil {
		st.s, st.byOrder, st.members = fresh.s, nil, nil
	}
	return err
}
