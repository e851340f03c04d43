package practice

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"html"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"uncinate/internal/core/text"
)

// signIns is gannet's sign-in through its own pages: the device grant (RFC 8628), the
// code grant with PKCE (RFC 7636), refresh (RFC 6749, section 6) and revocation (RFC
// 7009). What waits for a person is kept in memory only.
type signIns struct {
	mu      sync.Mutex
	devices map[string]*deviceWait // by device code
	codes   map[string]*codeWait   // by authorization code
}

type deviceWait struct {
	user   string // the code that a person enters
	scopes []string
	until  time.Time
	asked  time.Time
	every  time.Duration
	who    string // "" while nobody has entered it
	berth  string // what it is called in the list of sign-ins
	denied bool
}

type codeWait struct {
	who       string
	scopes    []string
	challenge string
	back      string
	berth     string
	until     time.Time
}

// How long gannet's things last, and how often it wants to be asked.
const (
	accessLife  = time.Hour
	refreshLife = 90 * 24 * time.Hour
	codeLife    = 10 * time.Minute
	askEvery    = time.Second
)

const clientID = "uncinate"

func randomText(bytes int) string {
	b := make([]byte, bytes)
	if _, err := rand.Read(b); err != nil {
		panic(err) // the system's source of randomness does not fail
	}
	return hex.EncodeToString(b)
}

func (g gannetAt) oauthRoutes(m *http.ServeMux) {
	m.HandleFunc("GET /.well-known/oauth-authorization-server", func(w http.ResponseWriter, q *http.Request) {
		base := baseOf(q)
		_ = answer(w, 200, map[string]any{"issuer": base, "authorization_endpoint": base + "/gangway/board", "token_endpoint": base + "/gangway/token",
			"device_authorization_endpoint": base + "/gangway/device", "revocation_endpoint": base + "/gangway/revoke",
			"grant_types_supported":            []string{"authorization_code", "refresh_token", "urn:ietf:params:oauth:grant-type:device_code"},
			"code_challenge_methods_supported": []string{"S256"}, "response_types_supported": []string{"code"}, "scopes_supported": GannetScopes})
	})
	m.HandleFunc("POST /gangway/device", g.deviceCode)
	m.HandleFunc("POST /gangway/token", g.oauthToken)
	m.HandleFunc("POST /gangway/revoke", func(w http.ResponseWriter, q *http.Request) {
		// A token that is not there is no error (RFC 7009, section 2.2).
		if err := g.store.Revoke(q.PostFormValue("token")); err != nil {
			g.engine.refuse(w, err)
		}
	})
	m.HandleFunc("/gangway/enter", g.enter)
	m.HandleFunc("/gangway/board", g.authorize)
}

// oauthSays answers as RFC 6749, section 5.2 wants.
func oauthSays(w http.ResponseWriter, code, says string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusBadRequest)
	_ = json.NewEncoder(w).Encode(map[string]string{"error": code, "error_description": says}) // the caller may be gone
}

func knownScopes(s string) []string {
	return slices.DeleteFunc(strings.Fields(s), func(x string) bool { return !slices.Contains(GannetScopes, x) })
}

func (g gannetAt) deviceCode(w http.ResponseWriter, q *http.Request) {
	if q.PostFormValue("client_id") != clientID {
		oauthSays(w, "invalid_client", "this client is not known")
		return
	}
	letters := "BCDFGHJKLMNPQRSTVWXZ" // no vowels, so no words (RFC 8628, section 6.1)
	user := ""
	for i, b := range []byte(randomText(4)) {
		if i == 4 {
			user += "-"
		}
		user += string(letters[int(b)%len(letters)])
	}
	device := randomText(20)
	g.signIns.mu.Lock()
	g.signIns.devices[device] = &deviceWait{user: user, scopes: knownScopes(q.PostFormValue("scope")), berth: berthOf(q.PostForm), until: g.store.now().Add(codeLife), every: askEvery}
	g.signIns.mu.Unlock()
	_ = answer(w, 200, map[string]any{"device_code": device, "user_code": user, "verification_uri": baseOf(q) + "/gangway/enter",
		"expires_in": int(codeLife / time.Second), "interval": int(askEvery / time.Second)})
}

