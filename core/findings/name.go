package findings

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/names"
	"steady-compass/core/netset"
	"steady-compass/core/serve"
	"steady-compass/core/trace"
)

// everybody asks from the internet.
func (c *survey) everybody() names.Asker { return c.m.AskerAt(model.Nowhere, model.Internet) }

// addressesChanging are the addresses that may change, and those that a machine held once.
func (c *check) addressesChanging() (changing, held map[netip.Addr]*estate.Address) {
	changing, held = map[netip.Addr]*estate.Address{}, map[netip.Addr]*estate.Address{}
	for _, r := range c.m.Estate.Of(estate.KindNamed("address")) {
		switch a := r.(*estate.Address); {
		case a.Off && a.Held.Addr.IsValid():
			held[a.Held.Addr] = a
		case !a.Off && a.Dynamic && a.Network == "internet" && a.Held.Addr.IsValid():
			changing[a.Held.Addr] = a
		}
	}
	return changing, held
}

// values looks at what the records of a name say, each by itself.
func (c *check) values(all []estate.Record, changing, held map[netip.Addr]*estate.Address) {
	for _, r := range all {
		d := r.(*estate.DNS)
		if d.Off {
			continue
		}
		switch addr, _ := netip.ParseAddr(d.Value); {
		case d.Type == "TXT":
			c.staleText(d, all, held)
		case d.Type != "A" && d.Type != "AAAA" || !addr.IsValid():
		case changing[addr] != nil:
			a := changing[addr]
			c.add(Finding{
				Code: "name.pinned", Subject: d.Owner, Records: lines(d, a),
				Why:  fmt.Sprintf("%s is fixed to %s, an address of %s that may change; then the name is wrong until somebody notices.", d.Owner, addr, a.Hosts[0]),
				Mend: &flow.Mend{Remove: lines(d), Add: lines(estate.With(d, func(n *estate.DNS) { n.Value, n.Dynamic = "", a.Hosts[0] }))},
			})
		case len(d.For) == 0 && !netset.GloballyReachable().Contains(addr):
			if zone := c.m.Names.ZoneOf(d.Owner, c.everybody()); zone != nil && len(zone.For) == 0 {
				c.add(Finding{
					Code: "name.private", Subject: d.Owner, Records: lines(d),
					Why: fmt.Sprintf("%s answers %s to everybody, an address that means something only inside.", d.Owner, addr),
				})
			}
		}
	}
}

// unsupportedAnywhere looks at the records of zones that are edited where not everything can be.
func (c *check) unsupportedAnywhere() {
	if !slices.ContainsFunc(c.m.Estate.Of(estate.KindNamed("zone")), func(r estate.Record) bool { return len(r.(*estate.Zone).Without) > 0 }) {
		return
	}
	for _, r := range c.m.Estate.Of(estate.KindNamed("dns")) {
		d := r.(*estate.DNS)
		if d.Off || len(d.For) > 0 {
			continue
		}
		if zone := c.m.Names.ZoneOf(d.Owner, c.everybody()); zone != nil {
			c.unsupported(d, zone)
		}
	}
}

// delegations looks at the zones that are below others.
func (c *check) delegations() {
	zones := map[string]*estate.Zone{}
	for _, r := range c.m.Estate.Of(estate.KindNamed("zone")) {
		if z := r.(*estate.Zone); !z.Off && len(z.For) == 0 && zones[z.Name] == nil {
			zones[z.Name] = z
		}
	}
	for _, z := range zones {
		c.undelegated(z, zones)
	}
}

