package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"steady-compass/intake"
	"steady-compass/intake/archive"
)

func isFolder(file string) bool {
	info, err := os.Stat(file)
	return err == nil && info.IsDir()
}

// unfolded are the files in a folder or an archive, by their paths in it.
func unfolded(file string) ([]intake.File, error) {
	if isFolder(file) {
		return inFolder(file)
	}
	r, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer func() { _ = r.Close() }()
	info, err := r.Stat()
	if err != nil {
		return nil, err
	}
	return archive.Files(file, r, info.Size())
}

// inFolder are the files in a folder and those below it.
func inFolder(root string) ([]intake.File, error) {
	var f archive.Reading
	err := filepath.WalkDir(root, func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := os.Stat(at) // what a link leads to
		if err != nil || !info.Mode().IsRegular() {
			return nil // a link that leads nowhere, a socket
		}
		r, err := os.Open(at)
		if errors.Is(err, fs.ErrPermission) {
			return fmt.Errorf("%s: may not be read", at)
		}
		if err != nil {
			return err
		}
		return errors.Join(f.Add(filepath.ToSlash(at), r), r.Close())
	})
	if err == nil && len(f.Files) == 0 {
		err = errors.New("there is no file in it")
	}
	return f.Files, err
}
