package webserver

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"steady-compass/core/estate"
	"steady-compass/core/netset"
	"steady-compass/core/notation"
	"steady-compass/intake"
)

// reading is what the configuration would bring to an estate.
func (c *config) reading(e *estate.Estate) intake.Reading {
	r := intake.Reading{Faults: c.faults}
	if len(c.servers) > mostSites {
		c.servers = c.servers[:mostSites]
		c.left = append(c.left, fmt.Sprintf("Only the first %d sites are read.", mostSites))
	}
	w := &writing{config: c, e: e, service: c.serviceAt(e), certs: certsAt(e, c.place), taken: map[string]map[string]*server{}}
	w.both()
	w.listeners()
	for _, p := range c.pools {
		w.pool(p)
	}
	for _, s := range c.servers {
		w.site(s)
	}
	if len(w.records) == 0 && len(c.faults) == 0 {
		c.left = append(c.left, "Nothing of a site or a listener is in it.")
	}
	r.Records, r.Instead, r.Left = w.records, w.instead, c.left
	if !c.missing {
		r.Covers = func(rec estate.Record) bool {
			s, ok := rec.(*estate.Site)
			return ok && s.Service == w.service
		}
	}
	return r
}

// serviceAt is the name of the service: what is recorded at the place where it listens, else a word that no service elsewhere has.
func (c *config) serviceAt(e *estate.Estate) string {
	elsewhere := map[string]bool{}
	for _, rec := range e.Of(estate.KindNamed("listen")) {
		l := rec.(*estate.Listen)
		if l.Place != c.place {
			elsewhere[l.Service] = true
			continue
		}
		for _, b := range c.allBinds() {
			if l.Bind.Transport.String() == transportWord(b.udp) && slices.ContainsFunc(l.Bind.Ranges, func(r netset.PortRange) bool { return int(r.Lo) <= b.port && b.port <= int(r.Hi) }) {
				return l.Service
			}
		}
	}
	if !elsewhere["web"] {
		return "web"
	}
	return "web-" + strings.ReplaceAll(c.place, "/", "-")
}

func transportWord(udp bool) string {
	if udp {
		return "udp"
	}
	return "tcp"
}

func (c *config) allBinds() []bind {
	out := slices.Clone(c.binds)
	for _, s := range c.servers {
		if !s.off {
			out = append(out, s.binds...)
		}
	}
	return out
}

// certsAt are the certificates that are recorded at a place.
func certsAt(e *estate.Estate, place string) map[string]bool {
	out := map[string]bool{}
	for _, rec := range e.Of(estate.KindNamed("cert")) {
		if cert := rec.(*estate.Cert); slices.Contains(cert.On, place) {
			out[cert.Name] = true
		}
	}
	return out
}

// writing is a configuration becoming records.
type writing struct {
	*config
	e       *estate.Estate
	service string
	certs   map[string]bool
	records []estate.Record
	instead []intake.Swap
	taken   map[string]map[string]*server // by address and port: whose each name is
}

// line adds a line of notation; one that cannot be is said.
func (w *writing) line(at position, text string, off bool) estate.Record {
	if off {
		text += " off"
	}
	p, _, err := notation.ParseLine(text)
	if err != nil {
		w.leave(at, "left out, since it cannot be recorded: %v", err)
		return nil
	}
	w.records = append(w.records, p.Record)
	return p.Record
}

// both joins the two families of a port into one where each server is at both in the same way, as they are written nearly always.
func (w *writing) both() {
	type key struct {
		port int
		udp  bool
	}
	v4, v6, apart := map[key]bool{}, map[key]bool{}, map[key]bool{}
	look := func(binds []bind) {
		here4, here6 := map[key]bind{}, map[key]bind{}
		for _, b := range binds {
			k := key{b.port, b.udp}
			switch b.addr {
			case "0.0.0.0":
				here4[k], v4[k] = b, true
			case "[::]":
				here6[k], v6[k] = b, true
			default:
				apart[k] = true
			}
		}
		for k, b := range here4 {
			other, there := here6[k]
			apart[k] = apart[k] || !there || other.tls != b.tls || other.first != b.first
		}
		for k := range here6 {
			if _, there := here4[k]; !there {
				apart[k] = true
			}
		}
	}
	for _, s := range w.servers {
		if !s.off {
			look(s.binds)
		}
	}
	join := func(binds []bind) []bind {
		var out []bind
		for _, b := range binds {
			if k := (key{b.port, b.udp}); v4[k] && v6[k] && !apart[k] {
				if b.addr == "[::]" {
					continue
				}
				b.addr = ""
			}
			out = append(out, b)
		}
		return out
	}
	for _, s := range w.servers {
		s.binds = join(s.binds)
	}
	w.binds = join(w.binds)
}

