// Package gitnet reads from git's configuration how the person's own git goes over HTTP to an address: by which
// certificates and proxy, and with which headers (git-config documentation, http.*, http.<url>.*).
package gitnet

import (
	"net"
	"net/url"
	"path"
	"strings"

	"uncinate/internal/core/gitconfig"
)

// Settings are those for one address.
type Settings struct {
	CAInfo, CAPath string   // a file, and a folder, of authorities that are trusted
	Cert, Key      string   // the files of a certificate to sign in with, and of its key
	Unverified     bool     // no certificate is looked at
	Proxy          string   // "" for none
	ProxySet       bool     // Proxy counts, also where it is empty
	Headers        []string // that are sent with each request, each as "Name: value"
}

// Plain reports whether nothing is set.
func (s Settings) Plain() bool {
	return s.CAInfo+s.CAPath+s.Cert+s.Key == "" && !s.Unverified && !s.ProxySet && len(s.Headers) == 0
}

// ID is the same for settings that are the same.
func (s Settings) ID() string {
	return strings.Join(append([]string{s.CAInfo, s.CAPath, s.Cert, s.Key, map[bool]string{true: "unverified"}[s.Unverified], s.Proxy, map[bool]string{true: "set"}[s.ProxySet]}, s.Headers...), "\x00")
}

// Of finds the settings for an address: of those that name one, the ones that fit it best count. environment gives
// git's own variables, which count more. Settings of a repository itself are left out: it may be a stranger's.
func Of(all []gitconfig.Setting, at *url.URL, environment func(string) string) Settings {
	var out Settings
	best := map[string]int{}
	for _, s := range all {
		section, sub, name := gitconfig.Split(s.Key)
		if section != "http" || s.Own() {
			continue
		}
		how := 0
		if sub != "" {
			if how = fits(sub, at); how == 0 {
				continue
			}
		}
		if how < best[name] {
			continue
		}
		if how > best[name] && name == "extraheader" {
			out.Headers = nil
		}
		best[name] = how
		out.set(name, s)
	}
	for name, to := range map[string]*string{"GIT_SSL_CAINFO": &out.CAInfo, "GIT_SSL_CAPATH": &out.CAPath, "GIT_SSL_CERT": &out.Cert, "GIT_SSL_KEY": &out.Key} {
		if v := environment(name); v != "" {
			*to = v
		}
	}
	if environment("GIT_SSL_NO_VERIFY") != "" {
		out.Unverified = true
	}
	return out
}

func (o *Settings) set(name string, s gitconfig.Setting) {
	switch name {
	case "sslcainfo":
		o.CAInfo = s.Value
	case "sslcapath":
		o.CAPath = s.Value
	case "sslcert":
		o.Cert = s.Value
	case "sslkey":
		o.Key = s.Value
	case "sslverify":
		o.Unverified = !s.True()
	case "proxy":
		o.Proxy, o.ProxySet = s.Value, true
	case "extraheader":
		if s.Value == "" { // an empty one takes back those before
			o.Headers = nil
			return
		}
		o.Headers = append(o.Headers, s.Value)
	}
}

// fits says how well an address that a setting names fits another one: 0 for not at all, and more the more exactly it
// does (git-config documentation, http.<url>.*): by scheme, host, port and path, and the user's name last.
func fits(pattern string, at *url.URL) int {
	// A host with a star is no host that can be read, so it is put aside meanwhile.
	p, err := url.Parse(strings.ReplaceAll(pattern, "*", "star--"))
	if err != nil || !strings.EqualFold(p.Scheme, at.Scheme) || p.Host == "" || port(p) != port(at) {
		return 0
	}
	how := 1
	want, have := strings.Split(strings.ToLower(p.Hostname()), "."), strings.Split(strings.ToLower(at.Hostname()), ".")
	if len(want) != len(have) {
		return 0
	}
	for i := range want {
		switch want[i] {
		case have[i]:
			how += 1 << 14 // a host without a star fits better than any path below one
		case "star--":
		default:
			return 0
		}
	}
	if p.User != nil {
		if at.User == nil || p.User.Username() != at.User.Username() {
			return 0
		}
		how++
	}
	folder, whole := clean(p.Path), clean(at.Path)
	if folder != whole && !strings.HasPrefix(whole, strings.TrimSuffix(folder, "/")+"/") {
		return 0
	}
	return how + 2*len(strings.Trim(folder, "/"))
}

func clean(p string) string {
	if p == "" {
		return "/"
	}
	return path.Clean(p)
}

func port(u *url.URL) string {
	if u.Port() != "" {
		return u.Port()
	}
	return map[string]string{"http": "80", "https": "443"}[strings.ToLower(u.Scheme)]
}

// ProxyFor is the proxy for an address: git's own setting, or else what the environment says as curl reads it (curl(1),
// ENVIRONMENT); "" for none. from says what named it.
func (s Settings) ProxyFor(at *url.URL, environment func(string) string) (proxy, from string) {
	either := func(name string) string {
		if v := environment(name); v != "" {
			return v
		}
		return environment(strings.ToUpper(name))
	}
	if excepted(at.Hostname(), either("no_proxy")) {
		return "", ""
	}
	if s.ProxySet {
		return s.Proxy, "git's setting http.proxy"
	}
	names := []string{at.Scheme + "_proxy", "all_proxy"}
	for _, name := range names {
		v := either(name)
		if name == "http_proxy" { // in capitals it may come from a stranger's request
			v = environment(name)
		}
		if v != "" {
			return v, "the variable " + name
		}
	}
	return "", ""
}

// excepted reports whether a host is among those that no proxy is for.
func excepted(host, list string) bool {
	ip := net.ParseIP(host)
	for one := range strings.SplitSeq(list, ",") {
		one = strings.ToLower(strings.TrimSpace(one))
		if one == "*" || one != "" && (strings.EqualFold(host, strings.TrimPrefix(one, ".")) || strings.HasSuffix(strings.ToLower(host), "."+strings.TrimPrefix(one, "."))) {
			return true
		}
		if _, block, err := net.ParseCIDR(one); err == nil && ip != nil && block.Contains(ip) {
			return true
		}
	}
	return false
}
