package survey

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/ignore"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/secrets"
)

func sorted(t *testing.T, choice Choice, files ...File) *Sorted {
	t.Helper()
	catalogue, err := kinds.Shipped()
	require.NoError(t, err)
	return Sort(files, catalogue, nil, choice, kinds.Look{})
}

// said is each finding in a line.
func said(all []Finding) []string {
	var out []string
	for _, f := range all {
		out = append(out, f.Weight+" "+f.Path+": "+f.Says)
	}
	return out
}

func TestSort(t *testing.T) {
	mine := &ignore.Rule{Pattern: "*.log", Source: ".gitignore", Line: 1}
	s := sorted(t, Choice{Except: []string{"doc"}},
		File{Path: ".DS_Store", Size: 6}, File{Path: "a.c", Size: 10}, File{Path: "build/a.o", Size: 100}, File{Path: "build/b.o", Size: 50, Tracked: true}, File{Path: "doc/x.md", Size: 5},
		File{Path: "hollow", Type: EmptyFolder}, File{Path: "kept.log", Size: 2, Rule: mine, Tracked: true}, File{Path: "sub", Type: Nested}, File{Path: "today.log", Size: 3, Rule: mine})
	var classes []string
	for i := range s.Files {
		classes = append(classes, s.Files[i].Path+" "+s.Class[i].String())
	}
	assert.Equal(t, []string{".DS_Store personal", "a.c work", "build/a.o generated", "build/b.o work", "doc/x.md not chosen", "hollow not carried", "kept.log work", "sub not carried", "today.log ignored"}, classes)
	up, stays := s.Totals()
	assert.Equal(t, []Totals{{3, 62}, {4, 114}}, []Totals{up, stays})
	assert.Equal(t, []Weight{{"build", Totals{1, 50}, Totals{1, 100}, "made by the build"}, {".", Totals{2, 12}, Totals{2, 9}, "a folder's view on one computer"}, {"doc", Totals{}, Totals{1, 5}, "not chosen"}}, s.Folders(1))
	assert.Contains(t, said(s.Findings(nil, Limits{}, nil)), "look build/b.o: is in git although it stays in projects of this kind: made by the build")
}

func TestChoice(t *testing.T) {
	picks := Choice{Only: []string{"src", "*.md", "./doc/a*"}, Except: []string{"src/old/", "README.md"}}.Picker()
	for path, want := range map[string]bool{"src/a.c": true, "src/old/a.c": false, "b.c": false, "x/y.md": true, "README.md": false, "doc/ab/c": true, "doc/b": false} {
		assert.Equal(t, want, picks(path), path)
	}
	assert.True(t, Choice{}.Picker()("anything"))
}

func TestFindings(t *testing.T) {
	looked := map[int]Looked{
		0: {Content: secrets.Content{Findings: []secrets.Finding{{Kind: secrets.Token, Line: 3, Excerpt: "x = [20 characters]"}, {Kind: secrets.HerePath, Line: 9, Excerpt: "/home/tern/x"}}, More: 4}},
		1: {Failed: "permission denied"}, 2: {Moving: true}, 3: {Content: secrets.Content{Generated: true}}, 4: {Content: secrets.Content{Object: "ELF"}}}
	s := sorted(t, Choice{}, File{Path: "a.ini"}, File{Path: "b"}, File{Path: "c"}, File{Path: "d.c"}, File{Path: "e"}, File{Path: "large", Size: 60 << 20}, File{Path: "link", Type: Link, Target: "/etc/x"}, File{Path: "shut", Type: Unreadable})
	assert.Equal(t, []string{"stop b: cannot be read: permission denied", "stop a.ini: holds a token", "stop a.ini: names a folder of this machine", "stop large: has 63 MB, and gannet takes files of 52 MB at most",
		"stop c: is being written while we look; what goes up now would be half of it",
		"look shut: cannot be looked into, so nothing of it goes up",
		"look link: is a link out of the project, to /etc/x, and leads nowhere elsewhere",
		"look e: is made code (ELF)", "know d.c: says that a program wrote it"}, said(s.Findings(looked, Limits{Host: "gannet", File: 50 << 20}, nil)))
	assert.Equal(t, 4, s.Findings(looked, Limits{}, nil)[2].More)
	let := s.Findings(looked, Limits{}, func(p string) bool { return p == "a.ini" })
	assert.NotContains(t, strings.Join(said(let), "\n"), "a.ini")
	assert.Contains(t, said(let), "look large: has 63 MB; each change of it is kept whole for ever")
	push := said(s.Findings(nil, Limits{Host: "gannet", Push: 1 << 20}, nil))
	assert.Contains(t, push, "look : 63 MB would go up at once, and gannet takes 1.0 MB in one push")
	assert.Contains(t, said(s.Findings(nil, Limits{Host: "gannet", Repository: 1 << 20}, nil))[0], "takes repositories of 1.0 MB at most")
}

