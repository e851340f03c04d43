package sshconfig

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// settings asks the real client what it would do.
func settings(t *testing.T, file, host string) []string {
	t.Helper()
	program, err := exec.LookPath("ssh")
	if err != nil {
		t.Fatal("ssh is missing; install it with: apt-get install openssh-client")
	}
	out, err := exec.Command(program, "-G", "-F", file, "-l", "git", host).Output()
	require.NoError(t, err)
	return strings.Split(strings.TrimSpace(string(out)), "\n")
}

func with(all []string, keys ...string) []string {
	var out []string
	for _, s := range all {
		key, _, _ := strings.Cut(s, " ")
		for _, k := range keys {
			if key == k {
				out = append(out, s)
			}
		}
	}
	return out
}

// TestRoute makes a route beside a person's configuration with identities, a jump host and
// an alias, and asks the real client what it makes of both.
func TestRoute(t *testing.T) {
	dir := filepath.Join(t.TempDir(), `it's a "folder" 100%`)
	require.NoError(t, os.MkdirAll(dir, 0o700))
	home := filepath.Join(t.TempDir(), "it's a folder")
	require.NoError(t, os.Mkdir(home, 0o700))
	own, none, file := filepath.Join(home, "own"), filepath.Join(dir, "none"), filepath.Join(dir, "route")
	require.NoError(t, os.WriteFile(none, nil, 0o600))
	require.NoError(t, os.WriteFile(own, []byte(`Host gannet.example
  IdentityFile /home/tern/.ssh/everywhere
  ProxyJump tern@jump.example
  ServerAliveInterval 17
  LocalForward 8080 localhost:80
  RemoteCommand echo hello
  UserKnownHostsFile /home/tern/known
Host petrel.example
  User knot
  IdentityFile /home/tern/.ssh/other
Host *
  IdentityFile /home/tern/.ssh/always
  Compression yes
`), 0o600))
	r := Route{Host: "gannet.example", Key: filepath.Join(dir, "key"), KnownHosts: filepath.Join(dir, "hosts"),
		Own: settings(t, own, "gannet.example"), Plain: settings(t, none, "gannet.example"), Includes: []string{own}}
	require.NoError(t, os.WriteFile(file, []byte(r.Text()), 0o600))

	got := settings(t, file, "gannet.example")
	assert.Equal(t, []string{"identityfile " + strings.ReplaceAll(r.Key, "%", "%%")}, with(got, "identityfile"), "one key, and no other")
	assert.Equal(t, []string{"identitiesonly yes", "stricthostkeychecking true"}, with(got, "identitiesonly", "stricthostkeychecking"))
	assert.Equal(t, []string{"serveraliveinterval 17", "proxyjump tern@jump.example"}, with(got, "serveraliveinterval", "proxyjump"), "what else the person set holds")
	assert.Equal(t, []string{"compression yes"}, with(got, "compression"))
	assert.Empty(t, with(got, "localforward", "remotecommand"), "nothing else is done on the way")
	assert.Contains(t, strings.Join(with(got, "userknownhostsfile"), ""), "/home/tern/known")

	other := settings(t, file, "petrel.example")
	want := settings(t, own, "petrel.example")
	assert.Equal(t, want, other, "for every other host all is as the person has it")
}

func TestKnownHost(t *testing.T) {
	for host, want := range map[string]string{"gannet.example": "gannet.example", "gannet.example:22": "gannet.example", "gannet.example:2222": "[gannet.example]:2222",
		"127.0.0.1:80": "[127.0.0.1]:80", "[::1]:2222": "[::1]:2222", "[::1]": "::1"} {
		assert.Equal(t, want, KnownHost(host), host)
	}
	name, port := SplitPort("[::1]:8022")
	assert.Equal(t, []string{"::1", "8022"}, []string{name, port})
}
