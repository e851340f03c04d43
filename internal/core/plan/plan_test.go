package plan

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func journal(t *testing.T) string {
	t.Helper()
	when := time.Date(2026, 11, 24, 6, 0, 0, 0, time.UTC)
	var b strings.Builder
	for _, v := range []any{
		Head{Version: Version, Job: "attach", Subject: "/gauge", Started: when, Wanted: json.RawMessage(`{"name":"gauge"}`)},
		Record{Time: when, Step: "init", Mark: Begun, Facts: map[string]json.RawMessage{"made-git": json.RawMessage("true")}},
		Record{Time: when, Step: "init", Mark: Done},
		Record{Time: when, Step: "create", Mark: Begun, Facts: map[string]json.RawMessage{"nonce": json.RawMessage(`"abc"`)}},
		Record{Time: when, Step: "ignore", Mark: Undone},
		Record{Time: when, Facts: map[string]json.RawMessage{"id": json.RawMessage("7")}},
	} {
		line, err := Line(v)
		require.NoError(t, err)
		b.Write(line)
	}
	return b.String()
}

func TestReadGoesOnFromWhatStands(t *testing.T) {
	s, err := Read([]byte(journal(t)))
	require.NoError(t, err)
	assert.JSONEq(t, `{"name":"gauge"}`, string(s.Head.Wanted))
	assert.Equal(t, map[string]Mark{"init": Done, "create": Begun, "ignore": Undone}, s.Marks)
	assert.Equal(t, `"abc"`, string(s.Facts["nonce"]))
	assert.Equal(t, "7", string(s.Facts["id"]))
	assert.Equal(t, []string{"create", "init"}, s.ToPutBack())
}

func TestReadAtEveryCut(t *testing.T) {
	whole := journal(t)
	first := strings.IndexByte(whole, '\n') + 1
	for i := range len(whole) {
		s, err := Read([]byte(whole[:i]))
		if i < first {
			assert.Error(t, err, "cut at %d", i)
			continue
		}
		require.NoError(t, err, "a crash cuts the last line only (at %d)", i)
		assert.Equal(t, "attach", s.Head.Job)
	}
}

func TestReadRefusesDamage(t *testing.T) {
	whole := journal(t)
	for says, bad := range map[string]string{
		"no line":         "",
		"first line":      "{}\n",
		"has version 1":   strings.Replace(whole, `"version":3`, `"version":1`, 1),
		"line 3":          strings.Replace(whole, `"mark":"done"`, `"mark":"dane"`, 1),
		"line 2":          strings.Replace(whole, `{"time"`, `{time`, 1),
		"is larger than ": strings.Repeat("x", Most+1),
	} {
		_, err := Read([]byte(bad))
		require.Error(t, err, says)
		assert.Contains(t, err.Error(), says)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("{\"version\":1,\"job\":\"attach\"}\n{\"step\":\"x\",\"mark\":\"done\"}\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, err := Read(data); err == nil {
			if len(s.ToPutBack()) > len(s.Order) {
				t.Fatal("more to put back than was begun")
			}
		}
	})
}
