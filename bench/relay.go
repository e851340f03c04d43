package main

import (
	"errors"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// relay puts a host further away: what passes it comes out after a while, in both
// directions, in the order in which it came and as fast as it came.
type relay struct {
	net.Listener
	to    string
	delay atomic.Int64 // in each direction, in nanoseconds
}

func newRelay(to string) (*relay, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	r := &relay{Listener: l, to: to}
	go r.serve()
	return r, nil
}

func (r *relay) serve() {
	for {
		near, err := r.Accept()
		if err != nil {
			return // it was closed
		}
		far, err := net.Dial("tcp", r.to)
		if err != nil {
			_ = near.Close() // the caller meets the end of its connection
			continue
		}
		var both sync.WaitGroup
		both.Go(func() { r.pass(far, near) })
		both.Go(func() { r.pass(near, far) })
		go func() {
			both.Wait()
			_ = errors.Join(near.Close(), far.Close()) // both have ended
		}()
	}
}

// pass carries one direction.
func (r *relay) pass(to, from net.Conn) {
	type part struct {
		data []byte
		due  time.Time
	}
	parts := make(chan part, 1024)
	go func() {
		defer close(parts)
		for {
			data := make([]byte, 32<<10)
			n, err := from.Read(data)
			if n > 0 {
				parts <- part{data[:n], time.Now().Add(time.Duration(r.delay.Load()))}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range parts {
		time.Sleep(time.Until(p.due))
		if _, err := to.Write(p.data); err != nil {
			_ = from.Close() // so that the reader ends
			break
		}
	}
	for range parts {
	}
	if half, ok := to.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite() // the other side may have gone
	}
}