func TestNames(t *testing.T) {
	for p, want := range map[string]string{"src/a.c": "", "a/con": "device", "COM1.txt": "device", "conf.c": "", "a?b": "Windows does not allow", "x/y.": "ends in a dot", "x ": "ends in a dot", "\xff": "UTF-8", "ünï": "", "a.b/c": "", "nul/x": "device", "a\x01b": "Windows does not allow"} {
		got := forbidden(p)
		if want == "" {
			assert.Empty(t, got, p)
		} else {
			assert.Contains(t, got, want, p)
		}
	}
	for target, want := range map[string]bool{"b": false, "../b": false, "../../b": true, "/b": true, `C:\b`: true, "x/../../..": true} {
		assert.Equal(t, want, leadsOut("a/link", target), target)
	}
	s := sorted(t, Choice{}, File{Path: "Doc/a"}, File{Path: "README"}, File{Path: "doc/b"}, File{Path: "readme"})
	assert.ElementsMatch(t, []string{"look doc: is the same as Doc where upper and lower case are one", "look readme: is the same as README where upper and lower case are one"}, said(s.Findings(nil, Limits{}, nil)))
	side := &ignore.Rule{Pattern: "*.meta", Source: ".gitignore", Line: 1}
	s = sorted(t, Choice{}, File{Path: "Assets/b.png"}, File{Path: "Assets/b.png.meta", Rule: side}, File{Path: "ProjectSettings/ProjectVersion.txt"}, File{Path: "x.meta", Rule: side})
	assert.Equal(t, []string{"Assets/b.png.meta"}, s.Sides)
	for name, want := range map[string]string{".env": "look", ".env.example": "", "a.p12": "stop", ".netrc": "stop", ".env.local": "look"} {
		got := sorted(t, Choice{}, File{Path: name, Size: 1}).Findings(nil, Limits{}, nil)
		if want == "" {
			assert.Empty(t, got, name)
		} else if assert.Len(t, got, 1, name) {
			assert.Equal(t, want, got[0].Weight, name)
		}
	}
}

func TestGroups(t *testing.T) {
	s := sorted(t, Choice{},
		File{Path: ".env.example", Size: 1},
		File{Path: "README.md", Size: 5},
		File{Path: "plans/a.dwg", Size: 100},
		File{Path: "plans/deep/b.dwg", Size: 50},
		File{Path: "src/a*b/x.c", Size: 20},
		File{Path: "today.log", Size: 9, Rule: &ignore.Rule{Pattern: "*.log"}},
	)
	assert.Equal(t, []Group{
		{"plans/", "/plans/", Totals{2, 150}},
		{"src/", "/src/", Totals{1, 20}},
		{"README.md", "/README.md", Totals{1, 5}},
		{".env.example", "/.env.example", Totals{1, 1}},
		{"*.dwg", "*.dwg", Totals{2, 150}},
		{"*.c", "*.c", Totals{1, 20}},
		{"*.md", "*.md", Totals{1, 5}},
		{"*.example", "*.example", Totals{1, 1}},
	}, s.Groups())
	for in, want := range map[string][]int{
		"":        nil,
		"2":       {2},
		"2 4-6,9": {2, 4, 5, 6, 9},
		"3,3 2-3": {3, 2},
	} {
		got, ok := Numbers(in, 9)
		assert.True(t, ok, in)
		assert.Equal(t, want, got, in)
	}
	for _, in := range []string{"0", "10", "5-2", "a", "-1", "1-", "1-99999999999999999999"} {
		_, ok := Numbers(in, 9)
		assert.False(t, ok, in)
	}
}