// listeners brings a line for each address and port that is listened at.
func (w *writing) listeners() {
	type socket struct {
		bind
		position
		certs []string
		off   bool
	}
	var all []*socket
	add := func(b bind, at position, certs []string, off bool) {
		i := slices.IndexFunc(all, func(s *socket) bool { return s.at() == b.at() && s.udp == b.udp })
		if i < 0 {
			all = append(all, &socket{b, at, nil, off})
			i = len(all) - 1
		}
		s := all[i]
		if s.off && !off {
			*s = socket{b, at, nil, off}
		}
		if off == s.off {
			s.tls = s.tls || b.tls
			for _, file := range certs {
				if name := w.cert(at, file); b.tls && name != "" && !slices.Contains(s.certs, name) {
					if b.first { // who sends no name gets this one
						s.certs = slices.Insert(s.certs, 0, name)
					} else {
						s.certs = append(s.certs, name)
					}
				}
			}
		}
	}
	for _, b := range w.binds {
		add(b, position{}, nil, false)
	}
	for _, s := range w.servers {
		for _, b := range s.binds {
			listens, ok := w.listenedAt(b)
			if !ok && s.off {
				continue
			}
			if !ok {
				w.leave(s.position, "nothing listens at %s, so that nobody comes to this site there.", b.at())
				continue
			}
			add(listens, s.position, s.certs, s.off)
		}
	}
	for _, s := range all {
		if s.off && slices.ContainsFunc(all, func(o *socket) bool {
			return !o.off && o.port == s.port && o.udp == s.udp && (o.addr == "" || o.addr == s.addr)
		}) {
			continue // what is in force takes it already
		}
		text := fmt.Sprintf("listen %s %s as %s", w.place, s.at()+map[bool]string{true: "/udp"}[s.udp], w.service)
		if s.tls {
			text += " tls"
		}
		if len(s.certs) > 0 {
			text += " cert " + strings.Join(s.certs, ",")
		}
		if w.inOrder {
			text += " first-answers in-order"
		}
		if w.passthrough && !s.tls {
			text += " passthrough"
		}
		p, _, err := notation.ParseLine(text)
		if err != nil {
			w.leave(s.position, "left out, since it cannot be recorded: %v", err)
			continue
		}
		l := p.Record.(*estate.Listen)
		if old := w.recorded(l); old != nil && !s.off {
			next := estate.With(old, func(o *estate.Listen) {
				o.TLS, o.Certs, o.FirstAnswers, o.InOrder, o.Off = l.TLS, l.Certs, l.FirstAnswers, l.InOrder, false
				if len(l.Certs) == 0 {
					o.Certs = old.Certs
				}
			})
			w.records = append(w.records, next)
			if estate.Line(next) != estate.Line(old) {
				w.instead = append(w.instead, intake.Swap{Old: old, New: next})
			}
			continue
		}
		w.line(s.position, text, s.off)
	}
}

// listenedAt is the socket by which what comes to an address and port is taken, where the configuration says where it listens apart from
// where its servers are.
func (w *writing) listenedAt(b bind) (bind, bool) {
	for _, l := range w.binds {
		if l.port == b.port && l.udp == b.udp && (l.addr == "" || l.addr == b.addr) {
			l.first = b.first
			l.tls = l.tls || b.tls
			return l, true
		}
	}
	return b, len(w.binds) == 0
}

// recorded is the recorded listener of the service at an address and port; nil where there is none.
func (w *writing) recorded(l *estate.Listen) *estate.Listen {
	for _, rec := range w.e.Of(estate.KindNamed("listen")) {
		old := rec.(*estate.Listen)
		if old.Place == l.Place && old.Service == l.Service && old.Bind.String() == l.Bind.String() {
			return old
		}
	}
	return nil
}

// cert is the recorded certificate that a file is; "" where none is, which is said.
func (w *writing) cert(at position, file string) string {
	base := strings.ToLower(path.Base(file))
	for _, ext := range []string{".pem", ".crt", ".cer", ".cert"} {
		base = strings.TrimSuffix(base, ext)
	}
	for _, name := range []string{base, path.Base(path.Dir(strings.ToLower(file)))} {
		if clean := estate.CleanName(name); clean != "" && w.certs[clean] {
			return clean
		}
	}
	if !w.certs["\x00"+file] { // once a file
		w.certs["\x00"+file] = true
		w.leave(at, "the certificate %s is not recorded at %s by that name; its PEM file can be taken over.", file, w.place)
	}
	return ""
}

