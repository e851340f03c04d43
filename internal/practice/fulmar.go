package practice

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
)

// fulmar is the face of the practice host fulmar, an old-fashioned one: HTTP Basic,
// every action a POST to one address with an operation's name, answers in an envelope
// whose status is always 200, page numbers with a total, clone addresses to be picked
// from a list by kind, repositories in named collections, keys under the user's opaque
// id, no token API.
type fulmar struct{}

func (fulmar) secret(q *http.Request) string {
	_, secret, _ := q.BasicAuth()
	return secret
}

func (fulmar) token() (string, []string) { return "ful-", nil }

func (fulmar) scope(bool) string { return "" }

// refuse tells a refusal inside an answer of status 200, but for what a host tells
// when it does not work at all.
func (fulmar) refuse(w http.ResponseWriter, r *refusal) {
	code := map[string]string{"sign-in": "E_LOGIN", "ended": "E_LOGIN", "denied": "E_RIGHT", "none": "E_NONE", "taken": "E_TAKEN", "changed": "E_STALE",
		"invalid": "E_ARG", "scope": "E_RIGHT", "rate": "E_WAIT"}[r.kind]
	status := http.StatusOK
	if code == "" {
		code, status = "E_HOST", r.status
	}
	problem := map[string]any{"code": code, "text": r.says}
	if r.wait > 0 {
		problem["seconds"] = r.wait
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	// The caller may be gone; there is nobody else to tell.
	_ = json.NewEncoder(w).Encode(map[string]any{"ok": false, "error": problem})
}

type fulmarAt struct{ *engine }

func (fulmar) routes(e *engine) http.Handler {
	f := fulmarAt{e}
	m := http.NewServeMux()
	m.HandleFunc("POST /rpc", e.handle("", f.rpc))
	m.HandleFunc("/git/", func(w http.ResponseWriter, q *http.Request) {
		repository, rest, ok := splitGit(strings.TrimPrefix(q.URL.Path, "/git/"))
		owner, name, found := cutLast(repository)
		if !ok || !found {
			e.refuse(w, no("none", "%s", q.URL.Path))
			return
		}
		f.git(w, q, f.basic(q, ""), owner, name, rest)
	})
	m.HandleFunc("/view", func(w http.ResponseWriter, q *http.Request) {
		servePage(e, w, q, f.basic(q, ""), q.URL.Query().Get("c")+"/"+q.URL.Query().Get("r"))
	})
	m.HandleFunc("/profile", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = fmt.Fprintln(w, "On this practice host, passwords are not set on a page: \"uncinate practice\" prints one for each demo user when it starts.")
	})
	m.HandleFunc("/", func(w http.ResponseWriter, q *http.Request) { e.refuse(w, no("none", "%s", q.URL.Path)) })
	return m
}

// fulmarArgs are the arguments of every operation; each reads its own.
type fulmarArgs struct {
	Page, Per         int
	Like              string
	Collection, Title string
	Rename, Into      string
	Open              *int
	Trunk             string
	Words             *string
	Word              string
	UID               string `json:"uid"`
	No                string
	Label, Text       string
}

var fulmarOpen = []string{"private", "members", "public"}

// rpc does one operation.
func (f fulmarAt) rpc(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		Op   string
		Args fulmarArgs
	}
	if err := read(q, &in); err != nil {
		return err
	}
	operations := map[string]func(*http.Request, Session, fulmarArgs) (any, error){
		"who": f.who, "collection.list": f.collections, "repo.list": f.list, "repo.get": f.get, "repo.new": f.create, "repo.set": f.set,
		"repo.move": f.move, "repo.drop.ask": f.dropWord, "repo.drop": f.drop, "key.list": f.keys, "key.new": f.addKey, "key.drop": f.dropKey}
	do := operations[in.Op]
	if do == nil {
		return no("invalid", "There is no operation %q.", in.Op)
	}
	result, err := do(q, s, in.Args)
	if err != nil {
		return err
	}
	return answer(w, 200, map[string]any{"ok": true, "result": result})
}

func uid(user string) string { return "u" + hash("fulmar " + user)[:10] }

func (f fulmarAt) who(_ *http.Request, s Session, _ fulmarArgs) (any, error) {
	return map[string]any{"login": s.User.Name, "uid": uid(s.User.Name), "called": s.User.FullName, "mail": s.User.Email}, nil
}

func (f fulmarAt) collections(_ *http.Request, s Session, _ fulmarArgs) (any, error) {
	all := map[string]any{}
	for _, o := range f.store.Owners(s.User.Name) {
		all[o] = map[string]any{"own": o == s.User.Name}
	}
	return map[string]any{"collections": all}, nil
}

func (f fulmarAt) shown(q *http.Request, r *Repo) map[string]any {
	path := r.Owner + "/" + r.Name
	return map[string]any{"no": r.ID, "collection": r.Owner, "title": r.Name, "words": r.Description, "open": slices.Index(fulmarOpen, r.Visibility),
		"trunk": r.Default, "made": r.Created.Unix(), "maker": r.Creator,
		"links": []map[string]string{{"kind": "web", "to": baseOf(q) + "/view?c=" + r.Owner + "&r=" + r.Name}, {"kind": "http", "to": baseOf(q) + "/git/" + path}, {"kind": "ssh", "to": "ssh://git@" + q.Host + "/" + path}}}
}

