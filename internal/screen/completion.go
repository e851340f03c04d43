package screen

import (
	"context"
	"errors"
	"flag"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/deploy"
	"uncinate/internal/job/history"
)

// shells are the scripts that let a shell complete; each asks this program for the
// words, so that accounts, hosts and projects are those of this machine.
var shells = map[string]string{
	"bash": `# bash completion for uncinate; load it by: source <(uncinate completion bash)
_uncinate_words() {
    local line
    COMPREPLY=()
    while IFS= read -r line; do
        COMPREPLY+=("${line%%$'\t'*}")
    done < <("${COMP_WORDS[0]}" completion words -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null)
    if [[ ${COMPREPLY[0]-} == */ ]]; then
        compopt -o filenames -o nospace 2>/dev/null
    fi
}
complete -F _uncinate_words uncinate
`,
	"zsh": `#compdef uncinate
# zsh completion for uncinate; load it by: source <(uncinate completion zsh)
_uncinate_words() {
    local line
    local -a told folders
    for line in "${(@f)$(${(Q)words[1]} completion words -- "${(@Q)words[2,CURRENT]}" 2>/dev/null)}"; do
        [[ -z $line ]] && continue
        if [[ ${line%%$'\t'*} == */ ]]; then
            folders+=("${line%%$'\t'*}")
        else
            told+=("${${line%%$'\t'*}//:/\\:}:${line#*$'\t'}")
        fi
    done
    (( $#told )) && _describe -V 'uncinate' told
    (( $#folders )) && compadd -S '' -- "${folders[@]}"
}
compdef _uncinate_words uncinate
`,
	"fish": `# fish completion for uncinate; load it by: uncinate completion fish | source
function __uncinate_words
    set -l words (commandline -opc) (commandline -ct)
    $words[1] completion words -- $words[2..-1] 2>/dev/null
end
complete -c uncinate -f -a '(__uncinate_words)'
`}

func completionCommand() *Command {
	return &Command{Name: "completion", Args: "bash|zsh|fish", Least: 1, Most: -1, Takes: []string{"shell"},
		Short: "let a shell complete commands, accounts, hosts and projects",
		Long: `Prints a script for the shell. It asks this program for the words each time, so that it knows the accounts,
hosts and projects of this machine. Load it in the shell's own start-up file.`,
		Examples: []string{"source <(uncinate completion bash)", "source <(uncinate completion zsh)", "uncinate completion fish | source"},
		Options: func(*flag.FlagSet) Run {
			return func(_ context.Context, e *Env, args []string) error {
				if args[0] == "words" {
					return e.words(args[1:])
				}
				script, known := shells[args[0]]
				if !known || len(args) > 1 {
					return unknown("there is completion for bash, zsh and fish, not for "+text.Quote(args[0]), args[0], []string{"bash", "zsh", "fish"}, "uncinate help completion")
				}
				_, err := io.WriteString(e.Out, script) // as it stands: no path of this program's in it
				return err
			}
		}}
}

// candidate is one word that may be next, and what it is.
type candidate struct{ word, about string }

// words prints what may be as the last of the words: one a line, with a tab and
// what it is. What a file name could do to a shell is left out.
func (e *Env) words(words []string) error {
	e.asks = false // who presses a key is not asked for a passphrase
	all, err := e.candidates(words)
	var f *fault.Fault
	if errors.As(err, &f) {
		return nil // completion has nobody to tell; the command itself will say it
	}
	if err != nil {
		return err
	}
	for _, c := range all {
		if text.Visible(c.word) == c.word {
			e.Say("%s\t%s", c.word, c.about)
		}
	}
	return nil
}

func (e *Env) candidates(words []string) ([]candidate, error) {
	if len(words) == 0 {
		words = []string{""}
	}
	current, before := words[len(words)-1], words[:len(words)-1]
	if current == "=" { // bash parts words at "="
		current, before = "", append(slices.Clone(before), "=")
	}
	c, path, rest := find(e.commands, before)
	if c == nil || c.Options == nil {
		subs := e.commands
		if c != nil {
			subs = c.Subs
		}
		if len(rest) > 0 {
			return nil, nil
		}
		return commandWords(subs, current), nil
	}
	o := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	c.Options(o)
	new(common).add(o, c)
	takesValue := func(word string) string { return wantsValue(o, word) }
	position, value, only := placeIn(rest, takesValue)
	if value != "" {
		return e.source(valueSource(path, value), current)
	}
	if name, part, found := strings.Cut(current, "="); found && takesValue(name) != "" {
		all, err := e.source(valueSource(path, takesValue(name)), part)
		for i := range all {
			all[i].word = name + "=" + all[i].word
		}
		return all, err
	}
	if strings.HasPrefix(current, "-") && !only {
		var all []candidate
		eachOption(c, func(name, _, use string) {
			if word := "--" + name; strings.HasPrefix(word, "--"+strings.TrimLeft(current, "-")) {
				all = append(all, candidate{word, use})
			}
		})
		return all, nil
	}
	if len(c.Words) > 0 {
		return beginning(c.Words, current), nil
	}
	if len(c.Takes) == 0 || c.Most >= 0 && position >= c.Most {
		return nil, nil
	}
	return e.source(c.Takes[min(position, len(c.Takes)-1)], current)
}

