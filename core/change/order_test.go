package change

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/flow"
	"steady-compass/core/mend"
	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
	"steady-compass/demo"
)

var judgedDrafts = flag.Int("judge.drafts", 14, "how many random drafts are put into order and held against all orders")

const day = estate.Date("2026-12-01")

// looked is an estate looked over anew.
func looked(t testing.TB, e *estate.Estate) mend.State {
	t.Helper()
	tr := trace.New(model.Compile(e), day)
	checked, err := findings.Check(context.Background(), tr, day)
	if err != nil {
		t.Fatal(err)
	}
	return mend.State{Tracer: tr, Checked: checked}
}

func changed(t testing.TB, e *estate.Estate, text string) *estate.Estate {
	t.Helper()
	c, faults := notation.ParseChange(text, e)
	if len(faults) > 0 {
		t.Fatalf("%v\n%s", faults, text)
	}
	next, err := e.Apply(c)
	if err != nil {
		t.Fatal(err)
	}
	return next
}

// hill is a router with two machines behind it; one is a front.
const hill = `network perimeter 10.20.8.0/24
host meridian router
address meridian 203.0.113.20 internet
address meridian 10.20.8.1 perimeter
host azimuth
host zenith
address azimuth 10.20.8.10 perimeter
address zenith 10.20.8.11 perimeter
zone fernmoor.example ttl 1h
dns fernmoor.example A 203.0.113.20
dns www.fernmoor.example CNAME fernmoor.example
forward meridian 203.0.113.20:80,443 to 10.20.8.10
listen azimuth 80 as front
listen azimuth 443 as front tls
listen azimuth 3000 as app
site front * at 80 redirect https
site front www.fernmoor.example at 443 to http://azimuth:3000
cert star for www.fernmoor.example expires 2027-05-01 on azimuth by http-01
intend www.fernmoor.example 80,443 for internet
filter edge on azimuth input otherwise drop
rule edge pass 80,443 from internet
`

// said is an order in short: where the work is, waits, and gaps.
func said(s Steps) string {
	var out []string
	for _, st := range s.Steps {
		if st.Kind == Wait {
			out = append(out, "wait "+st.Seconds.String())
			continue
		}
		out = append(out, fmt.Sprintf("%s -%d +%d", st.At, len(st.Remove), len(st.Add)))
	}
	for _, g := range s.Gaps {
		out = append(out, fmt.Sprintf("gap %s from %s between %v", g.What, g.From, g.Between))
	}
	return strings.Join(out, "; ")
}

// TestOrder are hand cases of the safe order.
func TestOrder(t *testing.T) {
	for _, c := range []struct{ name, change, want string }{
		{
			"another address", `
- dns fernmoor.example A 203.0.113.20
+ dns fernmoor.example A 203.0.113.21
- address meridian 203.0.113.20 internet
+ address meridian 203.0.113.21 internet
- forward meridian 203.0.113.20:80,443 to 10.20.8.10
+ forward meridian 203.0.113.21:80,443 to 10.20.8.10`,
			"router meridian -0 +2; zone fernmoor.example -1 +1; wait 1h; router meridian -2 +0",
		},
		{
			"the backend moves", `
- listen azimuth 3000 as app
+ listen zenith 3000 as app
- site front www.fernmoor.example at 443 to http://azimuth:3000
+ site front www.fernmoor.example at 443 to http://zenith:3000`,
			"services on zenith -0 +1; front front -1 +1; services on azimuth -1 +0",
		},
		{
			"the backend takes another port", `
- listen azimuth 3000 as app
+ listen azimuth 3001 as app
- site front www.fernmoor.example at 443 to http://azimuth:3000
+ site front www.fernmoor.example at 443 to http://azimuth:3001`,
			"services on azimuth -0 +1; front front -1 +1; services on azimuth -1 +0",
		},
		{
			"a filter that lets in less", `
- rule edge pass 80,443 from internet
+ rule edge pass 443 from internet
+ rule edge pass 80 from internet`,
			"filter edge -1 +2",
		},
		{
			"a new filter before what it keeps", `
+ filter near on zenith input otherwise drop
+ rule near pass 3000 from azimuth
+ listen zenith 3000 as app
- listen azimuth 3000 as app
- site front www.fernmoor.example at 443 to http://azimuth:3000
+ site front www.fernmoor.example at 443 to http://zenith:3000`,
			"filter near -0 +2; services on zenith -0 +1; front front -1 +1; services on azimuth -1 +0",
		},
		{
			"to another machine, with a certificate by a challenge: the old one lies on both meanwhile", `
+ address zenith 203.0.113.22 internet
+ rule edge pass 3000 from zenith
- dns fernmoor.example A 203.0.113.20
+ dns fernmoor.example A 203.0.113.22
- forward meridian 203.0.113.20:80,443 to 10.20.8.10
- listen azimuth 80 as front
- listen azimuth 443 as front tls
+ listen zenith 80 as front
+ listen zenith 443 as front tls
- cert star for www.fernmoor.example expires 2027-05-01 on azimuth by http-01
+ cert star for www.fernmoor.example on zenith by http-01`,
			"machine zenith -0 +1; certificate star -1 +1; services on zenith -0 +2; filter edge -0 +1; zone fernmoor.example -1 +1; wait 1h; certificate star -1 +1; router meridian -1 +0; services on azimuth -2 +0",
		},
		{
			"a backend speaks TLS from now on: on another port meanwhile", `
- listen azimuth 3000 as app
+ listen azimuth 3000 as app tls
- site front www.fernmoor.example at 443 to http://azimuth:3000
+ site front www.fernmoor.example at 443 to https://azimuth:3000`,
			"services on azimuth -0 +1; front front -1 +1; services on azimuth -1 +1; front front -1 +1; services on azimuth -1 +0",
		},
		{"what is only meant", `
+ intend fernmoor.example 443 for internet`, "the records -0 +1"},
		{"nothing", ``, ""},
	} {
		e := notationtest.Parse(t, hill)
		got, err := Order(t.Context(), looked(t, e), changed(t, e, c.change), Past{})
		if err != nil {
			t.Fatal(err)
		}
		if s := said(got); s != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, s, c.want)
		}
		undoes(t, e, got)
	}
}

