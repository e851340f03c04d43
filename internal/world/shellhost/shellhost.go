// Package shellhost works on a plain server over SSH: bare repositories in a folder, and
// the account's authorized_keys file. It needs nothing there but git, sshd and a POSIX
// shell with its usual tools (IEEE Std 1003.1, Shell and Utilities).
//
// Its own rules: the login shell is given no word of ours but "exec sh -s"; the script
// goes in by standard input, with every value from outside as one single-quoted word;
// what the script answers is between two lines with a number that nobody can know
// beforehand, so that a noisy profile does no harm; values in it end with a null byte.
package shellhost

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/openssh"
)

// Server is one plain server, reached by an SSH client's words.
type Server struct {
	Client *openssh.Client
	Words  []string // of the client: configuration and target
	Env    []string
	Name   string // for messages
	Folder string // absolute: where the repositories are
	Keys   string // the authorized_keys file, relative to the home folder or absolute

	session *openssh.Session
}

// Repository is one as the server tells of it.
type Repository struct {
	ID          string // the one that it was made with; "" for one made otherwise
	Path        string // owner/name, without ".git"
	Head        string // the default branch
	Empty       bool
	Description string
}

// What a script may answer. Each is a true cause.
const (
	done    = "done"
	taken   = "taken"
	none    = "none"
	changed = "changed"
)

// Taken, None and Changed are what a caller decides by.
var (
	Taken   = fault.New(fault.HostSaidNo, "the name is taken")
	None    = fault.New(fault.HostSaidNo, "there is none of that name")
	Changed = fault.New(fault.Failed, "it was changed meanwhile")
)

// quote writes one word for a POSIX shell.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

const prelude = `set -u
umask 077
LC_ALL=C
export LC_ALL F
end() { [ -z "${L-}" ] || rmdir "$L" 2>/dev/null; printf '\n%s %s\n' "$N-end" "$1"; exit 0; }
fail() { printf '%s' "$1"; end failed; }
z() { printf '%s\0' "$1"; }
walk() {
  p=$F rest=$1
  while [ -n "$rest" ]; do
    c=${rest%%/*}
    if [ "$c" = "$rest" ]; then rest=; else rest=${rest#*/}; fi
    p=$p/$c
    if [ -L "$p" ]; then z "$p"; end link; fi
  done
}
one() {
  r=$1 h= d= empty=yes
  [ -f "$r/HEAD" ] || return 0
  IFS= read -r h <"$r/HEAD" || :
  i=$(sed -n 's/^[[:space:]]*repository-id = \([0-9a-f]*\)$/\1/p' "$r/config" 2>/dev/null | head -n 1)
  if [ -s "$r/packed-refs" ] || [ -n "$(find "$r/refs" -type f 2>/dev/null | head -n 1)" ]; then empty=no; fi
  if [ -f "$r/description" ]; then d=$(dd if="$r/description" bs=4096 count=1 2>/dev/null); fi
  z "$i"; z "$r"; z "$h"; z "$empty"; z "$d"
}
`

