package login

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

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
	Later  int // the status of the last answer to whoever waited for accepted work; 0 where nobody had to
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
	maps.Copy(all, vars)
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
}

// How much of one list is read: more than any person's, and less than a machine's memory.
const (
	mostItems = 100_000
	mostBytes = 64_000_000
)

// pages asks for the first page and for all that follow. Pages that are numbered are
// asked for side by side once the host has said how many there are.
func (r *asking) pages(ctx context.Context, got func(description.Result)) error {
	p := r.q.Paging
	vars := maps.Clone(r.vars)
	items, hand := 0, got
	got = func(page description.Result) {
		items += len(page.Items)
		hand(page)
	}
	endless := func() error {
		return fault.New(fault.Unreachable, "%s answers with more than %d pages, so its list has no end", r.Host.Name, MostPages)
	}
	r.place(vars, 0)
	first, err := r.one(ctx, vars, "")
	if err != nil {
		return err
	}
	got(first)
	if err := r.keep(vars, first); err != nil {
		return err
	}
	enough := func(page description.Result) bool {
		if r.most == 0 || items < r.most {
			return false
		}
		r.more = page.Link != "" || page.Next != nil || page.Total > items || p != nil && p.Size > 0 && page.Total < 0 && !page.Ended && len(page.Items) >= p.Size
		return true
	}
	if enough(first) {
		return nil
	}
	if p != nil && (p.By == "number" || p.By == "offset") {
		if err := r.fits(first); err != nil {
			return err
		}
		count := first.Pages
		if count < 0 && first.Total >= 0 {
			count = (first.Total + p.Size - 1) / p.Size
		}
		if count > MostPages {
			return endless()
		}
		if count >= 0 && r.most == 0 && len(r.q.Keep) == 0 {
			err := r.sideBySide(ctx, count, got)
			return cmp.Or(err, r.whole(first, items))
		}
		for n, last := 1, first; r.follows(last, n, count, items); n++ {
			if n == MostPages || items > mostItems {
				return endless()
			}
			r.place(vars, n)
			page, err := r.one(ctx, vars, "")
			if err != nil {
				return err
			}
			if n == 1 && count < 0 && p.More == nil && len(last.Items) < p.Size {
				if len(page.Items) == 0 || reflect.DeepEqual(last.Items, page.Items) {
					return nil // it was the whole list
				}
				return r.otherSize(len(last.Items))
			}
			got(page)
			if err := r.keep(vars, page); err != nil {
				return err
			}
			if last = page; enough(page) {
				return nil
			}
		}
		return r.whole(first, items)
	}
	for n, page := 1, first; page.Link != "" || page.Next != nil; n++ {
		if n == MostPages || items > mostItems {
			return endless()
		}
		maps.Copy(vars, page.Next)
		if page, err = r.one(ctx, vars, page.Link); err != nil {
			return err
		}
		got(page)
		if err := r.keep(vars, page); err != nil {
			return err
		}
		if enough(page) {
			return nil
		}
	}
	return r.whole(first, items)
}

// keep puts what an answer had for what follows into the variables, also of the next page. What was to be kept and is not there
// ends the work: without it something else would be asked for.
func (r *asking) keep(vars description.Vars, page description.Result) error {
	for _, name := range page.Lost {
		if given := r.vars[name]; given == nil || given == "" {
			return fault.New(fault.Unreachable, "what answers at %s is not the API that the description expects: {%s} is not where action.%s keeps it from", r.Host.At, name, r.act.Name).
				Try("see what the host answers", text.Command("uncinate", "host", "try", r.Host.Name))
		}
	}
	for name, v := range page.Kept {
		if given := r.given[name]; given == nil || given == "" {
			r.vars[name], vars[name] = v, v
		}
	}
	return nil
}

// follows reports whether a page comes after one, of a numbered list: until all that the host told of is there, or until a short
// page. A first page that is short by a round number may be as long as the host's pages are: then the next one tells.
func (r *asking) follows(last description.Result, n, count, items int) bool {
	switch p := r.q.Paging; {
	case last.Ended:
		return false
	case count >= 0:
		return n < count
	case p.More != nil:
		return true
	case len(last.Items) >= p.Size:
		return true
	default:
		return n == 1 && len(last.Items) > 0 && len(last.Items)%5 == 0
	}
}

// fits refuses a list whose pages are shorter than the description says: what is asked for by number or offset would be cut short.
func (r *asking) fits(first description.Result) error {
	if got := len(first.Items); first.Total > got && got < r.q.Paging.Size && got > 0 || first.Pages > 1 && got < r.q.Paging.Size && got > 0 {
		return r.otherSize(got)
	}
	return nil
}

// otherSize says that the host has shorter pages.
func (r *asking) otherSize(is int) error {
	return fault.New(fault.Refused, "%s gives %s a page, and action.%s in its description says %d, so the list would be cut short", r.Host.Name, text.Count(is, "item"), r.act.Name, r.q.Paging.Size).
		Detail("Write size = %d there, or send the page's size, {size}, by the name that the host gives it.", is).
		Try("see the description", text.Command("uncinate", "host", "show", r.Host.Name))
}

// whole refuses a list of which less came than the host said.
func (r *asking) whole(first description.Result, items int) error {
	if items >= first.Total {
		return nil
	}
	return fault.New(fault.Unreachable, "%s says that the list has %s, and gave %d: it changed meanwhile, or its pages are not asked for as the host wants it", r.Host.Name, text.Count(first.Total, "item"), items).
		Detail("The first page had %s.", text.Count(len(first.Items), "item")).
		Try("see what the host answers", text.Command("uncinate", "host", "try", r.Host.Name))
}

// place puts into the variables which page is asked for, where pages are numbered.
func (r *asking) place(vars description.Vars, n int) {
	switch p := r.q.Paging; {
	case p == nil:
	case p.By == "number":
		vars["page"], vars["size"] = int64(p.First+n), int64(p.Size)
	case p.By == "offset":
		vars["offset"], vars["size"] = int64(n*p.Size), int64(p.Size)
	}
}

// sideBySide asks for the pages behind the first, several at once, and hands them on
// in their order.
func (r *asking) sideBySide(ctx context.Context, count int, got func(description.Result)) error {
	rest := make([]description.Result, max(count-1, 0))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(sideBySide)
	for i := range rest {
		group.Go(func() (err error) {
			vars := maps.Clone(r.vars)
			r.place(vars, i+1)
			rest[i], err = r.one(ctx, vars, "")
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for _, page := range rest {
		got(page)
	}
	return nil
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
	if r.Trace != nil {
		seen.Result = result
		r.mu.Lock() // pages are asked for side by side
		r.Trace(seen)
		r.mu.Unlock()
	}
	return result, err
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