// undoes says that each step can be made, and that its undo brings back what was.
func undoes(t *testing.T, e *estate.Estate, s Steps) {
	t.Helper()
	for _, st := range s.Steps {
		if st.Kind == Wait {
			continue
		}
		next := changed(t, e, textOf(st.Lines))
		if back := changed(t, next, textOf(st.Undo)); like(back) != like(e) {
			t.Errorf("the undo of %s %v gives\n%s", st.At, st.Lines, notation.Print(back))
		}
		e = next
	}
}

// like is what an estate says: in order where that decides.
func like(e *estate.Estate) string {
	var out []string
	for _, k := range estate.Kinds {
		var lines []string
		of := map[string]int{}
		for _, r := range e.Of(k) {
			line := estate.Line(r)
			if k.Placed && k.Word != "site" {
				of[estate.GroupOf(r)]++
				line = fmt.Sprintf("%s|%04d %s", estate.GroupOf(r), of[estate.GroupOf(r)], line)
			}
			lines = append(lines, line)
		}
		if k.Placed && k.Word != "site" { // groups may stand in any order
			slices.SortStableFunc(lines, func(a, b string) int {
				x, _, _ := strings.Cut(a, "|")
				y, _, _ := strings.Cut(b, "|")
				return strings.Compare(x, y)
			})
			for i := range lines {
				_, lines[i], _ = strings.Cut(lines[i], " ")
			}
		} else {
			slices.Sort(lines)
		}
		out = append(out, lines...)
	}
	return strings.Join(out, "\n")
}

func textOf(l Lines) string {
	var b strings.Builder
	for _, line := range l.Remove {
		fmt.Fprintf(&b, "- %s\n", line)
	}
	for _, line := range l.Add {
		fmt.Fprintf(&b, "+ %s\n", line)
	}
	return b.String()
}

