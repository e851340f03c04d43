package kinds

import (
	"encoding/json"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
)

// claim is what a project's own description of its build says of a path: that a step removes it, or
// that one writes it.
type claim struct {
	path    string // from the top; its last part may be a pattern
	removed bool
	why     string
	root    string
	scripts bool // by a package.json
}

// mostDescriptions is how many descriptions of builds are read.
const mostDescriptions = 200

// descriptions are the files of which what they say is made is read.
var descriptions = []string{"Makefile", "makefile", "GNUmakefile", "package.json", "tsconfig.json", "tsconfig.build.json"}

// takeDeclared takes what the project's own build says to be made: what its clean step removes, and
// what a step writes, where its contents show that. What git tracks is never among it.
func (s *suggester) takeDeclared() {
	var all []claim
	read := 0
	for _, name := range descriptions {
		for _, i := range s.bases[name] {
			if s.look.Whole == nil || s.out.Taken[i] >= 0 || s.inTaken(s.files[i]) || read == mostDescriptions {
				continue
			}
			read++
			root := parent(s.files[i])
			data := string(s.look.Whole(i))
			switch path.Ext(name) {
			case ".json":
				if name == "package.json" {
					all = append(all, ofScripts(root, data)...)
				} else {
					all = append(all, ofCompiler(root, name, data)...)
				}
			default:
				all = append(all, ofMakefile(root, name, data)...)
			}
		}
	}
	for _, c := range all {
		s.takeClaim(c)
	}
}

func (s *suggester) takeClaim(c claim) {
	if f := s.folders[c.path]; f != nil {
		switch {
		case f.taken || s.inTaken(f.path):
		case slices.ContainsFunc(f.files, s.tracked):
		case c.removed && !s.holdsBuild(f) && (!c.scripts || s.hasSources(f, c.root)) || s.built(f, c.root):
			s.take(f, Rule{Pattern: "/" + Escape(f.path) + "/", Why: c.why, Bring: "run the build"})
		}
		return
	}
	base := path.Base(c.path)
	ending := path.Ext(base)
	for _, i := range s.places(c.path) {
		if s.out.Taken[i] >= 0 || s.tracked(i) || s.inTaken(s.files[i]) || !c.removed && !s.compiled(i) {
			continue
		}
		r := Rule{Pattern: "/" + Escape(s.files[i]), Why: c.why, Bring: "run the build"}
		if strings.ContainsAny(base, "*?[") && ending != "" {
			r.Pattern = "/" + Escape(parent(c.path)) + "/" + base
			if parent(c.path) == "" {
				r.Pattern = "/" + base
			}
		}
		s.out.Taken[i] = s.rule(r)
	}
}

// holdsBuild reports whether a folder holds a description of a build: then it is rather a project,
// whatever a step removes.
func (s *suggester) holdsBuild(f *folder) bool {
	return slices.ContainsFunc(f.files, func(i int) bool {
		return slices.Contains([]string{"Makefile", "makefile", "GNUmakefile", "package.json", "go.mod", "Cargo.toml", "pom.xml", "pyproject.toml", "setup.py"}, s.names[i])
	})
}

// places gives the files that a path or a pattern in a folder names.
func (s *suggester) places(p string) []int {
	base := path.Base(p)
	var out []int
	if !strings.ContainsAny(base, "*?[") {
		if i, ok := slices.BinarySearch(s.files, p); ok {
			out = append(out, i)
		}
		return out
	}
	dir := parent(p)
	for i, f := range s.files {
		if parent(f) == dir {
			if ok, err := path.Match(base, s.names[i]); ok && err == nil {
				out = append(out, i)
			}
		}
	}
	return out
}

