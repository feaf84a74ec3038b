package fetch

import (
	"context"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
)

func TestParseKey(t *testing.T) {
	for _, c := range []struct{ text, want, wrong string }{
		{"k:hmac-sha512:c2VjcmV0", "k hmac-sha512 c2VjcmV0", ""},
		{"k.example.:c2VjcmV0", "k.example. hmac-sha256 c2VjcmV0", ""},
		{"k:HMAC-SHA1:c2VjcmV0", "k hmac-sha1 c2VjcmV0", ""},
		{"k:hmac-md4:c2VjcmV0", "", `"hmac-md4" is no algorithm`},
		{"k:hmac-sha256:not base64", "", "not base64"},
		{"k", "", "NAME:ALGORITHM:SECRET"},
		{":c2VjcmV0", "", "NAME:ALGORITHM:SECRET"},
		{"", "", "NAME:ALGORITHM:SECRET"},
	} {
		k, err := ParseKey(c.text)
		switch {
		case c.wrong != "":
			if err == nil || !strings.Contains(err.Error(), c.wrong) {
				t.Errorf("%q: %v, want a word about %s", c.text, err, c.wrong)
			}
		case err != nil || k.Name+" "+k.Algorithm+" "+k.Secret != c.want:
			t.Errorf("%q: %+v %v, want %s", c.text, k, err, c.want)
		}
	}
}

// TestTransferOfNothing meets servers that do not listen, do not answer, and answer nonsense; each ends with a word.
func TestTransferOfNothing(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := Transfer(t.Context(), "a.test", address, nil); err == nil || !strings.Contains(err.Error(), "does not answer") {
		t.Errorf("nobody listens: %v", err)
	}
	for _, says := range []string{"", "\x00\x05hello", strings.Repeat("x", 4000)} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			c, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = c.Write([]byte(says))
			if says != "" {
				_ = c.Close()
			}
		}()
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		if records, err := Transfer(ctx, "a.test", l.Addr().String(), nil); err == nil {
			t.Errorf("a server that says %.10q sent %d records", says, len(records))
		}
		cancel()
		_ = l.Close()
	}
}

// TestTransferThatNeverEnds meets a server that goes on sending records: it is left when they are too many, too large, or have
// taken too long in all.
func TestTransferThatNeverEnds(t *testing.T) {
	for _, c := range []struct {
		most  bounds
		pause time.Duration
		want  string
	}{
		{bounds{50, 1 << 20, time.Minute}, 0, "more than 50 records"},
		{bounds{1_000_000, 1 << 20, time.Minute}, 0, "larger than 1 MB"},
		{bounds{1_000_000, 1 << 20, 300 * time.Millisecond}, 20 * time.Millisecond, "takes longer than 300ms"},
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go endless(l, c.pause)
		if records, err := c.most.transfer(t.Context(), "a.test", l.Addr().String(), nil); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%d records, and %v, want %q", len(records), err, c.want)
		}
		_ = l.Close()
	}
}

// endless answers one transfer without an end.
func endless(l net.Listener, pause time.Duration) {
	raw, err := l.Accept()
	if err != nil {
		return
	}
	c := &dns.Conn{Conn: raw}
	defer func() { _ = c.Close() }()
	asked, err := c.ReadMsg()
	if err != nil {
		return
	}
	soa, err := dns.NewRR("a.test. 60 IN SOA ns.a.test. root.a.test. 1 2 3 4 5")
	if err != nil {
		return
	}
	for n := 0; ; n++ {
		m := new(dns.Msg).SetReply(asked)
		if n == 0 {
			m.Answer = []dns.RR{soa}
		}
		for i := range 20 {
			rr, err := dns.NewRR(fmt.Sprintf("n%d-%d.a.test. 60 IN A 192.0.2.1", n, i))
			if err != nil {
				return
			}
			m.Answer = append(m.Answer, rr)
		}
		if c.WriteMsg(m) != nil {
			return
		}
		time.Sleep(pause)
	}
}
