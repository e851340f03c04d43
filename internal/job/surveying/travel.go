package surveying

import (
	"context"
	"slices"
	"strconv"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
)

// Stay is a group of files that do not go up.
type Stay struct {
	Pattern string `json:"pattern"` // the ignore rule; "" for the person's own rules
	Why     string `json:"why"`
	Files   int    `json:"files"`
	Bytes   int64  `json:"bytes"`
}

// Travel is what would go up with a first commit, and what would not.
type Travel struct {
	Up       []string // paths from the top, with slashes
	Gone     []string // staged, and deleted since
	Bytes    int64
	Stays    []Stay
	Rules    []kinds.Rule // to be added to the ignore rules
	Nested   []string     // folders with a repository of their own
	Unchosen []string     // files that the person's choice leaves out
	Findings []survey.Finding
	Files    []survey.File // as they were when we looked
}

// Travels surveys a folder for its first commit.
func Travels(ctx context.Context, d *desk.Desk, f *project.Folder, choice survey.Choice, limits survey.Limits, let []Let) (*Travel, error) {
	s, err := SurveyFolder(ctx, d, f, choice, limits, nil)
	if err != nil {
		return nil, err
	}
	s.Let = append(s.Let, let...)
	t := &Travel{Gone: s.gone, Findings: s.Findings()}
	groups := map[string]*Stay{}
	var order []string
	hit := make([]bool, len(s.Sorted.Rules))
	for i, x := range s.Sorted.Files {
		var pattern, why string
		switch s.Sorted.Class[i] {
		case survey.Work:
			if x.Type == survey.Nested {
				continue // a submodule, which git has already
			}
			t.Up = append(t.Up, x.Path)
			t.Files = append(t.Files, x)
			t.Bytes += x.Size
			continue
		case survey.Uncarried:
			if x.Type == survey.Nested && x.Rule == nil {
				t.Nested = append(t.Nested, x.Path)
			}
			continue
		case survey.Ignored:
			why = "left out by your own ignore rules"
		case survey.Unchosen:
			why = "not chosen"
			t.Unchosen = append(t.Unchosen, x.Path)
		default:
			n := s.Sorted.ByRule[i]
			pattern, why = s.Sorted.Rules[n].Pattern, s.Sorted.Rules[n].Why
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
	for n, r := range s.Sorted.Rules {
		if hit[n] {
			t.Rules = append(t.Rules, r)
		}
	}
	t.Rules = append(t.Rules, s.Sorted.Ahead...)
	for _, p := range order {
		t.Stays = append(t.Stays, *groups[p])
	}
	slices.SortStableFunc(t.Stays, func(a, b Stay) int { return b.Files - a.Files })
	return t, nil
}

// Staying counts the files that stay.
func (t *Travel) Staying() int {
	n := 0
	for _, s := range t.Stays {
		n += s.Files
	}
	return n
}

// CheckFindings refuses to send what must not go up like this. folder is the project's as
// the person named it, and again the same command with other options.
func CheckFindings(found []survey.Finding, folder string, again func(options ...string) string) error {
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
	f := fault.New(fault.Refused, "%s would go up that must not, as %s", text.Count(len(paths), "file"), text.Either(len(paths) == 1, "it is", "they are"))
	if changing == len(stop) {
		f = fault.New(fault.Decision, "%s being written while we look, so what would go up now would be half of it", text.Either(changing == 1, "a file is", text.Count(changing, "file")+" are"))
	}
	var lines []string
	for _, x := range stop {
		lines = append(lines, Sentence(x))
	}
	desk.FirstOf(f, lines)
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
		f.Try(why, desk.FolderCommand(folder, x.Fix...))
	}
	if len(paths) > len(done) {
		f.Try("see all", SurveyCommand(folder))
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

// SurveyCommand is the survey of a folder, as a command to paste.
func SurveyCommand(given string) string {
	words := []string{"uncinate", "survey"}
	if given != "." && given != "" {
		words = append(words, given)
	}
	return text.Command(words...)
}
