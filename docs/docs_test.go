package docs

import (
	"io/fs"
	"regexp"
	"strings"
	"testing"
)

// TestPages: each page has a title, and what it leads to and shows is there.
func TestPages(t *testing.T) {
	pages, err := Pages("/pictures/")
	if err != nil || len(pages) < 13 || !pages[0].Guide || pages[0].Title != "The first estate, in ten minutes" {
		t.Fatalf("%d pages, %v", len(pages), err)
	}
	there := map[string]bool{}
	for _, p := range pages {
		there[p.ID] = true
	}
	links, shown := regexp.MustCompile(`(?:href|src)="([^"#]*)"`), 0
	for _, p := range pages {
		if p.Title == "" || !strings.Contains(p.HTML, "<h1>") {
			t.Errorf("%s has no title", p.ID)
		}
		for _, m := range links.FindAllStringSubmatch(p.HTML, -1) {
			switch to := m[1]; {
			case strings.HasPrefix(to, "/guide/"):
				if !there[strings.TrimPrefix(to, "/guide/")] {
					t.Errorf("%s leads to %s, which is not there", p.ID, to)
				}
			case strings.HasPrefix(to, "/pictures/"):
				if _, err := fs.Stat(Pictures, "screenshots/"+strings.TrimPrefix(to, "/pictures/")); err != nil {
					t.Errorf("%s shows %s, which is not there", p.ID, to)
				}
				shown++
			case to != "/api/openapi.json":
				t.Errorf("%s leads out of the program, to %s", p.ID, to)
			}
		}
	}
	if shown < 5 {
		t.Errorf("%d pictures", shown)
	}
}