// berthOf is the name that a sign-in asks to be listed under.
func berthOf(v url.Values) string { return text.Excerpt(v.Get("berth"), 200) }

// giveTokens gives a sign-in's tokens, an access token and one that renews it, like t.
func (g gannetAt) giveTokens(w http.ResponseWriter, t Token) {
	if t.SignIn == "" {
		t.SignIn = randomText(6)
	}
	t.Expires, t.Renews = g.store.now().Add(accessLife), false
	access, err := g.store.NewSigned("plunge~", t)
	var refresh string
	if err == nil {
		t.Expires, t.Renews = g.store.now().Add(refreshLife), true
		refresh, err = g.store.NewSigned("surface~", t)
	}
	if err != nil {
		g.engine.refuse(w, err)
		return
	}
	_ = answer(w, 200, map[string]any{"access_token": access, "token_type": "bearer", "expires_in": int(accessLife / time.Second), "refresh_token": refresh, "scope": strings.Join(t.Scopes, " ")})
}

func (g gannetAt) oauthToken(w http.ResponseWriter, q *http.Request) {
	if q.PostFormValue("client_id") != clientID {
		oauthSays(w, "invalid_client", "this client is not known")
		return
	}
	now := g.store.now()
	g.signIns.mu.Lock()
	defer g.signIns.mu.Unlock()
	switch q.PostFormValue("grant_type") {
	case "urn:ietf:params:oauth:grant-type:device_code":
		code := q.PostFormValue("device_code")
		d := g.signIns.devices[code]
		switch {
		case d == nil || now.After(d.until):
			delete(g.signIns.devices, code)
			oauthSays(w, "expired_token", "the code is over")
		case d.denied:
			delete(g.signIns.devices, code)
			oauthSays(w, "access_denied", "the person said no")
		case d.who == "" && now.Sub(d.asked) < d.every:
			d.asked = now
			d.every += 5 * time.Second
			oauthSays(w, "slow_down", "asked too often")
		case d.who == "":
			d.asked = now
			oauthSays(w, "authorization_pending", "nobody has entered the code yet")
		default:
			delete(g.signIns.devices, code)
			g.giveTokens(w, Token{User: d.who, Scopes: d.scopes, Name: d.berth})
		}
	case "authorization_code":
		code := q.PostFormValue("code")
		c := g.signIns.codes[code]
		delete(g.signIns.codes, code)
		sum := sha256.Sum256([]byte(q.PostFormValue("code_verifier")))
		if c == nil || now.After(c.until) || c.back != q.PostFormValue("redirect_uri") || base64.RawURLEncoding.EncodeToString(sum[:]) != c.challenge {
			oauthSays(w, "invalid_grant", "the code does not fit")
			return
		}
		g.giveTokens(w, Token{User: c.who, Scopes: c.scopes, Name: c.berth})
	case "refresh_token":
		s := g.store.Refreshes(q.PostFormValue("refresh_token"))
		if s.User == nil {
			oauthSays(w, "invalid_grant", "the refresh token is not valid")
			return
		}
		if err := g.store.Revoke(q.PostFormValue("refresh_token")); err != nil { // it is rotated
			g.engine.refuse(w, err)
			return
		}
		g.giveTokens(w, *s.Token)
	default:
		oauthSays(w, "unsupported_grant_type", "")
	}
}

