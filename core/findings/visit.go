package findings

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/netset"
	"steady-compass/core/serve"
	"steady-compass/core/trace"
)

// visit is all that is walked for one intent, or for one name from one vantage.
type visit struct {
	walks []walk
	reads memo.Reads
	found []*Finding
	// unrecorded is a name that something uses and DNS does not know: a fault where no walk says so already.
	unrecorded *Finding

	keeps  []keep
	met    []lineMet
	fronts []serve.Front
	at     []model.PlaceID // the places of met and fronts
}

// walk is one trace that a check makes.
type walk struct {
	label string // the target with its port, as a trace is asked for
	key   flow.PortKey
	from  flow.Vantage
	paths []trace.Path
}

// lineMet is a line that a walk came by.
type lineMet struct {
	line    string
	at      string // the place
	target  string // what the walk is to
	port    uint16
	lets    bool // the line let it on
	filter  bool // the line is of a filter, and the port the one that it met
	stopped bool // the line stopped it
}

// visiting is a visit on the way.
type visiting struct {
	check
	*visit
	intended bool     // the visit is an intent's
	wildcard bool     // to the unknown names of a wildcard
	users    []string // the lines that use the name, where none records it
}

// goes follows a target and notes the breaks of its paths.
func (c *visiting) goes(target trace.Target, label string, key flow.PortKey, from flow.Vantage) []trace.Path {
	paths := c.t.TraceReading(target, key, from, &c.reads)
	c.walks = append(c.walks, walk{label, key, from, paths})
	return paths
}

// intent walks from everybody whom an intent is for.
func (c *visiting) intent(i *estate.Intent) {
	a := &aim{intent: i}
	c.intended = true
	c.reads.Asked(i.Target)
	if tg, err := c.t.ParseTarget(i.Target); err == nil {
		defer c.thin(i, tg)
		for _, s := range i.For {
			v, err := c.t.VantageNamed(s.String())
			if s.Word == "nobody" || err != nil {
				continue
			}
			for _, key := range portKeys(i.Ports) {
				paths := c.goes(tg, i.Target+":"+keyWord(key), key, v)
				if tg.Name != "" {
					c.catches(tg.Name, keyWord(key), v, paths)
					c.leads(tg.Name, key, v, paths)
				}
				c.paths(i.Target+":"+keyWord(key), v.Word, paths)
				c.hold(a, key, v, paths)
			}
		}
	}
	c.aim(a)
}

// name walks to a name at its ports, where no intent does.
func (c *visiting) name(n *trace.Name, v flow.Vantage) {
	tg := trace.Target{Text: n.Name, Name: n.Name}
	c.wildcard = strings.HasPrefix(n.Name, "*.")
	if !n.Owner {
		c.users = n.Records
	}
	c.reads.Asked(n.Name)
	ports, known := c.t.PortsReading(n.Name, &v, &c.reads)
	intents := c.t.IntentsOf(n.Name)
	var all []trace.Path
	for _, k := range ports {
		if slices.ContainsFunc(intents, func(i *estate.Intent) bool { return amongKeys(i.Ports, k) && c.isForSomebody(i) }) {
			continue
		}
		paths := c.goes(tg, n.Name+":"+keyWord(k), k, v)
		c.catches(n.Name, keyWord(k), v, paths)
		c.leads(n.Name, k, v, paths)
		if known {
			c.paths(n.Name+":"+keyWord(k), v.Word, paths)
		}
		all = append(all, paths...)
	}
	if !known && len(all) > 0 && !slices.ContainsFunc(all, func(p trace.Path) bool { return p.Outcome.Good() }) {
		c.paths(n.Name, v.Word, all[:1]) // nothing gives a port: once is enough
	}
	if !n.Owner && v.Word == "internet" && !c.t.AddressedAnywhere(n.Name, &c.reads) && !c.t.InHostsFile(n.Name) && !c.t.OnlyAskedInside(n.Name) {
		c.unrecorded = Finding{
			Code: "name.unresolved", Subject: n.Name, Records: n.Records, Trace: &Where{n.Name, "internet"},
			Why: fmt.Sprintf("%s is used here, and no record gives it an address.", n.Name),
		}.made()
	}
}

// isForSomebody says whether a word of an intent's audience is recorded, or nobody: else it is walked as if it were not there.
func (c *visiting) isForSomebody(i *estate.Intent) bool {
	return slices.ContainsFunc(i.For, func(s estate.Selector) bool {
		_, err := c.t.VantageNamed(s.String())
		return s.Word == "nobody" || err == nil
	})
}

// leads looks at a name by where it leads.
func (c *visiting) leads(name string, key flow.PortKey, v flow.Vantage, paths []trace.Path) {
	c.redirectMissing(trace.Target{Text: name, Name: name}, key, v, paths)
	if v.Word == "internet" {
		c.family(name, key, paths)
		c.wildcardCatches(name, key, paths)
	}
}

