package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"uncinate/descriptions"
	"uncinate/internal/core/description"
	"uncinate/internal/core/plan"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/practice"
	"uncinate/internal/world/files"
	"uncinate/internal/world/vault"
	"uncinate/internal/world/web"
)

// many is how many repositories a list has, 100 on a page.
const many = 5000

type silent struct{}

func (silent) Step(plan.Item, bool)                  {}
func (silent) Progress(string, int64, int64, string) {}
func (silent) Note(string, ...any)                   {}

// lists measures listing 5,000 repositories from hosts that take 20 ms for each answer,
// against the same pages asked for one after the other.
func (b *bench) lists(pairs int) (err error) {
	for _, c := range []struct {
		host, what, bound string
		chain             func(at, token string) error
	}{
		{"gannet", "list 5,000, by cursor", "1.3", chainGannet},
		{"fulmar", "list 5,000, by number", "0.167", chainFulmar},
	} {
		h, err := practice.Start(c.host, filepath.Join(b.top, "lists-"+c.host), "127.0.0.1:0", nil)
		if err != nil {
			return err
		}
		tokens, err := h.Demo()
		if err == nil {
			err = h.Store.Fill("tern", many)
		}
		if err == nil {
			err = h.Faults.Set([]string{"delay=20ms"})
		}
		if err != nil {
			return errors.Join(err, h.Close())
		}
		own := b.desk(c.host)
		adding, err := hosts.PlanAdd(own, c.host, h.URL, "", func(host string) ([]string, error) { return accounts.NamesOn(own, host) })
		if err == nil {
			_, err = adding.Do(context.Background())
		}
		if err != nil {
			return errors.Join(err, h.Close())
		}
		ctx := context.Background()
		if err := own.Vault.Make(ctx, vault.ByFile, ""); err != nil {
			return errors.Join(err, h.Close())
		}
		if _, _, err := login.AddAccount(ctx, own, accounts.Account{Name: "tern", Host: c.host, User: "tern"}, tokens[0].Secret); err != nil {
			return errors.Join(err, h.Close())
		}
		err = compare(c.what, c.bound, pairs, func(int) error { return os.RemoveAll(filepath.Join(own.Home.State, "answers")) }, func(int) error {
			all, err := login.RepositoriesOf(ctx, own, "tern", "")
			if err == nil && len(all) != many {
				err = fmt.Errorf("%d repositories were listed", len(all))
			}
			return err
		}, func(int) error { return c.chain(h.URL, tokens[0].Secret) })
		if err := errors.Join(err, h.Close()); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) desk(name string) *desk.Desk {
	top := filepath.Join(b.top, "desk-"+name)
	home := files.Home{Top: top, Config: filepath.Join(top, "config"), State: filepath.Join(top, "state"), Vault: filepath.Join(top, "vault"), Run: filepath.Join(top, "run")}
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	return &desk.Desk{Home: home, Vault: vault.At(home.Vault, home.Run, nil), Web: web.New(30*time.Second, "bench", log), Shipped: descriptions.Files, Program: b.program,
		UserHome: top, Now: time.Now, Tell: silent{}, Log: log}
}

// ask sends one request and reads the JSON of its answer.
func ask(q *http.Request, err error, into any) error {
	if err != nil {
		return err
	}
	r, err := http.DefaultClient.Do(q)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	return json.NewDecoder(r.Body).Decode(into)
}

func chainGannet(at, token string) error {
	total, after := 0, ""
	for {
		var page struct {
			Items []map[string]any
			Next  string
		}
		q, err := http.NewRequest("GET", at+"/deck/hulls?many=100&after="+after, nil)
		if err == nil {
			q.Header.Set("Gannet-Token", token)
		}
		if err := ask(q, err, &page); err != nil {
			return err
		}
		if total += len(page.Items); page.Next == "" {
			break
		}
		after = strings.ReplaceAll(page.Next, "/", "%2F")
	}
	if total != many {
		return fmt.Errorf("the chain gave %d", total)
	}
	return nil
}

func chainFulmar(at, token string) error {
	total := 0
	for number := 1; total < many; number++ {
		var page struct {
			Found struct{ Rows []map[string]any }
		}
		q, err := http.NewRequest("POST", at+"/counter", bytes.NewReader(fmt.Appendf(nil, `{"please":"list sheets","with":{"page":%d,"per":100}}`, number)))
		if err == nil {
			q.SetBasicAuth("tern", token)
		}
		if err := ask(q, err, &page); err != nil {
			return err
		}
		if len(page.Found.Rows) == 0 {
			return fmt.Errorf("the chain ended at %d", total)
		}
		total += len(page.Found.Rows)
	}
	return nil
}

// checks measures how long a description of 300 lines takes to be checked.
func checks() error {
	data, err := descriptions.Files.ReadFile("petrel.toml")
	if err != nil {
		return err
	}
	text := string(data)
	for i := 0; strings.Count(text, "\n") < 300; i++ {
		text += fmt.Sprintf("[shape.more%d]\nid = \"$.id\"\nname = \"$.name\"\nowner = \"$.owner\"\n", i)
	}
	var times []float64
	for range 21 {
		began := time.Now()
		if _, mistakes := description.Load([]byte(text)); len(mistakes) > 0 {
			return errors.New(mistakes[0].String())
		}
		times = append(times, time.Since(began).Seconds())
	}
	fmt.Printf("\nchecking a description of 300 lines: %.1f ms (bound: 20 ms)\n", 1000*median(times))
	return nil
}
