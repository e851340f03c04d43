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
		groups = append(groups, "saltmarsh/gauges") // petrel's groups may be in one another
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
	for name, write := range map[string]func(string) error{"gauge-firmware": gaugeFirmware, "inlet-board": inletBoard, "tide-almanac": tideAlmanac, "mooring-drawings": mooringDrawings} {
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

// inletBoard writes a small static site.
func inletBoard(dir string) error {
	return put(dir, map[string]string{
		"README.md":            "# inlet-board\n\nThe board at the harbour: invented levels, shown large.\n",
		"site/index.html":      "<!doctype html><title>Harbour board</title><h1>Pier: 3.41 m, rising</h1>\n",
		"site/board.css":       "h1 { font-size: 8vw }\n",
		"make-page.sh":         "# Makes the page that is shown: the board, and when it was made of which commit.\nset -e\nmkdir -p public\ncp site/board.css public/\nsed \"s|</h1>|</h1><p>${UNCINATE_COMMIT:-not sent yet}</p>|\" site/index.html >public/index.html\n",
		"check-page.sh":        "# Looks whether the page can be shown. It fails when it is told to: by a file named fail.\nif [ -e fail ]; then echo \"told to fail: $(cat fail)\"; exit 1; fi\ngrep -q '<h1>' public/index.html\n",
		"uncinate-deploy.toml": "# What a server does that follows this repository.\nlasting = [\"levels/\"]\n\n[[task]]\ndo     = [\"sh\", \"make-page.sh\"]\nwithin = \"1m\"\n\n[[task]]\ndo = [\"sh\", \"check-page.sh\"]\n",
	})
}

// tideAlmanac writes data tables and scripts, a local settings file that holds what
// looks like a token, and a file with this machine's own paths. Nothing in it opens
// anything.
func tideAlmanac(dir string) error {
	files := map[string]string{
		"README.md":          "# tide-almanac\n\nTables of invented tides, made once a year.\n",
		"scripts/almanac.py": "\"\"\"Makes the tables of a year.\"\"\"\nimport sys\n\n\ndef level(hour):\n    return 2.1 + 1.3 * ((hour % 12) / 12)\n\n\nif __name__ == \"__main__\":\n    for hour in range(int(sys.argv[1])):\n        print(hour, round(level(hour), 2))\n",
		"scripts/__pycache__/almanac.cpython-311.pyc": "\xa7\r\r\n\x00\x00\x00\x00compiled again at each run",
		"config/stations.toml":                        "# Invented stations.\n[pier]\ndatum = 1.84\n[skerry]\ndatum = 2.02\n",
		"config/settings.local.toml":                  "# This computer's own settings.\nuser  = \"tern\"\nstation_token = \"plunge~demo4e7a91c05bd2f8836aa1\"\n",
		"config/places.toml":                          "# Where the tables are.\ntables  = " + fmt.Sprintf("%q", filepath.ToSlash(filepath.Join(dir, "tables"))) + "\nscripts = " + fmt.Sprintf("%q", filepath.ToSlash(filepath.Join(dir, "scripts"))) + "\n",
	}
	for month := range 12 {
		var b strings.Builder
		b.WriteString("day,high,low\n")
		for day := range 28 {
			fmt.Fprintf(&b, "%d,%.2f,%.2f\n", day+1, 3.4+float64((day*7+month*3)%11)/10, 0.4+float64((day*5+month)%9)/10)
		}
		files[fmt.Sprintf("tables/2025-%02d.csv", month+1)] = b.String()
	}
	return put(dir, files)
}

// mooringDrawings writes drawings in an invented binary form, one of them large.
func mooringDrawings(dir string) error {
	drawing := func(name string, size int) string {
		b := make([]byte, size)
		copy(b, "AC1032\x00"+name)
		state := uint32(len(name))*2654435761 + 1
		for i := 64; i < size; i++ {
			state = state*1664525 + 1013904223
			b[i] = byte(state >> 24)
		}
		return string(b)
	}
	return put(dir, map[string]string{
		"README.md":            "# mooring-drawings\n\nMoorings of an invented harbour.\n",
		"plans/pier.dwg":       drawing("pier", 300_000),
		"plans/pier.bak":       drawing("pier, as it was", 290_000),
		"plans/pier.dwl":       "tern\npier\n",
		"plans/skerry.dwg":     drawing("skerry", 450_000),
		"survey/harbour.dwg":   drawing("harbour", 12_000_000),
		"survey/soundings.csv": "station,depth\npier,4.1\nskerry,7.8\n",
	})
}
