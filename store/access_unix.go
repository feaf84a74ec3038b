//go:build unix

package store

import (
	"path/filepath"

	"golang.org/x/sys/unix"
)

// unwritable says in words why a file that is there may not be written; "" where it may.
func unwritable(path string) string {
	switch {
	case unix.Access(path, unix.W_OK) != nil:
		return "the file may only be read"
	case unix.Access(filepath.Dir(path), unix.W_OK) != nil:
		return "the folder that it is in may only be read"
	}
	return ""
}
