//go:build linux

package e2e

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"uncinate/internal/core/kinds"
)

// The rules that a run of the program must keep. Each finding names its rule.
const (
	ruleLost     = "lost"                   // contents that were held are held nowhere
	ruleLine     = "written line lost"      // what a program wrote meanwhile
	ruleCopy     = "rescue copy not whole"  // what it says to hold cannot be brought back
	ruleDamaged  = "damaged"                // git fsck finds fault
	ruleShallow  = "shallow"                // a project's history was shortened
	ruleRefs     = "refs of ours"           // among the project's, or on the host
	ruleHalf     = "half state"             // locks, journals, leftovers, an open merge
	ruleStuck    = "stuck"                  // it fails, and goes on failing
	ruleStep     = "not in step"            // it says so, and the host's branch is another
	ruleTouched  = "touched"                // modes, links or times of files that nobody changed
	ruleCode     = "exit code"              // none of ours
	rulePanic    = "panic"                  //
	ruleHangs    = "hangs"                  //
	ruleLooking  = "changed by looking"     // a command that only looks changed something
	ruleRefused  = "changed though refused" // it refused, and changed something all the same
	ruleStranger = "left over"              // a file that nobody wrote
	ruleOwn      = "not one's own"          // a commit holds what was never the person's
	ruleSays     = "says what is not so"    //
)

// finding is a rule that was broken.
type finding struct {
	rule    string
	command string // which one, without its arguments
	trouble string // what made it hard
	says    string // the one case
}

// class is what findings of one cause have in common.
func (f finding) class() string {
	class := f.rule + " · " + f.command + " · " + f.trouble
	if slices.Contains([]string{ruleStuck, ruleHalf, ruleDamaged, rulePanic}, f.rule) {
		class += " · " + general(f.says)
	}
	return class
}

// particular are the parts of a sentence that differ from case to case.
var particular = regexp.MustCompile(`[0-9a-f]{7,64}|\d+|'[^']*'|(/|\b)[\w.-]*/[\w./-]*`)

// general is the beginning of what was said, without what differs from case to case.
func general(says string) string {
	says, _, _ = strings.Cut(particular.ReplaceAllString(says, "_"), " | ")
	if runes := []rune(says); len(runes) > 70 {
		return string(runes[:70])
	}
	return says
}

// moment is all that a machine and the hosts hold at one time.
type moment struct {
	looks []*look
	hosts map[string]map[string]string
	held  map[string]bool
	works []string // unfinished work: journals, and what is aside
}

func (w *storyWorld) moment(name string) moment {
	m := moment{looks: w.lookAt(name), hosts: w.lookAtHosts()}
	state := filepath.Join(w.all[name].home, ".uncinate/state")
	for _, pattern := range []string{"journal/*.journal", "aside/*"} {
		found, _ := filepath.Glob(filepath.Join(state, pattern))
		m.works = append(m.works, found...)
	}
	m.held = w.holds(m.looks, m.hosts)
	return m
}

func (m moment) in(folder string) *look {
	for _, l := range m.looks {
		if l.folder == folder {
			return l
		}
	}
	return nil
}

// looking are the commands that change nothing.
var looking = []string{"status", "changes", "history", "branch list", "rescue list", "survey", "ready", "ignore suggest", "ignore explain"}

// judge compares what was before a run of the program with what is after it.
func (w *storyWorld) judge(s storyStep, o order, before, after moment, r ran) []finding {
	var all []finding
	found := func(rule, format string, args ...any) {
		all = append(all, finding{rule, o.name(), s.trouble(), fmt.Sprintf(format, args...)})
	}
	last := r.last()
	for i, run := range r.runs {
		both := run.out + run.err
		if strings.Contains(both, "panic:") || strings.Contains(both, "goroutine 1 [") || strings.Contains(both, "fatal error:") {
			found(rulePanic, "%s", excerpt(both))
		}
		if run.code == -2 {
			found(ruleHangs, "after %s: %s", w.longest, excerpt(both))
		} else if !slices.Contains([]int{0, 1, 2, 3, 4, 5, 6, 130}, run.code) && !(i == 0 && r.cut) {
			found(ruleCode, "%d: %s", run.code, excerpt(both))
		}
		if strings.Contains(both, "rescue copy 0") {
			found(ruleSays, "rescue copy 0: %s", excerpt(both))
		}
	}
	if last.code == 1 && s.words[0] != "both" && !trueFailure(last) || last.code == 6 {
		found(ruleStuck, "%s", excerpt(last.err))
	}
	w.judgeHeld(o, before, after, r, found)
	now, was := after.in(o.folder), before.in(o.folder)
	for _, l := range after.looks {
		w.judgeState(l, before.in(l.folder), found)
	}
	for dir, refs := range after.hosts {
		own := maps.Clone(refs)
		maps.DeleteFunc(own, func(name, _ string) bool { return strings.HasPrefix(name, "refs/offered/") }) // the host keeps what was offered
		foreign(own, found)
		if !maps.Equal(refs, before.hosts[dir]) {
			w.fsck(dir, found)
		}
	}
	if now != nil && was != nil {
		w.judgeFolder(s, o, was, now, before, after, r, found)
	}
	if last.code == 0 && s.words[0] != "both" {
		w.judgeStep(o, now, last, after, found)
		for _, path := range after.works {
			if !slices.Contains(before.works, path) && s.words[0] != "both" {
				found(ruleHalf, "%s/%s is left", filepath.Base(filepath.Dir(path)), strings.Split(filepath.Base(path), "-")[0])
			}
		}
	}
	return all
}

