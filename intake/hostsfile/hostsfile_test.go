package hostsfile

import (
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/intake"
)

func parsed(t *testing.T, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return e
}

const file = "# ours\r\n127.0.0.1 localhost\n::1 ip6-localhost ip6-loopback\nff02::1 ip6-allnodes\n10.0.0.1\tone.example  one # the first\n2001:db8::1 one.example\n\nnonsense two\n10.0.0.3\n10.0.0.4 four fo..ur\n"

func TestRead(t *testing.T) {
	r := Read("hosts", file, "box")
	var got []string
	for _, rec := range r.Records {
		got = append(got, estate.Line(rec))
	}
	if want := "name one.example 10.0.0.1 on box\nname one 10.0.0.1 on box\nname one.example 2001:db8::1 on box\nname four 10.0.0.4 on box"; strings.Join(got, "\n") != want {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), want)
	}
	var faults []string
	for _, f := range r.Faults {
		faults = append(faults, f.String())
	}
	want := `hosts:8:1: "nonsense" is no address; expected an IPv4 or IPv6 address
hosts:9:1: no name stands behind the address; expected a name
hosts:10:15: "fo..ur" is no host name; expected a host name`
	if strings.Join(faults, "\n") != want {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(faults, "\n"), want)
	}
	if len(r.Left) != 1 || !strings.HasPrefix(r.Left[0], "4 names") {
		t.Errorf("left out: %v", r.Left)
	}
}

// TestOverrides: names that somebody leads to loopback, or to nowhere, are kept and come back; the system's own are not.
func TestOverrides(t *testing.T) {
	const file = "127.0.0.1 localhost box\n127.0.0.1 app.example tracker.example\n0.0.0.0 ads.example\n::1 localhost six.example\n"
	r := Read("hosts", file, "box")
	e := estate.New(append([]estate.Record{estate.Made(&estate.Host{Name: "box"})}, r.Records...), nil)
	text := Write(e, "box")
	if want := "127.0.0.1\tapp.example tracker.example\n0.0.0.0\tads.example\n::1\tsix.example\n"; text != want {
		t.Errorf("got %q, want %q", text, want)
	}
	if p := intake.Compare(e, Read("hosts", file, "box")); len(p.Add)+len(p.Change)+len(p.Gone) > 0 || p.Leave != 4 {
		t.Errorf("it comes back otherwise: %+v", p)
	}
}

// TestThereAndBack writes what is recorded, and reads it without a change; another address takes the old one's place.
func TestThereAndBack(t *testing.T) {
	e := parsed(t, "host box\nname one 10.0.0.1 on box note \"n\"\nname two 10.0.0.1 on box\nname six 2001:db8::1 on box\nname off 10.0.0.9 on box off\nname one 10.0.0.2 on other\n")
	text := Write(e, "box")
	if want := "10.0.0.1\tone two\n2001:db8::1\tsix\n"; text != want {
		t.Errorf("got %q, want %q", text, want)
	}
	if p := intake.Compare(e, Read("hosts", text, "box")); len(p.Add)+len(p.Change)+len(p.Gone) > 0 || p.Leave != 3 {
		t.Errorf("it comes back otherwise: %+v", p)
	}
	p := intake.Compare(e, Read("hosts", "10.0.0.7 one\n10.0.0.1 two\n", "box"))
	if len(p.Change) != 1 || estate.Line(p.Change[0].New) != `name one 10.0.0.7 on box note "n"` || len(p.Gone) != 1 || len(p.Add) != 0 {
		t.Errorf("another address: %+v", p)
	}
}