func (f fulmarAt) list(q *http.Request, s Session, a fulmarArgs) (any, error) {
	if a.Per < 1 || a.Per > 100 {
		a.Per = 25
	}
	all := f.store.List(s.User.Name, a.Like)
	rows := []map[string]any{}
	for _, r := range part(all, a.Page, a.Per) {
		rows = append(rows, f.shown(q, r))
	}
	return map[string]any{"rows": rows, "total": len(all)}, nil
}

func (f fulmarAt) get(q *http.Request, s Session, a fulmarArgs) (any, error) {
	r, err := f.store.Find(s.User.Name, a.Collection, a.Title)
	if err != nil {
		return nil, err
	}
	return f.shown(q, r), nil
}

func openWord(n *int) (string, error) {
	switch {
	case n == nil:
		return "private", nil
	case *n < 0 || *n >= len(fulmarOpen):
		return "", no("invalid", "open is 0, 1 or 2.")
	}
	return fulmarOpen[*n], nil
}

func (f fulmarAt) create(q *http.Request, s Session, a fulmarArgs) (any, error) {
	visibility, err := openWord(a.Open)
	if err != nil {
		return nil, err
	}
	// The trunk of a new repository is always "trunk"; repo.set changes it.
	want := Repo{Owner: a.Collection, Name: a.Title, Visibility: visibility, Default: "trunk"}
	if a.Words != nil {
		want.Description = *a.Words
	}
	r, err := f.store.Create(q.Context(), s.User.Name, want)
	if err != nil {
		return nil, err
	}
	return f.shown(q, r), nil
}

func (f fulmarAt) set(q *http.Request, s Session, a fulmarArgs) (any, error) {
	r, err := f.store.Change(q.Context(), s.User.Name, a.Collection, a.Title, 0, func(r *Repo) error {
		if a.Words != nil {
			r.Description = *a.Words
		}
		if a.Trunk != "" {
			r.Default = a.Trunk
		}
		if a.Rename != "" {
			r.Name = a.Rename
		}
		if a.Open != nil {
			visibility, err := openWord(a.Open)
			if err != nil {
				return err
			}
			r.Visibility = visibility
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return f.shown(q, r), nil
}

func (f fulmarAt) move(q *http.Request, s Session, a fulmarArgs) (any, error) {
	if !slices.Contains(f.store.Owners(s.User.Name), a.Into) {
		return nil, problem("denied", "you may not put anything into %s", a.Into)
	}
	r, err := f.store.Change(q.Context(), s.User.Name, a.Collection, a.Title, 0, func(r *Repo) error { r.Owner = a.Into; return nil })
	if err != nil {
		return nil, err
	}
	return f.shown(q, r), nil
}

// dropWord gives the word with which a deletion must be confirmed.
func (f fulmarAt) dropWord(_ *http.Request, s Session, a fulmarArgs) (any, error) {
	r, err := f.store.Find(s.User.Name, a.Collection, a.Title)
	if err != nil {
		return nil, err
	}
	return map[string]string{"word": hash("drop " + etag(r))[:8]}, nil
}

func (f fulmarAt) drop(_ *http.Request, s Session, a fulmarArgs) (any, error) {
	r, err := f.store.Find(s.User.Name, a.Collection, a.Title)
	if err != nil {
		return nil, err
	}
	if a.Word != hash("drop " + etag(r))[:8] {
		return nil, problem("changed", "the word does not fit")
	}
	return map[string]any{}, f.store.Delete(s.User.Name, r.Owner, r.Name, r.Version)
}

// mine checks that the keys that are asked for are the person's own.
func mine(s Session, a fulmarArgs) error {
	if a.UID != uid(s.User.Name) {
		return problem("denied", "these are not your keys")
	}
	return nil
}

// keys gives a map of keys by their number.
func (f fulmarAt) keys(_ *http.Request, s Session, a fulmarArgs) (any, error) {
	if err := mine(s, a); err != nil {
		return nil, err
	}
	all := map[string]any{}
	for _, k := range f.store.Keys(s.User.Name) {
		all[k.ID] = map[string]any{"no": k.ID, "label": k.Title, "text": k.Line, "added": k.Added.Unix()}
	}
	return map[string]any{"keys": all}, nil
}

func (f fulmarAt) addKey(_ *http.Request, s Session, a fulmarArgs) (any, error) {
	if err := mine(s, a); err != nil {
		return nil, err
	}
	k, err := f.store.AddKey(Key{User: s.User.Name, Title: a.Label, Line: a.Text})
	if err != nil {
		return nil, err
	}
	return map[string]string{"no": k.ID}, nil
}

func (f fulmarAt) dropKey(_ *http.Request, s Session, a fulmarArgs) (any, error) {
	if err := mine(s, a); err != nil {
		return nil, err
	}
	return map[string]any{}, f.store.RemoveKey(KeyFilter{User: s.User.Name}, a.No)
}
