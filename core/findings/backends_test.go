package findings

import (
	"math/rand/v2"
	"reflect"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/model"
	"steady-compass/core/synth"
	"steady-compass/core/trace"
)

// TestBackends are the hand cases of what stands behind a site: pools and their checks, sign-ins, tunnels, renewals; and a site that
// answers by its bare address.
func TestBackends(t *testing.T) {
	for _, c := range []struct{ edit, want string }{
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to pool apps
		  pool apps in-turn`, `intent.unmet a.example:80,443 (no mend)
		  pool.empty apps (no mend)
		  redirect.dead a.example:80 (no mend)`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to pool apps
		  pool apps in-turn
		  member apps app:3000 out`, `intent.unmet a.example:80,443 (no mend)
		  pool.empty apps (no mend)
		  redirect.dead a.example:80 (no mend)`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to pool apps
		  pool apps in-turn
		  member apps app:3000`, ``},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to pool apps
		  pool apps in-turn check 3000 path /ready every 10s
		  member apps app:3000`, ``},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to pool apps
		  pool apps in-turn check 3001
		  member apps app:3000`, `intent.unmet a.example:80,443
		  pool.check apps
		  pool.down apps
		  redirect.dead a.example:80`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to pool apps
		  pool apps least-busy check 3000
		  member apps app:3000
		  member apps store:3000
		  listen store 3000 as app
		  - intend a.example 80,443 for internet reaching box/app
		  intend a.example 80,443 for internet
		  intend store 3000 for dock`, `intent.unmet store:3000
		  path.blocked store:3000
		  pool.check apps
		  pool.degraded apps`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to pool apps
		  pool apps least-busy check 3000
		  member apps app:3000
		  member apps stroe:3000`, `pool.degraded apps (no mend)
		  record.unknown-reference member apps stroe:3000`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to pool apps
		  pool apps random check 3000 tls
		  member apps app:3000`, `intent.unmet a.example:80,443
		  pool.check apps
		  pool.down apps
		  redirect.dead a.example:80`},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to pool apps
		  pool apps random check 3000
		  member apps app:3000
		  container box/twin in dock
		  listen box/twin 3000 as twin
		  member apps twin:3000 spare`, ``},
		{`- site front a.example at 443 to http://app:3000
		  site front a.example at 443 to pool apps
		  pool apps random check 3000
		  member apps app:3000 out
		  container box/twin in dock
		  listen box/twin 3000 as app
		  member apps twin:3000 spare
		  - intend a.example 80,443 for internet reaching box/app
		  intend a.example 80,443 for internet reaching box/twin`, ``},
		{`pool idle in-turn`, `pool.empty idle (no mend)`},
		{`- site front www.a.example at 443 to http://store:9000
		  site front www.a.example at 443 to http://store:9000 guard sign`, `intent.unmet www.a.example:80,443 (no mend)
		  record.unknown-reference site front www.a.example at 443 to http://store:9000 guard sign (no mend)
		  redirect.dead www.a.example:80 (no mend)
		  upstream.guard www.a.example:443 (no mend)`},
		{`- site front www.a.example at 443 to http://store:9000
		  site front www.a.example at 443 to http://store:9000 guard sign
		  listen store 9091 as sign`, `intent.unmet www.a.example:80,443
		  redirect.dead www.a.example:80
		  upstream.guard www.a.example:443`},
		{`- site front www.a.example at 443 to http://store:9000
		  site front www.a.example at 443 to http://store:9000 guard sign
		  listen store 9091 as sign
		  rule local pass 9091 from box`, ``},
		{`- site front www.a.example at 443 to http://store:9000
		  site front www.a.example at 443 to http://store:9000 guard sign
		  container box/sign in dock
		  listen box/sign 9091 as sign`, ``},
		{`- site front www.a.example at 443 to http://store:9000
		  site front www.a.example at 443 to http://localhost:9000 through up
		  tunnel up from store to 10.0.8.10:7000
		  listen box/front 7000 as relay
		  map box/front 7000 to 7000
		  intend box 7000 for perimeter`, `exposure.thin box:7000/tcp (no mend)`},
		{`- site front www.a.example at 443 to http://store:9000
		  site front www.a.example at 443 to http://localhost:9000 through up
		  tunnel up from store to 10.0.8.10:7000`, `intent.unmet www.a.example:80,443 (no mend)
		  redirect.dead www.a.example:80 (no mend)
		  tunnel.closed up (no mend)`},
		{`- site front www.a.example at 443 to http://store:9000
		  site front www.a.example at 443 to http://localhost:9000 through up
		  tunnel up from store to 10.0.8.10:7000 off`, `intent.unmet www.a.example:80,443 (no mend)
		  redirect.dead www.a.example:80 (no mend)
		  tunnel.closed up (no mend)`},
		{`tunnel up from store to 10.0.8.10:80`, `tunnel.unused up (no mend)`},
		{`- cert star for a.example,*.a.example expires 2027-03-01 on box/front by dns-01
		  cert star for a.example,www.a.example,six.a.example expires 2027-03-01 on box/front by http-01 through front`, ``},
		{`- cert star for a.example,*.a.example expires 2027-03-01 on box/front by dns-01
		  cert star for a.example,www.a.example,six.a.example expires 2027-03-01 on box/front by tls-alpn-01 through front`, ``},
		{`cert other for b.example expires 2027-03-01 on store by dns-01`, `cert.renewal other (no mend)
		  name.unresolved b.example (no mend)`},
		{`zone b.example for perimeter
		  dns _acme-challenge.a.example CNAME proof.b.example`, `cert.renewal star (no mend)`},
		{`dns a.example CAA 0 issue ";"`, `cert.renewal star (no mend)`},
		{`dns a.example CAA 0 issue "ca.example"
		  dns a.example CAA 0 issuewild ";"`, `cert.renewal star (no mend)`}, // of a wildcard
		{`dns a.example CAA 0 issue ";"
		  dns a.example CAA 0 issue "ca.example; account=7"`, ``},
		{`dns a.example CAA 0 iodef "mailto:a@a.example"`, ``},
		{`dns www.a.example CAA 0 issue ";"
		  - dns www.a.example CNAME a.example
		  dns www.a.example A 203.0.113.1
		  cert other for www.a.example expires 2027-03-01 on box/front by dns-01`, `cert.renewal other (no mend)`},
		{`cert other for a.example expires 2027-03-01 on store by http-01 renew 10d every 20d`, `cert.renewal other (no mend)`},
		{`- forward gate 80,443 to 10.0.8.10
		  forward gate 80 to 10.0.8.10
		  forward gate 443 to pool fronts
		  pool fronts in-turn check 443
		  member fronts 10.0.8.10:443`, ``},
		{`forward gate 9000 to pool stores
		  pool stores in-turn check 9000
		  member stores 10.0.8.20:9000`, `pool.check stores
		  pool.down stores`},
		{`- site front www.a.example at 443 to http://store:9000
		  site front www.a.example at 443 to pool stores
		  pool stores in-turn sticky check 9000 path /
		  member stores store:9000
		  member stores twin:9000
		  host twin
		  address twin 10.0.8.21 perimeter
		  listen twin 9000 as files
		  - intend www.a.example 80,443 for internet reaching store
		  intend www.a.example 80,443 for internet
		  intend twin 9000 for dock,perimeter`, `pool.one-network stores (no mend)`},
		{`site front 203.0.113.1 at 443 to http://app:3000`, `exposure.undeclared box:443/tcp
		  exposure.undeclared gate:443/tcp
		  site.by-address 203.0.113.1:443 (no mend)`},
	} {
		holdsCase(t, c.edit, c.want)
	}
}

// TestBackendsAfterEdits makes edits of an estate in which pools, a sign-in, a tunnel and renewals stand, one after the other, and holds
// what is gone on from the check before against a check made anew.
func TestBackendsAfterEdits(t *testing.T) {
	base := edited(t, sound, `- site front a.example at 443 to http://app:3000
