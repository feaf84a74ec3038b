package change

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"steady-compass/core/estate"
)

// edit is one line put in or taken out; a changed record is two, but where the new line does not stand beside the old.
type edit struct {
	out, in estate.Record // nil where there is none
	key     string        // what its record is of
	at      string
	phase   phase
	rank    int // among those of its phase: what is nearest to the machine comes first, and goes last
}

// record is what the edit is of.
func (e *edit) record() estate.Record {
	if e.in != nil {
		return e.in
	}
	return e.out
}

// phase is when an edit is made, where nothing speaks against it.
type phase uint8

const (
	putIn phase = iota
	inPlace
	naming
	takenOut
	onPaper // nobody's work: what is meant, and notes
)

// slot is a line of one kind in the list that has those of before and of after, each at its place.
type slot struct {
	record  estate.Record
	in, out int // the edits that put it in and take it out; -1 where it is there before, or stays
}

// stands says whether the line is there when some edits are made.
func (s slot) stands(made []bool) bool {
	return (s.in < 0 || made[s.in]) && (s.out < 0 || !made[s.out])
}

// draft is a change, taken apart into its edits.
type draft struct {
	before, after *estate.Estate
	edits         []edit
	lists         map[*estate.Kind][]slot // of the kinds that are touched
}

// apart takes a change apart. Lines of ordered kinds are placed by their neighbours in the finished list.
func apart(before, after *estate.Estate) *draft {
	d := &draft{before: before, after: after, lists: map[*estate.Kind][]slot{}}
	for _, k := range estate.Kinds {
		gone, come := estate.Changed(before, after, k)
		if len(gone)+len(come) == 0 {
			continue
		}
		start, end := estate.Shared(before, after, k)
		was := before.Of(k)
		var list []slot
		stays := func(records []estate.Record) {
			for _, r := range records {
				list = append(list, slot{r, -1, -1})
			}
		}
		stays(was[:start])
		d.merge(&list, gone, come)
		stays(was[len(was)-end:])
		d.lists[k] = list
	}
	d.unmoved()
	d.settle()
	return d
}

// settle notes of each edit where and when it is made.
func (d *draft) settle() {
	for i := range d.edits {
		e := &d.edits[i]
		if e.record() != nil {
			e.key = keyOf(e.record())
		}
		e.at = d.placeOfWork(e.record())
		e.phase, e.rank = phaseOf(e), rankOf(e)
	}
}

// mostCompared is how large a table of two lists may get: above it the common part of them is found by going once through both.
const mostCompared = 4_000_000

