package git

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// What is read of a repository's own files at most: a process for each of hundreds of
// projects would cost more than all else.
const (
	mostRefs   = 1 << 20
	mostPacked = 256 << 20
	mostLine   = 64 << 10
)

// ErrOtherForm says that a repository keeps its refs in a form that only git reads.
var ErrOtherForm = errors.New("the refs are not kept in files")

// Folders finds a work tree's git folder, and the one that it shares with other work trees
// of the same repository (gitrepository-layout documentation).
func Folders(top string) (own, common string, err error) {
	own = filepath.Join(top, ".git")
	s, err := os.Lstat(own)
	if err != nil {
		return "", "", err
	}
	if !s.IsDir() {
		line, err := firstLine(own)
		target, found := strings.CutPrefix(line, "gitdir: ")
		if err != nil || !found {
			return "", "", errors.Join(err, fmt.Errorf("%s names no git folder", own))
		}
		if own = filepath.FromSlash(target); !filepath.IsAbs(own) {
			own = filepath.Join(top, own)
		}
	}
	common = own
	if line, err := firstLine(filepath.Join(own, "commondir")); err == nil {
		if common = filepath.FromSlash(line); !filepath.IsAbs(common) {
			common = filepath.Join(own, common)
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", "", err
	}
	return own, common, nil
}

func firstLine(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	line, err := bufio.NewReader(io.LimitReader(f, mostLine)).ReadString('\n')
	if err == io.EOF {
		err = nil
	}
	return strings.TrimRight(line, "\r\n"), err
}

// ReadHead gives the branch that a work tree's HEAD stands for, "" for none.
func ReadHead(own string) (string, error) {
	line, err := firstLine(filepath.Join(own, "HEAD"))
	if err != nil {
		return "", err
	}
	branch, _ := strings.CutPrefix(line, "ref: refs/heads/")
	if branch == line {
		return "", nil
	}
	return branch, nil
}

// ReadRefs reads the refs of a repository without running git: loose ones and packed ones
// (gitrepository-layout documentation; the packed file's form is in git-pack-refs'). Those
// that stand for another ref, such as refs/remotes/origin/HEAD, are left out.
func ReadRefs(common string) (map[string]string, error) {
	if _, err := os.Stat(filepath.Join(common, "reftable")); err == nil {
		return nil, ErrOtherForm
	}
	out := map[string]string{}
	if err := readPacked(filepath.Join(common, "packed-refs"), out); err != nil {
		return nil, err
	}
	err := filepath.WalkDir(filepath.Join(common, "refs"), func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case !e.Type().IsRegular() || strings.HasSuffix(path, ".lock"):
			return nil
		case len(out) > mostRefs:
			return fmt.Errorf("more than %d refs", mostRefs)
		}
		line, err := firstLine(path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it was packed meanwhile, or dropped
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(common, path)
		if err == nil && IsID(line) {
			out[filepath.ToSlash(rel)] = line
		}
		return err
	})
	return out, err
}

func readPacked(path string, into map[string]string) error {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(io.LimitReader(f, mostPacked))
	lines.Buffer(make([]byte, 4096), mostLine)
	for lines.Scan() {
		id, name, found := strings.Cut(lines.Text(), " ")
		if found && IsID(id) && len(into) < mostRefs {
			into[name] = id
		}
	}
	return lines.Err()
}

// LocalRefs gives the refs of the repository whose common folder is given, by git itself
// where they are in a form that only it reads.
func (r *Repo) LocalRefs(ctx context.Context, common string) (map[string]string, error) {
	out, err := ReadRefs(common)
	if !errors.Is(err, ErrOtherForm) {
		return out, err
	}
	list, err := r.Do(ctx, "for-each-ref", "--format=%(objectname) %(symref) %(refname)")
	if err != nil {
		return nil, err
	}
	out = map[string]string{}
	for line := range strings.Lines(list) {
		if fields := strings.Fields(line); len(fields) == 2 {
			out[fields[1]] = fields[0]
		}
	}
	return out, nil
}

// ReadConfig reads one file of git's configuration as it stands, without what it includes:
// each key, as git names it, with all its values (git-config documentation, "Syntax").
func ReadConfig(path string) (map[string][]string, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, 4<<20))
	return parseConfig(string(data)), err
}

func parseConfig(s string) map[string][]string {
	out := map[string][]string{}
	section := ""
	s = strings.ReplaceAll(strings.ReplaceAll(s, "\r\n", "\n"), "\\\n", "")
	for line := range strings.Lines(s) {
		line = strings.TrimSpace(line)
		if rest, opens := strings.CutPrefix(line, "["); opens {
			head := rest
			if i := headEnd(rest); i >= 0 {
				head, line = rest[:i], strings.TrimSpace(rest[i+1:])
			}
			name, sub, has := strings.Cut(head, " ")
			section = strings.ToLower(strings.TrimSpace(name)) + "."
			if has {
				section += unquoted(strings.TrimSpace(sub)) + "."
			}
		}
		if line == "" || strings.ContainsAny(line[:1], "#;[") {
			continue
		}
		key, value, has := strings.Cut(line, "=")
		if value = unquoted(strings.TrimSpace(value)); !has {
			value = "true"
		}
		key = section + strings.ToLower(strings.TrimSpace(key))
		out[key] = append(out[key], value)
	}
	return out
}

// headEnd finds where a section's head ends: a bracket outside of quotes.
func headEnd(s string) int {
	inside := false
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			inside = !inside
		case ']':
			if !inside {
				return i
			}
		}
	}
	return -1
}

// unquoted takes quotes and escapes off a value, and a comment behind it.
func unquoted(s string) string {
	var b strings.Builder
	inside := false
	end := 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c == '\\' && i+1 < len(s):
			i++
			switch s[i] {
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			default:
				b.WriteByte(s[i])
			}
		case c == '"':
			inside = !inside
		case (c == '#' || c == ';') && !inside:
			return b.String()[:end]
		default:
			b.WriteByte(c)
		}
		if inside || c != ' ' && c != '\t' {
			end = b.Len()
		}
	}
	return b.String()[:end]
}
