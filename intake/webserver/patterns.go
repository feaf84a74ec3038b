package webserver

import (
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"

	"steady-compass/core/estate"
)

// unknown is what becomes of requests where the configuration cannot be followed: recorded as such, so that nobody takes it for an answer.
const unknown = "unknown"

// beginning is how paths begin that a pattern fits.
type beginning struct {
	text  string
	whole bool // the pattern fits all that begins so; else only some of them
	done  bool // what follows in the pattern is not followed
}

// mostBeginnings is how many ways to begin a pattern may have: /(a|b)/ has two.
const mostBeginnings = 16

// beginnings are the ways in which every path begins that a pattern fits; none where they cannot be told. A path that is told by them takes
// the requests that the pattern may take, and perhaps more of them.
func beginnings(pattern string) []beginning {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil || re.Op != syntax.OpConcat || re.Sub[0].Op != syntax.OpBeginText && re.Sub[0].Op != syntax.OpBeginLine {
		return nil
	}
	subs := re.Sub[1:]
	for len(subs) > 0 && takesAnything(subs[len(subs)-1]) {
		subs = subs[:len(subs)-1]
	}
	all := []beginning{{whole: true}}
	for _, sub := range subs {
		all = begun(all, sub)
	}
	for _, b := range all {
		if !strings.HasPrefix(b.text, "/") || b.text == "/" && !b.whole || strings.ContainsAny(b.text, "*? \t\"") {
			return nil
		}
	}
	return all
}

// takesAnything says whether a part at the end of a pattern may be left out, since it takes whatever follows.
func takesAnything(re *syntax.Regexp) bool {
	switch re.Op {
	case syntax.OpCapture:
		return takesAnything(re.Sub[0])
	case syntax.OpStar:
		return re.Sub[0].Op == syntax.OpAnyChar || re.Sub[0].Op == syntax.OpAnyCharNotNL
	}
	return false
}

// begun goes on with the next part of a pattern.
func begun(all []beginning, re *syntax.Regexp) []beginning {
	stop := func() []beginning {
		for i := range all {
			all[i].whole, all[i].done = false, true
		}
		return all
	}
	each := func(texts []string) []beginning {
		if len(all)*len(texts) > mostBeginnings {
			return stop()
		}
		var out []beginning
		for _, b := range all {
			if b.done {
				out = append(out, b)
				continue
			}
			for _, text := range texts {
				out = append(out, beginning{text: b.text + text, whole: b.whole})
			}
		}
		return out
	}
	switch re.Op {
	case syntax.OpEmptyMatch:
		return all
	case syntax.OpLiteral:
		return each([]string{string(re.Rune)})
	case syntax.OpCapture:
		return begun(all, re.Sub[0])
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			all = begun(all, sub)
		}
		return all
	case syntax.OpCharClass:
		var texts []string
		for i := 0; i+1 < len(re.Rune) && len(texts) <= mostBeginnings; i += 2 {
			for ch := re.Rune[i]; ch <= re.Rune[i+1] && len(texts) <= mostBeginnings; ch++ {
				texts = append(texts, string(ch))
			}
		}
		return each(texts)
	case syntax.OpAlternate:
		var out []beginning
		for _, sub := range re.Sub {
			out = append(out, begun(slices.Clone(all), sub)...)
		}
		if len(out) > mostBeginnings {
			return stop()
		}
		return out
	}
	return stop()
}

// ending is the domain under which every name lies that a pattern fits; false where there is no one such.
func ending(pattern string) (domain string, ok bool) {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil || re.Op != syntax.OpConcat || len(re.Sub) < 2 {
		return "", false
	}
	end, tail := re.Sub[len(re.Sub)-1], re.Sub[len(re.Sub)-2]
	if end.Op != syntax.OpEndText && end.Op != syntax.OpEndLine || tail.Op != syntax.OpLiteral {
		return "", false
	}
	_, domain, ok = strings.Cut(strings.ToLower(string(tail.Rune)), ".")
	clean, valid := estate.CleanHostname(domain)
	return clean, ok && valid
}

// mayFit says whether a pattern fits a path; one that this program cannot read may.
func mayFit(pattern, path string) bool {
	re, err := regexp.Compile(pattern)
	return err != nil || re.MatchString(path)
}
