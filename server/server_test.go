package server

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/flow"
	"steady-compass/core/look"
	"steady-compass/core/notation"
	"steady-compass/core/ports"
	"steady-compass/core/trace"
	"steady-compass/demo"
	"steady-compass/store"
)

const day = "2026-11-25"

// served is a server on a database in memory, holding an estate.
func served(t testing.TB, text string) http.Handler {
	t.Helper()
	return holding(t, text, Access{Alone: true}).Handler()
}

func holding(t testing.TB, text string, access Access) *Server {
	t.Helper()
	db, err := store.Open(context.Background(), "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Close() })
	if text != "" {
		e, faults := notation.Parse(text)
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		if _, err := db.Reset(context.Background(), 0, e, "me", ""); err != nil {
			t.Fatal(err)
		}
	}
	s, err := New(db, slog.New(slog.NewTextHandler(io.Discard, nil)), access)
	if err != nil {
		t.Fatal(err)
	}
	s.today = func() estate.Date { return day }
	return s
}

func call(t testing.TB, h http.Handler, method, path string, in any, header ...string) *httptest.ResponseRecorder {
	t.Helper()
	var body io.Reader
	if text, ok := in.(string); ok {
		body = strings.NewReader(text)
	} else if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			t.Fatal(err)
		}
		body = bytes.NewReader(raw)
	}
	r := httptest.NewRequest(method, path, body)
	r.Host = "127.0.0.1:7373"
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		if header[i] == "Host" {
			r.Host = header[i+1]
		}
		r.Header.Set(header[i], header[i+1])
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	return w
}

func decoded[T any](t *testing.T, w *httptest.ResponseRecorder, status int) T {
	t.Helper()
	var v T
	if w.Code != status {
		t.Fatalf("status %d, want %d: %s", w.Code, status, w.Body)
	}
	if err := json.Unmarshal(w.Body.Bytes(), &v); err != nil {
		t.Fatalf("%v in %s", err, w.Body)
	}
	return v
}

func TestOnlyItsOwnPages(t *testing.T) {
	h := served(t, "host a\n")
	for _, c := range []struct {
		header []string
		want   int
	}{
		{nil, 200},
		{[]string{"Host", "localhost:7373"}, 200},
		{[]string{"Host", "[::1]:7373"}, 200},
		{[]string{"Host", "evil.example"}, 421},
		{[]string{"Host", "127.0.0.1.evil.example:7373"}, 421},
		{[]string{"Host", "203.0.113.1:7373"}, 421},
		{[]string{"Origin", "http://127.0.0.1:7373"}, 200},
		{[]string{"Origin", "http://evil.example"}, 403},
		{[]string{"Origin", "null"}, 403},
		{[]string{"Origin", "http://127.0.0.1:9999"}, 403},
		{[]string{"Sec-Fetch-Site", "cross-site"}, 403},
		{[]string{"Sec-Fetch-Site", "same-origin"}, 200},
	} {
		if w := call(t, h, "GET", "/api/records", nil, c.header...); w.Code != c.want {
			t.Errorf("%v: %d, want %d: %s", c.header, w.Code, c.want, w.Body)
		}
		if w := call(t, h, "POST", "/api/undo", map[string]any{}, c.header...); c.want != 200 && w.Code != c.want {
			t.Errorf("undo with %v: %d, want %d", c.header, w.Code, c.want)
		}
	}
}