// wantsValue gives the option of a word that wants a value behind it; "" for none.
func wantsValue(o *flag.FlagSet, word string) string {
	f := o.Lookup(strings.TrimLeft(word, "-"))
	if f == nil || !strings.HasPrefix(word, "-") {
		return ""
	}
	if b, ok := f.Value.(interface{ IsBoolFlag() bool }); ok && b.IsBoolFlag() {
		return ""
	}
	return f.Name
}

// placeIn tells what the next word is: the argument at a position, or the value of an option.
// only says that options have ended, by "--".
func placeIn(words []string, takesValue func(word string) string) (position int, value string, only bool) {
	for i := 0; i < len(words); i++ {
		value = ""
		switch {
		case only:
			position++
		case words[i] == "--":
			only = true
		case words[i] == "=":
			if i > 0 {
				value = takesValue(words[i-1])
			}
		case takesValue(words[i]) != "" && !strings.Contains(words[i], "="):
			if value = takesValue(words[i]); i+1 < len(words) && words[i+1] != "=" {
				i++
				value = ""
			}
		case strings.HasPrefix(words[i], "-"):
		default:
			position++
		}
	}
	return position, value, only
}

// source lists the words of one kind that begin as current does.
func (e *Env) source(kind, current string) ([]candidate, error) {
	switch kind {
	case "folder", "path", "file":
		return folders(current, kind != "folder"), nil
	case "command":
		return commandWords(e.commands, current), nil
	case "account", "host", "project", "repository", "branch", "description", "deploy", "rescue", "offer", "invitation", "tag", "commit":
		d, err := e.Desk()
		if err != nil {
			return nil, err
		}
		return e.known(d, kind, current)
	}
	all := words{current, beginning(fixedWords(kind), current)}
	if kind == "practice" { // the hosts that ship are the practice hosts
		d, err := e.Desk()
		if err != nil {
			return nil, err
		}
		for _, name := range hosts.ShippedNames(d) {
			all.add(name, "practice host")
		}
	}
	return all.found, nil
}

// words are those that begin as what was typed.
type words struct {
	current string
	found   []candidate
}

func (w *words) add(word, about string) {
	if strings.HasPrefix(word, w.current) {
		w.found = append(w.found, candidate{word, about})
	}
}

// beginning are those of some words that begin as what was typed.
func beginning(all []string, current string) []candidate {
	w := words{current: current}
	for _, word := range all {
		w.add(word, "")
	}
	return w.found
}

// known gives what this machine knows of a kind.
func (e *Env) known(d *desk.Desk, kind, current string) ([]candidate, error) {
	all := words{current: current}
	switch kind {
	case "account":
		list, err := accounts.All(d)
		for _, a := range list {
			all.add(a.Name, a.User+" on "+a.Where())
		}
		return all.found, err
	case "host":
		list, err := hosts.All(d)
		for _, h := range list {
			all.add(h.Name, h.Title)
		}
		return all.found, err
	case "deploy":
		list, err := deploy.All(d)
		for _, x := range list {
			all.add(x.Name, x.Branch+" of "+x.Address)
		}
		return all.found, err
	case "description":
		for _, name := range hosts.ShippedNames(d) {
			all.add(name, "ships with the program")
		}
		return append(all.found, folders(current, true)...), nil
	case "branch":
		list, err := history.Branches(e.ctx, d, ".")
		for _, b := range list {
			all.add(b.Name, b.Who)
		}
		return all.found, err
	}
	if found, is, err := e.numbered(d, kind, current); is {
		return found, err
	}
	list, err := project.Register(d)
	if kind == "repository" {
		for _, p := range list {
			all.add(p.Address, "attached here")
		}
		return append(all.found, e.onHosts(d, current)...), err
	}
	found, err := projectWords(list, current)
	for _, f := range folders(current, false) {
		if !slices.ContainsFunc(found, func(c candidate) bool { return c.word == f.word }) {
			found = append(found, f)
		}
	}
	return found, err
}

func commandWords(all []*Command, current string) []candidate {
	var out []candidate
	for _, c := range all {
		if !c.Hidden && strings.HasPrefix(c.Name, current) {
			out = append(out, candidate{c.Name, c.Short})
		}
	}
	return out
}

// projectWords are the attached folders, by a short path where they are below this one.
func projectWords(projects []project.Project, current string) ([]candidate, error) {
	here, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	var out []candidate
	for _, p := range projects {
		word := p.Folder
		if rel, err := filepath.Rel(here, p.Folder); err == nil && filepath.IsLocal(rel) && rel != "." && !filepath.IsAbs(current) {
			word = rel
		}
		if word += string(filepath.Separator); strings.HasPrefix(word, current) {
			out = append(out, candidate{word, p.Address})
		}
	}
	return out, nil
}

// folders lists the folders, or all files, that a path may go on to.
func folders(current string, files bool) []candidate {
	top, part := filepath.Split(current)
	look := top
	if look == "" {
		look = "."
	}
	entries, err := os.ReadDir(look)
	if err != nil {
		return nil
	}
	var out []candidate
	for _, x := range entries {
		if !strings.HasPrefix(x.Name(), part) || strings.HasPrefix(x.Name(), ".") && !strings.HasPrefix(part, ".") {
			continue
		}
		s, err := os.Stat(filepath.Join(look, x.Name()))
		switch {
		case err == nil && s.IsDir():
			out = append(out, candidate{top + x.Name() + string(filepath.Separator), "folder"})
		case err == nil && files:
			out = append(out, candidate{top + x.Name(), "file"})
		}
	}
	return out
}