func (w *writing) pool(p pool) {
	text := strings.TrimSpace("pool " + p.name + " " + p.options)
	rec := w.line(p.position, text, false)
	if rec == nil {
		return
	}
	for _, old := range w.e.Of(estate.KindNamed("pool")) {
		if o := old.(*estate.Pool); o.Name == p.name && estate.Line(o) != estate.Line(rec) {
			w.instead = append(w.instead, intake.Swap{Old: o, New: rec})
		}
	}
	for _, m := range p.members {
		w.line(p.position, "member "+p.name+" "+m, false)
	}
}

// site brings the lines of a server: one for each path, and each way in which it is picked. A name that another server has before it at an
// address and port is that one's there.
func (w *writing) site(s *server) {
	type way struct {
		addr  string
		first bool
		udp   bool
		names string
	}
	ports := map[way][]string{}
	var ways []way
	for _, b := range s.binds {
		k := way{b.addr, b.first, b.udp, strings.Join(w.free(s, b), ",")}
		if ports[k] == nil {
			ways = append(ways, k)
		}
		if port := fmt.Sprint(b.port); !slices.Contains(ports[k], port) {
			ports[k] = append(ports[k], port)
		}
	}
	for _, k := range ways {
		names, isDefault := strings.FieldsFunc(k.names, func(r rune) bool { return r == ',' }), k.first
		if s.stream || len(names) == 0 && isDefault {
			names, isDefault = []string{"*"}, false
		}
		at := strings.Join(ports[k], ",")
		if k.addr != "" {
			at = k.addr + ":" + at
		}
		if k.udp {
			at += "/udp"
		}
		w.locations(s, names, at, isDefault)
	}
}

// free are the names of a server that none before it has at an address and port.
func (w *writing) free(s *server, b bind) []string {
	if s.off {
		return s.names
	}
	key := fmt.Sprintf("%s/%v", b.at(), b.udp)
	if w.taken[key] == nil {
		w.taken[key] = map[string]*server{}
	}
	var out []string
	for _, name := range s.names {
		if before := w.taken[key][name]; before != nil && before != s {
			w.leave(s.position, "%s at %s is left out: the server of %s:%d has it before.", name, b.at(), before.file, before.line)
			continue
		}
		w.taken[key][name] = s
		out = append(out, name)
	}
	return out
}

func (w *writing) locations(s *server, names []string, at string, isDefault bool) {
	if len(names) == 0 && s.off {
		names = []string{"*"}
	}
	if len(names) == 0 && len(s.patterns) > 0 {
		return
	}
	if len(names) == 0 {
		w.leave(s.position, "left out: no name is given that could pick it at %s, and it is not the first there.", at)
		return
	}
	var rest []string // the names that no location has for itself
	for _, name := range names {
		if !slices.ContainsFunc(s.locations, func(l location) bool { return slices.Contains(l.only, name) }) {
			rest = append(rest, name)
		}
	}
	switch {
	case isDefault && s.others:
		isDefault = false
		w.line(s.position, fmt.Sprintf("site %s * at %s %s", w.service, at, unknown), s.off)
	case len(rest) == 0 && isDefault: // what is asked by other names still comes here
		rest, isDefault = []string{"*"}, false
	}
	for _, l := range s.locations {
		of := rest
		if len(l.only) > 0 {
			of = l.only
		}
		if len(of) == 0 {
			continue
		}
		text := fmt.Sprintf("site %s %s at %s", w.service, strings.Join(of, ","), at)
		if l.path != "" {
			text += " path " + l.path
		}
		text += " " + l.action
		if isDefault && !w.inOrder && l.path == "" && len(l.only) == 0 {
			text += " default"
		}
		if l.guard != "" {
			text += " guard " + estate.Quote(l.guard)
		}
		if len(l.sources) > 0 {
			text += " sources " + strings.Join(l.sources, ",")
		}
		for _, file := range s.certs {
			if name := w.cert(s.position, file); name != "" {
				text += " cert " + name
				break
			}
		}
		off := ""
		if s.off {
			off = " off"
		}
		if l.note != "" {
			off += " note " + estate.Quote(l.note)
		}
		w.line(cmp.Or(l.position, s.position), text+off, false)
	}
}
