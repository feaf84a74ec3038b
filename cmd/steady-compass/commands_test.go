package main

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/demo"
	"steady-compass/lab/gateway"
	"steady-compass/store"
)

const small = `network lan 10.0.0.0/24
host gate router
host box
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address box 10.0.0.2 lan
zone a.example ttl 1h
dns a.example A 203.0.113.1
dns www.a.example CNAME a.example
forward gate 443 to 10.0.0.2
listen box 443 as web tls cert c
cert c for a.example expires 2027-01-01 on box
intend a.example 443 for internet reaching box
`

// call runs a command as a shell would; the estate on standard input is the small one where none is given.
func call(t *testing.T, stdin string, args ...string) (code int, out, errs string) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	code = run(context.Background(), args, streams{strings.NewReader(stdin), &stdout, &stderr})
	return code, stdout.String(), stderr.String()
}

// TestCommands ties each command to its exit code, what it prints and what it complains of.
func TestCommands(t *testing.T) {
	for _, c := range []struct {
		stdin, args string
		code        int
		out, errs   string
	}{
		{small, "trace a.example --estate -", 0, "arrives", ""},
		{small, "trace www.a.example --estate -", 1, "cert.names", ""},
		{small, "trace none.a.example --estate -", 1, "name.unresolved", ""},
		{small + "dns bücher.a.example A 203.0.113.1\n", "trace bücher.a.example --estate -", 1, "(bücher.a.example)", ""},
		{small, "trace elsewhere.test --estate -", 0, "outside", ""},
		{small, "trace a.example --from moon --estate -", 2, "", `--from: no such vantage: "moon"`},
		{small, "trace www.a.example --svg --estate -", 1, "cert.names</text>", ""},
		{small, "trace ://x --estate -", 2, "", "not a target"},
		{small, "compare a.example:443 --other-from lan --estate -", 0, "+ a.example:443 from lan: refused", ""},
		{small, "compare a.example:443 www.a.example:443 --estate -", 0, "- 443/tcp  203.0.113.1  arrives\n+ 443/tcp  203.0.113.1  untrusted", ""},
		{small, "compare a.example --estate -", 2, "", "nothing to compare with"},
		{small, "compare a.example --other-from moon --estate -", 2, "", `--other-from: no such vantage: "moon"`},
		{small, "compare a.example --revision 2 --estate -", 2, "", "expected --db FILE"},
		{small, "trace a.example", 2, "", "no estate to ask"},
		{"hots gate\nlisten box 443\n", "trace a.example --estate -", 2, "", "-:1:1: no kind of record is called \"hots\""},
		{"hots gate\nlisten box 443\n", "check --estate -", 2, "", "-:2:"},
		{small, "check --estate - --day 2026-12-01", 1, "cert.names", ""},
		{small, "check --estate - --day 2026-12-01", 1, "+ cert web for www.a.example on box", ""},
		{small, "check --estate - --day 2026-12-01 --json --mends", 1, `"cert web for www.a.example on box"`, ""},
		{strings.Replace(small, "for a.example e", "for a.example,www.a.example e", 1), "check --estate - --day 2026-12-01", 0, "0 errors", ""},
		{strings.Replace(small, "for a.example e", "for a.example,www.a.example e", 1), "check --estate - --day 2026-12-01 --fail-on note", 0, "0 notes", ""},
		{small, "check --estate - --day 2026-13-01", 2, "", "expected a date"},
		{small, "exposure --estate -", 0, "203.0.113.1", ""},
		{small, "exposure --from lan --estate -", 0, "10.0.0.2", ""},
		{small, "exposure --estate - --against nowhere.estate", 2, "", "nowhere.estate"},
		{small, "answer www.a.example --estate -", 0, "203.0.113.1", ""},
		{small, "answer none.a.example MX --estate -", 0, "NXDOMAIN", ""},
		{small, "fmt -", 0, "network   lan 10.0.0.0/24", ""},
		{"host a\nhost", "fmt -", 2, "", "-:2:"},
		{small, "export zone a.example --estate -", 0, "www IN CNAME a.example.", ""},
		{small, "export zone b.example --estate -", 2, "", "no zone b.example is recorded"},
		{small, "export hosts moon --estate -", 2, "", "no host or container"},
		{"$TTL 60\nx A 192.0.2.1\n", "import zone - --zone b.example", 0, "dns       x.b.example A 192.0.2.1", ""},
		{"$TTL 60\nx A 192.0.2.1\ny A 1\n", "import zone - --zone b.example", 2, "", "-:3:5: \"1\" cannot stand in a record of type A"},
		{"$TTL 60\nx A 192.0.2.1\ny A 1\n", "import zone - --zone b.example --keep-rest", 0, "dns       x.b.example A 192.0.2.1", "-:3:5"},
		{"x A 192.0.2.1\n", "import zone -", 2, "", "the zone's name is not known"},
		{"192.0.2.1 one two\n127.0.0.1 localhost\n", "import hosts - --place box", 0, "name      two 192.0.2.1 on box", "loopback"},
		{"192.0.2.1 one\n", "import hosts -", 2, "", "expected a host or container"},
		{"", "import transfer a.example", 2, "", "expected --server"},
		{"", "import transfer a.example --server 127.0.0.1 --key nonsense", 2, "", "NAME:ALGORITHM:SECRET"},
		{small + "filter f on box input otherwise drop\nrule f pass 443 from 198.51.100.7\n", "trace a.example --estate - --json", 1, `"198.51.100.7/32"`, ""},
		{small + "filter f on box input otherwise drop\nrule f pass 443 from 198.51.100.7\n", "trace a.example --estate -", 1, "except from 198.51.100.7", ""},
		{small, "leads box --estate -", 0, "a.example", ""},
		{small, "leads box:443 --estate - --json", 0, `"ways"`, ""},
		{small, "leads box:444 --estate -", 0, "Ways that end at box:444: 0", ""},
		{small, "leads moon --estate -", 2, "", "no host and no container"},
		{small, "without box --estate -", 0, "Without host box (1 line taken as off)", ""},
		{small, "without box --estate - --json", 0, `"stops"`, ""},
		{small, "without a.example:443 --estate -", 0, "a.example:443 from internet", ""},
		{small, "without a.example:443 --estate - --json", 0, `"alone"`, ""},
		{small, "without :x --kind name --estate -", 2, "", "expected"},
		{small, "without moon --estate -", 2, "", "nothing that can be down"},
		{small, "without box --kind zone --estate -", 2, "", "no zone \"box\""},
		{small, "without a.example:443 --from moon --estate -", 2, "", "no such vantage"},
		{small, "leads box:x --estate -", 2, "", "no place and port"},
		{small, "uses 203.0.113.1 --estate -", 0, "direct  dns a.example A 203.0.113.1", ""},
		{small, "uses 203.0.113.1 --estate -", 0, "led     intend a.example", ""},
		{small, "uses ... --estate -", 2, "", "no address, no name, no machine"},
		{small, "move 203.0.113.1 a.example --estate -", 2, "", "cannot stand where"},
		{small, "uses box:443 --estate -", 0, "direct  listen box 443 as web", ""},
		{small, "uses box:444 --estate -", 0, "0 records use box:444", ""},
		{small, "move box:443 x --estate -", 2, "", "a port number"},
		{small, "plan --estate -", 0, "", ""},
		{small + "map box/c 444 to 80 off\n", "plan --estate -", 0, "map box/c 444 to 80 off", ""},
		{small + "forward gate 443 to 10.0.0.2:8443 off\n", "plan --estate -", 1, "gate 443/tcp is forwarded to 10.0.0.2 and to 10.0.0.2:8443", ""},
		{small + "listen box 443 as other off\n", "plan --estate - --json", 1, `"collides": [`, ""},
		{small, "plan --estate - --rows nowhere", 2, "", "expected --at GATEWAY"},
		{"tcp LISTEN 0 5 *:22 *:* users:((\"sshd\",pid=7,fd=3))\n", "import sockets - --place box", 0, "listen    box 22 as sshd", ""},
		{"tcp LISTEN 0 5 *:22 *:*\n", "import sockets -", 2, "", "expected a host or container"},
		{"tcp LISTEN 0 5 *:ssh *:*\n", "import sockets - --place box", 2, "", "-:1:16: \"ssh\" is no port number"},
		{`[{"ifname":"eth0","addr_info":[{"local":"10.0.0.2","prefixlen":24}]}]`, "import ip - --place box", 0, "network   box-eth0 10.0.0.0/24", ""},
		{`[{"ifname":"eth0","addr_info":[{"local":"10.0.0.2","prefixlen":24}]}]`, "import ip - --place box/c", 2, "", "expected a host"},
		{`[{"Name":"/c","Id":"1","HostConfig":{"PortBindings":{"80/tcp":[{"HostPort":"8080"}]}},"NetworkSettings":{"Networks":{"n":{}}}}]`, "import inspect - --place box", 0, "map       box/c 8080 to 80", ""},
		{`[{"Name":"c"}]`, "import inspect - --place box", 2, "", "neither a container nor a network"},
		{"services:\n  c:\n    image: x\n    ports: ['${P}:80']\n", "import compose - --place box --var P=8080", 0, "map       box/c 8080 to 80", "is taken to be there"},
		{"services:\n  c:\n    image: x\n    portz: []\n", "import compose - --place box", 2, "", "-:4:5: "},
		{"# The account of box\n# whole: box listen/tcp\nhost box\nlisten box 22 as ssh\n", "import machine -", 0, "listen    box 22 as ssh", ""},
		{"# The account of box\nhots box\n", "import machine -", 2, "", "-:2:1: no kind of record is called"},
		{"", "collect --engine /nowhere/engine.sock --host box", 2, "", "/nowhere/engine.sock is not there"},
		{"", "collect --engine none --host box!!", 0, "# The account of box", ""},
		{"", "collect --engine none --host ...", 2, "", "cannot be a machine's name"},
		{"", "stand-in engine /nowhere/engine.sock", 2, "", "/nowhere/engine.sock"},
		{"", "frobnicate", 2, "", "--help"},
		{"", "synth --names 12 --seed 3", 0, "intend", ""},
	} {
		t.Run(c.args, func(t *testing.T) {
			code, out, errs := call(t, c.stdin, strings.Fields(c.args)...)
			if code != c.code || !strings.Contains(out, c.out) || !strings.Contains(errs, c.errs) {
				t.Errorf("exit %d, want %d\n%s\n%s\nwant %q and %q", code, c.code, out, errs, c.out, c.errs)
			}
			if code == 2 && out != "" {
				t.Errorf("a question that is wrong prints %q", out)
			}
		})
	}
}

