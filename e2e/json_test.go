package e2e

import (
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// schemas holds the documented forms of all documents.
type schemas struct {
	t        *testing.T
	compiler *jsonschema.Compiler
	unused   map[string]bool
}

func documented(t *testing.T) *schemas {
	t.Helper()
	f, err := os.Open("../docs/json-schema.json")
	require.NoError(t, err)
	defer f.Close()
	doc, err := jsonschema.UnmarshalJSON(f)
	require.NoError(t, err)
	s := &schemas{t: t, compiler: jsonschema.NewCompiler(), unused: map[string]bool{}}
	s.compiler.AssertFormat()
	require.NoError(t, s.compiler.AddResource("mem:///docs.json", doc))
	for name := range doc.(map[string]any)["$defs"].(map[string]any) {
		s.unused[name] = true
	}
	return s
}

// fits wants a whole output to be one document of the documented form.
func (s *schemas) fits(name, out string) {
	s.t.Helper()
	delete(s.unused, name)
	schema, err := s.compiler.Compile("mem:///docs.json#/$defs/" + strings.ReplaceAll(name, " ", "%20"))
	require.NoError(s.t, err, name)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
	require.NoError(s.t, err, "%s: %s", name, out)
	assert.NoError(s.t, schema.Validate(doc), "%s: %s", name, out)
}

// document is a command and the form of the document that it gives; "problem" is the one of errors.
type document struct{ form, in, args string }

// documents are commands of a person's first day, in their order, then of later ones.
func documents(t *testing.T, h *host, line string) []document {
	t.Helper()
	return slices.Concat(firstDocuments(h), clashDocuments(), undoDocuments(), documentsOfOthers(h), offerDocuments(), deployDocuments(), laterDocuments(t, h, line))
}

func firstDocuments(h *host) []document {
	return []document{
		{"ready", "", "ready"},
		{"host list", "", "host list"},
		{"account list", "", "account list"},
		{"problem", "", "vault show"},
		{"problem", "", "attach gauge"},
		{"problem", "", "host ad"},
		{"problem", "", "status --jsn"},
		{"host add", "", "host add gannet --at " + h.URL},
		{"host list", "", "host list"},
		{"host show", "", "host show gannet"},
		{"host check", "", "host check gannet"},
		{"host compare", "", "host compare"},
		{"host draft", "", "host draft api.yaml"},
		{"host check", "", "host check ./bad.toml"},
		{"vault make", "seven tall masts\n", "vault make --by passphrase"},
		{"vault show", "", "vault show"},
		{"vault lock", "", "vault lock"},
		{"vault show", "", "vault show"},
		{"vault unlock", "seven tall masts\n", "vault unlock"},
		{"problem", "short\n", "vault change --by passphrase"},
		{"vault change", "", "vault change --by file"},
		{"problem", "wrong", "account add --host gannet"},
		{"account add", h.token["tern"], "account add --host gannet"},
		{"account add", h.token["dunlin"], "account add --host gannet"},
		{"account list", "", "account list"},
		{"account show", "", "account show tern"},
		{"ready", "", "ready gauge"},
		{"token list", "", "token list"},
		{"token test", "", "token test tern dunlin"},
		{"token add", h.token["tern"], "token add tern"},
		{"plan", "", "token revoke dunlin --preview"},
		{"token replace", h.token["dunlin"], "token replace dunlin --yes"},
		{"token revoke", "", "token revoke dunlin --yes"},
		{"token find", "", "token find gauge"},
		{"host try", "", "host try gannet --account tern"},
		{"survey", "", "survey --full gauge"},
		{"ignore suggest", "", "ignore suggest --folder gauge"},
		{"ignore add", "", "ignore add --folder gauge *.log"},
		{"ignore keep", "", "ignore keep --folder gauge"},
		{"ignore explain", "", "ignore explain --folder gauge x.log"},
		{"problem", "", "ignore add --folder gauge ../x"},
		{"plan", "", "attach gauge --preview --account tern"},
		{"problem", "", "attach gauge --account tern"},
		{"attach", "", "attach gauge --yes --account tern"},
		{"attach", "", "attach gauge --yes"},
		{"status", "", "status gauge"},
		{"status", "", "status gauge --offline"},
		{"sync", "", "sync gauge"},
		{"plan", "", "sync gauge --preview"},
		{"visit", "", "visit --folder gauge people"},
		{"status --all", "", "status --all"},
		{"sync --all", "", "sync --all"},
	}
}

// clashDocuments are those about what both sides changed.
func clashDocuments() []document {
	return []document{
		{"settle show", "", "settle --folder gauge"},
		{"settle cancel", "", "settle cancel --folder gauge"},
		{"settle mine", "", "settle mine --folder gauge"},
		{"settle theirs", "", "settle theirs --folder gauge clash.txt"},
		{"plan", "", "settle both --folder gauge --preview"},
		{"settle both", "", "settle both --folder gauge"},
		{"settle by-hand", "", "settle by-hand --folder gauge clash.txt --with deploy.pub"},
	}
}

// undoDocuments are those about what is taken back, and claimed.
func undoDocuments() []document {
	return []document{
		{"undo changes", "", "undo changes --folder gauge --yes"},
		{"undo file", "", "undo file --folder gauge README.md --yes"},
		{"plan", "", "undo commit --folder gauge --preview"},
		{"undo commit", "", "undo commit --folder gauge HEAD --yes"},
		{"claim create", "", "claim create --folder gauge README.md"},
		{"claim list", "", "claim list gauge"},
		{"plan", "", "claim release --folder gauge --preview"},
		{"claim release", "", "claim release --folder gauge"},
	}
}

// documentsOfOthers are those about people and the repository's life.
func documentsOfOthers(h *host) []document {
	return []document{
		{"repository create", "", "repository create notes --readme --account tern --yes"},
		{"repository protect", "", "repository protect main --repository tern/notes --account tern --yes"},
		{"repository unprotect", "", "repository unprotect main --repository tern/notes --account tern --yes"},
		{"repository copy", "", "repository copy notes notes-too --account tern --yes"},
		{"repository archive", "", "repository archive notes-too --account tern --yes"},
		{"repository change", "", "repository change notes --visibility public --account tern --yes"},
		{"repository import", "", "repository import " + h.URL + "/tern/notes.git imported --account tern --yes"},
		{"repository show", "", "repository show notes --account tern"},
		{"access grant", "", "access grant dunlin --repository tern/notes --account tern --yes"},
		{"access list", "", "access list --repository tern/notes --account tern"},
		{"invitation list", "", "invitation list"},
		{"invitation accept", "", "invitation accept harbour --account tern --yes"},
		{"invitation decline", "", "invitation decline inlet --account tern --yes"},
	}
}

// offerDocuments are those about offers to merge, in a clone.
func offerDocuments() []document {
	return []document{
		{"plan", "", "clone --account tern gauge copy --preview"},
		{"clone", "", "clone --account tern gauge copy"},
		{"branch make", "", "branch make --folder copy neap --switch"},
		{"ignore add", "", "ignore add --folder copy *.neap"},
		{"save", "", "save --folder copy Neap"},
		{"plan", "", "offer create --folder copy --preview"},
		{"offer create", "", "offer create --folder copy --yes"},
		{"offer create", "", "offer create --folder copy --yes"},
		{"offer list", "", "offer list --folder copy"},
		{"offer list", "", "offer list --all"},
		{"offer show", "", "offer show --folder copy 1"},
		{"offer show", "", "offer show --repository tern/gauge --account tern 1"},
		{"offer fetch", "", "offer fetch --folder copy 1"},
		{"problem", "", "offer show --folder copy 2"},
		{"plan", "", "offer accept --folder copy 1 --preview"},
		{"offer accept", "", "offer accept --folder copy 1 --yes"},
		{"problem", "", "offer accept --folder copy 1 --yes"},
		{"branch switch", "", "branch switch --folder copy main"},
		{"branch remove", "", "branch remove --folder copy neap --yes"},
		{"branch make", "", "branch make --folder copy spring --switch"},
		{"ignore add", "", "ignore add --folder copy *.spring"},
		{"save", "", "save --folder copy Spring"},
		{"offer create", "", "offer create --folder copy --yes"},
		{"offer close", "", "offer close --folder copy 2 --yes"},
		{"machine show", "", "machine show"},
		{"plan", "", "machine pack set.age --preview"},
		{"machine pack", "seven tall masts\n", "machine pack set.age --yes"},
		{"problem", "", "machine pack set.age"},
		{"plan", "seven tall masts\n", "machine unpack set.age --preview --into elsewhere"},
		{"machine unpack", "seven tall masts\n", "machine unpack set.age --yes --into elsewhere"},
	}
}

func laterDocuments(t *testing.T, h *host, line string) []document {
	t.Helper()
	return []document{
		{"project find", "", "project find gauge --yes"},
		{"project trust", "", "project trust --folder gauge --yes"},
		{"project list", "", "project list"},
		{"settings list", "", "settings list"},
		{"settings set", "", "settings set rescue.days 60"},
		{"settings unset", "", "settings unset rescue.days"},
		{"save", "", "save --folder gauge Work --let fresh.txt --reason tests"},
		{"changes", "", "changes --folder gauge --full"},
		{"save", "", "save --folder gauge --reword Words"},
		{"rescue list", "", "rescue list gauge"},
		{"rescue show", "", "rescue show --folder gauge 1"},
		{"rescue bring", "", "rescue bring --folder gauge 2"},
		{"rescue drop", "", "rescue drop --folder gauge 1 --yes"},
		{"history", "", "history --folder gauge --full --graph"},
		{"branch make", "", "branch make --folder gauge task"},
		{"branch list", "", "branch list gauge"},
		{"branch switch", "", "branch switch --folder gauge task"},
		{"branch rename", "", "branch rename --folder gauge task errand"},
		{"branch switch", "", "branch switch --folder gauge main"},
		{"branch join", "", "branch join --folder gauge errand"},
		{"plan", "", "branch remove --folder gauge errand --preview"},
		{"branch remove", "", "branch remove --folder gauge errand --yes"},
		{"tag make", "", "tag make --folder gauge 1.0.0 --yes"},
		{"tag list", "", "tag list gauge"},
		{"plan", "", "tag remove --folder gauge 1.0.0 --preview"},
		{"tag remove", "", "tag remove --folder gauge 1.0.0 --yes"},
		{"plan", "", "clone --account tern --everything --into copies --preview"},
		{"clone --everything", "", "clone --account tern --everything --into copies"},
		{"plan", "", "detach gauge --preview"},
		{"detach", "", "detach gauge --yes"},
		{"settings set", "", "settings set machine pier"},
		{"key make", "", "key make tern --open"},
		{"problem", "", "key make tern"},
		{"plan", "", "key install tern --preview"},
		{"key install", "", "key install tern --yes"},
		{"key list", "", "key list"},
		{"key rotate", "", "key rotate tern --yes"},
		{"account change", "", "account change tern --over ssh"},
		{"host pin", "", "host pin " + strings.TrimPrefix(h.URL, "http://") + " --fingerprint " + h.HostKey()},
		{"repository list", "", "repository list"},
		{"repository show", "", "repository show gauge --account tern"},
		{"repository change", "", "repository change gauge --account tern --description Levels --yes"},
		{"access grant", "", "access grant --repository gauge --account tern --key deploy.pub --yes"},
		{"access list", "", "access list --repository gauge --account tern"},
		{"access withdraw", "", "access withdraw --repository gauge --account tern --yes --key " + printOf(t, line)},
		{"problem", "", "access withdraw --repository gauge --account tern --yes --key SHA256:other"},
		{"key revoke", "", "key revoke --machine pier tern --yes"},
		{"plan", "", "repository transfer gauge saltmarsh --account tern --preview"},
		{"repository transfer", "", "repository transfer gauge tern --account tern"},
		{"plan", "", "repository delete gauge --account tern --preview"},
		{"repository delete", "", "repository delete gauge --account tern --yes"},
		{"rescue list --deleted", "", "rescue list --deleted"},
		{"rescue bring --deleted", "", "rescue bring --deleted gauge --into back"},
		{"project forget", "", "project forget copies/tern/gauge --yes"},
		{"token forget", "", "token forget tern"},
		{"account forget", "", "account forget tern"},
		{"account forget", "", "account forget dunlin"},
		{"host forget", "", "host forget gannet"},
		{"plan", "", "machine clear --preview"},
		{"machine clear", "", "machine clear --here --yes"},
		{"help", "", "help"},
		{"help", "", "help host add"},
		{"version", "", "version"},
	}
}

// deployDocuments are those of a folder that follows gauge.
func deployDocuments() []document {
	return []document{
		{"deploy list", "", "deploy list"},
		{"plan", "", "deploy make gauge srv --account tern --over https --preview"},
		{"deploy make", "", "deploy make gauge srv --account tern --over https --yes"},
		{"problem", "", "deploy make gauge srv --account tern --over ssh --yes --name other"},
		{"problem", "", "deploy back srv"},
		{"deploy check", "", "deploy check gauge/uncinate-deploy.toml"},
		{"deploy update", "", "deploy update srv"},
		{"deploy approve", "", "deploy approve srv --yes"},
		{"deploy hook", "", "deploy hook srv --at http://127.0.0.1:9/srv --account tern --yes"},
		{"deploy list", "", "deploy list"},
		{"plan", "", "deploy back srv --preview"},
		{"deploy back", "", "deploy back srv"},
		{"deploy remove", "", "deploy remove srv --yes"},
	}
}

// deployable gives gauge tasks, before they are checked, and sends them, before a server takes them.
func (m *machine) deployable(args string) {
	switch args {
	case "deploy check gauge/uncinate-deploy.toml":
		m.write("gauge", map[string]string{"uncinate-deploy.toml": "[[task]]\ndo = [\"true\"]\n"})
	case "deploy update srv":
		m.ok("", "", "sync", "gauge", "--save", "--message", "Tasks")
	}
}

// clashes stops a join of a branch at a file that both changed.
func (m *machine) clashes(dir, branch string) {
	m.t.Helper()
	for _, side := range []string{branch, "main"} {
		m.git(dir, "checkout", "-q", "-B", side, "main")
		m.write(dir, map[string]string{"clash.txt": m.id(dir, "main") + " of " + side + "\n"})
		m.git(dir, "add", "clash.txt")
		m.git(dir, "commit", "-q", "--allow-empty", "-m", "On "+side)
		if side != "main" {
			m.git(dir, "checkout", "-q", "main")
		}
	}
	require.Equal(m.t, 3, m.run(dir, "", "branch", "join", branch).code)
}

// TestEveryDocumentIsAsDocumented runs every command with --json, well and badly.
func TestEveryDocumentIsAsDocumented(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	s := documented(t)
	s.fits("help command", `{"name":"x","does":"y"}`)                                                                                   // a part of help's
	s.fits("practice", `{"hosts":[{"name":"gannet","at":"http://127.0.0.1:1","users":[{"user":"tern","token":"x"}]}],"projects":"/x"}`) // TestPractice reads the real one
	m.project("gauge")
	api, err := practice.OpenAPI("gannet")
	require.NoError(t, err)
	line := publicLine(t)
	for _, name := range []string{"harbour", "inlet"} { // that others invite to
		_, err := h.Store.Create(t.Context(), "knot", practice.Repo{Owner: "knot", Name: name, Visibility: "private"})
		require.NoError(t, err)
		_, err = h.Store.Invite("knot", "knot", name, "tern", "", practice.Read, 0)
		require.NoError(t, err)
	}
	m.write("", map[string]string{"deploy.pub": line + "\n", "api.yaml": string(api), "bad.toml": "language = 1\nname = \"x\"\nbase = \"https://x.example\"\n[adress]\napi = \"y\"\n"})
	for _, c := range documents(t, h, line) {
		if strings.HasPrefix(c.args, "save --folder gauge Work") {
			m.write("gauge", map[string]string{"fresh.txt": "f\n"})
		}
		if words := strings.Fields(c.args); words[0] == "settle" && words[1] != "--folder" && words[1] != "cancel" {
			m.clashes("gauge", words[1])
		}
		m.deployable(c.args)
		args := append(strings.Fields(c.args), "--json")
		r := m.run("", c.in, args...)
		s.fits(c.form, r.out)
		if c.form == "problem" {
			var p struct{ Error struct{ Exit int } }
			require.NoError(t, json.Unmarshal([]byte(r.out), &p))
			assert.Equal(t, r.code, p.Error.Exit, c.args)
			assert.Contains(t, r.err, "uncinate: ", "a person is told too")
		} else if c.args != "host check ./bad.toml" {
			assert.Equal(t, 0, r.code, "%s: %s", c.args, r.err)
		}
	}
	assert.Empty(t, slices.Sorted(maps.Keys(s.unused)), "no document was seen of these")
}

// TestOutputsForEveryone looks at the same output in unlike surroundings.
func TestOutputsForEveryone(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token["tern"], "account", "add", "--host", "gannet", "--full-name", "Tern of Sältmarsh")
	m.project("gauge")
	assert.Contains(t, m.ok("", "", "account", "show", "tern"), "Tern of Sältmarsh")
	utf8 := m.env
	m.env = append(slices.Clone(utf8), "LC_ALL=C")
	assert.Contains(t, m.ok("", "", "account", "show", "tern"), `Tern of S\u00e4ltmarsh`)
	var account struct {
		FullName string `json:"full_name"`
	}
	require.NoError(t, json.Unmarshal([]byte(m.ok("", "", "account", "show", "tern", "--json")), &account))
	assert.Equal(t, "Tern of Sältmarsh", account.FullName, "JSON says the same in ASCII")
	m.env = append(slices.Clone(utf8), "COLUMNS=44")
	for line := range strings.SplitSeq(m.ok("", "", "account", "list")+m.run("gauge", "", "attach", "--preview").out, "\n") {
		assert.LessOrEqual(t, len([]rune(line)), 44)
	}
	m.env = utf8
	out := m.run("gauge", "", "attach", "--preview").out
	assert.NotContains(t, out, "\x1b", "no terminal, no bold")
	assert.Contains(t, out, "Set the name and e-mail for its commits: Tern of Sältmarsh <tern@gannet.example>\n")
	m.env = append(slices.Clone(utf8), "NO_COLOR=1")
	k := m.talk("gauge", "attach", "--preview")
	code, screen := k.ends()
	assert.Equal(t, 0, code)
	assert.NotContains(t, screen, "\x1b[1m")
	m.env = utf8
	k = m.talk("gauge", "attach", "--preview")
	_, screen = k.ends()
	assert.Contains(t, screen, "\x1b[1m")
	r := m.run("gauge", "", "attach", "--yes", "--quiet")
	assert.Empty(t, r.err)
	assert.Contains(t, r.out, "Attached.")
	// A host that repeats the token in its answer does not get it shown.
	require.NoError(t, h.Faults.Set([]string{"echo"}))
	r = m.run("gauge", "", "attach", "--name", "other", "--remote", "second", "--verbose", "--json")
	assert.NotEqual(t, 0, r.code)
	assert.Contains(t, r.out+r.err, "[secret]")
	assert.NotContains(t, r.out+r.err, h.token["tern"])
	assert.NoDirExists(t, filepath.Join(m.home, "other"))
}