// TestRandomOrders puts random drafts into order. The steps come to the draft's end; every state on the way is compiled anew and held to the
// rules; and where all orders of the edits by themselves are tried, waits all in, and one is safe, the one given is.
func TestRandomOrders(t *testing.T) {
	safe, gaping, counted, weighed := 0, 0, 0, 0
	for seed := range *judgedDrafts {
		r := rand.New(rand.NewPCG(uint64(seed), 17))
		text := hill
		if seed%2 == 1 {
			text = demo.Estate
		}
		e := notationtest.Parse(t, text)
		after := drafted(t, r, e)
		first := looked(t, e)
		got, err := Order(t.Context(), first, after, Past{})
		if err != nil {
			t.Fatal(err)
		}
		at := e
		for _, st := range got.Steps {
			if st.Kind == Edit {
				at = changed(t, at, textOf(st.Lines))
			}
		}
		if like(at) != like(after) {
			t.Errorf("seed %d: the steps come to another end: %v; what is left:\n%s", seed, got.Steps, notation.PrintChange(estate.Difference(at, after)))
		}
		undoes(t, e, got)
		if left := Left(e, after); like(changed(t, e, textOf(left))) != like(after) {
			t.Errorf("seed %d: what is left comes to another end: %v", seed, left)
		}
		x, err := newEnds(t.Context(), apart(e, after), &point{e, e, first})
		if err != nil {
			t.Fatal(err)
		}
		o, safely, err := ordered(t.Context(), x.draft, x.first, Past{}, mostTrials)
		if err != nil {
			t.Fatal(err)
		}
		if len(got.Gaps) == 0 && safely {
			safe++
			x.judge(t, seed, o.path)
		}
		if work := x.work(); len(work) <= 7 {
			counted++
			if !safely {
				if err := o.leastWrong(t.Context()); err != nil {
					t.Fatal(err)
				}
				wrongly := map[wrong]bool{}
				for _, m := range o.path {
					for _, w := range m.wrong {
						wrongly[w.whatever()] = true
					}
				}
				if least := x.least(t, work); least >= 0 {
					if weighed++; len(wrongly) > least {
						t.Errorf("seed %d: %d paths are wrong on the way, and %d would be least: %s\n%s", seed, len(wrongly), least, said(got), notation.PrintChange(estate.Difference(e, after)))
					}
				}
			}
			if x.reachable(t, work) && !safely {
				t.Errorf("seed %d: an order is safe, and the one given is not: %s\n%s", seed, said(got), notation.PrintChange(estate.Difference(e, after)))
			}
		}
		if len(got.Gaps) > 0 {
			gaping++
		}
	}
	t.Logf("%d drafts: %d safe, %d with gaps; %d held against all orders, of which %d have no safe one by single edits", *judgedDrafts, safe, gaping, counted, weighed)
	if safe == 0 || counted == 0 {
		t.Error("nothing was judged")
	}
}

// pieces are changes of the hill that belong together, and exclude each other where they meet.
var pieces = []string{
	"- dns fernmoor.example A 203.0.113.20\n+ dns fernmoor.example A 203.0.113.21\n- address meridian 203.0.113.20 internet\n+ address meridian 203.0.113.21 internet\n- forward meridian 203.0.113.20:80,443 to 10.20.8.10\n+ forward meridian 203.0.113.21:80,443 to 10.20.8.10\n",
	"- listen azimuth 3000 as app\n+ listen zenith 3000 as app\n- site front www.fernmoor.example at 443 to http://azimuth:3000\n+ site front www.fernmoor.example at 443 to http://zenith:3000\n",
	"- listen azimuth 3000 as app\n+ listen azimuth 3000 as app tls\n- site front www.fernmoor.example at 443 to http://azimuth:3000\n+ site front www.fernmoor.example at 443 to https://azimuth:3000\n",
	"- dns www.fernmoor.example CNAME fernmoor.example\n+ dns www.fernmoor.example A 203.0.113.20\n",
	"- dns www.fernmoor.example CNAME fernmoor.example\n+ dns *.fernmoor.example CNAME fernmoor.example ttl 5m\n+ dns x.fernmoor.example A 203.0.113.20\n",
	"- filter edge on azimuth input otherwise drop\n- rule edge pass 80,443 from internet\n+ filter wall on meridian through otherwise drop\n+ rule wall pass 80,443 from internet to azimuth\n",
	"- rule edge pass 80,443 from internet\n+ rule edge pass 443 from internet\n+ rule edge drop 22\n+ rule edge pass 80 from any\n",
	"+ listen azimuth 22 as ssh\n+ intend azimuth 22 for perimeter\n+ rule edge pass 22 from perimeter\n",
	"- cert star for www.fernmoor.example expires 2027-05-01 on azimuth by http-01\n+ cert star for www.fernmoor.example,fernmoor.example on azimuth by http-01\n",
	"- site front * at 80 redirect https\n",
	"+ host lamp\n+ address lamp 10.20.8.12 perimeter\n+ listen lamp 3000 as app\n",
}

