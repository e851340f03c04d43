package uncinate_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a reader can take in at once, in lines.
const (
	mostOfAFile     = 450
	mostOfAFunction = 70
	mostOfACommand  = 60   // a function of internal/screen
	mostOfAStory    = 60   // a test of the whole program
	mostOfARoom     = 2500 // a package of internal/job
)

// longFunctions are those that may be longer, each with the reason.
var longFunctions = map[string]string{
	"internal/core/secrets/judge.go named": "it scans a name and its value in one pass over the bytes, where each state needs those before it",
}

// eachFile calls see with every file of the program itself, tests left out.
func eachFile(t *testing.T, see func(path string, set *token.FileSet, f *ast.File)) {
	t.Helper()
	require.NoError(t, filepath.WalkDir("internal", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, parser.ParseComments)
		if err == nil {
			see(filepath.ToSlash(path), set, f)
		}
		return err
	}))
}

// TestSizes holds files, functions and rooms to what a reader can take in.
func TestSizes(t *testing.T) {
	rooms, documented := map[string]int{}, map[string]bool{}
	eachFile(t, func(path string, set *token.FileSet, f *ast.File) {
		lines := set.Position(f.FileEnd).Line
		assert.LessOrEqual(t, lines, mostOfAFile, path)
		rooms[filepath.Dir(path)] += lines
		documented[filepath.Dir(path)] = documented[filepath.Dir(path)] || f.Doc != nil
		for _, d := range f.Decls {
			fn, is := d.(*ast.FuncDecl)
			if !is {
				continue
			}
			name, most := path+" "+fn.Name.Name, mostOfAFunction
			if strings.HasPrefix(path, "internal/screen/") {
				most = mostOfACommand
			}
			if long := set.Position(fn.End()).Line - set.Position(fn.Pos()).Line + 1; longFunctions[name] == "" {
				assert.LessOrEqual(t, long, most, name)
			} else {
				assert.Greater(t, long, most, "%s is short enough now; take it off the list", name)
			}
		}
	})
	for room, lines := range rooms {
		if strings.HasPrefix(filepath.ToSlash(room), "internal/job/") {
			assert.LessOrEqual(t, lines, mostOfARoom, room)
		}
		assert.True(t, documented[room], "%s says nowhere what it is for", room)
	}
}

// TestStoriesAreShort holds each test of the whole program, and what it is made of, to what can be
// read at once.
func TestStoriesAreShort(t *testing.T) {
	paths, err := filepath.Glob("e2e/*_test.go")
	require.NoError(t, err)
	require.NotEmpty(t, paths)
	for _, path := range paths {
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, 0)
		require.NoError(t, err)
		for _, d := range f.Decls {
			if fn, is := d.(*ast.FuncDecl); is {
				most := mostOfAFunction
				if strings.HasPrefix(fn.Name.Name, "Test") {
					most = mostOfAStory
				}
				assert.LessOrEqual(t, set.Position(fn.End()).Line-set.Position(fn.Pos()).Line+1, most, "%s %s", path, fn.Name.Name)
			}
		}
	}
}

// TestNoLocalHidesAnImport finds locals and parameters that bear the name of a package which
// their file imports: whoever reads on takes the one for the other.
func TestNoLocalHidesAnImport(t *testing.T) {
	eachFile(t, func(path string, set *token.FileSet, f *ast.File) {
		imported := map[string]bool{}
		for _, i := range f.Imports {
			name := filepath.Base(strings.Trim(i.Path.Value, `"`))
			if i.Name != nil {
				name = i.Name.Name
			}
			imported[name] = name != "_"
		}
		ast.Inspect(f, func(n ast.Node) bool {
			var names []*ast.Ident
			switch n := n.(type) {
			case *ast.AssignStmt:
				for _, left := range n.Lhs {
					if id, is := left.(*ast.Ident); is && n.Tok == token.DEFINE {
						names = append(names, id)
					}
				}
			case *ast.FuncType:
				for _, p := range n.Params.List {
					names = append(names, p.Names...)
				}
			case *ast.RangeStmt:
				for _, e := range []ast.Expr{n.Key, n.Value} {
					if id, is := e.(*ast.Ident); is && n.Tok == token.DEFINE {
						names = append(names, id)
					}
				}
			}
			for _, id := range names {
				assert.False(t, imported[id.Name], "%s: %s", set.Position(id.Pos()), id.Name)
			}
			return true
		})
	})
}

