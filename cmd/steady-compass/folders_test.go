package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestFolders takes over a web server's configuration from a folder, and from archives of it: links to what is in force are followed, and
// what lies there beside is off.
func TestFolders(t *testing.T) {
	dir := t.TempDir()
	parts := map[string]string{
		"etc/nginx/nginx.conf":          "http { include /etc/nginx/sites-enabled/*; }\n",
		"etc/nginx/sites-available/on":  "server { listen 80; server_name on.example; }\n",
		"etc/nginx/sites-available/off": "server { listen 80; server_name off.example; }\n",
	}
	const link, leads = "etc/nginx/sites-enabled/on", "/etc/nginx/sites-available/on"
	for name, text := range parts {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, "etc/nginx/sites-enabled"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("../sites-available/on", filepath.Join(dir, link)); err != nil {
		t.Fatal(err)
	}
	var packed, zipped bytes.Buffer
	g := gzip.NewWriter(&packed)
	tw, zw := tar.NewWriter(g), zip.NewWriter(&zipped)
	for name, text := range parts {
		if err := tw.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(text)), Typeflag: tar.TypeReg}); err != nil {
			t.Fatal(err)
		}
		if _, err := tw.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
		w, err := zw.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := tw.WriteHeader(&tar.Header{Name: link, Linkname: leads, Typeflag: tar.TypeSymlink}); err != nil {
		t.Fatal(err)
	}
	h := &zip.FileHeader{Name: link}
	h.SetMode(os.ModeSymlink | 0o777)
	w, err := zw.CreateHeader(h)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Write([]byte("../sites-available/on")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []interface{ Close() error }{tw, g, zw} {
		if err := c.Close(); err != nil {
			t.Fatal(err)
		}
	}
	for name, text := range map[string][]byte{"etc.tgz": packed.Bytes(), "etc.zip": zipped.Bytes(), "torn.tar.gz": packed.Bytes()[:40]} {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, from := range []string{"etc/nginx", "etc.tgz", "etc.zip"} {
		code, out, errs := call(t, "", "import", "nginx", filepath.Join(dir, from), "--place", "box")
		if code != 0 || !strings.Contains(out, "site      web on.example at 0.0.0.0:80 files default\n") || !strings.Contains(out, "site      web off.example at 0.0.0.0:80 files off\n") {
			t.Errorf("%s: exit %d\n%s%s", from, code, out, errs)
		}
	}
	for _, wrong := range []string{"torn.tar.gz", "nowhere"} {
		if code, out, errs := call(t, "", "import", "nginx", filepath.Join(dir, wrong), "--place", "box"); code != 2 || out != "" || !strings.Contains(errs, wrong) {
			t.Errorf("%s: exit %d\n%s%s", wrong, code, out, errs)
		}
	}
}
