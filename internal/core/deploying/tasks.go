// Package deploying reads the file in which a repository lists the tasks of a server that follows it, says what is
// wrong in it and where, and which files' contents an approval of these tasks has to cover.
package deploying

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"uncinate/internal/core/places"
	"uncinate/internal/core/text"
)

// File is the name of the tasks file, at the repository's top.
const File = "uncinate-deploy.toml"

// The bounds of a tasks file.
const (
	Most       = 64 << 10
	mostTasks  = 100
	mostWords  = 200
	mostWord   = 4096
	mostWithin = 24 * time.Hour
	usually    = 10 * time.Minute // for a task that says no time
)

// Tasks is what a tasks file says.
type Tasks struct {
	Branch  string   // the branch that the tasks are for; "" for any
	Lasting []string // paths that outlive a state: a folder's ends with a slash
	Tasks   []Task
}

// Task is one command, without a shell.
type Task struct {
	Do     []string
	Folder string        // in which it runs, from the top; "" for the top
	Within time.Duration // after which it is ended
	GoesOn bool          // what follows is done also where it fails
	After  bool          // it runs once the new files are in use
	Runs   []string      // further files that it runs, from the top; a folder stands for all in it
	Any    bool          // each commit waits for an approval of its own
	at     string        // where it stands in the file, as places.Of names it
}

// Words are the task as a person reads it.
func (t Task) Words() string { return text.Excerpt(text.Command(t.Do...), 200) }

// Load reads a tasks file strictly. With any mistake the tasks are nil, and all mistakes are given in the file's order.
func Load(data []byte) (*Tasks, []places.Mistake) {
	if len(data) > Most {
		return nil, []places.Mistake{{Line: 1, Column: 1, Says: "the file is larger than " + text.Size(Most)}}
	}
	var tree map[string]any
	if err := toml.Unmarshal(data, &tree); err != nil {
		return nil, []places.Mistake{places.NotTOML(err)}
	}
	r := &reader{data: data}
	t := r.tasks(tree)
	if len(r.mistakes) > 0 {
		places.Sort(r.mistakes)
		return nil, r.mistakes
	}
	return t, nil
}

// reader collects mistakes, and where they are.
type reader struct {
	data     []byte
	where    map[string][2]int
	mistakes []places.Mistake
}

// wrong notes a mistake at a key of the table at a place, or at the table itself.
func (r *reader) wrong(at, key, meant, format string, args ...any) {
	if r.where == nil {
		r.where = places.Of(r.data)
	}
	for _, p := range []string{places.Join(at, key), at} {
		if w, found := r.where[strings.TrimSuffix(p, ".")]; found {
			r.mistakes = append(r.mistakes, places.Mistake{Line: w[0], Column: w[1], Says: fmt.Sprintf(format, args...), Meant: meant})
			return
		}
	}
	r.mistakes = append(r.mistakes, places.Mistake{Line: 1, Column: 1, Says: fmt.Sprintf(format, args...), Meant: meant})
}

// known notes each key of a table that is none of those.
func (r *reader) known(at string, table map[string]any, keys ...string) {
	for _, key := range slices.Sorted(maps.Keys(table)) {
		if !slices.Contains(keys, key) {
			r.wrong(at, key, text.Nearest(key, keys), "%s has no key %q", text.Either(at == "", "the file's top", "a task"), text.Excerpt(key, 40))
		}
	}
}

func (r *reader) str(at string, table map[string]any, key string) string {
	v, given := table[key]
	s, is := v.(string)
	if given && !is {
		r.wrong(at, key, "", "%q must be a text in quotes", key)
	}
	return s
}

func (r *reader) boolean(at string, table map[string]any, key string) bool {
	v, given := table[key]
	b, is := v.(bool)
	if given && !is {
		r.wrong(at, key, "", "%q is true or false, without quotes", key)
	}
	return b
}

func (r *reader) list(at string, table map[string]any, key string) []string {
	v, given := table[key]
	if !given {
		return nil
	}
	if s, is := v.(string); is {
		r.wrong(at, key, "", "%q is a list, such as %s", key, asList(s))
		return nil
	}
	all, is := v.([]any)
	var out []string
	for _, x := range all {
		s, word := x.(string)
		is = is && word
		out = append(out, s)
	}
	if !is {
		r.wrong(at, key, "", "%q is a list of texts in quotes", key)
		return nil
	}
	return out
}

// asList writes a line as the list of its words.
func asList(line string) string {
	var words []string
	for _, w := range strings.Fields(line) {
		words = append(words, fmt.Sprintf("%q", text.Excerpt(w, 40)))
	}
	return "[" + strings.Join(words[:min(len(words), 8)], ", ") + "]"
}