// paths notes the breaks of paths, and the lines that they come by.
func (c *visiting) paths(target string, from string, paths []trace.Path) {
	for i := range paths {
		p := &paths[i]
		if f := p.OneSided(); f != nil && p.Outcome.Good() {
			c.add(Finding{
				Code: "path.one-sided", Subject: target, Records: lines(f), Trace: &Where{target, from},
				Why: fmt.Sprintf("The replies go another way than by %s, whose state of the flow stays half: it works, and a filter that tracks strictly would end it.", f.Name),
			})
		}
		if p.Outcome == flow.Arrives {
			c.cleartext(target, from, p)
		}
		c.remember(p, target)
		for _, b := range p.Breaks {
			if c.asIntended(p, &b) {
				continue
			}
			f := Finding{Code: b.Code, Subject: b.Subject, Why: b.Why, Records: b.Records, Mend: b.Mend, Trace: &Where{target, from}, keys: []string{p.Cause(&b)}}
			switch {
			case b.Code == "redirect.dead":
				f.keys = pathKeys(p)
			case b.Code == "name.unresolved" && len(c.users) > 0: // it is only used, and not recorded
				f.keys = []string{flow.RecordCause(c.users[0])}
			}
			if from != "internet" {
				f.Why += fmt.Sprintf(" (from %s)", from)
			}
			if f.Subject == "" {
				f.Subject = target
			}
			c.add(f)
		}
	}
}

// asIntended says whether a break is no fault of a name that no intent speaks of: an unknown name of a wildcard that goes unanswered,
// one denied whom nothing admits, and a port that is only asked at while a certificate is proved.
func (c *visiting) asIntended(p *trace.Path, b *flow.Break) bool {
	code := b.Code
	if !c.intended && code == "path.no-listener" {
		return c.provedThere(p, b)
	}
	if c.intended || code != "site.none" && code != "site.sources" && code != "redirect.dead" {
		return false
	}
	return p.Outcome == flow.Denied || c.wildcard && p.Outcome == flow.Unanswered
}

// provedThere says whether nobody listens where a path stops but while a certificate is proved there.
func (c *visiting) provedThere(p *trace.Path, b *flow.Break) bool {
	place := c.m.PlaceNamed(b.At)
	if place == nil {
		return false
	}
	for _, r := range c.m.ProvedAt(place).Ranges() {
		if p.Cause(b) == flow.NoListener(place.Name, fmt.Sprint(r.Lo), "tcp") {
			return true
		}
	}
	return false
}

// remember notes which lines a path meets, those of filters with their ports, and what stands before what.
func (c *visiting) remember(p *trace.Path, target string) {
	for _, f := range p.Fronts() {
		if f.To != "" {
			c.fronts = append(c.fronts, f)
		}
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		m := lineMet{at: s.At, target: target, lets: s.Verdict == flow.Pass}
		if s.Stage == flow.StageFilter {
			if port := portIn(s.Flow.To); port > 0 {
				m.filter, m.stopped, m.port = true, s.Verdict == flow.Broken, port
			}
		}
		if !m.lets && !m.filter {
			continue
		}
		for _, m.line = range s.Records {
			if !slices.Contains(c.met, m) {
				c.met = append(c.met, m)
			}
		}
	}
}

// portIn is the port of an address and port; 0 where it has none.
func portIn(to string) uint16 {
	port, err := strconv.ParseUint(to[strings.LastIndexByte(to, ':')+1:], 10, 16)
	if err != nil {
		return 0
	}
	return uint16(port)
}

// done is the visit, with the places that it came by.
func (c *visiting) done() *visit {
	v := c.visit
	v.found = c.check.found
	add := func(name string) {
		if p := c.m.PlaceNamed(name); p != nil && !slices.Contains(v.at, p.ID) {
			v.at = append(v.at, p.ID)
		}
	}
	last := ""
	for i := range v.met {
		if v.met[i].at != last {
			last = v.met[i].at
			add(last)
		}
	}
	for i := range v.fronts {
		add(v.fronts[i].To)
	}
	return v
}

// widest is how many ports of an intent are walked one by one.
const widest = 64

func portKeys(p estate.Ports) []flow.PortKey {
	var out []flow.PortKey
	if p.Any || p.Count() > widest {
		return nil
	}
	for _, t := range p.Transport.Each() {
		for _, r := range p.Ranges {
			for port := int(r.Lo); port <= int(r.Hi); port++ {
				out = append(out, flow.PortKey{Port: uint16(port), Transport: t})
			}
		}
	}
	return out
}

// amongKeys says whether ports that are walked one by one have a port among them.
func amongKeys(p estate.Ports, k flow.PortKey) bool {
	return !p.Any && p.Count() <= widest && p.Transport&k.Transport != 0 && p.Set().Contains(k.Port)
}

func keyWord(k flow.PortKey) string {
	if k.Transport == netset.UDP {
		return fmt.Sprintf("%d/udp", k.Port)
	}
	return fmt.Sprint(k.Port)
}

// catches notes a name that lands on a default site.
func (c *visiting) catches(name, port string, v flow.Vantage, paths []trace.Path) {
	for i := range paths {
		p := &paths[i]
		site := p.Defaulted()
		if site == nil || slices.ContainsFunc(p.Breaks, func(b flow.Break) bool { return b.Code == "path.wrong-place" }) {
			continue
		}
		c.add(Finding{
			Code: "site.default-answers", Subject: name + ":" + port, Records: lines(site), Trace: &Where{name + ":" + port, v.Word},
			Why: fmt.Sprintf("No site has the name %s; the default one answers in its place.", name),
		})
	}
}
