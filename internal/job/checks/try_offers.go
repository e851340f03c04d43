package checks

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"uncinate/internal/core/description"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/offering"
)

// ofOffers are the actions that tell of one offer to merge.
var ofOffers = []string{"offer-show", "offer-remark-list", "offer-check-list"}

// offers tries what tells of one offer, on the first that there is.
func (t *Try) offers(ctx context.Context, one description.Repository) {
	described := slices.DeleteFunc(slices.Clone(ofOffers), func(name string) bool { return t.login.Host.Actions[name] == nil })
	if one.Name == "" || len(described) == 0 {
		return
	}
	all, _, err := offering.List(ctx, t.login, one, "", 1)
	if err != nil || len(all) == 0 {
		for _, name := range described {
			t.done(Tried{Action: name, State: desk.Doubtful, Says: "there is no offer to " + one.Path() + " to try it on"})
		}
		return
	}
	o := all[0]
	for _, name := range described {
		t.act(name, func() (string, error) {
			switch name {
			case "offer-remark-list":
				said, err := offering.Remarks(ctx, t.login, o)
				return text.Count(len(said), "remark"), err
			case "offer-check-list":
				said, err := offering.Checks(ctx, t.login, o)
				return text.Count(len(said), "check"), err
			}
			there, found, err := offering.Show(ctx, t.login, one, o.Number)
			switch {
			case err != nil:
				return "", err
			case !found:
				return "", fmt.Errorf("it does not show offer %s, which it lists", text.Visible(o.Number))
			case there.State == "":
				return "", errors.New("no state was read: [value.state] has no word for what the host says")
			}
			return "offer " + text.Visible(o.Number) + ", " + there.State, nil
		})
	}
}
