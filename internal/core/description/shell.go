package description

import (
	"net/url"
	"path"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/text"
)

// Shell describes a plain server: no API, bare repositories in a folder, reached over SSH
// with ordinary tools.
type Shell struct {
	Folder string // absolute path there of the folder with the repositories
	Keys   string // the authorized_keys file, absolute or below the home folder
}

// shellActions are what the program can do on such a server by itself.
var shellActions = []string{"identify", "repository-list", "repository-show", "repository-create", "repository-change", "repository-delete",
	"key-list", "key-add", "key-remove", "deploy-key-list", "deploy-key-add", "deploy-key-remove"}

func (l *loader) shell(d *Description, n *node) {
	switch transport := n.str("transport"); transport {
	case "", "http":
		if t := n.table("shell"); t != nil {
			t.wrong("", "[shell] goes with: transport = \"shell\"")
		}
		return
	case "shell":
	default:
		n.wrongMeant("transport", text.Nearest(transport, []string{"http", "shell"}), "the transport is \"http\" or \"shell\"")
		return
	}
	d.Shell = &Shell{Keys: ".ssh/authorized_keys"}
	if t := n.table("shell"); t != nil {
		d.Shell.Folder = strings.TrimSuffix(t.must("folder"), "/")
		if d.Shell.Folder != "" && (!path.IsAbs(d.Shell.Folder) || path.Clean(d.Shell.Folder) != d.Shell.Folder || d.Shell.Folder == "/") {
			t.wrong("folder", "\"folder\" is an absolute path on the server, such as \"/srv/git\"")
		}
		if keys := t.str("keys"); keys != "" {
			d.Shell.Keys = keys
			if path.Clean(keys) != keys || strings.HasPrefix(keys, "..") {
				t.wrong("keys", "\"keys\" is a path on the server, such as \".ssh/authorized_keys\"")
			}
		}
		t.done()
	} else {
		n.wrong("", "the table [shell] is missing: it says in which folder on the server the repositories are")
	}
	for _, name := range shellActions {
		d.Actions[name] = &Action{Name: name, By: "shell"}
	}
	for _, name := range Visibilities[1:] {
		d.Cannot[name] = "whoever has a key on the server sees its repositories, and nobody else"
	}
	d.Words["visibility"] = Words{"private": "private"}
	t, err := newTemplate("{+base}" + strings.ReplaceAll((&url.URL{Path: d.Shell.Folder}).EscapedPath(), "{", "%7B") + "/{+owner}/{name}.git")
	if err != nil {
		n.wrong("", "no address can be made of that folder")
		return
	}
	d.SSH = t
}

// CheckShellBase says what is wrong with a plain server's base address, or "".
func CheckShellBase(base string) string {
	a, err := address.Parse(base + "/x/y")
	if err != nil || a.Scheme != "ssh" || a.User == "" || a.Secret != "" || a.Path != "x/y" {
		return "the base of a plain server is an address like ssh://git@host.example"
	}
	return ""
}
