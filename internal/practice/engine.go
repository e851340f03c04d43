package practice

import (
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"uncinate/descriptions"
)

// face is how one practice host shows the engine that all share: its addresses, its
// way to sign in, its answers and refusals. A new host is a face and its demo users.
type face interface {
	routes(e *engine) http.Handler
	secret(q *http.Request) string // the token of a request, "" for none
	refuse(w http.ResponseWriter, r *refusal)
	scope(sends bool) string // what git's traffic takes; "" for none
	token() (prefix string, scopes []string)
}

//go:embed openapi
var documents embed.FS

// OpenAPI is the document in which a practice host publishes its API.
func OpenAPI(name string) ([]byte, error) { return documents.ReadFile("openapi/" + name + ".yaml") }

// faces are the practice hosts by name.
func faces() map[string]face {
	return map[string]face{"gannet": gannet{}, "petrel": petrel{}, "fulmar": fulmar{}}
}

// Hosts names the practice hosts, the first one first.
var Hosts = []string{"gannet", "petrel", "fulmar"}

// engine is one running practice host.
type engine struct {
	name  string
	store *Store
	face  face
	ssh   *sshServer

	jobs    jobs    // of petrel
	signIns signIns // of gannet
}

// refusal is a host's no, before a face has put it into its own form.
type refusal struct {
	status int
	kind   string // see refusals
	says   string
	field  string // which part of what was sent is wrong, if one is
	wait   int    // seconds until it may be asked again, if the rate is why
}

func (r *refusal) Error() string { return r.says }

// refusals are the kinds, with the status that suits each.
var refusals = map[string]int{"sign-in": 401, "ended": 401, "scope": 403, "denied": 403, "none": 404, "taken": 409, "changed": 412, "invalid": 422,
	"rate": 429, "failed": 500, "told": 500, "already": 409, "full": 402, "archived": 423,
	"over": 409, "clash": 409, "checks": 409}

func no(kind, format string, args ...any) *refusal {
	return &refusal{status: refusals[kind], kind: kind, says: fmt.Sprintf(format, args...)}
}

// refuse sends a refusal in the host's own form.
func (e *engine) refuse(w http.ResponseWriter, err error) {
	var r *refusal
	var p *Problem
	switch {
	case errors.As(err, &r):
	case errors.As(err, &p):
		r = no(p.Kind, "%s", p.Says)
		r.field = p.Field
	default:
		r = no("failed", "%s", err.Error())
	}
	e.face.refuse(w, r)
}

// Running is a practice host that runs.
type Running struct {
	Name   string
	URL    string
	Store  *Store
	Faults *Faults
	face   face
	ssh    *sshServer
	stop   func() error
}

// Close stops it and waits until it has.
func (r *Running) Close() error { return r.stop() }

// Start starts the practice host of a name on a loopback address, "127.0.0.1:0" for
// any free port, with its state in a folder. faults may be nil; they can be set while
// it runs.
func Start(name, dir, listen string, faults *Faults) (*Running, error) {
	f := faces()[name]
	if f == nil {
		return nil, fmt.Errorf("there is no practice host %q; there are %s", name, strings.Join(Hosts, ", "))
	}
	host, _, err := net.SplitHostPort(listen)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return nil, fmt.Errorf("a practice host listens on a loopback address only, and %q is none", listen)
	}
	st, err := OpenStore(dir)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, err
	}
	if faults == nil {
		if faults, err = NewFaults(1); err != nil {
			return nil, err
		}
	}
	e := &engine{name: name, store: st, face: f, signIns: signIns{devices: map[string]*deviceWait{}, codes: map[string]*codeWait{}}}
	routes := f.routes(e)
	published := http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.URL.Path == "/openapi.yaml" || q.URL.Path == ownDescription {
			doc, kind, err := told(name, q)
			if err != nil {
				e.refuse(w, err)
				return
			}
			w.Header().Set("Content-Type", kind)
			_, _ = w.Write(doc) // the reader may be gone
			return
		}
		routes.ServeHTTP(w, q)
	})
	srv := &http.Server{Handler: faults.wrap(e, published), ErrorLog: log.New(io.Discard, "", 0), ReadHeaderTimeout: 10 * time.Second}
	sshd, err := newSSH(e, dir, faults)
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	e.ssh = sshd
	ended := make(chan error, 1)
	go func() { ended <- srv.Serve(newSplit(l, sshd)) }()
	var once sync.Once
	return &Running{Name: name, URL: "http://" + l.Addr().String(), Store: st, Faults: faults, face: f, ssh: sshd, stop: func() (err error) {
		once.Do(func() { err = stopServer(srv, sshd, ended) })
		return err
	}}, nil
}

