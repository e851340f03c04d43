package git

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
)

// Outside lists the configuration that holds outside of any repository: the person's, and the machine's.
func (g *Git) Outside(ctx context.Context) ([]Setting, error) {
	if saysNothing() {
		return nil, nil
	}
	top := string(filepath.Separator) // nothing temporary is needed for it
	none := &Repo{Git: g, Dir: top, GitDir: filepath.Join(top, "uncinate-no-repository")}
	return none.Settings(ctx)
}

// saysNothing reports whether the files of that configuration, where git has them on Linux (git-config documentation,
// FILES), hold nothing about the network, addresses or a first branch, and lead to no other file: then git need not be asked.
func saysNothing() bool {
	if runtime.GOOS != "linux" || os.Getenv("GIT_CONFIG_COUNT") != "" || os.Getenv("GIT_CONFIG_PARAMETERS") != "" {
		return false
	}
	var paths []string
	if global := os.Getenv("GIT_CONFIG_GLOBAL"); global != "" {
		paths = append(paths, global)
	} else {
		home := os.Getenv("HOME")
		config := os.Getenv("XDG_CONFIG_HOME")
		if config == "" {
			config = filepath.Join(home, ".config")
		}
		paths = append(paths, filepath.Join(home, ".gitconfig"), filepath.Join(config, "git", "config"))
	}
	if system := os.Getenv("GIT_CONFIG_SYSTEM"); system != "" {
		paths = append(paths, system)
	} else if os.Getenv("GIT_CONFIG_NOSYSTEM") == "" {
		paths = append(paths, "/etc/gitconfig", "/usr/local/etc/gitconfig")
	}
	for _, path := range paths {
		data, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		says := strings.ToLower(string(data))
		if err != nil || strings.Contains(says, "http") || strings.Contains(says, "[include") || strings.Contains(says, "init") || strings.Contains(says, "insteadof") {
			return false
		}
	}
	return true
}
