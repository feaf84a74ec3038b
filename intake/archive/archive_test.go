package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"strings"
	"testing"
)

func tarred(t testing.TB, entries ...tar.Header) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, h := range entries {
		text := ""
		if h.Typeflag == tar.TypeReg {
			text, h.Size = h.Name, int64(len(h.Name))
		}
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func files(name string, data []byte) string {
	all, err := Files(name, bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return "error: " + err.Error()
	}
	var out []string
	for _, f := range all {
		out = append(out, f.Name+"="+f.Text)
	}
	return strings.Join(out, " ")
}

// TestLinks holds that what a link leads to stands in its place: by a path beside it, by an absolute one of which the archive has the end; and
// that one that leads out of the archive brings nothing.
func TestLinks(t *testing.T) {
	link := func(name, to string) tar.Header {
		return tar.Header{Name: name, Linkname: to, Typeflag: tar.TypeSymlink}
	}
	data := tarred(t, tar.Header{Name: "./etc/web/available/a", Typeflag: tar.TypeReg, Mode: 0o600}, link("./etc/web/on/a", "../available/a"),
		link("etc/web/on/b", "/etc/web/available/a"), link("etc/web/on/c", "../../../../passwd"), link("etc/web/on/d", "/root/secret"))
	const want = "etc/web/available/a=./etc/web/available/a etc/web/on/a=./etc/web/available/a etc/web/on/b=./etc/web/available/a"
	if got := files("x.tar", data); got != want {
		t.Errorf("got %s", got)
	}
	if got := files("x.tar", data[:600]); !strings.HasPrefix(got, "error: unexpected EOF") {
		t.Errorf("cut: %s", got)
	}
	if got := files("x.tar", tarred(t)); got != "error: there is no file in it" {
		t.Errorf("empty: %s", got)
	}
}

// TestBomb holds that what is small packed and large unpacked ends in an error, and takes no more room than is read at all.
func TestBomb(t *testing.T) {
	var packed bytes.Buffer
	g, err := gzip.NewWriterLevel(&packed, gzip.BestSpeed)
	if err != nil {
		t.Fatal(err)
	}
	w := tar.NewWriter(g)
	if err := w.WriteHeader(&tar.Header{Name: "zeros", Typeflag: tar.TypeReg, Size: MostBytes + 1}); err != nil {
		t.Fatal(err)
	}
	zeros := make([]byte, 1<<20)
	for range MostBytes >> 20 {
		if _, err := w.Write(zeros); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := w.Write([]byte{0}); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := g.Close(); err != nil {
		t.Fatal(err)
	}
	if got := files("x.tgz", packed.Bytes()); !strings.Contains(got, "expected at most 5000 files and 67108864 bytes") {
		t.Errorf("got %s", got)
	}
	var many bytes.Buffer
	z := zip.NewWriter(&many)
	for n := range MostFiles + 1 {
		if _, err := z.Create(fmt.Sprint(n)); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	if got := files("x.zip", many.Bytes()); !strings.Contains(got, "expected at most 5000 files") {
		t.Errorf("got %s", got)
	}
}

func FuzzFiles(f *testing.F) {
	f.Add("a.tar", tarred(f, tar.Header{Name: "a", Typeflag: tar.TypeReg}, tar.Header{Name: "b", Linkname: "a", Typeflag: tar.TypeSymlink}))
	f.Add("a.zip", []byte("PK\x05\x06"))
	f.Add("a.tgz", []byte{0x1f, 0x8b})
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		all, err := Files(name, bytes.NewReader(data), int64(len(data)))
		if (err == nil) == (len(all) == 0) {
			t.Errorf("%d files, %v", len(all), err)
		}
	})
}
