package change

import (
	"fmt"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
)

// The words with which a sentence begins.
const (
	publishWord = "publish"
	retireWord  = "retire"
)

// Begins says whether a line is a sentence, and no record.
func Begins(line string) bool {
	word, _, spaced := strings.Cut(strings.TrimLeft(line, " \t"), " ")
	return spaced && (word == publishWord || word == retireWord)
}

// Complete says what could stand at a byte offset of a sentence, given what the estate has names for.
func Complete(line string, cursor int, e *estate.Estate) notation.Completion {
	cursor = max(0, min(cursor, len(line)))
	before := line[:cursor]
	from := strings.LastIndexAny(before, " \t,") + 1
	words := strings.Fields(before[:from])
	partial := strings.ToLower(before[from:])
	c := notation.Completion{From: from}
	switch {
	case len(words) == 0:
		c.Expected = publishWord + " or " + retireWord
		c.Words = []notation.Suggestion{{Text: publishWord, Detail: "sentence"}, {Text: retireWord, Detail: "sentence"}}
	case words[0] == retireWord && len(words) == 1:
		c.Expected, c.Words = "a name, a service or a machine", retirable(e)
	case words[0] == publishWord && len(words) == 1:
		c.Expected, c.Words = "the name", free(partial, e)
	case words[0] == publishWord:
		c.Expected, c.Words = following(words[2:], strings.HasSuffix(strings.TrimRight(before[:from], " \t"), ","), e)
	}
	c.Words = notation.Matching(c.Words, partial)
	return c
}

// following is what may come behind some words of a sentence. What has to be said comes before what may be.
func following(words []string, inList bool, e *estate.Estate) (expected string, out []notation.Suggestion) {
	said := map[string]bool{}
	last, pending := "", "" // the word said last, and that whose value is missing
	for _, w := range words {
		switch {
		case pending == "guarded" && w == "by":
			pending = w
		case pending != "":
			last, pending = pending, ""
		default:
			said[w], pending = true, w
		}
	}
	if inList {
		pending = last
	}
	if pending != "" {
		return valuesOf(pending, e)
	}
	for _, o := range []notation.Suggestion{
		{Text: "to", Detail: "where it ends"},
		{Text: "for", Detail: "who is meant"},
		{Text: "through", Detail: "by which front"},
		{Text: "guarded", Detail: "by whom visitors are signed in first"},
		{Text: "at", Detail: "by which address"},
	} {
		if said[o.Text] {
			continue
		}
		if out = append(out, o); o.Text == "to" || o.Text == "for" {
			break
		}
	}
	return "", out
}

// valuesOf are what a word of a sentence may be followed by.
func valuesOf(word string, e *estate.Estate) (expected string, out []notation.Suggestion) {
	seen := map[string]bool{}
	add := func(text, detail string) {
		if !seen[text] {
			seen[text] = true
			out = append(out, notation.Suggestion{Text: text, Detail: detail})
		}
	}
	switch word {
	case "to":
		expected = "a place and the port that it listens on"
		for _, l := range of[*estate.Listen](e) {
			for _, r := range l.Bind.Ranges {
				switch text := fmt.Sprintf("%s:%d", l.Place, r.Lo); {
				case l.Off:
				case l.Bind.Transport == netset.UDP:
					add(text+"/udp", l.Service)
				default:
					add(text, l.Service)
				}
			}
		}
		for _, l := range of[*estate.Listen](e) {
			if !l.Off {
				add(l.Service, "service on "+l.Place)
			}
		}
	case "for":
		expected = "who is meant"
		add("internet", "everybody")
		for _, n := range of[*estate.Network](e) {
			add(n.Name, "network")
		}
		for _, g := range of[*estate.Group](e) {
			add(g.Name, "group")
		}
	case "through":
		expected = "a service that has sites"
		for _, s := range of[*estate.Site](e) {
			add(s.Service, "front")
		}
	case "guarded":
		return "by", []notation.Suggestion{{Text: "by", Detail: "a service"}}
	case "by":
		expected = "the service that signs visitors in"
		for _, s := range of[*estate.Site](e) {
			if s.Guard.Service != "" {
				add(s.Guard.Service, "signs in for others already")
			}
		}
		for _, l := range of[*estate.Listen](e) {
			add(l.Service, "service")
		}
	case "at":
		expected = "an address that the internet reaches"
		for _, a := range of[*estate.Address](e) {
			if a.Network == "internet" && a.Held.Addr.IsValid() && !a.Off {
				add(a.Held.Addr.String(), a.Hosts[0])
			}
		}
	}
	return expected, out
}

// retirable are what can be retired: names, services, machines.
func retirable(e *estate.Estate) (out []notation.Suggestion) {
	seen := map[string]bool{}
	add := func(text, detail string) {
		if text != "" && !seen[text] {
			seen[text] = true
			out = append(out, notation.Suggestion{Text: text, Detail: detail})
		}
	}
	for _, d := range of[*estate.DNS](e) {
		add(d.Owner, "name")
	}
	for _, l := range of[*estate.Listen](e) {
		add(l.Service, "service")
	}
	for _, h := range of[*estate.Host](e) {
		add(h.Name, "host")
	}
	for _, c := range of[*estate.Container](e) {
		add(c.Name, "container")
	}
	return out
}

// free are names that may be published: what is typed so far, completed by each zone; and names that sites and intents have, and nobody records.
func free(partial string, e *estate.Estate) (out []notation.Suggestion) {
	recorded := map[string]bool{}
	for _, d := range of[*estate.DNS](e) {
		recorded[d.Owner] = true
	}
	add := func(name, detail string) {
		if !recorded[name] && strings.Contains(name, ".") && !strings.ContainsAny(name, "*/:") {
			recorded[name] = true
			out = append(out, notation.Suggestion{Text: name, Detail: detail})
		}
	}
	for _, z := range of[*estate.Zone](e) {
		label, typed, _ := strings.Cut(partial, ".")
		if label != "" && (typed == "" || strings.HasPrefix(z.Name, typed)) {
			add(label+"."+z.Name, "not recorded yet")
		}
	}
	for _, s := range of[*estate.Site](e) {
		for _, n := range s.Names {
			add(n, "has a site, and no record")
		}
	}
	for _, i := range of[*estate.Intent](e) {
		add(i.Target, "is meant, and has no record")
	}
	return out
}