// run runs a script's body and gives what it answered, as values.
func (s *Server) run(ctx context.Context, body string, values map[string]string) ([]string, error) {
	random := make([]byte, 12)
	if _, err := rand.Read(random); err != nil {
		return nil, err
	}
	nonce := hex.EncodeToString(random)
	var b strings.Builder
	fmt.Fprintf(&b, "(\nN=%s\nF=%s\n", nonce, quote(s.Folder))
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if strings.ContainsRune(values[name], 0) {
			return nil, fault.New(fault.Usage, "a value holds a null byte")
		}
		fmt.Fprintf(&b, "%s=%s\n", name, quote(values[name]))
	}
	b.WriteString("P=" + quote(prelude) + "\n" + prelude)
	// A function is read whole before it runs, so that nothing in it can eat the script.
	b.WriteString("main() {\nprintf '%s\\n' \"$N-begin\"\ncommand -v git >/dev/null 2>&1 || end nogit\n" + body + "\nend done\n}\nmain </dev/null\n)\n")
	limit := 5 * time.Minute
	if s.session == nil {
		limit = time.Minute // the first answer tells whether a shell is there at all
		var err error
		if s.session, err = s.Client.Start(ctx, openssh.Cmd{Args: append(slices.Clone(s.Words), "exec sh -s"), Env: s.Env}); err != nil {
			return nil, err
		}
	}
	all, last, err := s.session.Ask(ctx, b.String(), nonce+"-end ", limit)
	if err != nil {
		over := s.session
		s.session = nil
		if !errors.Is(err, openssh.ErrEnded) {
			return nil, err
		}
		if over.Code() == openssh.Failed {
			return nil, &SignInFailed{Said: over.Said()}
		}
	}
	_, out, began := bytes.Cut(all, []byte(nonce+"-begin\n"))
	if err != nil || !began {
		f := fault.New(fault.Unreachable, "%s ran the command and did not answer as a shell does", s.Name)
		if said := strings.TrimSpace(string(all)); said != "" {
			f.Detail("It says: %s", text.Excerpt(said, 300))
		}
		return nil, f
	}
	out = bytes.TrimSuffix(out, []byte("\n"))
	return s.answer(out, strings.TrimSpace(strings.TrimPrefix(last, nonce+"-end ")))
}

// answer reads what a command printed, by the word with which it ended.
func (s *Server) answer(out []byte, word string) ([]string, error) {
	switch word {
	case done:
		if len(out) == 0 {
			return nil, nil
		}
		return strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00"), nil
	case taken:
		return nil, Taken
	case none:
		return nil, None
	case changed:
		return nil, Changed
	case "nogit":
		return nil, fault.New(fault.HostSaidNo, "git is not installed on %s, or not on the PATH there", s.Name).Detail("It takes nothing else there: ask who runs the server.")
	case "link":
		return nil, fault.New(fault.Refused, "%s has a symbolic link at %s, and nothing is done behind one", s.Name, text.Excerpt(strings.Trim(string(out), "\x00"), 120))
	case "busy":
		return nil, fault.New(fault.Failed, "someone else is changing the keys on %s, or was cut off: the folder %s is there", s.Name, text.Excerpt(strings.Trim(string(out), "\x00"), 120))
	}
	f := fault.New(fault.Failed, "%s could not do it", s.Name)
	if said := strings.TrimSpace(strings.ReplaceAll(string(out), "\x00", " ")); said != "" {
		f.Says = s.Name + " could not do it: " + text.Excerpt(said, 200)
	}
	return nil, f
}

// SignInFailed is the error when the client could not connect or sign in; said is what it said.
type SignInFailed struct{ Said string }

func (e *SignInFailed) Error() string { return "ssh failed: " + text.Excerpt(e.Said, 200) }

// Identity tells who signs in, and whether the folder can be written in.
func (s *Server) Identity(ctx context.Context) (user, version string, writable bool, err error) {
	v, err := s.run(ctx, `z "$(id -un)"; z "$(git --version)"
if [ -d "$F" ]; then [ -w "$F" ] && z yes || z no; else mkdir -p "$F" 2>/dev/null && z yes || z no; fi`, nil)
	if err != nil || len(v) != 3 {
		return "", "", false, err
	}
	return v[0], strings.TrimPrefix(v[1], "git version "), v[2] == "yes", nil
}

// Time tells what time it is there (date(1)).
func (s *Server) Time(ctx context.Context) (time.Time, error) {
	v, err := s.run(ctx, `z "$(date -u +%s)"`, nil)
	if err != nil || len(v) != 1 {
		return time.Time{}, err
	}
	seconds, err := strconv.ParseInt(v[0], 10, 64)
	if err != nil {
		return time.Time{}, fault.New(fault.Unreachable, "%s tells no time", s.Name).Because(err)
	}
	return time.Unix(seconds, 0).UTC(), nil
}

