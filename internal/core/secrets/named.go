package secrets

import (
	"bytes"
	"slices"
	"strings"
)

// notPass are names that end in "pass" and mean something else.
var notPass = strings.Fields("bypass compass trespass overpass underpass encompass surpass lowpass highpass bandpass allpass renderpass multipass singlepass onepass firstpass twopass proxypass proxy_pass fastcgi_pass uwsgi_pass scgi_pass grpc_pass memcached_pass")

// otherKeys are words of names that end in "key" and are no secret.
var otherKeys = strings.Fields("public pub primary foreign sort cache partition row group host map registry hot short unique idempotency dedupe shift site issue project translation i18n locale sub parent object bucket storage query routing lookup search facet react item tab menu board answer event")

// asking are first words of names of calls that ask for something by its name.
var asking = strings.Fields("get find fetch load lookup look read has is list show delete remove drop unset expect")

// summing are first words of names of calls that are given a password for a sum of it.
var summing = []string{"generate", "make", "create", "compute", "check"}

// longestName and longestValue are how long a name and its value may be, in bytes.
const (
	longestName  = 120
	longestValue = 2048
)

// promising reports whether after a word something follows that may part a name from its value: most words are
// parts of sentences and programs.
func promising(data []byte, is what, at, end int, form form) bool {
	if !nameByte[data[end-1]] {
		return true // the literal ends in the sign
	}
	to := end
	for to < len(data) && to-end < longestName && nameByte[data[to]] {
		to++
	}
	i := blanks(data, to, 40)
	if i >= len(data) {
		return false
	}
	switch c := data[i]; {
	case parting[c], i == to && (c == '.' || c == '\n' || c == '\r'):
		return true
	case i == to:
		return false
	default:
		if form == code {
			return goingOn[c] && (afterOperator(data, i) > 0 || !sentence(data, is, at, end, i, form) && inComment(data, i))
		}
		return form != markup && !sentence(data, is, at, end, i, form)
	}
}

// sentence reports whether the name about a word is part of a sentence that goes on with the word at i: then nothing is there that
// find or onLine would find. It is so most often, and seen at once.
func sentence(data []byte, is what, at, end, i int, form form) bool {
	n := i
	for n < len(data) && n-i < longestName && 'a' <= data[n] && data[n] <= 'z' {
		n++
	}
	if n == i || n < len(data) && data[n] != ' ' && data[n] != '\n' && data[n] != ',' || string(data[i:n]) == "is" {
		return false
	}
	from, to := nameAround(data, at, end, form)
	if data[from] == '-' || from > 1 && data[from-1] == ' ' && data[from-2] == ',' {
		return false // an option, or one of several names
	}
	name := data[from:to]
	switch is {
	case token:
		if !namesSecret(name) {
			return true
		}
	case password:
		if afterWords(data, i, true) > 0 {
			return false
		}
	case weak:
	default:
		return false
	}
	return afterBy(data, i, false) == 0
}

// namesSecret reports whether a name ends in the word itself.
func namesSecret(name []byte) bool {
	return len(name) > 5 && equalFold(name[len(name)-6:], "secret")
}

// goingOn are first letters of what may stand between a name and its value in a program: operators, and words of a comment.
var goingOn = [256]bool{'e': true, 'n': true, 'i': true, 'o': true, '|': true, '?': true, '!': true, 'b': true, 'f': true, 't': true, 'a': true, 'u': true}

// parting are signs that stand between a name and its value, or at the value's beginning.
var parting = [256]bool{'"': true, '\'': true, '`': true, '=': true, ':': true, '>': true, ',': true, '(': true, ')': true, '<': true, ']': true, '[': true}

// named judges a value that is beside a telling name.
func named(data []byte, is what, at, end int, form form) (kind, excerpt string, till int) {
	if !promising(data, is, at, end, form) {
		return "", "", 0
	}
	from, to := nameAround(data, at, end, form)
	name := data[from:to]
	if (string(name) == "PWD" || string(name) == "OLDPWD") && (to >= len(data) || data[to] != ':') && !inPairs(data, from) { // the folder that a shell is in
		return "", "", 0
	}
	if string(name) == "PWD" && to+1 < len(data) && data[to+1] == '/' {
		return "", "", 0
	}
	if string(name) == "PASS" && to < len(data) && data[to] == ':' { // the result of a test
		return "", "", 0
	}
	if bytes.HasSuffix(data[:from], []byte("type ")) { // of type password: "float64"
		return "", "", 0
	}
	b, ok := find(data, is, from, to, form)
	if (form == code || form == letter) && (is == password || is == token || is == weak && bytes.HasSuffix(bytes.ToLower(name), []byte("community"))) {
		if w, is := onLine(data, from, to); is {
			b, ok = w, true
		}
	}
	least := 6
	if is == pin {
		least = 4
	}
	if !ok || len(b.v) < least || len(b.v) > longestValue || placeholder(b.v) && !(is == pin && len(b.v) != 6) || bytes.EqualFold(b.v, name) {
		return "", "", 0
	}
	parts := partsOf(name)
	if n := len(parts); n > 2 && b.called && parts[n-1] == "hash" && slices.Contains(summing, parts[0]) { // generate_password_hash("…")
		parts = parts[:n-1]
	}
	if len(parts) == 0 || saysOther(parts) || from > 0 && data[from-1] == '!' || madeOf(b.v).digit == 0 && len(name) > 5 && bytes.HasSuffix(bytes.ToLower(b.v), bytes.ToLower(name)) || !fits(data, is, b, form, parts) {
		return "", "", 0
	}
	if last := parts[len(parts)-1]; is != password && len(last) > 4 && bytes.Contains(bytes.ToLower(b.v), []byte(last)) && wordy(b.v) {
		return "", "", 0 // the name of its kind
	}
	kind = Password
	if is == token || is == weakKey {
		kind = Token
	}
	return kind, describe(name, b.between, len(b.v)), b.till
}

