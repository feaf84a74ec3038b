package authority

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"sync"

	"github.com/miekg/dns"

	"steady-compass/core/model"
	"steady-compass/core/names"
)

// resolve starts the name server that the authority asks: each name has the answer that the internet gets by the records, and each address of it
// is stood in for by one of loopback.
func (a *Authority) resolve(ctx context.Context) (netip.AddrPort, error) {
	var lc net.ListenConfig
	l, err := lc.Listen(ctx, "tcp", "127.0.0.1:0")
	if err != nil {
		return netip.AddrPort{}, err
	}
	r := &resolver{board: a.board, texts: map[string][]string{}}
	srv := &dns.Server{Listener: l, Handler: r, MsgAcceptFunc: func(dns.Header) dns.MsgAcceptAction { return dns.MsgAccept }}
	go func() { _ = srv.ActivateAndServe() }()
	a.closed = append(a.closed, l)
	return l.Addr().(*net.TCPAddr).AddrPort(), nil
}

// resolver answers by the records, and by the TXT records that challenges put in.
type resolver struct {
	board *board
	mu    sync.Mutex
	texts map[string][]string // by owner
}

func (r *resolver) ServeDNS(w dns.ResponseWriter, q *dns.Msg) {
	m := new(dns.Msg).SetReply(q)
	switch {
	case q.Opcode == dns.OpcodeUpdate:
		m.Rcode = r.update(q.Ns)
	case len(q.Question) != 1:
		m.Rcode = dns.RcodeFormatError
	default:
		r.answer(m, strings.TrimSuffix(strings.ToLower(q.Question[0].Name), "."), q.Question[0].Qtype)
	}
	_ = w.WriteMsg(m)
}

// update takes TXT records in and out (RFC 2136 §2.5); a zone's own records stay as they are recorded.
func (r *resolver) update(changes []dns.RR) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, rr := range changes {
		owner := strings.TrimSuffix(strings.ToLower(rr.Header().Name), ".")
		switch t, is := rr.(*dns.TXT); {
		case rr.Header().Class == dns.ClassANY:
			delete(r.texts, owner)
		case !is:
			return dns.RcodeRefused
		case rr.Header().Class == dns.ClassINET:
			r.texts[owner] = append(r.texts[owner], strings.Join(t.Txt, ""))
		}
	}
	return dns.RcodeSuccess
}

func (r *resolver) answer(m *dns.Msg, name string, typ uint16) {
	b := r.board
	answer := b.tracer.Answer(name, dns.TypeToString[typ], b.internet)
	m.Rcode = map[names.Code]int{names.NoError: dns.RcodeSuccess, names.NXDomain: dns.RcodeNameError}[answer.Code]
	if answer.Code == names.Outside {
		m.Rcode = dns.RcodeServerFailure
	}
	head := dns.RR_Header{Name: dns.Fqdn(name), Rrtype: typ, Class: dns.ClassINET}
	switch typ {
	case dns.TypeTXT:
		last := answer.Last()
		if b.model.Names.ZoneOf(last, b.model.AskerAt(model.Nowhere, model.Internet)) == nil {
			return
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		for _, text := range r.texts[last] {
			m.Rcode = dns.RcodeSuccess
			m.Answer = append(m.Answer, &dns.TXT{Hdr: head, Txt: []string{text}})
		}
	case dns.TypeA, dns.TypeAAAA:
		if typ == dns.TypeAAAA && b.IPv4 || len(answer.Addresses) == 0 {
			return
		}
		for i := range answer.Addresses {
			at := answer.Addresses[(i+b.Turn)%len(answer.Addresses)]
			if !at.Addr.IsValid() {
				continue
			}
			stand, err := b.standIn(at.Addr)
			switch {
			case err != nil:
				m.Rcode = dns.RcodeServerFailure
			case typ == dns.TypeA:
				m.Answer = append(m.Answer, &dns.A{Hdr: head, A: stand.AsSlice()})
			default: // there is one IPv6 address of loopback alone: an IPv4 one in its form (RFC 4291 §2.5.5.2)
				mapped := netip.AddrFrom16(stand.As16())
				m.Answer = append(m.Answer, &dns.AAAA{Hdr: head, AAAA: mapped.AsSlice()})
			}
		}
	}
}