// repositories reads what "one" told.
func (s *Server) repositories(v []string) ([]Repository, error) {
	if len(v)%5 != 0 {
		return nil, fault.New(fault.Unreachable, "what %s answers is cut off", s.Name)
	}
	var out []Repository
	for i := 0; i < len(v); i += 5 {
		r := Repository{ID: v[i], Empty: v[i+3] == "yes", Description: strings.TrimRight(v[i+4], "\n")}
		path := strings.TrimPrefix(strings.TrimPrefix(v[i+1], "./"), s.Folder+"/")
		r.Path = strings.TrimSuffix(path, ".git")
		r.Head = strings.TrimPrefix(strings.TrimPrefix(v[i+2], "ref: "), "refs/heads/")
		if strings.HasPrefix(r.Description, "Unnamed repository; edit this file") {
			r.Description = "" // what git init writes
		}
		out = append(out, r)
	}
	return out, nil
}

// List lists the repositories below the folder; what begins with a dot, and what is
// behind a symbolic link, is none.
func (s *Server) List(ctx context.Context) ([]Repository, error) {
	v, err := s.run(ctx, `[ -d "$F" ] || end done
cd "$F" 2>/dev/null || fail "$F cannot be entered"
export P N
find . -name '.?*' -prune -o -type d -name '*.git' -prune -exec sh -c 'eval "$P"; for r do one "$r"; done' sh {} +`, nil)
	if err != nil {
		return nil, err
	}
	return s.repositories(v)
}

// Show tells of one repository; the error is None where there is no such.
func (s *Server) Show(ctx context.Context, path string) (Repository, error) {
	return s.single(ctx, `walk "$A.git"
[ -f "$F/$A.git/HEAD" ] || end none
one "$F/$A.git"`, map[string]string{"A": path})
}

func (s *Server) single(ctx context.Context, body string, values map[string]string) (Repository, error) {
	v, err := s.run(ctx, body, values)
	if err != nil {
		return Repository{}, err
	}
	all, err := s.repositories(v)
	if err == nil && len(all) != 1 {
		err = fault.New(fault.Unreachable, "what %s answers is cut off", s.Name)
	}
	if err != nil {
		return Repository{}, err
	}
	return all[0], nil
}

// Create makes an empty repository. The folder itself is the claim: who makes it first
// has it. What an earlier one left that was cut off is taken up. format is how its objects are named; "" for git's own way.
func (s *Server) Create(ctx context.Context, path, description, branch, format string) (Repository, error) {
	random := make([]byte, 8)
	if _, err := rand.Read(random); err != nil {
		return Repository{}, err
	}
	return s.single(ctx, `walk "$A.git"
r=$F/$A.git
x=$(mkdir -p "${r%/*}" 2>&1) || fail "$x"
if [ -d "$r" ] && [ ! -f "$r/HEAD" ]; then rm -f "$r/description"; rmdir "$r" 2>/dev/null || end taken; fi
if [ -e "$r" ]; then end taken; fi
x=$(mkdir "$r" 2>&1) || { [ -e "$r" ] && end taken; fail "$x"; }
x=$({ printf '%s\n' "$D" >"$r/description"; } 2>&1) || { rmdir "$r"; fail "$x"; }
x=$(git init -q --bare ${O:+"--object-format=$O"} "$r" 2>&1 && git --git-dir="$r" symbolic-ref HEAD "refs/heads/$B" 2>&1 && git config --file "$r/config" uncinate.repository-id "$I" 2>&1) || { rm -rf "$r"; fail "$x"; }
one "$r"`, map[string]string{"A": path, "D": description, "B": branch, "O": format, "I": hex.EncodeToString(random)})
}

