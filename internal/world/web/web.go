// Package web sends one HTTP request and reads one bounded answer. It follows no
// redirect to another origin, keeps secrets to the address they belong to, and says
// in plain words why a host cannot be reached.
package web

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"syscall"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Most is the largest answer, in bytes, that is read.
const Most = 8 << 20

// Client sends requests.
type Client struct {
	http *http.Client
	ways *ways
	log  *slog.Logger
}

// New makes a client whose every request, answer included, ends within limit.
func New(limit time.Duration, agent string, log *slog.Logger) *Client {
	ways := &ways{made: map[string]*http.Transport{}}
	c := &http.Client{Timeout: limit, Transport: named{ways, agent}}
	c.CheckRedirect = func(to *http.Request, via []*http.Request) error {
		from := via[0]
		if len(via) >= 5 || from.Method != http.MethodGet || to.URL.Scheme != from.URL.Scheme || to.URL.Host != from.URL.Host {
			return http.ErrUseLastResponse
		}
		return nil
	}
	return &Client{http: c, ways: ways, log: log}
}

// named puts the program's name on each request.
type named struct {
	under http.RoundTripper
	agent string
}

func (n named) RoundTrip(q *http.Request) (*http.Response, error) {
	q.Header.Set("User-Agent", n.agent)
	return n.under.RoundTrip(q)
}

// Do sends a request once. No answer with a status is an error, not even a refusal.
func (c *Client) Do(ctx context.Context, call description.Call) (description.Answer, error) {
	q, err := http.NewRequestWithContext(ctx, call.Method, call.URL, bytes.NewReader(call.Body))
	if err != nil {
		return description.Answer{}, fault.New(fault.Failed, "the request's address cannot be read").Because(err)
	}
	q.Header = call.Header.Clone()
	if q.Header == nil {
		q.Header = http.Header{}
	}
	origin := q.URL.Scheme + "://" + q.URL.Host
	if !address.Guarded(q.URL.Scheme, q.URL.Host) {
		return description.Answer{}, fault.New(fault.Refused, "plain http to %s would send secrets unencrypted", text.Excerpt(q.URL.Host, 80)).
			Detail("Plain http is only taken for this machine's own loopback address. Use the host's https:// address.")
	}
	began := time.Now()
	r, err := c.http.Do(q)
	var whole *url.Error
	if errors.As(err, &whole) {
		err = whole.Err // without the address, in which a secret may be
	}
	if err != nil {
		c.log.Debug("request failed", "method", call.Method, "path", q.URL.Path, "origin", origin)
		return description.Answer{}, Unreachable(ctx, origin, err)
	}
	defer r.Body.Close()
	c.log.Debug("request", "method", call.Method, "origin", origin, "path", q.URL.Path, "status", r.StatusCode, "took", time.Since(began).Round(time.Millisecond))
	body, err := io.ReadAll(io.LimitReader(r.Body, Most+1))
	if err != nil {
		return description.Answer{}, Unreachable(ctx, origin, err)
	}
	if len(body) > Most {
		return description.Answer{}, fault.New(fault.Unreachable, "the answer of %s is larger than %s, which no answer of its kind is", origin, text.Size(Most))
	}
	if r.StatusCode >= 300 && r.StatusCode < 400 && r.StatusCode != http.StatusNotModified {
		target, _ := url.Parse(r.Header.Get("Location"))
		where := "elsewhere"
		if target != nil && target.Host != "" {
			where = "to " + text.Excerpt(target.Scheme+"://"+target.Host, 80)
		}
		return description.Answer{}, fault.New(fault.Unreachable, "%s redirects %s; a token is never sent along", origin, where)
	}
	return description.Answer{Status: r.StatusCode, Header: r.Header, Body: body}, nil
}

// Cut reports whether an exchange failed because the line was cut: nobody knows then
// whether the host did the work.
func Cut(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET)
}

// Unreachable says why a host cannot be reached.
func Unreachable(ctx context.Context, origin string, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var dns *net.DNSError
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	var proxied *proxyError
	if errors.As(err, &proxied) {
		f := fault.New(fault.Unreachable, "%s cannot be reached by way of the proxy %s, which %s names", origin, proxied.proxy, proxied.from).Because(err)
		if strings.Contains(proxied.Error(), http.StatusText(http.StatusProxyAuthRequired)) {
			return f.Detail("The proxy wants a name and a password.")
		}
		inner := fault.Of(Unreachable(ctx, "the proxy", proxied.under))
		return f.Detail("%s.", strings.ToUpper(inner.Says[:1])+inner.Says[1:])
	}
	why := ""
	var op *net.OpError
	var alert tls.AlertError
	switch {
	case errors.As(err, &op) && op.Op == "remote error" && strings.Contains(op.Err.Error(), "certificate"), errors.As(err, &alert):
		why = "it wants a certificate of whoever comes, and takes none that was shown; git's setting http.sslCert names one"
	case errors.As(err, &dns) && dns.IsNotFound:
		why = "there is no host of that name"
	case errors.As(err, &dns):
		why = "the name service does not answer"
	case errors.Is(err, syscall.ECONNREFUSED):
		why = "nothing listens there (connection refused)"
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH):
		why = "there is no way to it from this network"
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded), os.IsTimeout(err):
		why = "it did not answer in time"
	case errors.As(err, &unknown), errors.As(err, &name), errors.As(err, &invalid):
		why = "its certificate is not one that this machine trusts"
	case errors.As(err, &record):
		why = "it does not speak TLS there"
	case Cut(err):
		why = "the line was cut"
	case strings.Contains(err.Error(), "malformed HTTP"):
		why = "what answers there does not speak HTTP"
	default:
		why = "the request failed"
	}
	return fault.New(fault.Unreachable, "%s cannot be reached: %s", origin, why).Because(err)
}