// TestStrangeInput sends what nobody would: nothing but a clear refusal comes back, and nothing is changed.
func TestStrangeInput(t *testing.T) {
	h := served(t, demo.Estate)
	before := call(t, h, "GET", "/api/records", nil).Body.String()
	r := rand.New(rand.NewPCG(1, 1))
	noise := func(n int) string {
		var b strings.Builder
		odd := []rune("ab.:/[]@#\"\\ ,*%?=&-_\x00\u202e\U0001F600é0129")
		for range n {
			b.WriteRune(odd[r.IntN(len(odd))])
		}
		return b.String()
	}
	paths := []string{"/api/line", "/api/text", "/api/preview", "/api/draft/trace", "/api/change", "/api/records", "/api/undo", "/api/import", "/api/move", "/api/plan", "/api/plan/on"}
	for i := range 900 {
		in := any(noise(r.IntN(200)))
		if i%2 == 0 {
			in = map[string]any{"line": noise(80), "cursor": r.IntN(1000), "text": noise(300), "base": r.IntN(9), "remove": []string{noise(9)}, "add": []string{noise(40)}, "target": noise(20), "from": noise(8), "revision": r.IntN(99) + 5, "to": noise(20), "format": []string{"", "zone", "hosts", "estate", "machine", "sockets", "ip", "compose", "inspect"}[r.IntN(9)], "gateway": []string{"azimuth", noise(5)}[r.IntN(2)], "rows": noise(60), "lines": []string{noise(20)}, "zone": noise(6), "for": noise(6), "place": []string{"azimuth", noise(6)}[r.IntN(2)], "files": []map[string]any{{"name": "f" + noise(3), "text": noise(400)}, {"name": "g", "text": noise(50)}}}
		}
		path := paths[r.IntN(len(paths))]
		if w := call(t, h, "POST", path, in); w.Code >= 500 {
			t.Fatalf("%s %v: %d %s", path, in, w.Code, w.Body)
		}
		q := []string{
			"/api/trace?target=", "/api/uses?of=", "/api/answers?from=", "/api/ports/machine?machine=", "/api/ports/free?machine=azimuth&above=",
			"/api/export?format=zone&name=", "/api/export?format=zone&name=fernmoor.example&from=", "/api/export?format=hosts&name=", "/api/exposure?from=", "/api/exposure/changes?with=", "/api/ports/free?machine=azimuth&address=", "/api/without?of=",
		}[r.IntN(12)] + url.QueryEscape(noise(1+r.IntN(30)))
		if w := call(t, h, "GET", q, nil); w.Code >= 500 {
			t.Fatalf("%s: %d %s", q, w.Code, w.Body)
		}
	}
	for name, in := range map[string]any{
		"a long line":   map[string]any{"line": strings.Repeat("a ", 40_000), "cursor": 3},
		"a long list":   map[string]any{"line": "rule edge pass " + strings.Repeat("1,", 20_000) + "1", "cursor": 0},
		"a deep nest":   strings.Repeat("[", 100_000),
		"a huge number": `{"line":"host a","cursor":1e400}`,
	} {
		if w := call(t, h, "POST", "/api/line", in); w.Code >= 500 {
			t.Errorf("%s: %d %s", name, w.Code, w.Body)
		}
	}
	if w := call(t, h, "POST", "/api/records", `{"base":1,"text":"`+strings.Repeat("x", maxBody)+`"}`); w.Code != http.StatusRequestEntityTooLarge {
		t.Errorf("a body over the limit: %d", w.Code)
	}
	if after := call(t, h, "GET", "/api/records", nil).Body.String(); after != before {
		t.Error("strange input changed the estate")
	}
}

func TestErrorsSayWhatAndWhere(t *testing.T) {
	h := served(t, "host a\nhost b\n")
	p := decoded[Problem](t, call(t, h, "POST", "/api/records", TextQuestion{Base: 1, Text: "host a\nhots b\nforward a 80 to x\n"}), 422)
	if len(p.Faults) != 2 || p.Faults[0].Line != 2 || p.Faults[0].Nearest != "host" || p.Faults[1].Line != 3 || p.Faults[1].Column != 17 {
		t.Errorf("faults %+v", p.Faults)
	}
	decoded[Changed](t, call(t, h, "POST", "/api/change", ChangeQuestion{Base: 1, Remove: []string{"host a"}, Add: []string{"host a router"}}), 200)
	p = decoded[Problem](t, call(t, h, "POST", "/api/records", TextQuestion{Base: 1, Text: "host a unlisted\nhost b\n"}), 409)
	if len(p.Clashes) != 1 || p.Clashes[0].Line != "host a" || p.Clashes[0].Mine != "host a unlisted" || p.Clashes[0].Theirs != "host a router" || strings.Contains(p.Detail, "revision") {
		t.Errorf("both sides %+v: %s", p.Clashes, p.Detail)
	}
	decoded[Changed](t, call(t, h, "POST", "/api/records", TextQuestion{Base: 1, Text: "host a\nhost b router\n"}), 200)
	r := decoded[Records](t, call(t, h, "GET", "/api/records", nil), 200)
	if r.Text != "host      a router\nhost      b router\n" {
		t.Errorf("both edits kept:\n%s", r.Text)
	}
	for path, word := range map[string]string{
		"/api/trace?target=x:0": "a port from 1 to 65535", "/api/names?from=nowhere": "no such vantage", "/api/trace?target=": "",
	} {
		p := decoded[Problem](t, call(t, h, "GET", path, nil), 422)
		if !strings.Contains(p.Detail, word) {
			t.Errorf("%s says %q", path, p.Detail)
		}
	}
}

