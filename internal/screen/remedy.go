package screen

import (
	"cmp"
	"flag"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// What a person is told to do next is made from the command that was typed: the same program, the same
// folder and, where it is the same command, the same options, but for what the remedy changes.

// typedLine is the command line that was typed, taken apart.
type typedLine struct {
	path    []string    // the command's words
	options [][2]string // those that were given, each with its value; "true" for a switch
	words   []string    // the arguments
	folder  string      // the project's folder, as it was named; "" for the current one
	of      *Command
}

// note keeps what was typed, for the remedies.
func (t *typedLine) note(c *Command, path []string, o *flag.FlagSet, words []string) {
	t.path, t.words, t.of = path, words, c
	given := map[string]bool{}
	o.Visit(func(f *flag.Flag) { given[f.Name] = true })
	for _, f := range c.inOrder(o) {
		if !given[f.Name] {
			continue
		}
		name := longName(f.Name)
		if l, many := f.Value.(*list); many {
			for _, v := range *l {
				t.options = append(t.options, [2]string{name, v})
			}
			continue
		}
		t.options = append(t.options, [2]string{name, f.Value.String()})
	}
	if f := o.Lookup("folder"); f != nil {
		t.folder = f.Value.String()
		if t.folder == "" && c.Args == "[FOLDER]" && len(words) > 0 {
			t.folder, t.words = words[0], nil
		}
	}
}

// program is what to type for this program: its name where that leads to it, otherwise its path.
func program() string {
	name := os.Args[0]
	if !strings.ContainsRune(name, filepath.Separator) {
		return "uncinate"
	}
	own, err := os.Executable()
	if err != nil {
		return "uncinate"
	}
	if found, err := exec.LookPath("uncinate"); err == nil && sameFile(found, own) {
		return "uncinate"
	}
	return text.Quote(name)
}

func sameFile(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	return err == nil && os.SameFile(x, y)
}

// suited makes a command fit what was typed: with its folder and, to carry on with the same command,
// with its options, but for those that are left out on purpose.
func (e *Env) suited(command string, carry bool, without ...string) string {
	parts := strings.Split(command, " && ")
	for i, part := range parts {
		if rest, ours := strings.CutPrefix(part, "uncinate "); ours {
			parts[i] = cmp.Or(e.program, "uncinate") + " " + rest + e.missing(rest, carry, without)
		}
	}
	return strings.Join(parts, " && ")
}

// missing gives the words that are missing at the end of a command of ours.
func (e *Env) missing(rest string, carry bool, without []string) string {
	words, ok := shellWords(rest)
	if !ok || slices.Contains(words, "--") {
		return ""
	}
	c, path, args := find(e.commands, words)
	if c == nil || c.Options == nil {
		return ""
	}
	o := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	o.SetOutput(io.Discard)
	c.Options(o)
	var all common
	all.add(o, c)
	addShorts(o)
	given, err := parse(o, args)
	if err != nil {
		return ""
	}
	set := map[string]bool{}
	o.Visit(func(f *flag.Flag) { set[longName(f.Name)] = true })
	var out []string
	if carry && slices.Equal(path, e.typed.path) {
		for _, x := range e.typed.options {
			if set[x[0]] || slices.Contains(without, x[0]) || c.clashes(x[0], set) || slices.Contains([]string{"folder", "json", "quiet", "verbose"}, x[0]) {
				continue
			}
			out = append(out, "--"+x[0])
			if x[1] != "true" {
				out = append(out, withoutSecret(x[1]))
			}
		}
		if len(given) == 0 && c.Least > 0 {
			out = append(out, e.typed.words...)
		}
	}
	if e.typed.folder != "" && o.Lookup("folder") != nil && !set["folder"] && !set["all"] && !slices.Contains(without, "folder") && (c.Args != "[FOLDER]" || len(given) == 0) {
		out = append(out, "--folder", e.typed.folder)
	}
	if len(out) == 0 {
		return ""
	}
	return " " + text.Command(out...)
}

// clashes reports whether an option goes together with none of those that are set.
func (c *Command) clashes(name string, set map[string]bool) bool {
	return slices.ContainsFunc(c.apart(), func(apart []string) bool {
		return slices.Contains(apart, name) && slices.ContainsFunc(apart, func(other string) bool { return set[other] })
	})
}

// withoutSecret is an option's value, without a secret that may be in an address.
func withoutSecret(value string) string {
	if a, err := address.Parse(value); err == nil && a.Secret != "" {
		return a.Bare().String()
	}
	return value
}

// shellWords takes a command apart as a shell does, as far as remedies need it; false for more.
func shellWords(s string) (out []string, ok bool) {
	word, inside, quote := "", false, rune(0)
	for _, r := range s {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word += string(r)
		case r == '\'' || r == '"':
			quote, inside = r, true
		case r == ' ':
			if inside {
				out = append(out, word)
			}
			word, inside = "", false
		case r == '$' || r == '\\' || r == '|' || r == ';' || r == '>' || r == '<':
			return nil, false
		default:
			word, inside = word+string(r), true
		}
	}
	if inside {
		out = append(out, word)
	}
	return out, quote == 0
}

// atTheEnd finds a command of ours that ends a sentence.
var atTheEnd = regexp.MustCompile(`(?m)(^Next: |: |^ +)(uncinate [a-z][^\[]*)$`)

// said makes the commands that end sentences fit what was typed.
func (e *Env) said(sentence string) string {
	if !strings.Contains(sentence, "uncinate ") || e.typed.of == nil {
		return sentence
	}
	return atTheEnd.ReplaceAllStringFunc(sentence, func(s string) string {
		m := atTheEnd.FindStringSubmatch(s)
		return m[1] + e.suited(m[2], false)
	})
}

// completed makes a fault's remedies fit what was typed; one that is an option alone stands for the
// command that was typed, with that option.
func (e *Env) completed(all []fault.Remedy) []fault.Remedy {
	out := slices.Clone(all)
	for i, r := range out {
		if strings.HasPrefix(r.Command, "--") {
			words := append(append([]string{"uncinate"}, e.typed.path...), e.typed.words...)
			r.Command = text.Command(words...) + " " + r.Command
		}
		out[i].Command = e.suited(r.Command, true, r.Without...)
	}
	return out
}

// showRemedies shows what to do next, each with a command to paste.
func (e *Env) showRemedies(w *stream, f *fault.Fault) {
	for _, r := range e.completed(f.Remedies) {
		if r.Why != "" {
			_, _ = io.WriteString(w, "  "+strings.ToUpper(r.Why[:1])+r.Why[1:]+":\n") // as all that is told of a fault
		}
		_, _ = io.WriteString(w, "      "+text.Visible(r.Command)+"\n")
	}
}
