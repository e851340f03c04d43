// Package oauth signs a person in through the host's own pages: by the device grant
// (RFC 8628) or the code grant with PKCE on loopback (RFC 7636, RFC 8252), found by
// metadata (RFC 8414); it refreshes and revokes (RFC 7009) what it got.
package oauth

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/web"
)

// The ways to sign in.
const (
	ByDevice  = "device"
	ByBrowser = "browser"
)

// most is the largest answer, in bytes, that is read.
const most = 1 << 20

// Server is where a host's sign-in takes place, as its metadata tell (RFC 8414, section 2).
type Server struct {
	Issuer        string `json:"issuer"`
	Authorization string `json:"authorization_endpoint"`
	Token         string `json:"token_endpoint"`
	Device        string `json:"device_authorization_endpoint"`
	Revocation    string `json:"revocation_endpoint"`

	origin string // where the metadata are: all else must be there too
	client string
	called []oauth2.AuthCodeOption // what tells the host how to call the sign-in
	http   *http.Client
}

// Token is what a sign-in gives.
type Token struct {
	Access  string
	Refresh string    // "" where the host gives none
	Ends    time.Time // of Access; zero: not told
}

// limited is a client whose answers are bounded, that follows no redirect, and sends
// nothing unencrypted.
func limited(way http.RoundTripper) *http.Client {
	return &http.Client{Timeout: 30 * time.Second, Transport: bounded{way},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

type bounded struct{ under http.RoundTripper }

func (b bounded) RoundTrip(q *http.Request) (*http.Response, error) {
	if !address.Guarded(q.URL.Scheme, q.URL.Host) {
		return nil, fault.New(fault.Refused, "plain http to %s would send secrets unencrypted", text.Excerpt(q.URL.Host, 80))
	}
	r, err := b.under.RoundTrip(q)
	if err == nil {
		r.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(r.Body, most), r.Body}
	}
	return r, err
}

// Discover reads a host's metadata, by a way to it. Every address in them must be of the metadata's
// own origin: a secret goes nowhere else.
func Discover(ctx context.Context, way http.RoundTripper, metadata, client string) (*Server, error) {
	s := &Server{client: client, http: limited(way)}
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, metadata, nil)
	if err != nil {
		return nil, fault.New(fault.Failed, "the address of the sign-in's metadata cannot be read").Because(err)
	}
	at := q.URL.Scheme + "://" + q.URL.Host
	s.origin = at
	r, err := s.http.Do(q)
	if err != nil {
		return nil, unreachable(ctx, at, err)
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK || json.NewDecoder(r.Body).Decode(s) != nil || s.Token == "" {
		return nil, fault.New(fault.Unreachable, "%s does not tell how one signs in there (status %d)", at, r.StatusCode)
	}
	for _, e := range []string{s.Issuer, s.Authorization, s.Token, s.Device, s.Revocation} {
		u, err := url.Parse(e)
		if e != "" && (err != nil || u.Scheme != q.URL.Scheme || u.Host != q.URL.Host) {
			return nil, fault.New(fault.Refused, "%s names a sign-in at another address, and no secret is sent there: %s", at, text.Excerpt(e, 80))
		}
	}
	return s, nil
}

// Call tells what the host is to call the next sign-in in its list: the value of a parameter of its own.
func (s *Server) Call(parameter, name string) {
	s.called = []oauth2.AuthCodeOption{oauth2.SetAuthURLParam(parameter, name)}
}

func (s *Server) config(scopes []string) *oauth2.Config {
	return &oauth2.Config{ClientID: s.client, Scopes: scopes,
		Endpoint: oauth2.Endpoint{AuthURL: s.Authorization, TokenURL: s.Token, DeviceAuthURL: s.Device, AuthStyle: oauth2.AuthStyleInParams}}
}

func (s *Server) context(ctx context.Context) context.Context {
	return context.WithValue(ctx, oauth2.HTTPClient, s.http)
}

func token(t *oauth2.Token) Token {
	return Token{Access: t.AccessToken, Refresh: t.RefreshToken, Ends: t.Expiry.UTC().Truncate(time.Second)}
}

// ByDevice asks for a code, shows it, and waits at the host's pace until the person has
// entered it on the host's page, on this or any other device.
func (s *Server) ByDevice(ctx context.Context, scopes []string, show func(page, code string, until time.Time)) (Token, error) {
	if s.Device == "" {
		return Token{}, fault.New(fault.HostSaidNo, "%s offers no sign-in by a code on another device", s.Issuer)
	}
	ctx = s.context(ctx)
	c := s.config(scopes)
	d, err := c.DeviceAuth(ctx, s.called...)
	if err != nil {
		return Token{}, s.said(ctx, err)
	}
	if page, err := url.Parse(d.VerificationURI); err != nil || page.Scheme+"://"+page.Host != s.origin {
		return Token{}, fault.New(fault.Refused, "%s sends you to a page at another address to sign in: %s", s.origin, text.Excerpt(d.VerificationURI, 80))
	}
	show(d.VerificationURI, d.UserCode, d.Expiry)
	t, err := c.DeviceAccessToken(ctx, d)
	if err != nil {
		return Token{}, s.said(ctx, err)
	}
	return token(t), nil
}

// ByBrowser listens on loopback, has the host's page opened, and takes the code that
// the host sends back by way of the browser.
func (s *Server) ByBrowser(ctx context.Context, scopes []string, open func(page string)) (Token, error) {
	if s.Authorization == "" {
		return Token{}, fault.New(fault.HostSaidNo, "%s offers no sign-in by the browser", s.Issuer)
	}
	ctx = s.context(ctx)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return Token{}, fault.New(fault.Failed, "nothing can be listened on for the browser's answer").Because(err)
	}
	random := make([]byte, 16)
	if _, err := rand.Read(random); err != nil {
		return Token{}, err
	}
	state, verifier := hex.EncodeToString(random), oauth2.GenerateVerifier()
	c := s.config(scopes)
	c.RedirectURL = "http://" + l.Addr().String() + "/back"
	b := &browser{state: state, got: make(chan result, 1), outcome: make(chan error, 1)}
	srv := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: b}
	ended := make(chan error, 1)
	go func() { ended <- srv.Serve(l) }()
	defer func() {
		// The browser has its page by then.
		shut, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		_ = srv.Shutdown(shut)
		<-ended
	}()
	open(c.AuthCodeURL(state, append(s.called, oauth2.S256ChallengeOption(verifier))...))
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	select {
	case <-ctx.Done():
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return Token{}, fault.New(fault.Failed, "the browser did not come back within ten minutes")
		}
		return Token{}, ctx.Err()
	case r := <-b.got:
		if r.err != nil {
			b.outcome <- r.err
			return Token{}, r.err
		}
		t, err := c.Exchange(ctx, r.code, oauth2.VerifierOption(verifier))
		b.outcome <- err
		if err != nil {
			return Token{}, s.said(ctx, err)
		}
		return token(t), nil
	}
}

