// Package bell listens for web hooks: calls over HTTP on this machine that only ring. What they carry is read within
// bounds to see whether it is signed, and is not used for anything else.
package bell

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// The bounds of what is taken.
const (
	MostBody  = 64 << 10 // bytes of a call
	MostWrong = 100      // wrong calls within a second, above which the others of it are refused unread
	mostOpen  = 64       // connections at a time
)

// Header is that of a call.
type Header = http.Header

// Listener takes calls.
type Listener struct {
	at net.Listener
	// Judge says whether a call to a path is to ring, from its header and body.
	judge func(path string, header Header, body []byte) bool

	mu    sync.Mutex
	since time.Time // the second that is counted
	wrong int
	now   func() time.Time
}

// Listen listens on a loopback address; a proxy in front of it takes calls from elsewhere, encrypted.
func Listen(address string, judge func(path string, header Header, body []byte) bool) (*Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return nil, fault.New(fault.Usage, "%s is not a loopback address with a port, such as 127.0.0.1:8790", text.Quote(text.Excerpt(address, 60))).
			Detail("Calls from elsewhere come by way of a web server in front of it, which encrypts.")
	}
	at, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fault.New(fault.Failed, "%s cannot be listened on", address).Because(err)
	}
	return &Listener{at: at, judge: judge, now: time.Now}, nil
}

// Address is where it listens.
func (l *Listener) Address() string { return l.at.Addr().String() }

// Serve takes calls until the context ends.
func (l *Listener) Serve(ctx context.Context) error {
	s := &http.Server{Handler: l, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second, WriteTimeout: 10 * time.Second, IdleTimeout: 30 * time.Second, MaxHeaderBytes: 16 << 10}
	stop := context.AfterFunc(ctx, func() { _ = s.Close() }) // what is open then is of no interest
	defer stop()
	err := s.Serve(&few{Listener: l.at, full: l.full, open: make(chan struct{}, mostOpen)})
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// full reports whether there were too many wrong calls within this second.
func (l *Listener) full() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now := l.now(); now.Sub(l.since).Abs() >= time.Second {
		l.since, l.wrong = now, 0
	}
	return l.wrong >= MostWrong
}

func (l *Listener) count() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.wrong++
}

// ServeHTTP takes one call.
func (l *Listener) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	refuse := func(code int) {
		w.Header().Set("Connection", "close")
		w.WriteHeader(code)
	}
	switch {
	case l.full():
		refuse(http.StatusTooManyRequests)
		return
	case q.Method != http.MethodPost:
		l.count()
		refuse(http.StatusMethodNotAllowed)
		return
	case q.ContentLength > MostBody:
		l.count()
		refuse(http.StatusRequestEntityTooLarge)
		return
	}
	body, err := io.ReadAll(io.LimitReader(q.Body, MostBody+1))
	switch {
	case err != nil:
		l.count()
		refuse(http.StatusBadRequest)
	case len(body) > MostBody:
		l.count()
		refuse(http.StatusRequestEntityTooLarge)
	case !l.judge(q.URL.Path, q.Header, body):
		l.count()
		refuse(http.StatusForbidden)
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}

// few is a listener that has a bounded number of connections open, and closes those unread that come while it is full.
type few struct {
	net.Listener
	full func() bool
	open chan struct{}
}

func (f *few) Accept() (net.Conn, error) {
	f.open <- struct{}{}
	for {
		c, err := f.Listener.Accept()
		if err != nil {
			<-f.open
			return nil, err
		}
		if !f.full() {
			return &one{Conn: c, done: sync.OnceFunc(func() { <-f.open })}, nil
		}
		if err := c.Close(); err != nil {
			continue // it is gone already
		}
	}
}

// one is a connection that gives its place back.
type one struct {
	net.Conn
	done func()
}

// Close closes it.
func (o *one) Close() error {
	defer o.done()
	return o.Conn.Close()
}
