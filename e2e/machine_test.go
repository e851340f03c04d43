package e2e

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/packing"
	"uncinate/internal/practice"
	"uncinate/internal/world/sealed"
)

const packed = "seven tall masts"

// cutOff runs a command with a standard input, and kills it once something is so; false where it ended first.
func (m *machine) cutOff(in string, when func() bool, args ...string) bool {
	m.t.Helper()
	c := exec.Command(program, args...)
	c.Dir, c.Env, c.Stdin = m.home, m.env, strings.NewReader(in)
	require.NoError(m.t, c.Start())
	end := make(chan error, 1)
	go func() { end <- c.Wait() }()
	for {
		select {
		case <-end:
			return false
		default:
		}
		if when() {
			require.NoError(m.t, c.Process.Kill())
			<-end
			return true
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// readied gives a machine two accounts, a key, settings, a kind of its own, and projects in several states.
func readied(h *host, m *machine, many int) {
	m.ok("", h.token["dunlin"]+"\n", "account", "add", "dunlin", "--host", "gannet")
	m.ok("", "", "settings", "set", "machine", "pier")
	m.ok("", "", "settings", "set", "rescue.days", "60")
	m.ok("", "", "key", "make", "tern")
	m.ok("", "", "key", "install", "tern", "--yes")
	m.write(".uncinate/config/kinds", map[string]string{"tides.toml": "[[kind]]\nname = \"tide tables\"\nmarkers = [\"tides.toml\"]\nrule = [{ pattern = \"*.tide\", why = \"made by hand\" }]\n"})
	for i := range many {
		name := fmt.Sprintf("work/gauge-%02d", i)
		m.write(name, map[string]string{"README.md": name})
		m.ok(name, "", "attach", "--yes", "--account", []string{"tern", "dunlin"}[i%2])
	}
	m.ok("work/gauge-00", "", "branch", "make", "neap", "--switch", "--publish")
	m.ok("work/gauge-01", "", "branch", "make", "unsent", "--switch")
	m.write("work/gauge-02", map[string]string{"README.md": "more"})
	m.ok("work/gauge-02", "", "save", "--message", "More")
	m.write("work/gauge-03", map[string]string{"new.txt": "new"})
}

// TestMachine packs a machine with two accounts, keys, settings, a kind of one's own and projects on several
// branches, and makes it stand on another one by one command, which is killed again and again on the way: it goes
// on, asks for no token twice, and no secret was in the file.
func TestMachine(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	m.alone = true // what is pasted would want the passphrase
	many := 6
	if os.Getenv("UNCINATE_SOAK") != "" {
		many = 100
	}
	readied(h, m, many)
	shown := m.run("", packed+"\n", "machine", "pack", "set.age", "--preview")
	assert.Contains(t, shown.err, "Only on this machine")
	for _, part := range []string{"gauge-01: ", "gauge-02: unsent 1 commit not sent", "gauge-03: changed 1 new file"} {
		assert.Contains(t, shown.err, part)
	}
	assert.Contains(t, shown.out, "Sync ")
	m.ok("", packed+"\n", "machine", "pack", "set.age", "--yes")
	assert.Equal(t, "0 0", strings.Join(strings.Fields(m.git("work/gauge-02", "rev-list", "--count", "--left-right", "main...origin/main")), " "), "what could be sent was sent")
	m.refused(3, []string{"there is a set.age already", "machine pack set.age --again"}, "", "", "machine", "pack", "set.age")
	data := []byte(m.read("set.age"))
	plain, err := sealed.OpenByPassphrase(data, packed, packing.MostBytes)
	require.NoError(t, err)
	for _, secret := range []string{h.token["tern"], h.token["dunlin"], "PRIVATE KEY", "plunge~demo"} {
		assert.NotContains(t, string(plain), secret)
		assert.NotContains(t, string(data), secret)
	}

	fresh, unpack, cut := unpacked(t, h, data)
	assert.Greater(t, cut, 3)
	fresh.ok("", packed+"\n", unpack...)
	assert.Contains(t, fresh.ok("", packed+"\n", unpack...), "All of it is here already.")
	for i := range many {
		name := fmt.Sprintf("gauge-%02d", i)
		assert.Equal(t, m.git("work/"+name, "rev-parse", "main"), fresh.git("all/work/"+name, "rev-parse", "origin/main"), name)
	}
	assert.Equal(t, "neap", fresh.git("all/work/gauge-00", "branch", "--show-current"))
	assert.Contains(t, fresh.read("all/gauge/.git/config"), "gauge")
	assert.FileExists(t, filepath.Join(fresh.home, ".uncinate/config/kinds/tides.toml"))
	assert.Regexp(t, `rescue.days\s+60`, fresh.ok("", "", "settings", "list"))
	keys := h.Store.Keys("tern")
	require.Len(t, keys, 2, "each machine has its own")
	fresh.ok("all/work/gauge-02", "", "sync")
}

// unpacked unpacks on a new machine, in a run that is killed again and again; the last one is left to do.
func unpacked(t *testing.T, h *host, data []byte) (fresh *machine, unpack []string, cut int) {
	t.Helper()
	fresh = newMachine(t)
	fresh.alone = true
	require.NoError(t, os.WriteFile(filepath.Join(fresh.home, "set.age"), data, 0o600))
	fresh.refused(2, []string{"the passphrase does not open it"}, "", "wrong wrong\n", "machine", "unpack", "set.age", "--preview")
	fresh.ok("", "", "vault", "make", "--by", "file")
	fresh.ok("", "", "settings", "set", "machine", "launch")
	unpack = []string{"machine", "unpack", "set.age", "--yes", "--into", filepath.Join(fresh.home, "all")}
	exists := func(path ...string) func() bool {
		return func() bool {
			_, err := os.Stat(filepath.Join(append([]string{fresh.home}, path...)...))
			return err == nil
		}
	}
	file := func(name, part string) func() bool {
		return func() bool {
			data, _ := os.ReadFile(filepath.Join(fresh.home, name))
			return strings.Contains(string(data), part)
		}
	}
	tern, dunlin := h.token["tern"]+"\n", h.token["dunlin"]+"\n"
	for _, c := range []struct {
		in   string
		when func() bool
	}{
		{packed + "\n" + tern + dunlin, exists(".uncinate/config/hosts.json")},
		{packed + "\n" + tern + dunlin, file(".uncinate/config/accounts.json", `"tern"`)},
		{packed + "\n" + dunlin, file(".uncinate/config/accounts.json", `"dunlin"`)}, // tern's is not asked for again
		{packed + "\n", exists(".uncinate/config/keys.json")},
		{packed + "\n", exists("all/work/gauge-00/.git")},
		{packed + "\n", file(".uncinate/state/register.json", "gauge-02")},
	} {
		if fresh.cutOff(c.in, c.when, unpack...) {
			cut++
		}
		fresh.free()
	}
	return fresh, unpack, cut
}

// TestMachineForAKey seals for SSH keys of the new machine, and refuses those that cannot be sealed for, and packs
// that mean no good.
func TestMachineForAKey(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	m.alone = true // what is pasted would want the key
	for _, kind := range []string{"ed25519", "rsa", "ecdsa"} {
		m.command("", "", "ssh-keygen", "-q", "-t", kind, "-N", "", "-C", "tern at launch", "-f", filepath.Join(m.home, kind))
		if kind == "ecdsa" {
			m.refused(2, []string{"an SSH key of the kind ecdsa-sha2-nistp256: ed25519 and rsa can"}, "", "", "machine", "pack", "ecdsa.age", "--to", "ecdsa.pub", "--yes")
			continue
		}
		m.ok("", "", "machine", "pack", kind+".age", "--to", kind+".pub", "--yes")
		assert.Contains(t, m.ok("", "", "machine", "unpack", kind+".age", "--key", kind, "--preview"), "All of it is here already.")
		m.refused(2, []string{"sealed for the owner of a key"}, "", "", "machine", "unpack", kind+".age")
	}
	m.refused(4, []string{"that is a private key"}, "", "", "machine", "pack", "x.age", "--to", "rsa", "--yes")
	m.refused(2, []string{"the key does not open it"}, "", "", "machine", "unpack", "rsa.age", "--key", "ed25519")
	m.refused(2, []string{"not a file that machine pack made"}, "", "", "machine", "unpack", "rsa.pub")

	skua := "language = 1\nname = \"skua\"\nbase = \"https://skua.example\"\n[address]\napi = \"https://elsewhere.example/api\"\nhttps = \"{+base}/{owner}/{name}.git\"\n[trust]\naddresses = [\"https://elsewhere.example\"]\n[signin]\nheader = { Skua = \"{token}\" }\n[[action.identify.request]]\nurl = \"{+api}/who\"\nread = { user = \"$.user\" }\n"
	known := m.read(".uncinate/config/hosts/gannet.toml")
	for what, p := range map[string]packing.Pack{
		"of gannet comes in the place of the one by which 1 account signs in: tern": {Version: 1, Hosts: []packing.Host{{Name: "gannet", At: h.URL, Description: strings.Replace(known, `client   = "uncinate"`, `client   = "another"`, 1)}}},
		"cannot be a remote or a branch":                                            {Version: 1, Projects: []packing.Project{{Folder: "a", Address: "https://gannet.example/a/b.git", Remotes: []packing.Remote{{Name: "--upload-pack=x", Address: "https://x.example/y"}}}}},
		"SSH keys":                                                                  {Version: 1, Pins: []string{"gannet.example\nevil ssh-ed25519 AAAA"}},
		"cannot be used":                                                            {Version: 1, Projects: []packing.Project{{Folder: "../../evil", Address: "https://gannet.example/a/b.git"}}},
		"its form":                                                                  {Version: 0},
		"What accounts on skua sign in with goes to https://elsewhere.example too": {Version: 1, Machine: "p\x1b[2Jier", Hosts: []packing.Host{{Name: "skua", Description: skua}}},
	} {
		data, err := json.Marshal(p)
		require.NoError(t, err)
		to, err := sealed.For(m.read("ed25519.pub"))
		require.NoError(t, err)
		out, err := sealed.Seal(data, to)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(m.home, "evil.age"), out, 0o600))
		r := m.run("", "", "machine", "unpack", "evil.age", "--key", "ed25519", "--preview")
		assert.Contains(t, r.out+r.err, what)
		assert.NotContains(t, r.out+r.err, "\x1b")
		out[len(out)-3] ^= 1
		require.NoError(t, os.WriteFile(filepath.Join(m.home, "evil.age"), out, 0o600))
		m.refused(4, []string{"damaged, or was changed"}, "", "", "machine", "unpack", "evil.age", "--key", "ed25519")
	}
	assert.NoFileExists(t, filepath.Join(m.home, "../evil"))
}

// TestMachineWithCopies carries over a copy of one's own on the host with the branch that goes there, a second remote
// that only receives, a remote that is not called origin, and the branches beside the one that is checked out.
func TestMachineWithCopies(t *testing.T) {
	t.Parallel()
	h, tern, knot := offerers(t, practice.None)
	knot.alone = true
	p := newHostOf(t, "petrel")
	knot.ok("", "", "host", "add", "petrel", "--at", p.URL)
	knot.ok("", p.token["knot"]+"\n", "account", "add", "knot-petrel", "--host", "petrel")
	knot.write("gauge", map[string]string{"levels.csv": "station,level\ninlet,1\nbar,22\nreef,3\nquoin,4\n"})
	knot.ok("gauge", "", "save", "--message", "Correct the bar")
	knot.ok("gauge", "", "offer", "create", "--yes")
	knot.write("logs", map[string]string{"README.md": "logs"})
	knot.ok("logs", "", "attach", "--yes", "--account", "knot", "--remote", "shore")
	knot.ok("logs", "", "attach", "--yes", "--copy", "--remote", "spare", "--account", "knot-petrel")
	knot.ok("logs", "", "branch", "make", "neap", "--publish")
	knot.ok("logs", "", "branch", "make", "wip")
	knot.ok("", packed+"\n", "machine", "pack", "set.age", "--yes")

	fresh := newMachine(t)
	fresh.alone = true
	require.NoError(t, os.WriteFile(filepath.Join(fresh.home, "set.age"), []byte(knot.read("set.age")), 0o600))
	fresh.ok("", "", "vault", "make", "--by", "file")
	fresh.ok("", packed+"\n"+h.token["knot"]+"\n"+p.token["knot"]+"\n", "machine", "unpack", "set.age", "--yes")
	assert.Equal(t, "correct-the-bar", fresh.git("gauge", "branch", "--show-current"))
	assert.Contains(t, fresh.ok("gauge", "", "status"), "in step")
	fresh.write("gauge", map[string]string{"more.txt": "more\n"})
	fresh.ok("gauge", "", "save", "--message", "More")
	fresh.ok("gauge", "", "sync")
	assert.Equal(t, fresh.git("gauge", "rev-parse", "HEAD"), h.tip(t, fresh, "knot/gauge", "correct-the-bar"), "sent to the copy")
	assert.Contains(t, fresh.git("logs", "remote"), "shore\nspare")
	assert.Equal(t, "main\nneap\nwip", fresh.git("logs", "branch", "--format=%(refname:short)"))
	fresh.write("logs", map[string]string{"more.txt": "more\n"})
	fresh.ok("logs", "", "save", "--message", "More")
	fresh.ok("logs", "", "sync")
	assert.Equal(t, fresh.git("logs", "rev-parse", "HEAD"), fresh.git("logs", "rev-parse", "spare/main"), "sent to the second remote")
	assert.Contains(t, fresh.ok("", packed+"\n", "machine", "unpack", "set.age", "--yes"), "All of it is here already.")
	tern.ok("gauge", "", "sync")
}

// TestLostMachine ends, from another machine, the tokens and keys that a lost one had; its next sync is refused and
// says why, and what a host does not tell of is said, with the page.
func TestLostMachine(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	p := newHostOf(t, "petrel")
	m.ok("", "", "host", "add", "petrel", "--at", p.URL)
	m.ok("", p.token["tern"]+"\n", "account", "add", "tern-petrel", "--host", "petrel")
	m.ok("", "", "settings", "set", "machine", "pier")
	launch := newMachine(t)
	launch.ok("", "", "host", "add", "gannet", "--at", h.URL)
	launch.ok("", "", "vault", "make", "--by", "file")
	launch.ok("", "", "settings", "set", "machine", "launch")
	token, err := h.NewToken("tern", time.Now().AddDate(0, 6, 0))
	require.NoError(t, err)
	require.NoError(t, h.Store.NameToken(token.Secret, "tern on gannet, machine launch"))
	launch.ok("", token.Secret+"\n", "account", "add", "tern", "--host", "gannet")
	f := newHostOf(t, "fulmar")
	for _, on := range []*machine{m, launch} {
		on.ok("", "", "host", "add", "fulmar", "--at", f.URL)
		on.ok("", f.token["tern"]+"\n", "account", "add", "tern-fulmar", "--host", "fulmar", "--user", "tern")
	}
	launch.ok("", "", "key", "make", "tern-fulmar")
	launch.ok("", "", "host", "pin", strings.TrimPrefix(f.URL, "http://"), "--fingerprint", f.HostKey())
	launch.ok("", "", "key", "install", "tern-fulmar", "--yes")
	said, end := launch.signsIn("device", "dunlin")
	fills(t, h.URL+"/gangway/enter", url.Values{"code": {codeShown.FindStringSubmatch(said)[1]}, "user": {"dunlin"}, "token": {h.token["dunlin"]}, "say": {"yes"}})
	exit, out := end()
	require.Equal(t, 0, exit, out)
	m.ok("", h.token["dunlin"]+"\n", "account", "add", "dunlin", "--host", "gannet")
	launch.ok("", "", "clone", "tern/gauge", "--account", "tern")
	launch.ok("", "", "key", "make", "tern")
	launch.ok("", "", "key", "install", "tern", "--yes")

	m.refused(1, []string{"no host lists a token of a machine named lunch", "There are tokens of the machine launch."}, "", "", "token", "revoke", "--machine", "lunch")
	shown := m.ok("", "", "token", "revoke", "--machine", "launch", "--preview")
	assert.Contains(t, shown, `End the token "tern on gannet, machine launch" of account tern on gannet`)
	assert.Contains(t, strings.Join(strings.Fields(shown), " "), "petrel does not list tokens: those of tern-petrel are ended on its page, "+p.URL+"/perch/rings")
	assert.Contains(t, strings.Join(strings.Fields(shown), " "), "fulmar does not list tokens: those of tern-fulmar are ended on its page, "+f.URL+"/locker")
	assert.Contains(t, shown, "has no machine's name, and stays")
	assert.Contains(t, shown, `End the token "dunlin on gannet, machine launch" of account dunlin on gannet`, "a sign-in through the host's pages has the machine's name too")
	before := len(h.Store.Tokens("tern"))
	require.NoError(t, h.Faults.Set([]string{"lose on DELETE times 1"}))
	m.ok("", "", "token", "revoke", "--machine", "launch", "--yes")
	require.NoError(t, h.Faults.Set(nil))
	assert.Len(t, h.Store.Tokens("tern"), before-1, "that one, and no other")
	m.ok("", "", "key", "revoke", "--machine", "launch", "--yes")
	assert.Empty(t, h.Store.Keys("tern"))
	assert.Empty(t, f.Store.Keys("tern"))
	launch.refused(5, []string{"dunlin"}, "", "", "repository", "list", "--account", "dunlin")
	launch.refused(5, []string{"does not accept the sign-in of tern", "uncinate account add tern --host gannet"}, "gauge", "", "sync")
	m.ok("gauge", "", "sync")
	assert.NotEqual(t, 0, m.run("", "", "token", "revoke").code)
}

// TestMachineClear takes away all that the program left on a machine: what it has on the hosts, the vault and the keys,
// the folders of which nothing is only there; what is only there stays. Killed on the way, the same command goes on.
func TestMachineClear(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	f := newHostOf(t, "fulmar")
	m.ok("", "", "host", "add", "fulmar", "--at", f.URL)
	m.ok("", f.token["tern"]+"\n", "account", "add", "tern-fulmar", "--host", "fulmar", "--user", "tern")
	m.ok("", "", "key", "make", "tern")
	m.ok("", "", "key", "install", "tern", "--yes")
	m.ok("", "", "key", "install", "tern", "--signs", "--yes")
	for _, name := range []string{"whole", "unsent", "unsaved", "ignored", "tagged", "rescued"} {
		m.write("work/"+name, map[string]string{"README.md": name, ".gitignore": "*.log\n"})
		m.ok("work/"+name, "", "attach", "--yes", "--account", "tern")
	}
	m.write("work/unsent", map[string]string{"more.txt": "more\n"})
	m.ok("work/unsent", "", "save", "--message", "More")
	m.write("work/unsaved", map[string]string{"more.txt": "more\n"})
	m.write("work/ignored", map[string]string{"a.log": "mine\n"})
	m.git("work/tagged", "tag", "-m", "The first", "first")
	m.write("work/rescued", map[string]string{"README.md": "changed\n"})
	m.ok("work/rescued", "", "undo", "changes", "README.md", "--yes")

	shown := m.ok("", "", "machine", "clear", "--projects", "--preview")
	flat := strings.Join(strings.Fields(shown), " ")
	for _, part := range []string{"Remove this machine's key of tern from gannet", "Remove this machine's signing key of tern from gannet", "Revoke the token of tern on gannet",
		"work/whole, of which nothing is only here", "Take the sign-in out of git's configuration of 5 projects", "work/unsent stays: main has commits that the host does not have", "work/unsaved stays: 1 file is not saved",
		"work/ignored stays: 1 ignored file, such as a.log", "work/tagged stays: the tag first is only here", "work/rescued stays: 1 rescue copy",
		"The token of tern-fulmar stays valid on fulmar, which offers no way to revoke it. It is ended on its page, " + f.URL + "/locker"} {
		assert.Contains(t, flat, part)
	}
	require.Len(t, h.Store.Keys("tern"), 1, "a preview ends nothing")
	assert.True(t, h.inForce(h.token["tern"]))

	m.cutOff("", func() bool { return len(h.Store.Keys("tern")) == 0 }, "machine", "clear", "--projects", "--yes")
	m.free()
	out := m.ok("", "", "machine", "clear", "--projects", "--yes")
	assert.Contains(t, out, "5 projects stay, without a sign-in.")
	assert.Empty(t, h.Store.Keys("tern"))
	assert.False(t, h.inForce(h.token["tern"]))
	assert.NoFileExists(t, filepath.Join(m.home, ".uncinate"))
	assert.NoDirExists(t, filepath.Join(m.home, "work/whole"))
	for _, name := range []string{"unsent", "unsaved", "ignored", "tagged", "rescued"} {
		config := m.read("work/" + name + "/.git/config")
		assert.NotContains(t, config, "uncinate")
		assert.Contains(t, config, h.URL+"/tern/"+name)
		if name != "rescued" {
			assert.NoDirExists(t, filepath.Join(m.home, "work", name, ".git/uncinate"))
		}
	}
	assert.DirExists(t, filepath.Join(m.home, "work/rescued/.git/uncinate/rescue.git"))
	assert.Equal(t, "mine\n", m.read("work/ignored/a.log"))
	assert.Contains(t, m.ok("", "", "machine", "clear", "--yes"), "This program has left nothing on this machine.")
}