// drafted is a random draft: pieces that belong together, or some lines of them; else edits of any kind.
func drafted(t *testing.T, r *rand.Rand, e *estate.Estate) *estate.Estate {
	t.Helper()
	if e.Has("host azimuth") && r.IntN(4) > 0 {
		for range 1 + r.IntN(2) {
			var b strings.Builder
			for line := range strings.Lines(pieces[r.IntN(len(pieces))]) {
				if r.IntN(6) > 0 {
					b.WriteString(line)
				}
			}
			if c, faults := notation.ParseChange(b.String(), e); len(faults) == 0 {
				if next, err := e.Apply(c); err == nil {
					e = next
				}
			}
		}
		return e
	}
	var gone []estate.Record
	for range 1 + r.IntN(3) {
		var c estate.Change
		c, gone = synth.Edit(r, e, gone)
		next, err := e.Apply(c)
		if err == nil {
			e = next
		}
	}
	listens := of[*estate.Listen](e)
	if l := listens[r.IntN(len(listens))]; r.IntN(2) == 0 && len(l.Bind.Ranges) > 0 {
		moved := estate.With(l, func(n *estate.Listen) {
			n.Bind.Ranges = slices.Clone(n.Bind.Ranges)
			n.Bind.Ranges[0].Lo++
			n.Bind.Ranges[0].Hi++
		})
		if next, err := e.Apply(estate.Change{Remove: []string{estate.Line(l)}, Add: []estate.Placed{{Record: moved}}}); err == nil {
			e = next
		}
	}
	return e
}

// work are the edits that are somebody's.
func (x *ends) work() []int {
	var out []int
	for i, e := range x.edits {
		if e.phase != onPaper {
			out = append(out, i)
		}
	}
	return out
}

// anew is the state in which some edits are made, compiled anew.
func (x *ends) anew(t *testing.T, done []bool) *point {
	t.Helper()
	e, err := x.made(x.before, make([]bool, len(x.edits)), done)
	if err != nil {
		t.Fatal(err)
	}
	return &point{e, x.before, looked(t, mend.IssuedWhere(e, x.before, func(*estate.Cert) bool { return true }))}
}

// judge holds every state of an order to the rules.
func (x *ends) judge(t *testing.T, seed int, path []move) {
	t.Helper()
	for _, m := range path {
		if len(m.edits) == 0 {
			continue
		}
		found, err := x.between(t.Context(), x.anew(t, m.done), m.done, m.edits)
		if err != nil {
			t.Fatal(err)
		}
		for _, w := range found {
			t.Errorf("seed %d: after %s: %s", seed, x.edits[m.edits[0]].at, w.says())
		}
	}
}

// reachable says whether some order of single edits is safe, with a wait after each that changes an answer.
func (x *ends) reachable(t *testing.T, work []int) bool {
	t.Helper()
	ok, _ := x.borneBy(t, work, map[int]map[wrong]bool{}, nil)
	return ok
}

// borneBy says whether some order of single edits has nothing wrong but what is let be, and what else it met. What is wrong after each edit is kept.
func (x *ends) borneBy(t *testing.T, work []int, known map[int]map[wrong]bool, borne map[wrong]bool) (bool, map[wrong]bool) {
	t.Helper()
	o := &order{ends: x, left: 1 << 30, dead: map[string]bool{}}
	points := map[int]*point{}
	at := func(set int) (*point, []bool) {
		done := make([]bool, len(x.edits))
		for b, i := range work {
			done[i] = set&(1<<b) != 0
		}
		if points[set] == nil {
			points[set] = x.anew(t, done)
		}
		return points[set], done
	}
	full := 1<<len(work) - 1
	met := map[wrong]bool{}
	seen, queue := map[int]bool{0: true}, []int{0}
	for len(queue) > 0 {
		set := queue[0]
		queue = queue[1:]
		if set == full {
			return true, met
		}
		for b, i := range work {
			next := set | 1<<b
			if next == set || seen[next] {
				continue
			}
			edge := set<<4 | b
			if known[edge] == nil {
				from, _ := at(set)
				p, done := at(next)
				found, err := x.between(t.Context(), p, done, []int{i})
				if err != nil {
					t.Fatal(err)
				}
				if len(oldAnswers(from.Tracer, p.Tracer)) > 0 {
					kept, err := o.keptAnswers(t.Context(), &node{point: p, done: done, kept: []int{i}}, []int{i})
					if err != nil {
						t.Fatal(err)
					}
					found = append(found, kept...)
				}
				known[edge] = map[wrong]bool{}
				for _, w := range found {
					known[edge][w.whatever()] = true
				}
			}
			passes := true
			for w := range known[edge] {
				if met[w] = true; !borne[w] {
					passes = false
				}
			}
			if passes {
				seen[next] = true
				queue = append(queue, next)
			}
		}
	}
	return full == 0, met
}

