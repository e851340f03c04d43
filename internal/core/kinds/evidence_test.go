package kinds

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// elf begins as a compiled program does.
const elf = "\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00"

// tree is a project as files with what they hold; taken gives the files that are left out, each with the rule.
func taken(t *testing.T, name string, tracked []string, tree map[string]string) (map[string]string, Suggestion) {
	t.Helper()
	files := slices.Sorted(maps.Keys(tree))
	s := Suggest(catalogue(t), files, nil, Look{
		Begin:   func(i int) []byte { return []byte(tree[files[i]]) },
		Whole:   func(i int) []byte { return []byte(tree[files[i]]) },
		Tracked: func(i int) bool { return slices.Contains(tracked, files[i]) },
		Name:    name,
	})
	out := map[string]string{}
	for i, f := range files {
		if n := s.Taken[i]; n >= 0 {
			out[f] = s.Rules[n].Pattern
		}
	}
	return out, s
}

func TestWhatFilesHold(t *testing.T) {
	got, _ := taken(t, "gauge", nil, map[string]string{
		"hull.c": "", "hull.obj": "v 1.0 2.0 3.0\n", "ship.c": "", "ship.obj": "L\x01\x02\x00\x00\x00",
		"levels.tex": "", "levels.log": "3 March: the pier's gauge was stuck\n", "plan.tex": "", "plan.log": "This is some engine, Version 3\n", "plan.aux": "\\relax \n", "plan.toc": "",
		"gauge.pro": "", "gauge.pro.user": "<xml/>", "alone.user": "x", "part/.idea/workspace.xml": "", "part/.idea/modules.xml": "", "nb/nbproject/private/p.xml": "", "nb/nbproject/project.xml": "", "a.suo": "\x00\x01", "tales.suo": "once upon a time",
	})
	assert.Equal(t, map[string]string{"ship.obj": "/ship.obj", "plan.log": "/plan.log", "plan.aux": "*.aux", "plan.toc": "*.toc", "gauge.pro.user": "/gauge.pro.user",
		"part/.idea/workspace.xml": "/part/.idea/workspace.xml", "nb/nbproject/private/p.xml": "/nb/nbproject/private/", "a.suo": "/a.suo"}, got)
}

func TestPrograms(t *testing.T) {
	got, _ := taken(t, "almanac", nil, map[string]string{
		"Cargo.toml": "", "src/main.rs": "", "target/release/gauge": elf, "tools/level.c": "", "tools/level": elf, "tools/notes": "level", "cmd/buoy/main.go": "", "buoy": elf, "almanac.go": "", "almanac": elf, "a.out": elf, "firmware/loader": elf, "level": "no program",
	})
	assert.Equal(t, map[string]string{"target/release/gauge": "/target/", "tools/level": "/tools/level", "buoy": "/buoy", "almanac": "/almanac", "a.out": "/a.out"}, got, "a program that nothing here makes may be work")
}

