package server

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"steady-compass/core/change"
	"steady-compass/core/compare"
	"steady-compass/core/notation"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/trace"
	"steady-compass/demo"
	"steady-compass/store"
)

func drafting(t *testing.T, h http.Handler, title string, remove, add []string) store.Draft {
	t.Helper()
	return decoded[store.Draft](t, call(t, h, "POST", "/api/drafts", NewDraft{Title: title, Remove: remove, Add: add}), 200)
}

// TestLookingThrough: through a draft every question is answered as if it were made; what is written goes into it, and is taken back from
// it; and what is in force is as it was.
func TestLookingThrough(t *testing.T) {
	h := served(t, demo.Estate)
	d := drafting(t, h, "Pictures", []string{}, []string{"dns pics.fernmoor.example A 203.0.113.20"})
	at := func(path string, through bool) string {
		if !through {
			return path
		}
		return path + map[bool]string{true: "&", false: "?"}[strings.Contains(path, "?")] + fmt.Sprintf("draft=%d", d.ID)
	}
	began := decoded[State](t, call(t, h, "GET", "/api/state", nil), 200)
	if began.Through != nil {
		t.Errorf("nothing is looked through, but %+v", began.Through)
	}
	for _, path := range []string{
		"/api/names", "/api/counts", "/api/findings", "/api/exposure", "/api/certificates", "/api/dates", "/api/ports", "/api/records", "/api/vantages",
		"/api/answers", "/api/courses", "/api/uses?of=azimuth", "/api/leads?to=azimuth", "/api/plan", "/api/trace?target=pics.fernmoor.example", "/api/ports/machine?machine=azimuth",
		"/api/filter?name=edge", "/api/without?of=azimuth", "/api/export?format=estate", "/api/log", "/api/ports/free?machine=azimuth&above=8000", "/api/compare?target=pics.fernmoor.example",
	} {
		if w := call(t, h, "GET", at(path, true), nil); w.Code != 200 {
			t.Errorf("%s: %d %s", path, w.Code, w.Body)
		}
	}
	rows := func(through bool) bool {
		return strings.Contains(call(t, h, "GET", at("/api/names", through), nil).Body.String(), "pics.fernmoor.example")
	}
	if !rows(true) || rows(false) {
		t.Error("the table of names is not as the draft, or in force, has it")
	}
	traced := decoded[trace.Result](t, call(t, h, "GET", at("/api/trace?target=pics.fernmoor.example:443", true), nil), 200)
	if len(traced.Paths) == 0 || traced.Paths[0].Steps[0].Verdict != "pass" {
		t.Errorf("%+v", traced)
	}
	sides := decoded[compare.Comparison](t, call(t, h, "GET", fmt.Sprintf("/api/compare?target=pics.fernmoor.example:443&with=%d", d.ID), nil), 200)
	if fmt.Sprint(sides.Left) == fmt.Sprint(sides.Right) {
		t.Error("before and after are the same")
	}

	wrote := func(remove, add []string, key string, want int) {
		t.Helper()
		q := ChangeQuestion{Base: began.Revision, Remove: append([]string{}, remove...), Add: append([]string{}, add...), Key: key}
		if w := call(t, h, "POST", at("/api/change", true), q); w.Code != want {
			t.Errorf("-%v +%v: %d, want %d: %s", remove, add, w.Code, want, w.Body)
		}
	}
	lines := func() []string {
		got := decoded[DraftSeen](t, call(t, h, "GET", fmt.Sprintf("/api/drafts/%d", d.ID), nil), 200)
		out := []string{}
		for _, line := range got.Remove {
			out = append(out, "- "+line)
		}
		for _, line := range got.Add {
			out = append(out, "+ "+line)
		}
		return out
	}
	is := func(want ...string) {
		t.Helper()
		if got := lines(); !slices.Equal(got, want) {
			t.Errorf("the draft is %q, want %q", got, want)
		}
	}
	pics, lamp, lamp2 := "dns pics.fernmoor.example A 203.0.113.20", "host lamp", "host lamp2"
	wrote(nil, []string{lamp}, "a", 200)
	wrote(nil, []string{lamp}, "a", 200) // sent again
	is("+ "+pics, "+ "+lamp)
	wrote([]string{lamp}, []string{lamp2}, "", 200) // of the draft's own
	is("+ "+pics, "+ "+lamp2)
	wrote([]string{"host nobody"}, nil, "", 409)
	wrote([]string{lamp2}, []string{lamp2}, "", 409) // nothing
	wrote([]string{pics, lamp2}, nil, "", 200)       // it may be emptied
	is()
	state := decoded[State](t, call(t, h, "GET", at("/api/state", true), nil), 200)
	if th := state.Through; th == nil || th.Undo != 3 || th.Lines != 0 || th.Title != "Pictures" {
		t.Errorf("%+v", state.Through)
	}
	for range 2 {
		decoded[Changed](t, call(t, h, "POST", at("/api/undo", true), UndoQuestion{}), 200)
	}
	is("+ "+pics, "+ "+lamp)
	decoded[Changed](t, call(t, h, "POST", at("/api/undo", true), UndoQuestion{}), 200)
	is("+ " + pics)
	if w := call(t, h, "POST", at("/api/undo", true), UndoQuestion{}); w.Code != 409 {
		t.Errorf("taken back once more: %d %s", w.Code, w.Body)
	}
	for path, in := range map[string]any{"/api/redo": RedoQuestion{}, "/api/example": nil, "/api/undo": UndoQuestion{Revision: 1}} {
		if w := call(t, h, "POST", at(path, true), in); w.Code != 409 || !strings.Contains(w.Body.String(), "leave the draft") {
			t.Errorf("%s: %d %s", path, w.Code, w.Body)
		}
	}
	if now := decoded[State](t, call(t, h, "GET", "/api/state", nil), 200); now.Revision != began.Revision || now.Records != began.Records {
		t.Errorf("what is in force is %+v, was %+v", now, began)
	}

	// A whole text goes into the draft as well, where it is of the draft as it is.
	records := decoded[Records](t, call(t, h, "GET", at("/api/records", true), nil), 200)
	save := func(text string, want int) {
		t.Helper()
		q := TextQuestion{Base: records.Revision, Edition: records.Edition, Text: text}
		if w := call(t, h, "POST", at("/api/records", true), q); w.Code != want {
			t.Errorf("saved: %d, want %d: %s", w.Code, want, w.Body)
		}
	}
	save(records.Text+"host lamp3\n", 200)
	if got := lines(); len(got) != 2 || !strings.Contains(got[1], "host lamp3") {
		t.Errorf("%q", got)
	}
	save(records.Text, 409) // it is another edition by now

	for word, want := range map[string]int{"999": 404, "x": 422, "-999": 404, "-1": 200, "0": 200} {
		if w := call(t, h, "GET", "/api/names?draft="+word, nil); w.Code != want {
			t.Errorf("draft %s: %d, want %d", word, w.Code, want)
		}
	}
}

