package description

import (
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"

	"github.com/yosida95/uritemplate/v3"

	"uncinate/internal/core/address"
)

// A description says where an account's secret is sent. It may be sent to the origin of the base
// address, and to those that [trust] addresses names, whole: scheme, host and port (RFC 6454,
// section 4). Nothing else that the description says, and nothing that a host answers, widens
// that.

// Use is an origin to which something is sent, and what it is for.
type Use struct {
	Origin string   `json:"origin" says:"scheme, host and port"`
	For    []string `json:"for" says:"API, git, git over SSH or sign-in"`
}

// OriginOf gives the origin of an address: scheme, host and port unless it is the scheme's own;
// "" for what has none. The short form of SSH addresses has one too.
func OriginOf(s string) string {
	if u, err := url.Parse(s); err == nil && u.Host != "" && (u.Scheme == "https" || u.Scheme == "http" || u.Scheme == "ssh") {
		host := strings.ToLower(u.Host)
		if name, port, err := net.SplitHostPort(host); err == nil && (port == "" || port == map[string]string{"https": "443", "http": "80", "ssh": "22"}[u.Scheme]) {
			host = name
			if strings.Contains(name, ":") {
				host = "[" + name + "]"
			}
		}
		return u.Scheme + "://" + host
	}
	if a, err := address.Parse(s); err == nil {
		return a.Scheme + "://" + a.Host
	}
	return ""
}

// hostName gives the name in an origin, without its port.
func hostName(origin string) string {
	u, err := url.Parse(origin)
	if err != nil {
		return ""
	}
	return u.Hostname()
}

// Trusts reports whether an account's secret may be sent to an address: whether its origin is the
// base's or one that [trust] names. Over SSH no secret is sent, and the host of the base counts
// with any port.
func (d *Description) Trusts(where string) bool {
	origin := OriginOf(where)
	if origin == "" {
		return false
	}
	base := OriginOf(d.Base)
	if origin == base || slices.Contains(d.Trust, origin) {
		return true
	}
	return strings.HasPrefix(origin, "ssh://") && hostName(origin) == hostName(base)
}

// leads gives the origin to which a template leads; false where a variable of a repository stands
// in its host, so that it could be any.
func (d *Description) leads(t *uritemplate.Template) (string, bool) {
	first := ""
	for _, word := range []string{"a", "b/c"} {
		vars := Vars{}
		for _, name := range t.Varnames() {
			vars[name] = word
		}
		for name, value := range d.base() {
			vars[name] = value
		}
		at, err := expand(t, vars)
		origin := OriginOf(at)
		if err != nil || origin == "" || first != "" && origin != first {
			return origin, false
		}
		first = origin
	}
	return first, true
}

// sends lists the templates that lead to where something is sent.
func (d *Description) sends() []struct {
	key, what string
	t         *uritemplate.Template
} {
	type one = struct {
		key, what string
		t         *uritemplate.Template
	}
	out := []one{{"api", "API", d.API}, {"https", "git", d.HTTPS}, {"ssh", "git over SSH", d.SSH}}
	if o := d.SignIn.OAuth; o != nil {
		out = append(out, one{"metadata", "sign-in", o.Metadata})
	}
	return slices.DeleteFunc(out, func(x one) bool { return x.t == nil })
}

// Origins lists all origins to which anything is sent, the base's first.
func (d *Description) Origins() []Use {
	out := []Use{{Origin: OriginOf(d.Base)}}
	add := func(origin, what string) {
		i := slices.IndexFunc(out, func(u Use) bool { return u.Origin == origin })
		if i < 0 {
			i = len(out)
			out = append(out, Use{Origin: origin})
		}
		if what != "" && !slices.Contains(out[i].For, what) {
			out[i].For = append(out[i].For, what)
		}
	}
	if d.API == nil && d.Shell == nil && len(d.Actions) > 0 {
		add(out[0].Origin, "API")
	}
	for _, x := range d.sends() {
		if origin, _ := d.leads(x.t); origin != "" {
			add(origin, x.what)
		}
	}
	for _, name := range d.Can() {
		for _, q := range d.Actions[name].Requests {
			if q.URL != nil && strings.Contains(q.URL.Raw(), "://") {
				if origin, fixed := d.leads(q.URL); fixed {
					add(origin, "API")
				}
			}
		}
	}
	for _, origin := range d.Trust {
		add(origin, "")
	}
	return slices.DeleteFunc(out, func(u Use) bool { return len(u.For) == 0 && !slices.Contains(d.Trust, u.Origin) })
}

// reaches refuses requests whose addresses lead to an origin that is not trusted. Those that begin with what an answer
// held are looked at when they are made.
func (l *loader) reaches(d *Description, n *node) {
	if OriginOf(d.Base) == "" {
		return
	}
	for name, a := range d.Actions {
		for i, q := range a.Requests {
			for key, t := range map[string]*uritemplate.Template{"url": q.URL, "wait.ask": q.ask()} {
				if t == nil || !strings.Contains(t.Raw(), "://") {
					continue
				}
				place := fmt.Sprintf("action.%s.request[%d].%s", name, i, key)
				switch origin, fixed := d.leads(t); {
				case !fixed:
					n.wrong(place, "the host in this address must be the same for every repository")
				case !d.Trusts(origin):
					n.wrong(place, "this leads to %s, which is neither the origin of \"base\" nor named by addresses under [trust]", origin)
				}
			}
		}
	}
}

// ask is the address at which accepted work is asked for; nil where there is none.
func (q *Request) ask() *uritemplate.Template {
	if q.Wait == nil {
		return nil
	}
	return q.Wait.Ask
}

// trust reads [trust], and refuses what leads elsewhere than to the base and there.
func (l *loader) trust(d *Description, n *node) {
	if t := n.table("trust"); t != nil {
		for _, s := range t.strings("addresses") {
			origin := OriginOf(s)
			u, err := url.Parse(s)
			switch {
			case err != nil || origin == "" || strings.TrimSuffix(s, "/") != u.Scheme+"://"+u.Host || strings.ContainsAny(u.Host, "*{}"):
				t.wrong("addresses", "%q is not a scheme, a host and, where it is not the usual one, a port: such as https://api.example", s)
			case !address.Guarded(u.Scheme, u.Host):
				t.wrong("addresses", "plain http to %s would send the token unencrypted", u.Host)
			default:
				d.Trust = append(d.Trust, origin)
			}
		}
		t.done()
	}
	if OriginOf(d.Base) == "" {
		return
	}
	for _, x := range d.sends() {
		place := "address." + x.key
		if x.key == "metadata" {
			place = "signin.oauth.metadata"
		}
		switch origin, fixed := d.leads(x.t); {
		case origin == "" || !fixed:
			n.wrong(place, "the host in this address must be the same for every repository")
		case !d.Trusts(origin):
			n.wrong(place, "this leads to %s, which is neither the origin of \"base\" nor named by addresses under [trust]", origin)
		}
	}
}