// unsupported is what the place where a zone is edited cannot do.
func (c *check) unsupported(d *estate.DNS, zone *estate.Zone) {
	switch {
	case strings.HasPrefix(d.Owner, "*.") && slices.Contains(zone.Without, "wildcard"):
		mend := &flow.Mend{Remove: lines(d), Add: []string{}}
		for _, n := range c.t.Names() {
			if n.Owner || strings.Contains(n.Name, "*") {
				continue
			}
			for _, l := range c.m.Names.Ask(n.Name, d.Type, c.everybody()).Links {
				if l.Record == estate.Record(d) {
					mend.Add = append(mend.Add, estate.Line(estate.With(d, func(own *estate.DNS) { own.Owner = n.Name })))
					break
				}
			}
		}
		c.add(Finding{
			Code: "name.unsupported", Subject: d.Owner, Records: lines(d, zone), Mend: mend,
			Why: fmt.Sprintf("%s is a wildcard, and where %s is edited there are none: no name falls to it.", d.Owner, zone.Name),
		})
	case d.Type == "ALIAS" && d.Owner == zone.Name && slices.Contains(zone.Without, "apex-alias"):
		f := Finding{
			Code: "name.unsupported", Subject: d.Owner, Records: lines(d, zone),
			Why: fmt.Sprintf("%s follows %s, and where %s is edited a zone's own name cannot: it takes addresses only.", d.Owner, d.Value, zone.Name),
		}
		mend := &flow.Mend{Remove: lines(d), Add: []string{}}
		v6, v4 := c.m.Names.Addresses(strings.TrimSuffix(d.Value, "."), c.everybody())
		for _, a := range slices.Concat(v4.Addresses, v6.Addresses) {
			if a.Addr.IsValid() {
				mend.Add = append(mend.Add, estate.Line(estate.With(d, func(n *estate.DNS) {
					n.Value, n.Type = a.Addr.String(), "A"
					if a.Addr.Is6() {
						n.Type = "AAAA"
					}
				})))
			}
		}
		if len(mend.Add) > 0 {
			f.Mend = mend
		}
		c.add(f)
	}
}

var addressForm = regexp.MustCompile(`(?i)(ip4:|ip6:)([0-9a-f.:]+)`)

// staleText finds addresses in text records (SPF, RFC 7208 §5.6) that a machine of ours held once. Where an address record of the
// name has one too, that is said as well: all is one finding.
func (c *check) staleText(d *estate.DNS, all []estate.Record, held map[netip.Addr]*estate.Address) {
	for _, m := range addressForm.FindAllStringSubmatch(d.Value, -1) {
		addr, err := netip.ParseAddr(m[2])
		old := held[addr]
		if err != nil || old == nil || len(c.m.Owners(addr)) > 0 {
			continue
		}
		f := Finding{
			Code: "name.stale", Subject: d.Owner, Records: lines(d, old),
			Why: fmt.Sprintf("The text of %s names %s, which %s held once, and no longer: whoever has it now may speak for it.", d.Owner, addr, old.Hosts[0]),
		}
		if slices.ContainsFunc(all, func(r estate.Record) bool {
			o := r.(*estate.DNS)
			return !o.Off && o.Owner == d.Owner && (o.Type == "A" || o.Type == "AAAA") && o.Value == addr.String()
		}) {
			f.Why = fmt.Sprintf("%s leads to %s, which %s held once, and no longer, and its text names it: whoever has it now answers for the name, and may speak for it.", d.Owner, addr, old.Hosts[0])
		}
		if host := c.m.PlaceNamed(old.Hosts[0]); host != nil {
			if now, ok := host.Addr(model.Internet, addr.Is6()); ok {
				f.Mend = &flow.Mend{Remove: lines(d), Add: lines(estate.With(d, func(n *estate.DNS) {
					n.Value = addressForm.ReplaceAllStringFunc(n.Value, func(found string) string {
						if !strings.EqualFold(found, m[0]) {
							return found // another, though it may begin alike
						}
						return m[1] + now.String()
					})
				}))}
			}
		}
		c.add(f)
	}
}

// undelegated is a zone of ours below another of ours that does not say so (RFC 1034 §4.2.1).
func (c *check) undelegated(z *estate.Zone, zones map[string]*estate.Zone) {
	var parent *estate.Zone
	for up, ok := names.Parent(z.Name); ok && parent == nil; up, ok = names.Parent(up) {
		parent = zones[up]
	}
	if parent == nil {
		return
	}
	var servers []*estate.DNS
	for _, r := range c.m.Estate.Of(estate.KindNamed("dns")) {
		d := r.(*estate.DNS)
		if d.Off || d.Type != "NS" || len(d.For) > 0 {
			continue
		}
		switch d.Owner {
		case z.Name:
			return
		case parent.Name:
			servers = append(servers, d)
		}
	}
	f := Finding{
		Code: "name.undelegated", Subject: z.Name, Records: lines(parent, z),
		Why: fmt.Sprintf("%s is a zone of its own, and %s does not hand it on: no NS record says who answers for it.", z.Name, parent.Name),
	}
	if len(servers) > 0 {
		f.Mend = &flow.Mend{Remove: []string{}}
		for _, s := range servers {
			f.Mend.Add = append(f.Mend.Add, estate.Line(estate.With(s, func(n *estate.DNS) { n.Owner = z.Name })))
		}
	}
	c.add(f)
}

