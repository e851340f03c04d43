package main

import (
	"cmp"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/text"
)

// trouble is one error that the program tells of, as its code has it.
type trouble struct {
	says, code string
	details    []string
	remedies   [][2]string // why, and the command
}

// codes are the kinds of faults with their exit codes; see package fault.
var codes = map[string]string{"Failed": "1", "Usage": "2", "Decision": "3", "Refused": "4", "HostSaidNo": "5", "Unreachable": "6", "Interrupted": "130"}

// areas say what work a package's errors belong to; the first that fits.
var areas = []struct{ path, title string }{
	{"internal/job/attach", "Attach, clone, move"}, {"internal/job/surveying", "Survey and ignore rules"}, {"internal/job/history", "Save, branches, tags"},
	{"internal/job/undoing", "Undo and rescue copies"}, {"internal/desk/worktree", "Undo and rescue copies"}, {"internal/job/syncing", "Sync and clashes"}, {"internal/job/settling", "Sync and clashes"},
	{"internal/job/offers", "Offers to merge"}, {"internal/desk/offering", "Offers to merge"}, {"internal/job/claims", "Claims"}, {"internal/job/repositories", "Repositories and people on the host"},
	{"internal/job/deploy", "Servers that follow a branch"}, {"internal/world/bell", "Servers that follow a branch"}, {"internal/world/live", "Servers that follow a branch"}, {"internal/world/trial", "Survey and ignore rules"},
	{"internal/job/credentials", "Accounts, tokens, keys"}, {"internal/desk/accounts", "Accounts, tokens, keys"}, {"internal/desk/login", "Accounts, tokens, keys"}, {"internal/world/oauth", "Accounts, tokens, keys"}, {"internal/core/sshkey", "Accounts, tokens, keys"},
	{"internal/core/gitcred", "Accounts, tokens, keys"}, {"internal/core/authkeys", "Accounts, tokens, keys"}, {"internal/world/openssh", "SSH and plain servers"}, {"internal/world/shellhost", "SSH and plain servers"},
	{"internal/world/vault", "The vault"}, {"internal/world/keyring", "The vault"}, {"internal/world/sealed", "Another machine"}, {"internal/job/machine", "Another machine"}, {"internal/core/packing", "Another machine"}, {"internal/core/handover", "Another machine"},
	{"internal/desk/hosts", "Hosts and their descriptions"}, {"internal/core/description", "Hosts and their descriptions"}, {"internal/job/checks", "Hosts and their descriptions"}, {"internal/world/web", "Hosts and their descriptions"},
	{"internal/job/many", "All projects at once"}, {"internal/job/comparing", "Save, branches, tags"}, {"internal/job/settings", "Settings"},
	{"internal/desk/project", "The project's folder, and git"}, {"internal/world/git", "The project's folder, and git"}, {"internal/screen/rehearse", "Practice and tour"}, {"internal/screen", "The command line"}, {"", "Files and the rest"},
}