- site front www.a.example at 443 to http://store:9000
site front a.example at 443 to pool apps guard sign
site front www.a.example at 443 to http://localhost:9000 through up
pool apps in-turn check 3000 path /
member apps app:3000
member apps store:3000
listen store 3000 as app
listen store 9091 as sign
rule local pass 3000,9091 from box
tunnel up from store to 10.0.8.10:443
forward gate 9443 to pool apps
cert other for a.example expires 2027-03-01 on box/front by http-01 through front`)
	edits := 0
	for seed := uint64(1); seed <= 6; seed++ {
		r := rand.New(rand.NewPCG(seed, 55))
		e := base
		was, err := Check(t.Context(), trace.New(model.Compile(e), day), day)
		if err != nil {
			t.Fatal(err)
		}
		var gone []estate.Record
		for range 40 {
			c, kept := synth.Edit(r, e, gone)
			next, err := e.Apply(c)
			if err != nil {
				continue
			}
			gone, e = kept, next
			now, err := was.After(t.Context(), was.t.After(e))
			if err != nil {
				t.Fatal(err)
			}
			if anew := check1(e); !reflect.DeepEqual(now.Report, anew) {
				t.Fatalf("seed %d, after %v\ngone on %v\nanew    %v", seed, c, said(now.Report), said(anew))
			}
			was = now
			edits++
		}
	}
	if edits < 150 {
		t.Errorf("only %d edits could be made", edits)
	}
}
