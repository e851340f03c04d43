package description

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"uncinate/internal/core/address"
	"uncinate/internal/core/places"
	"uncinate/internal/core/text"
)

// Most is the largest description, in bytes, that is read.
const Most = 256 << 10

var size = text.Pattern(`^[0-9]+(\.[0-9]+)? ([kMGT]B|[KMGT]iB|B)$`)

// Mistake is one thing wrong in a description's file.
type Mistake = places.Mistake

// Load reads a description strictly. With any mistake the description is nil and
// all mistakes that were found are given, in the file's order.
func Load(data []byte) (*Description, []Mistake) { return LoadAt(data, "") }

// LoadAt is Load for a host that is at another base address than the description's own; "" for
// that one.
func LoadAt(data []byte, base string) (*Description, []Mistake) {
	if len(data) > Most {
		return nil, []Mistake{{Line: 1, Column: 1, Says: fmt.Sprintf("the file is larger than %d bytes", Most)}}
	}
	if m := bounded(data); m != nil {
		return nil, []Mistake{*m}
	}
	var tree map[string]any
	if err := toml.Unmarshal(data, &tree); err != nil {
		return nil, []Mistake{places.NotTOML(err)}
	}
	l := &loader{data: data, at: base}
	d := l.description(&node{l: l, v: tree})
	if len(l.mistakes) > 0 {
		places.Sort(l.mistakes)
		return nil, l.mistakes
	}
	return d, nil
}

func (l *loader) description(n *node) *Description {
	d := &Description{Pages: map[string]*tmpl{}, Scopes: map[string][]string{}, Words: map[string]Words{},
		Actions: map[string]*Action{}, Limits: map[string]any{}, Cannot: map[string]string{}, Time: "rfc3339", Implies: map[string][]string{}}
	switch v, ok := n.take("language"); {
	case !ok:
		n.wrong("", "the key \"language\" is missing; write: language = %d", Language)
	case v != int64(Language):
		n.wrong("language", "this program knows version %d of the language", Language)
		return d
	}
	d.Name, d.Title, d.Base = n.must("name"), n.str("title"), strings.TrimSuffix(n.must("base"), "/")
	if d.Name != "" && strings.Trim(d.Name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
		n.wrong("name", "a host's name is made of small letters, digits and dashes")
	}
	l.shell(d, n)
	if d.Base != "" {
		if why := d.CheckBase(d.Base); why != "" {
			n.wrong("base", "%s", why)
		}
	}
	if l.at != "" && d.CheckBase(l.at) == "" {
		d.Base = l.at
	}
	l.addresses(d, n)
	if p := n.table("page"); p != nil {
		for _, name := range pageNames {
			if t := p.template(name, nil); t != nil {
				d.Pages[name] = t
			}
		}
		p.done()
	}
	l.signIn(d, n.table("signin"))
	l.trust(d, n)
	l.values(d, n.table("value"))
	if s := n.table("scopes"); s != nil {
		for _, name := range needNames {
			if list := s.strings(name); list != nil {
				d.Scopes[name] = list
			}
		}
		s.done()
	}
	if s := n.table("implies"); s != nil {
		for _, name := range s.keys() {
			d.Implies[name] = s.strings(name)
		}
	}
	shapes := l.actions(d, n)
	l.reaches(d, n)
	l.refusals(d, n)
	d.Rate = l.rate(n.table("rate"))
	d.Hook = l.hook(n.table("hook"))
	l.limits(d, n.table("limits"))
	if t := n.table("ssh"); t != nil {
		d.HostKeys = t.strings("host_keys")
		t.done()
	}
	if t := n.table("cannot"); t != nil {
		for _, name := range t.keys() {
			d.Cannot[name] = t.str(name)
		}
	}
	n.done()
	l.remarks(d, shapes)
	return d
}

