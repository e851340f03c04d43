//go:build linux

package e2e

import (
	"cmp"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// maker draws the steps of a story: what is likely where a machine stands just now.
type maker struct {
	*rand.Rand
	w     *storyWorld
	now   map[string]moment
	token int
	plain bool // by git alone
	t     *teller
	last  *look // where the last step was done: people stay at a thing for a while
}

// drawn is a kind of step, with how often it is drawn and how it is made. Nothing comes of
// it where it does not fit.
type drawn struct {
	weight int
	make   func(*maker, *look) []string
}

// pick draws one of the kinds by their weights.
func pick(m *maker, all []drawn) drawn {
	total := 0
	for _, d := range all {
		total += d.weight
	}
	n := m.IntN(total)
	for _, d := range all {
		if n -= d.weight; n < 0 {
			return d
		}
	}
	panic("no weight")
}

func one[T any](m *maker, of []T) T { return of[m.IntN(len(of))] }

// names of files and branches are few, so that people meet.
var (
	fileNames   = []string{"notes.txt", "README.md", "src/level.c", "tables/may.csv", "tables/june.csv", "deck.txt", "odd name.txt", "é.txt", "-n", "Notes.txt", "plan.dwg", "place", "place/inner.txt", "run.sh", "pointer"}
	ignoreNames = []string{"tide.log", "build/level.o", "build/map.log", "local.o", "place.log", "tables/draft.log"}
	branchNames = []string{"main", "deck", "scale", "task", "knot/scale"}
)

func (m *maker) word() string {
	m.token++
	return fmt.Sprintf("w%d-%d", m.token, m.IntN(1_000_000))
}

// lines is what a file holds, with one line or all of them new.
func (m *maker) lines(l *look, path string) []string {
	if x := m.w.objects.all[l.files[path].id]; x != nil && len(x.data) > 0 && len(x.data) < 4000 && !strings.Contains(string(x.data), "\x00") && m.IntN(5) > 0 {
		lines := strings.Split(strings.TrimSuffix(string(x.data), "\n"), "\n")
		lines[m.IntN(len(lines))] = m.word()
		if m.IntN(4) == 0 {
			lines = append(lines, m.word())
		}
		if !slices.ContainsFunc(lines, func(s string) bool { return strings.ContainsAny(s, "'\\") }) {
			return lines
		}
	}
	return []string{m.word(), m.word(), m.word()}
}

func (l *look) path(name string) string { return filepath.Join(l.machine, l.folder, name) }

// at makes the line of a run.
func at(l *look, words ...string) []string {
	return append([]string{"at", l.machine, l.folder}, words...)
}

// inner makes one word of a command line, to be split again by whoever runs it.
func inner(words ...string) string {
	quoted := make([]string, len(words))
	for i, word := range words {
		if quoted[i] = word; word == "" || strings.ContainsAny(word, " *?&()") {
			quoted[i] = `"` + word + `"`
		}
	}
	return strings.Join(quoted, " ")
}

// tracked draws a file that git tracks; "" where there is none.
func (m *maker) tracked(l *look) string {
	var all []string
	for _, key := range slices.Sorted(maps.Keys(l.index)) {
		if p := strings.TrimSuffix(key, " 0"); p != key {
			if _, there := l.files[p]; there && p != ".gitignore" {
				all = append(all, p)
			}
		}
	}
	if len(all) == 0 {
		return ""
	}
	return one(m, all)
}

func (m *maker) file(l *look) string {
	if all := slices.Sorted(maps.Keys(l.files)); len(all) > 0 && m.IntN(2) == 0 {
		if p := one(m, all); p != ".gitignore" {
			return p
		}
	}
	return one(m, fileNames)
}

// branches are those here, without and with those that only the host is known to have.
func branches(l *look) (here, all []string) {
	for _, name := range slices.Sorted(maps.Keys(l.refs)) {
		if b, is := strings.CutPrefix(name, "refs/heads/"); is {
			here = append(here, b)
		}
		if b, is := strings.CutPrefix(name, "refs/remotes/origin/"); is && b != "HEAD" {
			all = append(all, b)
		}
	}
	all = append(all, here...)
	slices.Sort(all)
	return here, slices.Compact(all)
}

// edits change files.
var edits = []drawn{
	{30, func(m *maker, l *look) []string {
		p := m.file(l)
		return append([]string{"put", l.path(p)}, m.lines(l, p)...)
	}},
	{8, func(m *maker, l *look) []string {
		return append([]string{"put", l.path(one(m, ignoreNames))}, m.word(), m.word())
	}},
	{4, func(m *maker, l *look) []string { return []string{"noise", l.path(one(m, fileNames)), m.word()} }},
	{4, func(m *maker, l *look) []string { return []string{"gone", l.path(m.file(l))} }},
	{3, func(m *maker, l *look) []string {
		return []string{"name", l.path(m.file(l)), l.path(one(m, fileNames))}
	}},
	{5, func(m *maker, l *look) []string { return []string{"touch", l.path(m.file(l))} }},
	{3, func(m *maker, l *look) []string {
		return []string{"mode", l.path(m.file(l)), one(m, []string{"755", "600", "644", "400"})}
	}},
	{2, func(m *maker, l *look) []string {
		return []string{"link", l.path(one(m, []string{"pointer", "place", "notes.txt"})), one(m, fileNames)}
	}},
	{1, func(m *maker, l *look) []string { return []string{"folder", l.path("empty-" + m.word())} }},
	{1, func(m *maker, l *look) []string {
		if strings.Contains(l.folder, "-") {
			return nil
		}
		return []string{"name", l.machine + "/" + l.folder, l.machine + "/" + l.folder + "-moved"}
	}},
	{1, func(m *maker, l *look) []string {
		if strings.Contains(l.folder, "-") {
			return nil
		}
		return []string{"double", l.machine + "/" + l.folder, l.machine + "/" + l.folder + "-double"}
	}},
}

// several are edits of more than one step, each for a state that people get into.
func (m *maker) several(l *look) [][]string {
	w := m.word
	switch m.IntN(6) {
	case 0: // staged, and replaced by another kind of thing
		lines := [][]string{{"put", l.path("place/staged.txt"), w()}, at(l, "git", "add", "-A", "--", "place"), {"gone", l.path("place")}, {"put", l.path("place"), w()}}
		if !m.plain && m.IntN(2) == 0 {
			lines = append(lines, at(l, "uncinate", "save", "Save-"+w(), "--except", one(m, []string{"place/staged.txt", "place", "notes.txt"})))
		}
		return lines
	case 1: // staged contents that the file holds no more
		p := one(m, fileNames)
		return [][]string{append([]string{"put", l.path(p)}, w(), w()), at(l, "git", "add", "--", p), append([]string{"put", l.path(p)}, w(), w())}
	case 2: // a folder in place of a file
		return [][]string{{"gone", l.path("notes.txt")}, {"put", l.path("notes.txt/part.txt"), w()}}
	case 3: // an ignored file that a branch tracks
		p := one(m, ignoreNames)
		return [][]string{{"put", l.path(p), w(), w()}, at(l, "git", "add", "-f", "--", p), at(l, "git", "commit", "-q", "-m", "Track-"+w())}
	case 4: // an ignored file beside one that another branch tracks
		return [][]string{{"put", l.path(one(m, ignoreNames)), w()}, {"put", l.path(one(m, ignoreNames)), w()}}
	}
	return [][]string{{"touch", l.path("notes.txt")}, {"touch", l.path("README.md")}, {"touch", l.path("src/level.c")}}
}

// meet lets two people come to one branch: one works on it and sends it, the other, who does
// not know, does something with the branch.
func (m *maker) meet() [][]string {
	a, b := m.now[one(m, machineNames)].in("gauge"), m.now[one(m, machineNames)].in("gauge")
	if a == nil || b == nil || a.machine == b.machine {
		return nil
	}
	_, all := branches(b)
	if len(all) == 0 {
		return nil
	}
	branch := one(m, all)
	lines := [][]string{at(a, "git", "fetch", "-q", "--prune"), at(a, "git", "stash", "push", "-q", "-u"), at(a, "git", "checkout", "-q", branch)}
	path := m.file(a)
	if m.IntN(2) == 0 {
		path = one(m, ignoreNames)
	}
	lines = append(lines, []string{"put", a.path(path), m.word(), m.word()}, at(a, "git", "add", "-f", "--", path),
		at(a, "git", "commit", "-q", "-m", "Meet-"+m.word()), at(a, "git", "push", "-q", "origin", "HEAD"))
	switch m.IntN(5) {
	case 0, 1:
		lines = append(lines, []string{"put", b.path(path), m.word(), m.word()})
	case 2:
		lines = append(lines, []string{"touch", b.path(path)}, at(b, "uncinate", "sync", "--yes"))
	}
	if m.IntN(2) == 0 {
		lines = append(lines, at(b, "git", "fetch", "-q"))
	}
	then := [][]string{{"branch", "rename", branch, one(m, branchNames), "--yes"}, {"branch", "remove", branch, "--yes"}, {"branch", "join", branch, "--yes"},
		{"branch", "make", "from-" + m.word(), "--from", one(m, []string{branch, "origin/" + branch}), "--switch"}, {"branch", "switch", branch}, {"sync", "--yes"}}
	return append(lines, m.troubled(b, at(b, append([]string{"uncinate"}, one(m, then)...)...)))
}

// taken draws which commits are taken back.
func (m *maker) taken(l *look) []string {
	switch m.IntN(6) {
	case 0, 1:
		return nil
	case 2:
		return []string{"--drop"}
	case 3:
		return append(m.clash(), one(m, []string{"HEAD", "HEAD~1", "HEAD~2", "HEAD~4", "HEAD^2"}))
	case 4:
		return append(m.clash(), one(m, []string{"HEAD~2..HEAD", "HEAD~3..HEAD~1", "HEAD~1..", "origin/main..HEAD"}))
	}
	_, all := branches(l)
	return append(m.clash(), one(m, append(all, "HEAD~1")), one(m, []string{"HEAD", "HEAD~3"}))
}

// keepers are commands that keep rescue copies, and make the place for them the first time.
var keepers = []string{"branch remove", "branch rename", "branch switch", "branch join", "sync", "save", "undo changes", "undo commit", "undo file"}

// troubled makes some runs of the program hard.
func (m *maker) troubled(l *look, words []string) []string {
	if words == nil || m.IntN(100) >= 65 {
		return words
	}
	trouble := pick(m, troubles).make(m, l)
	switch {
	case trouble[0] == "asked":
		words = slices.DeleteFunc(words, func(s string) bool { return s == "--yes" })
	case strings.HasPrefix(trouble[0], "cut") && l.rescue == "" && slices.Contains(keepers, order{words: words[3:]}.name()):
		trouble[2], trouble[3] = fmt.Sprintf("%srescue.git:%d", one(m, []string{"", "open:", "slow:", "slow:"}), 1+m.IntN(10)), "0" // while the place for copies is made
	case strings.HasPrefix(trouble[0], "cut"):
		m.cutAt(order{words: words[3:]}.name(), trouble)
	}
	return append(trouble, words...)
}

// again is what people do where a command failed: they work on, and type it again.
func (m *maker) again(l *look, s storyStep) []storyStep {
	var steps []storyStep
	for range 3 {
		if p := m.tracked(l); p != "" {
			steps = append(steps, storyStep{words: append([]string{"put", l.path(p)}, m.lines(l, p)...)})
		}
	}
	o, _ := s.order()
	return append(steps, storyStep{words: at(l, o.words...)})
}

// plainGit are what people do with git itself.
var plainGit = []drawn{
	{10, func(m *maker, l *look) []string { return at(l, "git", "commit", "-q", "-a", "-m", "Plain-"+m.word()) }},
	{4, func(m *maker, l *look) []string { return at(l, "git", "add", "-A") }},
	{3, func(m *maker, l *look) []string { return at(l, "git", "commit", "-q", "-m", "Staged-"+m.word()) }},
	{4, func(m *maker, l *look) []string {
		return at(l, "git", "commit", "-q", "--amend", "-a", "-m", "Amended-"+m.word())
	}},
	{6, func(m *maker, l *look) []string { return at(l, "git", "push", "-q", "origin", "HEAD") }},
	{4, func(m *maker, l *look) []string { return at(l, "git", "push", "-q", "--force", "origin", "HEAD") }},
	{3, func(m *maker, l *look) []string { return at(l, "git", "fetch", "-q", "--prune", "origin") }},
	{2, func(m *maker, l *look) []string {
		return at(l, "sh", "-c", "git pull -q --rebase || git rebase --abort")
	}},
	{2, func(m *maker, l *look) []string {
		return at(l, "sh", "-c", "git merge -q @{upstream} || git merge --abort")
	}},
	{2, func(m *maker, l *look) []string {
		return at(l, "git", "reset", "-q", one(m, []string{"--hard", "--soft", "--mixed"}), one(m, []string{"HEAD", "HEAD~1", "@{upstream}"}))
	}},
	{2, func(m *maker, l *look) []string {
		return at(l, "git", "stash", "push", "-q", one(m, []string{"-u", "-k"}))
	}},
	{2, func(m *maker, l *look) []string { return at(l, "git", "stash", "pop", "-q") }},
	{4, func(m *maker, l *look) []string {
		_, all := branches(l)
		if len(all) == 0 {
			return nil
		}
		return at(l, "git", "checkout", "-q", one(m, all))
	}},
	{3, func(m *maker, l *look) []string { return at(l, "git", "checkout", "-q", "-b", one(m, branchNames)) }},
	{1, func(m *maker, l *look) []string {
		return at(l, "git", "worktree", "add", "-q", "../"+l.folder+"-tree", "-b", "tree-"+m.word())
	}},
	{2, func(m *maker, l *look) []string { return at(l, "git", "gc", "-q", "--prune=now") }},
	{1, func(m *maker, l *look) []string { return at(l, "git", "reflog", "expire", "--expire=now", "--all") }},
	{1, func(m *maker, l *look) []string { return at(l, "git", "branch", "-m", one(m, branchNames)) }},
	{1, func(m *maker, l *look) []string { return at(l, "git", "branch", "-q", "-D", one(m, branchNames[1:])) }},
	{1, func(m *maker, l *look) []string {
		return at(l, "git", "push", "-q", "origin", "--delete", one(m, branchNames[1:]))
	}},
	{1, func(m *maker, l *look) []string { return at(l, "git", "sparse-checkout", "set", "--no-cone", "/src/") }},
	{2, func(m *maker, l *look) []string { return at(l, "git", "sparse-checkout", "disable") }},
	{1, toldOfIndex("--assume-unchanged")},
	{1, toldOfIndex("--no-assume-unchanged")},
	{1, toldOfIndex("--skip-worktree")},
	{1, toldOfIndex("--no-skip-worktree")},
	{1, func(m *maker, l *look) []string {
		if p := m.tracked(l); p != "" {
			return at(l, "git", "rm", "-q", "--cached", "--", p)
		}
		return nil
	}},
	{1, func(m *maker, l *look) []string { return at(l, "git", "tag", "-f", "mark-"+m.word()) }},
}

// toldOfIndex tells git how it is to look at a file from now on.
func toldOfIndex(how string) func(m *maker, l *look) []string {
	return func(m *maker, l *look) []string {
		if p := m.tracked(l); p != "" {
			return at(l, "git", "update-index", how, "--", p)
		}
		return nil
	}
}

// ours are the commands of the program.
var ours = []drawn{
	{14, func(m *maker, l *look) []string { return at(l, append([]string{"uncinate"}, m.save(l)...)...) }},
	{20, func(m *maker, l *look) []string { return at(l, append([]string{"uncinate"}, m.sync()...)...) }},
	{3, func(m *maker, l *look) []string {
		words := []string{"uncinate", "sync", "--all", "--yes"}
		if m.IntN(3) == 0 {
			words = append(words, "--save", "--message", "All-"+m.word())
		}
		return at(l, words...)
	}},
	{6, func(m *maker, l *look) []string {
		words := []string{"uncinate", "branch", "make", one(m, branchNames)}
		_, all := branches(l)
		if len(all) > 0 && m.IntN(2) == 0 {
			words = append(words, "--from", one(m, all))
		}
		for _, o := range []string{"--switch", "--publish"} {
			if m.IntN(2) == 0 {
				words = append(words, o)
			}
		}
		return at(l, words...)
	}},
	{8, func(m *maker, l *look) []string {
		_, all := branches(l)
		if len(all) == 0 {
			return nil
		}
		return at(l, "uncinate", "branch", "switch", one(m, all))
	}},
	{5, func(m *maker, l *look) []string {
		_, all := branches(l)
		if len(all) == 0 {
			return nil
		}
		return at(l, append([]string{"uncinate", "branch", "join", one(m, all), "--yes"}, m.clash()...)...)
	}},
	{4, func(m *maker, l *look) []string {
		words := []string{"uncinate", "settle", one(m, []string{"mine", "theirs", "both"}), "--yes"}
		if p := m.tracked(l); p != "" && m.IntN(3) == 0 {
			words = append(words, "--", p)
		}
		return at(l, words...)
	}},
	{1, func(m *maker, l *look) []string {
		return at(l, "uncinate", "settle", one(m, []string{"show", "cancel"}))
	}},
	{2, func(m *maker, l *look) []string {
		return at(l, "uncinate", "claim", "create", "--until", "1h", "--", one(m, []string{m.file(l), "place", "src", "*.csv"}))
	}},
	{2, func(m *maker, l *look) []string {
		return at(l, one(m, [][]string{{"uncinate", "claim", "list"}, {"uncinate", "claim", "release"}, {"uncinate", "settings", "set", "claim.required", "*.dwg"}, {"uncinate", "settings", "unset", "claim.required"}})...)
	}},
	{5, func(m *maker, l *look) []string {
		here, _ := branches(l)
		if len(here) == 0 {
			return nil
		}
		words := []string{"uncinate", "branch", "rename", one(m, here), one(m, branchNames), "--yes"}
		if m.IntN(5) == 0 {
			words = append(words, "--here")
		}
		return at(l, words...)
	}},
	{5, func(m *maker, l *look) []string {
		_, all := branches(l)
		if len(all) == 0 {
			return nil
		}
		words := []string{"uncinate", "branch", "remove", one(m, all), "--yes"}
		if m.IntN(4) == 0 {
			words = append(words, one(m, []string{"--here", "--on-host"}))
		}
		return at(l, words...)
	}},
	{2, func(m *maker, l *look) []string {
		words := []string{"uncinate", "tag", "make", fmt.Sprintf("%d.%d.0", m.IntN(9), m.IntN(99)), "--yes"}
		switch m.IntN(4) {
		case 0:
			words = append(words, "--here")
		case 1:
			words[3] = "mark-" + m.word()
			words = append(words, "--any-name")
		}
		return at(l, words...)
	}},
	{6, func(m *maker, l *look) []string {
		words := []string{"uncinate", "undo", "changes", "--yes"}
		if m.IntN(2) == 0 {
			words = append(words, "--", one(m, []string{m.file(l), m.file(l), "place", "src", "*.txt"}))
		}
		return at(l, words...)
	}},
	{6, func(m *maker, l *look) []string {
		return at(l, append([]string{"uncinate", "undo", "commit", "--yes"}, m.taken(l)...)...)
	}},
	{4, func(m *maker, l *look) []string {
		_, all := branches(l)
		to := one(m, append(all, "HEAD", "HEAD~1", "HEAD~2", "HEAD~5"))
		return at(l, "uncinate", "undo", "file", "--to", to, "--yes", "--", one(m, []string{m.file(l), m.file(l), "place", "src", "tables", "."}))
	}},
	{4, func(m *maker, l *look) []string {
		words := []string{"uncinate", "rescue", "bring", fmt.Sprint(m.IntN(len(l.copies)+1) + 1)}
		switch m.IntN(5) {
		case 0:
			words = append(words, "--as", "back-"+m.word())
		case 1:
			words = append(words, "--into", "../back-"+m.word())
		}
		return at(l, words...)
	}},
	{1, func(m *maker, l *look) []string {
		return at(l, "uncinate", "rescue", "drop", fmt.Sprint(m.IntN(len(l.copies)+1)+1), "--yes")
	}},
	{3, func(m *maker, l *look) []string {
		words := []string{"uncinate", "ignore", "add", one(m, []string{"*.tmp", "draft/", "plan.dwg", "run.sh"})}
		if p := m.tracked(l); p != "" && m.IntN(2) == 0 {
			words = []string{"uncinate", "ignore", "add", "/" + p, "--untrack"}
		}
		return at(l, words...)
	}},
	{1, func(m *maker, l *look) []string {
		return at(l, "uncinate", "rescue", "drop", "--older", "1", "--yes")
	}},
	{1, func(m *maker, l *look) []string { return at(l, "uncinate", "ignore", "keep") }},
	{1, func(m *maker, l *look) []string {
		return at(l, "uncinate", "branch", "make", one(m, branchNames[1:]), "--for", "knot", "--publish")
	}},
	{1, func(m *maker, l *look) []string {
		return at(l, "uncinate", "repository", "change", "saltmarsh/gauge", "--default-branch", one(m, branchNames[:2]), "--yes")
	}},
	{2, func(m *maker, l *look) []string { // what others do to it on the host
		project, _, _ := strings.Cut(l.folder, "-")
		words := one(m, [][]string{{"repository", "protect", "main"}, {"repository", "protect", "main", "--only", "tern"}, {"repository", "protect", "main", "--only", "knot"}, {"repository", "unprotect", "main"}, {"repository", "unprotect", "main"},
			{"access", "grant", "knot", "--right", "admin"}, {"access", "withdraw", "knot"}})
		return at(l, append(append([]string{"uncinate"}, words...), "--repository", "saltmarsh/"+project, "--yes")...)
	}},
	{2, func(m *maker, l *look) []string {
		project, _, _ := strings.Cut(l.folder, "-")
		words := []string{"uncinate", "repository", "archive", "saltmarsh/" + project, "--yes"}
		if m.IntN(4) > 0 {
			words = append(words, "--end")
		}
		return at(l, words...)
	}},
	{4, func(m *maker, l *look) []string {
		words := []string{"uncinate", "offer", "create", "--yes"}
		if m.IntN(2) == 0 {
			words = append(words, "--remove-branch")
		}
		return at(l, words...)
	}},
	{5, func(m *maker, l *look) []string { // of somebody, on any machine
		number := fmt.Sprint(m.IntN(6) + 1)
		words := one(m, [][]string{{"list"}, {"show", number}, {"fetch", number, "--yes"}, {"close", number, "--yes"}, {"accept", number, "--yes"}, {"accept", number, "--yes", "--remove-branch"},
			{"accept", number, "--yes", "--way", "replay"}, {"accept", number, "--yes", "--way", "one", "--remove-branch"}, {"close", number, "--yes", "--remove-branch"}})
		return at(l, append([]string{"uncinate", "offer"}, words...)...)
	}},
	{1, func(m *maker, l *look) []string {
		return at(l, "uncinate", one(m, []string{"sync", "detach", "attach"}), "--preview")
	}},
	{1, func(m *maker, l *look) []string { return at(l, "uncinate", "project", "forget", "--missing", "--yes") }},
	{1, func(m *maker, l *look) []string {
		return at(l, "uncinate", "save", "Let-"+m.word(), "--let", one(m, fileNames[:4]), "--reason", "it-is-made-up")
	}},
	{1, func(m *maker, l *look) []string { return at(l, "uncinate", "ignore", "add", "--suggested") }},
	{1, func(m *maker, l *look) []string {
		words := []string{"uncinate", "clone", "saltmarsh/" + one(m, []string{"gauge", "almanac"}), "../clone-" + m.word()}
		if m.IntN(3) == 0 {
			words = append(words, "--read-only")
		}
		return at(l, words...)
	}},
	{1, func(m *maker, l *look) []string { return at(l, "uncinate", "attach", "--yes") }},
	{1, func(m *maker, l *look) []string { return at(l, "uncinate", "detach", "--yes") }},
	{1, func(m *maker, l *look) []string {
		project, _, _ := strings.Cut(l.folder, "-")
		return at(l, "uncinate", "attach", "--to", "saltmarsh/"+project, "--yes", "--clash", one(m, []string{"mine", "theirs", "both"}))
	}},
	{1, func(m *maker, l *look) []string {
		return at(l, "uncinate", "project", "find", "..", "--yes")
	}},
	{1, func(m *maker, l *look) []string {
		return at(l, "uncinate", "settings", one(m, []string{"set", "unset"}), "save.ask-about", one(m, fileNames[:3]))
	}},
	onlyLooks[0],
}

// onlyLooks are the commands that change nothing.
var onlyLooks = []drawn{{6, func(m *maker, l *look) []string {
	return at(l, append([]string{"uncinate"}, one(m, [][]string{{"status", "--json"}, {"status"}, {"status", "--all"}, {"changes"}, {"history"}, {"branch", "list"}, {"rescue", "list"}, {"survey"}, {"ignore", "suggest"}})...)...)
}}}

func (m *maker) save(l *look) []string {
	words := []string{"save", "Save-" + m.word()}
	switch p := m.file(l); m.IntN(9) {
	case 0, 1:
		return append(words, "--only", p)
	case 2, 3:
		return append(words, "--except", p)
	case 4:
		return []string{"save", "--reword", "Reworded-" + m.word()}
	}
	return words
}

func (m *maker) sync() []string {
	words := []string{"sync"}
	if m.IntN(5) > 0 {
		words = append(words, "--yes")
	}
	switch m.IntN(8) {
	case 0:
		words = append(words, "--in")
	case 1:
		words = append(words, "--by", one(m, []string{"merge", "replay"}))
	case 2, 3:
		words = append(words, "--save", "--message", "Saved-"+m.word())
	}
	return append(words, m.clash()...)
}

// clash is now and then the option by which all clashes are decided.
func (m *maker) clash() []string {
	if m.IntN(4) > 0 {
		return nil
	}
	return []string{"--clash", one(m, []string{"mine", "theirs", "both"})}
}

// troubles make a run of the program hard.
var troubles = []drawn{
	{90, func(m *maker, l *look) []string { return append([]string{"cut"}, m.moment()...) }},
	{8, func(m *maker, l *look) []string {
		then := [][]string{{"uncinate", "save", "Then-" + m.word()}, {"uncinate", "sync", "--yes", "--save", "--message", "Then-" + m.word()}, {"uncinate", "branch", "switch", "main"}, {"uncinate", "status"}}
		return append(append([]string{"cut-then"}, m.moment()...), inner(one(m, then)...))
	}},
	{10, func(m *maker, l *look) []string {
		words := m.sync()
		if m.IntN(2) == 0 {
			words = m.save(l)
		}
		return []string{"both", inner(append([]string{l.machine, l.folder, "uncinate"}, words...)...)}
	}},
	{10, func(m *maker, l *look) []string {
		return []string{"writing", l.path(one(m, append(ignoreNames, fileNames[:8]...)))}
	}},
	{8, func(m *maker, l *look) []string {
		step := []string{"put", l.path(one(m, append(ignoreNames, fileNames...))), m.word()}
		if m.IntN(4) == 0 {
			step = at(l, "git", "commit", "-q", "-a", "-m", "Asked-"+m.word())
		}
		return []string{"asked", inner(step...)}
	}},
	{14, func(m *maker, l *look) []string {
		kind := one(m, []string{"lose", "cut", "delay=200ms", "garbage", "fail"})
		on := one(m, []string{"", " on info/refs", " on git-receive-pack", " on git-upload-pack", " on /deck/hull"})
		return []string{"fault", fmt.Sprintf("%s%s after %d times 1", kind, on, m.IntN(3))}
	}},
	{6, func(m *maker, l *look) []string {
		return []string{"room", fmt.Sprint(4 * one(m, []int{0, 1, 2, 5, 10, 15, 20, 30, 50}))}
	}},
}

// moment draws who is killed, and when. cutAt makes it fit the command.
func (m *maker) moment() []string {
	who := one(m, []string{"alone", "all"})
	switch m.IntN(4) {
	case 0:
		return []string{who, one(m, []string{"", "slow:"}) + fmt.Sprint(1+m.IntN(1000)), "0"}
	case 1, 2:
		return []string{who, fmt.Sprintf("open:%d", 1+m.IntN(1000)), "0"}
	}
	return []string{who, "0", fmt.Sprint(1 + m.IntN(1000))}
}

// cutAt turns the thousandths of a command that moment draws into events or milliseconds, by how
// far commands of the name were seen to go; one that was not cut yet is taken to be short.
func (m *maker) cutAt(name string, trouble []string) {
	part, kind := 2, ""
	if trouble[2] == "0" {
		part = 3
	} else if at := strings.LastIndex(trouble[2], ":"); at >= 0 {
		kind = trouble[2][:at+1]
	}
	n, err := strconv.Atoi(strings.TrimPrefix(trouble[part], kind))
	if err != nil {
		panic(err) // moment made it
	}
	if m.IntN(2) == 0 {
		n = n * n / 1000 // early ones are met by more commands
	}
	first := map[string]int{"": 20, "open:": 100, "slow:": 20}[kind]
	if part == 3 {
		first = 40
	}
	trouble[part] = kind + fmt.Sprint(1+n*cmp.Or(m.t.reach[reachOf(name, part == 3, kind)], first)/1000)
}

// place draws a project on a machine.
func (m *maker) place() *look {
	if m.last != nil && m.IntN(2) == 0 {
		if l := m.now[m.last.machine].in(m.last.folder); l != nil {
			return l
		}
	}
	looks := m.now[one(m, machineNames)].looks
	if len(looks) == 0 {
		return nil
	}
	m.last = one(m, looks)
	if m.IntN(3) > 0 { // mostly on gauge, where all three meet
		if i := slices.IndexFunc(looks, func(l *look) bool { return l.folder == "gauge" }); i >= 0 {
			m.last = looks[i]
		}
	}
	return m.last
}

// rare draws several steps, and takes what was played least until now.
func (m *maker) rare(l *look) []string {
	var least []string
	fewest := 0
	for range 6 {
		from := one(m, [][]drawn{edits, plainGit, plainGit, ours, ours, ours, ours, onlyLooks})
		words := one(m, from).make(m, l)
		if words == nil {
			continue
		}
		if times := m.t.counts[storyStep{words: words}.class()]; least == nil || times < fewest {
			least, fewest = words, times
		}
	}
	if o, runs := (storyStep{words: least}).order(); runs && o.program() {
		return m.troubled(l, least)
	}
	return least
}

// next draws what comes next in a story.
func (m *maker) next() []storyStep {
	for {
		l := m.place()
		if l == nil {
			continue
		}
		var lines [][]string
		switch n := m.IntN(100); {
		case n < 30:
			lines = [][]string{pick(m, edits).make(m, l)}
		case n < 35:
			lines = m.several(l)
		case n < 43 && !m.plain:
			lines = m.meet()
		case n < 55 || m.plain:
			lines = [][]string{pick(m, plainGit).make(m, l)}
		case n < 78:
			lines = [][]string{m.troubled(l, pick(m, ours).make(m, l))}
		default:
			lines = [][]string{m.rare(l)}
		}
		var steps []storyStep
		for _, words := range lines {
			if words != nil {
				steps = append(steps, storyStep{words: words})
			}
		}
		if len(steps) > 0 {
			return steps
		}
	}
}
