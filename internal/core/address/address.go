// Package address understands the addresses of repositories: https and ssh URLs
// and the short SSH form of git (git-clone documentation, "GIT URLS"), brings
// each to one canonical form, and tells two spellings of one repository apart
// from two repositories.
package address

import (
	"net"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Longest is the longest address, in bytes, that is read at all.
const Longest = 2048

// Address is one repository's address. The zero value is none.
type Address struct {
	Scheme string // "https", "http" or "ssh"
	User   string // user name in the address, often empty; "git" for SSH hosts
	Secret string // a password or token that was in the address; never printed
	Host   string // host name in lower case, with ":port" unless it is the scheme's own
	Path   string // without leading slash, trailing slash or trailing ".git"
	Suffix bool   // whether the path was written with ".git"
	Home   bool   // over SSH: the path begins in the home folder of who signs in there, not at the top
}

var ownPort = map[string]string{"https": "443", "http": "80", "ssh": "22"}

// Parse reads an address in any usual spelling. The error is a fault of kind
// Usage that says what is wrong; it never repeats a secret.
func Parse(s string) (Address, error) {
	s = strings.TrimSpace(s)
	switch {
	case s == "":
		return Address{}, fault.New(fault.Usage, "the address is empty")
	case len(s) > Longest:
		return Address{}, fault.New(fault.Usage, "the address is longer than %d bytes", Longest)
	case s[0] == '-':
		return Address{}, fault.New(fault.Usage, "the address %q begins with a dash, which programs read as an option", text.Excerpt(s, 60))
	case !utf8.ValidString(s) || strings.ContainsFunc(s, func(r rune) bool { return unicode.IsControl(r) || unicode.IsSpace(r) }):
		return Address{}, fault.New(fault.Usage, "the address holds a blank or a control character")
	}
	if !strings.Contains(s, "://") {
		return parseShort(s)
	}
	u, err := url.Parse(s)
	if err != nil {
		// url.Error would repeat the whole address, secret and all.
		return Address{}, fault.New(fault.Usage, "this is not an address that can be read")
	}
	a := Address{Scheme: strings.ToLower(u.Scheme)}
	if _, known := ownPort[a.Scheme]; !known {
		return Address{}, fault.New(fault.Usage, "addresses that begin with %q are not supported; https:// and ssh:// are", text.Excerpt(u.Scheme, 20)+"://")
	}
	if u.User != nil {
		a.User = u.User.Username()
		a.Secret, _ = u.User.Password()
	}
	if u.RawQuery != "" || u.Fragment != "" {
		return Address{}, fault.New(fault.Usage, "the address holds a question mark or a hash, so it is a page's and not a repository's")
	}
	path := u.Path
	if rest, is := strings.CutPrefix(path, "/~/"); is && a.Scheme == "ssh" {
		path, a.Home = rest, true
	}
	return a.finish(u.Host, path)
}

// parseShort reads the short SSH form user@host:path, also with a port in brackets.
func parseShort(s string) (Address, error) {
	user, host, named := strings.Cut(s, "@")
	if !named || strings.ContainsAny(user, ":/") {
		user, host = "", s
	}
	host, path, found := strings.Cut(host, ":")
	if rest, is := strings.CutPrefix(host, "["); is { // [host:port]:path, and [::1]:path
		inside, after, closed := strings.Cut(rest+":"+path, "]:")
		if host, path, found = inside, after, closed; strings.Count(inside, ":") > 1 {
			host = "[" + inside + "]"
		}
	}
	if !found || strings.Contains(host, "/") || strings.HasPrefix(path, ":") {
		return Address{}, fault.New(fault.Usage, "%q is not an address: one looks like https://host/owner/name or git@host:owner/name", text.Excerpt(s, 60))
	}
	if port, _, more := strings.Cut(path, "/"); more && user == "" && isPort(port) {
		return Address{}, fault.New(fault.Usage, "%q names a port and does not say how to get there; write https:// or ssh:// before it", text.Excerpt(s, 60))
	}
	a := Address{Scheme: "ssh", User: user}
	if strings.HasPrefix(a.User, "-") {
		return Address{}, fault.New(fault.Usage, "the user name in the address begins with a dash, which ssh would read as an option")
	}
	a.Home = !strings.HasPrefix(path, "/") && (!strings.HasPrefix(path, "~") || strings.HasPrefix(path, "~/"))
	return a.finish(host, strings.TrimPrefix(path, "~/"))
}

// isPort reports whether a text can be a port's number.
func isPort(s string) bool {
	n, err := strconv.ParseUint(s, 10, 16)
	return err == nil && n > 0
}

func (a Address) finish(host, path string) (Address, error) {
	if a.Scheme != "ssh" || strings.Contains(host, ".") { // a name without a dot may be one of ssh's own configuration, which tells capitals apart
		host = strings.ToLower(host)
	}
	if name, port, err := net.SplitHostPort(host); err == nil {
		if port == ownPort[a.Scheme] || port == "" {
			host = name
			if strings.Contains(name, ":") {
				host = "[" + name + "]"
			}
		}
	}
	switch {
	case host == "":
		return Address{}, fault.New(fault.Usage, "the address names no host")
	case strings.ContainsAny(a.User, "@/:\\ "):
		return Address{}, fault.New(fault.Usage, "the user name in the address holds a character that does not belong there")
	case strings.HasPrefix(host, "-") || strings.HasPrefix(a.User, "-"):
		return Address{}, fault.New(fault.Usage, "a part of the address begins with a dash, which ssh would read as an option")
	case !goodHost(host):
		return Address{}, fault.New(fault.Usage, "%q is not a name of a host", text.Excerpt(host, 60))
	}
	path = strings.Trim(path, "/")
	if strings.HasSuffix(path, ".git") {
		path, a.Suffix = strings.TrimSuffix(path, ".git"), true
	}
	if a.Secret != "" && strings.Contains(path, a.Secret+"@") {
		return Address{}, fault.New(fault.Usage, "the path in the address repeats the secret that is before it")
	}
	if path == "" {
		return Address{}, fault.New(fault.Usage, "the address names a host but no repository on it")
	}
	for part := range strings.SplitSeq(path, "/") {
		if part == "" || part == "." || part == ".." {
			return Address{}, fault.New(fault.Usage, "the path %q in the address has an empty or dotted part", text.Excerpt(path, 60))
		}
		if strings.HasPrefix(part, "-") && a.Scheme == "ssh" {
			return Address{}, fault.New(fault.Usage, "a part of the path begins with a dash, which a server could read as an option")
		}
	}
	if strings.ContainsFunc(path, unicode.IsControl) {
		return Address{}, fault.New(fault.Usage, "the path in the address holds a control character")
	}
	a.Host, a.Path = host, path
	if len(a.String()) > Longest { // encoded it is longer
		return Address{}, fault.New(fault.Usage, "the address is longer than %d bytes", Longest)
	}
	return a, nil
}

// goodHost reports whether host is a name, an IPv4 address or an IPv6 address in
// brackets, each with or without a port (RFC 3986, 3.2.2).
func goodHost(host string) bool {
	name, port := host, ""
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") {
		name, port = host[:i], host[i+1:]
		if n, err := strconv.ParseUint(port, 10, 16); err != nil || n == 0 || port[0] == '+' {
			return false
		}
	}
	if inner, ok := strings.CutPrefix(name, "["); ok {
		ip, err := netip.ParseAddr(strings.TrimSuffix(inner, "]"))
		return err == nil && ip.Is6() && strings.HasSuffix(name, "]") && ip.Zone() == ""
	}
	return name != "" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.-_") == ""
}

