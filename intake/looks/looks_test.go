package looks

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"steady-compass/core/look"
)

const line = `{"at":"2026-12-01T10:00:00Z","from":"Yard","target":"a.example:443","did":"connect","came":"arrived","seconds":0.01,"address":"9.9.9.9","predicted":"arrives","agrees":"yes"}`

// TestRead takes in what look prints, without what was predicted there; and names every line that is wrong.
func TestRead(t *testing.T) {
	got, faults := Read("x", line+"\n\n"+strings.Replace(line, `"from":"Yard",`, "", 1)+"\n", "lan")
	if len(faults) > 0 || len(got) != 2 || got[1].From != "lan" || got[0].Agrees != "" || got[0].Came != look.Arrived || !got[0].At.Equal(time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)) {
		t.Errorf("%+v %v", got, faults)
	}
	for _, c := range []struct{ text, want string }{
		{"look", "no JSON"},
		{line + line, "more than one look"},
		{strings.Replace(line, `"at":"2026-12-01T10:00:00Z",`, "", 1), "when"},
		{strings.Replace(line, `"from":"Yard",`, "", 1), "from where"},
		{strings.Replace(line, "connect", "touch", 1), "resolve, connect, tls, http"},
		{strings.Replace(line, "arrived", "went", 1), "refused"},
		{strings.Replace(line, "9.9.9.9", "a.example", 1), "no IP address"},
		{strings.Replace(line, `"seconds":0.01`, `"seconds":"soon"`, 1), "no JSON"},
	} {
		got, faults := Read("x", line+"\n"+c.text+"\n", "")
		if len(got) > 0 || len(faults) != 1 || faults[0].Line != 2 || faults[0].File != "x" || !strings.Contains(faults[0].What, c.want) {
			t.Errorf("%s: %v %v", c.text, got, faults)
		}
	}
	if _, faults := Read("x", strings.Repeat("x\n", 5000), ""); len(faults) != mostFaults {
		t.Errorf("%d faults listed", len(faults))
	}
}

func FuzzRead(f *testing.F) {
	f.Add(line)
	f.Fuzz(func(t *testing.T, text string) {
		got, faults := Read("x", text, "internet")
		if len(faults) > 0 && len(got) > 0 {
			t.Error("taken in half")
		}
		for _, l := range got { // what was taken is read again as it is
			again, err := json.Marshal(l)
			if err != nil {
				t.Fatal(err)
			}
			if _, faults := Read("x", string(again), ""); len(faults) > 0 {
				t.Errorf("%s: %v", again, faults)
			}
		}
	})
}
