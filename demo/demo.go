// Package demo holds the demo estate: Fernmoor Observatory, with its healthy names and its
// planted faults.
package demo

import _ "embed"

// Estate is the demo estate as notation.
//
//go:embed fernmoor.estate
var Estate string

// Move is the text of a change that the demo has as a draft: its names go to a second address, and the first is given up.
//
//go:embed move.change
var Move string
