package job

import (
	"context"
	"fmt"
	"time"

	"uncinate/internal/core/text"
)

// CompareBy are the rows of a comparison, in order.
var CompareBy = []string{"plan", "as of", "private repositories", "people on a private one", "people on a public one", "largest file", "largest push", "largest repository",
	"large files, in all", "of that used", "requests an hour", "your accounts"}

// Compared is one host in a comparison.
type Compared struct {
	Host   string   `json:"host"`
	Values []string `json:"values" says:"one for each row: plan, as of, private repositories, people on a private one, people on a public one, largest file, largest push, largest repository, large files, of that used, requests an hour, your accounts; empty where it is not told"`
}

// Compare puts the named hosts, or all known ones, side by side.
func (d *Desk) Compare(ctx context.Context, names []string) ([]Compared, error) {
	var hosts []*Host
	for _, name := range names {
		h, err := d.Host(name)
		if err != nil {
			return nil, err
		}
		hosts = append(hosts, h)
	}
	if len(names) == 0 {
		var err error
		if hosts, err = d.Hosts(); err != nil {
			return nil, err
		}
	}
	out := []Compared{}
	for _, h := range hosts {
		accounts, err := d.AccountsOn(h.Name)
		if err != nil {
			return nil, err
		}
		told := func(name string) string {
			switch v := h.Limits[name].(type) {
			case nil:
				return ""
			case bool:
				return map[bool]string{true: "free", false: "paid"}[v]
			case int64:
				return text.Number(int(v))
			case time.Time:
				return v.Format(time.DateOnly)
			default:
				return fmt.Sprint(v)
			}
		}
		out = append(out, Compared{h.Name, []string{told("plan"), told("as_of"), told("private_free"), told("private_collaborators"), told("public_collaborators"),
			told("file_size"), told("push_size"), told("repository_size"), told("large_file_quota"), d.used(ctx, h, accounts), told("requests_per_hour"), fmt.Sprint(len(accounts))}})
	}
	return out, nil
}

// used asks the host how much of its large-file storage the first account uses.
func (d *Desk) used(ctx context.Context, h *Host, accounts []*Account) string {
	if h.Actions["storage-used"] == nil || len(accounts) == 0 {
		return ""
	}
	l, err := d.login(ctx, accounts[0])
	if err != nil {
		return "not told now"
	}
	fields, err := l.do(ctx, "storage-used", "tell what is used", nil)
	if bytes, ok := fields["bytes"].(int64); ok && err == nil {
		return text.Size(bytes)
	}
	return "not told now"
}
