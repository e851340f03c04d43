//go:build !windows

package files

import (
	"io/fs"

	"github.com/google/renameio/v2"
)

func replace(path string, data []byte, mode fs.FileMode) error {
	return renameio.WriteFile(path, data, mode, renameio.WithExistingPermissions(), renameio.IgnoreUmask())
}
