package practice

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Fault is one way in which a practice host misbehaves. It is written as words:
//
//	KIND[=VALUE] [on METHOD|PATH]... [after N] [times N] [chance P]
//
// such as "lose on POST", "rate-limit=3s on /deck/hulls times 2", "delay=200ms chance 0.3".
type Fault struct {
	Kind   string        // one of FaultKinds
	Status int           // for fail
	Time   time.Duration // for delay, late, rate-limit, spent and date
	Method string        // only requests of this method
	Path   string        // only requests whose path begins so, or holds it if it has no leading slash
	After  int           // let this many matching requests pass first
	Times  int           // misbehave this often; 0 for always
	Chance float64       // misbehave with this probability; 0 for always
	Text   string        // as it was written

	met, done int
}

// FaultKinds are the ways to misbehave.
var FaultKinds = []string{
	"fail",       // answer with a status (500 by default), doing nothing
	"delay",      // wait (100ms by default), then do the work
	"cut",        // cut the line, doing nothing
	"late",       // do the work, and answer late (1s by default)
	"lose",       // do the work, and cut the line instead of answering
	"rate-limit", // refuse for too many requests, and name a time (1s by default), doing nothing
	"spent",      // do the work, and tell that no request is left for a time (1s by default)
	"end-token",  // let the token that is used end first
	"garbage",    // answer with a page instead of what was asked for
	"date",       // tell a time that is ahead (1h by default)
	"no-date",    // do the work, and tell no time
	"echo",       // refuse, and repeat the token in the answer
}

// ParseFault reads a fault.
func ParseFault(s string) (*Fault, error) {
	words := strings.Fields(s)
	if len(words) == 0 {
		return nil, fmt.Errorf("a fault is written as %s", strings.Join(FaultKinds, ", "))
	}
	kind, value, given := strings.Cut(words[0], "=")
	f := &Fault{Kind: kind, Status: 500, Time: 100 * time.Millisecond, Text: strings.Join(words, " ")}
	switch kind {
	case "late", "rate-limit", "spent":
		f.Time = time.Second
	case "date":
		f.Time = time.Hour
	}
	if !slices.Contains(FaultKinds, kind) {
		return nil, fmt.Errorf("%q is not a fault; there are %s", kind, strings.Join(FaultKinds, ", "))
	}
	var err error
	switch {
	case given && kind == "fail":
		if f.Status, err = strconv.Atoi(value); err != nil || f.Status < 400 || f.Status > 599 {
			return nil, fmt.Errorf("%q is not a status of a failure", value)
		}
	case given:
		most := time.Minute
		if kind == "date" || kind == "rate-limit" || kind == "spent" {
			most = 1000 * time.Hour
		}
		if f.Time, err = time.ParseDuration(value); err != nil || f.Time < 0 || f.Time > most {
			return nil, fmt.Errorf("%q is not a time of at most %s", value, most)
		}
	}
	for i := 1; i < len(words); i += 2 {
		if i+1 == len(words) {
			return nil, fmt.Errorf("a value is missing behind %q", words[i])
		}
		switch value := words[i+1]; words[i] {
		case "on":
			if strings.ToUpper(value) == value && !strings.Contains(value, "/") {
				f.Method = value
			} else {
				f.Path = value
			}
		case "after":
			f.After, err = strconv.Atoi(value)
		case "times":
			f.Times, err = strconv.Atoi(value)
		case "chance":
			f.Chance, err = strconv.ParseFloat(value, 64)
		default:
			err = fmt.Errorf("%q is none of on, after, times, chance", words[i])
		}
		if err != nil {
			return nil, err
		}
	}
	return f, nil
}

// matches reports whether the fault is about such a request.
func (f *Fault) matches(q *http.Request) bool {
	if f.Method != "" && f.Method != q.Method {
		return false
	}
	if strings.HasPrefix(f.Path, "/") {
		return strings.HasPrefix(q.URL.Path, f.Path)
	}
	return strings.Contains(q.URL.Path, f.Path)
}

// seconds is the fault's time in whole seconds.
func (f *Fault) seconds() int { return int((f.Time + time.Second - 1) / time.Second) }

// Faults are all that a host is told to do wrong. The same seed and the same
// requests misbehave alike.
type Faults struct {
	mu     sync.Mutex
	rules  []*Fault
	random *rand.Rand
	log    []string
}

// NewFaults makes faults with a seed for those that come by chance.
func NewFaults(seed uint64, rules ...string) (*Faults, error) {
	f := &Faults{random: rand.New(rand.NewPCG(seed, 1))}
	return f, f.Set(rules)
}

