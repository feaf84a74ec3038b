package server

import (
	"io/fs"
	"strings"
	"testing"

	"steady-compass/web"
)

// TestPages: a view's path gets the page, a file of the interface itself, and what is not there is said to be not there.
func TestPages(t *testing.T) {
	if _, err := fs.Stat(web.Files(), "index.html"); err != nil {
		t.Skip("the interface is not built in")
	}
	h := served(t, "zone a.example ttl 1h")
	page := call(t, h, "GET", "/", nil)
	if page.Code != 200 || !strings.Contains(page.Body.String(), "<html") || page.Header().Get("Cache-Control") != "no-cache" {
		t.Errorf("the page: %d %s", page.Code, page.Header().Get("Cache-Control"))
	}
	for _, path := range []string{"/names", "/trace/a.example:443", "/exposure?from=lan"} {
		if w := call(t, h, "GET", path, nil); w.Code != 200 || w.Body.String() != page.Body.String() {
			t.Errorf("%s: %d", path, w.Code)
		}
	}
	files, err := fs.Glob(web.Files(), "assets/*.js")
	if err != nil || len(files) == 0 {
		t.Fatalf("no script is built in: %v", err)
	}
	if w := call(t, h, "GET", "/"+files[0], nil); w.Code != 200 || !strings.Contains(w.Header().Get("Cache-Control"), "immutable") || w.Body.Len() == 0 {
		t.Errorf("%s: %d %s", files[0], w.Code, w.Header().Get("Cache-Control"))
	}
	for path, want := range map[string]string{
		"/assets/none.js": "There is no such file", "/api/none": "There is no such question", "/api": "There is no such question", "/assets/../../go.mod": "<html",
	} {
		w := call(t, h, "GET", path, nil)
		if !strings.Contains(w.Body.String(), want) || want != "<html" && w.Code != 404 {
			t.Errorf("%s: %d %s", path, w.Code, w.Body)
		}
	}
}