// TestADraftThatCannotBeMade: what it stands on is gone; the frame says why, and nothing else answers as if it were made.
func TestADraftThatCannotBeMade(t *testing.T) {
	h := served(t, demo.Estate)
	line, ours, theirs := "listen zenith 9000 as images", "listen zenith 9001 as images", "listen zenith 9002 as images"
	d := drafting(t, h, "x", []string{line}, []string{ours})
	state := decoded[State](t, call(t, h, "GET", "/api/state", nil), 200)
	decoded[Changed](t, call(t, h, "POST", "/api/change", ChangeQuestion{Base: state.Revision, Remove: []string{line}, Add: []string{theirs}}), 200)
	through := fmt.Sprintf("?draft=%d", d.ID)
	if s := decoded[State](t, call(t, h, "GET", "/api/state"+through, nil), 200); s.Through == nil || s.Through.Cannot == "" {
		t.Errorf("%+v", s.Through)
	}
	if w := call(t, h, "GET", "/api/names"+through, nil); w.Code != 409 {
		t.Errorf("names: %d", w.Code)
	}
	if w := call(t, h, "POST", "/api/change"+through, ChangeQuestion{Add: []string{"host lamp"}, Remove: []string{}}); w.Code != 409 {
		t.Errorf("written: %d", w.Code)
	}
	path := fmt.Sprintf("/api/drafts/%d", d.ID)
	seen := decoded[DraftSeen](t, call(t, h, "GET", path, nil), 200)
	if len(seen.Clashes) != 1 || seen.Clashes[0].Line != line || seen.Clashes[0].Mine != ours || seen.Clashes[0].Theirs != theirs {
		t.Fatalf("%+v", seen.Clashes)
	}
	if leave := seen.Clashes[0].Leave; len(leave.Remove)+len(leave.Add) != 0 {
		t.Errorf("left as it is: %+v", leave)
	}
	want := seen.Clashes[0].Want
	if !slices.Equal(want.Remove, []string{theirs}) || !slices.Equal(want.Add, []string{ours}) {
		t.Errorf("what is wanted: %+v", want)
	}
	amended := Amendment{Edition: seen.Edition, NewDraft: NewDraft{Title: "x", Remove: want.Remove, Add: want.Add}}
	decoded[store.Draft](t, call(t, h, "POST", path, amended), 200)
	if w := call(t, h, "POST", path, amended); w.Code != 409 { // of the edition before
		t.Errorf("written anew over another's: %d", w.Code)
	}
	if seen = decoded[DraftSeen](t, call(t, h, "GET", path, nil), 200); seen.Cannot != "" || len(seen.Clashes) != 0 || seen.Order == nil {
		t.Errorf("%+v", seen)
	}
	if w := call(t, h, "POST", path, Amendment{Edition: seen.Edition, NewDraft: NewDraft{Title: "x", Remove: []string{}, Add: []string{"hots x"}}}); w.Code != 422 {
		t.Errorf("a line with an error: %d", w.Code)
	}
}

