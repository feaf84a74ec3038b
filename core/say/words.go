// Package say has the words for people: records, ports and lists as text.
package say

import (
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
)

// Lines are records as canonical lines, each once.
func Lines(records ...estate.Record) []string {
	out := make([]string, 0, len(records))
	for _, r := range records {
		if r == nil {
			continue
		}
		if line := estate.Line(r); !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	return out
}

// PortWord is a port as records write it: 443, 53/udp.
func PortWord(p uint16, t netset.Transport) string {
	if t == netset.UDP {
		return strconv.Itoa(int(p)) + "/udp"
	}
	return strconv.Itoa(int(p))
}

// SelectorWords are selectors as a list writes them.
func SelectorWords(list []estate.Selector) string {
	var out []string
	for _, s := range list {
		out = append(out, s.String())
	}
	return strings.Join(out, ", ")
}

// OrEmpty is a text that may be none.
func OrEmpty(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}