// TestShapes holds the JSON to the keys that others build on.
func TestShapes(t *testing.T) {
	for _, c := range []struct {
		args string
		keys string // a path of keys to a list or object, then the keys that stand there
	}{
		{"trace www.a.example", "target from verdict paths"},
		{"trace www.a.example", "paths. port transport family address urlpath sources outcome end service intended steps breaks"},
		{"trace www.a.example", "paths.sources of only except"},
		{"trace www.a.example", "paths.steps. stage at verdict why records flow"},
		{"trace www.a.example", "paths.steps.flow to name encrypted"},
		{"trace www.a.example", "paths.breaks. code at why records mend"},
		{"trace www.a.example", "paths.breaks.mend remove add"},
		{"exposure", "from open undecided"},
		{"exposure", "open. address transport ports sources place port service site records intent"},
		{"check", "findings counts"},
		{"check --mends", "findings. code level subject why records mend"},
		{"check", "counts. error warning note"},
		{"answer www.a.example", "name type from code chain answers"},
	} {
		_, out, errs := call(t, small, append(strings.Fields(c.args), "--estate", "-", "--json", "--day", "2026-12-01")...)
		var v any
		if err := json.Unmarshal([]byte(out), &v); err != nil {
			t.Fatalf("%s: %v %s", c.args, err, errs)
		}
		words := strings.Fields(c.keys)
		if strings.Contains(words[0], ".") {
			for key := range strings.SplitSeq(strings.TrimSuffix(words[0], "."), ".") {
				if list, ok := v.([]any); ok {
					v = list[0]
				}
				v = v.(map[string]any)[key]
			}
			words = words[1:]
		}
		if list, ok := v.([]any); ok {
			v = list[0]
		}
		object, ok := v.(map[string]any)
		if !ok {
			t.Fatalf("%s: %s is %v", c.args, c.keys, v)
		}
		for _, key := range words {
			if _, ok := object[key]; !ok {
				t.Errorf("%s: no %q at %s", c.args, key, c.keys)
			}
		}
	}
}