// inside gives a path that a step names, from the top; false where it is no path inside the project that can
// be told without running anything.
func inside(root, word string) (string, bool) {
	word = strings.Trim(word, `"'`)
	if word == "" || strings.ContainsAny(word, "$`~{}()<>|&;\\\"'") || path.IsAbs(word) {
		return "", false
	}
	p := path.Clean(word)
	if p == "." || p == ".." || strings.HasPrefix(p, "../") {
		return "", false
	}
	base := path.Base(p)
	if strings.ContainsAny(path.Dir(p), "*?[") || strings.Trim(base, "*.?") == "" {
		return "", false
	}
	if _, err := path.Match(base, ""); err != nil {
		return "", false
	}
	return strings.TrimPrefix(path.Join(root, p), "/"), true
}

// ofMakefile reads what the recipes of a Makefile remove in a clean step, and what they write by an
// option -o (POSIX make, "Target Rules" and "Macros").
func ofMakefile(root, name, data string) []claim {
	data = strings.ReplaceAll(strings.ReplaceAll(data, "\r\n", "\n"), "\\\n", " ")
	values := map[string]string{"RM": "rm -f"}
	var out []claim
	cleans, recipe := false, false
	for line := range strings.SplitSeq(data, "\n") {
		if strings.HasPrefix(line, "\t") {
			if recipe {
				out = append(out, ofRecipe(root, name, line, values, cleans)...)
			}
			continue
		}
		if m := macro.FindStringSubmatch(line); m != nil {
			if m[2] == "+" {
				m[3] = values[m[1]] + " " + m[3]
			}
			if _, is := values[m[1]]; !is || m[2] != "?" {
				values[m[1]], _, _ = strings.Cut(m[3], "#")
			}
			continue
		}
		if targets, rest, ok := strings.Cut(line, ":"); ok && !strings.HasPrefix(strings.TrimSpace(line), "#") {
			recipe, cleans = true, slices.ContainsFunc(strings.Fields(targets), isClean)
			if _, first, ok := strings.Cut(rest, ";"); ok {
				out = append(out, ofRecipe(root, name, first, values, cleans)...)
			}
		}
	}
	return out
}

var macro = regexp.MustCompile(`^ *(?:export +|override +)?([A-Za-z_][A-Za-z0-9_]*)\s*(\+|\?|:|::|)=\s*(.*)$`)

// isClean reports whether a target or script removes what can be made again.
func isClean(name string) bool {
	words := strings.FieldsFunc(name, func(r rune) bool { return r == '-' || r == '_' || r == ':' || r == '.' })
	return slices.ContainsFunc(words, func(w string) bool { return w == "clean" || w == "distclean" || w == "mostlyclean" || w == "clobber" }) && !slices.Contains(words, "maintainer")
}

// mostFilled is how long a line may be into which values are put, and a value that is put in.
const mostFilled = 4 << 10

// filled puts in the values of macros; what has none stays as it is.
func filled(line string, values map[string]string) string {
	for range 5 {
		if !strings.Contains(line, "$") || len(line) > mostFilled {
			break
		}
		line = use.ReplaceAllStringFunc(line, func(u string) string {
			if v, ok := values[strings.Trim(u, "$(){}")]; ok && len(v) < mostFilled {
				return v
			}
			return u
		})
	}
	return line
}

var use = regexp.MustCompile(`\$(?:\([A-Za-z_][A-Za-z0-9_]*\)|\{[A-Za-z_][A-Za-z0-9_]*\})`)

func ofRecipe(root, name, line string, values map[string]string, cleans bool) []claim {
	line = strings.TrimLeft(filled(strings.TrimSpace(line), values), "@-+ ")
	var out []claim
	for _, words := range commands(line) {
		if words[0] == "cd" {
			break // what follows is elsewhere
		}
		if cleans && words[0] == "rm" {
			for _, p := range paths(root, words[1:]) {
				out = append(out, claim{p, true, "removed by the clean step of " + name, root, false})
			}
		}
		for i, w := range words[:len(words)-1] {
			if w == "-o" {
				for _, p := range paths(root, words[i+1:i+2]) {
					out = append(out, claim{p, false, "written by a step of " + name, root, false})
				}
			}
		}
	}
	return out
}

