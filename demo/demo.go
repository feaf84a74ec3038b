// Package demo holds the demo estate: Fernmoor Observatory, with its healthy names and its
// planted faults.
package demo

import _ "embed"

// Estate is the demo estate as notation.
//
//go:embed fernmoor.estate
var Estate string
