package description

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/yosida95/uritemplate/v3"

	"uncinate/internal/core/text"
)

// Text is a plain template for values that are not addresses: {name} stands for a
// variable, \{ for a brace as it is, everything else for itself.
type Text string

var inText = text.Pattern(`\\\{|\{([a-z_]+(?:\.[a-z_]+)?)\}`)

// variables lists the names that are in the text.
func (t Text) variables() []string {
	if !strings.Contains(string(t), "{") {
		return nil
	}
	var names []string
	for _, m := range inText().FindAllStringSubmatch(string(t), -1) {
		if m[1] != "" {
			names = append(names, m[1])
		}
	}
	return names
}

// fill puts the variables in. A text that is one variable and nothing else takes
// the variable's own type; one whose variables are all empty comes out as nil, to
// be left out, but for one with \{ in it, such as a query, which is sent whole.
func (t Text) fill(vars Vars) any {
	names := t.variables()
	if len(names) == 1 && string(t) == "{"+names[0]+"}" {
		if _, blank := vars[names[0]].(Blank); blank {
			return ""
		}
		switch v := vars[names[0]].(type) {
		case nil:
			return nil
		case []string:
			if len(v) > 0 {
				return v
			}
			return nil
		default:
			if v == "" {
				return nil
			}
			return v
		}
	}
	filled := false
	s := inText().ReplaceAllStringFunc(string(t), func(m string) string {
		if m == `\{` {
			filled = true
			return "{"
		}
		v := written(vars[m[1:len(m)-1]])
		filled = filled || v != ""
		return v
	})
	if len(names) > 0 && !filled {
		return nil
	}
	return s
}

func (t Text) fillString(vars Vars) string { return written(t.fill(vars)) }

// Blank is the value of a variable that is to be sent although it is empty: to
// clear what a host holds.
type Blank struct{}

// Vars are the variables of templates. Values are strings, bools, int64s, float64s, lists of strings or Blank.
type Vars map[string]any

// expand fills a URI template (RFC 6570). The library writes a character's number where the bytes of its
// UTF-8 are meant (section 1.6). So what is not ASCII passes it as a mark and two hexadecimal digits for
// each byte: the mark is an unreserved character, which it leaves as it is, and which is written so
// itself where it is in a value.
func expand(t *uritemplate.Template, vars Vars) (string, error) {
	values, given, other := uritemplate.Values{}, map[string]string{}, false
	for _, name := range t.Varnames() {
		if v := written(vars[name]); v != "" {
			given[name] = v
			other = other || strings.ContainsFunc(v, notASCII)
		}
	}
	mark := byte('~')
	if other {
		free := strings.IndexFunc("~_-.ZQXJVKzqxjvk", func(r rune) bool { return !strings.ContainsRune(t.Raw(), r) })
		if free < 0 {
			return "", fmt.Errorf("the template %s leaves no mark free", text.Excerpt(t.Raw(), 80))
		}
		mark = "~_-.ZQXJVKzqxjvk"[free]
	}
	for name, v := range given {
		if other {
			v = marked(v, mark)
		}
		values.Set(name, uritemplate.String(v))
	}
	out, err := t.Expand(values)
	if other {
		out = strings.ReplaceAll(strings.ReplaceAll(out, string(mark), "%"), fmt.Sprintf("%%%02X", mark), string(mark))
	}
	return out, err
}

func notASCII(r rune) bool { return r == 0 || r > 0x7f }

