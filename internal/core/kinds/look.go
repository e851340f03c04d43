package kinds

import (
	"bytes"
	"path"
	"slices"
	"strings"

	"uncinate/internal/core/made"
	"uncinate/internal/core/text"
)

// Look is what a project's files tell beyond their names. Each function is given a file's place in
// the list, and is asked only where a rule needs it. A nil function tells nothing: then what asks
// for contents goes by the names alone.
type Look struct {
	Begin   func(i int) []byte // the file's first bytes, at most made.Beginning; nil where they cannot be read
	Whole   func(i int) []byte // all of it; nil where it cannot be read or has more than MostWhole bytes
	Tracked func(i int) bool   // git has it already
	Name    string             // of the project's folder
}

// MostWhole is how many bytes of a build's description are read.
const MostWhole = 256 << 10

// begin gives a file's first bytes and whether they are known.
func (s *suggester) begin(i int) ([]byte, bool) {
	if s.look.Begin == nil {
		return nil, false
	}
	head := s.look.Begin(i)
	return head, head != nil
}

func (s *suggester) tracked(i int) bool { return s.look.Tracked != nil && s.look.Tracked(i) }

// fits reports whether a file holds what a rule asks for, as far as that is known.
func (s *suggester) fits(r Rule, i int) bool {
	if len(r.Begins) == 0 && !r.Binary || s.look.Begin == nil {
		return true
	}
	head, ok := s.begin(i)
	if !ok {
		return false // what cannot be read may be work
	}
	if r.Binary {
		return made.Binary(head) || made.Code(head) != ""
	}
	head = bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \t\r\n")
	return len(head) == 0 || slices.ContainsFunc(r.Begins, func(b string) bool { return bytes.HasPrefix(head, []byte(b)) })
}

// compiled reports whether a file is made code.
func (s *suggester) compiled(i int) bool {
	head, ok := s.begin(i)
	return ok && made.Code(head) != ""
}

// compiledFrom are endings of sources of which a compiler makes a program of the same name, or of the name
// of their folder.
var compiledFrom = []string{".c", ".cc", ".cpp", ".cxx", ".go", ".rs", ".zig", ".nim", ".hs", ".ml", ".f90", ".f", ".pas", ".swift", ".d", ".cs", ".adb", ".cr", ".asm", ".s", ".S"}

// takePrograms takes compiled programs that lie beside their sources: of the name of one, of the name of
// a folder that holds some, or of the name that compilers give.
func (s *suggester) takePrograms() {
	named, holding := map[string]bool{}, map[string]bool{}
	for i, n := range s.names {
		if ext := path.Ext(n); slices.Contains(compiledFrom, ext) {
			dir := parent(s.files[i])
			named[strings.TrimSuffix(n, ext)] = true
			holding[text.Either(dir == "", s.look.Name, path.Base(dir))] = true
		}
	}
	if len(named) == 0 {
		return
	}
	for i, n := range s.names {
		stem := strings.TrimSuffix(n, ".exe")
		if stem != "a.out" && (strings.Contains(stem, ".") || !named[stem] && !holding[stem]) || s.out.Taken[i] >= 0 || s.tracked(i) || !s.compiled(i) {
			continue
		}
		s.out.Taken[i] = s.rule(Rule{Pattern: "/" + Escape(s.files[i]), Why: "a program, made by the compiler", Bring: "run the build"})
	}
}

// mostAsked is how many files of a folder are looked into, to tell what it holds.
const mostAsked = 64

// mostly reports whether at least half of a folder's files match one of the patterns or, where
// no pattern is for them, are made code.
func (s *suggester) mostly(f *folder, patterns []string) bool {
	hits, asked := 0, 0
	for _, i := range f.files {
		base := s.names[i]
		if slices.ContainsFunc(patterns, func(p string) bool { ok, _ := path.Match(p, base); return ok }) {
			hits++
		} else if asked < mostAsked && (path.Ext(base) == "" || path.Ext(base) == ".exe") {
			asked++
			if s.compiled(i) {
				hits++
			}
		}
	}
	return hits*2 >= len(f.files)
}

