package main

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"uncinate/internal/practice"
)

// rings measures what a flood of 1,000 web hook calls a second costs the follower that they ring, in parts of one core:
// calls that are wrong, and ones that are the host's.
func (b *bench) rings() error {
	if _, err := b.host.Store.Create(context.Background(), "tern", practice.Repo{Owner: "tern", Name: "rung", Visibility: "private"}); err != nil {
		return err
	}
	at, err := freeAddress()
	if err != nil {
		return err
	}
	dir := filepath.Join(b.top, "rung")
	for _, c := range [][]string{{"git", "init", "-q", "-b", "main", dir}, {"git", "-C", dir, "-c", "user.name=tern", "-c", "user.email=tern@gannet.example", "commit", "-q", "--allow-empty", "-m", "First"},
		{b.program, "attach", "--yes", "--to", "tern/rung", dir},
		{b.program, "deploy", "make", "tern/rung", filepath.Join(b.top, "rung-live"), "--over", "https", "--yes"}, {b.program, "deploy", "hook", "rung-live", "--at", "http://" + at + "/rung-live", "--yes"}} {
		if err := b.command(b.top, "", c[0], c[1:]...); err != nil {
			return err
		}
	}
	bells, err := b.host.Store.Bells("tern", "tern", "rung")
	if err != nil || len(bells) != 1 {
		return fmt.Errorf("there are %d bells: %w", len(bells), err)
	}
	watch := exec.Command(b.program, "deploy", "watch", "--every", "1h", "--listen", at)
	watch.Dir, watch.Env = b.top, b.env
	if err := watch.Start(); err != nil {
		return err
	}
	time.Sleep(2 * time.Second)
	for _, x := range []struct{ what, secret string }{{"1,000 wrong web hook calls a second, of one core", "of somebody else's"}, {"1,000 right ones a second, of one core", bells[0].Secret}} {
		before := cpuOf(watch.Process.Pid)
		const long = 5
		sent := flood(at, x.secret, long)
		share := (cpuOf(watch.Process.Pid) - before).Seconds() / long
		fmt.Printf("| %s | %.3f s | %d calls | %.2f | 0.25 |\n", x.what, share*long, sent, share)
		if share > 0.25 {
			err = fmt.Errorf("%s: %.2f", x.what, share)
		}
	}
	if e := watch.Process.Signal(os.Interrupt); e != nil {
		return e
	}
	if e := watch.Wait(); e != nil {
		return e
	}
	return err
}

func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	return l.Addr().String(), l.Close()
}

// flood calls a thousand times a second for so many seconds, each call another one, and gives how many were answered.
func flood(at, secret string, seconds int) (answered int) {
	var mu sync.Mutex
	var work sync.WaitGroup
	client := &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 50, MaxConnsPerHost: 50}}
	tick := time.NewTicker(time.Millisecond)
	defer tick.Stop()
	for i := range seconds * 1000 {
		<-tick.C
		work.Go(func() {
			body := fmt.Appendf(nil, `{"where":"tern/rung","rung":%d}`, i)
			q, err := http.NewRequest(http.MethodPost, "http://"+at+"/rung-live", bytes.NewReader(body))
			if err != nil {
				return
			}
			practice.Sign("gannet", secret, q.Header, body, time.Now())
			if r, err := client.Do(q); err == nil {
				r.Body.Close()
				mu.Lock()
				answered++
				mu.Unlock()
			}
		})
	}
	work.Wait()
	return answered
}

// cpuOf is the time on processors that a process has had (proc(5), /proc/pid/stat), in hundredths of a second.
func cpuOf(id int) time.Duration {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", id))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(data), ") ")
	var user, system int
	fields := strings.Fields(rest)
	if len(fields) < 13 {
		return 0
	}
	if _, err := fmt.Sscan(fields[11]+" "+fields[12], &user, &system); err != nil {
		return 0
	}
	return time.Duration(user+system) * 10 * time.Millisecond
}
