package findings

import (
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/memo"
	"steady-compass/core/model"
	"steady-compass/core/serve"
)

// backKey is a record that something stands behind (a pool, a tunnel, a certificate that is renewed), and the places that hand to it.
type backKey struct {
	record estate.Record
	from   string
}

// backPart is what is found of one of them.
type backPart struct {
	reads memo.Reads
	found []*Finding
}

// lookBehind looks at pools, tunnels and renewals, by flows of their own; what the edit leaves alone stands.
func (x *Checked) lookBehind(before *kept[backKey, *backPart], e edit) (parts *kept[backKey, *backPart], found, renewals []*Finding) {
	var keys []backKey
	handing := x.handing()
	for _, kind := range []string{"pool", "tunnel", "cert"} {
		for _, r := range x.m.Estate.Of(estate.KindNamed(kind)) {
			if r.Meta().Off {
				continue
			}
			var from []string
			switch r := r.(type) {
			case *estate.Pool:
				from = handing.pools[r.Name]
			case *estate.Tunnel:
				from = handing.tunnels[r.Name]
			}
			keys = append(keys, backKey{r, strings.Join(from, ",")})
		}
	}
	parts, _ = redo(x.ctx, before, keys, func(_ int, p *backPart) bool { return !e.touch.Reading(&p.reads) }, func(i int) *backPart {
		c := check{survey: x.survey}
		p := &backPart{}
		var from []*model.Place
		for name := range strings.SplitSeq(keys[i].from, ",") {
			if place := x.m.PlaceNamed(name); place != nil {
				from = append(from, place)
			}
		}
		switch r := keys[i].record.(type) {
		case *estate.Pool:
			if x.m.Pools[r.Name] == r {
				c.pool(r, from, &p.reads)
			}
		case *estate.Tunnel:
			if x.m.Tunnels[r.Name] == r {
				c.tunnel(r, from, &p.reads)
			}
		case *estate.Cert:
			if x.m.Certs[r.Name] == r {
				c.renewal(r, &p.reads)
			}
		}
		p.found = c.found
		return p
	})
	for _, p := range parts.values {
		for _, f := range p.found {
			if f.Code == "cert.expiring" {
				renewals = append(renewals, f)
			} else {
				found = append(found, f)
			}
		}
	}
	return parts, found, renewals
}

// handing are the places that hand to each pool, and through each tunnel, in the order written.
type handing struct{ pools, tunnels map[string][]string }

func (x *Checked) handing() handing {
	h := handing{map[string][]string{}, map[string][]string{}}
	add := func(to map[string][]string, name, place string) {
		if !slices.Contains(to[name], place) {
			to[name] = append(to[name], place)
		}
	}
	for _, r := range x.m.Estate.Of(estate.KindNamed("site")) {
		s := r.(*estate.Site)
		if s.Off || s.Pool == "" && s.Through == "" {
			continue
		}
		service := x.m.Services[s.Service]
		if service == nil {
			continue
		}
		for _, l := range service.Listens {
			if s.Through != "" {
				add(h.tunnels, s.Through, l.Place)
			}
			if tunnel := x.m.Tunnels[s.Through]; s.Pool != "" && tunnel != nil {
				add(h.pools, s.Pool, tunnel.From)
			} else if s.Pool != "" {
				add(h.pools, s.Pool, l.Place)
			}
		}
	}
	for _, r := range x.m.Estate.Of(estate.KindNamed("forward")) {
		if f := r.(*estate.Forward); !f.Off && f.Pool != "" {
			add(h.pools, f.Pool, f.Router)
		}
	}
	return h
}

