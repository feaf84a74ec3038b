package findings

import (
	"strings"
	"testing"
)

// TestSentencesOfIdleLines holds what is said of a line of a filter that takes nothing against what is there: where something listens
// after all, inside a container, and where the line that is in the way stands behind it.
func TestSentencesOfIdleLines(t *testing.T) {
	const box = `network lan 10.1.0.0/24
network dock 172.20.0.0/24 on box
host box
address box 10.1.0.10 lan
container box/c in dock=172.20.0.5
listen box/c 80 as web
listen box 22 as sshd
`
	for _, test := range []struct{ lines, code, want string }{
		{"filter f on box input otherwise drop\nrule f pass 80\nmap box/c 8080 to 80\n", "order.unused", "box itself has nothing on 80: box/c listens there inside it, and flows come to that by map box/c 8080 to 80."},
		{"filter f on box input otherwise drop\nrule f pass 80\n", "order.unused", "box itself has nothing on 80: box/c listens there inside it, and nothing leads to that from outside."},
		{"filter f on box input otherwise drop\nrule f pass 81\n", "order.unused", "Nothing on box listens on 81."},
		{"filter f on box input otherwise drop drop-wins\nrule f pass 22\nrule f drop 22\n", "order.shadowed", "Line 1 of filter f takes nothing: line 2, ahead of it by drop-wins, drops all that it names."},
		{"filter f on box input otherwise drop\nrule f drop 22\nrule f pass 22\n", "order.shadowed", "Line 2 of filter f takes nothing: line 1 before it drops all that it names."},
	} {
		var said []string
		for _, f := range looked(t, reread(t, box+test.lines)).Findings {
			if f.Code == test.code {
				said = append(said, f.Why)
			}
		}
		if got := strings.Join(said, "\n"); got != test.want {
			t.Errorf("%s\nsays %q\nwant %q", test.lines, got, test.want)
		}
	}
}

// TestSentenceOfFamilies holds what is said of a name whose two families end differently against how they end: a flow that comes to no
// place of ours ends at none.
func TestSentenceOfFamilies(t *testing.T) {
	const estate = `network lan 10.1.0.0/24
host gate router
address gate 203.0.113.7 internet
address gate 10.1.0.1 lan
host box
address box 10.1.0.10 lan
zone example.org
dns www.example.org A 203.0.113.7
dns www.example.org AAAA 2001:db8:1::9
forward gate 80 to 10.1.0.10
listen box 80 as front
`
	for _, test := range []struct{ lines, want string }{
		{"", "On port 80 IPv4 ends otherwise than IPv6: arrives at box:80; outside. Who meets which hangs on the visitor's network."},
		{"site front www.example.org to http://10.1.0.10:3000\n", "On port 80 IPv4 ends otherwise than IPv6: gateway error (refused) at box:80; outside. Who meets which hangs on the visitor's network."},
	} {
		var said []string
		for _, f := range looked(t, reread(t, estate+test.lines)).Findings {
			if f.Code == "name.family" {
				said = append(said, f.Why)
			}
		}
		if got := strings.Join(said, "\n"); got != test.want {
			t.Errorf("%s\nsays %q\nwant %q", test.lines, got, test.want)
		}
	}
}

// TestWhatHidesBehind holds findings against what hides behind the first thing that is seen: an address behind a text, a folder in the
// clear behind one that is redirected, an asker behind a rewriting that a list of sources lets in.
func TestWhatHidesBehind(t *testing.T) {
	const estate = `zone a.example
network lan 10.0.0.0/24
host gate router
host web
address gate 203.0.113.1 internet
address gate 203.0.113.9 internet off
address gate 10.0.0.1 lan
address web 10.0.0.5 lan
dns a.example A 203.0.113.1
dns old.a.example TXT "v=spf1 ip4:203.0.113.9 -all"
forward gate 80,443 to 10.0.0.5 hairpin
listen web 80 as front
listen web 443 as front tls
cert c for a.example expires 2027-10-01 on web
site front a.example at 443 files "/srv/www"
`
	for _, test := range []struct{ lines, code, want, mend string }{
		{"site front a.example at 80 to http://localhost:9000 sources 198.51.100.0/25\noutbound gate from any leaving lan as 10.0.0.1\nlisten web 9000 as app\nintend a.example 80 for 198.51.100.0/25", "site.sources", "The site lets in 198.51.100.0/25 only, and sees whoever asks as 10.0.0.1, the source that gate gives on the way. (from 198.51.100.0/25)", ""},
		{"site front a.example at 80 to http://localhost:9000\nlisten web 9000 as app\nforward gate 9000 to 10.0.0.5\nintend a.example 80 for internet", "exposure.bypass", "Anyone on the internet reaches app on web at 203.0.113.1 around its front web.\nLan reaches app on web at 10.0.0.5 around its front web.", ""},
		{"", "name.stale", "The text of old.a.example names 203.0.113.9, which gate held once, and no longer: whoever has it now may speak for it.", ""},
		{"dns old.a.example A 203.0.113.9", "name.stale", "old.a.example leads to 203.0.113.9, which gate held once, and no longer, and its text names it: whoever has it now answers for the name, and may speak for it.", ""},
		{"site front a.example at 80 redirect https", "exposure.plaintext", "", ""},
		{"site front a.example at 80 path /x redirect https\nsite front a.example at 80 files \"/srv/www\"", "exposure.plaintext", "Anyone on the internet reaches site a.example of front on web at 203.0.113.1, and what is said there can be read on the way.", `site front a.example at 80 files "/srv/www" => site front a.example at 80 redirect https`},
		{"site front a.example at 80 files \"/srv/a\" sources lan\noutbound gate from any leaving lan as 10.0.0.1\nintend a.example 80 for lan reaching web", "exposure.wider", "Open to more than it is meant for: for lan, and anyone on the internet reaches it too, at site a.example of front on web at 203.0.113.1.", " => "},
	} {
		var said, mends []string
		for _, f := range looked(t, reread(t, estate+test.lines+"\n")).Findings {
			if f.Code != test.code {
				continue
			}
			said = append(said, f.Why)
			if f.Mend == nil {
				mends = append(mends, " => ")
				continue
			}
			mends = append(mends, strings.Join(f.Mend.Remove, "; ")+" => "+strings.Join(f.Mend.Add, "; "))
		}
		if got := strings.Join(said, "\n"); got != test.want {
			t.Errorf("%s\nsays %q\nwant %q", test.lines, got, test.want)
		}
		if got := strings.Join(mends, "\n"); test.mend != "" && got != test.mend {
			t.Errorf("%s\nmends %q\nwant %q", test.lines, got, test.mend)
		}
	}
}
