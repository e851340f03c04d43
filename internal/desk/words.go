package desk

import (
	"errors"
	"io/fs"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// FirstLine gives a text up to its first line break.
func FirstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

// Keep writes a file unless it is as it should be.
func Keep(path, contents string, mode fs.FileMode) error {
	old, err := files.Read(path, 256<<10)
	if err == nil && string(old) == contents {
		return nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return files.Write(path, []byte(contents), mode)
}

// IsAre is the verb for so many things.
func IsAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// ItThem stands for so many things.
func ItThem(n int) string {
	if n == 1 {
		return "it"
	}
	return "them"
}

// MostShown is how many findings a refusal shows.
const MostShown = 8

// FirstOf puts the first of many lines into a fault, and how many more there are.
func FirstOf(f *fault.Fault, lines []string) {
	for i, line := range lines {
		if i == MostShown {
			f.Detail("and %d more", len(lines)-i)
			return
		}
		f.Detail("%s", line)
	}
}

// Visible makes paths fit to be shown.
func Visible(paths []string) []string {
	out := make([]string, len(paths))
	for i, p := range paths {
		out[i] = text.Visible(p)
	}
	return out
}

// FolderCommand is a command about a project's folder, to be pasted where the person is
// who named it so.
func FolderCommand(given string, words ...string) string {
	words = append([]string{"uncinate"}, words...)
	if given != "." && given != "" {
		words = append(words, "--folder", given)
	}
	return text.Command(words...)
}