// pool says of a pool whether its members are in service, as those see them who hand to it.
func (c *check) pool(pool *estate.Pool, from []*model.Place, reads *memo.Reads) {
	members := c.m.Members[pool.Name]
	records := []estate.Record{pool}
	for _, m := range members {
		records = append(records, m)
	}
	if len(from) == 0 {
		if b := serve.NobodyServes(pool.Name, unchecked(members)); b.Code == "pool.empty" {
			c.add(Finding{Code: b.Code, Subject: pool.Name, Why: b.Why, Records: lines(records...)})
		}
	}
	unknown := map[*estate.Member]bool{}
	for _, place := range from {
		all := c.t.Standings(pool.Name, place, reads)
		var wrong []serve.Standing
		serving := 0
		for _, s := range all {
			switch {
			case s.Serves:
				serving++
			case s.Came != "":
				wrong = append(wrong, s)
				unknown[s.Member] = unknown[s.Member] || s.Came == flow.Unresolved && s.Break == nil
			}
		}
		switch {
		case serving == 0:
			b := serve.NobodyServes(pool.Name, all)
			c.add(Finding{Code: b.Code, Subject: pool.Name, Why: b.Why, Records: lines(records...), Mend: b.Mend, keys: causesOf(wrong)})
		case len(wrong) > 0:
			var why []string
			for _, s := range wrong {
				why = append(why, s.Why)
			}
			c.add(Finding{
				Code: "pool.degraded", Subject: pool.Name, Records: lines(records...), Mend: checkMends(wrong), keys: causesOf(wrong),
				Why: fmt.Sprintf("Of %d members of pool %s %s. %s", len(all), pool.Name, inService(serving), strings.Join(why, " ")),
			})
		}
		c.checks(pool, place, wrong)
	}
	for _, m := range members {
		if unknown[m] {
			c.add(Finding{
				Code: "record.unknown-reference", Subject: estate.Line(m), Records: lines(m), Mend: c.nearestMember(m),
				Why: fmt.Sprintf("No host, container or name %s is recorded.", m.At.Host),
			})
		}
	}
	c.oneNetwork(pool, members, from)
}

func inService(n int) string {
	if n == 1 {
		return "1 is in service"
	}
	return fmt.Sprintf("%d are in service", n)
}

// unchecked are members as they stand by their lines alone.
func unchecked(members []*estate.Member) []serve.Standing {
	var out []serve.Standing
	for _, m := range members {
		out = append(out, serve.Standing{Member: m, Serves: !m.Out, Out: m.Out})
	}
	return out
}

// checks says which checks of a pool do not succeed.
func (c *check) checks(pool *estate.Pool, from *model.Place, wrong []serve.Standing) {
	for _, s := range wrong {
		if s.Came == flow.Unresolved && s.Break == nil {
			continue // there is nothing to check
		}
		f := Finding{Code: "pool.check", Subject: pool.Name, Records: lines(pool, s.Member), Mend: checkMends([]serve.Standing{s}), keys: causesOf([]serve.Standing{s})}
		f.Why = fmt.Sprintf("From %s the check of %s does not succeed: it ends %s.", from.Name, s.Member.At, strings.ReplaceAll(string(s.Came), "-", " "))
		if s.Break != nil {
			f.Why += " " + s.Break.Why
			f.Records = append(f.Records, s.Break.Records...)
		}
		c.add(f)
	}
}

// causesOf are the keys of what stops some checks, each once.
func causesOf(wrong []serve.Standing) []string {
	var out []string
	for _, s := range wrong {
		if s.Cause != "" && !slices.Contains(out, s.Cause) {
			out = append(out, s.Cause)
		}
	}
	return out
}

// checkMends are the mends of what stops some checks; nil where one has none.
func checkMends(wrong []serve.Standing) *flow.Mend {
	var breaks []flow.Break
	for _, s := range wrong {
		if s.Break == nil {
			return nil
		}
		breaks = append(breaks, *s.Break)
	}
	return serve.JoinMends(breaks)
}

// nearestMember is the member at the only place whose name is one letter from its own; nil where none is.
func (c *check) nearestMember(m *estate.Member) *flow.Mend {
	near := ""
	for _, p := range c.m.Places {
		if serve.OneLetterOff(p.Name, m.At.Host) {
			if near != "" {
				return nil
			}
			near = p.Name
		}
	}
	if near == "" {
		return nil
	}
	return &flow.Mend{Remove: lines(m), Add: lines(estate.With(m, func(n *estate.Member) { n.At.Host = near }))}
}