// excerpt shortens what was printed.
func excerpt(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	if len(lines) > 6 {
		lines = append(lines[:3], lines[len(lines)-3:]...)
	}
	s = strings.Join(lines, " | ")
	if len(s) > 400 {
		s = s[:400] + "…"
	}
	return s
}

// failures are sentences of failures that are true and can be helped by the person.
var failures = regexp.MustCompile(`nothing to save|nothing clashes|nothing that differs is called|is as in the last commit|told to ignore it|nothing of .* is left|there is no rescue copy|holds no file|there is no branch|there is no .* in |no such commit|nothing was ever|another uncinate|program is working|is the last commit here|there is no commit|already checked out at|is archived on gannet|is protected on gannet|there is nothing to offer|has no offer|no longer there`)

func trueFailure(r result) bool { return failures.MatchString(r.err + r.out) }

// ownSection reports whether a file holds nothing but our own marked section.
func ownSection(data []byte) bool {
	s := strings.TrimSpace(string(data))
	return strings.HasPrefix(s, kinds.Opening) && strings.HasSuffix(s, kinds.Closing)
}

// judgeHeld looks for contents that were held before and are held nowhere now.
func (w *storyWorld) judgeHeld(o order, before, after moment, r ran, found func(string, string, ...any)) {
	if o.name() == "rescue drop" || o.name() == "repository delete" || r.other.name() == "rescue drop" {
		return // the person removes it
	}
	meanwhile := map[string]bool{}
	for _, l := range before.looks {
		for _, p := range r.paths {
			meanwhile[l.files[strings.TrimPrefix(p, filepath.Join(l.machine, l.folder)+"/")].id] = true
		}
	}
	var lost []string
	for id := range before.held {
		x := w.objects.all[id]
		if x != nil && o.name() == "settings unset" && ownSection(x.data) {
			continue // what a setting put there, and nothing else
		}
		if x != nil && x.kind == "blob" && !after.held[id] && !meanwhile[id] && !w.within(id, after) && !superseded(id, o, r, before) && (r.other.words == nil || !superseded(id, r.other, r, before)) {
			lost = append(lost, id)
		}
	}
	slices.Sort(lost)
	for _, id := range lost {
		where := where(id, before, w)
		if where == "" {
			continue
		}
		found(ruleLost, "%s, which was in %s (%s)", id[:10], where, excerpt(string(w.objects.all[id].data)))
		break
	}
	if len(r.lines) == 0 {
		return
	}
	all := map[string]bool{}
	for id := range after.held {
		if x := w.objects.all[id]; x != nil && x.kind == "blob" && !before.held[id] {
			for line := range strings.Lines(string(x.data)) {
				all[strings.TrimSpace(line)] = true
			}
		}
	}
	gone := 0
	for _, line := range r.lines {
		if !all[line] {
			gone++
		}
	}
	if gone > 0 {
		found(ruleLine, "%d of the %d lines that were added to %s meanwhile", gone, len(r.lines), r.paths[0])
	}
}

