//go:build portable || !linux

package live

// Settle makes sure that all files and folders below a folder are on the disk.
func Settle(folder string) error { return settleEach(folder) }
