package server

import (
	"fmt"
	"strings"
	"testing"

	"steady-compass/core/change"
	"steady-compass/demo"
	"steady-compass/store"
)

// TestDrafts: a change is kept, seen, made step by step or as one, and dropped; nothing of it is in force before.
func TestDrafts(t *testing.T) {
	h := served(t, demo.Estate)
	revision := func() int64 { return decoded[State](t, call(t, h, "GET", "/api/state", nil), 200).Revision }
	began := revision()
	move := NewDraft{
		Title: "Move the images", Remove: []string{"listen zenith 9000 as images", "site front archive.fernmoor.example at 443 to http://zenith:9000", "rule store pass 9000,9090 from azimuth"},
		Add: []string{"listen zenith 9001 as images", "site front archive.fernmoor.example at 443 to http://zenith:9001", "rule store pass 9001,9090 from azimuth"},
	}
	kept := decoded[store.Draft](t, call(t, h, "POST", "/api/drafts", move), 200)
	if kept.ID == 0 || kept.Revision != began || revision() != began {
		t.Fatalf("%+v", kept)
	}
	list := decoded[[]DraftRow](t, call(t, h, "GET", "/api/drafts", nil), 200)
	if len(list) != 1 || list[0].Lines != 6 || list[0].Cannot != "" {
		t.Errorf("%+v", list)
	}
	path := fmt.Sprintf("/api/drafts/%d", kept.ID)
	made := 0
	for range 8 {
		w := call(t, h, "GET", path, nil)
		if w.Code == 404 {
			break
		}
		d := decoded[DraftSeen](t, w, 200)
		if d.Order == nil || len(d.Order.Gaps) > 0 || len(d.Done) != made {
			t.Fatalf("%+v", d)
		}
		first := d.Order.Steps[0]
		if first.Kind != change.Edit {
			t.Fatalf("%+v", first)
		}
		done := decoded[Changed](t, call(t, h, "POST", path+"/done", StepDone{Base: revision(), Place: first.At, Remove: first.Remove, Add: first.Add}), 200)
		if made++; done.Revision != began+int64(made) {
			t.Errorf("revision %d after step %d", done.Revision, made)
		}
	}
	if made < 3 {
		t.Errorf("made in %d steps", made)
	}
	text := call(t, h, "GET", "/api/records", nil).Body.String()
	if !strings.Contains(text, "http://zenith:9001") || strings.Contains(text, "http://zenith:9000") {
		t.Error("the draft is not in force after its steps")
	}

	again := decoded[store.Draft](t, call(t, h, "POST", "/api/drafts", NewDraft{Title: "A lamp", Remove: []string{}, Add: []string{"host lamp"}}), 200)
	gone := decoded[store.Draft](t, call(t, h, "POST", "/api/drafts", NewDraft{Title: "No lamp", Remove: []string{}, Add: []string{"host lamp2"}}), 200)
	if w := call(t, h, "POST", fmt.Sprintf("/api/drafts/%d/drop", gone.ID), nil); w.Code != 200 && w.Code != 204 {
		t.Errorf("dropped: %d", w.Code)
	}
	decoded[Changed](t, call(t, h, "POST", fmt.Sprintf("/api/drafts/%d/apply", again.ID), nil), 200)
	if list := decoded[[]DraftRow](t, call(t, h, "GET", "/api/drafts", nil), 200); len(list) != 0 {
		t.Errorf("left: %+v", list)
	}
	for _, c := range []struct {
		path string
		in   any
		want int
	}{
		{"/api/drafts", NewDraft{Title: "x", Remove: []string{}, Add: []string{}}, 422},
		{"/api/drafts", NewDraft{Title: "", Remove: []string{}, Add: []string{"host x"}}, 422},
		{"/api/drafts", NewDraft{Title: "x", Remove: []string{}, Add: []string{"hots x"}}, 422},
		{"/api/drafts", NewDraft{Title: "x", Remove: []string{"host nobody"}, Add: []string{}}, 409},
		{"/api/drafts/99/apply", nil, 404},
		{"/api/drafts/99/drop", nil, 404},
	} {
		if w := call(t, h, "POST", c.path, c.in); w.Code != c.want {
			t.Errorf("%s %v: %d, want %d: %s", c.path, c.in, w.Code, c.want, w.Body)
		}
	}
}

// TestADraftOfLinesThatWent: what it takes out is gone meanwhile, and that is said.
func TestADraftOfLinesThatWent(t *testing.T) {
	h := served(t, demo.Estate)
	line := "listen zenith 9000 as images"
	d := decoded[store.Draft](t, call(t, h, "POST", "/api/drafts", NewDraft{Title: "x", Remove: []string{line}, Add: []string{}}), 200)
	state := decoded[State](t, call(t, h, "GET", "/api/state", nil), 200)
	decoded[Changed](t, call(t, h, "POST", "/api/change", ChangeQuestion{Base: state.Revision, Remove: []string{line}, Add: []string{}}), 200)
	seen := decoded[DraftSeen](t, call(t, h, "GET", fmt.Sprintf("/api/drafts/%d", d.ID), nil), 200)
	if len(seen.Clashes) != 1 || seen.Clashes[0].Line != line || seen.Cannot == "" || seen.Order != nil {
		t.Errorf("%+v", seen)
	}
	if w := call(t, h, "POST", fmt.Sprintf("/api/drafts/%d/apply", d.ID), nil); w.Code != 409 {
		t.Errorf("made all the same: %d", w.Code)
	}
}

// TestPlans: a sentence is answered with plans, each with what it does; one that is not understood says what was expected.
func TestPlans(t *testing.T) {
	h := served(t, demo.Estate)
	said := func(sentence string) change.Proposals {
		return decoded[change.Proposals](t, call(t, h, "POST", "/api/plans", Wanted{sentence}), 200)
	}
	if p := said("publish pics.fernmoor.example to zenith:9000 for internet"); len(p.Plans) == 0 || p.Plans[0].Effect == nil || len(p.Plans[0].Effect.Names) == 0 {
		t.Errorf("%+v", p)
	}
	if p := said("publish m.fernmoor.example:443 to azimuth/meters for yard,instruments guarded by sign through front at 10.40.8.10"); len(p.Plans) == 0 || !strings.Contains(strings.Join(p.Plans[0].Add, "\n"), "guard sign sources yard,instruments") {
		t.Errorf("%+v", p)
	}
	if r := said("retire archive.fernmoor.example"); len(r.Plans) != 1 || r.Plans[0].Effect == nil || len(r.Stays) == 0 {
		t.Errorf("%+v", r)
	}
	if n := said("retire nobody"); n.None == nil {
		t.Errorf("%+v", n)
	}
	for sentence, want := range map[string]string{
		"":                                       "expected publish NAME",
		"publish":                                "the name is missing",
		"publish a.fernmoor.example":             "not said to where",
		"publish a.fernmoor.example to":          "what follows is missing",
		"publish a.fernmoor.example to zenith:x": "no port",
		"publish a.fernmoor.example to zenith at up": "no address",
		"publish a.fernmoor.example too zenith":      "not understood",
		"retire":                                     "expected publish NAME",
		"retire a b":                                 "expected publish NAME",
	} {
		if w := call(t, h, "POST", "/api/plans", Wanted{sentence}); w.Code != 422 || !strings.Contains(w.Body.String(), want) {
			t.Errorf("%q: %d %s, want %q", sentence, w.Code, w.Body, want)
		}
	}
}
