// Package archive unpacks what files are handed over in: tar (POSIX.1-2017 pax and ustar), gzip (RFC 1952) around it, and zip. What a link
// leads to is read in its place, where that is in the archive too. It is bounded in files and bytes, as unpacked.
package archive

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"steady-compass/intake"
)

// How much is read of an archive or a folder.
const (
	MostFiles = 5_000
	MostBytes = 64 << 20
)

// Named says whether a file is an archive by its name.
func Named(name string) bool {
	return slices.ContainsFunc([]string{".tar", ".tar.gz", ".tgz", ".zip"}, func(ext string) bool { return strings.HasSuffix(strings.ToLower(name), ext) })
}

// Files are the files in an archive, of that name and so many bytes, by their paths in it. An archive that is cut, has no file in it or
// more than is read is an error, and gives none.
func Files(name string, in io.ReaderAt, size int64) ([]intake.File, error) {
	a := &unpacking{links: map[string]string{}}
	var err error
	switch lower := strings.ToLower(name); {
	case strings.HasSuffix(lower, ".zip"):
		err = a.zip(in, size)
	default:
		err = a.tar(io.NewSectionReader(in, 0, size), !strings.HasSuffix(lower, ".tar"))
	}
	if err != nil {
		return nil, err
	}
	a.follow()
	if len(a.Files) == 0 {
		return nil, errors.New("there is no file in it")
	}
	return a.Files, nil
}

// Reading is files read one after another, as far as they are.
type Reading struct {
	Files []intake.File
	bytes int64
}

// Add reads one more; more than is read at all is an error.
func (f *Reading) Add(name string, r io.Reader) error {
	text, err := io.ReadAll(io.LimitReader(r, MostBytes-f.bytes+1))
	if err != nil {
		return err
	}
	if f.bytes += int64(len(text)); f.bytes > MostBytes || len(f.Files) >= MostFiles {
		return fmt.Errorf("it has more than is read at a time; expected at most %d files and %d bytes", MostFiles, MostBytes)
	}
	f.Files = append(f.Files, intake.File{Name: name, Text: string(text)})
	return nil
}

type unpacking struct {
	Reading
	links map[string]string // to what each leads, by path
}

func (a *unpacking) tar(in io.Reader, packed bool) (err error) {
	if packed {
		if in, err = gzip.NewReader(in); err != nil {
			return err
		}
	}
	end := &ending{in: in}
	for t := tar.NewReader(end); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) && !end.marked() {
			return io.ErrUnexpectedEOF
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch h.Typeflag {
		case tar.TypeReg:
			if err := a.Add(path.Clean(h.Name), t); err != nil {
				return err
			}
		case tar.TypeSymlink, tar.TypeLink:
			a.links[path.Clean(h.Name)] = h.Linkname
		}
	}
}

// ending is a tar of which the last blocks read are remembered: two of zeros end it, and without them it is cut.
type ending struct {
	in   io.Reader
	last [1024]byte
	read int64
}

func (e *ending) Read(p []byte) (int, error) {
	n, err := e.in.Read(p)
	e.read += int64(n)
	if kept := copy(e.last[:], e.last[min(n, len(e.last)):]); n > 0 {
		copy(e.last[kept:], p[max(0, n-len(e.last)):n])
	}
	return n, err
}

// marked says whether the end is marked.
func (e *ending) marked() bool { return e.read >= int64(len(e.last)) && e.last == [1024]byte{} }

func (a *unpacking) zip(in io.ReaderAt, size int64) error {
	z, err := zip.NewReader(in, size)
	if err != nil {
		return err
	}
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
			a.links[path.Clean(entry.Name)] = string(to)
		} else if err := a.Add(path.Clean(entry.Name), r); err != nil {
			return err
		}
		if err := r.Close(); err != nil {
			return err
		}
	}
	return nil
}

// follow puts what links lead to in their places. One that leads by an absolute path is followed by as much of its end as is in the archive.
func (a *unpacking) follow() {
	by := map[string]string{}
	for _, f := range a.Files {
		by[f.Name] = f.Text
	}
	found := slices.Clone(a.Files)
	for _, at := range sorted(a.links) {
		to := a.links[at]
		if !path.IsAbs(to) {
			if text, ok := by[path.Join(path.Dir(at), to)]; ok {
				a.Files = append(a.Files, intake.File{Name: at, Text: text})
			}
			continue
		}
		for _, f := range found {
			if rest, ok := strings.CutPrefix(f.Name, strings.SplitN(f.Name, "/", 2)[0]+"/"); strings.HasSuffix(to, "/"+f.Name) || ok && strings.HasSuffix(to, "/"+rest) {
				a.Files = append(a.Files, intake.File{Name: at, Text: f.Text})
				break
			}
		}
	}
}

func sorted(links map[string]string) []string {
	var out []string
	for at := range links {
		out = append(out, at)
	}
	slices.Sort(out)
	return out
}
