package server

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/core/effect"
	"steady-compass/core/estate"
	"steady-compass/core/findings"
	"steady-compass/core/notation"
	"steady-compass/core/survey"
	"steady-compass/demo"
	"steady-compass/store"
)

func got[T any](t *testing.T, h http.Handler, path string) T {
	t.Helper()
	return decoded[T](t, call(t, h, "GET", path, nil), 200)
}

func posted[T any](t *testing.T, h http.Handler, path string, in any) T {
	t.Helper()
	return decoded[T](t, call(t, h, "POST", path, in), 200)
}

// TestFrame: what the frame of the interface shows agrees with the tables behind it.
func TestFrame(t *testing.T) {
	h := served(t, demo.Estate)
	state := got[State](t, h, "/api/state")
	e, _ := notation.Parse(demo.Estate)
	if state.Name != "Fernmoor Observatory" || state.Revision != 1 || state.Day != day || state.Records != e.Count() || state.Undo.Lines != e.Count() {
		t.Errorf("%+v", state)
	}
	counts := got[survey.Counts](t, h, "/api/counts")
	names := got[NamesAnswer](t, h, "/api/names?from=internet")
	report := got[findings.Report](t, h, "/api/findings")
	if counts.Names != len(names.Rows) || counts.Arrive+counts.Stop+counts.Undecided > counts.Names || counts.Arrive == 0 || counts.Stop == 0 {
		t.Errorf("%+v of %d rows", counts, len(names.Rows))
	}
	if counts.Errors != report.Counts[findings.Error] || counts.Warnings != report.Counts[findings.Warning] || counts.Notes != report.Counts[findings.Note] || counts.Errors+counts.Warnings+counts.Notes != len(report.Findings) {
		t.Errorf("%+v of %v", counts, report.Counts)
	}
	hosts := 0
	for _, r := range e.Of(estate.KindNamed("host")) {
		if host := r.(*estate.Host); !host.Off && !host.Outside {
			hosts++
		}
	}
	if counts.Machines != hosts {
		t.Errorf("%d machines of %d hosts", counts.Machines, hosts)
	}
	var words []string
	for _, v := range got[[]Vantage](t, h, "/api/vantages") {
		words = append(words, v.Kind+" "+v.Name)
		if w := call(t, h, "GET", "/api/names?from="+v.Name, nil); w.Code != 200 {
			t.Errorf("from %s: %d %s", v.Name, w.Code, w.Body)
		}
	}
	for _, want := range []string{"network yard", "host azimuth"} {
		if !slices.Contains(words, want) {
			t.Errorf("no vantage %q among %q", want, words)
		}
	}
	kinds := got[[]KindWords](t, h, "/api/kinds")
	if len(kinds) != len(estate.Kinds) {
		t.Fatalf("%d kinds of %d", len(kinds), len(estate.Kinds))
	}
	for i, k := range kinds {
		if k.Word != estate.Kinds[i].Word || !strings.HasPrefix(k.Usage, k.Word) {
			t.Errorf("%+v", k)
		}
	}
}

// TestUndoAndRedo takes changes back and makes them again; each is in the log, the newest first.
func TestUndoAndRedo(t *testing.T) {
	h := served(t, "host a\nhost b\n")
	hosts := func() string { return strings.Join(strings.Fields(got[Records](t, h, "/api/records").Text), " ") }
	posted[Changed](t, h, "/api/change", ChangeQuestion{Base: 1, Remove: []string{}, Add: []string{"host c"}, Why: "one more"})
	posted[Changed](t, h, "/api/change", ChangeQuestion{Base: 2, Remove: []string{"host a"}, Add: []string{"host a router"}})
	if u := got[State](t, h, "/api/state").Undo; u.Revision != 3 || u.Lines != 2 {
		t.Errorf("an undo would take back %+v", u)
	}
	posted[Changed](t, h, "/api/undo", UndoQuestion{})
	if hosts() != "host a host b host c" {
		t.Errorf("after an undo: %s", hosts())
	}
	posted[Changed](t, h, "/api/redo", map[string]any{})
	if hosts() != "host a router host b host c" {
		t.Errorf("after a redo: %s", hosts())
	}
	if w := call(t, h, "POST", "/api/redo", map[string]any{}); w.Code != 409 && w.Code != 422 {
		t.Errorf("a second redo: %d %s", w.Code, w.Body)
	}
	posted[Changed](t, h, "/api/undo", UndoQuestion{Revision: 2})
	if hosts() != "host a router host b" {
		t.Errorf("after an older change was undone: %s", hosts())
	}
	log := got[[]store.Entry](t, h, "/api/log")
	if len(log) < 6 || log[0].Revision != 6 || log[0].Act != "undo" || log[0].Of != 2 || !slices.Equal(log[0].Removed, []string{"host c"}) {
		t.Errorf("%+v", log)
	}
	if few := got[[]store.Entry](t, h, "/api/log?before=4&limit=2"); len(few) != 2 || few[0].Revision != 3 || few[1].Revision != 2 || few[1].Why != "one more" {
		t.Errorf("%+v", few)
	}
	if w := call(t, h, "POST", "/api/undo", UndoQuestion{Revision: 99}); w.Code < 400 || w.Code >= 500 {
		t.Errorf("an undo of nothing: %d", w.Code)
	}
}

