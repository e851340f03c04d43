package credentials

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAsksFor(t *testing.T) {
	short := "/home/tern/.uncinate/keys/tern-355fe67936030541"
	long := "/home/" + strings.Repeat("very-", 20) + "long/.uncinate/keys/tern-355fe67936030541"
	for prompt, want := range map[string]bool{
		"Enter passphrase for key '" + short + "': ":                true,
		"Enter passphrase for \"" + short + "\": ":                  true,
		"Enter passphrase: ":                                        true,
		"Enter passphrase for key '" + short[:len(short)-1] + "': ": false,
		"tern@gannet.example's password: ":                          false,
	} {
		assert.Equal(t, want, asksFor(prompt, short), prompt)
	}
	assert.True(t, asksFor("Enter passphrase for key '"+long[:100]+"': ", long), "ssh cuts a long name")
	assert.True(t, asksFor("Enter passphrase for key '"+long+"': ", long))
	assert.False(t, asksFor("Enter passphrase for key '"+long[:99]+"': ", long))
	assert.False(t, asksFor("Enter passphrase for key '"+short+"': ", long))
}
