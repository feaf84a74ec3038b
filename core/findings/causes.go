package findings

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/look"
	"steady-compass/core/trace"
)

// Cause is one mistake: what one change would have to change, and what hangs on it.
type Cause struct {
	Key      string `json:"key"`
	Head     int    `json:"head"`                      // the finding nearest to it, of those of the report
	Ends     int    `json:"ends"`                      // how many findings have no other cause
	Names    int    `json:"names"`                     // of how many names
	Findings []int  `json:"findings" nullable:"false"` // all that hang on it, in order
}

// Causes are the causes of the findings of a report, the one that most hangs on first; and of each finding which of them it has. A finding
// with several stands under each.
func (r *Report) Causes() (causes []Cause, of [][]int) {
	causes, of = r.causesAsMet()
	hang := make([]int, len(causes)) // how many findings
	all := 0
	for _, list := range of {
		for _, n := range list {
			hang[n]++
			all++
		}
	}
	room := make([]int, 0, all)
	for n := range causes {
		at := len(room)
		room = room[:at+hang[n]]
		causes[n].Findings = room[at:at:len(room)]
	}
	for i, f := range r.Findings {
		for _, n := range of[i] {
			c := &causes[n]
			if len(c.Findings) == 0 || f.nearer(r.Findings[c.Head]) {
				c.Head = i
			}
			if c.Findings = append(c.Findings, i); len(of[i]) == 1 {
				c.Ends++
			}
		}
	}
	for n := range causes {
		causes[n].Names = r.namesAmong(causes[n].Findings)
	}
	slices.SortFunc(causes, r.compareCauses)
	for i := range of {
		of[i] = of[i][:0]
	}
	for n := range causes {
		for _, i := range causes[n].Findings {
			of[i] = append(of[i], n)
		}
	}
	return causes, of
}

// causesAsMet are the causes in the order in which the findings have them, without what hangs on them; and of each finding which it has.
func (r *Report) causesAsMet() (causes []Cause, of [][]int) {
	unmet := r.unmet()
	causes, of = []Cause{}, make([][]int, len(r.Findings))
	at := make(map[string]int, len(r.Findings))
	for i, f := range r.Findings {
		keys := f.causedBy(unmet)
		of[i] = make([]int, len(keys))
		for k, key := range keys {
			n, known := at[key]
			if !known {
				n = len(causes)
				at[key], causes = n, append(causes, Cause{Key: key})
			}
			of[i][k] = n
		}
	}
	return causes, of
}

// compareCauses puts first what gives something back, what most hangs on, and what is worst.
func (r *Report) compareCauses(a, b Cause) int {
	headA, headB := r.Findings[a.Head], r.Findings[b.Head]
	if d := cmp.Or(cmp.Compare(headA.gives(), headB.gives()), cmp.Compare(b.Ends, a.Ends)); d != 0 {
		return d
	}
	if d := cmp.Or(cmp.Compare(headA.Level.Rank(), headB.Level.Rank()), cmp.Compare(a.Head, b.Head)); d != 0 {
		return d
	}
	return strings.Compare(a.Key, b.Key)
}

