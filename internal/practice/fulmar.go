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
// from a list by kind, repositories on named shelves, keys under the user's opaque
// id, no token API.
type fulmar struct{}

func (fulmar) secret(q *http.Request) string {
	_, secret, _ := q.BasicAuth()
	return secret
}

func (fulmar) token() (string, []string) { return "oil~", nil }

func (fulmar) scope(bool) string { return "" }

// refuse tells a refusal inside an answer of status 200, but for what a host tells
// when it does not work at all.
func (fulmar) refuse(w http.ResponseWriter, r *refusal) {
	code := map[string]int{"sign-in": 11, "ended": 11, "denied": 31, "scope": 31, "none": 41, "invalid": 51, "taken": 61, "changed": 71, "rate": 91}[r.kind]
	status := http.StatusOK
	if code == 0 {
		code, status = 99, r.status
	}
	problem := map[string]any{"no": code, "line": r.says}
	if r.wait > 0 {
		problem["seconds"] = r.wait
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	// The caller may be gone; there is nobody else to tell.
	_ = json.NewEncoder(w).Encode(map[string]any{"regret": problem})
}

type fulmarAt struct{ *engine }

func (fulmar) routes(e *engine) http.Handler {
	f := fulmarAt{e}
	m := http.NewServeMux()
	m.HandleFunc("POST /counter", e.handle("", f.counter))
	m.HandleFunc("/shelves/", func(w http.ResponseWriter, q *http.Request) {
		repository, rest, ok := splitGit(strings.TrimPrefix(q.URL.Path, "/shelves/"))
		owner, name, found := cutLast(repository)
		if !ok || !found {
			e.refuse(w, no("none", "%s", q.URL.Path))
			return
		}
		f.git(w, q, f.basic(q, ""), owner, name, rest)
	})
	m.HandleFunc("/read", func(w http.ResponseWriter, q *http.Request) {
		servePage(e, w, q, f.basic(q, ""), q.URL.Query().Get("shelf")+"/"+q.URL.Query().Get("title"))
	})
	m.HandleFunc("/locker", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = fmt.Fprintln(w, "On this practice host, passwords are not set on a page: \"uncinate practice\" prints one for each demo user when it starts.")
	})
	m.HandleFunc("/", func(w http.ResponseWriter, q *http.Request) { e.refuse(w, no("none", "%s", q.URL.Path)) })
	return m
}

// fulmarArgs are the arguments of every operation; each reads its own.
type fulmarArgs struct {
	Page, Per    int
	Like         string
	Shelf, Title string
	Rename, Into string
	Open         *int
	Fairway      string
	Words        *string
	Word         string
	UID          string `json:"uid"`
	No           string
	Label, Text  string
	Login, May   string
}

// fulmarRights are the words for rights, by the store's.
var fulmarRights = []string{"", "reads", "marks", "keeps"}

// hands gives a map of people by their name.
func (f fulmarAt) hands(_ *http.Request, s Session, a fulmarArgs) (any, error) {
	r, err := f.store.Find(s.User.Name, a.Shelf, a.Title)
	if err != nil {
		return nil, err
	}
	all := map[string]any{}
	for _, m := range f.store.Members(r) {
		one := map[string]any{"may": fulmarRights[m.Right], "by_shelf": m.From}
		if !m.Since.IsZero() {
			one["since"] = m.Since.Unix()
		}
		all[m.User] = one
	}
	return map[string]any{"hands": all}, nil
}

func (f fulmarAt) let(q *http.Request, s Session, a fulmarArgs) (any, error) {
	right := slices.Index(fulmarRights, a.May)
	if right <= None {
		return nil, no("invalid", "A hand reads, marks or keeps.")
	}
	return map[string]any{}, f.store.SetRight(q.Context(), s.User.Name, a.Shelf, a.Title, a.Login, right, 0)
}

func (f fulmarAt) dismiss(q *http.Request, s Session, a fulmarArgs) (any, error) {
	return map[string]any{}, f.store.SetRight(q.Context(), s.User.Name, a.Shelf, a.Title, a.Login, None, 0)
}

var fulmarOpen = []string{"private", "members", "public"}

