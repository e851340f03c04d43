package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What was tried with servers, settings and environments that nobody here wrote is a row of docs/works-with.md, in the words
// of what came of it. UNCINATE_WORKS=1 writes the page anew from a run of all those tests; else each row must be on it.

const worksPage = "../docs/works-with.md"

var tried struct {
	mu   sync.Mutex
	rows map[string][][2]string // by server: what was tried, and what came of it
}

// works notes that something works with a server, a setting or an environment.
func works(t *testing.T, server, what string) { t.Helper(); came(t, server, what, "works") }

// refuses notes with which words something is refused.
func refuses(t *testing.T, server, what string, r result) {
	t.Helper()
	require.NotZero(t, r.code, r.out+r.err)
	_, words, _ := strings.Cut(r.err+r.out, "uncinate: ")
	words, _, _ = strings.Cut(words, "\n")
	words = regexp.MustCompile(`(127\.0\.0\.1|localhost):[0-9]+`).ReplaceAllString(words, "HOST")
	words = regexp.MustCompile(`(/[A-Za-z0-9._-]+)*/(uncinate-e2e-[^ ,;:]*|Test[A-Za-z0-9]+)/0[0-9]+(/[^ ,;:]*[^ ,;:.])?`).ReplaceAllString(words, "FOLDER")
	words = regexp.MustCompile(`\b[0-9a-f]{10}\b`).ReplaceAllString(words, "COMMIT")
	came(t, server, what, "refused: "+strings.TrimSuffix(words, "."))
}

func came(t *testing.T, server, what, outcome string) {
	t.Helper()
	tried.mu.Lock()
	defer tried.mu.Unlock()
	if tried.rows == nil {
		tried.rows = map[string][][2]string{}
	}
	tried.rows[server] = append(tried.rows[server], [2]string{what, outcome})
	if os.Getenv("UNCINATE_WORKS") == "" {
		assert.Contains(t, read(t, worksPage), worksRow(what, outcome), "docs/works-with.md is made by: make works")
	}
}

func worksRow(what, outcome string) string {
	return "| " + strings.ReplaceAll(what, "|", `\|`) + " | " + strings.ReplaceAll(outcome, "|", `\|`) + " |\n"
}

// writeWorks writes the page from what this run tried.
func writeWorks() error {
	var b strings.Builder
	b.WriteString("# What it was tried with\n\nEach line is what a test tried on this program as it is built, beside plain git, on servers from Debian's packages\nand in environments as they come. `make works` runs those tests and writes this page.\n")
	var servers []string
	for s := range tried.rows {
		servers = append(servers, s)
	}
	slices.Sort(servers)
	for _, s := range servers {
		b.WriteString("\n## " + s + "\n\n| tried | what came of it |\n|---|---|\n")
		rows := tried.rows[s]
		slices.SortStableFunc(rows, func(a, b [2]string) int { return strings.Compare(a[0], b[0]) })
		for _, r := range slices.Compact(rows) {
			b.WriteString(worksRow(r[0], r[1]))
		}
	}
	return os.WriteFile(filepath.FromSlash(worksPage), []byte(b.String()), 0o644)
}