// stopServer stops a practice host's server, and waits until it has.
func stopServer(srv *http.Server, sshd *sshServer, ended <-chan error) error {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	sshd.closeAll()
	if err := srv.Shutdown(ctx); err != nil {
		if err = srv.Close(); err != nil {
			return err
		}
	}
	if err := <-ended; !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// ownDescription is where a host publishes how to talk to it (RFC 8615).
const ownDescription = "/.well-known/uncinate-host.toml"

// told gives what a host publishes of itself: the document of its API, or its description, with the address at which it
// was asked as its own.
func told(name string, q *http.Request) (doc []byte, kind string, err error) {
	if q.URL.Path != ownDescription {
		doc, err = OpenAPI(name)
		return doc, "application/yaml", err // RFC 9512
	}
	doc, err = descriptions.Files.ReadFile(name + ".toml")
	doc = regexp.MustCompile(`(?m)^base( *)= "[^"]*"`).ReplaceAll(doc, []byte(`base$1= "`+baseOf(q)+`"`))
	return doc, "application/toml", err
}

// session finds who asks, and refuses who may not.
func (e *engine) session(q *http.Request, scope string) (Session, error) {
	s := e.store.SignIn(e.face.secret(q))
	switch {
	case s.Ended:
		return s, no("ended", "It ended on %s.", s.Token.Expires.Format(time.DateOnly))
	case s.User == nil:
		return s, no("sign-in", "The request holds no token that is valid.")
	case scope != "" && !s.May(scope):
		return s, no("scope", "It lacks the scope %s.", scope)
	}
	return s, nil
}

// handle makes a handler of work for someone who signed in and may do it.
func (e *engine) handle(scope string, work func(w http.ResponseWriter, q *http.Request, s Session) error) http.HandlerFunc {
	return func(w http.ResponseWriter, q *http.Request) {
		s, err := e.session(q, scope)
		if err == nil {
			q.Body = http.MaxBytesReader(w, q.Body, 1<<20)
			err = work(w, q, s)
		}
		if err != nil {
			e.refuse(w, err)
		}
	}
}

func answer(w http.ResponseWriter, status int, v any) error {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	return json.NewEncoder(w).Encode(v)
}

// read takes a JSON body strictly.
func read(q *http.Request, v any) error {
	in := json.NewDecoder(q.Body)
	in.DisallowUnknownFields()
	if err := in.Decode(v); err != nil {
		r := no("invalid", "The body cannot be read: %s", err)
		r.status = 400
		return r
	}
	return nil
}

// baseOf is the address under which the host was asked, which may be a proxy's.
func baseOf(q *http.Request) string { return "http://" + q.Host }

func demand(w http.ResponseWriter, name, says string) {
	w.Header().Set("WWW-Authenticate", `Basic realm="`+name+`"`)
	http.Error(w, says, http.StatusUnauthorized)
}

// gitRest are the ends of addresses that git asks for (gitprotocol-http).
var gitRest = []string{"/info/refs", "/git-upload-pack", "/git-receive-pack"}

// splitGit parts a path into a repository's and what git asks of it.
func splitGit(path string) (repository, rest string, ok bool) {
	for _, r := range gitRest {
		if before, found := strings.CutSuffix(path, r); found {
			return strings.TrimSuffix(before, ".git"), r, true
		}
	}
	if before, after, found := strings.Cut(path, "/info/lfs/"); found {
		return strings.TrimSuffix(before, ".git"), "/info/lfs/" + after, true
	}
	return "", "", false
}

// git serves a repository over git's smart HTTP, signed in by HTTP Basic. s is who
// the pair belongs to, or nobody.
func (e *engine) git(w http.ResponseWriter, q *http.Request, s Session, owner, name, rest string) {
	user := ""
	if s.User != nil {
		user = s.User.Name
	}
	sends := rest == "/git-receive-pack" || q.URL.Query().Get("service") == "git-receive-pack"
	scope := e.face.scope(sends)
	r, err := e.store.Find(user, owner, name)
	switch {
	case err != nil && user == "":
		demand(w, e.name, "sign in first")
	case err != nil:
		http.Error(w, "there is no such repository, or you may not see it", http.StatusNotFound)
	case user != "" && scope != "" && !s.May(scope):
		http.Error(w, "your token lacks a scope for this", http.StatusForbidden)
	case sends && e.store.Right(r, user) < Write && user == "":
		demand(w, e.name, "sign in first")
	case sends && e.store.Right(r, user) < Write:
		http.Error(w, "you may only read this repository", http.StatusForbidden)
	case sends && r.Archived:
		http.Error(w, "this repository is archived: it may only be read", http.StatusForbidden)
	case strings.HasPrefix(rest, "/info/lfs/"):
		e.large(w, q, e.store.GitDir(r.ID), rest, user != "" && e.store.Right(r, user) >= Write)
	default:
		if rest == "/git-receive-pack" {
			defer e.store.rings(e.name, r.ID)()
		}
		serveGit(w, q, e.store.GitDir(r.ID), rest, user, e.store.guards(r, user))
	}
}

// basic signs a request in by HTTP Basic; the user's name must be the token's owner's,
// or one that stands for every user.
func (e *engine) basic(q *http.Request, anyUser string) Session {
	user, secret, given := q.BasicAuth()
	if !given {
		return Session{}
	}
	s := e.store.SignIn(secret)
	if s.User == nil || s.User.Name != user && (anyUser == "" || user != anyUser) {
		return Session{}
	}
	return s
}

// part cuts one page out of a list: number counts from 1.
func part[T any](all []T, number, size int) []T {
	from := min(max(number-1, 0)*size, len(all))
	return slices.Clone(all[from:min(from+size, len(all))])
}