// Change changes what is given: a new path, a description (set says that it is given), a
// default branch.
func (s *Server) Change(ctx context.Context, path, newPath, description string, set bool, branch string) (Repository, error) {
	return s.single(ctx, `walk "$A.git"
r=$F/$A.git
[ -f "$r/HEAD" ] || end none
if [ -n "$S" ]; then x=$({ printf '%s\n' "$D" >"$r/description.new" && mv -f "$r/description.new" "$r/description"; } 2>&1) || fail "$x"; fi
if [ -n "$B" ]; then x=$(git --git-dir="$r" symbolic-ref HEAD "refs/heads/$B" 2>&1) || fail "$x"; fi
if [ -n "$T" ]; then
  walk "$T.git"
  t=$F/$T.git
  if [ -e "$t" ]; then end taken; fi
  x=$(mkdir -p "${t%/*}" 2>&1 && mv "$r" "$t" 2>&1) || fail "$x"
  r=$t
fi
one "$r"`, map[string]string{"A": path, "T": newPath, "D": description, "S": text.Either(set, "set", ""), "B": branch})
}

// Delete moves a repository aside, and tells where it is now.
func (s *Server) Delete(ctx context.Context, path string) (string, error) {
	v, err := s.run(ctx, `walk "$A.git"
r=$F/$A.git
[ -f "$r/HEAD" ] || end none
to=$F/.aside/$(date +%Y%m%dT%H%M%S)-$$
x=$(mkdir -p "$to" 2>&1 && mv "$r" "$to/" 2>&1) || fail "$x"
z "$to/${r##*/}"`, map[string]string{"A": path})
	if err != nil || len(v) != 1 {
		return "", err
	}
	return v[0], nil
}

// keysFile finds the file's path on the server.
const keysFile = `case $K in /*) ;; *) K=$HOME/$K ;; esac
if [ -L "$K" ]; then z "$K"; end link; fi
sum() { if [ -f "$K" ]; then cksum <"$K"; else echo none; fi; }
`

// ReadKeys gives the authorized_keys file and a sum of it.
func (s *Server) ReadKeys(ctx context.Context) (contents, sum string, err error) {
	v, err := s.run(ctx, keysFile+`z "$(sum)"
if [ -f "$K" ]; then z "$(cat "$K")"; else z ""; fi`, map[string]string{"K": s.Keys})
	if err != nil {
		return "", "", err
	}
	if len(v) < 1 {
		return "", "", fault.New(fault.Unreachable, "what %s answers is cut off", s.Name)
	}
	if len(v) > 1 && v[1] != "" {
		contents = v[1] + "\n"
	}
	return contents, v[0], nil
}

// WriteKeys writes the authorized_keys file again, whole, if it is still the one of that
// sum; the error is Changed otherwise. The file keeps its mode; a new one is for its
// owner alone.
func (s *Server) WriteKeys(ctx context.Context, contents, sum string) error {
	_, err := s.run(ctx, keysFile+`x=$(mkdir -p "${K%/*}" 2>&1) || fail "$x"
L=$K.uncinate
n=0
while ! mkdir "$L" 2>/dev/null; do
  [ -d "$L" ] || { L=; fail "${K%/*} cannot be written in"; }
  n=$((n + 1))
  if [ "$n" -gt 15 ]; then z "$L"; L=; end busy; fi
  sleep 1
done
trap 'rmdir "$L" 2>/dev/null' EXIT
[ "$(sum)" = "$C" ] || end changed
w=$K.$$
x=$({ if [ -f "$K" ]; then cp -p "$K" "$w"; fi && printf '%s' "$X" >"$w" && mv -f "$w" "$K"; } 2>&1) || { rm -f "$w"; fail "$x"; }`,
		map[string]string{"K": s.Keys, "C": sum, "X": contents})
	return err
}

// Old reports whether a version of git is older than is supported on a server.
func Old(version string) bool {
	major, rest, _ := strings.Cut(version, ".")
	minor, _, _ := strings.Cut(rest, ".")
	a, err := strconv.Atoi(major)
	b, e := strconv.Atoi(minor)
	return err != nil || e != nil || a < 1 || a == 1 && b < 8
}
