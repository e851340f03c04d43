package screen

import (
	"context"
	"errors"
	"flag"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/history"
	"uncinate/internal/world/vault"
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
				e.Say("%s", strings.TrimSuffix(script, "\n"))
				return nil
			}
		}}
}

// candidate is one word that may stand next, and what it is.
type candidate struct{ word, about string }

// words prints what may stand as the last of the words: one a line, with a tab and
// what it is. What a file name could do to a shell is left out.
func (e *Env) words(words []string) error {
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
	c, _, rest := find(e.commands, before)
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
	// takesValue gives the option of a word that wants a value behind it.
	takesValue := func(word string) string {
		f := o.Lookup(strings.TrimLeft(word, "-"))
		if f == nil || !strings.HasPrefix(word, "-") {
			return ""
		}
		if b, ok := f.Value.(interface{ IsBoolFlag() bool }); ok && b.IsBoolFlag() {
			return ""
		}
		return f.Name
	}
	position, value, only := 0, "", false
	for i := 0; i < len(rest); i++ {
		value = ""
		switch {
		case only:
			position++
		case rest[i] == "--":
			only = true
		case rest[i] == "=":
			if i > 0 {
				value = takesValue(rest[i-1])
			}
		case takesValue(rest[i]) != "" && !strings.Contains(rest[i], "="):
			if value = takesValue(rest[i]); i+1 < len(rest) && rest[i+1] != "=" {
				i++
				value = ""
			}
		case strings.HasPrefix(rest[i], "-"):
		default:
			position++
		}
	}
	if value != "" {
		return e.source(optionSources[value], current)
	}
	if name, part, found := strings.Cut(current, "="); found && takesValue(name) != "" {
		all, err := e.source(optionSources[takesValue(name)], part)
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
	if len(c.Takes) == 0 || c.Most >= 0 && position >= c.Most {
		return nil, nil
	}
	return e.source(c.Takes[min(position, len(c.Takes)-1)], current)
}

// optionSources says what the values of options are.
var optionSources = map[string]string{"account": "account", "host": "host", "visibility": "visibility", "by": "way", "folder": "folder",
	"keep": "folder", "man": "folder", "git": "path", "let": "path"}

// source lists the words of one kind that begin as current does.
func (e *Env) source(kind, current string) ([]candidate, error) {
	var all []candidate
	add := func(word, about string) {
		if strings.HasPrefix(word, current) {
			all = append(all, candidate{word, about})
		}
	}
	fixed := map[string][]string{"transport": {"https", "ssh"}, "visibility": {"private", "members", "public"}, "way": append([]string{"token", "device", "browser"}, vault.Ways...), "shell": {"bash", "zsh", "fish"},
		"part": {"settings", "people", "history"}}
	switch kind {
	case "folder", "path", "file":
		return folders(current, kind != "folder"), nil
	case "command":
		return commandWords(e.commands, current), nil
	case "practice": // the hosts that ship are the practice hosts
		d, err := e.Desk()
		if err == nil {
			for _, name := range hosts.ShippedNames(d) {
				add(name, "practice host")
			}
		}
		return all, err
	case "account", "host", "project", "repository", "branch", "description":
	default:
		for _, word := range fixed[kind] {
			add(word, "")
		}
		return all, nil
	}
	d, err := e.Desk()
	if err != nil {
		return nil, err
	}
	switch kind {
	case "account":
		accounts, err := accounts.All(d)
		for _, a := range accounts {
			add(a.Name, a.User+" on "+a.Where())
		}
		return all, err
	case "host":
		hosts, err := hosts.All(d)
		for _, h := range hosts {
			add(h.Name, h.Title)
		}
		return all, err
	case "description":
		for _, name := range hosts.ShippedNames(d) {
			add(name, "ships with the program")
		}
		return append(all, folders(current, true)...), nil
	}
	if kind == "branch" {
		branches, err := history.Branches(e.ctx, d, ".")
		for _, b := range branches {
			add(b.Name, b.Who)
		}
		return all, err
	}
	projects, err := project.Register(d)
	if kind == "repository" {
		for _, p := range projects {
			add(p.Address, "hooked here")
		}
		return all, err
	}
	known, err := projectWords(projects, current)
	for _, f := range folders(current, false) {
		if !slices.ContainsFunc(known, func(c candidate) bool { return c.word == f.word }) {
			known = append(known, f)
		}
	}
	return known, err
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

// projectWords are the hooked folders, by a short path where they lie below this one.
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
