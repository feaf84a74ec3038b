package findings

import (
	"fmt"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/model"
)

// Respelt is the line with the nearest known name in place of the unknown one.
func Respelt(r estate.Record, ref estate.Ref, near string) *flow.Mend {
	if near == "" {
		return nil
	}
	words := strings.Split(estate.Line(r), " ")
	for i, w := range words[1:] {
		parts := strings.Split(w, ",")
		for j, p := range parts {
			switch {
			case p == ref.Name:
				parts[j] = near
			case strings.HasPrefix(p, ref.Name+"="), strings.HasPrefix(p, ref.Name+":"):
				parts[j] = near + p[len(ref.Name):]
			}
		}
		words[i+1] = strings.Join(parts, ",")
	}
	line := strings.Join(words, " ")
	if line == estate.Line(r) {
		return nil
	}
	return &flow.Mend{Remove: []string{estate.Line(r)}, Add: []string{line}}
}

// dated finds what was meant to be over by now.
func (c *check) dated(r estate.Record) {
	meta := r.Meta()
	if _, acceptance := r.(*estate.Acceptance); acceptance || meta.Off || meta.Until == "" || c.day == "" || c.day <= meta.Until {
		return
	}
	c.add(Finding{
		Code: "temporary.expired", Subject: estate.Line(r), Records: []string{estate.Line(r)}, Mend: offLine(r),
		Why: fmt.Sprintf("Meant to be over by %s, and in force still.", meta.Until),
	})
}

// needed says of what was meant to be over by now, and that something meant gets through by, what that is: it cannot just go.
func (s *survey) needed(expired []*Finding) []*Finding {
	if len(expired) == 0 {
		return nil
	}
	late, by := make([]string, len(expired)), map[string]string{}
	for i, f := range expired {
		late[i] = f.Subject
	}
	for v := range s.walks.all() {
		for i := range v.met {
			if m := &v.met[i]; m.lets && slices.Contains(late, m.line) && by[m.line] == "" {
				by[m.line] = m.target
			}
		}
	}
	out := slices.Clone(expired)
	for i, f := range out {
		if by[f.Subject] != "" {
			needed := *f
			needed.Why, needed.Mend = fmt.Sprintf("%s; %s gets through by it.", strings.TrimSuffix(f.Why, "."), by[f.Subject]), nil
			out[i] = &needed
		}
	}
	return out
}

// sites finds sites of services that listen nowhere.
func (c *check) sites() {
	listens := map[string]bool{} // in force or not; asked for where none in force is found
	var services []string
	for _, r := range c.m.Estate.Of(estate.KindNamed("site")) {
		s := r.(*estate.Site)
		if s.Off || c.m.Services[s.Service] != nil {
			continue
		}
		if len(services) == 0 {
			for _, r := range c.m.Estate.Of(estate.KindNamed("listen")) {
				if name := r.(*estate.Listen).Service; !listens[name] {
					listens[name] = true
					services = append(services, name)
				}
			}
		}
		if listens[s.Service] {
			continue
		}
		why := fmt.Sprintf("Nothing listens as %s, so nobody asks this site.", s.Service)
		var mend *flow.Mend
		if near := estate.Nearest(s.Service, services); near != "" {
			why = fmt.Sprintf("Nothing listens as %s, so nobody asks this site; %s does.", s.Service, near)
			mend = &flow.Mend{Remove: []string{estate.Line(s)}, Add: []string{estate.Line(estate.With(s, func(n *estate.Site) { n.Service = near }))}}
		}
		for _, name := range s.Names {
			c.add(Finding{Code: "site.unknown-service", Subject: name + ":" + sitePort(s), Records: []string{estate.Line(s)}, Why: why, Mend: mend})
		}
	}
}

// rivals finds sites of one service that want the same requests: the first in order answers.
func (c *check) rivals(sites []estate.Record) {
	type request struct{ name, path string }
	if service := c.m.Services[sites[0].(*estate.Site).Service]; service != nil {
		same := map[request][]*model.Site{}
		var defaults []*model.Site
		for _, later := range service.Sites {
			subject := service.Name + " " + later.Name
			wants := request{later.Name, later.Record.Path}
			for _, first := range same[wants] {
				if !beside(first, later) {
					continue
				}
				c.add(Finding{
					Code: "conflict.site", Subject: subject, Records: lines(first.Record, later.Record), Mend: without(later),
					Why: fmt.Sprintf("Two sites of %s have the name %s%s; the first answers, the second never.", service.Name, later.Name, pathWords(later.Record.Path)),
				})
			}
			same[wants] = append(same[wants], later)
			if !later.Record.Default || later.Name != later.Record.Names[0] {
				continue
			}
			for _, first := range defaults {
				if !beside(first, later) {
					continue
				}
				c.add(Finding{
					Code: "conflict.default", Subject: subject, Records: lines(first.Record, later.Record),
					Why:  fmt.Sprintf("%s has two default sites on one port; the first, %s, answers.", service.Name, first.Name),
					Mend: &flow.Mend{Remove: lines(later.Record), Add: lines(estate.With(later.Record, func(n *estate.Site) { n.Default = false }))},
				})
			}
			defaults = append(defaults, later)
		}
	}
}

// beside says whether two sites are of two records and picked at an address and port that they share; one that names none is
// picked at all.
func beside(first, later *model.Site) bool {
	a, b := first.Record.At, later.Record.At
	if first.Record == later.Record || a.Addr.IsValid() && b.Addr.IsValid() && a.Addr != b.Addr {
		return false
	}
	return len(a.Ranges) == 0 || len(b.Ranges) == 0 || first.Ports.Overlaps(later.Ports)
}

func pathWords(path string) string {
	if path == "" {
		return ""
	}
	return " and the path " + path
}

// without is a site without one of its names: off, where it has no other.
func without(s *model.Site) *flow.Mend {
	next := estate.With(s.Record, func(n *estate.Site) {
		if len(n.Names) == 1 {
			n.Off = true
			return
		}
		n.Names = slices.DeleteFunc(slices.Clone(n.Names), func(name string) bool { return name == s.Name })
	})
	return &flow.Mend{Remove: lines(s.Record), Add: lines(next)}
}

func sitePort(s *estate.Site) string {
	if len(s.At.Ranges) > 0 {
		return s.At.Ranges[0].String()
	}
	return "443"
}

func lines(records ...estate.Record) []string {
	var out []string
	for _, r := range records {
		if line := estate.Line(r); !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	return out
}