// TestImportInto brings a zone into an estate file: shown, kept, and the second time nothing is changed.
func TestImportInto(t *testing.T) {
	dir := t.TempDir()
	into, zone := filepath.Join(dir, "my.estate"), filepath.Join(dir, "a.example.zone")
	write := func(path, text string) {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	read := func() string {
		text, err := os.ReadFile(into)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	write(into, small)
	write(zone, "$TTL 1h\n@ SOA ns root 1 2h 1h 2w 5m\n@ A 203.0.113.1\nnew A 203.0.113.2\n")
	if code, out, errs := call(t, "", "import", "zone", zone, "--into", into, "--try"); code != 0 || !strings.Contains(out, "+ dns new.a.example A 203.0.113.2") || read() != small {
		t.Errorf("trying: exit %d\n%s%s", code, out, errs)
	}
	if code, out, errs := call(t, "", "import", "zone", zone, "--into", into); code != 0 || !strings.Contains(out, "2 to add, 0 to change, 2 left as they are, 1 recorded and not in it") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	once := read()
	if !strings.Contains(once, "dns       new.a.example A 203.0.113.2") || !strings.Contains(once, "www.a.example CNAME") {
		t.Errorf("kept\n%s", once)
	}
	if code, out, _ := call(t, "", "import", "zone", zone, "--into", into); code != 0 || !strings.Contains(out, "0 to add, 0 to change") || read() != once {
		t.Errorf("a second time: exit %d\n%s", code, out)
	}
	if code, _, _ := call(t, "", "import", "zone", zone, "--into", into, "--take-out"); code != 0 || strings.Contains(read(), "www.a.example CNAME") {
		t.Errorf("what is not in it was to be taken out\n%s", read())
	}
	write(zone, "$TTL 1h\n@ SOA ns root 1 2h 1h 2w 5m\nbroken A x\n")
	before := read()
	if code, _, errs := call(t, "", "import", "zone", zone, "--into", into); code != 2 || !strings.Contains(errs, zone+":3:") || read() != before {
		t.Errorf("damaged: exit %d\n%s", code, errs)
	}
}

// TestImportRouter takes over the doors that programs asked a router for; a second time nothing is changed, and nothing is ever taken out.
func TestImportRouter(t *testing.T) {
	g, err := gateway.New(gateway.Demo, gateway.Quirks{End: "713"})
	if err != nil {
		t.Fatal(err)
	}
	router := httptest.NewServer(g)
	defer router.Close()
	into := filepath.Join(t.TempDir(), "my.estate")
	if err := os.WriteFile(into, []byte("network lan 10.60.0.0/24\nhost gate router\naddress gate 192.0.2.61 internet\naddress gate 10.60.0.1 lan\nforward gate 443,25 to 10.60.0.20\ncert kept for a.example on gate by http-01\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	args := []string{"import", "router", router.URL + "/rootDesc.xml", "--place", "gate", "--into", into}
	code, out, errs := call(t, "", args...)
	for _, want := range []string{`+ forward gate 51413 to 10.60.0.20 note "asked for by a program: plate exchange"`, "3 to add, 0 to change, 0 left as they are, 0 recorded and not in it"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Errorf("exit %d\n%s%s\nwant %s", code, out, errs, want)
		}
	}
	if !strings.Contains(errs, "as recorded, by forward gate 25,443 to 10.60.0.20") && !strings.Contains(errs, "as recorded, by forward gate 443,25 to 10.60.0.20") {
		t.Error(errs)
	}
	if code, out, _ := call(t, "", append(args, "--take-out")...); code != 0 || !strings.Contains(out, "0 to add, 0 to change") || strings.Contains(out, "- forward") {
		t.Errorf("a second time: exit %d\n%s", code, out)
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"import", "router", router.URL + "/rootDesc.xml", "--into", into}, "--place"},
		{[]string{"import", "router", router.URL + "/rootDesc.xml", "--place", "nobody", "--into", into}, "nobody"},
		{[]string{"import", "router", router.URL + "/nothing.xml", "--place", "gate", "--into", into}, "404"},
		{[]string{"import", "router", "--place", "gate", "--into", into}, "say where it describes itself"},
		{[]string{"import", "zone", "--into", into}, "no file to read"},
		{[]string{"stand-in", "router", "--listen", "192.0.2.1:80"}, "loopback"},
		{[]string{"stand-in", "authority", "kept", "--estate", into, "--http", "192.0.2.1:80"}, "loopback"},
		{[]string{"stand-in", "authority", "keptt", "--estate", into}, "kept"},
	} {
		if code, out, errs := call(t, "", c.args...); code != 2 || out != "" || !strings.Contains(errs, c.want) {
			t.Errorf("%v: exit %d\n%s%s", c.args, code, out, errs)
		}
	}
}

// TestSlips: a word that nothing is called by is said, with what is spelt most like it.
func TestSlips(t *testing.T) {
	path := filepath.Join(t.TempDir(), "my.estate")
	if err := os.WriteFile(path, []byte(demo.Estate), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"move azimut zenith", 2, "nothing that is recorded uses azimut, and nothing changes (nearest: azimuth)"},
		{"move 10.9.9.9 10.9.9.8", 2, "nothing that is recorded uses 10.9.9.9"},
		{"uses sky.fernmoor.exampel", 0, "0 records use sky.fernmoor.exampel (nearest: sky.fernmoor.example)"},
		{"leads azimut", 2, "(nearest: azimuth)"},
		{"exposure --from ofice", 2, "(nearest: office)"},
		{"without azimut", 2, "(nearest: azimuth)"},
	} {
		code, out, errs := call(t, "", append(strings.Fields(c.args), "--estate", path)...)
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%s: exit %d, %s%s", c.args, code, out, errs)
		}
	}
	if text, err := os.ReadFile(path); err != nil || string(text) != demo.Estate {
		t.Error("the estate is another one")
	}
}

