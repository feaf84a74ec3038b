package server

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"steady-compass/demo"
	"steady-compass/store"
)

// TestAsItWas: every question can be asked of an earlier revision, nothing can be written into one, and two are held against one another.
func TestAsItWas(t *testing.T) {
	h := served(t, demo.Estate)
	for n, line := range []string{"host nova", "dns nova.fernmoor.example A 203.0.113.20", "address nova 10.40.8.77 perimeter"} {
		if w := call(t, h, "POST", "/api/change", map[string]any{"base": n + 1, "remove": []string{}, "add": []string{line}, "why": "step " + fmt.Sprint(n)}); w.Code != 200 {
			t.Fatal(w.Body)
		}
	}
	asked := func(path string, out any) {
		t.Helper()
		w := call(t, h, "GET", path, nil)
		if w.Code != 200 {
			t.Fatalf("%s: %d %s", path, w.Code, w.Body)
		}
		if err := json.Unmarshal(w.Body.Bytes(), out); err != nil {
			t.Fatal(err)
		}
	}
	for revision, want := range map[int]struct {
		nova, dns bool
	}{1: {false, false}, 2: {true, false}, 3: {true, true}, 4: {true, true}} {
		var records Records
		asked(fmt.Sprintf("/api/records?draft=-%d", revision), &records)
		if strings.Contains(records.Text, "host      nova") != want.nova || strings.Contains(records.Text, "nova.fernmoor") != want.dns {
			t.Errorf("revision %d: %v", revision, want)
		}
		var result struct{ Verdict string }
		asked(fmt.Sprintf("/api/trace?target=nova.fernmoor.example%%3A443&draft=-%d", revision), &result)
		if (result.Verdict == "unresolved") == want.dns {
			t.Errorf("revision %d: %s", revision, result.Verdict)
		}
		var state State
		asked(fmt.Sprintf("/api/state?draft=-%d", revision), &state)
		if state.Through == nil || state.Through.ID != -int64(revision) || state.Through.Lines != 4-revision || state.Through.At == "" {
			t.Errorf("revision %d: %+v", revision, state.Through)
		}
	}
	before := call(t, h, "GET", "/api/records", nil).Body.String()
	for path, in := range map[string]any{
		"/api/change?draft=-2":  map[string]any{"base": 4, "remove": []string{}, "add": []string{"host intruder"}},
		"/api/records?draft=-2": map[string]any{"base": 2, "edition": 1, "text": "host intruder"},
		"/api/undo?draft=-2":    map[string]any{},
	} {
		if w := call(t, h, "POST", path, in); w.Code != 409 {
			t.Errorf("%s: %d %s", path, w.Code, w.Body)
		}
	}
	if after := call(t, h, "GET", "/api/records", nil).Body.String(); after != before {
		t.Error("something was written into what has been")
	}
	var b Between
	asked("/api/log/between?from=1&to=3", &b)
	if len(b.Remove) != 0 || strings.Join(b.Add, "; ") != "host nova; dns nova.fernmoor.example A 203.0.113.20" || b.Effect == nil || len(b.Effect.Names) == 0 {
		t.Errorf("%+v", b)
	}
	asked("/api/log/between?from=3&to=1", &b)
	if b.From != 1 || b.To != 3 {
		t.Errorf("the other way round: %d to %d", b.From, b.To)
	}
	if w := call(t, h, "GET", "/api/log/between?from=1&to=77", nil); w.Code != 404 {
		t.Errorf("a revision that is not there: %d", w.Code)
	}
	for question, want := range map[string]string{
		"":                   "4 3 2 1",
		"?kind=dns":          "3 1",
		"?kind=address":      "4 1",
		"?kind=cert":         "1",
		"?word=NOVA":         "4 3 2",
		"?word=step":         "4 3 2",
		"?word=%25":          "",
		"?word=_":            "",
		"?word=step+1":       "3",
		"?who=mach":          "4 3 2",
		"?who=me":            "1",
		"?who=nobody":        "",
		"?before=3&kind=dns": "1",
		"?word=%22":          "1",
	} {
		var entries []store.Entry
		asked("/api/log"+question, &entries)
		var got []string
		for _, e := range entries {
			got = append(got, fmt.Sprint(e.Revision))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %v, want %s", question, got, want)
		}
	}
}

// TestProposal takes a change back whose line is another by now: nothing is done, both sides are told, and a draft of it has the whole. One that was
// undone is made again by its own number, others between or not.
func TestProposal(t *testing.T) {
	h := served(t, "host a\nhost b")
	edit := func(base int64, remove, add []string) {
		t.Helper()
		decoded[Changed](t, call(t, h, "POST", "/api/change", ChangeQuestion{Base: base, Remove: remove, Add: add}), 200)
	}
	edit(1, []string{"host a"}, []string{"host a router", "host c"})
	edit(2, []string{"host a router"}, []string{`host a router note "kept"`})
	met := decoded[Problem](t, call(t, h, "POST", "/api/undo", UndoQuestion{Revision: 2}), 409)
	if len(met.Clashes) != 1 || met.Clashes[0].Mine != "host a" || met.Clashes[0].Theirs != `host a router note "kept"` {
		t.Errorf("the clash %+v", met.Clashes)
	}
	d := decoded[store.Draft](t, call(t, h, "POST", "/api/log/proposal", ProposalQuestion{Revision: 2}), 200)
	if !slices.Equal(d.Remove, []string{"host c", `host a router note "kept"`}) || !slices.Equal(d.Add, []string{"host a"}) || d.Title != "Take back revision 2" {
		t.Errorf("the draft %+v", d)
	}
	if w := call(t, h, "POST", "/api/log/proposal", ProposalQuestion{Revision: 77}); w.Code != 409 && w.Code != 422 {
		t.Errorf("of what there is not: %d %s", w.Code, w.Body)
	}

	edit(3, []string{}, []string{"host d"})
	decoded[Changed](t, call(t, h, "POST", "/api/undo", UndoQuestion{Revision: 4}), 200)
	edit(5, []string{}, []string{"host e"})
	decoded[Changed](t, call(t, h, "POST", "/api/redo", RedoQuestion{Revision: 4}), 200)
	text := decoded[Records](t, call(t, h, "GET", "/api/records", nil), 200).Text
	if !strings.Contains(text, "host      d\n") || !strings.Contains(text, "host      e\n") {
		t.Errorf("made again:\n%s", text)
	}
}