// namesAmong is of how many names some findings are.
func (r *Report) namesAmong(list []int) int {
	if len(list) == 1 && hostIn(r.Findings[list[0]].Subject) != "" {
		return 1
	}
	var names []string
	for _, i := range list {
		if name := hostIn(r.Findings[i].Subject); name != "" {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return len(slices.Compact(names))
}

// unmet are the intents that are not met, by the places to which their ways come, or would, and by what they name.
func (r *Report) unmet() map[string][]*Finding {
	out := map[string][]*Finding{}
	for _, f := range r.Findings {
		for _, l := range f.lands {
			for _, key := range []string{l.place, l.target} {
				if list := out[key]; key != "" && (len(list) == 0 || list[len(list)-1] != f) {
					out[key] = append(list, f)
				}
			}
		}
	}
	return out
}

// causedBy are the causes of a finding. What is open and seems meant for nobody, or by one family alone, only since the intent that means it
// does not get there, has those of what stops that.
func (f *Finding) causedBy(unmet map[string][]*Finding) []string {
	switch f.Code {
	case "exposure.undeclared", "exposure.wider", "exposure.family":
	default:
		return f.keys
	}
	var out []string
	for _, i := range append(slices.Clip(unmet[f.opens.place]), unmet[f.opens.site]...) {
		if slices.ContainsFunc(i.lands, f.opens.lets) {
			out = union(out, i.keys)
		}
	}
	if len(out) == 0 {
		return f.keys
	}
	return out
}

// lets says whether what is open is where an intent's way lands, at its site where there are any; or the site that is for what it names.
func (o *opens) lets(l landing) bool {
	base, wild := strings.CutPrefix(o.site, "*")
	switch {
	case o.site == "":
		return l.place == o.place && l.port == o.port
	case o.site == l.target:
		return true
	}
	return wild && l.place == o.place && l.port == o.port && strings.HasSuffix(l.target, base)
}

// nearer says whether a finding is nearer to a cause that it shares with another: a break before what follows from it.
func (f *Finding) nearer(than *Finding) bool {
	return cmp.Or(cmp.Compare(f.distance(), than.distance()), cmp.Compare(f.Level.Rank(), than.Level.Rank())) < 0
}

// gives is 0 where mending a cause of which this is the head gives something back; of what only wants to be looked at, 1.
func (f *Finding) gives() int {
	if f.Code == look.SeenNever || f.Code == look.SeenOld {
		return 1
	}
	return 0
}

// distance is how far a code is from a cause: what follows from a break is farther than that.
func (f *Finding) distance() int {
	family, _, _ := strings.Cut(f.Code, ".")
	switch {
	case family == "intent":
		return 4
	case f.Code == "redirect.dead" || f.Code == "name.near-miss" || f.Code == "cert.renewal":
		return 3
	case f.Code == "exposure.family" || f.Code == "exposure.past-input" || f.Code == "exposure.undeclared" || family == "order":
		return 2
	case family == "exposure" || family == "name":
		return 1
	}
	return 0
}

// hostIn is the host name that a subject is of; "" for none.
func hostIn(subject string) string {
	host, _, _ := strings.Cut(subject, ":")
	if name, ok := estate.CleanHostname(host); ok && strings.Contains(name, ".") && !strings.ContainsAny(name, "/ ") {
		if _, err := netip.ParseAddr(name); err != nil {
			return name
		}
	}
	return ""
}

// keyed gives a finding the keys of its causes, where it has none yet: the line that its mend changes, else the one that it
// speaks of.
func (f *Finding) keyed() {
	family, _, _ := strings.Cut(f.Code, ".")
	switch {
	case len(f.keys) > 0:
	case f.Mend != nil && len(f.Mend.Remove) > 0:
		f.keys = []string{flow.RecordCause(f.Mend.Remove[0])}
	case len(f.Records) > 0 && family != "intent" && family != "name":
		f.keys = []string{flow.RecordCause(f.Records[0])}
	default:
		f.keys = []string{f.Code + " " + f.Subject}
	}
}

// keysOf are the causes of the breaks of paths.
func keysOf(list []broken) []string {
	var out []string
	for _, b := range list {
		out = union(out, pathKeys(b.path))
	}
	return out
}

// pathKeys are the causes of a path's breaks; what only follows from others has theirs.
func pathKeys(p *trace.Path) []string {
	var out []string
	for i := range p.Breaks {
		if b := &p.Breaks[i]; b.Code != "redirect.dead" {
			out = union(out, []string{p.Cause(b)})
		}
	}
	if len(out) == 0 {
		for i := range p.Breaks {
			out = union(out, []string{p.Cause(&p.Breaks[i])})
		}
	}
	return out
}

// union is a list with what of another it lacks; the list itself stays as it is.
func union[T comparable](list, more []T) []T {
	list = slices.Clip(list)
	for _, one := range more {
		if !slices.Contains(list, one) {
			list = append(list, one)
		}
	}
	return list
}
