package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"uncinate/internal/core/secrets"
	"uncinate/internal/core/text"
)

// Weight of a finding, the heaviest first.
const (
	Stop = "stop" // it must not go up like this
	Look = "look" // it should be looked at
	Know = "know" // good to know
)

// Finding is something to be seen to.
type Finding struct {
	Weight  string   `json:"weight" says:"stop, look or know"`
	About   string   `json:"about" says:"secret, path, large, odd, made, changing, unreadable, side or hint"`
	Path    string   `json:"path,omitempty"`
	Line    int      `json:"line,omitempty"`
	Says    string   `json:"says"`
	Excerpt string   `json:"excerpt,omitempty" says:"where it is, a secret itself left out"`
	Fix     []string `json:"fix,omitempty" says:"the command that deals with it, word by word"`
	More    int      `json:"more,omitempty" says:"how many more of the same there are in that file"`
}

// Limits are a host's, in bytes; 0 for one that is not told.
type Limits struct {
	Host                   string
	File, Push, Repository int64
}

// TooLarge says that a file is beyond the host's limit.
func (l Limits) TooLarge(size int64) string {
	return fmt.Sprintf("has %s, and %s takes files of %s at most", text.Size(size), l.Host, text.Size(l.File))
}

// Secret is the finding about a secret in a file.
func Secret(file string, x secrets.Finding) Finding {
	return Finding{Weight: Stop, About: "secret", Path: file, Line: x.Line, Says: "holds a " + x.Kind, Excerpt: x.Excerpt, Fix: []string{"ignore", "add", file}}
}

// largeAnywhere is from which size on a file is spoken of where no host's limit is known.
const largeAnywhere = 50 << 20

// Findings judges the sorted files. looked holds what their contents told, by the
// file's place. let says which paths the person let through.
func (s *Sorted) Findings(looked map[int]Looked, limits Limits, let func(file string) bool) []Finding {
	var out []Finding
	add := func(f Finding) {
		if f.Weight != Stop || f.Path == "" || let == nil || !let(f.Path) {
			out = append(out, f)
		}
	}
	var up Totals
	for i, f := range s.Files {
		if s.Class[i] != Work {
			s.standing(i, add)
			continue
		}
		up.add(f.Size)
		s.named(f, add)
		l, read := looked[i]
		if read {
			content(f, l, add)
		}
		if f.Tracked && s.ByRule[i] >= 0 && !l.Generated {
			r := s.Rules[s.ByRule[i]]
			add(Finding{Weight: Look, About: "made", Path: f.Path, Says: "is in git although it stays in projects of this kind: " + r.Why, Fix: []string{"ignore", "add", "--untrack", f.Path}})
		}
		switch {
		case limits.File > 0 && f.Size > limits.File:
			add(Finding{Weight: Stop, About: "large", Path: f.Path, Says: limits.TooLarge(f.Size), Fix: []string{"ignore", "add", f.Path}})
		case limits.File > 0 && f.Size > limits.File/2 || limits.File == 0 && f.Size >= largeAnywhere:
			add(Finding{Weight: Look, About: "large", Path: f.Path, Says: "has " + text.Size(f.Size) + "; each change of it is kept whole for ever", Fix: []string{"ignore", "add", f.Path}})
		}
	}
	if limits.Repository > 0 && up.Bytes > limits.Repository {
		out = append(out, Finding{Weight: Stop, About: "large", Says: fmt.Sprintf("%s would go up, and %s takes repositories of %s at most", text.Size(up.Bytes), limits.Host, text.Size(limits.Repository))})
	} else if limits.Push > 0 && up.Bytes > limits.Push {
		out = append(out, Finding{Weight: Look, About: "large", Says: fmt.Sprintf("%s would go up at once, and %s takes %s in one push", text.Size(up.Bytes), limits.Host, text.Size(limits.Push))})
	}
	for _, p := range s.Sides {
		add(Finding{Weight: Look, About: "side", Path: p, Says: "must travel with its asset, and your ignore rules leave it out", Fix: []string{"ignore", "explain", p}})
	}
	s.clashes(add)
	order := []string{Stop, Look, Know}
	slices.SortStableFunc(out, func(a, b Finding) int {
		if d := slices.Index(order, a.Weight) - slices.Index(order, b.Weight); d != 0 {
			return d
		}
		if d := strings.Compare(a.About, b.About); d != 0 {
			return -d // secrets before paths before odd ones
		}
		return strings.Compare(a.Path, b.Path)
	})
	return out
}

