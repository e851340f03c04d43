package text

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestVisible(t *testing.T) {
	for in, want := range map[string]string{
		"plain":      "plain",
		"ünï":        "ünï",
		"a\x1b[31mb": `a\x1b[31mb`,
		"a\nb\tc":    `a\nb\tc`,
		"\xff":       `\xff`,
		"a\u202eb":   `a\u202eb`,
		"\u009b1m":   `\u009b1m`,
		"":           "",
	} {
		assert.Equal(t, want, Visible(in))
	}
	assert.Equal(t, "abcdefg...", Excerpt("abcdefghijklmnop", 10))
}

func TestQuoteSurvivesARealShell(t *testing.T) {
	for _, word := range []string{"plain", "", "with blank", "it's", "-x", "~", "$HOME", "a\nb", "tab\t'", `back\slash`, "*", "a;b", "\x1b[0m", "ünï", `\n`, "a\x9b31m", "a\u009b\u202egnp.exe", "\U000e0041\u0378x\x7f9", "\xff\xfe4"} {
		out, err := exec.Command("bash", "-c", "printf %s "+Quote(word)).Output()
		require.NoError(t, err)
		assert.Equal(t, word, string(out), Quote(word))
		assert.Equal(t, Quote(word), Visible(Quote(word)), "what is to be pasted is shown as it is")
	}
	assert.Equal(t, "uncinate attach 'my project'", Command("uncinate", "attach", "my project"))
}

func TestNumbers(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 1449: "1.4 kB", 74_123: "74 kB", 9_960_000: "10 MB", 1_400_000: "1.4 MB", 2_000_000_000_000: "2.0 TB"} {
		assert.Equal(t, want, Size(n))
	}
	for n, want := range map[int]string{0: "0", 999: "999", 1000: "1,000", -1234567: "-1,234,567"} {
		assert.Equal(t, want, Number(n))
	}
	assert.Equal(t, []string{"1 file", "2,038 files", "3 branches", "2 repositories", "2 days"},
		[]string{Count(1, "file"), Count(2038, "file"), Count(3, "branch"), Count(2, "repository"), Count(2, "day")})
}

func TestNearest(t *testing.T) {
	words := []string{"attach", "account", "address", "clone"}
	for in, want := range map[string]string{"attahc": "attach", "adress": "address", "clon": "clone", "zzz": "", "CLONE": "clone", "acc": "account"} {
		assert.Equal(t, want, Nearest(in, words), in)
	}
}

func TestWords(t *testing.T) {
	w, err := Words(`make  -C "a b" 'it''s' $HOME ""`)
	require.NoError(t, err)
	assert.Equal(t, []string{"make", "-C", "a b", "its", "$HOME", ""}, w)
	for _, bad := range []string{"", "  ", `a "b`} {
		_, err := Words(bad)
		assert.Error(t, err, bad)
	}
}