// faultsPage writes every error that the code can tell of, with what to do, by the work it belongs to.
func faultsPage(into string) error {
	all := map[string][]trouble{}
	err := filepath.WalkDir("internal", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(areas, func(a struct{ path, title string }) bool { return strings.HasPrefix(filepath.ToSlash(path), a.path) })
		for _, d := range f.Decls {
			if fn, is := d.(*ast.FuncDecl); is && fn.Body != nil {
				all[areas[i].title] = append(all[areas[i].title], troubles(fn)...)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	var b strings.Builder
	b.WriteString("# When something goes wrong\n\nEvery error that the program can tell of, by the work it belongs to, made from the code (`make docs`): look for a few of the words that you see.\n" +
		"An error names its cause, and below it stands the next thing to do, to be pasted as it is; `…` stands for names of yours. The number is the exit code:\n" +
		"1 failed, 2 wrong usage, 3 you have to decide, 4 refused to protect you, 5 the host said no, 6 the host cannot be reached. With `--verbose`\n" +
		"what is underneath is shown too.\n")
	var done []string
	for _, a := range areas {
		if slices.Contains(done, a.title) || len(all[a.title]) == 0 {
			continue
		}
		done = append(done, a.title)
		rows := all[a.title]
		slices.SortFunc(rows, func(x, y trouble) int { return cmp.Or(cmp.Compare(x.says, y.says), cmp.Compare(x.code, y.code)) })
		fmt.Fprintf(&b, "\n## %s\n\n| what it says | exit | what to do |\n|---|---|---|\n", a.title)
		was := ""
		for _, t := range rows {
			if row := t.row(); row != was {
				b.WriteString(row)
				was = row
			}
		}
	}
	return os.WriteFile(into, []byte(b.String()), 0o644)
}

func (t trouble) row() string {
	cell := func(s string) string { return strings.NewReplacer("|", `\|`, "<", "&lt;", "\n", " ").Replace(s) }
	says := cell(t.says)
	for _, d := range t.details {
		says += "<br>" + cell(d)
	}
	var do []string
	for _, r := range t.remedies {
		why := strings.TrimSpace(r[0])
		if why != "" {
			why = strings.ToUpper(why[:1]) + why[1:]
		}
		switch {
		case r[1] != "…":
			do = append(do, cell(why)+text.Either(why != "", ": ", "")+"`"+cell(r[1])+"`")
		default: // it depends on what was typed
			do = append(do, text.Either(why == "", "As", cell(why)+", as")+" it shows")
		}
	}
	return fmt.Sprintf("| %s | %s | %s |\n", says, t.code, strings.Join(do, "<br>"))
}

// troubles finds the faults that a function makes: fault.New with what follows it in a chain, or by the name that it is given.
func troubles(fn *ast.FuncDecl) []trouble {
	made := map[*ast.CallExpr]*trouble{}
	named := map[string]*trouble{}
	var order []*trouble
	var root func(e ast.Expr) *trouble
	root = func(e ast.Expr) *trouble {
		switch x := e.(type) {
		case *ast.Ident:
			return named[x.Name]
		case *ast.CallExpr:
			if made[x] != nil {
				return made[x]
			}
			if s, is := x.Fun.(*ast.SelectorExpr); is {
				return root(s.X)
			}
		}
		return nil
	}
	ast.Inspect(fn.Body, func(n ast.Node) bool { // fault.New, whatever is done with it
		call, is := n.(*ast.CallExpr)
		if !is || len(call.Args) < 2 || called(call) != "fault.New" {
			return true
		}
		kind, is := call.Args[0].(*ast.SelectorExpr)
		if !is {
			return true
		}
		if says := words(call.Args[1]); strings.Trim(says, "… :,") != "" {
			made[call] = &trouble{says: says, code: codes[kind.Sel.Name]}
			order = append(order, made[call])
		}
		return true
	})
	ast.Inspect(fn.Body, func(n ast.Node) bool {
		if a, is := n.(*ast.AssignStmt); is && len(a.Lhs) == 1 && len(a.Rhs) == 1 {
			if id, is := a.Lhs[0].(*ast.Ident); is {
				if t := root(a.Rhs[0]); t != nil {
					named[id.Name] = t
				}
			}
		}
		call, is := n.(*ast.CallExpr)
		if !is {
			return true
		}
		s, is := call.Fun.(*ast.SelectorExpr)
		if !is {
			return true
		}
		t := root(s.X)
		if t == nil {
			return true
		}
		switch {
		case s.Sel.Name == "Detail" && len(call.Args) > 0:
			if d := words(call.Args[0]); strings.Trim(d, "… :,") != "" && !slices.Contains(t.details, d) {
				t.details = append([]string{d}, t.details...)
			}
		case (s.Sel.Name == "Try" || s.Sel.Name == "TryWithout") && len(call.Args) > 1:
			if r := [2]string{words(call.Args[0]), words(call.Args[1])}; !slices.Contains(t.remedies, r) {
				t.remedies = append([][2]string{r}, t.remedies...) // the last of a chain is met first
			}
		}
		return true
	})
	var out []trouble
	for _, t := range order {
		out = append(out, *t)
	}
	return out
}

// called is the name of what is called, with its package or receiver.
func called(c *ast.CallExpr) string {
	if s, is := c.Fun.(*ast.SelectorExpr); is {
		if x, is := s.X.(*ast.Ident); is {
			return x.Name + "." + s.Sel.Name
		}
	}
	return ""
}

var verb = regexp.MustCompile(`%[-+.0-9]*[a-z]`)

// words are what an expression says, as far as it can be read: … stands for the rest.
func words(e ast.Expr) string {
	switch x := e.(type) {
	case *ast.BasicLit:
		if s, err := strconv.Unquote(x.Value); err == nil {
			return strings.ReplaceAll(verb.ReplaceAllString(s, "…"), "%%", "%")
		}
	case *ast.BinaryExpr:
		if x.Op == token.ADD {
			return strings.ReplaceAll(words(x.X)+words(x.Y), "……", "…")
		}
	case *ast.CallExpr:
		switch called(x) {
		case "text.Command":
			var all []string
			for _, a := range x.Args {
				all = append(all, words(a))
			}
			return strings.Join(all, " ")
		case "fmt.Sprintf":
			if len(x.Args) > 0 {
				return words(x.Args[0])
			}
		}
	}
	return "…"
}