// standing judges an entry that stays because of what it is.
func (s *Sorted) standing(i int, add func(Finding)) {
	f := s.Files[i]
	if s.Class[i] != Uncarried || f.Rule != nil {
		return
	}
	switch f.Type {
	case Nested:
		add(Finding{Weight: Look, About: "odd", Path: f.Path, Says: "is a repository of its own; what it holds does not go up with this one"})
	case Unreadable:
		add(Finding{Weight: Look, About: "unreadable", Path: f.Path, Says: "cannot be looked into, so nothing of it goes up"})
	case EmptyFolder:
		add(Finding{Weight: Know, About: "empty", Path: f.Path, Says: "is empty, and git tracks no empty folders; a file in it would keep it", Fix: []string{"ignore", "keep", f.Path}})
	case Special:
		add(Finding{Weight: Know, About: "odd", Path: f.Path, Says: "is a device, socket or pipe, which git does not track"})
	}
}

// stores are endings of files that hold keys in a form of their own.
var stores = []string{".p12", ".pfx", ".jks", ".keystore", ".kdbx", ".ppk", ".bks"}

// secretNames are names of files whose only use is to hold secrets.
var secretNames = []string{".netrc", "_netrc", ".htpasswd", ".pgpass", ".git-credentials"}

// reserved are the names that one wide-spread system keeps for devices, whatever the
// ending.
var reserved = []string{"con", "prn", "aux", "nul", "com1", "com2", "com3", "com4", "com5", "com6", "com7", "com8", "com9", "lpt1", "lpt2", "lpt3", "lpt4", "lpt5", "lpt6", "lpt7", "lpt8", "lpt9"}

// named judges a file by its name and type.
func (s *Sorted) named(f File, add func(Finding)) {
	base := strings.ToLower(path.Base(f.Path))
	switch {
	case f.Type == Link:
		if leadsOut(f.Path, f.Target) {
			add(Finding{Weight: Look, About: "odd", Path: f.Path, Says: "is a link out of the project, to " + text.Excerpt(f.Target, 60) + ", and leads nowhere elsewhere"})
		}
		return
	case f.Size == 0:
	case slices.Contains(stores, path.Ext(base)):
		add(Finding{Weight: Stop, About: "secret", Path: f.Path, Says: "is a store of keys", Fix: []string{"ignore", "add", f.Path}})
	case slices.Contains(secretNames, base):
		add(Finding{Weight: Stop, About: "secret", Path: f.Path, Says: "is a file of passwords", Fix: []string{"ignore", "add", f.Path}})
	case base == ".env" || strings.HasPrefix(base, ".env.") && !strings.Contains(base, "example") && !strings.Contains(base, "sample") && !strings.Contains(base, "template") && !strings.HasSuffix(base, ".dist"):
		add(Finding{Weight: Look, About: "secret", Path: f.Path, Says: "is a file of local settings, which mostly hold secrets", Fix: []string{"ignore", "add", f.Path}})
	}
	if why := forbidden(f.Path); why != "" {
		add(Finding{Weight: Look, About: "odd", Path: f.Path, Says: why})
	}
}