// nameKey says what is looked at: a name that some ask otherwise than everybody, a mail record, or a zone.
type nameKey struct {
	split string
	mail  *estate.DNS
	zone  *estate.Zone
}

// namePart is what was found of it.
type namePart struct {
	found []*Finding
	reads memo.Reads
}

// naming is a look at names by what their records bring mail and visitors to.
type naming struct {
	check
	reads memo.Reads
}

// lookAtNames looks at names by where they lead.
func (s *survey) lookAtNames(before *kept[nameKey, *namePart], e edit) *kept[nameKey, *namePart] {
	var keys []nameKey
	if before != nil && estate.Same(e.before.Estate, s.m.Estate, "dns", "zone") {
		keys = before.keys
	} else {
		keys = nameKeys(s.m.Estate)
	}
	next, _ := redo(s.ctx, before, keys, func(_ int, x *namePart) bool { return !e.touch.Reading(&x.reads) }, func(i int) *namePart {
		c := &naming{check: check{survey: *s}}
		switch k := keys[i]; {
		case k.mail != nil:
			c.reads.Asked(k.mail.Owner)
			c.mail(k.mail)
		case k.zone != nil:
			c.reads.Asked(k.zone.Name)
			c.noWWW(k.zone)
		default:
			c.reads.Asked(k.split)
			c.split(k.split)
		}
		return &namePart{c.found, c.reads}
	})
	return next
}

func nameKeys(e *estate.Estate) []nameKey {
	var keys []nameKey
	split := map[string]bool{}
	for _, r := range e.Of(estate.KindNamed("dns")) {
		d := r.(*estate.DNS)
		switch {
		case d.Off:
		case len(d.For) > 0 && !strings.HasPrefix(d.Owner, "*.") && !split[d.Owner]:
			split[d.Owner] = true
			keys = append(keys, nameKey{split: d.Owner})
		case len(d.For) == 0 && d.Type == "MX":
			keys = append(keys, nameKey{mail: d})
		}
	}
	for _, r := range e.Of(estate.KindNamed("zone")) {
		if z := r.(*estate.Zone); !z.Off && len(z.For) == 0 && !strings.HasPrefix(z.Name, "www.") {
			keys = append(keys, nameKey{zone: z})
		}
	}
	return keys
}

// Paths are those that a check followed to a name on a port, from a vantage; what they came by is added to reads. false where it
// followed none.
func (x *Checked) Paths(name string, key flow.PortKey, from string, reads *memo.Reads) ([]trace.Path, bool) {
	for _, w := range x.walksTo(name, reads) {
		if w.key == key && w.from.Word == from {
			return w.paths, true
		}
	}
	return nil, false
}

// walksTo are the walks to a name; what these came by is added to reads.
func (s *survey) walksTo(name string, reads *memo.Reads) []walk {
	var out []walk
	add := func(v *visit, known bool) {
		if known {
			out = append(out, v.walks...)
			reads.And(&v.reads)
		}
	}
	for _, i := range s.t.IntentsOf(name) {
		add(s.walks.intents.find(i))
	}
	for _, from := range s.t.VantagesOf(name) {
		add(s.walks.calls.find(call{name, from}))
	}
	return out
}

// end is how a path ends, and where, if it comes to a place.
func end(p *trace.Path) string {
	words := string(p.Outcome)
	if p.Inner != "" {
		words += fmt.Sprintf(" (%s)", p.Inner)
	}
	words = strings.ReplaceAll(words, "-", " ")
	if p.End != nil && *p.End != "" {
		words += " at " + *p.End
	}
	return words
}