// form is a small page with a question.
func form(w http.ResponseWriter, says string, hidden url.Values, fields ...string) {
	page := `<!doctype html><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>gannet: sign in</title>
<style>body{font:16px/1.5 sans-serif;max-width:26em;margin:3em auto;color:#223}label{display:block;margin:.8em 0}input{font:inherit;width:100%;padding:.3em;box-sizing:border-box}button{font:inherit;padding:.4em 1.2em;margin:.8em .6em 0 0}</style>
<h1>gannet</h1><p>` + html.EscapeString(says) + `</p><form method="post">`
	for name := range hidden {
		page += `<input type="hidden" name="` + html.EscapeString(name) + `" value="` + html.EscapeString(hidden.Get(name)) + `">`
	}
	for _, f := range fields {
		kind := "text"
		if f == "token" {
			kind = "password"
		}
		page += `<label>` + f + `<input name="` + f + `" type="` + kind + `" autocomplete="off"></label>`
	}
	if len(fields) > 0 {
		page += `<button name="say" value="yes">Allow</button><button name="say" value="no">Do not allow</button>`
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = io.WriteString(w, page+"</form><p><small>A practice host; its passwords are the tokens that \"uncinate practice\" prints.</small></p>") // the reader may be gone
}

// person signs in the one who filled the form in.
func (g gannetAt) person(q *http.Request) string {
	s := g.store.SignIn(strings.TrimSpace(q.PostFormValue("token")))
	if s.User == nil || s.User.Name != strings.TrimSpace(q.PostFormValue("user")) {
		return ""
	}
	return s.User.Name
}

// enter is the page where the code of another device is entered.
func (g gannetAt) enter(w http.ResponseWriter, q *http.Request) {
	if q.Method != http.MethodPost {
		form(w, "Enter the code that the other device shows, and who you are.", nil, "code", "user", "token")
		return
	}
	who := g.person(q)
	code := strings.ToUpper(strings.TrimSpace(q.PostFormValue("code")))
	g.signIns.mu.Lock()
	defer g.signIns.mu.Unlock()
	for _, d := range g.signIns.devices {
		if d.user != code || g.store.now().After(d.until) {
			continue
		}
		switch {
		case who == "":
			form(w, "That is not a user with such a token. Try again.", nil, "code", "user", "token")
		case q.PostFormValue("say") != "yes":
			d.denied = true
			form(w, "It is not allowed. This page can be closed.", nil)
		default:
			d.who = who
			form(w, "The other device is signed in as "+who+". This page can be closed.", nil)
		}
		return
	}
	form(w, "There is no such code, or its time is over. Try again.", nil, "code", "user", "token")
}

// authorize is the page that a browser on the same machine is sent to.
func (g gannetAt) authorize(w http.ResponseWriter, q *http.Request) {
	v := q.URL.Query()
	back, err := url.Parse(v.Get("redirect_uri"))
	if err != nil || back.Scheme != "http" || !loopback(back.Hostname()) || v.Get("client_id") != clientID || v.Get("code_challenge_method") != "S256" || v.Get("code_challenge") == "" {
		http.Error(w, "this sign-in cannot be taken: its address back is not on this machine, or it lacks a challenge", http.StatusBadRequest)
		return
	}
	if q.Method != http.MethodPost {
		form(w, "A program on this machine wants to use gannet as you"+called(berthOf(v))+".", nil, "user", "token")
		return
	}
	answer := url.Values{"state": {v.Get("state")}}
	switch who := g.person(q); {
	case q.PostFormValue("say") != "yes":
		answer.Set("error", "access_denied")
	case who == "":
		form(w, "That is not a user with such a token. Try again.", nil, "user", "token")
		return
	default:
		code := randomText(16)
		g.signIns.mu.Lock()
		g.signIns.codes[code] = &codeWait{who: who, scopes: knownScopes(v.Get("scope")), challenge: v.Get("code_challenge"), berth: berthOf(v), back: v.Get("redirect_uri"), until: g.store.now().Add(time.Minute)}
		g.signIns.mu.Unlock()
		answer.Set("code", code)
	}
	back.RawQuery = answer.Encode()
	http.Redirect(w, q, back.String(), http.StatusSeeOther)
}

// called says what a sign-in is called, where it is.
func called(berth string) string {
	if berth == "" {
		return ""
	}
	return ", called " + text.Visible(berth)
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}