// oneNetwork says of a pool of two members or more that all of them stand on one network.
func (c *check) oneNetwork(pool *estate.Pool, members []*estate.Member, from []*model.Place) {
	shared, counted := model.NoNet, 0
	for _, m := range members {
		if m.Out {
			continue
		}
		at := model.NoNet
		for _, place := range from {
			for _, a := range c.t.AddressesOfEndpoint(place, m.At) {
				if nets := c.m.NetworksAround(a); len(nets) > 0 {
					at = nets[0]
				}
			}
		}
		if at == model.NoNet || at == model.Internet || counted > 0 && at != shared {
			return
		}
		shared = at
		counted++
	}
	if counted < 2 {
		return
	}
	records := []estate.Record{pool}
	for _, m := range members {
		records = append(records, m)
	}
	c.add(Finding{
		Code: "pool.one-network", Subject: pool.Name, Records: lines(records...),
		Why: fmt.Sprintf("All members of pool %s are on %s: what takes that down takes all of them.", pool.Name, c.m.Networks[shared].Name),
	})
}

// tunnel says of a tunnel whether it can be dialled to whoever hands on through it, and whether anybody does.
func (c *check) tunnel(tunnel *estate.Tunnel, from []*model.Place, reads *memo.Reads) {
	if p := c.m.PlaceNamed(tunnel.From); p != nil {
		reads.Place(p.ID)
	}
	if len(from) == 0 {
		c.add(Finding{Code: "tunnel.unused", Subject: tunnel.Name, Records: lines(tunnel), Why: fmt.Sprintf("No site is handed through tunnel %s.", tunnel.Name)})
		return
	}
	for _, place := range from {
		reads.Place(place.ID)
		if b, _, _ := c.t.Dialled(tunnel.Name, place, reads, nil); b != nil {
			c.add(Finding{Code: b.Code, Subject: tunnel.Name, Why: b.Why, Records: lines(tunnel), Mend: b.Mend, keys: []string{b.Key}})
			return
		}
	}
}

// renewal says of a certificate that is renewed by a method whether its challenge gets in, for each of its names.
func (c *check) renewal(cert *estate.Cert, reads *memo.Reads) {
	if cert.By == "" || cert.By == "hand" {
		return
	}
	if slices.ContainsFunc(cert.For, func(name string) bool { return !serve.Provable(cert.By, name) }) { // cert.method says so
		return
	}
	for _, name := range cert.For {
		f := Finding{Code: "cert.renewal", Subject: cert.Name, Records: lines(cert)}
		switch cert.By {
		case "http-01":
			f.Trace = &Where{"http://" + name + serve.WellKnown, "internet"}
		case "tls-alpn-01":
			f.Trace = &Where{name + ":443", "internet"}
		}
		got := c.t.Challenge(cert, name, reads)
		switch {
		case got.Works && got.Only4:
			f.Level = Warning
			f.Why = fmt.Sprintf("The challenge of %s for %s gets in by IPv4 only: by IPv6, which is tried first, it ends %s.", cert.Name, name, strings.ReplaceAll(string(got.Came), "-", " "))
		case got.Works:
			continue
		case got.Break != nil && got.Break.Code == "cert.renewal": // nobody may issue it
			f.Why = fmt.Sprintf("Nobody may issue %s for %s: %s", cert.Name, name, got.Why)
			f.Trace = nil
		default:
			f.Why = fmt.Sprintf("The challenge of %s for %s, by %s, does not get in: %s", cert.Name, name, cert.By, got.Why)
		}
		if got.Break != nil {
			f.Mend, f.keys = got.Break.Mend, []string{got.Cause}
			f.Records = append(f.Records, got.Break.Records...)
		}
		c.add(f)
		if !got.Works {
			c.lasting(cert, false)
		}
		return
	}
	if cert.Every != estate.NotGiven && cert.Renew != estate.NotGiven && cert.Every > cert.Renew {
		c.add(Finding{
			Code: "cert.renewal", Level: Warning, Subject: cert.Name, Records: lines(cert),
			Why: fmt.Sprintf("Certificate %s is tried each %s, and is to be renewed within %s: it may be too late by then.", cert.Name, cert.Every, cert.Renew),
		})
	}
}