// leadsOut reports whether a link's target is outside the project.
func leadsOut(at, target string) bool {
	if strings.HasPrefix(target, "/") || strings.HasPrefix(target, `\`) || len(target) > 1 && target[1] == ':' {
		return true
	}
	to := path.Join(path.Dir(at), target)
	return to == ".." || strings.HasPrefix(to, "../")
}

// forbidden says why a name cannot be used on another system; "" if it can.
func forbidden(p string) string {
	if usual(p) {
		return ""
	}
	if !utf8.ValidString(p) {
		return "has a name that is not valid UTF-8, which not every system can write"
	}
	for part := range strings.SplitSeq(p, "/") {
		stem, _, _ := strings.Cut(strings.ToLower(part), ".")
		switch {
		case slices.Contains(reserved, stem):
			return "has a name that Windows keeps for a device"
		case strings.ContainsAny(part, `<>:"|?*\`) || strings.ContainsFunc(part, func(r rune) bool { return r < ' ' }):
			return "has a sign in its name that Windows does not allow"
		case strings.HasSuffix(part, ".") || strings.HasSuffix(part, " "):
			return "has a name that ends in a dot or blank, which Windows drops"
		}
	}
	return ""
}

// usual reports whether a path is made of letters, digits and a few signs, no part of it
// as short as a device's name is, and none ends in a dot: most are.
func usual(p string) bool {
	n := 0 // characters of this part before its first dot
	dot := false
	for i := range len(p) {
		switch c := p[i]; {
		case c == '/':
			if n == 3 || n == 4 || p[i-1] == '.' {
				return false
			}
			n, dot = 0, false
		case c == '.':
			dot = true
		case 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '_' || c == '-':
			if !dot {
				n++
			}
		default:
			return false
		}
	}
	return n != 3 && n != 4 && p[len(p)-1] != '.'
}

// content judges what a file holds.
func content(f File, l Looked, add func(Finding)) {
	if l.Failed != "" {
		add(Finding{Weight: Stop, About: "unreadable", Path: f.Path, Says: "cannot be read: " + l.Failed, Fix: []string{"ignore", "add", f.Path}})
	}
	if l.Moving {
		add(Finding{Weight: Stop, About: "changing", Path: f.Path, Says: "is being written while we look; what goes up now would be half of it"})
	}
	for n, x := range l.Findings {
		found := Secret(f.Path, x)
		if x.Kind == secrets.HerePath {
			found.About, found.Says = "path", "names a folder of this machine"
		}
		if n == len(l.Findings)-1 {
			found.More = l.More
		}
		add(found)
	}
	if l.Object != "" {
		add(Finding{Weight: Look, About: "made", Path: f.Path, Says: "is made code (" + l.Object + ")", Fix: []string{"ignore", "add", f.Path}})
	} else if l.Generated {
		add(Finding{Weight: Know, About: "made", Path: f.Path, Says: "says that a program wrote it"})
	}
}

// clashes finds paths that would be one on a system that does not tell upper from
// lower case.
func (s *Sorted) clashes(add func(Finding)) {
	// Only a path with a capital can be like another one; so those are collected, and
	// all are held against them.
	capitals := map[string]string{} // in lower case → as it is
	meet := func(p string, small bool) {
		low := p
		if !small {
			low = strings.ToLower(p)
		}
		if was, ok := capitals[low]; ok && was != p {
			add(Finding{Weight: Look, About: "odd", Path: p, Says: "is the same as " + text.Excerpt(was, 80) + " where upper and lower case are one"})
		} else if !small {
			capitals[low] = p
		}
	}
	for _, small := range []bool{false, true} {
		last := ""
		for i, f := range s.Files {
			if s.Class[i] != Work {
				continue
			}
			dir := f.Path[:strings.LastIndexByte(f.Path, '/')+1]
			if dir != last {
				for j := range len(dir) {
					if dir[j] == '/' && isSmall(dir[:j]) == small {
						meet(dir[:j], small)
					}
				}
				last = dir
			}
			if isSmall(f.Path) == small {
				meet(f.Path, small)
			}
		}
		if len(capitals) == 0 {
			return
		}
	}
}

// isSmall reports whether a path holds no capital, and nothing beyond ASCII.
func isSmall(p string) bool {
	for i := range len(p) {
		if c := p[i]; c >= 0x80 || 'A' <= c && c <= 'Z' {
			return false
		}
	}
	return true
}
