package change

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/mend"
)

// Sentences are how publishing and retiring are said.
const Sentences = "publish NAME[:PORTS] to PLACE[:PORT[/udp]] for AUDIENCE,… [guarded by SERVICE] [through FRONT] [at ADDRESS], or retire (NAME | SERVICE | PLACE)"

// Said works out what a sentence asks for. Its error says what was expected, or is the context's.
func Said(ctx context.Context, s mend.State, sentence string) (Proposals, error) {
	words := strings.Fields(sentence)
	switch {
	case len(words) == 2 && words[0] == "retire":
		return Retire(ctx, s, words[1])
	case len(words) > 0 && words[0] == "publish":
		w, err := wishOf(words[1:])
		if err != nil {
			return Proposals{}, err
		}
		return Publish(ctx, s, w)
	}
	return Proposals{}, &Unclear{fmt.Sprintf("%q; expected %s", strings.TrimSpace(sentence), Sentences)}
}

// Unclear is a sentence that is not understood.
type Unclear struct{ What string }

func (u *Unclear) Error() string { return u.What }

// wishOf reads the words behind publish.
func wishOf(words []string) (Wish, error) {
	var w Wish
	if len(words) == 0 {
		return w, &Unclear{"publish: the name is missing; expected " + Sentences}
	}
	w.Name, w.Ports, _ = strings.Cut(words[0], ":")
	for i := 1; i < len(words); i += 2 {
		word := words[i]
		if word == "guarded" && i+1 < len(words) && words[i+1] == "by" {
			i++
		}
		if i+1 == len(words) {
			return w, &Unclear{fmt.Sprintf("%s: what follows is missing; expected %s", word, Sentences)}
		}
		if err := w.take(word, words[i+1]); err != nil {
			return w, err
		}
	}
	if w.Place == "" {
		return w, &Unclear{"publish: it is not said to where; expected " + Sentences}
	}
	return w, nil
}

// take reads one word with what follows it.
func (w *Wish) take(word, value string) (err error) {
	switch word {
	case "to":
		return w.to(value)
	case "for":
		w.Audience = slices.DeleteFunc(strings.Split(value, ","), func(a string) bool { return a == "" })
	case "guarded":
		w.Guard = value
	case "through":
		w.Front = value
	case "at":
		if w.At, err = netip.ParseAddr(value); err != nil {
			return &Unclear{fmt.Sprintf("at: %q is no address; expected one, as 203.0.113.20", value)}
		}
	default:
		return &Unclear{fmt.Sprintf("%q is not understood; expected %s", word, Sentences)}
	}
	return nil
}

func (w *Wish) to(place string) error {
	place, port, is := strings.Cut(place, ":")
	if w.Place = place; !is {
		return nil
	}
	number, transport, said := strings.Cut(port, "/")
	n, err := strconv.ParseUint(number, 10, 16)
	if err != nil || n == 0 || said && transport != "udp" && transport != "tcp" {
		return &Unclear{fmt.Sprintf("to: %q is no port; expected 1 to 65535, and /udp where it is one of that", port)}
	}
	w.Port, w.UDP = uint16(n), transport == "udp"
	return nil
}
