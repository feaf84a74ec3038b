// Package docs has the guide, what it leads to, and its pictures, for the program to show.
package docs

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
)

// Guide is the pages of the guide, in their order: guide/01-first-estate.md and so on.
//
//go:embed guide/*.md
var Guide embed.FS

//go:embed notation.md codes.md access.md
var others embed.FS

// Pictures are those that the guide shows: screenshots/names.png and so on.
//
//go:embed screenshots/*.png
var Pictures embed.FS

// Page is a page of the guide, or one that it leads to.
type Page struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	HTML  string `json:"html"`
	Guide bool   `json:"guide" doc:"It is one of the guide itself, in its order"`
}

var (
	title   = regexp.MustCompile(`(?m)^# (.*)$`)
	leads   = regexp.MustCompile(`href="(?:\.\./)?(?:guide/)?([\w-]+)\.md"`)
	picture = regexp.MustCompile(`src="(?:\.\./)?screenshots/([\w-]+\.png)"`)
)

// Pages renders the guide, with its links as the interface has them: a page at /guide/ID, a picture at pictures/NAME.
func Pages(pictures string) ([]Page, error) {
	markdown := goldmark.New(goldmark.WithExtensions(extension.Table))
	var out []Page
	for _, from := range []struct {
		files   fs.FS
		pattern string
		guide   bool
	}{{Guide, "guide/*.md", true}, {others, "*.md", false}} {
		names, err := fs.Glob(from.files, from.pattern)
		if err != nil {
			return nil, err
		}
		slices.Sort(names)
		for _, name := range names {
			text, err := fs.ReadFile(from.files, name)
			if err != nil {
				return nil, err
			}
			var html bytes.Buffer
			if err := markdown.Convert(text, &html); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			page := Page{ID: strings.TrimSuffix(path.Base(name), ".md"), Guide: from.guide}
			if m := title.FindSubmatch(text); m != nil {
				page.Title = string(m[1])
			}
			page.HTML = leads.ReplaceAllString(html.String(), `href="/guide/$1"`)
			page.HTML = picture.ReplaceAllString(page.HTML, `src="`+pictures+`$1"`)
			page.HTML = strings.NewReplacer(
				`href="openapi.json"`, `href="/api/openapi.json"`,
				`<pre>`, `<pre tabindex="0">`, // what is wider than the page is read by keys too
			).Replace(page.HTML)
			out = append(out, page)
		}
	}
	return out, nil
}
