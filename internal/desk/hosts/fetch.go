package hosts

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
)

// WellKnown is where a host publishes its own description (RFC 8615).
const WellKnown = "/.well-known/uncinate-host.toml"

// IsAddress reports whether a description's source is an address at which it is published.
func IsAddress(source string) bool {
	return strings.HasPrefix(source, "https://") || strings.HasPrefix(source, "http://")
}

// fetch gets a description that is published at an address, over https or from this machine's loopback: the one at the
// address itself, or, of an address without a path, the one that the host publishes of itself. No secret is sent.
func fetch(ctx context.Context, d *desk.Desk, source string) (data []byte, from *url.URL, err error) {
	u, err := url.Parse(source)
	if err != nil || u.Host == "" || u.User != nil || u.Fragment != "" {
		return nil, nil, fault.New(fault.Usage, "%s is not an address at which a description can be", text.Quote(source)).
			Try("give the host's own address", text.Command("uncinate", "host", "add", "https://git.example"))
	}
	if !address.Guarded(u.Scheme, u.Host) {
		return nil, nil, fault.New(fault.Refused, "a description that came over plain http could be anybody's, and tokens are trusted to it").
			Try("ask for it over https", text.Command("uncinate", "host", "add", "https://"+strings.TrimPrefix(source, "http://")))
	}
	own := strings.Trim(u.Path, "/") == "" && u.RawQuery == ""
	if own {
		u.Path = WellKnown
	}
	answer, err := d.Web.Do(ctx, description.Call{Method: "GET", URL: u.String(), Header: http.Header{"Accept": {"application/toml, text/plain;q=0.5"}}})
	if err != nil {
		return nil, nil, err
	}
	if answer.Status != http.StatusOK {
		f := fault.New(fault.HostSaidNo, "%s publishes no description at %s (status %d)", u.Host, u.String(), answer.Status)
		if own {
			f.Detail("Whoever runs it may publish one there, or write one to you: docs/describe-your-host.md tells how.")
		}
		return nil, nil, f.Try("or begin one from the host's API document", "uncinate host draft ./openapi.json")
	}
	if len(answer.Body) > description.Most {
		return nil, nil, fault.New(fault.Refused, "what is at %s is larger than a description may be, %s", u.String(), text.Size(description.Most))
	}
	return answer.Body, u, nil
}

// PlanFetch looks at a description that is published at an address. What a host publishes of itself must be about that host.
func PlanFetch(ctx context.Context, d *desk.Desk, source, at, name string, accountsOn func(host string) ([]string, error)) (*Adding, error) {
	data, from, err := fetch(ctx, d, source)
	if err != nil {
		return nil, err
	}
	c := Checked{File: from.String(), Text: data}
	if c.Description, c.Mistakes = description.LoadAt(data, strings.TrimSuffix(at, "/")); len(c.Mistakes) > 0 {
		return nil, MistakesFault(c)
	}
	if own := description.OriginOf(from.String()); from.Path == WellKnown && c.Description.Origin() != own {
		return nil, fault.New(fault.Refused, "%s publishes a description of another host, %s, as its own", own, c.Description.Origin())
	}
	a, err := planChecked(d, c, at, name, accountsOn)
	if a != nil {
		a.From = from.String()
	}
	return a, err
}

// answers looks whether the host answers as its description says: to the question whose token it is, asked without one, with a
// refusal. Somebody else says where that is, so nothing is asked there before the person agreed.
func answers(ctx context.Context, d *desk.Desk, desc *description.Description) error {
	act := desc.Actions["identify"]
	if act == nil || len(act.Requests) == 0 || !act.Requests[0].Safe() || act.By != "request" {
		return nil // there is nothing that can be asked without an account
	}
	call, err := act.Requests[0].Build(desc, description.Vars{"user": "nobody", "token": "none", "kept_token": "none"})
	if err != nil {
		return err
	}
	answer, err := d.Web.Do(ctx, call)
	if err != nil {
		return err
	}
	means, _, refused := desc.Refused(answer)
	if !refused || means == description.NotFound || means == description.NotSupported || means == description.Down {
		return fault.New(fault.Unreachable, "%s does not answer as this description says: a request without a good token came back with status %d, and a refusal was due", desc.Base, answer.Status).
			Because(errors.New(text.Excerpt(call.Method+" "+call.URL, 120)))
	}
	return nil
}