// marked writes each byte that is not ASCII, NUL and the mark as the mark and two hexadecimal digits.
func marked(v string, mark byte) string {
	var b strings.Builder
	for i := range len(v) {
		if c := v[i]; c == 0 || c > 0x7f || c == mark {
			fmt.Fprintf(&b, "%c%02X", mark, c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// base gives the variables that every template of the description may use. They are
// worked out once for each base address.
func (d *Description) base() Vars {
	if known := d.known.Load(); known != nil && (*known)["base"] == d.Base {
		return maps.Clone(*known)
	}
	vars := Vars{"base": d.Base}
	if _, rest, ok := strings.Cut(d.Base, "://"); ok {
		vars["host"] = rest
	}
	if d.API != nil {
		if api, err := expand(d.API, vars); err == nil {
			vars["api"] = api
		}
	}
	kept := maps.Clone(vars)
	d.known.Store(&kept)
	return vars
}

// Expand fills one of the description's address templates.
func (d *Description) Expand(t *uritemplate.Template, vars Vars) (string, error) {
	all := d.base()
	for k, v := range vars {
		all[k] = v
	}
	return expand(t, all)
}

// HostWord turns a word of ours ("private") into the host's value for it.
func (d *Description) HostWord(kind, ours string) (any, bool) {
	v, ok := d.Words[kind][ours]
	return v, ok
}

// ourWord turns a host's value into our word for it, or "" if it has none. Of rights that are a mask of bits it is the
// most that is there; a value of several fields is ours where all of them are as the description says.
func (d *Description) ourWord(kind string, theirs any) string {
	if kind == "right" && d.Mask {
		return d.byMask(theirs)
	}
	for _, ours := range slices.Sorted(maps.Keys(d.Words[kind])) {
		switch v := d.Words[kind][ours].(type) {
		case map[string]any:
			held, ok := theirs.(map[string]any)
			for field, value := range v {
				ok = ok && held[field] != nil && written(held[field]) == written(value)
			}
			if ok {
				return ours
			}
		default:
			if v == theirs || written(v) == written(theirs) {
				return ours
			}
		}
	}
	return ""
}

// byMask gives the right of which all bits are in a value, and the most bits of those.
func (d *Description) byMask(theirs any) string {
	bits, err := strconv.ParseInt(written(theirs), 10, 64)
	if err != nil {
		return ""
	}
	best, word := int64(0), ""
	for _, ours := range slices.Sorted(maps.Keys(d.Words["right"])) {
		if v, ok := d.Words["right"][ours].(int64); ok && bits&v == v && v > best {
			best, word = v, ours
		}
	}
	return word
}

// Recognise reads an address backwards: is it a repository of this host? The
// address may be a page, a clone address or a link to something inside.
func (d *Description) Recognise(address string) (owner, name string, ok bool) {
	address = strings.TrimSuffix(strings.TrimSuffix(strings.TrimSpace(address), "/"), ".git")
	if d.Shell == nil && !d.Trusts(address) {
		return "", "", false // a description does not say which addresses of others are its own
	}
	templates := append([]*uritemplate.Template{d.HTTPS, d.SSH, d.Page}, d.Also...)
	for _, spelling := range []string{address, address + ".git"} {
		for _, t := range templates {
			if t == nil {
				continue
			}
			if owner, name, ok := d.backwards(t, spelling); ok {
				return owner, name, true
			}
		}
	}
	return "", "", false
}

// backwards matches a template against an address. Base addresses are put in
// before, so that only the repository's parts are left open.
func (d *Description) backwards(t *uritemplate.Template, address string) (owner, name string, ok bool) {
	raw := strings.NewReplacer("{+base}", d.Base, "{+api}", written(d.base()["api"]), "{host}", written(d.base()["host"]), "{+host}", written(d.base()["host"])).Replace(t.Raw())
	bound, err := uritemplate.New(raw)
	if err != nil {
		return "", "", false
	}
	m := bound.Match(address)
	if m == nil {
		return "", "", false
	}
	owner, name = m.Get("owner").String(), m.Get("name").String()
	if owner == "" || name == "" || strings.HasPrefix(owner, "/") || strings.ContainsAny(name, "/?#") || strings.ContainsAny(owner, "?#") {
		return "", "", false
	}
	return owner, name, true
}

// Fill gives the user name and the secret that a sign-in's templates stand for.
func (b Basic) Fill(vars Vars) (user, secret string) {
	return b.User.fillString(vars), b.Secret.fillString(vars)
}

// Parameters are those by which the address's query signs in.
func (s SignIn) Parameters(vars Vars) map[string]string {
	out := map[string]string{}
	for name, value := range s.Query {
		out[name] = value.fillString(vars)
	}
	return out
}

// Short reports whether the pair holds the token with which the API is asked, which may
// be a short-lived one.
func (b Basic) Short() bool {
	return slices.Contains(append(b.User.variables(), b.Secret.variables()...), "token")
}

// Can lists the actions that are described, in the language's order.
func (d *Description) Can() []string {
	var out []string
	for _, name := range actionNames {
		if d.Actions[name] != nil {
			out = append(out, name)
		}
	}
	return out
}

// TakesUser reports whether the API's sign-in needs the user's name beforehand.
func (s SignIn) TakesUser() bool {
	if s.Exchange != nil && s.Exchange.user {
		return true
	}
	texts := []Text{}
	if s.Basic != nil {
		texts = append(texts, s.Basic.User, s.Basic.Secret)
	}
	for _, set := range []map[string]Text{s.Header, s.Query} {
		for _, t := range set {
			texts = append(texts, t)
		}
	}
	for _, t := range texts {
		if slices.Contains(t.variables(), "user") {
			return true
		}
	}
	return false
}