// TestMove puts another address in one's place in an estate file.
func TestMove(t *testing.T) {
	path := filepath.Join(t.TempDir(), "my.estate")
	if err := os.WriteFile(path, []byte(small), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, out, errs := call(t, "", "move", "203.0.113.1", "198.51.100.1", "--estate", path, "--try"); code != 0 || !strings.Contains(out, "2 lines change") {
		t.Errorf("trying: exit %d\n%s%s", code, out, errs)
	}
	if code, out, errs := call(t, "", "move", "203.0.113.1", "198.51.100.1", "--estate", path); code != 0 {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	text, err := os.ReadFile(path)
	if err != nil || strings.Contains(string(text), "203.0.113.1") || strings.Count(string(text), "198.51.100.1") != 2 {
		t.Errorf("%v\n%s", err, text)
	}
}

// TestExposureAgainst says what opened and closed since another file.
func TestExposureAgainst(t *testing.T) {
	before := filepath.Join(t.TempDir(), "before.estate")
	if err := os.WriteFile(before, []byte(small), 0o600); err != nil {
		t.Fatal(err)
	}
	after := strings.Replace(small, "forward gate 443 to", "forward gate 22,444 to", 1) + "listen box 22,444 as ssh\n"
	code, out, errs := call(t, after, "exposure", "--estate", "-", "--against", before)
	if code != 1 || !strings.Contains(out, "Opened from internet: 2") || !strings.Contains(out, "22/tcp") || !strings.Contains(out, "Closed: 1") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	if code, out, _ := call(t, small, "exposure", "--estate", "-", "--against", before, "--json"); code != 0 || !strings.Contains(out, `"opened": []`) {
		t.Errorf("against itself: exit %d\n%s", code, out)
	}
}

// TestWithChange asks as if a change were made, and what it does: a pipeline is told by the exit whether it makes anything worse.
func TestWithChange(t *testing.T) {
	estateFile := filepath.Join(t.TempDir(), "e.estate")
	if err := os.WriteFile(estateFile, []byte(small), 0o600); err != nil {
		t.Fatal(err)
	}
	const (
		broken = "# the backend goes\n- listen box 443 as web tls cert c\n"
		better = "- cert c for a.example expires 2027-01-01 on box\n+ cert c for a.example,www.a.example expires 2027-01-01 on box\n"
	)
	for _, c := range []struct {
		change, args string
		code         int
		out, errs    string
	}{
		{broken, "trace a.example", 1, "refused", ""},
		{better, "trace www.a.example", 0, "arrives", ""},
		{better, "check --day 2026-12-01", 0, "0 errors", ""},
		{broken, "exposure", 0, "", ""},
		{broken, "uses box:443", 0, "record uses box:443", ""},
		{"+ dns b.example A 203.0.113.1\n", "answer b.example", 0, "203.0.113.1", ""},
		{broken, "leads box", 0, "Ways that end at box: 0", ""},
		{broken, "effect", 0, "→ refused", ""},
		{broken, "effect --fail-on worse", 1, "closes", ""},
		{better, "effect --fail-on worse", 0, "Findings that end", ""},
		{"+ forward gate 8080 to 10.0.0.2\n+ listen box 8080 as other\n", "effect --fail-on worse", 1, "opens, declared by nobody", ""},
		{broken, "effect --json", 0, `"worse": true`, ""},
		{"+ dns new.a.example A 203.0.113.1\n", "effect --json", 0, `"before": null`, ""},
		{broken, "steps", 0, " 1  ", ""},
		{"+ host idle\n", "steps --json", 0, `"kind": "edit"`, ""},
		{"+ host idle\n", "steps --json", 0, `"undo": {`, ""},
		{"", "steps", 0, "There is nothing to do.", ""},
		{"- listen box 81 as hop\n", "steps", 2, "", "no such line to take out"},
		{"+ host idle\n", "effect", 0, "It changes nothing that anyone meets.", ""},
		{"- listen box 444 as web tls cert c\n", "effect", 2, "", "-:1:3: no such line to take out: listen box 444 as web tls cert c; expected one that is recorded (nearest: listen box 443 as web tls cert c)"},
		{"- host gate router\n- host gate router\n", "effect", 2, "", "-:2:3: no such line"},
		{"host x\n\n+ hots y\n", "check", 2, "", "-:3:3: no kind of record is called \"hots\""},
		{"host x\n", "check", 2, "", "expected '+ ' or '- '"},
	} {
		t.Run(c.args+" "+c.change, func(t *testing.T) {
			code, out, errs := call(t, c.change, append(strings.Fields(c.args), "--estate", estateFile, "--with", "-")...)
			if code != c.code || !strings.Contains(out, c.out) || !strings.Contains(errs, c.errs) {
				t.Errorf("exit %d, want %d\n%s\n%s\nwant %q and %q", code, c.code, out, errs, c.out, c.errs)
			}
			if code == 2 && out != "" {
				t.Errorf("a question that is wrong prints %q", out)
			}
		})
	}
	if code, _, errs := call(t, small, "effect", "--estate", "-"); code != 2 || !strings.Contains(errs, "expected --with FILE") {
		t.Errorf("no change: %d %s", code, errs)
	}
	if code, out, errs := call(t, strings.Replace(small, "listen box 443", "listen box 444", 1), "effect", "--estate", estateFile, "--to", "-"); code != 0 || !strings.Contains(out, "refused") {
		t.Errorf("two files: %d %s %s", code, out, errs)
	}
}

// TestLookCommands plans a look without sending anything, takes in what was seen elsewhere, and says what would explain it.
// TestPlanningCommands: publish and retire, with what they answer, keep and exit with.
func TestPlanningCommands(t *testing.T) {
	dir := t.TempDir()
	file, kept := filepath.Join(dir, "fernmoor.estate"), filepath.Join(dir, "plan.change")
	if err := os.WriteFile(file, []byte(demo.Estate), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args      string
		code      int
		out, errs string
	}{
		{"publish pics.fernmoor.example to zenith:9000 for internet", 0, "+ site front pics.fernmoor.example at 443 to http://zenith:9000", ""},
		{"publish pics.fernmoor.example:443 to zenith:9000 for internet --through front --json", 0, `"derived": [`, ""},
		{"publish m.fernmoor.example to azimuth/meters for yard,instruments --write " + kept, 0, "sources yard,instruments", ""},
		{"effect --fail-on worse --with " + kept, 0, "2 names arrive", ""},
		{"publish pics.fernmoor.example to zenith:9999 for internet", 1, "Write down what listens on zenith:9999 first", ""},
		{"publish pics.fernmoor.example to zenith:9999 for internet --json", 1, `"none": "Write down`, ""},
		{"publish pics.fernmoor.example to zenith:99999 for internet", 2, "", "no port"},
		{"publish pics.fernmoor.example at zenith:9000 for internet", 2, "", "must be one of"},
		{"publish pics.fernmoor.example to zenith:9000 for internet --at here", 2, "", "no address"},
		{"retire archive.fernmoor.example --write " + kept, 0, "- site front archive.fernmoor.example", ""},
		{"steps --with " + kept, 0, "zone fernmoor.example", ""},
		{"retire zenith --json", 0, `"stays": [`, ""},
		{"retire zenit", 1, "nearest: zenith", ""},
	} {
		t.Run(c.args, func(t *testing.T) {
			code, out, errs := call(t, "", append(strings.Fields(c.args), "--estate", file, "--day", "2026-12-01")...)
			if code != c.code || !strings.Contains(out, c.out) || !strings.Contains(errs, c.errs) {
				t.Errorf("exit %d, want %d\n%s\n%s\nwant %q and %q", code, c.code, out, errs, c.out, c.errs)
			}
		})
	}
}

// TestDraftCommands: a draft is kept in a database, shown, made and dropped.
func TestDraftCommands(t *testing.T) {
	db := filepath.Join(t.TempDir(), "steady.db")
	s, err := store.Open(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	e, faults := notation.Parse(demo.Estate)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	if _, err := s.Commit(t.Context(), store.Edit{Who: "test", Change: estate.Difference(estate.New(nil, nil), e)}); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	var moved, old string // the addresses that the demo's draft brings, and that it gives up
	for line := range strings.Lines(demo.Move) {
		if strings.HasPrefix(line, "- address") || strings.Contains(line, " intend ") {
			if !strings.HasPrefix(line, "+") {
				old += line
			}
			continue
		}
		moved += line
	}
	for _, c := range []struct {
		stdin, args string
		code        int
		out, errs   string
	}{
		{"", "draft list", 0, "There are no drafts.", ""},
		{"+ host lamp\n", "draft new Lamp --with -", 0, "Draft 1: Lamp.", ""},
		{"- host lamp\n", "draft new Lamp --with -", 2, "", "no such line to take out"},
		{"", "draft new Lamp --with -", 2, "", "without a line"},
		{"", "publish pics.fernmoor.example to zenith:9000 for internet --draft Pictures", 0, "Draft 2: Pictures.", ""},
		{"", "retire archive.fernmoor.example --draft Archive --json", 0, `"plans": [`, "Draft 3: Archive."},
		{"", "draft list", 0, "Pictures", ""},
		{"", "draft list --json", 0, `"title": "Lamp"`, ""},
		{"", "draft show 2", 0, "+ site front pics.fernmoor.example", ""},
		{"", "draft show 2 --json", 0, `"worse": false`, ""},
		{"", "draft apply 2", 0, "", ""},
		{"", "trace pics.fernmoor.example", 0, "arrives", ""},
		{"", "draft drop 3", 0, "", ""},
		{"", "draft drop 3", 2, "", "draft list"},
		{"", "draft show 99", 2, "", "no such draft"},
		{"", "draft list", 0, "Lamp", ""},
		{old, "steps --with -", 0, " 1  router meridian", ""},
		{moved, "draft new Moved --with -", 0, "Draft 4: Moved.", ""},
		{"", "draft apply 4", 0, "", ""},
		{old, "steps --with -", 0, " 1  wait 1h", ""}, // caches may have the answers of before
	} {
		t.Run(c.args, func(t *testing.T) {
			code, out, errs := call(t, c.stdin, append(strings.Fields(c.args), "--db", db)...)
			if code != c.code || !strings.Contains(out, c.out) || !strings.Contains(errs, c.errs) {
				t.Errorf("exit %d, want %d\n%s\n%s\nwant %q and %q", code, c.code, out, errs, c.out, c.errs)
			}
		})
	}
}

func TestLookCommands(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	mine := file("my.estate", "host box\naddress box 203.0.113.7 internet\nlisten box 22 as ssh\nzone a.example\ndns a.example A 203.0.113.7\nintend a.example 22 for internet\n")
	db := filepath.Join(dir, "my.db")
	if code, _, errs := call(t, "", "import", "estate", mine, "--db", db); code != 0 {
		t.Fatal(errs)
	}
	code, out, errs := call(t, "", "look", "--db", db, "--dry-run", "--json")
	var plan struct {
		From              string
		Contacts, Refused []struct{ Target, Why, Expected string }
	}
	if err := json.Unmarshal([]byte(out), &plan); err != nil || code != 0 {
		t.Fatalf("exit %d %v\n%s%s", code, err, out, errs)
	}
	if plan.From != "internet" || len(plan.Contacts) != 2 || plan.Contacts[0].Expected != "203.0.113.7" || len(plan.Refused) != 1 || !strings.Contains(plan.Refused[0].Why, "documentation") {
		t.Errorf("%+v", plan)
	}
	// After the records were written: a look from before says nothing of them.
	seen := `{"at":"` + time.Now().UTC().Format(time.RFC3339Nano) + `","from":"internet","target":"a.example:22","did":"connect","came":"refused","address":"203.0.113.7"}` + "\n"
	looks := file("my.looks", seen)
	if code, out, errs := call(t, "", "import", "looks", looks, "--db", db); code != 0 || out != "1 looks kept, 1 of them new.\n" {
		t.Errorf("exit %d %s%s", code, out, errs)
	}
	for _, from := range [][]string{{"--db", db}, {"--estate", mine, "--looks", looks}} {
		code, out, errs := call(t, "", append([]string{"suspects", "a.example:22", "--json"}, from...)...)
		var got struct {
			Suspects []struct {
				Kind, Why string
				Records   []string
			}
		}
		if err := json.Unmarshal([]byte(out), &got); err != nil || code != 1 || len(got.Suspects) == 0 || got.Suspects[0].Why != "ssh does not run on box" || got.Suspects[0].Kind != "line" || len(got.Suspects[0].Records) != 1 {
			t.Errorf("%v: exit %d %v\n%s%s", from, code, err, out, errs)
		}
	}
	for _, from := range [][]string{{"--db", db}, {"--estate", mine, "--looks", looks}} {
		code, out, errs := call(t, "", append([]string{"check", "--mends", "--json"}, from...)...)
		if code != 1 || !strings.Contains(out, `"code": "seen.shut"`) || !strings.Contains(out, "suspects a.example:22") {
			t.Errorf("check %v: exit %d\n%s%s", from, code, out, errs)
		}
	}
	if code, out, errs := call(t, "", "check", "--estate", mine); code != 1 || strings.Contains(out, "seen.") {
		t.Errorf("check without looks: exit %d\n%s%s", code, out, errs)
	}
	if code, out, _ := call(t, "", "suspects", "a.example:23", "--db", db); code != 0 || !strings.HasPrefix(out, "No suspect: ") {
		t.Errorf("where nothing was seen: exit %d %s", code, out)
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"look", "a..b", "--db", db, "--dry-run"}, "a..b"},
		{[]string{"look", "--db", db, "--from", "nowhere", "--dry-run"}, "nowhere"},
		{[]string{"look", "--db", db, "--rate", "0"}, "--rate"},
		{[]string{"look", "--db", db, "--mark", "x"}, "--mark"},
		{[]string{"look", "--db", db, "--resolver", "dns.example"}, "--resolver"},
		{[]string{"look", "--targets", mine}, "no list of contacts"},
		{[]string{"look", "x", "--targets", looks}, "no target beside it"},
		{[]string{"import", "looks", looks}, "--db"},
		{[]string{"import", "looks", mine, "--db", db}, "my.estate:1:1: it is no JSON"},
		{[]string{"import", "looks", file("far.looks", strings.Replace(seen, "internet", "moon", 1)), "--db", db}, "moon"},
		{[]string{"suspects", "a.example:22", "--estate", mine}, "--looks"},
		{[]string{"dates", "--estate", mine, "--json", "--ics"}, "--ics"},
	} {
		if code, out, errs := call(t, "", c.args...); code != 2 || out != "" || !strings.Contains(errs, c.want) {
			t.Errorf("%v: exit %d\n%s%s", c.args, code, out, errs)
		}
	}
	if code, out, _ := call(t, "", "dates", "--estate", mine); code != 0 || !strings.HasPrefix(out, "Nothing comes due") {
		t.Errorf("dates: exit %d %s", code, out)
	}
}