// fits reports whether a value is what its name announces.
func fits(data []byte, is what, b beside, form form, parts []string) bool {
	last := parts[len(parts)-1]
	if b.called && slices.ContainsFunc(parts, func(w string) bool { return slices.Contains(asking, w) }) {
		return false
	}
	switch {
	case b.joined, form == letter && b.quoted:
		form = code
	case b.named, b.pair:
		form = rows
	}
	switch is {
	case password:
		if isPhrase(b.name) && !b.by && (b.quoted || form == rows || len(bytes.Fields(b.v)) >= 12) && len(b.v) >= 8 && isWords(b.v) {
			return true
		}
		if b.pair && madeOf(b.v).digit+madeOf(b.v).sign == 0 && wordy(b.v) {
			return false
		}
		if b.wide && !strong(b.v) && !(b.quoted && strings.HasPrefix(string(bytes.ToLower(b.name)), "identified")) {
			return false
		}
		return isPassword(b.v, b.quoted, form, b.called)
	case weak:
		low := strings.ToLower(string(b.name))
		if strings.HasSuffix(last, "pw") && (last == "pw" || len(parts) > 1 || isUpper(b.name)) {
			return len(b.v) >= 8 && madeOf(b.v).digit > 0 && madeOf(b.v).letters() > 0 && isPassword(b.v, b.quoted, form, b.called)
		}
		if b.called && slices.Contains(parts, "community") { // CommunityData("…")
			last = "community"
		}
		if (b.wide || !strings.HasPrefix(low, "proxy_")) && (slices.Contains(notPass, low) || slices.Contains(notPass, last)) || last != "community" && !strings.HasSuffix(last, "pass") && !strings.HasSuffix(last, "community") {
			return false
		}
		m := madeOf(b.v)
		return b.v[0] != '/' && (strong(b.v) && m.letters() > 0 || form == rows && m.sign > 0 && m.letters() > 0 && bytes.IndexByte(b.v, '/') < 0 && bytes.IndexByte(b.v, ':') < 0) && !bytes.ContainsAny(b.v, "(){}") && isPassword(b.v, b.quoted, form, b.called)
	case pin:
		m := madeOf(b.v)
		if strings.Contains(strings.ToLower(string(b.name)), "wep") {
			return (form == rows || b.quoted) && (len(b.v) == 5 || len(b.v) == 10 || len(b.v) == 13 || len(b.v) == 26) && m.digit > 0
		}
		return last == "pin" && (form == rows || b.quoted) && m.digit == len(b.v) && len(b.v) <= 8 && !b.wide
	case weakKey:
		if last != "key" && !strings.HasSuffix(last, "key") || len(parts) < 2 && last == "key" || slices.ContainsFunc(parts, func(w string) bool { return slices.Contains(otherKeys, w) }) || form == code && !b.quoted && !b.joined {
			return false
		}
		return isToken(b.v, "") && looksRandom(b.v, 24) && !amongLikes(data, b)
	}
	if amongLikes(data, b) {
		return false
	}
	if (strings.HasSuffix(last, "secret") || (b.called || b.quoted) && strings.HasPrefix(last, "credential")) && (form != code || b.quoted && len(b.v) >= 8) && strong(b.v) && isPassword(b.v, b.quoted, form, b.called) && bytes.IndexByte(b.v, '/') < 0 {
		return true
	}
	return isToken(b.v, strings.ToLower(string(b.name))) && (!b.wide || b.quoted || madeOf(b.v).upper > 1)
}

// isWords reports whether a value is a phrase: words of letters, digits and signs, at most 24, and no sentence.
func isWords(v []byte) bool {
	words := bytes.Fields(v)
	if len(words) == 1 && bytes.Count(v, []byte("-")) > 3 {
		words = bytes.Split(v, []byte("-"))
	}
	if len(words) < 2 || len(words) > 24 || bytes.ContainsAny(v, ".?!,(){}<>=$;:/*") {
		return false
	}
	for _, w := range words {
		if len(w) > 3 && placeholder(w) || isPhrase(w) || bytes.EqualFold(w, []byte("the")) || bytes.EqualFold(w, []byte("password")) || bytes.EqualFold(w, []byte("your")) || bytes.EqualFold(w, []byte("enter")) || madeOf(w).other > 0 {
			return false
		}
	}
	return true
}

// amongLikes reports whether a value in hexadecimal is one of many: then it is a vector of a test, or a sum.
func amongLikes(data []byte, b beside) bool {
	for _, c := range b.v {
		if !hexByte(c) {
			return false
		}
	}
	near, n, length := data[max(0, b.till-4096):min(len(data), b.till+4096)], 0, 0
	for _, c := range near {
		if hexByte(c) {
			length++
			continue
		}
		if length >= 32 {
			n++
		}
		length = 0
	}
	return n >= 7
}
