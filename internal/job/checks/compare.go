package checks

import (
	"context"
	"fmt"
	"time"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
)

// CompareBy are the rows of a comparison, in order.
var CompareBy = []string{"plan", "date of these numbers", "private repositories", "people per private repository", "people per public repository", "largest file", "largest push", "largest repository",
	"large files, in all", "of which used", "requests an hour", "your accounts"}

// Compared is one host in a comparison.
type Compared struct {
	Host   string   `json:"host"`
	Values []string `json:"values" says:"one for each row: plan, date of these numbers, private repositories, people per private repository, people per public repository, largest file, largest push, largest repository, large files, of which used, requests an hour, your accounts; empty where it is not given"`
}

// Compare puts the named hosts, or all known ones, side by side.
func Compare(ctx context.Context, d *desk.Desk, names []string) ([]Compared, error) {
	var known []*hosts.Host
	for _, name := range names {
		h, err := hosts.Named(d, name)
		if err != nil {
			return nil, err
		}
		known = append(known, h)
	}
	if len(names) == 0 {
		var err error
		if known, err = hosts.All(d); err != nil {
			return nil, err
		}
	}
	out := []Compared{}
	for _, h := range known {
		holders, err := accounts.On(d, h.Name)
		if err != nil {
			return nil, err
		}
		told := func(name string) string {
			switch v := h.Limits[name].(type) {
			case nil:
				return ""
			case bool:
				return text.Either(v, "free", "paid")
			case int64:
				return text.Number(int(v))
			case time.Time:
				return v.Format(time.DateOnly)
			default:
				return fmt.Sprint(v)
			}
		}
		out = append(out, Compared{h.Name, []string{told("plan"), told("as_of"), told("private_free"), told("private_collaborators"), told("public_collaborators"),
			told("file_size"), told("push_size"), told("repository_size"), told("large_file_quota"), login.Used(ctx, d, h, holders), told("requests_per_hour"), fmt.Sprint(len(holders))}})
	}
	return out, nil
}
