// Package sshconfig computes the configuration with which OpenSSH's client is run for
// one repository, so that exactly one key is offered to its host (ssh_config(5)).
//
// The identities of a person's own configuration are offered beside any key named on
// the command line, so that file cannot simply be added to: a new one is made from what
// "ssh -G" tells of the host, without its identities, and the person's own files are
// included for every other host.
package sshconfig

import (
	"slices"
	"strings"

	"uncinate/internal/core/kinds"
)

// Route is what a configuration is made of.
type Route struct {
	Host       string   // as it is in the address
	Key        string   // the private half's file, or the public half's where the private one is in an agent or in hardware; "" for the person's own keys
	KnownHosts string   // our own file of host keys
	Own        []string // what "ssh -G" tells of the host with the person's configuration
	Plain      []string // the same without any configuration
	Includes   []string // the person's and the system's files, for other hosts
}

// ours are the settings that the route decides, whatever the person's configuration says.
var ours = []string{"host", "identityfile", "identitiesonly", "certificatefile", "userknownhostsfile", "stricthostkeychecking",
	"pubkeyauthentication", "preferredauthentications", "passwordauthentication", "kbdinteractiveauthentication", "updatehostkeys", "batchmode",
	"localcommand", "permitlocalcommand", "remotecommand", "requesttty", "sessiontype", "localforward", "remoteforward", "dynamicforward", "canonicalizehostname", "canonicaldomains"}

// Text is the file's contents.
func (r Route) Text() string {
	var b strings.Builder
	line := func(words ...string) { b.WriteString(strings.Join(words, " ") + "\n") }
	if r.Key == "" {
		return r.known()
	}
	line(kinds.Opening)
	line("Match originalhost", Quote(r.Host))
	known := ""
	for _, s := range r.Own {
		key, value, _ := strings.Cut(s, " ")
		if strings.ToLower(key) == "userknownhostsfile" {
			known = " " + value
		}
		if slices.Contains(ours, strings.ToLower(key)) || slices.Contains(r.Plain, s) || value == "" {
			continue
		}
		line("  "+key, value)
	}
	line("  IdentityFile", path(r.Key))
	line("  IdentitiesOnly yes")
	line("  PreferredAuthentications publickey")
	line("  UserKnownHostsFile", path(r.KnownHosts)+known)
	line("  StrictHostKeyChecking yes")
	line("  UpdateHostKeys no")
	line("  RequestTTY no")
	line("Match originalhost", "*,!"+r.Host)
	for _, file := range r.Includes {
		line("  Include", Quote(file)) // whether a percent sign begins a token here depends on the version
	}
	line(kinds.Closing)
	return b.String()
}

// known is the file's contents where the person's own way is gone, and only the host is known here besides: what is
// said first counts (ssh_config(5)).
func (r Route) known() string {
	known := path(r.KnownHosts)
	for _, s := range r.Own {
		if value, is := strings.CutPrefix(s, "userknownhostsfile "); is {
			known += " " + value
		}
	}
	out := kinds.Opening + "\nMatch originalhost " + Quote(r.Host) + "\n  UserKnownHostsFile " + known + "\nMatch all\n"
	for _, file := range r.Includes {
		out += "  Include " + Quote(file) + "\n"
	}
	return out + kinds.Closing + "\n"
}

// path writes a file's name, in which a percent sign begins a token (ssh_config(5), TOKENS).
func path(s string) string { return Quote(strings.ReplaceAll(s, "%", "%%")) }

// Quote writes one argument.
func Quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// KnownHost is the name under which a host is in a known_hosts file (sshd(8),
// SSH_KNOWN_HOSTS FILE FORMAT). host may carry ":port".
func KnownHost(host string) string {
	name, port := SplitPort(host)
	if port == "" || port == "22" {
		return name
	}
	return "[" + name + "]:" + port
}

// SplitPort parts a host from its port, "" for none, and takes an IPv6 address out of
// its brackets.
func SplitPort(host string) (name, port string) {
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") {
		host, port = host[:i], host[i+1:]
	}
	return strings.TrimSuffix(strings.TrimPrefix(host, "["), "]"), port
}
