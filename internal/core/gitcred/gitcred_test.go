package gitcred

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/address"
)

func TestForExactlyOneAddress(t *testing.T) {
	at, err := address.Parse("https://gannet.example/tern/gauge")
	require.NoError(t, err)
	for _, c := range []struct {
		q    Request
		want bool
	}{
		{Request{"https", "gannet.example", "tern/gauge", ""}, true},
		{Request{"https", "gannet.example", "tern/gauge.git", "tern"}, true},
		{Request{"https", "gannet.example:443", "tern/gauge", ""}, true},
		{Request{"https", "gannet.example", "", ""}, false},
		{Request{"https", "gannet.example", "tern/gauge/x", ""}, false},
		{Request{"https", "gannet.example", "tern/gauge2", ""}, false},
		{Request{"https", "gannet.example", "tern/gauge", "knot"}, false},
		{Request{"http", "gannet.example", "tern/gauge", ""}, false},
		{Request{"https", "gannet.example.evil.example", "tern/gauge", ""}, false},
		{Request{"https", "x@gannet.example", "tern/gauge", ""}, true}, // the user in front is not the host
		{Request{"https", "gannet.example:8443", "tern/gauge", ""}, false},
		{Request{"https", "gannet.example", "tern/../tern/gauge", ""}, false},
		{Request{"https", "gannet.example", "tern/gauge.git/info/lfs", ""}, true},
		{Request{"https", "gannet.example", "tern/gauge.git/info/lfs/objects/batch", ""}, true},
		{Request{"https", "gannet.example", "tern/gauge/info/lfsx", ""}, false},
		{Request{"https", "gannet.example", "knot/gauge/info/lfs", ""}, false},
		{Request{"https", "gannet.example", "info/lfs/tern/gauge", ""}, false},
	} {
		assert.Equal(t, c.want, c.q.For(at, "tern"), "%+v", c.q)
	}
}

func TestReadAndAnswer(t *testing.T) {
	q, err := Read(strings.NewReader("protocol=https\nhost=h\npath=a=b\ncapability[]=authtype\nusername=\n\nhost=evil\n"))
	require.NoError(t, err)
	assert.Equal(t, Request{"https", "h", "a=b", ""}, q)
	for _, bad := range []string{"no equals sign\n", "host=a\x00b\n", "x=" + strings.Repeat("y", Most) + "\n", strings.Repeat("a=b\n", Most)} {
		_, err := Read(strings.NewReader(bad))
		assert.Error(t, err)
	}
	var out bytes.Buffer
	require.NoError(t, Answer(&out, "tern", "plunge~5"))
	assert.Equal(t, "username=tern\npassword=plunge~5\n", out.String())
	assert.Error(t, Answer(&out, "tern", "x\nurl=evil"))
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("protocol=https\nhost=h\npath=p\n\n"))
	f.Add([]byte("host=\x00\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		q, err := Read(bytes.NewReader(data))
		if err == nil && strings.ContainsAny(q.Host+q.Path+q.User+q.Protocol, "\n\x00") {
			t.Fatalf("%q", q)
		}
	})
}