// TestTwoWriteIntoADraft: nothing of either is lost.
func TestTwoWriteIntoADraft(t *testing.T) {
	h := served(t, demo.Estate)
	d := drafting(t, h, "x", []string{}, []string{"host lamp"})
	var hands sync.WaitGroup
	for hand := range 4 {
		hands.Go(func() {
			for n := range 6 {
				q := ChangeQuestion{Remove: []string{}, Add: []string{fmt.Sprintf("host lamp-%d-%d", hand, n)}}
				if w := call(t, h, "POST", fmt.Sprintf("/api/change?draft=%d", d.ID), q); w.Code != 200 {
					t.Errorf("hand %d: %d %s", hand, w.Code, w.Body)
				}
			}
		})
	}
	hands.Wait()
	if got := decoded[DraftSeen](t, call(t, h, "GET", fmt.Sprintf("/api/drafts/%d", d.ID), nil), 200); got.Lines != 25 || got.Edition != 25 {
		t.Errorf("%d lines, edition %d", got.Lines, got.Edition)
	}
}

// TestSteppingWaits: when the step that changes answers is made, the next is to wait, for as long as somebody may have the old ones; it is
// ticked as any step, and what is taken out comes after it.
func TestSteppingWaits(t *testing.T) {
	h := served(t, demo.Estate)
	c, faults := notation.ParseChange(demo.Move, notationtest.Parse(t, demo.Estate))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	add := []string{}
	for _, p := range c.Add {
		add = append(add, p.Line())
	}
	path := fmt.Sprintf("/api/drafts/%d", drafting(t, h, "x", c.Remove, add).ID)
	began := time.Now()
	var made []string
	for range 12 {
		w := call(t, h, "GET", path, nil)
		if w.Code == 404 {
			break
		}
		d := decoded[DraftSeen](t, w, 200)
		if d.Order == nil || len(d.Order.Gaps) > 0 {
			t.Fatalf("after %v: %+v", made, d.Order)
		}
		first := d.Order.Steps[0]
		state := decoded[State](t, call(t, h, "GET", "/api/state", nil), 200)
		done := StepDone{Base: state.Revision, Place: first.At, Remove: first.Remove, Add: first.Add}
		if first.Kind == change.Wait {
			if d.Until == nil || d.Until.Sub(began) < 50*time.Minute || d.Until.Sub(began) > 61*time.Minute {
				t.Errorf("the wait is until %v, begun %v", d.Until, began)
			}
			done.Place = "wait"
		}
		decoded[Changed](t, call(t, h, "POST", path+"/done", done), 200)
		made = append(made, done.Place)
	}
	if waitAt := slices.Index(made, "wait"); made[len(made)-1] != "router meridian" || waitAt != len(made)-2 {
		t.Errorf("the old address is given up elsewhere: %v", made)
	}
}

// TestLowerAheadOfADraft: the ttl is lowered in force, and the draft goes on from the lines as they are then.
func TestLowerAheadOfADraft(t *testing.T) {
	h := served(t, demo.Estate)
	was, low := "dns archive.fernmoor.example A 203.0.113.20", "dns archive.fernmoor.example A 203.0.113.20 ttl 5m"
	path := fmt.Sprintf("/api/drafts/%d", drafting(t, h, "x", []string{was}, []string{"dns archive.fernmoor.example A 203.0.113.21"}).ID)
	decoded[Changed](t, call(t, h, "POST", path+"/ahead", StepDone{Base: 1, Place: "the ttl is lowered", Remove: []string{was}, Add: []string{low}}), 200)
	seen := decoded[DraftSeen](t, call(t, h, "GET", path, nil), 200)
	if !slices.Equal(seen.Remove, []string{low}) || len(seen.Clashes) != 0 || len(seen.Done) != 1 {
		t.Errorf("%+v", seen)
	}
	for _, q := range []StepDone{{Base: 2, Place: "x", Remove: []string{}, Add: []string{}}, {Base: 2, Place: "x", Remove: []string{low}, Add: []string{}}} {
		if w := call(t, h, "POST", path+"/ahead", q); w.Code != 422 {
			t.Errorf("%+v: %d", q, w.Code)
		}
	}
}
