package server

import (
	"context"
	"net/netip"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/names"
	"steady-compass/core/trace"
)

// mostCompared is how many vantages are held side by side.
const mostCompared = 6

type answersQuery struct {
	From string `query:"from" default:"internet" maxLength:"2000" doc:"The vantages, a comma list; auto adds those that have answers of their own"`
}

// Answer is what a name answers one vantage, for one type.
type Answer struct {
	Code     string         `json:"code"`
	Values   []string       `json:"values" nullable:"false"`
	Chain    []string       `json:"chain" nullable:"false" doc:"The names that it goes by, the one asked first"`
	Wildcard bool           `json:"wildcard" doc:"A wildcard answers"`
	Age      estate.Seconds `json:"age" doc:"How long an old answer may be seen, in seconds; -1 where it is not known"`
}

// AnswerRow is a name and a type, as each vantage sees it.
type AnswerRow struct {
	Name    string   `json:"name"`
	Unicode string   `json:"unicode,omitempty" doc:"The name as people write it (RFC 5890), where that is not the same"`
	Zone    string   `json:"zone"`
	Type    string   `json:"type"`
	Answers []Answer `json:"answers" nullable:"false"`
	Differs bool     `json:"differs" doc:"Not all vantages have the same answer"`
	Held    []string `json:"held" nullable:"false" doc:"Who holds the addresses; nobody where no recorded machine does"`
	Used    bool     `json:"used" doc:"Nothing records it by its own name: a site, an intent or a certificate has it"`
}

// AnswersAnswer is what names answer, side by side.
type AnswersAnswer struct {
	From []string    `json:"from" nullable:"false"`
	Rows []AnswerRow `json:"rows" nullable:"false"`
}

func (s *Server) getAnswers(ctx context.Context, in *answersQuery) (*body[AnswersAnswer], error) {
	a := s.asked(ctx)
	out := AnswersAnswer{From: a.compared(in.From), Rows: []AnswerRow{}}
	var vantages []flow.Vantage
	for _, from := range out.From {
		v, err := a.Tracer.VantageNamed(from)
		if err != nil {
			return nil, problem(err)
		}
		vantages = append(vantages, v)
	}
	for _, asked := range a.asked() {
		row := AnswerRow{Name: asked.name, Unicode: names.Unicode(asked.name), Zone: asked.zone, Type: asked.typ, Used: asked.used, Held: []string{}, Answers: []Answer{}}
		some := false
		for _, v := range vantages {
			got := a.Tracer.Answer(asked.name, asked.typ, v)
			one := Answer{Code: got.Code.String(), Values: append([]string{}, got.Values...), Chain: got.Chain, Wildcard: got.Wildcard, Age: -1}
			slices.Sort(one.Values)
			if age, known := got.Age(); known {
				one.Age = age
			}
			some = some || len(one.Values) > 0 || asked.typ == "A" && got.Code != names.NoError
			for _, found := range got.Addresses {
				row.hold(a, found.Addr)
			}
			if len(row.Answers) > 0 && !sameAnswer(row.Answers[0], one) {
				row.Differs = true
			}
			row.Answers = append(row.Answers, one)
		}
		if some || asked.typ == "A" && !asked.six {
			out.Rows = append(out.Rows, row)
		}
	}
	return &body[AnswersAnswer]{out}, nil
}

// hold notes who holds an address.
func (row *AnswerRow) hold(a *analysis, addr netip.Addr) {
	if !addr.IsValid() {
		return
	}
	m := a.Tracer.Model
	var holders []string
	for _, h := range m.Owners(addr) {
		holders = append(holders, m.Places[h.Place].Name)
	}
	if b, ok := m.BlockOf(addr); ok && len(holders) == 0 {
		holders = append(holders, m.Places[b.Place].Name)
	}
	if len(holders) == 0 {
		holders = append(holders, "nobody")
	}
	for _, h := range holders {
		if !slices.Contains(row.Held, h) {
			row.Held = append(row.Held, h)
		}
	}
}

func sameAnswer(a, b Answer) bool {
	return slices.Equal(a.Values, b.Values) && (len(a.Values) > 0 || a.Code == b.Code)
}

