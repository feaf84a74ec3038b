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
	if len(seen.Missing) != 1 || seen.Cannot == "" || seen.Order != nil {
		t.Errorf("%+v", seen)
	}
	if w := call(t, h, "POST", fmt.Sprintf("/api/drafts/%d/apply", d.ID), nil); w.Code != 409 {
		t.Errorf("made all the same: %d", w.Code)
	}
}

func TestPublishAndRetire(t *testing.T) {
	h := served(t, demo.Estate)
	p := decoded[change.Proposals](t, call(t, h, "POST", "/api/publish", PublishWish{Name: "pics.fernmoor.example", Place: "zenith", Port: 9000, Audience: []string{"internet"}}), 200)
	if len(p.Plans) == 0 || p.Plans[0].Effect == nil || len(p.Plans[0].Effect.Names) == 0 {
		t.Errorf("%+v", p)
	}
	r := decoded[change.Proposals](t, call(t, h, "POST", "/api/retire", RetireWish{Of: "archive.fernmoor.example"}), 200)
	if len(r.Plans) != 1 || r.Plans[0].Effect == nil || len(r.Stays) == 0 {
		t.Errorf("%+v", r)
	}
	if n := decoded[change.Proposals](t, call(t, h, "POST", "/api/retire", RetireWish{Of: "nobody"}), 200); n.None == nil {
		t.Errorf("%+v", n)
	}
}