// String gives the address without any secret and, over HTTP, without a user
// name, as git takes it: with the suffix only if it was written with one.
func (a Address) String() string {
	if a.Host == "" {
		return ""
	}
	u := url.URL{Scheme: a.Scheme, Host: a.Host, Path: "/" + a.Path}
	if a.Suffix {
		u.Path += ".git"
	}
	if a.Scheme == "ssh" && a.User != "" {
		u.User = url.User(a.User)
	}
	if a.Home {
		if short := a.short(); short != "" {
			return short
		}
		u.Path = "/~" + u.Path
	}
	return u.String()
}

// short is the short form of an address in a home folder, which any server takes; "" where only a URL can say it.
func (a Address) short() string {
	first, _, _ := strings.Cut(a.Path, "/")
	_, _, err := net.SplitHostPort(a.Host)
	if err == nil || isPort(first) || strings.ContainsAny(a.Path[:1], ":~") {
		return ""
	}
	out := a.Host + ":" + a.Path
	if a.User != "" {
		out = a.User + "@" + out
	}
	if a.Suffix {
		out += ".git"
	}
	return out
}

// Key is the same for every spelling of one repository over one transport. The user "git" of hosts has no home
// folder that anybody sees, so that its paths are the same from there and from the top.
func (a Address) Key() string {
	if a.Host == "" {
		return ""
	}
	if a.User == "git" {
		a.Home = false
	}
	path := a.Path
	if a.Home {
		path = "~/" + path
	}
	return (&url.URL{Scheme: a.Scheme, Host: a.Host, Path: "/" + path}).String()
}

// Rooted is the address with its path from the top.
func (a Address) Rooted() Address { a.Home = false; return a }

// Same reports whether two addresses name one repository over one transport.
func (a Address) Same(b Address) bool { return a.Host != "" && a.Key() == b.Key() }

// Name is the last part of the path.
func (a Address) Name() string { return a.Path[strings.LastIndexByte(a.Path, '/')+1:] }

// Bare gives the address without the secret and the user that was in it.
func (a Address) Bare() Address { a.Secret = ""; a.User = ""; return a }

// Guarded reports whether what is sent to the address is encrypted or does not
// leave this machine: https, ssh, or http to the loopback (RFC 1122, 3.2.1.3; RFC
// 4291, 2.5.3). A name counts as loopback only if it is "localhost".
func Guarded(scheme, host string) bool {
	if scheme != "http" {
		return scheme == "https" || scheme == "ssh"
	}
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.Trim(host, "[]")
	if host == "localhost" {
		return true
	}
	ip, err := netip.ParseAddr(host)
	return err == nil && ip.IsLoopback()
}
