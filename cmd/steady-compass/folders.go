package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"steady-compass/intake/format"
)

// How much of a folder or an archive is read.
const (
	mostFiles = 5_000
	mostBytes = format.MostBytes
)

func isFolder(file string) bool {
	info, err := os.Stat(file)
	return err == nil && info.IsDir()
}

func isArchive(file string) bool {
	for _, ext := range []string{".tar", ".tar.gz", ".tgz", ".zip"} {
		if strings.HasSuffix(strings.ToLower(file), ext) {
			return true
		}
	}
	return false
}

// unfolded are the files in a folder or an archive, by their paths in it. What a link leads to is read in its place, where that is in it too.
func unfolded(file string) ([]format.Text, error) {
	f := &folded{links: map[string]string{}}
	var err error
	switch lower := strings.ToLower(file); {
	case isFolder(file):
		err = f.folder(file)
	case strings.HasSuffix(lower, ".zip"):
		err = f.zip(file)
	default:
		err = f.tar(file, !strings.HasSuffix(lower, ".tar"))
	}
	if err != nil {
		return nil, err
	}
	f.follow()
	if len(f.out) == 0 {
		return nil, errors.New("there is no file in it")
	}
	return f.out, nil
}

// folded is a folder or an archive as far as it is read.
type folded struct {
	out   []format.Text
	links map[string]string // to what each leads, by path
	bytes int64
}

// add reads one file; more than is read at all is an error.
func (f *folded) add(name string, r io.Reader) error {
	text, err := io.ReadAll(io.LimitReader(r, mostBytes-f.bytes+1))
	if err != nil {
		return err
	}
	if f.bytes += int64(len(text)); f.bytes > mostBytes || len(f.out) >= mostFiles {
		return fmt.Errorf("it has more than is read at a time; expected at most %d files and %d bytes", mostFiles, mostBytes)
	}
	f.out = append(f.out, format.Text{Name: name, Text: string(text)})
	return nil
}

func (f *folded) folder(root string) error {
	return filepath.WalkDir(root, func(at string, d fs.DirEntry, err error) error {
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
		return errors.Join(f.add(filepath.ToSlash(at), r), r.Close())
	})
}

func (f *folded) tar(file string, packed bool) error {
	r, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = r.Close() }()
	var in io.Reader = r
	if packed {
		if in, err = gzip.NewReader(r); err != nil {
			return err
		}
	}
	for t := tar.NewReader(in); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch h.Typeflag {
		case tar.TypeReg:
			if err := f.add(path.Clean(h.Name), t); err != nil {
				return err
			}
		case tar.TypeSymlink, tar.TypeLink:
			f.links[path.Clean(h.Name)] = h.Linkname
		}
	}
}

func (f *folded) zip(file string) error {
	z, err := zip.OpenReader(file)
	if err != nil {
		return err
	}
	defer func() { _ = z.Close() }()
	for _, entry := range z.File {
		if entry.FileInfo().IsDir() {
			continue
		}
		r, err := entry.Open()
		if err != nil {
			return err
		}
		if entry.Mode()&fs.ModeSymlink != 0 {
			to, err := io.ReadAll(io.LimitReader(r, 4096))
			if err != nil {
				return err
			}
			f.links[path.Clean(entry.Name)] = string(to)
		} else if err := f.add(path.Clean(entry.Name), r); err != nil {
			return err
		}
		if err := r.Close(); err != nil {
			return err
		}
	}
	return nil
}

// follow puts what links of an archive lead to in their places. One that leads by an absolute path is followed by as much of its end as
// is in the archive.
func (f *folded) follow() {
	by := map[string]string{}
	for _, t := range f.out {
		by[t.Name] = t.Text
	}
	for at, to := range f.links {
		if !path.IsAbs(to) {
			if text, ok := by[path.Join(path.Dir(at), to)]; ok {
				f.out = append(f.out, format.Text{Name: at, Text: text})
			}
			continue
		}
		for name, text := range by {
			if rest, ok := strings.CutPrefix(name, strings.SplitN(name, "/", 2)[0]+"/"); strings.HasSuffix(to, "/"+name) || ok && strings.HasSuffix(to, "/"+rest) {
				f.out = append(f.out, format.Text{Name: at, Text: text})
				break
			}
		}
	}
}