// ends are the different ends of some paths.
func ends(paths []trace.Path, want func(*trace.Path) bool) []string {
	var out []string
	for i := range paths {
		if want(&paths[i]) {
			out = append(out, end(&paths[i]))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// family is a name whose IPv4 and IPv6 addresses end differently.
func (c *check) family(name string, key flow.PortKey, paths []trace.Path) {
	of := func(family string) []string {
		return ends(paths, func(p *trace.Path) bool { return p.Family == family && p.Outcome != flow.Undecided })
	}
	v4, v6 := of("ipv4"), of("ipv6")
	if len(v4) == 0 || len(v6) == 0 || slices.Equal(v4, v6) {
		return
	}
	v6a, v4a := c.m.Names.Addresses(name, c.everybody())
	var records []estate.Record
	for _, a := range slices.Concat(v4a.Addresses, v6a.Addresses) {
		records = append(records, a.Record)
	}
	c.add(Finding{
		Code: "name.family", Subject: name, Records: lines(records...), Trace: &Where{name + ":" + keyWord(key), "internet"},
		Why: fmt.Sprintf("On port %s IPv4 ends otherwise than IPv6: %s; %s. Who meets which hangs on the visitor's network.", keyWord(key), strings.Join(v4, ", "), strings.Join(v6, ", ")),
	})
}

// wildcardCatches is a wildcard whose unknown names reach a default site.
func (c *check) wildcardCatches(name string, key flow.PortKey, paths []trace.Path) {
	if !strings.HasPrefix(name, "*.") {
		return
	}
	for i := range paths {
		site := paths[i].Defaulted()
		if site == nil {
			continue
		}
		var records []estate.Record
		for _, t := range []string{"A", "AAAA"} {
			for _, l := range c.m.Names.Ask(name, t, c.everybody()).Links {
				records = append(records, l.Record)
			}
		}
		c.add(Finding{
			Code: "name.wildcard-catches", Subject: name, Records: lines(append(records, site)...), Trace: &Where{name + ":" + keyWord(key), "internet"},
			Why: fmt.Sprintf("Every name that %s takes and no site has reaches a default site, also those that somebody made up.", name),
		})
		return
	}
}

// split finds a name that ends in different places inside and outside.
func (c *naming) split(name string) {
	var inside []string // askers that have records of their own for it
	for _, r := range c.m.Estate.Of(estate.KindNamed("dns")) {
		if d := r.(*estate.DNS); !d.Off && d.Owner == name {
			for _, s := range d.For {
				if word := s.String(); !slices.Contains(inside, word) {
					inside = append(inside, word)
				}
			}
		}
	}
	for _, w := range c.walksTo(name, &c.reads) {
		outside := ends(w.paths, func(p *trace.Path) bool { return p.Outcome.Good() })
		if w.from.Word != "internet" || len(outside) == 0 {
			continue
		}
		for _, asker := range inside {
			v, err := c.t.VantageNamed(asker)
			if err != nil {
				continue
			}
			paths := c.t.TraceReading(trace.Target{Text: name, Name: name}, w.key, v, &c.reads)
			within := ends(paths, func(p *trace.Path) bool { return p.Outcome.Good() })
			if len(within) == 0 || slices.Equal(within, outside) {
				continue
			}
			var records []estate.Record
			for _, from := range []flow.Vantage{w.from, v} {
				for _, t := range []string{"A", "AAAA"} {
					for _, l := range c.t.Answer(name, t, from).Links {
						records = append(records, l.Record)
					}
				}
			}
			c.add(Finding{
				Code: "name.split", Subject: name, Records: lines(records...), Trace: &Where{name + ":" + keyWord(w.key), asker},
				Why: fmt.Sprintf("From the internet port %s of %s ends at %s, from %s at %s.", keyWord(w.key), name, place(outside), asker, place(within)),
			})
		}
	}
}

func place(list []string) string {
	var out []string
	for _, e := range list {
		_, at, _ := strings.Cut(e, " at ")
		out = append(out, at)
	}
	return joined(out)
}

// mail finds a mail exchanger that cannot be found, is an alias (RFC 2181 §10.3) or takes no mail.
func (c *naming) mail(d *estate.DNS) {
	words := strings.Fields(d.Value)
	if len(words) != 2 {
		return
	}
	target, ok := estate.CleanHostname(words[1])
	if !ok || target == "." { // RFC 7505: no mail is taken, on purpose
		return
	}
	internet, _ := c.t.VantageNamed("internet")
	c.exchanger(d, target, internet)
}

func (c *naming) exchanger(d *estate.DNS, target string, internet flow.Vantage) {
	v6, v4 := c.m.Names.Addresses(target, c.everybody())
	c.reads.Asked(slices.Concat(v6.Chain, v4.Chain)...)
	f := Finding{Code: "name.mail", Subject: d.Owner, Records: lines(d), Trace: &Where{target + ":25", "internet"}}
	for _, l := range slices.Concat(v4.Links, v6.Links) {
		if line := estate.Line(l.Record); !slices.Contains(f.Records, line) {
			f.Records = append(f.Records, line)
		}
	}
	instead := ""
	switch alias := slices.IndexFunc(v4.Links, func(l names.Link) bool { x, ok := l.Record.(*estate.DNS); return ok && x.Type == "CNAME" }); {
	case alias >= 0:
		f.Why = fmt.Sprintf("The mail of %s goes to %s, an alias; some senders do not follow it.", d.Owner, target)
		instead = v4.Last()
	case len(v4.Addresses)+len(v6.Addresses) > 0:
		outcome := c.mailAt(target, internet)
		if outcome.Good() || outcome == flow.Outside || outcome == flow.Undecided {
			return
		}
		f.Why = fmt.Sprintf("The mail of %s goes to %s, which takes none on port 25: %s.", d.Owner, target, outcome)
	case v4.Code == names.Outside || v6.Code == names.Outside:
		return
	default:
		f.Why = fmt.Sprintf("The mail of %s goes to %s, which has no address.", d.Owner, target)
		c.reads.Everywhere()
		for _, n := range c.t.Names() {
			if n.Owner && serve.OneLetterOff(n.Name, target) {
				f.Why = fmt.Sprintf("The mail of %s goes to %s, which has no address; %s is one letter off.", d.Owner, target, n.Name)
				instead = n.Name
			}
		}
	}
	if instead != "" && c.mailAt(instead, internet).Good() {
		preference, _, _ := strings.Cut(d.Value, " ")
		f.Mend = &flow.Mend{Remove: lines(d), Add: lines(estate.With(d, func(n *estate.DNS) { n.Value = preference + " " + instead }))}
	}
	c.add(f)
}

// mailAt is what becomes of mail brought to a name: the best of its addresses, since senders try them all
// (RFC 5321 §5.1).
func (c *naming) mailAt(name string, internet flow.Vantage) flow.Outcome {
	key := flow.PortKey{Port: 25, Transport: netset.TCP}
	paths := c.t.TraceReading(trace.Target{Text: name + ":25", Name: name, Port: 25, Proto: netset.TCP}, key, internet, &c.reads)
	for _, better := range []func(flow.Outcome) bool{
		flow.Outcome.Good,
		func(o flow.Outcome) bool { return o == flow.Outside || o == flow.Undecided },
		func(flow.Outcome) bool { return true },
	} {
		for i := range paths {
			if better(paths[i].Outcome) {
				return paths[i].Outcome
			}
		}
	}
	return flow.Unresolved
}

// nearMisses finds names that are used and that DNS does not know, one letter from one that it does.
func (s *survey) nearMisses(unresolved map[string]bool) []*Finding {
	if len(unresolved) == 0 {
		return nil
	}
	c := check{survey: *s}
	all := c.t.Names()
	var missed []*trace.Name
	for _, n := range all {
		if !n.Owner && unresolved[n.Name] {
			missed = append(missed, n)
		}
	}
	if len(missed) == 0 {
		return nil
	}
	byLength := map[int][]*trace.Name{}
	for _, n := range all {
		if n.Owner {
			byLength[len(n.Name)] = append(byLength[len(n.Name)], n)
		}
	}
	for _, n := range missed {
		for _, length := range []int{len(n.Name) - 1, len(n.Name), len(n.Name) + 1} {
			for _, near := range byLength[length] {
				if near.Zone != n.Zone || !serve.OneLetterOff(near.Name, n.Name) || onlyDigitsDiffer(near.Name, n.Name) {
					continue
				}
				c.add(Finding{
					Code: "name.near-miss", Subject: n.Name, Records: slices.Concat(n.Records, near.Records), Mend: respelt(n, near),
					Why: fmt.Sprintf("%s is one letter from %s, which is recorded: perhaps that is what was meant.", n.Name, near.Name),
				})
			}
		}
	}
	return c.found
}

var digits = regexp.MustCompile(`[0-9]+`)

// onlyDigitsDiffer says whether two names are numbered on purpose, as a1 and a2.
func onlyDigitsDiffer(a, b string) bool {
	return digits.ReplaceAllString(a, "#") == digits.ReplaceAllString(b, "#")
}

// respelt gives the lines that use a name the near one instead; nil where a line of that kind uses that one already.
func respelt(n, near *trace.Name) *flow.Mend {
	mend := &flow.Mend{Remove: []string{}, Add: []string{}}
	for _, line := range n.Records {
		kind, _, _ := strings.Cut(line, " ")
		if slices.ContainsFunc(near.Records, func(other string) bool { return strings.HasPrefix(other, kind+" ") }) {
			return nil
		}
		words := strings.Split(line, " ")
		for i, w := range words {
			parts := strings.Split(w, ",")
			for j, p := range parts {
				if p == n.Name {
					parts[j] = near.Name
				}
			}
			words[i] = strings.Join(parts, ",")
		}
		if changed := strings.Join(words, " "); changed != line {
			mend.Remove, mend.Add = append(mend.Remove, line), append(mend.Add, changed)
		}
	}
	return mend
}

// noWWW finds a zone whose own name is served on the web, and that has no record for www.
func (c *naming) noWWW(z *estate.Zone) {
	www := "www." + z.Name
	v6, v4 := c.m.Names.Addresses(www, c.everybody())
	c.reads.Asked(www)
	c.reads.Asked(slices.Concat(v6.Chain, v4.Chain)...)
	if len(v6.Addresses)+len(v4.Addresses) > 0 || len(v4.Links) > 0 || v4.Code != names.NXDomain {
		return
	}
	served := slices.ContainsFunc(c.walksTo(z.Name, &c.reads), func(w walk) bool {
		return (w.key.Port == 80 || w.key.Port == 443) && w.key.Transport == netset.TCP && slices.ContainsFunc(w.paths, func(p trace.Path) bool { return p.Outcome.Good() })
	})
	if !served {
		return
	}
	var owned []string // the records that give the zone's own name an address
	for _, d := range c.m.Names.Owned(z.Name) {
		if d.Type == "A" || d.Type == "AAAA" || d.Type == "ALIAS" {
			owned = append(owned, estate.Line(d))
		}
	}
	c.add(Finding{
		Code: "name.no-www", Subject: z.Name, Records: owned, Mend: c.withWWW(z.Name, www, c.t.IntentsOf(z.Name)),
		Why: fmt.Sprintf("%s is served on the web, and %s has no record: who types it gets nothing.", z.Name, www),
	})
}

// withoutWWW are the findings of names but for zones whose www is said not to resolve.
func withoutWWW(parts []*namePart, unresolved map[string]bool) []*Finding {
	var out []*Finding
	for _, x := range parts {
		for _, f := range x.found {
			if f.Code != "name.no-www" || !unresolved["www."+f.Subject] {
				out = append(out, f)
			}
		}
	}
	return out
}

// withWWW gives a name's www everything that the name itself has: a record, its sites, its certificates, its intents.
func (c *naming) withWWW(apex, www string, intents []*estate.Intent) *flow.Mend {
	alias := &estate.DNS{Owner: www, Type: "CNAME", Value: apex, TTL: estate.NotGiven, Every: estate.NotGiven}
	if estate.Complete(alias) != nil {
		return nil
	}
	mend := &flow.Mend{Remove: []string{}, Add: lines(alias)}
	swap := func(old, next estate.Record) {
		mend.Remove, mend.Add = append(mend.Remove, estate.Line(old)), append(mend.Add, estate.Line(next))
	}
	beside := map[string]string{} // certificates, and those that are wanted beside them: what is issued has the names that it has
	for _, cert := range c.m.CertsFor[apex] {
		switch {
		case slices.Contains(cert.For, www) || slices.Contains(cert.For, "*."+apex):
		case cert.Expires == "":
			swap(cert, estate.With(cert, func(n *estate.Cert) { n.For = append(slices.Clone(n.For), www) }))
		default:
			free := cert.Name + "-www"
			for i := 2; c.m.Certs[free] != nil; i++ {
				free = fmt.Sprintf("%s-www-%d", cert.Name, i)
			}
			beside[cert.Name] = free
			mend.Add = append(mend.Add, estate.Line(estate.With(cert, func(n *estate.Cert) { n.Name, n.For, n.Expires, n.Trial = free, []string{www}, "", false })))
		}
	}
	for _, site := range c.t.Index.Exact.Of(apex) {
		switch free := beside[site.Cert]; {
		case site.Off || slices.Contains(site.Names, www):
		case free != "":
			mend.Add = append(mend.Add, estate.Line(estate.With(site, func(n *estate.Site) { n.Names, n.Cert = []string{www}, free })))
		default:
			swap(site, estate.With(site, func(n *estate.Site) { n.Names = append(slices.Clone(n.Names), www) }))
		}
	}
	for _, rec := range c.m.Estate.Of(estate.KindNamed("listen")) {
		l := rec.(*estate.Listen)
		var certs []string
		for _, name := range l.Certs {
			if free := beside[name]; free != "" && !l.Off {
				certs = append(certs, free)
			}
		}
		if len(certs) > 0 {
			swap(l, estate.With(l, func(n *estate.Listen) { n.Certs = append(slices.Clone(n.Certs), certs...) }))
		}
	}
	for _, i := range intents {
		mend.Add = append(mend.Add, estate.Line(estate.With(i, func(n *estate.Intent) { n.Target = www })))
	}
	return mend
}
