package login

import (
	"context"
	"maps"
	"reflect"
	"time"

	"golang.org/x/sync/errgroup"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// How much of one list is read: more than any person's, and less than a machine's memory.
const (
	mostItems = 100_000
	mostBytes = 64_000_000
)

// mostTime is how long one list may take, however slowly its pages come.
var mostTime = 15 * time.Minute

// pages asks for the first page and for all that follow. Pages that are numbered are
// asked for side by side once the host has said how many there are.
func (r *asking) pages(ctx context.Context, got func(description.Result)) error {
	if r.q.Paging == nil {
		return r.allPages(ctx, got)
	}
	within, cancel := context.WithTimeout(ctx, mostTime)
	defer cancel()
	err := r.allPages(within, got)
	if err != nil && ctx.Err() == nil && within.Err() != nil {
		return fault.New(fault.Unreachable, "the list of %s takes longer than %s, so it is read no further", r.Host.Name, mostTime).Because(err)
	}
	return err
}

// allPages is the same, however long it takes.
func (r *asking) allPages(ctx context.Context, got func(description.Result)) error {
	r.got = func(page description.Result) {
		r.items += len(page.Items)
		got(page)
	}
	vars := maps.Clone(r.vars)
	r.place(vars, 0)
	first, err := r.one(ctx, vars, "")
	if err != nil {
		return err
	}
	r.got(first)
	if err := r.keep(vars, first); err != nil || r.enough(first) {
		return err
	}
	if p := r.q.Paging; p != nil && (p.By == "number" || p.By == "offset") {
		return r.numbered(ctx, vars, first)
	}
	for n, page := 1, first; page.Link != "" || page.Next != nil; n++ {
		if n == MostPages || r.items > mostItems {
			return r.endless()
		}
		maps.Copy(vars, page.Next)
		if page, err = r.one(ctx, vars, page.Link); err != nil {
			return err
		}
		r.got(page)
		if err := r.keep(vars, page); err != nil || r.enough(page) {
			return err
		}
	}
	return r.whole(first)
}

// numbered asks for the pages behind the first, by their numbers or by an offset.
func (r *asking) numbered(ctx context.Context, vars description.Vars, first description.Result) error {
	p := r.q.Paging
	if err := r.fits(first); err != nil {
		return err
	}
	count := first.Pages
	if count < 0 && first.Total >= 0 {
		count = (first.Total + p.Size - 1) / p.Size
	}
	if count > MostPages {
		return r.endless()
	}
	if count >= 0 && r.most == 0 && len(r.q.Keep) == 0 {
		if err := r.sideBySide(ctx, count); err != nil {
			return err
		}
		return r.whole(first)
	}
	for n, last := 1, first; r.follows(last, n, count); n++ {
		if n == MostPages || r.items > mostItems {
			return r.endless()
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
		r.got(page)
		if err := r.keep(vars, page); err != nil || r.enough(page) {
			return err
		}
		last = page
	}
	return r.whole(first)
}

func (r *asking) endless() error {
	return fault.New(fault.Unreachable, "%s answers with more than %d pages, so its list has no end", r.Host.Name, MostPages)
}

// enough reports whether as much is there as is wanted, and notes whether there is more.
func (r *asking) enough(page description.Result) bool {
	if r.most == 0 || r.items < r.most {
		return false
	}
	p := r.q.Paging
	r.more = page.Link != "" || page.Next != nil || page.Total > r.items || p != nil && p.Size > 0 && page.Total < 0 && !page.Ended && len(page.Items) >= p.Size
	return true
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
// page. A first page that is short may be as long as the host's own pages are, where it tells no total: then the next one tells.
func (r *asking) follows(last description.Result, n, count int) bool {
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
		return n == 1 && len(last.Items) > 0
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
func (r *asking) whole(first description.Result) error {
	if r.items >= first.Total {
		return nil
	}
	return fault.New(fault.Unreachable, "%s says that the list has %s, and gave %d: it changed meanwhile, or its pages are not asked for as the host wants it", r.Host.Name, text.Count(first.Total, "item"), r.items).
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
func (r *asking) sideBySide(ctx context.Context, count int) error {
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
		r.got(page)
	}
	return nil
}