// between is what stands between the commands of a line.
var between = regexp.MustCompile(`&&|\|\||[;|&]`)

// commands parts a line of a shell into its commands, and these into words.
func commands(line string) [][]string {
	var out [][]string
	for _, part := range between.Split(line, -1) {
		words := strings.Fields(part)
		for len(words) > 0 && (strings.Contains(words[0], "=") || words[0] == "npx" || words[0] == "cross-env" || words[0] == "shx" || words[0] == "env") {
			words = words[1:]
		}
		if len(words) > 0 {
			words[0] = strings.TrimLeft(words[0], "@-")
			out = append(out, words)
		}
	}
	return out
}

// paths gives the paths among a command's words.
func paths(root string, words []string) []string {
	var out []string
	for _, w := range words {
		if p, ok := inside(root, w); ok && !strings.HasPrefix(w, "-") {
			out = append(out, p)
		}
	}
	return out
}

// ofScripts reads what the scripts of a package.json remove, and the folders that they write; and those that are by custom
// a build's, where there is a script that builds.
func ofScripts(root, data string) []claim {
	var described struct {
		Main    any               `json:"main"`
		Scripts map[string]string `json:"scripts"`
	}
	if err := json.Unmarshal([]byte(data), &described); err != nil {
		return nil // not a description that can be read, so it tells nothing
	}
	var out []claim
	builds := ""
	for _, name := range slices.Sorted(maps.Keys(described.Scripts)) {
		if builds == "" && (strings.HasPrefix(name, "build") || strings.HasPrefix(name, "compile") || strings.HasPrefix(name, "bundle") || strings.HasPrefix(name, "prep")) {
			builds = name
		}
		for _, words := range commands(described.Scripts[name]) {
			if words[0] == "cd" {
				break
			}
			if words[0] == "rm" || words[0] == "rimraf" || words[0] == "del" || words[0] == "del-cli" {
				for _, p := range paths(root, words[1:]) {
					out = append(out, claim{p, true, "removed by the script " + name + " of package.json", root, true})
				}
			}
			for i, w := range words {
				option, value, joined := strings.Cut(w, "=")
				if !joined && i+1 < len(words) {
					value = words[i+1]
				}
				if strings.HasPrefix(option, "-") && writes(option) || option == ">" {
					out = append(out, written(root, value, "written by the script "+name+" of package.json")...)
				}
			}
		}
	}
	if builds == "" {
		return out
	}
	for _, custom := range []string{"dist", "build", "out"} {
		out = append(out, claim{strings.TrimPrefix(root+"/"+custom, "/"), false, "made by the build", root, true})
	}
	if main, ok := described.Main.(string); ok {
		out = append(out, written(root, main, "made by the build")...)
	}
	return out
}

// written gives the claims about a path that is written: itself, and the folder at which it begins.
func written(root, value, why string) []claim {
	p, ok := inside(root, value)
	if !ok {
		return nil
	}
	first, _, deeper := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(p, root), "/"), "/")
	out := []claim{{p, false, why, root, true}}
	if deeper {
		out = append(out, claim{strings.TrimPrefix(root+"/"+first, "/"), false, why, root, true})
	}
	return out
}

// writes reports whether an option names what a command writes.
func writes(option string) bool {
	o := strings.ToLower(strings.Trim(option, "-"))
	return o == "o" || o == "d" || strings.Contains(o, "out") || strings.Contains(o, "dest") || strings.Contains(o, "dist")
}

// outDir finds where a compiler's settings, which are JSON with comments, say that it writes.
var outDir = regexp.MustCompile(`"(?:outDir|declarationDir|outFile)"\s*:\s*"([^"\n]+)"`)

func ofCompiler(root, name, data string) []claim {
	var out []claim
	for _, m := range outDir.FindAllStringSubmatch(data, -1) {
		out = append(out, written(root, m[1], "written by the compiler, by "+name)...)
	}
	return out
}