// counter does one operation.
func (f fulmarAt) counter(w http.ResponseWriter, q *http.Request, s Session) error {
	var in struct {
		Please string
		With   fulmarArgs
	}
	if err := read(q, &in); err != nil {
		return err
	}
	operations := map[string]func(*http.Request, Session, fulmarArgs) (any, error){
		"who": f.who, "list shelves": f.shelves, "list sheets": f.list, "show sheet": f.get, "new sheet": f.create, "set sheet": f.set,
		"move sheet": f.move, "word to strike sheet": f.strikeWord, "strike sheet": f.strike, "list hands": f.hands, "let hand": f.let, "dismiss hand": f.dismiss, "list keys": f.keys, "new key": f.addKey, "strike key": f.strikeKey}
	do := operations[in.Please]
	if do == nil {
		return no("invalid", "Nobody here can %q.", in.Please)
	}
	result, err := do(q, s, in.With)
	if err != nil {
		return err
	}
	return answer(w, 200, map[string]any{"found": result})
}

func uid(user string) string { return "u" + hash("fulmar " + user)[:10] }

func (f fulmarAt) who(_ *http.Request, s Session, _ fulmarArgs) (any, error) {
	return map[string]any{"login": s.User.Name, "uid": uid(s.User.Name), "called": s.User.FullName, "mail": s.User.Email}, nil
}

func (f fulmarAt) shelves(_ *http.Request, s Session, _ fulmarArgs) (any, error) {
	all := map[string]any{}
	for _, o := range f.store.Owners(s.User.Name) {
		all[o] = map[string]any{"own": o == s.User.Name}
	}
	return map[string]any{"shelves": all}, nil
}

func (f fulmarAt) shown(q *http.Request, r *Repo) map[string]any {
	path := r.Owner + "/" + r.Name
	return map[string]any{"no": r.ID, "shelf": r.Owner, "title": r.Name, "words": r.Description, "open": slices.Index(fulmarOpen, r.Visibility) - 1,
		"fairway": r.Default, "made": r.Created.Unix(), "maker": r.Creator,
		"links": []map[string]string{{"kind": "web", "to": baseOf(q) + "/read?shelf=" + r.Owner + "&title=" + r.Name}, {"kind": "http", "to": baseOf(q) + "/shelves/" + path}, {"kind": "ssh", "to": "ssh://git@" + q.Host + "/" + path}}}
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
	r, err := f.store.Find(s.User.Name, a.Shelf, a.Title)
	if err != nil {
		return nil, err
	}
	return f.shown(q, r), nil
}

func openWord(n *int) (string, error) {
	switch {
	case n == nil:
		return "private", nil
	case *n < -1 || *n+1 >= len(fulmarOpen):
		return "", no("invalid", "open is -1, 0 or 1.")
	}
	return fulmarOpen[*n+1], nil
}

func (f fulmarAt) create(q *http.Request, s Session, a fulmarArgs) (any, error) {
	visibility, err := openWord(a.Open)
	if err != nil {
		return nil, err
	}
	// The first branch of a new sheet is always "fairway"; "set sheet" changes it.
	want := Repo{Owner: a.Shelf, Name: a.Title, Visibility: visibility, Default: "fairway"}
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
	r, err := f.store.Change(q.Context(), s.User.Name, a.Shelf, a.Title, 0, func(r *Repo) error {
		if a.Words != nil {
			r.Description = *a.Words
		}
		if a.Fairway != "" {
			r.Default = a.Fairway
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
	r, err := f.store.Change(q.Context(), s.User.Name, a.Shelf, a.Title, 0, func(r *Repo) error { r.Owner = a.Into; return nil })
	if err != nil {
		return nil, err
	}
	return f.shown(q, r), nil
}

// strikeWord gives the word with which a deletion must be confirmed.
func (f fulmarAt) strikeWord(_ *http.Request, s Session, a fulmarArgs) (any, error) {
	r, err := f.store.Find(s.User.Name, a.Shelf, a.Title)
	if err != nil {
		return nil, err
	}
	return map[string]string{"word": hash("strike " + etag(r))[:8]}, nil
}

func (f fulmarAt) strike(_ *http.Request, s Session, a fulmarArgs) (any, error) {
	r, err := f.store.Find(s.User.Name, a.Shelf, a.Title)
	if err != nil {
		return nil, err
	}
	if a.Word != hash("strike " + etag(r))[:8] {
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

func (f fulmarAt) strikeKey(_ *http.Request, s Session, a fulmarArgs) (any, error) {
	if err := mine(s, a); err != nil {
		return nil, err
	}
	return map[string]any{}, f.store.RemoveKey(KeyFilter{User: s.User.Name}, a.No)
}