// least is how few paths some order of single edits has wrong; -1 where that is not counted, since too many are met, or something opens.
func (x *ends) least(t *testing.T, work []int) int {
	t.Helper()
	known := map[int]map[wrong]bool{}
	all := map[wrong]bool{}
	for grown := true; grown; { // all that can be met
		_, met := x.borneBy(t, work, known, all)
		grown = false
		for w := range met {
			grown = grown || !all[w]
			all[w] = true
		}
	}
	var list []wrong
	for w := range all {
		if w.trouble != opens {
			list = append(list, w)
		}
	}
	if len(list) > 12 {
		return -1
	}
	best := -1
	for set := range 1 << len(list) {
		borne := map[wrong]bool{}
		for b, w := range list {
			if set&(1<<b) != 0 {
				borne[w] = true
			}
		}
		if best >= 0 && len(borne) >= best {
			continue
		}
		if ok, _ := x.borneBy(t, work, known, borne); ok {
			best = len(borne)
		}
	}
	return best
}

// TestTooManyEdits: a change that is too large says so at once, and what is left of it is told all the same.
func TestTooManyEdits(t *testing.T) {
	e := notationtest.Parse(t, hill)
	var b strings.Builder
	for i := range 2500 {
		fmt.Fprintf(&b, "+ dns n%d.fernmoor.example A 203.0.113.20\n", i)
	}
	after := changed(t, e, b.String())
	if _, err := Order(t.Context(), looked(t, e), after, Past{}); !errors.Is(err, ErrTooMany) {
		t.Errorf("%v", err)
	}
	renewed := changed(t, after, strings.ReplaceAll(b.String(), "+ ", "- "))
	if left := Left(after, renewed); len(left.Remove) != 2500 || len(left.Add) != 0 {
		t.Errorf("%d go and %d come", len(left.Remove), len(left.Add))
	}
	var c strings.Builder
	for i := range 2500 {
		fmt.Fprintf(&c, "- dns n%d.fernmoor.example A 203.0.113.20\n+ dns n%d.fernmoor.example A 203.0.113.21\n", i, i)
	}
	if left := Left(after, changed(t, after, c.String())); len(left.Remove) != 2500 || len(left.Add) != 2500 {
		t.Errorf("%d go and %d come", len(left.Remove), len(left.Add))
	}
}

