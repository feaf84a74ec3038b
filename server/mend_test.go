package server

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/demo"
)

const unserved = `network lan 192.168.1.0/24
host gate router
host box
address gate 203.0.113.7 internet
address gate 192.168.1.1 lan
address box 192.168.1.10 lan
zone example.org
dns www.example.org A 203.0.113.7
forward gate 80 to 192.168.1.10
filter edge on gate through otherwise drop
listen box 80 as web
`

// TestMend tries a mend over the wire: it opens what nobody declared, holds once that is declared, and is wrong where it cannot
// be made. Nothing is kept.
func TestMend(t *testing.T) {
	h := served(t, unserved)
	q := MendQuestion{
		Remove: []string{}, Add: []string{"rule edge at 1 pass 80 from internet to box"},
		Code: "path.blocked", Target: "www.example.org", From: "internet", Port: 80,
	}
	got := decoded[MendAnswer](t, call(t, h, "POST", "/api/mend", q), 200)
	if got.Holds || len(got.Against) == 0 || !strings.Contains(got.Against[0], "203.0.113.7:80 on box to the internet, which no intent covers") {
		t.Errorf("without an intent: %+v", got)
	}
	if got.Declaring == nil || !slices.Contains(got.Declaring.Add, "intend www.example.org 80 for internet") {
		t.Fatalf("with what declares it: %+v", got.Declaring)
	}
	q.Add = got.Declaring.Add
	if got := decoded[MendAnswer](t, call(t, h, "POST", "/api/mend", q), 200); !got.Holds || got.Declaring != nil || len(got.Effect.Names) != 1 {
		t.Errorf("declared: %+v", got)
	}
	q.Add = []string{"rule edge at 1 pass any"} // it lets in nothing but what is forwarded
	if got := decoded[MendAnswer](t, call(t, h, "POST", "/api/mend", q), 200); got.Holds {
		t.Errorf("everything let in: %+v", got)
	}
	for _, wrong := range []MendQuestion{
		{Remove: []string{"rule edge pass 1"}, Add: []string{}},
		{Remove: []string{}, Add: []string{"rule edge"}},
		{Remove: []string{}, Add: []string{}},
	} {
		if w := call(t, h, "POST", "/api/mend", wrong); w.Code < 400 || w.Code >= 500 {
			t.Errorf("%+v is answered %d %s", wrong, w.Code, w.Body)
		}
	}
	if text := call(t, h, "GET", "/api/state", nil).Body.String(); !strings.Contains(text, `"revision":1`) {
		t.Errorf("something was kept: %s", text)
	}
}

// TestOtherMends: beside the mend of a finding another reading of the mistake is offered, once it was tried and holds.
func TestOtherMends(t *testing.T) {
	h := served(t, demo.Estate)
	q := MendQuestion{Remove: []string{"dns mail.fernmoor.example A 198.51.100.9"}, Add: []string{"dns mail.fernmoor.example A 203.0.113.20"}, Code: "name.stale", Subject: "mail.fernmoor.example"}
	got := posted[OtherMends](t, h, "/api/mend/others", q).Others
	if len(got) != 1 || !slices.Equal(got[0].Mend.Add, []string{"address meridian 198.51.100.9 internet"}) || got[0].Ends < 2 || got[0].Short == "" {
		t.Errorf("%+v", got)
	}
	if none := posted[OtherMends](t, h, "/api/mend/others", MendQuestion{Remove: []string{}, Add: []string{}, Code: "cert.expiring", Subject: "ridge"}).Others; len(none) != 0 {
		t.Errorf("for what only the world can know: %+v", none)
	}
}