// TestWholeText: what is wrong with a text, and what saving it would do; nothing is kept.
func TestWholeText(t *testing.T) {
	h := served(t, demo.Estate)
	text := got[Records](t, h, "/api/records").Text
	if a := posted[TextAnswer](t, h, "/api/text", TextQuestion{Base: 1, Text: text}); len(a.Removed)+len(a.Added)+len(a.Faults) != 0 || a.Effect != nil || len(a.Marks) < 20 {
		t.Errorf("the text as it is: %d marks, %+v", len(a.Marks), a.Effect)
	}
	faulty := posted[TextAnswer](t, h, "/api/text", TextQuestion{Base: 1, Text: "host a\nhost\n"})
	if len(faulty.Faults) != 1 || faulty.Faults[0].Line != 2 || len(faulty.Removed) != 0 {
		t.Errorf("%+v", faulty)
	}
	was, is := "http://localhost:3000", "http://allsky:3000"
	a := posted[TextAnswer](t, h, "/api/text", TextQuestion{Base: 1, Text: strings.Replace(text, was, is, 1)})
	if len(a.Removed) != 1 || len(a.Added) != 1 || !strings.HasSuffix(a.Added[0], is) || a.Effect == nil {
		t.Fatalf("%+v", a)
	}
	mended := slices.ContainsFunc(a.Effect.Names, func(n effect.NameChange) bool {
		return n.Name == "sky.fernmoor.example" && n.Port == 443 && n.Starts()
	})
	if !mended || a.Effect.Ended == nil {
		t.Errorf("%+v", a.Effect)
	}
	lines := strings.Split(text, "\n")
	for _, m := range a.Marks {
		if m.Line < 1 || m.Line > len(lines) || strings.TrimSpace(lines[m.Line-1]) == "" || m.Why == "" {
			t.Errorf("a mark at nothing: %+v", m)
		}
	}
	if after := got[Records](t, h, "/api/records"); after.Text != text || after.Revision != 1 {
		t.Error("looking at a text changed the estate")
	}
}

// TestExample is loaded into an empty estate, and into no other.
func TestExample(t *testing.T) {
	h := served(t, "")
	if s := got[State](t, h, "/api/state"); s.Records != 0 {
		t.Fatalf("%+v", s)
	}
	posted[Changed](t, h, "/api/example", map[string]any{})
	if s := got[State](t, h, "/api/state"); s.Name != "Fernmoor Observatory" {
		t.Errorf("%+v", s)
	}
	if w := call(t, h, "POST", "/api/example", map[string]any{}); w.Code != http.StatusConflict {
		t.Errorf("over what is there: %d", w.Code)
	}
}

// TestPortPlan writes a plan as lines that are off, holds it against what is there, and switches it on.
func TestPortPlan(t *testing.T) {
	h := served(t, "network lan 10.0.0.0/24\nnetwork dock 172.20.0.0/24 on box\nhost box\naddress box 10.0.0.5 lan\ncontainer box/app in dock\nlisten box 8080 as old\nlisten box/app 80 as app\n")
	a := posted[PlanAnswer](t, h, "/api/plan", PlanQuestion{Gateway: "box", Rows: "8080 box/app:80 the app\n8081 box/app:80 the app\nnonsense\n"})
	if len(a.Lines) < 2 || len(a.Faults) != 1 || a.Faults[0].Row != 3 {
		t.Fatalf("%+v", a)
	}
	var add, second []string
	for _, l := range a.Lines {
		if !strings.Contains(l.Record, " off") || strings.Contains(l.InForce, " off") {
			t.Errorf("%+v", l)
		}
		add = append(add, l.Record)
		if strings.Contains(l.Record, "8080") != (len(l.Collides) > 0) {
			t.Errorf("%s collides with %v", l.Record, l.Collides)
		}
		if strings.Contains(l.Record, "8081") {
			second = append(second, l.Record)
		}
	}
	posted[Changed](t, h, "/api/change", ChangeQuestion{Base: 1, Remove: []string{}, Add: add})
	if planned := got[[]PlannedLine](t, h, "/api/plan"); len(planned) != len(add) {
		t.Errorf("%d planned of %d", len(planned), len(add))
	}
	on := posted[SwitchAnswer](t, h, "/api/plan/on", SwitchQuestion{Lines: second})
	if len(on.Remove) != len(second) || len(on.Add) != len(second) || len(on.Lines[0].Collides) != 0 {
		t.Errorf("%+v", on)
	}
	if w := call(t, h, "POST", "/api/plan/on", SwitchQuestion{Lines: []string{"map box/app 1 to 2 off"}}); w.Code != 422 {
		t.Errorf("what is not planned: %d", w.Code)
	}
}

// TestEvents: an open page is told of each revision.
func TestEvents(t *testing.T) {
	h := served(t, "host a\n")
	server := httptest.NewServer(h)
	defer server.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", server.URL+"/api/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = res.Body.Close() }()
	if kind := res.Header.Get("Content-Type"); kind != "text/event-stream" {
		t.Errorf("sent as %s", kind)
	}
	told := bufio.NewScanner(res.Body)
	next := func() string {
		event := ""
		for told.Scan() {
			event, _ = strings.CutPrefix(told.Text(), "event: ")
			if event == "revision" && told.Scan() {
				return strings.TrimPrefix(told.Text(), "data: ")
			}
		}
		t.Fatalf("the stream ended: %v", told.Err())
		return ""
	}
	if first := next(); first != "1" {
		t.Errorf("first told of %s", first)
	}
	for revision := int64(1); revision < 4; revision++ {
		posted[Changed](t, h, "/api/change", ChangeQuestion{Base: revision, Remove: []string{}, Add: []string{fmt.Sprintf("host h%d", revision)}})
		if data := next(); data != fmt.Sprint(revision+1) {
			t.Errorf("told of %s after change %d", data, revision)
		}
	}
}
