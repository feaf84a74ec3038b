package findings

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/look"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/trace"
)

// With is the report with what was looked at and is not as recorded. kept are looks held against the records as they are, the newest first.
func (x *Checked) With(kept []look.Kept) Report {
	if len(kept) == 0 {
		return x.Report
	}
	found := map[findingID]*Finding{}
	s := sightings{t: x.t, found: found, said: map[findingID][]saying{}}
	for i := range kept {
		s.differing(&kept[i])
	}
	for id, all := range s.said {
		found[id].Why = sentences(all)
	}
	s.old(kept)
	s.never(kept)
	return x.reportAfter(x.Report, found, true)
}

// OfLook says whether a code is of what was looked at: its mend brings the records to what is, and changes nothing that is.
func OfLook(code string) bool { return strings.HasPrefix(code, "seen.") }

// sightings gathers what looks say.
type sightings struct {
	t     *trace.Tracer
	found map[findingID]*Finding
	said  map[findingID][]saying
}

// saying is what looks say of one thing, and from where and when they were made.
type saying struct {
	what string
	by   []string
}

// sentences are what looks say of one thing, in words.
func sentences(all []saying) string {
	var out []string
	for _, s := range all {
		out = append(out, fmt.Sprintf("%s. Looked at from %s UTC.", capitalised(s.what), strings.Join(s.by, ", and from ")))
	}
	return strings.Join(out, " ")
}

// say notes what a look says.
func (s *sightings) say(id findingID, l *look.Look) {
	by := fmt.Sprintf("%s on %s", l.From, l.At.UTC().Format("2006-01-02 15:04"))
	for i := range s.said[id] {
		one := &s.said[id][i]
		if one.what != l.Says {
			continue
		}
		if !slices.ContainsFunc(one.by, func(other string) bool { return strings.HasPrefix(other, l.From+" on ") }) { // the newest of each vantage
			one.by = append(one.by, by)
		}
		return
	}
	s.said[id] = append(s.said[id], saying{l.Says, []string{by}})
}

// add notes a finding; one that is there already takes in what more was seen, and is as bad as the worst of it.
func (s *sightings) add(f Finding) findingID {
	m := f.made()
	known := s.found[m.id]
	if known == nil {
		s.found[m.id] = m
		return m.id
	}
	if m.Level.Rank() < known.Level.Rank() {
		known.Level = m.Level
	}
	if !strings.Contains(known.Why, m.Why) {
		known.Why = strings.TrimSpace(known.Why + " " + m.Why)
	}
	for _, r := range m.Records {
		if !slices.Contains(known.Records, r) {
			known.Records = append(known.Records, r)
		}
	}
	if known.Mend == nil {
		known.Mend = m.Mend
	}
	return m.id
}

// subjectOf is what a look is about: a name, or a name or address with its port.
func subjectOf(l *look.Look) string {
	name, port := l.Aim()
	if port == 0 {
		return name
	}
	key := flow.PortKey{Port: port, Transport: netset.TCP}
	if strings.HasSuffix(l.Target, "/udp") {
		key.Transport = netset.UDP
	}
	return look.HostPort(name, key)
}

// differing notes a look that is otherwise than recorded. What is said of one address and port, or of one certificate, is one mistake.
func (s *sightings) differing(l *look.Kept) {
	if l.Agrees != look.Differs || l.Old || l.Finding == "" {
		return
	}
	told := look.Tell(s.t, &l.Look)
	f := Finding{
		Seen: true, Code: l.Finding, Level: l.Level, Subject: subjectOf(&l.Look), Records: told.Records, Trace: whereOf(&l.Look),
	}
	if len(told.Add) > 0 {
		f.Mend = &flow.Mend{Remove: told.Remove, Add: told.Add}
	}
	f.keys = []string{f.Code + " " + f.Subject}
	switch _, port := l.Aim(); {
	case l.Did == look.Connect:
		f.keys = []string{fmt.Sprintf("%s %s:%d", f.Code, l.Address, port)}
	case l.Did == look.TLS && len(f.Records) == 1:
		f.keys = []string{f.Code + " " + f.Records[0]}
	}
	s.say(s.add(f), &l.Look)
}

