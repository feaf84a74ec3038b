package webserver

import (
	"fmt"
	"path"
	"strings"

	"steady-compass/intake"
)

// statement is a directive with its words, and the block behind it where it has one.
type statement struct {
	position
	words []string
	block []statement
	has   bool // it has a block
}

func (s *statement) name() string { return s.words[0] }

// arg is a word behind the name; "" where it has none.
func (s *statement) arg(n int) string {
	if n+1 < len(s.words) {
		return s.words[n+1]
	}
	return ""
}

// bracesReader reads statements that end with ; or have a block in braces.
type bracesReader struct {
	c    *config
	file string
	text string
	at   int
	line int

	open int // blocks
}

// word is the next word; quoted, that it stood in quotes, so that it is no mark. "" at the end of the text.
func (b *bracesReader) word() (word string, quoted bool) {
	for b.at < len(b.text) {
		switch ch := b.text[b.at]; {
		case ch == '\n':
			b.line++
			b.at++
		case ch == ' ' || ch == '\t' || ch == '\r':
			b.at++
		case ch == '#':
			for b.at < len(b.text) && b.text[b.at] != '\n' {
				b.at++
			}
		case ch == ';' || ch == '{' || ch == '}':
			b.at++
			return string(ch), false
		case ch == '"' || ch == '\'':
			return b.quoted(ch), true
		default:
			return b.bare(), false
		}
	}
	return "", false
}

func (b *bracesReader) quoted(end byte) string {
	var out strings.Builder
	for b.at++; b.at < len(b.text); b.at++ {
		ch := b.text[b.at]
		switch {
		case ch == '\\' && b.at+1 < len(b.text):
			b.at++
			if b.text[b.at] != end && b.text[b.at] != '\\' {
				out.WriteByte('\\')
			}
			out.WriteByte(b.text[b.at])
			continue
		case ch == end:
			b.at++
			return out.String()
		case ch == '\n':
			b.line++
		}
		out.WriteByte(ch)
	}
	b.c.fault(position{b.file, b.line}, "a quote is not closed", string(end))
	return out.String()
}

func (b *bracesReader) bare() string {
	start := b.at
	for b.at < len(b.text) {
		switch ch := b.text[b.at]; ch {
		case ' ', '\t', '\r', '\n', ';':
			return b.text[start:b.at]
		case '{':
			if b.at == start || b.text[b.at-1] != '$' { // ${name} is a variable
				return b.text[start:b.at]
			}
			if end := strings.IndexByte(b.text[b.at:], '}'); end > 0 {
				b.at += end
			}
		case '\\':
			b.at++
		}
		b.at++
	}
	return b.text[start:min(b.at, len(b.text))]
}

// statements reads up to the end of a block, or of the file; what files it includes stands in its place.
func (b *bracesReader) statements() []statement {
	var out []statement
	for {
		s, mark := b.statement()
		switch {
		case mark == ";" && s.words != nil:
			out = append(out, b.included(s)...)
		case mark == "{" && b.open >= mostDepth:
			b.c.fault(position{b.file, b.line}, "the blocks stand deeper in one another than any configuration needs", fmt.Sprintf("at most %d", mostDepth))
			b.at = len(b.text)
		case mark == "{":
			b.open++
			s.block, s.has = b.statements(), true
			if s.words != nil {
				out = append(out, s)
			}
		case mark == "}" && b.open == 0:
			b.c.fault(position{b.file, b.line}, "a brace is closed that was not opened", "a statement")
		case mark == "}":
			b.open--
			return out
		case mark == "":
			if b.open > 0 {
				b.c.fault(position{b.file, b.line}, "a block is not closed", "}")
				b.open--
			}
			return out
		}
	}
}

// statement reads the words of one, and the mark behind them: ; or a brace, or nothing at the end of the file.
func (b *bracesReader) statement() (s statement, mark string) {
	for {
		word, quoted := b.word()
		if s.words == nil {
			s.position = position{b.file, b.line}
		}
		if !quoted && (word == ";" || word == "{" || word == "}" || word == "") {
			if s.words != nil && (word == "}" || word == "") {
				b.c.fault(s.position, fmt.Sprintf("%q has no end", s.name()), "; or a block")
			}
			return s, word
		}
		s.words = append(s.words, word)
	}
}

// included is a statement, or what stands in the files that it includes.
func (b *bracesReader) included(s statement) []statement {
	if s.name() != "include" {
		return []statement{s}
	}
	c := b.c
	files := c.find(s.arg(0))
	if len(files) == 0 {
		if base := path.Base(s.arg(0)); base != "mime.types" && !strings.ContainsAny(base, "*?[") {
			c.missing = true
			c.leave(s.position, "%s is included, and was not given.", s.arg(0))
		}
		return nil
	}
	var out []statement
	for _, f := range files {
		out = append(out, c.include(s.position, f, c.inBraces)...)
	}
	return out
}

// inBraces are the statements of a file.
func (c *config) inBraces(f intake.File) []statement {
	b := &bracesReader{c: c, file: f.Name, text: f.Text, line: 1}
	return b.statements()
}
