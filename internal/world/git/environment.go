package git

import (
	"cmp"
	"os"
	"path/filepath"
)

// OverridesSSH names the variable of the environment by which git chooses another way over SSH
// than its configuration says (git's page, "environment variables"); "" for none.
func OverridesSSH() string {
	for _, name := range []string{"GIT_SSH_COMMAND", "GIT_SSH"} {
		if os.Getenv(name) != "" {
			return name
		}
	}
	return ""
}

// UserIgnoreFile is where a person's own ignore rules are, unless core.excludesFile says
// otherwise (gitignore's page).
func UserIgnoreFile(home string) string {
	return filepath.Join(cmp.Or(os.Getenv("XDG_CONFIG_HOME"), filepath.Join(home, ".config")), "git", "ignore")
}

// Editor is the editor that the person's environment names for git alone (git-var documentation,
// GIT_EDITOR); "" for none. What else names one, git tells.
func Editor() string { return os.Getenv("GIT_EDITOR") }