// addresses reads where the API, the pages and the repositories are.
func (l *loader) addresses(d *Description, n *node) {
	if a := n.table("address"); a != nil && d.Shell != nil {
		a.wrong("", "a plain server's addresses are made of its base and its folder; leave [address] out")
	} else if a != nil {
		d.API, d.Page, d.HTTPS, d.SSH = a.template("api", nil), a.template("page", nil), a.template("https", nil), a.template("ssh", nil)
		for _, s := range a.strings("also") {
			if t, err := newTemplate(s); err == nil {
				d.Also = append(d.Also, t)
			} else {
				a.wrong("also", "%q is not a URI template", s)
			}
		}
		if d.HTTPS == nil && d.SSH == nil {
			a.wrong("", "neither \"https\" nor \"ssh\" is given: one of them is needed to reach a repository")
		}
		a.done()
	} else if d.Shell == nil {
		n.wrong("", "the table [address] is missing")
	}
}

// actions reads what can be done, and the shapes in which answers are told.
func (l *loader) actions(d *Description, n *node) map[string]map[string]*Reading {
	shapes := map[string]map[string]*Reading{}
	if s := n.table("shape"); s != nil {
		for _, name := range s.keys() {
			if t := s.table(name); t != nil {
				shapes[name] = l.fields(t)
			}
		}
	}
	if a := n.table("action"); a != nil && d.Shell != nil {
		a.wrong("", "what can be done on a plain server is known; leave [action] out")
	} else if a != nil {
		for _, name := range actionNames {
			if t := a.table(name); t != nil {
				d.Actions[name] = l.action(d, name, t, shapes)
			}
		}
		a.done()
	}
	return shapes
}

// refusals reads which answers mean what.
func (l *loader) refusals(d *Description, n *node) {
	for _, r := range n.tables("refusal") {
		rule := Refusal{Status: r.integer("status"), At: r.reading("at", false), Means: Meaning(r.must("means"))}
		if v, ok := r.take("is"); ok {
			rule.Is = v
		}
		if rule.Means != "" && !slices.Contains(meaningNames, string(rule.Means)) {
			r.wrongMeant("means", text.Nearest(string(rule.Means), meaningNames), "%q is not a known meaning", rule.Means)
		}
		r.done()
		d.Refusals = append(d.Refusals, rule)
	}
	if r := n.table("refusals"); r != nil {
		for _, s := range r.strings("message") {
			if reading, why := newReading(s); why == "" {
				d.Message = append(d.Message, reading)
			} else {
				r.wrong("message", "%s", why)
			}
		}
		r.done()
	}
}

// limits reads the numbers by which hosts are compared.
func (l *loader) limits(d *Description, t *node) {
	if t != nil {
		for _, name := range limitNames {
			if v, ok := t.take(name); ok {
				d.Limits[name] = v
				if word, isText := v.(string); (strings.HasSuffix(name, "_size") || name == "large_file_quota") && (!isText || !size().MatchString(word)) {
					t.wrong(name, "a size has a number and a unit, such as \"100 MiB\" or \"5 GB\"")
				}
			}
		}
		t.done()
	}
}