// superseded reports whether contents were only staged, and whoever staged them then saved
// what the file holds now, which replaces them.
func superseded(id string, o order, r ran, before moment) bool {
	saves := slices.ContainsFunc([]order{o, r.other}, func(o order) bool {
		return (o.name() == "save" || o.name() == "sync" && o.has("--save") || o.name() == "git commit" && o.has("-a")) && !o.has("--reword")
	})
	l := before.in(o.folder)
	if o.has("--all") { // whichever project it was staged in
		for _, other := range before.looks {
			if slices.ContainsFunc(slices.Collect(maps.Values(other.index)), func(staged string) bool { return strings.HasSuffix(staged, id) }) {
				l = other
			}
		}
	}
	if !saves || l == nil {
		return false
	}
	for key, staged := range l.index {
		path := strings.TrimSuffix(key, " 0")
		if !strings.HasSuffix(staged, id) || o.has("--all") {
			continue
		}
		only, except := valueOf(o.words, "--only"), valueOf(o.words, "--except")
		if only != "" && only != path || except != "" && (except == path || strings.HasPrefix(path, except+"/")) {
			return false
		}
	}
	for _, l := range before.looks { // it must be nowhere else
		for _, f := range l.files {
			if f.id == id {
				return false
			}
		}
	}
	return slices.ContainsFunc(slices.Collect(maps.Values(l.index)), func(staged string) bool { return strings.HasSuffix(staged, id) })
}

// valueOf gives the value of an option.
func valueOf(words []string, option string) string {
	if i := slices.Index(words, option); i >= 0 && i+1 < len(words) {
		return words[i+1]
	}
	return ""
}

// within reports whether all lines of a file are in a file that holds more now.
func (w *storyWorld) within(id string, after moment) bool {
	lines := strings.Split(strings.TrimSpace(string(w.objects.all[id].data)), "\n")
	if len(lines) == 1 && lines[0] == "" {
		return true
	}
	for _, l := range after.looks {
		for _, f := range l.files {
			x := w.objects.all[f.id]
			if x == nil || len(x.data) == 0 {
				continue
			}
			have := "\n" + string(x.data)
			if !slices.ContainsFunc(lines, func(line string) bool { return !strings.Contains(have, "\n"+line+"\n") }) {
				return true
			}
		}
	}
	return false
}

// where tells where contents stood.
func where(id string, m moment, w *storyWorld) string {
	for _, l := range m.looks {
		for p, f := range l.files {
			if f.id == id {
				return "the file " + l.folder + "/" + p
			}
		}
		for p, staged := range l.index {
			if strings.HasSuffix(staged, id) {
				return "the index of " + l.folder + " as " + p
			}
		}
	}
	for _, l := range m.looks {
		for name, tip := range l.refs {
			seen := map[string]bool{}
			if w.objects.below(l.common, []string{tip}, nil, seen); seen[id] {
				return l.folder + "'s " + name
			}
		}
		for name, tip := range l.copies {
			seen := map[string]bool{}
			if w.objects.below(l.rescue, []string{tip}, l.cut, seen); seen[id] {
				return l.folder + "'s rescue copy " + filepath.Base(name)
			}
		}
	}
	for dir, refs := range m.hosts {
		for name, tip := range refs {
			seen := map[string]bool{}
			if w.objects.below(dir, []string{tip}, nil, seen); seen[id] {
				return "the host's " + name
			}
		}
	}
	return "a reflog"
}

// foreign finds refs that neither git nor a person makes.
func foreign(refs map[string]string, found func(string, string, ...any)) {
	for name := range refs {
		if parts := strings.SplitN(name, "/", 3); !slices.Contains([]string{"heads", "remotes", "tags", "stash", "bisect", "worktree"}, parts[1]) && name != "refs/uncinate/claims" {
			found(ruleRefs, "%s", name)
			return
		}
	}
}

// danglingHead is what git says of refs/remotes/NAME/HEAD once its own "fetch --prune" has taken
// away the branch that it stands for.
var danglingHead = regexp.MustCompile(`(?m)^error: refs/remotes/[^/\n]*/HEAD: invalid sha1 pointer 0+$`)

// fsck lets git look for damage.
func (w *storyWorld) fsck(dir string, found func(string, string, ...any)) {
	c := exec.Command("git", "--git-dir="+dir, "fsck", "--strict", "--no-progress", "--no-dangling")
	c.Env = append(w.all["pier"].env, "GIT_CONFIG_GLOBAL=/dev/null")
	if out, err := c.CombinedOutput(); err != nil && strings.Trim(danglingHead.ReplaceAllString(string(out), ""), "\n") != "" {
		found(ruleDamaged, "%s: %s", filepath.Base(dir), excerpt(string(out)))
	}
}

