package description

import (
	"slices"
	"time"

	"uncinate/internal/core/fault"
)

// Exchange says how the token that is kept ({kept_token}) is exchanged for one that is
// good for a short time ({token}), with which all else is asked.
type Exchange struct {
	Request *Request
	Lasts   time.Duration // how long the short-lived one is good where the host does not say
	user    bool          // it takes the user's name
}

func (l *loader) exchange(d *Description, x *node) *Exchange {
	e := &Exchange{Lasts: x.duration("lasts", 5*time.Minute)}
	own := &SignIn{}
	if b := x.table("basic"); b != nil {
		own.Basic = &Basic{User: b.text("user", nil), Secret: b.text("secret", nil)}
		b.done()
	}
	l.fromNow = true
	defer func() { l.fromNow = false }()
	seen := len(l.variables)
	if _, given := x.v.(map[string]any)["method"]; !given {
		x.v.(map[string]any)["method"] = "POST"
	}
	secret := x.reading("secret", false)
	e.Request = l.request(d, x, nil, nil)
	if secret != nil && e.Request.Fields["secret"] == nil { // where that is all that is read
		if e.Request.Fields == nil {
			e.Request.Fields = map[string]*Reading{}
		}
		e.Request.Fields["secret"] = secret
	}
	e.Request.signIn = own
	e.Request.Repeat = true // a short-lived token more does no harm
	if e.Request.Fields["secret"] == nil {
		x.wrong("read", "an exchange must read \"secret\": where the short-lived token is")
	}
	used := l.variables[seen:]
	if b := own.Basic; b != nil {
		used = slices.Concat(used, b.User.variables(), b.Secret.variables())
	}
	e.user = slices.Contains(used, "user")
	switch {
	case slices.Contains(used, "token"):
		x.wrong("", "the exchange is what gets {token}; the token that is kept is {kept_token}")
	case !slices.Contains(used, "kept_token"):
		x.wrong("", "the exchange does not send {kept_token}, so the host cannot know whose the new token is to be")
	}
	return e
}

// Short reads the short-lived token and when it ends.
func (x *Exchange) Short(d *Description, a Answer, now time.Time) (token string, ends time.Time, err error) {
	r, err := x.Request.Read(d, a, nil)
	if err != nil {
		return "", ends, err
	}
	if token = written(r.Fields["secret"]); token == "" {
		return "", ends, fault.New(fault.Unreachable, "what answers at %s is not the API that the description expects: it exchanged the token and told no new one", d.Base)
	}
	if t, ok := r.Fields["expires"].(time.Time); ok {
		return token, t, nil
	}
	if rd := x.Request.Fields["expires"]; rd != nil && rd.As == "seconds" {
		if s, ok := seconds(r.Fields["expires"]); ok {
			return token, now.Add(s), nil
		}
	}
	return token, now.Add(x.Lasts), nil
}