func (l *loader) signIn(d *Description, s *node) {
	if s == nil {
		return
	}
	d.SignIn.Present = true
	d.SignIn.Header, d.SignIn.Query = s.texts("header", nil), s.texts("query", nil)
	for _, b := range s.strings("tokens_begin") {
		if len(b) < 4 {
			s.wrong("tokens_begin", "%q is too short to know a token by: four characters at least", text.Visible(b))
		}
		d.SignIn.Begins = append(d.SignIn.Begins, b)
	}
	basic := func(name string) *Basic {
		t := s.table(name)
		if t == nil {
			return nil
		}
		b := &Basic{User: t.text("user", nil), Secret: t.text("secret", nil)}
		t.done()
		return b
	}
	d.SignIn.Basic = basic("basic")
	if g := basic("git"); g != nil {
		d.SignIn.Git = *g
	} else {
		d.SignIn.Git = Basic{User: "{user}", Secret: "{token}"}
	}
	ways := 0
	for _, given := range []bool{len(d.SignIn.Header) > 0, len(d.SignIn.Query) > 0, d.SignIn.Basic != nil} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		s.wrong("", "the API's sign-in needs exactly one of header, query and basic, and %d are given", ways)
	}
	if x := s.table("exchange"); x != nil {
		d.SignIn.Exchange = l.exchange(d, x)
	}
	if o := s.table("oauth"); o != nil {
		d.SignIn.OAuth = &OAuth{Metadata: o.template("metadata", nil), Client: o.must("client"), Ways: o.strings("ways"), Label: o.str("label")}
		if d.SignIn.OAuth.Metadata == nil {
			o.wrong("", "the key \"metadata\" is missing: where the host tells how one signs in (RFC 8414)")
		}
		if label := d.SignIn.OAuth.Label; label != "" && (strings.Trim(label, "abcdefghijklmnopqrstuvwxyz0123456789_-") != "" || slices.Contains(oauthOwn, label)) {
			o.wrong("label", "the sign-in's name cannot be told as %q: it is a parameter of the host's own, in small letters, and none that RFC 6749, 7636 or 8628 define", text.Excerpt(label, 40))
		}
		for _, way := range d.SignIn.OAuth.Ways {
			if way != "device" && way != "browser" {
				o.wrongMeant("ways", text.Nearest(way, []string{"device", "browser"}), "the sign-in is by \"device\" or \"browser\", not by %q", text.Excerpt(way, 30))
			}
		}
		o.done()
	}
	s.done()
}

// oauthOwn are the parameters that requests of a sign-in have by their standards.
var oauthOwn = []string{"client_id", "client_secret", "scope", "state", "response_type", "redirect_uri", "code_challenge", "code_challenge_method", "code_verifier", "grant_type", "code", "device_code", "refresh_token"}

func (l *loader) values(d *Description, v *node) {
	if v == nil {
		return
	}
	if form := v.str("time"); form != "" {
		v.timeForm("time", form)
		d.Time = form
	}
	zone, err := newZone(v.str("zone"))
	if err != nil {
		v.wrong("zone", "no zone of that name is known here: write \"UTC\", an offset such as \"+02:00\", or a name of the time zone database")
	}
	d.Zone = zone
	for _, w := range wordKinds {
		t := v.table(w.kind)
		if t == nil {
			continue
		}
		words := Words{}
		for _, name := range w.ours {
			if value, ok := t.take(name); ok {
				if !isWord(value, w.kind == "visibility") {
					t.wrong(name, "a value is a string, true or false, or a number%s", text.Either(w.kind == "visibility", ", or a table of several fields with such values", ""))
					continue
				}
				words[name] = value
			}
		}
		if w.kind == "right" && t.boolean("mask") {
			d.Mask = true
			for name, value := range words {
				if bits, ok := value.(int64); !ok || bits <= 0 {
					t.wrong(name, "of a mask of bits each value is a number above zero")
				}
			}
		}
		t.done()
		d.Words[w.kind] = words
	}
	v.done()
}

// isWord reports whether a value may stand for a word of ours: a plain one, or several fields of such.
func isWord(v any, several bool) bool {
	switch x := v.(type) {
	case string, bool, int64, float64:
		return true
	case map[string]any:
		for field, value := range x {
			if strings.Trim(field, "abcdefghijklmnopqrstuvwxyz_") != "" || !isWord(value, false) {
				return false
			}
		}
		return several && len(x) > 0
	}
	return false
}

// CheckBase says what is wrong with a base address for this host, or "" if it is good.
func (d *Description) CheckBase(base string) string {
	if d.Shell != nil {
		return CheckShellBase(base)
	}
	return CheckBase(base)
}

// CheckBase says what is wrong with a host's base address, or "" if it is good.
func CheckBase(base string) string {
	u, err := url.Parse(base)
	switch {
	case err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http"):
		return "the base is not an address like https://host.example"
	case u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return "the base address may hold neither user, query nor fragment"
	case !address.Guarded(u.Scheme, u.Host):
		return "plain http would send the token unencrypted; it is only taken for this machine's own loopback address"
	}
	return ""
}