// inCommon says of the lines of one list with which of another each is the same line, in an order that both have; -1 where with none.
func inCommon(gone, come []estate.Record) []int {
	n, m := len(gone), len(come)
	of := make([]int, n)
	for i := range of {
		of[i] = -1
	}
	if n*m > mostCompared {
		at := map[string][]int{}
		for j, r := range come {
			at[estate.Line(r)] = append(at[estate.Line(r)], j)
		}
		last := -1
		for i, r := range gone {
			for _, j := range at[estate.Line(r)] {
				if j > last {
					of[i], last = j, j
					break
				}
			}
		}
		return of
	}
	common := make([][]int32, n+1)
	for i := range common {
		common[i] = make([]int32, m+1)
	}
	same := func(i, j int) bool { return estate.Line(gone[i]) == estate.Line(come[j]) }
	for i := n - 1; i >= 0; i-- {
		for j := m - 1; j >= 0; j-- {
			if same(i, j) {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	for i, j := 0, 0; i < n && j < m; {
		switch {
		case same(i, j):
			of[i] = j
			i, j = i+1, j+1
		case common[i+1][j] >= common[i][j+1]:
			i++
		default:
			j++
		}
	}
	return of
}

// merge joins two lists of records by their common part.
func (d *draft) merge(list *[]slot, gone, come []estate.Record) {
	of := inCommon(gone, come)
	standing := map[string]int{} // by what it is of: the edit that takes out a line which another cannot stand beside
	takeOut := func(r estate.Record) {
		standing[seat(r)] = len(d.edits)
		*list = append(*list, slot{r, -1, len(d.edits)})
		d.edits = append(d.edits, edit{out: r})
	}
	var late []int // the slots of lines that come before the one that they cannot stand beside
	putIn := func(r estate.Record) {
		if i, is := standing[seat(r)]; is && d.edits[i].in == nil {
			d.edits[i].in = r
			*list = append(*list, slot{r, i, -1})
			return
		}
		late = append(late, len(*list))
		*list = append(*list, slot{r, len(d.edits), -1})
		d.edits = append(d.edits, edit{in: r})
	}
	j := 0
	for i, r := range gone {
		if of[i] < 0 {
			takeOut(r)
			continue
		}
		for ; j < of[i]; j++ {
			putIn(come[j])
		}
		*list = append(*list, slot{r, -1, -1})
		j++
	}
	for ; j < len(come); j++ {
		putIn(come[j])
	}
	d.join(*list, late)
}

// join makes one edit of two, where a line comes ahead of the one that it cannot stand beside.
func (d *draft) join(list []slot, late []int) {
	leaving := map[string][]int{}
	for m, s := range list {
		if s.out >= 0 && d.edits[s.out].in == nil {
			leaving[seat(s.record)] = append(leaving[seat(s.record)], m)
		}
	}
	for _, n := range late {
		in := &list[n]
		same := leaving[seat(in.record)]
		if len(same) == 0 {
			continue
		}
		leaving[seat(in.record)] = same[1:]
		out := &list[same[0]]
		d.edits[in.in] = edit{} // it is no edit of its own
		d.edits[out.out].in = in.record
		in.in = out.out
	}
}

// keyOf is the kind of a record and what it is of.
func keyOf(r estate.Record) string {
	k := estate.KindOf(r)
	return k.Word + " " + strings.Join(k.Fields[0].Values(r), " ")
}

// seat is what there can be but one record of: a new one does not stand beside the old. Where a record stands beside any
// other, it is its line.
func seat(r estate.Record) string {
	words := func(words ...any) string { return estate.KindOf(r).Word + " " + fmt.Sprint(words...) }
	switch r := r.(type) {
	case *estate.Route:
		return words(r.Host, " ", r.To)
	case *estate.Address:
		return words(r.Held, " ", r.Network)
	case *estate.HostsEntry:
		return words(r.Hostname, " ", r.Place)
	case *estate.DNS:
		switch r.Type {
		case "CNAME", "ALIAS", "DNAME", "SOA":
			return words(r.Owner, " ", r.Type, r.For)
		}
		return words(r.Owner, " ", r.Type, " ", r.Value, r.Dynamic, r.For)
	case *estate.Forward:
		return words(r.Router, " ", r.Bind, r.From, r.Inside)
	case *estate.Map:
		return words(estate.GroupOf(r), " ", r.Bind)
	case *estate.Listen:
		return words(r.Place, " ", r.Bind)
	case *estate.Site:
		return words(r.Service, " ", r.Names, r.At, r.Path, r.Sources)
	case *estate.Member:
		return words(r.Pool, " ", r.At)
	case *estate.Zone:
		return words(r.Name, " ", r.For)
	}
	if k := estate.KindOf(r); k.Defines != 0 {
		return keyOf(r)
	}
	return estate.Line(r)
}

func phaseOf(e *edit) phase {
	switch r := e.record().(type) {
	case nil:
		return onPaper
	case *estate.Intent, *estate.Acceptance, *estate.Name:
		return onPaper
	case *estate.DNS, *estate.Zone:
		return naming
	case *estate.Cert:
		if e.in != nil && challenged(r) {
			return naming
		}
	}
	switch {
	case e.in != nil && e.out != nil:
		return inPlace
	case e.out != nil:
		return takenOut
	}
	return putIn
}

// challenged says whether a certificate is had by a challenge that has to get in.
func challenged(c *estate.Cert) bool { return c.By == "http-01" || c.By == "tls-alpn-01" }

// nearest are the kinds from the machine outwards: each stands on those before it, and a list is written before what it is a list of is switched on.
var nearest = []string{"network", "host", "group", "address", "route", "name", "container", "pool", "member", "tunnel", "zone", "dns", "cert", "site", "listen", "map", "rule", "filter", "outbound", "forward"}

func rankOf(e *edit) int {
	if e.record() == nil {
		return 0
	}
	rank := slices.Index(nearest, estate.KindOf(e.record()).Word)
	if e.in == nil {
		return len(nearest) - rank
	}
	return rank
}

// placeOfWork is where somebody makes an edit: a zone where it is edited, a router, a machine's filter, a container engine, a machine's services,
// a front, a certificate.
func (d *draft) placeOfWork(r estate.Record) string {
	host := func(place string) string {
		name, _, _ := strings.Cut(place, "/")
		return name
	}
	machine := func(place string) string {
		for _, e := range []*estate.Estate{d.before, d.after} {
			for _, r := range e.Of(estate.KindNamed("host")) {
				if h := r.(*estate.Host); h.Name == place && h.Router {
					return "router " + place
				}
			}
		}
		return "machine " + place
	}
	switch r := r.(type) {
	case nil:
		return ""
	case *estate.DNS:
		return "zone " + d.zoneOf(r.Owner)
	case *estate.Zone:
		return "zone " + r.Name
	case *estate.Forward:
		return "router " + r.Router
	case *estate.Outbound:
		return "router " + r.Router
	case *estate.Address:
		return machine(r.Hosts[0])
	case *estate.Route:
		return machine(r.Host)
	case *estate.Host:
		return machine(r.Name)
	case *estate.Network:
		if r.On != "" {
			return "containers on " + r.On
		}
		return "network " + r.Name
	case *estate.Filter:
		return "filter " + r.Name
	case *estate.Rule:
		return "filter " + r.Filter
	case *estate.Container:
		return "containers on " + host(r.Name)
	case *estate.Map:
		return "containers on " + host(r.Container)
	case *estate.Listen:
		return "services on " + host(r.Place)
	case *estate.Tunnel:
		return "services on " + host(r.From)
	case *estate.Site:
		return "front " + r.Service
	case *estate.Pool:
		return "pool " + r.Name
	case *estate.Member:
		return "pool " + r.Pool
	case *estate.Cert:
		return "certificate " + r.Name
	}
	return estate.KindOf(r).Word
}

// zoneOf is the longest zone recorded that a name is in.
func (d *draft) zoneOf(name string) string {
	best := ""
	for _, e := range []*estate.Estate{d.before, d.after} {
		for _, r := range e.Of(estate.KindNamed("zone")) {
			if z := r.(*estate.Zone); (name == z.Name || strings.HasSuffix(name, "."+z.Name)) && len(z.Name) > len(best) {
				best = z.Name
			}
		}
	}
	if best == "" {
		return name
	}
	return best
}

// made is the estate in which just some of the edits are made, gone on from one in which others are.
func (d *draft) made(from *estate.Estate, were, are []bool) (*estate.Estate, error) {
	var c estate.Change
	for _, k := range estate.Kinds {
		if d.lists[k] == nil {
			continue
		}
		ranks := map[string]int{}
		for _, s := range d.lists[k] {
			was, is := s.stands(were), s.stands(are)
			group := estate.GroupOf(s.record)
			if is {
				ranks[group]++
			}
			switch {
			case was && !is:
				c.Remove = append(c.Remove, estate.Line(s.record))
			case is && !was:
				p := estate.Placed{Record: s.record}
				if k.Placed {
					p.At = ranks[group]
				}
				c.Add = append(c.Add, p)
			}
		}
	}
	return from.Apply(c)
}

// written are the lines of some edits made as one, from a state: what goes, and what comes, each with its place among what stands when it is
// written. back are those that bring the state before.
func (d *draft) written(edits []int, were []bool) (there, back Lines) {
	there, back = Lines{[]string{}, []string{}}, Lines{[]string{}, []string{}}
	outs, ins := slices.Clone(were), slices.Clone(were)
	for _, i := range edits {
		if e := d.edits[i]; e.out != nil {
			there.Remove = append(there.Remove, estate.Line(e.out))
			outs[i] = true
		}
	}
	touched := map[string]bool{}
	for _, i := range edits {
		if e := d.edits[i]; e.out != nil {
			touched[groupOf(e.out)] = true
		}
	}
	for _, i := range edits {
		if e := d.edits[i]; e.in != nil {
			there.Add = append(there.Add, d.line(e.in, touched, func(s slot) bool { return s.in == i }, func(s slot) bool { return stood(s, ins, outs) }))
			ins[i] = true
		}
	}
	touched = map[string]bool{}
	for _, i := range edits {
		if e := d.edits[i]; e.in != nil {
			back.Remove = append(back.Remove, estate.Line(e.in))
			ins[i] = false
			touched[groupOf(e.in)] = true
		}
	}
	for _, i := range edits {
		if e := d.edits[i]; e.out != nil {
			back.Add = append(back.Add, d.line(e.out, touched, func(s slot) bool { return s.out == i }, func(s slot) bool { return stood(s, ins, outs) }))
			outs[i] = false
		}
	}
	return there, back
}

func stood(s slot, ins, outs []bool) bool {
	return (s.in < 0 || ins[s.in]) && (s.out < 0 || !outs[s.out])
}

// groupOf is what a record is ordered among, of its kind.
func groupOf(r estate.Record) string { return estate.KindOf(r).Word + " " + estate.GroupOf(r) }

// line is a line with its place among what stands. It is left out where the line is the last, and none of its group went, whose place it would
// take.
func (d *draft) line(r estate.Record, touched map[string]bool, is, stands func(slot) bool) string {
	k := estate.KindOf(r)
	if !k.Placed {
		return estate.Line(r)
	}
	rank, last, passed := 1, true, false
	for _, s := range d.lists[k] {
		switch {
		case is(s):
			passed = true
		case estate.GroupOf(s.record) != estate.GroupOf(r) || !stands(s):
		case passed:
			last = false
		default:
			rank++
		}
	}
	if last && !touched[groupOf(r)] {
		return estate.Line(r)
	}
	return estate.LineAt(r, rank)
}

// unmoved leaves out the edits that only move a line, where it comes to its place by itself.
func (d *draft) unmoved() {
	next := &draft{before: d.before, after: d.after, edits: slices.Clone(d.edits), lists: map[*estate.Kind][]slot{}}
	moves := func(i int) bool {
		e := d.edits[i]
		return e.in != nil && e.out != nil && estate.Line(e.in) == estate.Line(e.out)
	}
	found := false
	for k, list := range d.lists {
		for _, s := range list {
			switch {
			case s.out >= 0 && moves(s.out):
				found = true
				next.edits[s.out] = edit{}
				continue
			case s.in >= 0 && moves(s.in):
				s.in = -1
			}
			next.lists[k] = append(next.lists[k], s)
		}
	}
	if !found {
		return
	}
	all := make([]bool, len(d.edits))
	for i := range all {
		all[i] = true
	}
	e, err := next.made(d.before, make([]bool, len(all)), all)
	if err == nil && sameOrder(e, d.after) {
		*d = *next
	}
}

// sameOrder says whether the ordered kinds of two estates stand in the same order, each among its own. Sites stand in that of their listeners, and
// decide by it only where the front takes the first that fits.
func sameOrder(a, b *estate.Estate) bool {
	for _, k := range estate.Kinds {
		if !k.Placed {
			continue
		}
		groups := func(e *estate.Estate) map[string]string {
			out := map[string]string{}
			for _, r := range e.Of(k) {
				if s, is := r.(*estate.Site); is && !slices.ContainsFunc(of[*estate.Listen](e), func(l *estate.Listen) bool { return l.Service == s.Service && l.InOrder }) {
					continue
				}
				out[estate.GroupOf(r)] += estate.Line(r) + "\n"
			}
			return out
		}
		if !maps.Equal(groups(a), groups(b)) {
			return false
		}
	}
	return true
}
