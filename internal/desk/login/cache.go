package login

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/world/files"
)

// mostKept is how many pages of lists are kept for asking whether they changed.
const mostKept = 200

// keptAnswer is a page of a list as it was told, with its entity tag (RFC 9110, 8.8.3).
type keptAnswer struct {
	Tag    string      `json:"tag"`
	Header http.Header `json:"header"`
	Body   []byte      `json:"body"`
}

// cached sends a request. A page of a list that was told before is only asked whether
// it changed (RFC 9110, 13.1.2); what was kept of it is private to the account.
func (r *asking) cached(ctx context.Context, call description.Call) (description.Answer, error) {
	if call.Method != http.MethodGet || r.q.Items == nil || r.Account == nil || r.Account.Name == "" {
		return r.send(ctx, call, r.q.Safe())
	}
	folder := accounts.AnswersOf(r.Desk, r.Account.Name)
	path := filepath.Join(folder, files.Short(r.Host.Origin()+" "+r.Account.Name+" "+call.URL)+".json")
	var kept keptAnswer
	found, err := files.ReadJSON(path, &kept)
	if found = found && err == nil; found { // a damaged one is asked for again
		call.Header = call.Header.Clone()
		call.Header.Set("If-None-Match", kept.Tag)
	}
	answer, err := r.send(ctx, call, r.q.Safe())
	if err != nil {
		return answer, err
	}
	if answer.Status == http.StatusNotModified {
		if !found {
			return answer, fault.New(fault.Unreachable, "%s says that nothing changed, and it was not asked that", r.Host.Name)
		}
		header := maps.Clone(kept.Header)
		maps.Copy(header, answer.Header)
		return description.Answer{Status: http.StatusOK, Header: header, Body: kept.Body}.Remember(), nil
	}
	if tag := answer.Header.Get("ETag"); tag != "" && len(answer.Body) < 1<<20 {
		header := http.Header{}
		for _, name := range []string{"Link", "Content-Type"} {
			if v := answer.Header.Values(name); len(v) > 0 {
				header[name] = v
			}
		}
		if err := files.WriteUnsynced(path, keptAnswer{tag, header, answer.Body}); err != nil {
			r.Desk.Log.Debug("a page is not kept", "path", path) // it is only asked for whole next time
			return answer, nil
		}
		prune(folder)
	}
	return answer, nil
}

// prune removes the oldest kept pages when there are too many.
func prune(folder string) {
	entries, err := os.ReadDir(folder)
	if err != nil || len(entries) <= mostKept {
		return
	}
	age := func(e fs.DirEntry) time.Time {
		if info, err := e.Info(); err == nil {
			return info.ModTime()
		}
		return time.Time{}
	}
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return age(a).Compare(age(b)) })
	for _, e := range entries[:len(entries)-mostKept*3/4] {
		if err := os.Remove(filepath.Join(folder, e.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return // another run tidies up
		}
	}
}