func capitalised(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

func whereOf(l *look.Look) *Where {
	name, port := l.Aim()
	if port == 0 {
		return &Where{Target: name, From: l.From}
	}
	return &Where{Target: subjectOf(l), From: l.From}
}

// old notes names and ports of which all looks from a vantage are from before the last change of what they hang on.
func (s *sightings) old(kept []look.Kept) {
	type place struct{ subject, from string }
	fresh := map[place]bool{}
	for i := range kept {
		if l := &kept[i]; !l.Old && l.Came != look.NotLooked {
			fresh[place{subjectOf(&l.Look), l.From}] = true
		}
	}
	for i := range kept {
		l := &kept[i]
		subject := subjectOf(&l.Look)
		if !l.Old || l.Came == look.NotLooked || fresh[place{subject, l.From}] {
			continue
		}
		fresh[place{subject, l.From}] = true // once
		s.add(Finding{
			Code: look.SeenOld, Subject: subject, Trace: whereOf(&l.Look), keys: []string{look.SeenOld},
			Why: fmt.Sprintf("It was looked at from %s on %s, and what it hangs on has changed since.", l.From, l.At.UTC().Format("2006-01-02")),
		})
	}
}

// never notes intents that nobody has looked at from a vantage that counts: for whom the intent is, somebody among these, or, of what is for
// nobody, the internet.
func (s *sightings) never(kept []look.Kept) {
	type aim struct {
		name string
		port uint16
	}
	from := map[aim][]string{}
	for i := range kept {
		l := &kept[i]
		name, port := l.Aim()
		if a := (aim{name, port}); l.Came != look.NotLooked && port != 0 && !slices.Contains(from[a], l.From) {
			from[a] = append(from[a], l.From)
		}
	}
	byName := map[string][]uint16{}
	for a := range from {
		byName[a.name] = append(byName[a.name], a.port)
	}
	counts := s.counting()
	for _, i := range s.t.Model.Intents {
		if strings.HasPrefix(i.Target, "*") {
			continue // nobody can ask for it
		}
		ports := i.Ports.Set()
		var without []string
		for _, who := range i.For {
			audience := cmp.Or(who.Name, who.Word)
			if audience == "nobody" {
				audience = "internet"
			}
			looked := slices.ContainsFunc(byName[i.Target], func(port uint16) bool {
				return (i.Ports.Any || ports.Contains(port)) && slices.ContainsFunc(from[aim{i.Target, port}], func(v string) bool { return counts(v, audience) })
			})
			if audience != "" && !looked {
				without = append(without, audience)
			}
		}
		if len(without) > 0 {
			s.add(Finding{
				Code: look.SeenNever, Subject: i.Target, Records: []string{estate.Line(i)}, Trace: &Where{Target: i.Target, From: without[0]}, keys: []string{look.SeenNever},
				Why: fmt.Sprintf("Nobody has looked at port %s of it from %s.", i.Ports, strings.Join(without, ", ")),
			})
		}
	}
}

// counting says of vantages whether what is seen there counts for an audience: it is the audience, or somebody among it.
func (s *sightings) counting() func(vantage, audience string) bool {
	m := s.t.Model
	netsOf := func(word string) []model.NetID {
		var out []model.NetID
		if v, err := s.t.VantageNamed(word); err == nil {
			for _, o := range v.Origins {
				if o.Place == model.Nowhere {
					out = append(out, o.Net)
				}
			}
		}
		return out
	}
	return func(vantage, audience string) bool {
		if vantage == audience {
			return true
		}
		p := m.PlaceNamed(vantage)
		if p == nil {
			return false
		}
		return slices.ContainsFunc(netsOf(audience), func(n model.NetID) bool { return n != model.Internet && p.Attachment(n) != nil })
	}
}