// compared reads the vantages; auto stands for those that have answers of their own.
func (a *analysis) compared(list string) []string {
	var out []string
	add := func(from string) {
		if from != "" && !slices.Contains(out, from) && len(out) < mostCompared {
			out = append(out, from)
		}
	}
	for _, word := range strings.Split(list, ",") {
		word = strings.TrimSpace(word)
		if word != "auto" {
			add(word)
			continue
		}
		add("internet")
		for _, from := range a.withAnswers() {
			if len(out) < 4 {
				add(from)
			}
		}
	}
	if len(out) == 0 {
		out = []string{"internet"}
	}
	return out
}

// withAnswers are the vantages that a zone or a record is for.
func (a *analysis) withAnswers() []string {
	var out []string
	note := func(list []estate.Selector) {
		for _, s := range list {
			if _, err := a.Tracer.VantageNamed(s.String()); err == nil && !slices.Contains(out, s.String()) {
				out = append(out, s.String())
			}
		}
	}
	for _, r := range a.Estate.Of(estate.KindNamed("zone")) {
		if z := r.(*estate.Zone); !z.Off {
			note(z.For)
		}
	}
	for _, r := range a.Estate.Of(estate.KindNamed("dns")) {
		if d := r.(*estate.DNS); !d.Off && len(out) < mostCompared {
			note(d.For)
		}
	}
	slices.Sort(out)
	return out
}

// asked is a question worth asking.
type asked struct {
	name, zone, typ string
	used            bool
	six             bool // the name has IPv6 addresses, so that a missing IPv4 address says nothing
}

// asked are all names with the types that somebody recorded for them, the zone's own first, then its www and its
// wildcards, then the rest in their order (RFC 4034 §6.1).
func (a *analysis) asked() []asked {
	types := map[string][]string{}
	note := func(name, typ string) {
		if !slices.Contains(types[name], typ) {
			types[name] = append(types[name], typ)
		}
	}
	owner := map[string]bool{}
	for _, r := range a.Estate.Of(estate.KindNamed("dns")) {
		d := r.(*estate.DNS)
		if d.Off {
			continue
		}
		owner[d.Owner] = true
		switch d.Type {
		case "CNAME", "ALIAS":
			note(d.Owner, "A")
			note(d.Owner, "AAAA")
		case "SOA", "NS", "DNAME":
		default:
			note(d.Owner, d.Type)
		}
	}
	for _, n := range a.Tracer.Names() {
		if !n.Owner && !owner[n.Name] {
			note(n.Name, "A")
			note(n.Name, "AAAA")
		}
	}
	zones := map[string]bool{}
	for _, r := range a.Estate.Of(estate.KindNamed("zone")) {
		if z := r.(*estate.Zone); !z.Off {
			zones[z.Name] = true
		}
	}
	zoneOf := map[string]string{}
	for name := range types {
		for up, ok := name, true; ok && zoneOf[name] == ""; up, ok = names.Parent(up) {
			if zones[up] {
				zoneOf[name] = up
			}
		}
	}
	var order []string
	for name := range types {
		order = append(order, name)
	}
	rank := func(name string) int {
		switch zone := zoneOf[name]; {
		case name == zone:
			return 0
		case name == "www."+zone:
			return 1
		case strings.HasPrefix(name, "*."):
			return 2
		}
		return 3
	}
	slices.SortFunc(order, func(x, y string) int {
		if d := strings.Compare(zoneOf[x], zoneOf[y]); d != 0 {
			return d
		}
		if d := rank(x) - rank(y); d != 0 {
			return d
		}
		return trace.CompareNames(x, y)
	})
	usual := []string{"A", "AAAA", "MX", "TXT"}
	place := func(t string) int {
		if i := slices.Index(usual, t); i >= 0 {
			return i
		}
		return len(usual)
	}
	var out []asked
	for _, name := range order {
		list := types[name]
		slices.SortStableFunc(list, func(x, y string) int {
			if d := place(x) - place(y); d != 0 {
				return d
			}
			return strings.Compare(x, y)
		})
		for _, t := range list {
			out = append(out, asked{name, zoneOf[name], t, !owner[name], slices.Contains(list, "AAAA")})
		}
	}
	return out
}
