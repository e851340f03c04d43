package practice

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// DemoToken is a token of the demo, whose secret is shown once.
type DemoToken struct {
	User, Secret string
	Scopes       []string
	Expires      time.Time
}

// Demo puts the demo scenario's users and groups into a practice host, and makes a new
// token for each user, good for a year.
func (r *Running) Demo() ([]DemoToken, error) {
	var tokens []DemoToken
	st := r.Store
	year := st.now().AddDate(1, 0, 0).UTC().Truncate(24 * time.Hour)
	at := "@" + r.Name + ".example"
	users := []User{{Name: "tern", FullName: "Tern of Saltmarsh", MailConfirmed: true}, {Name: "knot", FullName: "Knot of Saltmarsh", MailConfirmed: true}, {Name: "dunlin", FullName: "Dunlin"}}
	if r.Name == "gannet" {
		users = slices.Insert(users, 1, User{Name: "tern-own", FullName: "Tern", MailConfirmed: true})
	}
	for _, u := range users {
		u.Email = u.Name + at
		if err := st.AddUser(u); err != nil {
			return nil, err
		}
		token, err := r.NewToken(u.Name, year)
		if err != nil {
			return nil, err
		}
		tokens = append(tokens, token)
	}
	groups := []string{"saltmarsh"}
	if r.Name == "petrel" {
		groups = append(groups, "saltmarsh/gauges") // petrel's groups may lie in one another
	}
	for _, g := range groups {
		if err := st.AddGroup(Group{Name: g, Members: map[string]int{"tern": Admin, "knot": Write, "dunlin": Read}}); err != nil {
			return nil, err
		}
	}
	return tokens, nil
}

// NewToken makes a token with all scopes for a demo user.
func (r *Running) NewToken(user string, until time.Time) (DemoToken, error) {
	prefix, scopes := r.face.token()
	secret, err := r.Store.NewToken(prefix, user, scopes, until)
	return DemoToken{User: user, Secret: secret, Scopes: scopes, Expires: until}, err
}

// WriteProjects writes the demo projects into a folder. All contents are invented.
func WriteProjects(dir string) error {
	for name, write := range map[string]func(string) error{"gauge-firmware": gaugeFirmware, "harbour-board": harbourBoard} {
		if err := write(filepath.Join(dir, name)); err != nil {
			return err
		}
	}
	return nil
}

func put(dir string, contents map[string]string) error {
	for name, text := range contents {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// gaugeFirmware writes C sources and a build folder with some 2,000 generated files.
func gaugeFirmware(dir string) error {
	files := map[string]string{
		"README.md": "# gauge-firmware\n\nReads an invented tide gauge and reports the level.\n",
		"Makefile":  "build/gauge: $(wildcard src/*.c)\n\tcc -o $@ $^\n",
	}
	parts := []string{"level", "clock", "radio", "battery", "store", "report", "filter", "station"}
	for i, part := range parts {
		for j := range 7 {
			name := fmt.Sprintf("%s_%d", part, j+1)
			files["src/"+name+".c"] = fmt.Sprintf("/* %s, part %d */\n#include \"%s.h\"\n\nint %s(int reading) {\n%s\treturn reading - %d;\n}\n",
				part, j+1, part, name, strings.Repeat("\treading += reading >> 3;\n", 20+j*9), i+j)
			files["build/"+name+".o"] = strings.Repeat(fmt.Sprintf("\x7fobject %s ", name), 40)
		}
		files["src/"+part+".h"] = fmt.Sprintf("#pragma once\n/* %s */\nint %s_1(int reading);\n", part, part)
	}
	for i := range 1950 {
		files[fmt.Sprintf("build/units/%02d/unit%04d.o", i/100, i)] = fmt.Sprintf("\x7fobject unit %d\n%s", i, strings.Repeat("\x00\x01", 300))
	}
	return put(dir, files)
}

// harbourBoard writes a small static site.
func harbourBoard(dir string) error {
	return put(dir, map[string]string{
		"README.md":       "# harbour-board\n\nThe board at the harbour: invented levels, shown large.\n",
		"site/index.html": "<!doctype html><title>Harbour board</title><h1>Quay: 3.41 m, rising</h1>\n",
		"site/board.css":  "h1 { font-size: 8vw }\n",
	})
}
