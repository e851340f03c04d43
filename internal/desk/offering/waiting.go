package offering

import (
	"context"
	"strings"

	"uncinate/internal/desk/login"
)

// Waiting counts, by OWNER/NAME in small letters, the open offers of all repositories of an account that others
// made, where its host tells of all at once; nil where it does not.
func Waiting(ctx context.Context, l *login.Login, most int) (map[string]int, error) {
	if l.Host.Actions["offer-all-list"] == nil || l.May("offer-all-list", "") != nil {
		return nil, nil
	}
	all, _, err := Everywhere(ctx, l, "open", most)
	out := map[string]int{}
	for _, x := range all {
		if !strings.EqualFold(x.Creator, l.Account.User) {
			out[strings.ToLower(x.Path())]++
		}
	}
	return out, err
}
