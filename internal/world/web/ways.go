package web

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/gitconfig"
	"uncinate/internal/core/gitnet"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// ways sends each request as the person's own git would go to its address: by the same certificates and proxy, with the
// same headers.
type ways struct {
	ask   func(ctx context.Context) ([]gitconfig.Setting, error) // for git's settings, once; nil where there are none
	asked sync.Once
	all   []gitconfig.Setting

	mu   sync.Mutex
	made map[string]*http.Transport
}

// As lets the client go as the person's own git does; ask gives git's settings, and is asked once, if at all.
func (c *Client) As(ask func(ctx context.Context) ([]gitconfig.Setting, error)) { c.ways.ask = ask }

// Transport is how the client goes to any address, for other clients.
func (c *Client) Transport() http.RoundTripper { return c.http.Transport }

// RoundTrip sends a request.
func (w *ways) RoundTrip(q *http.Request) (*http.Response, error) {
	w.asked.Do(func() {
		if w.ask != nil {
			w.all, _ = w.ask(q.Context()) // without git, or its settings, there is none of them
		}
	})
	s := gitnet.Of(w.all, q.URL, os.Getenv)
	proxy, from := s.ProxyFor(q.URL, os.Getenv)
	t, err := w.transport(s, proxy, from)
	if err != nil {
		return nil, err
	}
	for _, h := range s.Headers {
		name, value, found := strings.Cut(h, ":")
		if found && q.Header.Get(name) == "" {
			q.Header.Set(strings.TrimSpace(name), strings.TrimSpace(value))
		}
	}
	r, err := t.RoundTrip(q)
	if err != nil && proxy != "" && q.Context().Err() == nil {
		return nil, &proxyError{proxy: withoutSecret(proxy), from: from, under: err}
	}
	return r, err
}

// proxyError is that of a request by way of a proxy.
type proxyError struct {
	proxy, from string
	under       error
}

func (p *proxyError) Error() string { return p.under.Error() }

// Beyond reports whether a request failed by what git can do on its way and this client cannot: to ask the person's own
// helpers for a proxy's password, or for that of a certificate's key (gitcredentials documentation).
func Beyond(err error) bool {
	var p *proxyError
	return errors.As(err, &p) && strings.Contains(p.Error(), http.StatusText(http.StatusProxyAuthRequired)) || errors.Is(err, errClosedKey)
}

var errClosedKey = errors.New("the key of a certificate wants a password")

// withoutSecret is a proxy's address as it may be shown.
func withoutSecret(proxy string) string {
	u, err := url.Parse(proxy)
	if err != nil || u.Host == "" {
		return "(an address that cannot be read)"
	}
	return text.Visible(u.Scheme + "://" + u.Host)
}

// transport makes the way for settings, once.
func (w *ways) transport(s gitnet.Settings, proxy, from string) (*http.Transport, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	id := s.ID() + "\x00" + proxy
	if t := w.made[id]; t != nil {
		return t, nil
	}
	t := &http.Transport{TLSHandshakeTimeout: 10 * time.Second, MaxIdleConnsPerHost: 20, MaxResponseHeaderBytes: 64 << 10,
		TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: s.Unverified}, ForceAttemptHTTP2: true}
	if proxy != "" {
		at, err := proxyAddress(proxy)
		if err != nil {
			return nil, fault.New(fault.Failed, "the proxy that %s names cannot be used: %s", from, err.Error())
		}
		t.Proxy = http.ProxyURL(at)
	}
	var err error
	if t.TLSClientConfig.RootCAs, err = authorities(s); err != nil {
		return nil, err
	}
	if s.Cert != "" {
		key := s.Key
		if key == "" {
			key = s.Cert
		}
		pair, err := tls.LoadX509KeyPair(atHome(s.Cert), atHome(key))
		if err != nil {
			f := fault.New(fault.Failed, "the certificate that git's setting http.sslCert names cannot be used: %s", files.Plain(err)).Because(err)
			if pem, read := files.ReadNamed(atHome(key), 1<<20); read == nil && strings.Contains(string(pem), "ENCRYPTED") {
				f = f.Because(errClosedKey).Detail("Its key has a password, for which only git itself can ask.")
			}
			return nil, f
		}
		t.TLSClientConfig.Certificates = []tls.Certificate{pair}
	}
	w.made[id] = t
	return t, nil
}

// proxyAddress reads a proxy's address as curl does: without a scheme it is http.
func proxyAddress(s string) (*url.URL, error) {
	if !strings.Contains(s, "://") {
		s = "http://" + s
	}
	u, err := url.Parse(s)
	if err != nil || u.Host == "" {
		return nil, fault.New(fault.Failed, "it is not an address")
	}
	switch u.Scheme {
	case "http", "https", "socks5", "socks5h":
		return u, nil
	}
	return nil, fault.New(fault.Failed, "proxies of the kind %s are not known here", text.Quote(text.Excerpt(u.Scheme, 20)))
}

// authorities are those that settings name; nil for the system's.
func authorities(s gitnet.Settings) (*x509.CertPool, error) {
	if s.CAInfo == "" && s.CAPath == "" {
		return nil, nil
	}
	pool := x509.NewCertPool()
	add := func(path string) (bool, error) {
		data, err := files.ReadNamed(path, 16<<20)
		if err != nil {
			return false, fault.New(fault.Failed, "the authorities that git is told to trust cannot be read: %s: %s", text.Visible(path), files.Plain(err)).Because(err)
		}
		return pool.AppendCertsFromPEM(data), nil
	}
	if s.CAInfo != "" {
		path := atHome(s.CAInfo)
		if found, err := add(path); err != nil || !found {
			if err == nil {
				err = fault.New(fault.Failed, "there is no certificate in %s, which git is told to trust (http.sslCAInfo)", text.Visible(path))
			}
			return nil, err
		}
	}
	if s.CAPath != "" {
		names, err := files.Names(atHome(s.CAPath))
		if err != nil {
			return nil, err
		}
		for _, n := range names[:min(len(names), 2000)] {
			if _, err := add(filepath.Join(atHome(s.CAPath), n)); err != nil {
				continue // a folder, or not to be read: one of many
			}
		}
	}
	return pool, nil
}

// atHome reads a path of git's configuration (git-config documentation, "pathname").
func atHome(path string) string {
	rest, is := strings.CutPrefix(path, "~/")
	if home, err := os.UserHomeDir(); is && err == nil {
		return filepath.Join(home, rest)
	}
	return path
}
