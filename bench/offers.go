package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// ofOffers is how many offers to merge a repository has, and fromBranches of how many branches they are.
const (
	ofOffers     = 5000
	fromBranches = 40
)

// offers lists the first page of 5,000 offers, each tried aside, against the same by hand: the page asked for,
// one git fetch of the branches on it, and git merge-tree for each.
func (b *bench) offers(pairs int) error {
	ctx := context.Background()
	dir, hand := filepath.Join(b.top, "offered"), filepath.Join(b.top, "offered-by-hand")
	git := func(args ...string) error {
		return b.command(dir, "", "git", append([]string{"-c", "user.name=Tern", "-c", "user.email=tern@saltmarsh.example"}, args...)...)
	}
	if err := b.command(b.top, "", "git", "init", "-q", "-b", "main", dir); err != nil {
		return err
	}
	write := func(name, says string) error { return os.WriteFile(filepath.Join(dir, name), []byte(says), 0o600) }
	for i := range 200 {
		if err := write(fmt.Sprintf("gauge-%03d.csv", i), strings.Repeat(fmt.Sprintf("station,%d\n", i), 200)); err != nil {
			return err
		}
	}
	err := errors.Join(git("add", "-A"), git("commit", "-q", "-m", "First"))
	if err == nil {
		err = b.command(dir, "", b.program, "attach", "--yes", "--name", "offered")
	}
	if err == nil {
		err = b.command(b.top, "", b.program, "clone", "tern/offered", hand)
	}
	for i := 0; err == nil && i < fromBranches; i++ {
		name := fmt.Sprintf("gauge-%03d", i)
		err = errors.Join(git("switch", "-q", "-c", name, "main"), write(name+".csv", name+"\n"), git("commit", "-q", "-a", "-m", name), git("push", "-q", "origin", name))
	}
	if err = errors.Join(err, git("switch", "-q", "main")); err != nil {
		return err
	}
	for i := range fromBranches { // neither knows them yet
		name := fmt.Sprintf("gauge-%03d", i)
		err = errors.Join(err, git("branch", "-q", "-D", name), git("update-ref", "-d", "refs/remotes/origin/"+name))
	}
	r, look := b.host.Store.Find("tern", "tern", "offered")
	if err = errors.Join(err, look); err != nil {
		return err
	}
	if err := errors.Join(git("reflog", "expire", "--expire=now", "--all"), git("gc", "-q", "--prune=now"), b.host.Store.FillOffers(ctx, r.ID, "knot", ofOffers)); err != nil {
		return err
	}
	var slowest time.Duration
	if err := compare("offer list, 5,000 offers, the first page tried aside", "3", pairs, func(int) error {
		hidden := func(what string) error { return os.RemoveAll(filepath.Join(hand, ".git", what)) }
		return errors.Join(hidden("refs/seen"), hidden("FETCH_HEAD"), b.command(hand, "", "git", "gc", "-q", "--prune=now"), os.RemoveAll(filepath.Join(dir, ".git/uncinate/seen.git")), os.RemoveAll(filepath.Join(b.top, "home/state/answers")))
	}, func(int) error {
		began := time.Now()
		c := exec.Command(b.program, "offer", "list")
		c.Dir, c.Env = dir, b.env
		out, err := c.CombinedOutput()
		if err == nil && strings.Count(string(out), "clean") < 20 {
			err = errors.New("not all were tried")
		}
		if err != nil {
			return fmt.Errorf("offer list: %w: %s", err, out)
		}
		slowest = max(slowest, time.Since(began))
		return nil
	}, func(int) error { return b.offersByHand(hand) }); err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "offer list: slowest %.2f s (bound: 1 s)\n", slowest.Seconds())
	if slowest > time.Second {
		return errors.New("offer list is over its bound")
	}
	return nil
}

// offersByHand is the same with a request and plain git.
func (b *bench) offersByHand(dir string) error {
	q, err := http.NewRequest("GET", b.host.URL+"/deck/parleys/tern/offered?stands=held&many=20", nil)
	if err == nil {
		q.Header.Set("Gannet-Token", b.token)
	}
	var page struct {
		Items []struct{ Tip, Branch string }
	}
	if err := ask(q, err, &page); err != nil {
		return err
	}
	words := []string{"fetch", "-q", "origin", "main"}
	for _, o := range page.Items {
		words = append(words, "+refs/heads/"+o.Branch+":refs/seen/"+o.Branch)
	}
	if err := b.command(dir, "", "git", words...); err != nil {
		return err
	}
	for _, o := range page.Items {
		if err := b.command(dir, "", "git", "merge-tree", "--write-tree", "FETCH_HEAD", o.Tip); err != nil {
			return err
		}
	}
	return nil
}
