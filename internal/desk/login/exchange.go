package login

import (
	"context"
	"errors"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"sync/atomic"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/web"
)

// How long and how often a host is asked again. Only what is safe is repeated: requests
// that change nothing, and any whose answer says that nothing was done.
const (
	mostWait   = 2 * time.Minute // that a host may ask us to wait, in one request
	mostTries  = 3               // of a safe request whose line was cut
	sideBySide = 20              // pages of one list that are asked for at once
)

// Exchange is one request of an action and what came of it, for showing.
type Exchange struct {
	Action string
	Call   description.Call
	Answer description.Answer
	Denied bool // the answer was a refusal, and nothing was read
	Later  int  // the status of the last answer to whoever waited for accepted work; 0 where nobody had to
	Result description.Result
}

// each carries an action's requests out, page by page. What the caller gives counts
// before what an earlier request kept.
func (l *Login) each(ctx context.Context, action, what string, vars description.Vars, got func(description.Result)) (description.Vars, error) {
	all, _, err := l.some(ctx, action, what, vars, 0, got)
	return all, err
}

// some is each for a list of which no more pages are asked for once it has most items, 0 for all of it;
// more tells that there are others.
func (l *Login) some(ctx context.Context, action, what string, vars description.Vars, most int, got func(description.Result)) (_ description.Vars, more bool, err error) {
	if l.Host.Shell != nil {
		return nil, false, l.shellDo(ctx, action, what, vars, got)
	}
	act := l.Host.Actions[action]
	if act == nil {
		return nil, false, l.May(action, what)
	}
	if act.By == "ssh" {
		return nil, false, l.overSSH(ctx, act, what, vars, got)
	}
	if act.By != "request" {
		f := fault.New(fault.HostSaidNo, "on %s it is done by %s, which this version does not do yet: %s", l.Host.Name, act.By, what)
		if act.By == "push" {
			f.Says = "on " + l.Host.Name + " it is done by the first push: " + what
		}
		if act.By == "page" {
			f.Says = "on " + l.Host.Name + " it is done by hand, on a page: " + what
		}
		if act.Page != nil {
			if page, err := l.Host.Expand(act.Page, vars); err == nil {
				f.Detail("The page is %s", page)
			}
		}
		return nil, false, f
	}
	all := description.Vars{"kept_token": l.Token, "user": l.user()}
	maps.Copy(all, description.Given(action, vars))
	for _, q := range act.Requests {
		if !q.Wanted(l.Host.Description, all) {
			continue
		}
		r := &asking{Login: l, act: act, q: q, what: what, vars: all, given: vars, most: most}
		if err := r.pages(ctx, got); err != nil {
			return nil, false, err
		}
		more = r.more
	}
	return all, more, nil
}

// asking is one request of an action, with the variables it is made from.
type asking struct {
	*Login
	act   *description.Action
	q     *description.Request
	what  string
	vars  description.Vars
	given description.Vars // what whoever asks gave
	read  atomic.Int64     // bytes of all pages until now
	most  int              // items that are enough; 0 for all
	more  bool             // there are others

	got   func(description.Result) // is handed each page
	items int                      // of all pages until now
}

// one asks once, or for one page, waits for the work if it is done later, and reads
// the answer.
func (r *asking) one(ctx context.Context, vars description.Vars, link string) (description.Result, error) {
	return r.ask(ctx, vars, link, false)
}

// ask does it; again says that it was refused with a short-lived token already.
func (r *asking) ask(ctx context.Context, vars description.Vars, link string, again bool) (result description.Result, err error) {
	token, err := r.short(ctx)
	if err != nil {
		return description.Result{}, err
	}
	vars["token"] = token
	call, err := r.q.Build(r.Host.Description, vars)
	if err != nil {
		return description.Result{}, err
	}
	if link != "" {
		if call.URL, err = r.follow(call.URL, link, vars); err != nil {
			return description.Result{}, err
		}
	}
	answer, err := r.cached(ctx, call)
	if err == nil && r.read.Add(int64(len(answer.Body))) > mostBytes {
		err = fault.New(fault.Unreachable, "the list of %s is larger than %s, so it is read no further", r.Host.Name, text.Size(mostBytes))
	}
	if token != r.Token && !again && (Means(err, description.TokenEnded) || Means(err, description.NotSignedIn)) {
		dropShort(r.Desk, token) // only the short-lived one may have ended; a new one tells
		return r.ask(ctx, vars, link, true)
	}
	if err != nil {
		if answer.Status > 0 {
			r.trace(Exchange{Action: r.act.Name, Call: call, Answer: answer, Denied: true})
		}
		return description.Result{}, err
	}
	seen := Exchange{Action: r.act.Name, Call: call, Answer: answer}
	if r.q.Wait != nil {
		vars = maps.Clone(vars)
		kept := r.q.ReadKept(r.Host.Description, answer)
		maps.Copy(vars, kept)
		if answer, err = r.wait(ctx, vars); err != nil {
			return description.Result{}, err
		}
		seen.Later = answer.Status
		defer func() { // what the first answer said is known, and is not looked for in the last
			result.Lost = slices.DeleteFunc(result.Lost, func(name string) bool { return kept[name] != nil })
			for name, v := range kept {
				if v != nil {
					result.Kept[name] = v
				}
			}
		}()
	}
	result, err = r.q.Read(r.Host.Description, answer, vars)
	if errors.Is(err, description.ErrNone) {
		err = r.refused(description.NotFound, "", answer, r.what, r.act)
	}
	seen.Result = result
	r.trace(seen)
	return result, err
}