// Set replaces the faults.
func (f *Faults) Set(rules []string) error {
	var parsed []*Fault
	for _, s := range rules {
		r, err := ParseFault(s)
		if err != nil {
			return err
		}
		parsed = append(parsed, r)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.rules = parsed
	return nil
}

// Idle reports whether nothing is told to go wrong.
func (f *Faults) Idle() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.rules) == 0
}

// Log tells which request met which fault, in order.
func (f *Faults) Log() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Clone(f.log)
}

// next picks the fault that a request meets, nil for none.
func (f *Faults) next(q *http.Request) *Fault {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, r := range f.rules {
		if !r.matches(q) {
			continue
		}
		r.met++
		if r.met <= r.After || r.Times > 0 && r.done >= r.Times || r.Chance > 0 && f.random.Float64() >= r.Chance {
			continue
		}
		r.done++
		f.log = append(f.log, q.Method+" "+q.URL.Path+": "+r.Text)
		return r
	}
	return nil
}

// wrap lets a host meet its faults. Calls to the control address are not spoiled.
func (f *Faults) wrap(e *engine, host http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.URL.Path == "/control/faults" {
			f.control(e, w, q)
			return
		}
		r := f.next(q)
		if r == nil {
			host.ServeHTTP(w, q)
			return
		}
		switch r.Kind {
		case "fail":
			e.refuse(w, &refusal{status: r.Status, kind: "told", says: r.Text})
		case "rate-limit":
			if _, _, isGit := splitGit(q.URL.Path); isGit { // git knows nothing of a face
				w.Header().Set("Retry-After", strconv.Itoa(r.seconds()))
				http.Error(w, r.Text, http.StatusTooManyRequests)
				return
			}
			e.refuse(w, &refusal{status: 429, kind: "rate", says: r.Text, wait: r.seconds()})
		case "spent":
			if f, tells := e.face.(counting); tells {
				f.count(w, 0, r.seconds())
			}
			host.ServeHTTP(w, q)
		case "garbage":
			w.Header().Set("Content-Type", "text/html")
			// The caller may be gone; there is nobody else to tell.
			_, _ = w.Write([]byte("<!doctype html><title>Closed for the season</title>"))
		case "date":
			w.Header().Set("Date", e.store.now().Add(r.Time).UTC().Format(http.TimeFormat))
			host.ServeHTTP(w, q)
		case "no-date":
			w.Header()["Date"] = nil // net/http then sends none
			host.ServeHTTP(w, q)
		case "echo":
			e.refuse(w, &refusal{status: 422, kind: "told", says: "you sent " + e.face.secret(q)})
		case "cut":
			panic(http.ErrAbortHandler)
		case "lose":
			host.ServeHTTP(&kept{}, q)
			panic(http.ErrAbortHandler)
		case "late":
			k := &kept{}
			host.ServeHTTP(k, q)
			if wait(q, r.Time) {
				maps.Copy(w.Header(), k.Header())
				if k.status != 0 {
					w.WriteHeader(k.status)
				}
				// The caller may be gone meanwhile.
				_, _ = w.Write(k.body.Bytes())
			}
		case "end-token":
			// A request without a token has none to end.
			_ = e.store.EndToken(e.face.secret(q))
			host.ServeHTTP(w, q)
		default: // delay
			if wait(q, r.Time) {
				host.ServeHTTP(w, q)
			}
		}
	})
}

// counting is a face that tells how many requests it will still take.
type counting interface {
	count(w http.ResponseWriter, left, wait int)
}

// kept is an answer that is kept instead of sent.
type kept struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (k *kept) Header() http.Header {
	if k.header == nil {
		k.header = http.Header{}
	}
	return k.header
}
func (k *kept) WriteHeader(status int)      { k.status = status }
func (k *kept) Write(p []byte) (int, error) { return k.body.Write(p) }

// wait waits; false when the caller went away meanwhile.
func wait(q *http.Request, long time.Duration) bool {
	select {
	case <-q.Context().Done():
		return false
	case <-time.After(long):
		return true
	}
}

// control takes new faults while the host runs: PUT a JSON list of them, GET what is
// set and what was met.
func (f *Faults) control(e *engine, w http.ResponseWriter, q *http.Request) {
	if q.Method == http.MethodPut {
		var rules []string
		err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 1<<16)).Decode(&rules)
		if err == nil {
			err = f.Set(rules)
		}
		if err != nil {
			e.refuse(w, no("invalid", "These faults cannot be taken: %s", err))
			return
		}
	}
	f.mu.Lock()
	rules := []string{}
	for _, r := range f.rules {
		rules = append(rules, r.Text)
	}
	f.mu.Unlock()
	if err := answer(w, 200, map[string]any{"faults": rules, "met": append([]string{}, f.Log()...)}); err != nil {
		panic(http.ErrAbortHandler)
	}
}