func TestWhatStepsSay(t *testing.T) {
	makefile := "PROG := gauge\nOBJS = main.o \\\n  level.o\nHERE ?= /etc\n.PHONY: clean\nall: $(PROG)\n\tcc -o tools/probe probe.c\nclean:\n\t-@$(RM) $(PROG) ${OBJS} *.lst $(UNKNOWN) ../up.txt $(HERE) *\n\trm -rf 'out' doc/html ~ / . sub\n\tcd elsewhere && rm -f a.txt\nmaintainer-clean:\n\trm -f configure\nview:\n\trm -f kept.txt\n"
	got, _ := taken(t, "x", []string{"out2/a"}, map[string]string{
		"Makefile": makefile, "gauge": "text", "main.o": "", "a.lst": "", "part/b.lst": "", "out/x": "", "doc/html/i.html": "", "doc/plan.md": "", "a.txt": "", "kept.txt": "", "configure": "", "etc/x": "", "up.txt": "",
		"sub/Makefile": "clean:\n\trm -f here.txt\n", "sub/here.txt": "", "here.txt": "", "tools/probe": elf, "tools/data": "x", "README": "",
	})
	assert.Equal(t, map[string]string{"gauge": "/gauge", "main.o": "/main.o", "a.lst": "/*.lst", "out/x": "/out/", "doc/html/i.html": "/doc/html/", "sub/here.txt": "/sub/here.txt", "tools/probe": "/tools/probe"}, got)

	page := map[string]string{
		"package.json": `{"main": "lib/index.js", "scripts": {"build": "tool src -d lib && pack src/app.ts --outfile=www/app.js", "clean": "rimraf tmp ../up && rm -rf $OUT"}}`,
		"src/index.ts": "", "src/app.ts": "", "lib/index.js": "exports.__esModule = true", "lib/app.js": "var a", "www/app.js": "var a", "tmp/x": "", "dist/assets/app-4f3a9b1c.js": "", "dist/index.html": "", "index.html": "", "build/plan.md": "", "test/index.js": "",
	}
	got, s := taken(t, "page", nil, page)
	assert.Equal(t, map[string]string{"lib/index.js": "/lib/", "lib/app.js": "/lib/", "www/app.js": "/www/", "tmp/x": "/tmp/", "dist/assets/app-4f3a9b1c.js": "/dist/", "dist/index.html": "/dist/"}, got)
	assert.Equal(t, []string{"node_modules/"}, patterns(s.Ahead))
	got, _ = taken(t, "page", []string{"lib/app.js", "tmp/x"}, page)
	assert.NotContains(t, got, "lib/index.js", "what git carries of a folder shows that it is work")
	assert.NotContains(t, got, "tmp/x")
	got, _ = taken(t, "hand", nil, map[string]string{"package.json": `{"main": "lib/index.js", "scripts": {"build": "mk lib -o dist/y.js", "clean": "rm -rf dist"}}`, "lib/index.js": "module.exports = 1", "test/index.js": ""})
	assert.Empty(t, got)
	got, _ = taken(t, "packed", nil, map[string]string{"package.json": `{"scripts": {"build": "x", "clean": "rm -rf dist"}}`, "dist/index.js.map": "", "dist/index.min.js": "", "README.md": ""})
	assert.Empty(t, got, "there is nothing that it could be made from again")
	for _, broken := range []string{"{", "[]", `{"scripts": []}`, "clean:\n\trm -rf $(A\nA=$(A)", "B=" + strings.Repeat("$(B)", 1000) + "\nA=" + strings.Repeat("$(B)", 50_000) + "\nclean:\n\trm $(A)\n", "x: ;rm a\n\trm", "clean: ; rm -f [z\n"} {
		got, _ = taken(t, "x", nil, map[string]string{"package.json": broken, "Makefile": broken, "a": "", "dist/x.min.js": ""})
		assert.Empty(t, got, broken)
	}
}

func TestRulesAhead(t *testing.T) {
	for name, c := range map[string]struct{ files, want []string }{
		"Rust":                          {[]string{"Cargo.toml", "src/main.rs"}, []string{"/target/"}},
		"Rust in a folder":              {[]string{"gauge/Cargo.toml", "gauge/src/main.rs"}, []string{"/gauge/target/"}},
		"C":                             {[]string{"a.c"}, []string{"*.o"}},
		"Python":                        {[]string{"a.py"}, []string{"__pycache__/"}},
		"a target that is work":         {[]string{"Cargo.toml", "src/main.rs", "target/aim.md"}, nil},
		"nothing of any kind":           {[]string{"README.md"}, nil},
		"objects that are work":         {[]string{"a.c", "testdata/x.o"}, nil},
		"objects that a rule takes now": {[]string{"a.c", "build/a.o"}, []string{"*.o"}},
	} {
		assert.Equal(t, c.want, patterns(Suggest(catalogue(t), c.files, nil, Look{}).Ahead), name)
	}
}