// TestDetours: where a service cannot have its socket yet, it listens on a free one meanwhile, and what leads to it leads there; that is marked.
// Where nothing in the change leads to it, or it has more than one port, the gap is named.
func TestDetours(t *testing.T) {
	two := strings.Replace(hill, "cert star for www.fernmoor.example", "cert star for www.fernmoor.example,more.fernmoor.example", 1) + `
listen azimuth 4000 as more
dns more.fernmoor.example CNAME fernmoor.example
site front more.fernmoor.example at 443 to http://azimuth:4000
intend more.fernmoor.example 443 for internet reaching azimuth:4000
`
	for _, c := range []struct {
		name, text, change, want string
		passing                  int
	}{
		{
			"two services change sockets", two, `
- listen azimuth 3000 as app
- listen azimuth 4000 as more
+ listen azimuth 4000 as app
+ listen azimuth 3000 as more
- site front www.fernmoor.example at 443 to http://azimuth:3000
+ site front www.fernmoor.example at 443 to http://azimuth:4000
- site front more.fernmoor.example at 443 to http://azimuth:4000
+ site front more.fernmoor.example at 443 to http://azimuth:3000
- intend more.fernmoor.example 443 for internet reaching azimuth:4000
+ intend more.fernmoor.example 443 for internet reaching azimuth:3000`,
			"services on azimuth -0 +1; front front -1 +1; services on azimuth -1 +1; front front -1 +1; services on azimuth -1 +1; front front -1 +1; services on azimuth -2 +1", 2,
		},
		{
			"a backend is to speak TLS, and a certificate is wanted", hill, `
- listen azimuth 3000 as app
+ listen azimuth 3000 as app tls
- site front www.fernmoor.example at 443 to http://azimuth:3000
+ site front www.fernmoor.example at 443 to https://azimuth:3000
- cert star for www.fernmoor.example expires 2027-05-01 on azimuth by http-01
+ cert star for www.fernmoor.example,fernmoor.example on azimuth by http-01`,
			"services on azimuth -0 +1; front front -1 +1; services on azimuth -1 +1; front front -1 +1; certificate star -1 +1; services on azimuth -1 +0", 2,
		},
		{
			"a site that leads to the same port of another machine is let be", strings.Replace(hill, "listen azimuth 3000 as app", "listen azimuth 3000 as app\nlisten zenith 3000 as more\nsite front more.fernmoor.example at 443 to http://zenith:3000\ndns more.fernmoor.example CNAME fernmoor.example", 1), `
- listen azimuth 3000 as app
+ listen azimuth 3000 as app tls
- site front www.fernmoor.example at 443 to http://azimuth:3000
+ site front www.fernmoor.example at 443 to https://azimuth:3000
- site front more.fernmoor.example at 443 to http://zenith:3000
+ site front more.fernmoor.example at 443 to http://10.20.8.11:3000`,
			"services on azimuth -0 +1; front front -1 +1; front front -1 +1; services on azimuth -1 +1; front front -1 +1; services on azimuth -1 +0", 2,
		},
		{
			"two ports are to speak TLS", strings.Replace(hill, "listen azimuth 3000 as app", "listen azimuth 3000-3001 as app", 1), `
- listen azimuth 3000-3001 as app
+ listen azimuth 3000-3001 as app tls
- site front www.fernmoor.example at 443 to http://azimuth:3000
+ site front www.fernmoor.example at 443 to https://azimuth:3000`,
			"front front -1 +1; services on azimuth -1 +1; gap www.fernmoor.example:443 from internet between [1 2]; gap www.fernmoor.example:80 from internet between [1 2]", 0,
		},
	} {
		e := notationtest.Parse(t, c.text)
		got, err := Order(t.Context(), looked(t, e), changed(t, e, c.change), Past{})
		if err != nil {
			t.Fatal(err)
		}
		if s := said(got); s != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, s, c.want)
		}
		end := e
		for _, st := range got.Steps {
			end = changed(t, end, textOf(st.Lines))
		}
		if like(end) != like(changed(t, e, c.change)) {
			t.Errorf("%s: the steps come to another end:\n%v", c.name, got.Steps)
		}
		marked := 0
		for _, st := range got.Steps {
			marked += len(st.Passing)
		}
		if marked != c.passing {
			t.Errorf("%s: %d passing lines, want %d", c.name, marked, c.passing)
		}
		if c.passing > 0 { // put in order anew after each step, it comes to the same end
			at, after := e, changed(t, e, c.change)
			for n := range 9 {
				rest, err := Order(t.Context(), looked(t, at), after, Past{Begun: e})
				if err != nil {
					t.Fatal(err)
				}
				if len(rest.Gaps) > 0 || n == 8 {
					t.Fatalf("%s: after %d steps, %s", c.name, n, said(rest))
				}
				if len(rest.Steps) == 0 {
					break
				}
				at = changed(t, at, textOf(rest.Steps[0].Lines))
			}
			if like(at) != like(after) {
				t.Errorf("%s comes to another end", c.name)
			}
		}
		undoes(t, e, got)
	}
}

// TestStepsSayWhatToLookAt: after the step that a name goes by, and after one that opens it; not where nothing that can be seen is other.
func TestStepsSayWhatToLookAt(t *testing.T) {
	e := notationtest.Parse(t, demo.Estate)
	got, err := Order(t.Context(), looked(t, e), changed(t, e, `
- listen azimuth/sign 9091 as sign
+ listen azimuth/sign 9092 as sign
- site front sign.fernmoor.example at 443 to http://sign:9091
+ site front sign.fernmoor.example at 443 to http://sign:9092`), Past{})
	if err != nil {
		t.Fatal(err)
	}
	if len(got.Steps) != 3 {
		t.Fatalf("%s", said(got))
	}
	want := LookAt{"sign.fernmoor.example:443", "internet", flow.Arrives}
	for i, st := range got.Steps {
		if slices.Contains(st.Look, want) != (i == 1) {
			t.Errorf("after step %d at %s: %+v", i+1, st.At, st.Look)
		}
	}
}
