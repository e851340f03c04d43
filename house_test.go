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
