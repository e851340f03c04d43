package job

import (
	"context"
	"slices"
	"strconv"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
)

// Stay is a group of files that do not go up.
type Stay struct {
	Pattern string `json:"pattern"` // the ignore rule; "" for the person's own rules
	Why     string `json:"why"`
	Files   int    `json:"files"`
	Bytes   int64  `json:"bytes"`
}

// travel is what would go up with a first commit, and what would not.
type travel struct {
	up       []string // paths from the top, with slashes
	gone     []string // staged, and deleted since
	bytes    int64
	stays    []Stay
	rules    []kinds.Rule // to be added to the ignore rules
	nested   []string     // folders with a repository of their own
	findings []survey.Finding
	files    []survey.File // as they were when we looked
}

// travels surveys a folder for its first commit.
func (d *Desk) travels(ctx context.Context, f *folder, choice survey.Choice, limits survey.Limits, let []Let) (*travel, error) {
	s, err := d.surveyFolder(ctx, f, choice, limits, nil)
	if err != nil {
		return nil, err
	}
	s.let = append(s.let, let...)
	t := &travel{gone: s.gone, findings: s.findings()}
	groups := map[string]*Stay{}
	var order []string
	hit := make([]bool, len(s.sorted.Rules))
	for i, x := range s.sorted.Files {
		var pattern, why string
		switch s.sorted.Class[i] {
		case survey.Work:
			if x.Type == survey.Nested {
				continue // a submodule, which git has already
			}
			t.up = append(t.up, x.Path)
			t.files = append(t.files, x)
			t.bytes += x.Size
			continue
		case survey.Uncarried:
			if x.Type == survey.Nested && x.Rule == nil {
				t.nested = append(t.nested, x.Path)
			}
			continue
		case survey.Ignored:
			why = "left out by your own ignore rules"
		case survey.Unchosen:
			why = "not chosen"
		default:
			n := s.sorted.ByRule[i]
			pattern, why = s.sorted.Rules[n].Pattern, s.sorted.Rules[n].Why
			hit[n] = true
		}
		g := groups[pattern+"\x00"+why]
		if g == nil {
			g = &Stay{Pattern: pattern, Why: why}
			groups[pattern+"\x00"+why] = g
			order = append(order, pattern+"\x00"+why)
		}
		g.Files++
		g.Bytes += x.Size
	}
	for n, r := range s.sorted.Rules {
		if hit[n] {
			t.rules = append(t.rules, r)
		}
	}
	for _, p := range order {
		t.stays = append(t.stays, *groups[p])
	}
	slices.SortStableFunc(t.stays, func(a, b Stay) int { return b.Files - a.Files })
	return t, nil
}

func (t *travel) staying() int {
	n := 0
	for _, s := range t.stays {
		n += s.Files
	}
	return n
}

// mostShown is how many findings a refusal shows.
const mostShown = 8

// checkFindings refuses to send what must not go up like this. folder is the project's as
// the person named it, and again the same command with other options.
func checkFindings(found []survey.Finding, folder string, again func(options ...string) string) error {
	var stop []survey.Finding
	changing := 0
	for _, x := range found {
		if x.Weight == survey.Stop {
			stop = append(stop, x)
			if x.About == "changing" {
				changing++
			}
		}
	}
	if len(stop) == 0 {
		return nil
	}
	stop = PerFile(stop)
	paths := map[string]bool{}
	for _, x := range stop {
		paths[x.Path] = true
	}
	f := fault.New(fault.Refused, "%s would go up that must not, as %s", text.Count(len(paths), "file"), map[bool]string{true: "it stands", false: "they stand"}[len(paths) == 1])
	if changing == len(stop) {
		f = fault.New(fault.Decision, "%s being written while we look, so what would go up now would be half of it", map[bool]string{true: "a file is", false: text.Count(changing, "file") + " are"}[changing == 1])
	}
	var lines []string
	for _, x := range stop {
		lines = append(lines, Sentence(x))
	}
	firstOf(f, lines)
	if changing == len(stop) {
		return f.Try("wait until the program that writes is done, then", again())
	}
	done := map[string]bool{}
	for _, x := range stop {
		if len(x.Fix) == 0 || done[x.Path] || len(done) == 4 {
			continue
		}
		done[x.Path] = true
		why := "keep it here"
		if len(done) > 1 {
			why = "and this one"
		}
		f.Try(why, FolderCommand(folder, x.Fix...))
	}
	if len(paths) > len(done) {
		f.Try("see all", surveyCommand(folder))
	}
	if i := slices.IndexFunc(stop, func(x survey.Finding) bool { return x.Path != "" }); i >= 0 {
		f.Try("or let one up, with the reason", again("--let", stop[i].Path, "--reason", "TEXT"))
	}
	return f
}

// PerFile puts findings together that say the same of one file: the first is kept, and how
// many more there are.
func PerFile(all []survey.Finding) []survey.Finding {
	var out []survey.Finding
	at := map[[2]string]int{}
	for _, x := range all {
		key := [2]string{x.Path, x.Says}
		if i, again := at[key]; again && x.Path != "" {
			out[i].More += 1 + x.More
			continue
		}
		at[key] = len(out)
		out = append(out, x)
	}
	return out
}

// Sentence says a finding in a line.
func Sentence(x survey.Finding) string {
	at := text.Visible(x.Path)
	if x.Line > 0 {
		at += ":" + strconv.Itoa(x.Line)
	}
	s := at + " " + x.Says
	if x.Path == "" {
		s = x.Says
	}
	if x.Excerpt != "" {
		s += ": " + x.Excerpt
	}
	if x.More > 0 {
		s += ", and " + text.Number(x.More) + " more in it"
	}
	return s
}

// firstOf puts the first of many lines into a fault, and how many more there are.
func firstOf(f *fault.Fault, lines []string) {
	for i, line := range lines {
		if i == mostShown {
			f.Detail("and %d more", len(lines)-i)
			return
		}
		f.Detail("%s", line)
	}
}

// visible makes paths fit to be shown.
func visible(paths []string) []string {
	out := make([]string, len(paths))
	for i, p := range paths {
		out[i] = text.Visible(p)
	}
	return out
}

// FolderCommand is a command about a project's folder, to be pasted where the person is
// who named it so.
func FolderCommand(given string, words ...string) string {
	words = append([]string{"uncinate"}, words...)
	if given != "." && given != "" {
		words = append(words, "--folder", given)
	}
	return text.Command(words...)
}

func surveyCommand(given string) string {
	words := []string{"uncinate", "survey"}
	if given != "." && given != "" {
		words = append(words, given)
	}
	return text.Command(words...)
}