func (r *reader) tasks(tree map[string]any) *Tasks {
	r.known("", tree, "branch", "lasting", "task")
	t := &Tasks{Branch: r.str("", tree, "branch"), Lasting: r.list("", tree, "lasting")}
	if t.Branch != "" && !isBranch(t.Branch) {
		r.wrong("", "branch", "", "%s cannot be a branch's name", text.Quote(text.Excerpt(t.Branch, 60)))
	}
	r.lasting(t)
	switch all := tree["task"].(type) {
	case nil:
	case []any:
		if len(all) > mostTasks {
			r.wrong("", "task", "", "there are more than %d tasks", mostTasks)
			return t
		}
		for i, x := range all {
			at := fmt.Sprintf("task[%d]", i)
			table, is := x.(map[string]any)
			if !is {
				r.wrong("", "task", "", "each task begins with a line [[task]]")
				continue
			}
			t.Tasks = append(t.Tasks, r.task(at, table))
		}
	default:
		r.wrong("", "task", "", "each task begins with a line [[task]], in two brackets")
	}
	for i, x := range t.Tasks {
		if i > 0 && !x.After && t.Tasks[i-1].After {
			r.wrong(x.at, "do", "", "this task runs before those with after-switch, and stands behind one: put it before them")
		}
	}
	return t
}

func (r *reader) lasting(t *Tasks) {
	for i, p := range t.Lasting {
		clean := strings.TrimSuffix(p, "/")
		switch {
		case !inside(clean):
			r.wrong("", "lasting", "", "%s leads out of the folder, or cannot be in it", text.Quote(text.Excerpt(p, 60)))
		case clean == File:
			r.wrong("", "lasting", "", "the tasks file itself cannot be lasting")
		}
		for _, q := range t.Lasting[:i] {
			other := strings.TrimSuffix(q, "/")
			if clean == other || strings.HasPrefix(clean, other+"/") || strings.HasPrefix(other, clean+"/") {
				r.wrong("", "lasting", "", "%s and %s are the same, or one is in the other", text.Quote(text.Excerpt(q, 60)), text.Quote(text.Excerpt(p, 60)))
			}
		}
	}
}

func (r *reader) task(at string, table map[string]any) Task {
	r.known(at, table, "do", "folder", "within", "if-it-fails", "after-switch", "runs", "any")
	t := Task{at: at, Do: r.list(at, table, "do"), Folder: r.str(at, table, "folder"), After: r.boolean(at, table, "after-switch"), Runs: r.list(at, table, "runs"), Any: r.boolean(at, table, "any"), Within: usually}
	if _, given := table["do"]; !given {
		r.wrong(at, "", "", "this task lacks the key \"do\": what it does, as a list of words")
	} else if _, is := table["do"].([]any); is && (len(t.Do) == 0 || t.Do[0] == "") {
		r.wrong(at, "do", "", "\"do\" names a program first, and then its words")
	}
	if len(t.Do) > mostWords || slices.ContainsFunc(t.Do, func(w string) bool { return len(w) > mostWord || strings.ContainsRune(w, 0) }) {
		r.wrong(at, "do", "", "\"do\" has more words, or a longer one, than a program can be given")
	}
	if len(t.Do) > 0 && path.IsAbs(t.Do[0]) && path.Clean(t.Do[0]) != t.Do[0] {
		r.wrong(at, "do", path.Clean(t.Do[0]), "the program's path goes a roundabout way")
	}
	if t.Folder = strings.TrimSuffix(t.Folder, "/"); t.Folder != "" && t.Folder != "." && !inside(t.Folder) {
		r.wrong(at, "folder", "", "%s leads out of the repository", text.Quote(text.Excerpt(t.Folder, 60)))
	}
	if t.Folder == "." {
		t.Folder = ""
	}
	for _, p := range t.Runs {
		if !inside(strings.TrimSuffix(p, "/")) {
			r.wrong(at, "runs", "", "%s leads out of the repository", text.Quote(text.Excerpt(p, 60)))
		}
	}
	if says := r.str(at, table, "within"); says != "" {
		d, err := time.ParseDuration(says)
		if err != nil || d <= 0 || d > mostWithin {
			r.wrong(at, "within", "", "%s is not a time such as 30s, 5m or 2h, of at most a day", text.Quote(text.Excerpt(says, 40)))
		}
		t.Within = d
	}
	switch says := r.str(at, table, "if-it-fails"); says {
	case "", "stop":
	case "go on":
		t.GoesOn = true
	default:
		r.wrong(at, "if-it-fails", text.Nearest(says, []string{"stop", "go on"}), "\"if-it-fails\" is \"stop\" or \"go on\"")
	}
	return t
}

// inside reports whether a path is one of the repository's, and not git's.
func inside(p string) bool {
	if p == "" || path.IsAbs(p) || path.Clean(p) != p || p == "." || len(p) > mostWord || strings.ContainsAny(p, "\\\x00") {
		return false
	}
	for part := range strings.SplitSeq(p, "/") {
		if part == ".." || strings.EqualFold(part, ".git") {
			return false
		}
	}
	return true
}

// isBranch reports whether a word may be a branch (git-check-ref-format documentation).
func isBranch(s string) bool {
	return s != "" && s[0] != '-' && s[0] != '/' && !strings.HasSuffix(s, "/") && !strings.HasSuffix(s, ".") && !strings.HasSuffix(s, ".lock") && !strings.Contains(s, "..") && !strings.Contains(s, "//") && !strings.Contains(s, "@{") &&
		!strings.ContainsFunc(s, func(r rune) bool { return r <= ' ' || r == 0x7f || strings.ContainsRune("~^:?*[\\", r) })
}