// judgeState looks at one project by itself, where something in it changed.
func (w *storyWorld) judgeState(l, was *look, found func(string, string, ...any)) {
	foreign(l.refs, found)
	if was == nil || !slices.Equal(l.tips, was.tips) || !maps.Equal(l.index, was.index) {
		w.fsck(l.own, found)
	}
	if l.rescue != "" && (was == nil || !maps.Equal(l.copies, was.copies)) {
		w.fsck(l.rescue, found)
		foreignCopies(l.copies, found)
	}
	if was == nil {
		was = &look{}
	}
	if l.shallow && !was.shallow {
		found(ruleShallow, "%s", l.folder)
	}
	for _, n := range l.merging {
		if !slices.Contains(was.merging, n) {
			found(ruleHalf, "%s in %s", n, l.folder)
		}
	}
	for _, n := range l.odd {
		if !slices.Contains(was.odd, n) {
			found(ruleHalf, "%s/.git/%s is left", l.folder, n)
		}
	}
}

func foreignCopies(copies map[string]string, found func(string, string, ...any)) {
	for name := range copies {
		if !strings.HasPrefix(name, "refs/copies/") {
			found(ruleRefs, "%s among the rescue copies", name)
		}
	}
}

// made are names that the program itself gives files.
var made = []string{".gitignore", ".gitattributes", ".gitkeep"}

// judgeFolder compares the project's folder before and after.
func (w *storyWorld) judgeFolder(s storyStep, o order, was, now *look, before, after moment, r ran, found func(string, string, ...any)) {
	last := r.last()
	quiet := s.words[0] == "at"
	for _, p := range slices.Sorted(maps.Keys(now.files)) {
		f, old := now.files[p], was.files[p]
		touched := slices.Contains(r.paths, filepath.Join(o.machine, o.folder, p))
		if old.id == f.id && old.mode.Type() == f.mode.Type() && !touched {
			asked := slices.Contains([]string{"undo changes", "undo file", "rescue bring"}, o.name()) // modes go back too
			if !asked && old.mode != f.mode && modeOf(was.index, p) == modeOf(now.index, p) {
				found(ruleTouched, "%s was %v and is %v", p, old.mode, f.mode)
			} else if quiet && old.mode == f.mode && old.mtime != f.mtime && f.mode&fs.ModeSymlink == 0 {
				found(ruleTouched, "%s has another time, and the same contents", p)
			}
		} else if old.id != f.id && !touched && !slices.Contains(made, filepath.Base(p)) && !before.held[f.id] && !commits(w, after, f.id) {
			found(ruleStranger, "%s: %s", p, excerpt(string(w.objects.all[f.id].data)))
		}
	}
	same := maps.Equal(heads(was), heads(now)) && was.head == now.head && sameFiles(was, now)
	if quiet && slices.Contains(looking, o.name()) && o.name() != "project find" && !(same && maps.Equal(was.index, now.index)) {
		found(ruleLooking, "%s", difference(was, now))
	}
	if quiet && slices.Contains([]int{2, 3, 4, 5}, last.code) && !o.has("--save") && !o.has("--all") && !same {
		found(ruleRefused, "exit %d: %s; %s", last.code, difference(was, now), excerpt(last.err))
	}
	if r.mid != nil && strings.Contains(r.other.name(), "save") {
		w.judgeOwn(was, now, o, r, found)
	}
}

func modeOf(index map[string]string, path string) string {
	mode, _, _ := strings.Cut(index[path+" 0"], " ")
	return mode
}

// heads are a project's branches.
func heads(l *look) map[string]string {
	all := maps.Clone(l.refs)
	maps.DeleteFunc(all, func(name, _ string) bool { return !strings.HasPrefix(name, "refs/heads/") })
	return all
}

func sameFiles(a, b *look) bool {
	return maps.EqualFunc(a.files, b.files, func(x, y lying) bool { return x.id == y.id && x.mode == y.mode })
}

// difference names the first thing in which two looks differ.
func difference(was, now *look) string {
	if was.head != now.head {
		return "HEAD was " + was.head + " and is " + now.head
	}
	for _, m := range []map[string]string{heads(was), was.index} {
		other := heads(now)
		if maps.Equal(m, was.index) {
			other = now.index
		}
		for k, v := range m {
			if other[k] != v {
				return fmt.Sprintf("%s was %s and is %s", k, v, other[k])
			}
		}
		for k, v := range other {
			if m[k] != v {
				return fmt.Sprintf("%s was %s and is %s", k, m[k], v)
			}
		}
	}
	for p, f := range was.files {
		if now.files[p].id != f.id {
			return p + " was changed"
		}
	}
	return "a file is new"
}