// trace tells an exchange to whoever wants to know.
func (r *asking) trace(x Exchange) {
	if r.Trace != nil {
		r.mu.Lock() // pages are asked for side by side
		r.Trace(x)
		r.mu.Unlock()
	}
}

// wait asks at the host's address until the accepted work is done.
func (r *asking) wait(ctx context.Context, vars description.Vars) (description.Answer, error) {
	w := r.q.Wait
	for asked := time.Duration(0); ; asked += w.Every {
		call, err := w.AskCall(r.Host.Description, vars)
		if err != nil {
			return description.Answer{}, fault.New(fault.Unreachable, "what answers at %s is not the API that the description expects: it does not say where to ask how far the work is", r.Host.At).Because(err)
		}
		answer, err := r.send(ctx, call, true)
		if err != nil {
			return answer, err
		}
		state, why, err := w.ReadState(r.Host.Description, answer)
		if err != nil {
			return answer, err
		}
		for _, done := range w.Done {
			if state == done {
				return answer, nil
			}
		}
		for _, failed := range w.Failed {
			if state == failed {
				return answer, r.refused(description.Invalid, why, answer, r.what, r.act)
			}
		}
		if asked >= w.Most {
			return answer, fault.New(fault.Unreachable, "%s accepted the work and has not done it within %s: %s", r.Host.Name, w.Most, r.what).
				Detail("It says: %s", text.Excerpt(state, 60))
		}
		r.Desk.Tell.Progress("Waiting for "+r.Host.Name, int64(min(asked, w.Most)), int64(w.Most), "")
		err = r.Desk.Pause(ctx, w.Every)
		r.Desk.Tell.Progress("Waiting for "+r.Host.Name, 0, 0, "")
		if err != nil {
			return answer, err
		}
	}
}

// send sends one request, again where that is safe, and turns a refusal into a fault.
func (r *asking) send(ctx context.Context, call description.Call, safe bool) (description.Answer, error) {
	waited := time.Duration(0)
	for try := 1; ; try++ {
		if err := r.hold(ctx); err != nil {
			return description.Answer{}, err
		}
		answer, err := r.Desk.Web.Do(ctx, call)
		answer = answer.Remember()
		pause := time.Duration(-1)
		switch again, asks := r.Host.Again(answer, r.Desk.Now()); {
		case err == nil && asks && waited+again <= mostWait:
			// The host says that it did nothing, and when to come again.
			pause = again
			waited += again
			r.waits(again)
		case !safe || try >= mostTries:
		case err != nil && web.Cut(err), err == nil && !asks && (answer.Status == 502 || answer.Status == 503 || answer.Status == 504):
			pause = time.Duration(try*try) * 250 * time.Millisecond
		}
		if pause >= 0 {
			if err := r.Desk.Pause(ctx, pause); err != nil {
				return answer, err
			}
			continue
		}
		if fault.Is(err, fault.Unreachable) {
			f := *fault.Of(err)
			return answer, f.Try("see the address that is known for "+r.Host.Name, text.Command("uncinate", "host", "show", r.Host.Name))
		}
		if err != nil {
			return answer, err
		}
		if t, err := http.ParseTime(answer.Header.Get("Date")); err == nil {
			r.mu.Lock()
			r.Date = t
			r.mu.Unlock()
		}
		if m, words, refused := r.Host.Refused(answer); refused && answer.Status != http.StatusNotModified {
			return answer, r.refused(m, words, answer, r.what, r.act)
		}
		if pause, none := r.Host.Hold(answer, r.Desk.Now()); none {
			r.mu.Lock()
			r.free = r.Desk.Now().Add(pause)
			r.mu.Unlock()
		}
		return answer, nil
	}
}

// hold waits until the host takes requests again, when it said that none was left. A
// wait that is too long is not begun: the host's own refusal tells what to do.
func (r *asking) hold(ctx context.Context) error {
	r.mu.Lock()
	pause := r.free.Sub(r.Desk.Now())
	told := r.told == r.free
	r.told = r.free
	r.mu.Unlock()
	if pause <= 0 || pause > mostWait {
		return nil
	}
	if !told {
		r.waits(pause)
	}
	return r.Desk.Pause(ctx, pause)
}

// waits says that the host makes us wait.
func (l *Login) waits(long time.Duration) {
	l.Desk.Tell.Note("%s asks us to wait for %s.", l.Host.Name, max(long, time.Second).Round(time.Second))
}

// follow resolves a next page's address; it must be of the same origin.
// What signs in by the address's query is put in there again.
func (l *Login) follow(from, link string, vars description.Vars) (string, error) {
	base, err := url.Parse(from)
	if err != nil {
		return "", err
	}
	next, err := base.Parse(link)
	if err != nil || next.Scheme != base.Scheme || next.Host != base.Host {
		return "", fault.New(fault.Refused, "%s names a next page at another address, and the token is not sent there: %s", l.Host.Name, text.Excerpt(link, 80))
	}
	if len(l.Host.SignIn.Query) > 0 {
		query := next.Query()
		for name, v := range l.Host.SignIn.Parameters(vars) {
			query.Set(name, v)
		}
		next.RawQuery = query.Encode()
	}
	return next.String(), nil
}