// higher are the endings from which each of these is made, by a compiler or a bundler.
var higher = map[string][]string{
	".js": {".ts", ".tsx", ".mts", ".cts", ".jsx", ".coffee", ".vue", ".svelte"}, ".mjs": {".ts", ".mts", ".tsx"}, ".cjs": {".ts", ".cts", ".tsx"},
	".css": {".scss", ".sass", ".less", ".styl", ".pcss"}, ".html": {".pug", ".jade", ".hbs", ".njk", ".ejs", ".md", ".haml"},
}

// copied are endings of what a bundler takes over as it is.
var copied = []string{".html", ".htm", ".css", ".svg", ".png", ".jpg", ".jpeg", ".gif", ".webp", ".ico", ".woff", ".woff2", ".ttf", ".json", ".txt", ".xml", ".md"}

// builtNames are names that only a build gives.
var builtNames = []string{"*.js.map", "*.css.map", "*.mjs.map", "*.cjs.map", "*.d.ts.map", "*.min.js", "*.min.css", "*.chunk.js", "*.LICENSE.txt", "*.tsbuildinfo", "*.wasm", "*.d.mts", "*.d.cts"}

// built reports whether a folder holds what a build of scripts wrote: at least half of it shows that,
// it has sources elsewhere at or below root, and git tracks nothing of it.
func (s *suggester) built(f *folder, root string) bool {
	hits, asked := 0, 0
	for _, i := range f.files {
		base := s.names[i]
		ext := path.Ext(base)
		switch {
		case s.tracked(i):
			return false
		case slices.ContainsFunc(builtNames, func(p string) bool { ok, _ := path.Match(p, base); return ok }), made.Hashed(base), s.fromElsewhere(f, i, ext):
			hits++
		case asked < mostAsked && (ext == ".js" || ext == ".mjs" || ext == ".cjs" || ext == ".css" || ext == ""):
			asked++
			if head, ok := s.begin(i); ok && (made.Written(head) || made.Code(head) != "") {
				hits++
			}
		}
	}
	return hits > 0 && hits*2 >= len(f.files) && s.hasSources(f, root)
}

// fromElsewhere reports whether a file of a folder has a source outside it, or is there a second time.
func (s *suggester) fromElsewhere(f *folder, i int, ext string) bool {
	base := s.names[i]
	stem := strings.TrimSuffix(base, ext)
	want := higher[ext]
	if declared, ok := strings.CutSuffix(stem, ".d"); ok && (ext == ".ts" || ext == ".mts" || ext == ".cts") {
		stem, want = declared, []string{".ts", ".tsx", ".mts", ".cts", ".js", ".jsx", ".vue"}
	}
	if slices.Contains(copied, ext) {
		want = append([]string{ext}, want...)
	}
	for _, e := range want {
		for _, at := range s.placesByName()[stem+e] {
			if !strings.HasPrefix(s.files[at], f.path+"/") && !s.inTaken(s.files[at]) {
				return true
			}
		}
	}
	return false
}

// placesByName gives the places of the files of each name.
func (s *suggester) placesByName() map[string][]int {
	if s.everyName == nil {
		s.everyName = make(map[string][]int, len(s.names))
		for i, n := range s.names {
			s.everyName[n] = append(s.everyName[n], i)
		}
	}
	return s.everyName
}

// sources are endings of what a person writes for a build of scripts.
var sources = []string{".js", ".jsx", ".mjs", ".cjs", ".ts", ".tsx", ".mts", ".cts", ".vue", ".svelte", ".coffee", ".scss", ".sass", ".less", ".css", ".html"}

// hasSources reports whether something is at or below root from which a folder can have been made, besides
// the settings of the tools.
func (s *suggester) hasSources(f *folder, root string) bool {
	for i, p := range s.files {
		if below(p, []string{root}) && !strings.HasPrefix(p, f.path+"/") && slices.Contains(sources, path.Ext(p)) &&
			!strings.Contains(s.names[i], ".config.") && !strings.HasSuffix(p, ".d.ts") && !s.inTaken(p) {
			return true
		}
	}
	return false
}
