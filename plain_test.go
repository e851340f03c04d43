package uncinate_test

import (
	"go/ast"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// riddles are turns of phrase that are not plain English, each with the usual word.
var riddles = map[*regexp.Regexp]string{
	regexp.MustCompile(`\bunless said\b`):                      "(default: X)",
	regexp.MustCompile(`\b(is|are|was|were) no \w+`):           "is not a X",
	regexp.MustCompile(`\bmade anew\b`):                        "rewritten, or made again",
	regexp.MustCompile(`\b(lies|lie) (in|at|on|there|here)\b`): "is in",
	regexp.MustCompile(`\b(stands|stand) (in|at|already)\b`):   "is in, is there already",
	regexp.MustCompile(`\bso far\b`):                           "yet",
	regexp.MustCompile(`\bhere and there\b`):                   "on both sides",
	regexp.MustCompile(`\bany more\b`):                         "no longer",
	regexp.MustCompile(`\bout of force\b`):                     "revoked",
	regexp.MustCompile(`\b(brought|bring|bringing) in\b`):      "received, receive",
	regexp.MustCompile(`\b(laid|lay|laying) out\b`):            "written, write",
	regexp.MustCompile(`\bcapital and small\b`):                "upper and lower case",
	regexp.MustCompile(`\bmay be given (again|several)\b`):     "may be repeated",
	regexp.MustCompile(`\bnot told\b`):                         "not given",
	regexp.MustCompile(`\bcommits (are to )?carry\b`):          "name and e-mail for commits",
}

// fine are what looks like one of them and is plain.
var fine = regexp.MustCompile(`(?i)\b(there|and|where|which) (is|are|was|were) no\b|\b(is|are|was|were) no (longer|good|more)\b|\bmany more\b`)

// TestPlainEnglish keeps riddles out of what the program says, and out of the documents.
func TestPlainEnglish(t *testing.T) {
	judge := func(where, said string) {
		for line := range strings.Lines(said) {
			for riddle, plain := range riddles {
				if found := riddle.FindString(fine.ReplaceAllString(line, "")); found != "" {
					assert.Fail(t, where, "%q is said plainly as %q: %s", found, plain, strings.TrimSpace(line))
				}
			}
		}
	}
	eachFile(t, func(path string, _ *token.FileSet, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			if lit, is := n.(*ast.BasicLit); is && lit.Kind == token.STRING {
				judge(path, lit.Value)
			}
			return true
		})
	})
	pages, err := filepath.Glob("docs/*.md")
	require.NoError(t, err)
	for _, page := range append(pages, "README.md") {
		data, err := os.ReadFile(page)
		require.NoError(t, err)
		judge(page, string(data))
	}
}
