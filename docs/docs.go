// Package docs has the guide and its pictures, for the program to show.
package docs

import "embed"

// Guide is the pages of the guide, in their order: guide/01-first-estate.md and so on.
//
//go:embed guide/*.md
var Guide embed.FS

// Pictures are those that the guide shows: screenshots/names.png and so on.
//
//go:embed screenshots/*.png
var Pictures embed.FS
