//go:build !unix

package store

import "os"

// unwritable says in words why a file that is there may not be written; "" where it may.
func unwritable(path string) string {
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o200 == 0 {
		return "the file may only be read"
	}
	return ""
}
