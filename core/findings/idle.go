package findings

import (
	"fmt"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/names"
)

// idle notes a line that can never do anything, as it stands.
func (c *check) idle(r estate.Record, form string, words ...any) {
	c.add(Finding{Code: "record.without-effect", Subject: estate.Line(r), Records: lines(r), Mend: offLine(r), Why: fmt.Sprintf(form, words...)})
}

// idleMaps finds maps of containers that nothing can be mapped into.
func (c *check) idleMaps() {
	for _, host := range c.m.Places {
		for _, mp := range host.Maps {
			if mp.Net != model.NoNet || mp.Container == model.Nowhere {
				continue
			}
			if at := c.m.Places[mp.Container]; at.Namespace == host.ID {
				c.idle(mp.Record, "%s shares the ports of %s: what it listens on is there already, and no map takes anything.", at.Name, host.Name)
			} else if container, is := at.Record.(*estate.Container); is && len(container.In) == 0 { // else a network of it is not recorded
				c.idle(mp.Record, "%s is in no network, so nothing can be mapped into it.", at.Name)
			}
		}
	}
}

// idleRoutes finds routes by a router that the machine has no network in common with: it cannot hand anything to it.
func (c *check) idleRoutes() {
	for _, r := range c.m.Estate.Of(estate.KindNamed("route")) {
		route := r.(*estate.Route)
		host := c.m.PlaceNamed(route.Host)
		if route.Off || host == nil || !route.Via.IsValid() || len(host.Attachments) == 0 || c.onLink(host, route) {
			continue
		}
		c.idle(route, "%s is in no network that %s is on, so nothing can be handed to it.", route.Via, host.Name)
	}
}

// onLink says whether what a route leads by is in a network of the machine, or held by somebody on one.
func (c *check) onLink(host *model.Place, route *estate.Route) bool {
	for i := range host.Attachments {
		net := c.m.Networks[host.Attachments[i].Net]
		if net.ID == model.Internet || net.Set.Contains(route.Via) {
			return true
		}
		for _, h := range c.m.Owners(route.Via) {
			if c.m.Places[h.Place].Attachment(net.ID) != nil {
				return true
			}
		}
	}
	return false
}

// idleOutbounds finds rewritings of what leaves by a network that the router is not on.
func (c *check) idleOutbounds() {
	for _, router := range c.m.Places {
		for _, o := range router.Outbounds {
			if net := c.m.NetNamed(o.Record.Leaving); net != nil && len(router.Attachments) > 0 && router.Attachment(net.ID) == nil {
				c.idle(o.Record, "%s is not on %s, so nothing leaves it there.", router.Name, net.Name)
			}
		}
	}
}

// idleSites finds sites at ports, or at an address, where their service does not listen.
func (c *check) idleSites() {
	for _, r := range c.m.Estate.Of(estate.KindNamed("site")) {
		site := r.(*estate.Site)
		service := c.m.Services[site.Service]
		if site.Off || len(site.At.Ranges) == 0 || service == nil {
			continue
		}
		ports, asked := site.At.Set(), false
		for _, l := range service.Listens {
			asked = asked || l.Bind.Set().Overlaps(ports)
		}
		if !asked {
			c.idle(site, "%s does not listen on %s, so nobody asks this site.", service.Name, site.At.Ports)
		}
	}
}

// idleDNS finds records below a delegation or a DNAME: what is asked there is answered by that (RFC 1034 §4.2.1, RFC 6672 §2.4). The
// addresses of the name servers themselves are for the parent to give.
func (c *check) idleDNS() {
	cuts := map[string]*estate.DNS{}
	servers, zones := map[string]bool{}, map[string]bool{}
	for _, r := range c.m.Estate.Of(estate.KindNamed("zone")) {
		if z := r.(*estate.Zone); !z.Off && len(z.For) == 0 {
			zones[z.Name] = true
		}
	}
	all := c.m.Estate.Of(estate.KindNamed("dns"))
	for _, r := range all {
		d := r.(*estate.DNS)
		if d.Off || len(d.For) > 0 || d.Type != "NS" && d.Type != "DNAME" {
			continue
		}
		if d.Type == "NS" {
			servers[strings.TrimSuffix(strings.ToLower(d.Value), ".")] = true
			if zones[d.Owner] {
				continue
			}
		}
		cuts[d.Owner] = d
	}
	if len(cuts) == 0 {
		return
	}
	for _, r := range all {
		d := r.(*estate.DNS)
		if d.Off || len(d.For) > 0 || servers[d.Owner] && (d.Type == "A" || d.Type == "AAAA") {
			continue
		}
		at := d.Owner
		if cut := cuts[at]; cut == nil || cut.Type == "DNAME" || d.Type == "NS" || d.Type == "DS" { // itself it is not below
			at, _ = names.Parent(at)
		}
		for ok := at != ""; ok; at, ok = names.Parent(at) {
			if zones[at] && (cuts[at] == nil || at == d.Owner) {
				break
			}
			if cut := cuts[at]; cut != nil {
				c.idle(d, "%s, so this is never answered.", cutWords(cut))
				break
			}
		}
	}
}

func cutWords(cut *estate.DNS) string {
	if cut.Type == "DNAME" {
		return fmt.Sprintf("Whatever is below %s is %s's by its DNAME", cut.Owner, strings.TrimSuffix(cut.Value, "."))
	}
	return fmt.Sprintf("%s is delegated to %s, whose zone is not recorded here", cut.Owner, strings.TrimSuffix(cut.Value, "."))
}
