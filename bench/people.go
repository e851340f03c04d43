package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"uncinate/internal/practice"
)

// ofPeople is how many people a repository has, how many are invited to it, and how many invitations
// and protected branches there are.
const ofPeople = 5000

// people measures lists of 5,000: people with invitations, invitations to oneself, and protected
// branches, against the same pages asked for one after the other.
func (b *bench) people(pairs int) error {
	ctx := context.Background()
	r, err := b.host.Store.Create(ctx, "tern", practice.Repo{Owner: "tern", Name: "crewed", Visibility: "private"})
	if err == nil {
		err = b.host.Store.FillPeople(r.ID, "tern", ofPeople)
	}
	if err != nil {
		return err
	}
	chain := func(path string) error {
		total, after := 0, ""
		for {
			var page struct {
				Items []map[string]any
				Next  string
			}
			q, err := http.NewRequest("GET", b.host.URL+"/deck/"+path+"?many=100&after="+after, nil)
			if err == nil {
				q.Header.Set("Gannet-Token", b.token)
			}
			if err := ask(q, err, &page); err != nil {
				return err
			}
			if total += len(page.Items); page.Next == "" {
				break
			}
			after = page.Next
		}
		if total < ofPeople {
			return fmt.Errorf("the chain gave %d", total)
		}
		return nil
	}
	for _, x := range []struct {
		what  string
		words []string
		pages []string
	}{
		{"access list, 5,000 people, 5,000 invited", []string{"access", "list", "--repository", "tern/crewed", "--most", "50"}, []string{"crew/tern/crewed", "hails/tern/crewed"}},
		{"invitation list, 5,000", []string{"invitation", "list", "--most", "50"}, []string{"hails"}},
		{"repository show, 5,000 protected branches besides", []string{"repository", "show", "tern/crewed"}, []string{"crew/tern/crewed", "hails/tern/crewed", "moorings/tern/crewed"}},
	} {
		var most int64
		var slowest time.Duration
		if err := compare(x.what, "1.5", pairs, func(int) error { return os.RemoveAll(filepath.Join(b.top, "home/state/answers")) }, func(int) error {
			began := time.Now()
			c := exec.Command(b.program, x.words...)
			c.Dir, c.Env = b.top, b.env
			out, err := c.CombinedOutput()
			if err != nil {
				return fmt.Errorf("%v: %w: %s", x.words, err, out)
			}
			most, slowest = max(most, memoryOf(c.ProcessState)), max(slowest, time.Since(began))
			return nil
		}, func(int) error {
			for _, p := range x.pages {
				if err := chain(p); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
		fmt.Fprintf(os.Stderr, "%s: most memory %d MB (bound: 100 MB), slowest %.2f s (bound: 1 s)\n", x.what, most>>10, slowest.Seconds())
		if most>>10 > 100 || slowest > time.Second {
			return fmt.Errorf("%s is over its bound", x.what)
		}
	}
	return nil
}