// result is what the browser brought back: a code, or why there is none.
type result struct {
	code string
	err  error
}

// browser takes what the host sends back by way of the person's browser, and tells the person how
// it came out once that is known.
type browser struct {
	state   string
	got     chan result
	outcome chan error
}

func (b *browser) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	v := q.URL.Query()
	if q.URL.Path != "/back" || v.Get("state") != b.state {
		http.NotFound(w, q) // not the answer to our question
		return
	}
	r := result{code: v.Get("code")}
	if r.code == "" {
		r.err = fault.New(fault.HostSaidNo, "the sign-in was not allowed: %s", text.Excerpt(v.Get("error"), 60))
	}
	select {
	case b.got <- r:
	default: // it was answered before
		http.NotFound(w, q)
		return
	}
	says := "You are signed in. This page can be closed."
	select {
	case err := <-b.outcome: // what the host gave for the code
		if r.err != nil {
			says = "The sign-in was not allowed. This page can be closed."
		} else if err != nil {
			says = "The sign-in did not work; the terminal says why. This page can be closed."
		}
	case <-q.Context().Done():
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = io.WriteString(w, says+"\n") // the browser may be gone

}

// Refresh gives a new access token for a refresh token, and a new refresh token if the
// host rotates them.
func (s *Server) Refresh(ctx context.Context, refresh string) (Token, error) {
	ctx = s.context(ctx)
	t, err := s.config(nil).TokenSource(ctx, &oauth2.Token{RefreshToken: refresh}).Token()
	if err != nil {
		return Token{}, s.said(ctx, err)
	}
	return token(t), nil
}

// Revoke revokes a token (RFC 7009, section 2.1).
func (s *Server) Revoke(ctx context.Context, secret string) error {
	if s.Revocation == "" {
		return fault.New(fault.HostSaidNo, "%s offers no way to take a sign-in back", s.Issuer)
	}
	form := url.Values{"token": {secret}, "client_id": {s.client}}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Revocation, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	q.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	r, err := s.http.Do(q)
	if err != nil {
		return unreachable(ctx, s.Issuer, err)
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return fault.New(fault.HostSaidNo, "%s did not take the sign-in back (status %d)", s.Issuer, r.StatusCode)
	}
	return nil
}

// said turns what the host said (RFC 6749, section 5.2; RFC 8628, section 3.5) into words.
func (s *Server) said(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var f *fault.Fault
	if errors.As(err, &f) {
		return f
	}
	var r *oauth2.RetrieveError
	if !errors.As(err, &r) {
		if errors.Is(err, context.DeadlineExceeded) {
			return fault.New(fault.HostSaidNo, "the code was not entered in time")
		}
		return unreachable(ctx, s.Issuer, err)
	}
	switch r.ErrorCode {
	case "access_denied":
		return fault.New(fault.HostSaidNo, "the sign-in was not allowed on %s's page", s.Issuer)
	case "expired_token":
		return fault.New(fault.HostSaidNo, "the code was not entered in time")
	case "invalid_grant":
		return fault.New(fault.HostSaidNo, "the sign-in is over: %s does not renew it", s.Issuer)
	}
	out := fault.New(fault.HostSaidNo, "%s refused the sign-in", s.Issuer)
	if r.ErrorCode != "" {
		out.Detail("It says: %s", text.Excerpt(fmt.Sprint(r.ErrorCode, " ", r.ErrorDescription), 160))
	} else if r.Response != nil {
		out = fault.New(fault.Unreachable, "%s answers with status %d when asked to sign in", s.Issuer, r.Response.StatusCode)
	}
	return out
}

func unreachable(ctx context.Context, at string, err error) error {
	var f *fault.Fault
	if errors.As(err, &f) {
		return f
	}
	var whole *url.Error
	if errors.As(err, &whole) {
		err = whole.Err // without the address, in which a secret may be
	}
	return web.Unreachable(ctx, at, err)
}
