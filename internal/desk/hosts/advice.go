package hosts

import (
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
)

// SshAddress is where the host's SSH server is, by its description.
func (h *Host) SshAddress() (address.Address, error) {
	if h.SSH == nil {
		return address.Address{}, fault.New(fault.HostSaidNo, "the description of %s names no address over SSH (address.ssh)", h.Name).
			Try("work over https, which needs no key", "uncinate attach --over https")
	}
	at, err := h.Expand(h.SSH, description.Vars{"owner": "owner", "name": "name", "path": "owner/name", "id": "id"})
	if err != nil {
		return address.Address{}, err
	}
	return address.Parse(at)
}

// SignInWay checks that a host offers a way to sign in through its own pages.
func (h *Host) SignInWay(way string) error {
	o := h.SignIn.OAuth
	if o != nil && slices.Contains(o.Ways, way) {
		return nil
	}
	f := fault.New(fault.HostSaidNo, "%s offers no sign-in by %s (its description does not say so)", h.Name, text.Quote(way))
	if o != nil {
		for _, other := range o.Ways {
			f.Try("", text.Command("uncinate", "account", "add", "--host", h.Name, "--by", other))
		}
	}
	return f.Try("paste a token", text.Command("uncinate", "account", "add", "--host", h.Name))
}

// LimitsOf gives the limits of a host's description, in bytes; 0 where it names none.
func LimitsOf(h *Host) survey.Limits {
	size := func(name string) int64 {
		s, _ := h.Limits[name].(string)
		n, _ := text.ParseSize(s)
		return n
	}
	return survey.Limits{Host: h.Name, File: size("file_size"), Push: size("push_size"), Repository: size("repository_size")}
}

// PageFor is the address of a page for a person, "" where the description names none.
func (h *Host) PageFor(what string) string {
	t := h.Pages[what]
	if t == nil {
		return ""
	}
	page, err := h.Expand(t, nil)
	if err != nil {
		return ""
	}
	return page
}

// TokenAdvice says, before a token is made, which scopes it takes and where it is made.
func (h *Host) TokenAdvice(wants ...string) []string {
	var out []string
	if least := h.LeastScopes(wants...); len(least) > 0 {
		out = append(out, "The token needs these scopes: "+strings.Join(least, ", ")+".")
	}
	if page := h.PageFor("token"); page != "" {
		out = append(out, "Tokens are made at "+page+" (choose an expiry within a year).")
	}
	return out
}

// WithoutToken says how one signs in without a token; "" where the host has no such way.
func (h *Host) WithoutToken() string {
	if o := h.SignIn.OAuth; o != nil && len(o.Ways) > 0 {
		return "Without a token: " + text.Command("uncinate", "account", "add", "--host", h.Name, "--by", o.Ways[0])
	}
	return ""
}