// commits reports whether contents are in a commit, or are staged.
func commits(w *storyWorld, m moment, id string) bool {
	held := map[string]bool{}
	for _, l := range m.looks {
		for _, staged := range l.index {
			held[strings.Fields(staged)[1]] = true
		}
		w.objects.below(l.common, l.tips, nil, held)
	}
	return held[id]
}

// judgeOwn looks at the commit that a save made after another command was killed: it may
// hold only what the person had in the folder, or staged.
func (w *storyWorld) judgeOwn(was, now *look, o order, r ran, found func(string, string, ...any)) {
	id := regexp.MustCompile(`Commit ([0-9a-f]{10})`).FindStringSubmatch(r.runs[1].out)
	if id == nil {
		return
	}
	c := exec.Command("git", "-c", "core.quotePath=false", "--git-dir="+now.own, "diff-tree", "-r", "--root", "--no-commit-id", "--no-renames", id[1])
	out, _ := c.Output() // a commit that went again tells nothing
	for line := range strings.Lines(string(out)) {
		about, path, _ := strings.Cut(strings.TrimSpace(line), "\t")
		fields := strings.Fields(about)
		if len(fields) < 5 || slices.Contains(made, filepath.Base(path)) {
			continue
		}
		before, there := was.files[path]
		staged := strings.HasSuffix(was.index[path+" 0"], " "+fields[3]) && fields[4] != "D"
		_, tracked := was.index[path+" 0"]
		untracked := fields[4] == "D" && (!tracked || strings.Contains(strings.Join(o.words, " ")+" ", "ignore add /"+path+" ")) // what was asked for
		if fields[4] == "D" && !there || before.id == fields[3] || staged || untracked {
			continue
		}
		found(ruleOwn, "the commit changes %s, which the person did not (%s)", path, fields[4])
		return
	}
}

// judgeStep compares what the program says of branch and host with the host itself.
func (w *storyWorld) judgeStep(o order, now *look, last result, after moment, found func(string, string, ...any)) {
	if now == nil {
		return
	}
	branch, onBranch := strings.CutPrefix(now.head, "ref: refs/heads/")
	if !onBranch {
		return
	}
	says := false
	switch o.name() {
	case "sync":
		says = !o.has("--all") && !o.has("--in") && !o.has("--preview") && (strings.Contains(last.out, "In step") || strings.Contains(last.out, "in step"))
	case "status":
		var doc struct {
			Ahead, Behind         int
			Unsent, Asked, Moved  bool
			Gone                  bool
			Commit, Address, Page string
		}
		says = o.has("--json") && json.Unmarshal([]byte(last.out), &doc) == nil && doc.Asked && !doc.Moved && doc.Ahead+doc.Behind == 0 && !doc.Unsent && !doc.Gone && doc.Commit != "" && doc.Address != ""
	}
	if !says {
		return
	}
	upstream := branch
	c := exec.Command("git", "--git-dir="+now.own, "config", "branch."+branch+".merge")
	if out, err := c.Output(); err == nil {
		upstream = strings.TrimPrefix(strings.TrimSpace(string(out)), "refs/heads/")
	}
	here, dir := now.refs["refs/heads/"+branch], w.hostOf(now, branch)
	host := after.hosts[dir]
	if dir == "" {
		return
	}
	there := host["refs/heads/"+upstream]
	if here != there && here != host["refs/heads/"+branch] {
		found(ruleStep, "%s is %.10s here and %s is %.10s on the host: %s", branch, here, upstream, there, excerpt(last.out))
	}
}

// hostOf gives the folder in which the host keeps the repository that a branch goes to; ""
// where it is none of this world's.
func (w *storyWorld) hostOf(l *look, branch string) string {
	config := func(key string) string {
		c := exec.Command("git", "--git-dir="+l.own, "config", key)
		out, _ := c.Output() // what is not set is ""
		return strings.TrimSpace(string(out))
	}
	to := config("remote." + cmp.Or(config("branch."+branch+".remote"), "origin") + ".url")
	if at, is := strings.CutPrefix(to, w.plain.at); is {
		return at
	}
	path := strings.TrimSuffix(strings.TrimPrefix(to, w.host.URL+"/"), ".git")
	owner, name, _ := strings.Cut(path, "/")
	for _, r := range w.host.Store.List("tern", "") {
		if r.Owner == owner && r.Name == name {
			return w.host.Store.GitDir(r.ID)
		}
	}
	return ""
}