func TestALineBeingTyped(t *testing.T) {
	h := served(t, demo.Estate)
	ask := func(line string) LineAnswer {
		return decoded[LineAnswer](t, call(t, h, "POST", "/api/line", LineQuestion{Line: line, Cursor: len(line)}), 200)
	}
	if a := ask("sky.fern"); a.Record || a.Canonical != "" {
		t.Errorf("a name to trace is taken for a record: %+v", a)
	}
	a := ask("map azimuth/pages 9100 to 8000")
	clash := false
	for _, f := range a.Effect.Brought {
		clash = clash || f.Code == "conflict.map-socket"
	}
	if !a.Record || a.Meaning == "" || !clash {
		t.Errorf("the clash with what listens on 9100 is not said: %+v", a.Effect)
	}
	if a := ask("map azimuth/pages 9100 too"); a.Fault == nil || a.Fault.Column != 24 || a.Fault.Nearest != "to" {
		t.Errorf("fault %+v", a.Fault)
	}
}

func TestSeenFromElsewhere(t *testing.T) {
	h := served(t, demo.Estate)
	r := decoded[trace.Result](t, call(t, h, "GET", "/api/trace?target=archive.fernmoor.example:443&from=yard", nil), 200)
	if r.From != "yard" || r.Verdict != flow.Refused || r.Paths[0].Breaks[0].Code != "path.no-hairpin" {
		t.Errorf("from %s: %s", r.From, r.Verdict)
	}
	rows := decoded[NamesAnswer](t, call(t, h, "GET", "/api/names?from=yard", nil), 200).Rows
	for _, row := range rows {
		if row.Name == "meters.fernmoor.example" && row.Verdict != flow.Arrives {
			t.Errorf("meters from yard: %s", row.Verdict)
		}
	}
	rows = decoded[NamesAnswer](t, call(t, h, "GET", "/api/names", nil), 200).Rows
	healthy := map[string]bool{}
	for _, row := range rows {
		if row.Verdict.Good() && row.Port == 443 {
			healthy[row.Name] = true
		}
		if row.Name == "meters.fernmoor.example" && !row.AsMeant {
			t.Error("a name for inside only is a fault from outside")
		}
	}
	if len(healthy) < 6 {
		t.Errorf("only %v are healthy", healthy)
	}
}

func TestDraftAndPreviewKeepNothing(t *testing.T) {
	h := served(t, demo.Estate)
	before := call(t, h, "GET", "/api/records", nil).Body.String()
	old, fresh := "site front sky.fernmoor.example at 443 to http://localhost:3000", "site front sky.fernmoor.example at 443 to http://allsky:3000"
	change := ChangeQuestion{Base: 1, Remove: []string{old}, Add: []string{fresh}}
	r := decoded[trace.Result](t, call(t, h, "POST", "/api/draft/trace", DraftQuestion{change, "sky.fernmoor.example:443", "internet"}), 200)
	if r.Verdict != flow.Arrives {
		t.Errorf("the draft %s", r.Verdict)
	}
	e := decoded[effect.Effect](t, call(t, h, "POST", "/api/preview", change), 200)
	if len(e.Names) != 1 || *e.Names[0].Before != flow.GatewayError || *e.Names[0].After != flow.Arrives || len(e.Ended) != 2 || len(e.Brought) != 0 {
		t.Errorf("the preview %+v", e)
	}
	if after := call(t, h, "GET", "/api/records", nil).Body.String(); after != before {
		t.Error("a draft or preview was kept")
	}
	if p := decoded[Problem](t, call(t, h, "POST", "/api/preview", ChangeQuestion{Base: 1, Remove: []string{"host nobody"}, Add: []string{}}), 409); p.Title == "" {
		t.Error("a line that is not there goes without a word")
	}
}