// TestEndingsAreHeard holds that no error of giving back or removing something is dropped, and that
// whatever waits ends with the context. Practice hosts wait as they like.
func TestEndingsAreHeard(t *testing.T) {
	endings := map[string]bool{"Release": true, "Remove": true, "RemoveAll": true}
	eachFile(t, func(path string, set *token.FileSet, f *ast.File) {
		name := func(call *ast.CallExpr) string {
			if at, is := call.Fun.(*ast.SelectorExpr); is {
				return at.Sel.Name
			}
			return ""
		}
		ast.Inspect(f, func(n ast.Node) bool {
			var dropped ast.Node
			switch n := n.(type) {
			case *ast.ExprStmt:
				dropped = n.X
			case *ast.DeferStmt:
				dropped = n.Call
			case *ast.CallExpr:
				if from, is := n.Fun.(*ast.SelectorExpr); is && !strings.HasPrefix(path, "internal/practice/") {
					in, _ := from.X.(*ast.Ident)
					waits := in != nil && (in.Name == "context" && (name(n) == "Background" || name(n) == "TODO") || in.Name == "time" && name(n) == "Sleep")
					assert.False(t, waits, "%s does not end with the context", set.Position(n.Pos()))
				}
			}
			if call, is := dropped.(*ast.CallExpr); is {
				assert.False(t, endings[name(call)], "%s drops the error of %s", set.Position(call.Pos()), name(call))
			}
			return true
		})
	})
}

// TestOneGate holds that files of a work tree, and refs, are overwritten and dropped by one
// package alone: no other may let git write into the work tree or take a ref away.
func TestOneGate(t *testing.T) {
	never := map[string]bool{"checkout": true, "checkout-index": true, "reset": true, "clean": true, "merge": true, "rebase": true, "stash": true, "switch": true, "restore": true, "cherry-pick": true, "rm": true, "pull": true, "am": true, "apply": true}
	with := map[string]string{"read-tree": "-u", "update-ref": "-d", "branch": "-D", "worktree": "remove", "symbolic-ref": "-d"}
	seen := 0
	look := func(path string, set *token.FileSet, args []ast.Expr) {
		var words []string
		for _, a := range args {
			if l, is := a.(*ast.BasicLit); is && l.Kind == token.STRING {
				words = append(words, strings.Trim(l.Value, "\"`"))
			}
		}
		if len(words) == 0 {
			return
		}
		seen++
		bad := never[words[0]] && !(words[0] == "merge" && len(words) == 1)
		for _, w := range words[1:] {
			bad = bad || with[words[0]] != "" && w == with[words[0]]
		}
		assert.False(t, bad, "%s: git %s", set.Position(args[0].Pos()), strings.Join(words, " "))
	}
	eachFile(t, func(path string, set *token.FileSet, f *ast.File) {
		if strings.HasPrefix(path, "internal/desk/worktree/") || strings.HasPrefix(path, "internal/practice/") {
			return
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.CallExpr:
				if s, is := n.Fun.(*ast.SelectorExpr); is && (s.Sel.Name == "Do" || s.Sel.Name == "Lines") && len(n.Args) > 1 {
					look(path, set, n.Args[1:])
				}
			case *ast.KeyValueExpr:
				if k, is := n.Key.(*ast.Ident); is && k.Name == "Args" {
					if c, is := n.Value.(*ast.CompositeLit); is {
						look(path, set, c.Elts)
					}
				}
			}
			return true
		})
	})
	assert.Greater(t, seen, 50, "runs of git are seen at all")
}