// TestImportAndExport shows what a file would do without keeping it, and writes out what a name server loads.
func TestImportAndExport(t *testing.T) {
	h := served(t, "zone a.example ttl 1h\nzone a.example for yard\ndns a.example A 192.0.2.1\ndns old.a.example A 192.0.2.9\nname x.a.example 10.0.0.1 on box\nhost box\n")
	ask := func(q ImportQuestion) ImportAnswer {
		t.Helper()
		return decoded[ImportAnswer](t, call(t, h, "POST", "/api/import", q), http.StatusOK)
	}
	one := func(name, text string) ImportQuestion {
		return ImportQuestion{Files: []ImportFile{{Name: name, Text: text}}}
	}
	got := ask(one("a.example.zone", "$TTL 1h\n@ A 192.0.2.1\n@ MX 10 mail\nwww 60 A x\n"))
	want := ImportAnswer{
		Format: "zone", Faults: got.Faults, Left: []string{}, Remove: []string{}, Leave: 2,
		Add: []string{"dns a.example MX 10 mail.a.example."}, Gone: []string{"dns old.a.example A 192.0.2.9"},
	}
	if !reflect.DeepEqual(got, want) || len(got.Faults) != 1 || got.Faults[0].Line != 4 {
		t.Errorf("got %+v\nwant %+v", got, want)
	}
	if got := ask(one("x", "192.0.2.1 one")); got.Format != "hosts" || got.Needs != "place" {
		t.Errorf("a hosts file: %+v", got)
	}
	if got := ask(one("zone", "$TTL 60\nx A 192.0.2.1\n")); got.Needs != "zone" {
		t.Errorf("a zone without a name: %+v", got)
	}
	included := one("main.zone", "$ORIGIN a.example.\n$TTL 1h\n$INCLUDE sub/more\n")
	included.Zone, included.Files = "a.example", append(included.Files, ImportFile{Name: "sub/more", Text: "inner A 192.0.2.7\n"})
	if got := ask(included); !slices.Contains(got.Add, "dns inner.a.example A 192.0.2.7") {
		t.Errorf("with a file that it includes: %+v", got)
	}
	outside := one("main.zone", "$ORIGIN a.example.\n$TTL 1h\n$INCLUDE /etc/passwd\n")
	outside.Zone = "a.example"
	if got := ask(outside); len(got.Faults) == 0 || strings.Contains(got.Faults[0].What, "root:") {
		t.Errorf("a file of the machine: %+v", got)
	}
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	for name, text := range map[string]string{"etc/sites-enabled/a": "server { listen 80; server_name a.example; }\n", "etc/readme": "of the folder"} {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	folder := ImportQuestion{Place: "box", Files: []ImportFile{{Name: "etc.zip", Archive: packed.Bytes()}}}
	if got := ask(folder); got.Format != "nginx" || !slices.Contains(got.Add, "site web a.example at 0.0.0.0:80 files default") {
		t.Errorf("an archive: %+v", got)
	}
	folder.Files[0].Archive = packed.Bytes()[:40]
	if w := call(t, h, "POST", "/api/import", folder); w.Code != http.StatusUnprocessableEntity || !strings.Contains(w.Body.String(), "etc.zip") {
		t.Errorf("a torn archive: %d %s", w.Code, w.Body)
	}
	for _, name := range []string{"../../etc/passwd", ""} {
		if w := call(t, h, "POST", "/api/import", one(name, "x")); w.Code != http.StatusUnprocessableEntity {
			t.Errorf("a file called %q: %d", name, w.Code)
		}
	}
	for _, c := range []struct {
		query, want string
		status      int
	}{
		{"format=zone&name=a.example", "old IN A 192.0.2.9", 200},
		{"format=zone&name=a.example&from=yard", "$ORIGIN a.example.", 200},
		{"format=hosts&name=box", "10.0.0.1\tx.a.example", 200},
		{"format=estate", "host      box", 200},
		{"format=zone&name=b.example", "no zone b.example is recorded", 422},
		{"format=tape", "", 422},
	} {
		if w := call(t, h, "GET", "/api/export?"+c.query, nil); w.Code != c.status || !strings.Contains(w.Body.String(), c.want) {
			t.Errorf("%s: %d %s", c.query, w.Code, w.Body)
		}
	}
	if r := decoded[Records](t, call(t, h, "GET", "/api/records", nil), http.StatusOK); r.Revision != 1 || len(r.Exports) != 4 {
		t.Errorf("revision %d, to be written out: %v", r.Revision, r.Exports)
	}
}

// TestAnswersSideBySide holds what a split view answers inside and outside beside one another.
func TestAnswersSideBySide(t *testing.T) {
	h := served(t, `network yard 10.0.0.0/24
host gate router
address gate 203.0.113.1 internet
address gate 10.0.0.1 yard
zone a.example ttl 1h
dns a.example A 203.0.113.1
dns a.example MX 10 a.example
dns www.a.example CNAME a.example ttl 5m
dns *.lab.a.example A 203.0.113.1
dns in.a.example A 10.0.0.1 for yard
dns old.a.example A 198.51.100.9
dns xn--bcher-kva.a.example A 203.0.113.1
intend x.lab.a.example 443 for internet
`)
	got := decoded[AnswersAnswer](t, call(t, h, "GET", "/api/answers?from=auto", nil), http.StatusOK)
	if !slices.Equal(got.From, []string{"internet", "yard"}) {
		t.Errorf("from %v", got.From)
	}
	var lines []string
	for _, r := range got.Rows {
		text := r.Name + " " + r.Type
		for _, a := range r.Answers {
			text += " | " + a.Code + " " + strings.Join(a.Values, ",")
			if a.Wildcard {
				text += " *"
			}
		}
		text += " | " + strings.Join(r.Held, ",")
		for word, is := range map[string]bool{" differs": r.Differs, " used": r.Used, " " + r.Unicode: r.Unicode != ""} {
			if is {
				text += word
			}
		}
		lines = append(lines, text)
	}
	want := []string{
		"a.example A | NOERROR 203.0.113.1 | NOERROR 203.0.113.1 | gate",
		"a.example MX | NOERROR 10 a.example | NOERROR 10 a.example | ",
		"www.a.example A | NOERROR 203.0.113.1 | NOERROR 203.0.113.1 | gate",
		"*.lab.a.example A | NOERROR 203.0.113.1 | NOERROR 203.0.113.1 | gate",
		"in.a.example A | NXDOMAIN  | NOERROR 10.0.0.1 | gate differs",
		"x.lab.a.example A | NOERROR 203.0.113.1 * | NOERROR 203.0.113.1 * | gate used",
		"old.a.example A | NOERROR 198.51.100.9 | NOERROR 198.51.100.9 | nobody",
		"xn--bcher-kva.a.example A | NOERROR 203.0.113.1 | NOERROR 203.0.113.1 | gate bücher.a.example",
	}
	if !slices.Equal(lines, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
	if w := call(t, h, "GET", "/api/answers?from=moon", nil); w.Code != http.StatusUnprocessableEntity {
		t.Errorf("from a place that is not there: %d", w.Code)
	}
}

// TestMoveOfAPublicAddress puts another address in the place of the demo's: apex, services, text and all, in one step.
func TestMoveOfAPublicAddress(t *testing.T) {
	h := served(t, demo.Estate)
	used := decoded[UsesAnswer](t, call(t, h, "GET", "/api/uses?of=203.0.113.20", nil), http.StatusOK)
	direct := 0
	for _, u := range used.Uses {
		if u.How == "direct" {
			direct++
		}
	}
	if direct != strings.Count(demo.Estate, "203.0.113.20") || len(used.Uses) <= direct {
		t.Errorf("%d records have it, of %d; the estate has it %d times", direct, len(used.Uses), strings.Count(demo.Estate, "203.0.113.20"))
	}
	swaps := decoded[[]Swap](t, call(t, h, "POST", "/api/move", MoveQuestion{"203.0.113.20", "203.0.113.77", []string{}}), http.StatusOK)
	change := ChangeQuestion{Base: 1, Why: "moved"}
	for _, s := range swaps {
		if !s.Keep {
			change.Remove, change.Add = append(change.Remove, s.Remove), append(change.Add, s.Add)
		}
	}
	done := decoded[Changed](t, call(t, h, "POST", "/api/change", change), http.StatusOK)
	for _, b := range done.Effect.Brought {
		if !strings.Contains(b.Subject, "203.0.113.77") {
			t.Errorf("the move brings %s %s: %s", b.Code, b.Subject, b.Why)
		}
	}
	if len(done.Effect.Old) == 0 || done.Effect.Old[0].Seconds != 3600 {
		t.Errorf("how long the old answers may be seen: %v", done.Effect.Old)
	}
	if left := decoded[UsesAnswer](t, call(t, h, "GET", "/api/uses?of=203.0.113.20", nil), http.StatusOK); len(left.Uses) > 0 {
		t.Errorf("the old address still stands in %v", left.Uses)
	}
	decoded[Changed](t, call(t, h, "POST", "/api/undo", UndoQuestion{}), http.StatusOK)
	if back := decoded[UsesAnswer](t, call(t, h, "GET", "/api/uses?of=203.0.113.20", nil), http.StatusOK); len(back.Uses) != len(used.Uses) {
		t.Errorf("after one undo %d records use it, %d did", len(back.Uses), len(used.Uses))
	}
	for _, q := range []MoveQuestion{{"203.0.113.20", "a.example", nil}, {"203.0.113.20", "", nil}, {"...", "203.0.113.1", nil}} {
		if w := call(t, h, "POST", "/api/move", q); w.Code != http.StatusUnprocessableEntity {
			t.Errorf("%v: %d %s", q, w.Code, w.Body)
		}
	}
}

// TestANameThatIsNotThere says what would answer a name that nothing records, and offers the line.
func TestANameThatIsNotThere(t *testing.T) {
	h := served(t, demo.Estate)
	for _, c := range []struct{ line, says, offer string }{
		{"new.fernmoor.example", "the closest name above it is fernmoor.example, and no wildcard", "dns new.fernmoor.example A 203.0.113.20"},
		{"x.lab.fernmoor.example:443", "the wildcard *.lab.fernmoor.example answers for it: 203.0.113.20", "dns x.lab.fernmoor.example A 203.0.113.20"},
		{"x.gate.ridge.fernmoor.example", "the closest name above it is gate.ridge.fernmoor.example", "dns x.gate.ridge.fernmoor.example A 203.0.113.20"},
		{"elsewhere.test", "No recorded zone has elsewhere.test", ""},
		{"sky.fernmoor.example", "", ""},
		{"azimuth", "", ""},
		{"203.0.113.20", "", ""},
	} {
		a := decoded[LineAnswer](t, call(t, h, "POST", "/api/line", LineQuestion{c.line, len(c.line)}), http.StatusOK)
		if a.Target == nil || !strings.Contains(a.Target.Says, c.says) || a.Target.Offer != c.offer || c.says == "" && a.Target.Says != "" {
			t.Errorf("%s: %+v", c.line, a.Target)
		}
	}
}

// TestImportFolder takes a web server's folder for what it is, whichever of its files comes first.
func TestImportFolder(t *testing.T) {
	h := served(t, demo.Estate)
	q := ImportQuestion{Place: "orrery-a", Files: []ImportFile{
		{Name: "nginx/mime.types", Text: "types { text/html html; }\n"},
		{Name: "nginx/nginx.conf", Text: "http { include mime.types; include sites-enabled/*; }\n"},
		{Name: "nginx/sites-enabled/a", Text: "server { listen 81; server_name a.example; }\n"},
		{Name: "nginx/sites-available/b", Text: "server { listen 81; server_name b.example; }\n"},
	}}
	a := decoded[ImportAnswer](t, call(t, h, "POST", "/api/import", q), http.StatusOK)
	want := []string{"listen orrery-a 0.0.0.0:81 as web", "site web a.example at 0.0.0.0:81 files default", "site web b.example at 0.0.0.0:81 files off"}
	if a.Format != "nginx" || !slices.Equal(a.Add, want) || len(a.Faults)+len(a.Left) > 0 {
		t.Errorf("%+v", a)
	}
}

// TestPorts lists machines with their ports, one in depth, and what is free; for what is no machine it says so.
func TestPorts(t *testing.T) {
	h := served(t, demo.Estate)
	machines := decoded[[]ports.Machine](t, call(t, h, "GET", "/api/ports", nil), http.StatusOK)
	clash := false
	for _, m := range machines {
		for _, p := range m.Ports {
			clash = clash || m.Name == "azimuth" && p.Port == 8080 && p.Clash != ""
		}
	}
	if len(machines) != 10 || !clash {
		t.Errorf("%d machines, the clash shown: %v", len(machines), clash)
	}
	if d := decoded[MachineDepth](t, call(t, h, "GET", "/api/ports/machine?machine=azimuth", nil), http.StatusOK); len(d.Ports) < 8 {
		t.Errorf("%d ports", len(d.Ports))
	}
	if f := decoded[Free](t, call(t, h, "GET", "/api/ports/free?machine=azimuth&above=8079", nil), http.StatusOK); f.Port != 8081 {
		t.Errorf("free above 8079 is %d", f.Port)
	}
	for _, path := range []string{"/api/ports/machine?machine=moon", "/api/ports/free?machine=azimuth/front", "/api/ports/free?machine=azimuth&above=99999", "/api/ports/free?machine=azimuth&transport=sctp"} {
		if w := call(t, h, "GET", path, nil); w.Code != http.StatusUnprocessableEntity {
			t.Errorf("%s: %d %s", path, w.Code, w.Body)
		}
	}
}

// TestClashInAContainer is no clash of its machine's ports, though the number is the same.
func TestClashInAContainer(t *testing.T) {
	h := served(t, `network dock 172.20.0.0/24 on box
host box
container box/front in dock
listen box/front 80 as one
listen box/front 80 as two
listen box 80 as own
listen box 81 as one
listen box 81 as two
`)
	for _, m := range decoded[[]ports.Machine](t, call(t, h, "GET", "/api/ports", nil), http.StatusOK) {
		for _, p := range m.Ports {
			if clash := p.Clash != ""; clash != (p.Port == 81) {
				t.Errorf("%s %d: clash %q", m.Name, p.Port, p.Clash)
			}
		}
	}
}

// TestFilterInOrder reads a filter of the demo as an ordered list.
func TestFilterInOrder(t *testing.T) {
	h := served(t, demo.Estate)
	f := decoded[FilterAnswer](t, call(t, h, "GET", "/api/filter?name=edge", nil), 200)
	if len(f.Lines) != 12 || f.Otherwise != "drop" || !slices.Equal(f.On, []string{"meridian"}) {
		t.Fatalf("%+v", f)
	}
	web, late := f.Lines[4], f.Lines[8]
	if web.Record != "rule edge pass 80,443 from internet to azimuth" || web.Needs == 0 || !slices.Contains(web.NeededBy, "fernmoor.example:443") || len(web.Takes) != 1 || web.Takes[0].Ports != "80,443" || !slices.Equal(web.Takes[0].From, []string{"internet"}) || !slices.Equal(web.Takes[0].To, []string{"azimuth"}) {
		t.Errorf("the line for the web: %+v", web)
	}
	if !late.Shadowed || !slices.Equal(late.Before, []int{8}) || len(late.Takes) != 0 {
		t.Errorf("the line behind a drop: %+v", late)
	}
	if got := call(t, h, "GET", "/api/filter?name=nothing", nil); got.Code != 422 {
		t.Errorf("a filter that is not there: %d", got.Code)
	}
}

// TestShutOut is told before a line is kept that shuts the port by which a machine is administered.
func TestShutOut(t *testing.T) {
	h := served(t, demo.Estate)
	e := decoded[effect.Effect](t, call(t, h, "POST", "/api/preview", ChangeQuestion{Base: 1, Remove: []string{}, Add: []string{"rule tidy at 1 drop 22"}}), 200)
	if len(e.Lost) != 2 || e.Lost[0].Place != "orrery-a" || e.Lost[0].Port != 22 || !e.Lost[0].Nobody || !slices.Contains(e.Lost[0].From, "yard") {
		t.Errorf("%+v", e.Lost)
	}
	e = decoded[effect.Effect](t, call(t, h, "POST", "/api/preview", ChangeQuestion{Base: 1, Remove: []string{}, Add: []string{"filter more on azimuth input otherwise pass", "rule more drop 22 from yard"}}), 200)
	if len(e.Lost) != 1 || e.Lost[0].Place != "azimuth" || e.Lost[0].Nobody || !slices.Equal(e.Lost[0].From, []string{"yard"}) {
		t.Errorf("shut for one network: %+v", e.Lost)
	}
	e = decoded[effect.Effect](t, call(t, h, "POST", "/api/preview", ChangeQuestion{Base: 1, Remove: []string{"listen orrery-a 22 as ssh"}, Add: []string{}}), 200)
	if len(e.Lost) != 0 {
		t.Errorf("taken away, and not shut: %+v", e.Lost)
	}
}

// TestClose offers the lines that close each door to the internet of the demo, and with them it is closed.
func TestClose(t *testing.T) {
	h := served(t, demo.Estate)
	x := decoded[ExposureAnswer](t, call(t, h, "GET", "/api/exposure?from=internet", nil), 200)
	closed := 0
	for _, o := range x.Open {
		q := url.Values{"from": {"internet"}, "address": {o.Address}, "ports": {o.Ports}, "transport": {o.Transport}}
		got := call(t, h, "GET", "/api/exposure/close?"+q.Encode(), nil)
		if got.Code != 200 {
			t.Errorf("%s:%s: %s", o.Address, o.Ports, got.Body)
			continue
		}
		mend := decoded[flow.Mend](t, got, 200)
		e := decoded[effect.Effect](t, call(t, h, "POST", "/api/preview", ChangeQuestion{Base: 1, Remove: mend.Remove, Add: mend.Add}), 200)
		if !slices.ContainsFunc(e.Doors, func(d effect.DoorChange) bool { return !d.Opens && d.Address == o.Address && d.Ports == o.Ports }) {
			t.Errorf("%s:%s is not closed by %v: %+v", o.Address, o.Ports, mend, e.Doors)
		}
		closed++
	}
	if closed < 10 {
		t.Errorf("only %d doors", closed)
	}
	if got := call(t, h, "GET", "/api/exposure/close?address=203.0.113.20&ports=9", nil); got.Code != 422 {
		t.Errorf("a door that is not open: %d", got.Code)
	}
}

// TestLooks keeps looks that were made elsewhere, holds them against the records as they are, and says which were made before these changed.
func TestLooks(t *testing.T) {
	h := served(t, "network lan 10.0.0.0/24\nhost box\naddress box 203.0.113.7 internet\nlisten box 22 as ssh\nzone a.example\ndns a.example A 203.0.113.7\n")
	at := time.Now().UTC().Truncate(time.Second)
	one := `{"at":"` + at.Format(time.RFC3339) + `","from":"internet","target":"a.example:22","did":"connect","came":"refused","address":"203.0.113.7","revision":1}` + "\n"
	other := `{"at":"` + at.Add(time.Second).Format(time.RFC3339) + `","from":"internet","target":"a.example A","did":"resolve","came":"answered","code":"NOERROR","answers":["203.0.113.7"],"revision":1}` + "\n"
	take := func(text string) LooksKept {
		return decoded[LooksKept](t, call(t, h, "POST", "/api/looks", LooksTaken{Name: "x", Text: text}), http.StatusOK)
	}
	if k := take(one + other); k.Kept != 2 || len(k.Faults) > 0 {
		t.Fatalf("%+v", k)
	}
	if k := take(strings.Replace(one, "internet", "nowhere", 1)); k.Kept != 0 || len(k.Faults) != 1 || !strings.Contains(k.Faults[0].What, "nowhere") {
		t.Errorf("from nowhere: %+v", k)
	}
	looks := func() []SeenLook {
		return decoded[[]SeenLook](t, call(t, h, "GET", "/api/looks?name=a.example", nil), http.StatusOK)
	}
	if k := take(strings.NewReplacer(`"revision":1`, `"revision":99`, ":22", ":23").Replace(one)); k.Kept != 1 {
		t.Errorf("of a revision of another database: %+v", k)
	}
	got := slices.DeleteFunc(looks(), func(l SeenLook) bool { return l.Port == 23 && l.Old })
	if len(got) != 2 || got[0].Agrees != look.Agrees || got[1].Agrees != look.Differs || got[1].Port != 22 || got[0].Old || got[1].Old {
		t.Errorf("%+v", got)
	}
	marks := func() []Seen {
		return decoded[[]Seen](t, call(t, h, "GET", "/api/seen?from=internet", nil), http.StatusOK)
	}
	if m := slices.DeleteFunc(marks(), func(s Seen) bool { return s.Port == 23 }); len(m) != 1 || m[0].State != Otherwise || m[0].Says != "recorded: arrives; seen: it was refused" {
		t.Errorf("%+v", m)
	}
	// The port is another's now: what was seen of it was seen before.
	changed := map[string]any{"base": 1, "remove": []string{"listen box 22 as ssh"}, "add": []string{"listen box 22 as shell"}}
	if w := call(t, h, "POST", "/api/change", changed); w.Code != http.StatusOK {
		t.Fatal(w.Body)
	}
	got = slices.DeleteFunc(looks(), func(l SeenLook) bool { return l.Port == 23 })
	if len(got) != 2 || got[0].Old || !got[1].Old {
		t.Errorf("after a change: %+v", got)
	}
	if m := slices.DeleteFunc(marks(), func(s Seen) bool { return s.Port == 23 }); len(m) != 1 || m[0].State != Before {
		t.Errorf("after a change: %+v", m)
	}
	// Nothing of a range for documentation is contacted, and that is said.
	a := decoded[LookAnswer](t, call(t, h, "POST", "/api/look", LookQuestion{Targets: []string{"a.example:22"}, Dry: true}), http.StatusOK)
	if len(a.Looks) > 0 || len(a.Plan.Refused) != 1 || !strings.Contains(a.Plan.Refused[0].Why, "documentation") {
		t.Errorf("%+v", a)
	}
	if w := call(t, h, "POST", "/api/look", LookQuestion{Targets: []string{"a..b:22"}, Dry: true}); w.Code != http.StatusUnprocessableEntity {
		t.Errorf("no target: %d %s", w.Code, w.Body)
	}
}
