package sockets_test

import (
	"testing"

	"steady-compass/core/estate"
	"steady-compass/intake/sockets"
)

// FuzzRead reads any text: whatever comes of it can be recorded, and nothing damaged is whole.
func FuzzRead(f *testing.F) {
	f.Add("tcp LISTEN 0 128 *%eth1:1010 *:* users:((\"a\",pid=1,fd=3))")
	f.Add("TCP    0.0.0.0:135   0.0.0.0:0   LISTENING   1100")
	f.Add("tcp46 0 0 *.80 *.* LISTEN")
	f.Add("root sshd 771 3 tcp4 *:22 *:*")
	f.Fuzz(func(t *testing.T, text string) {
		a := sockets.Read("f", text, "box")
		for _, r := range a.Records {
			if estate.Line(r) == "" {
				t.Errorf("a record without a line: %#v", r)
			}
		}
		if len(a.Faults) > 0 && len(a.Whole) > 0 {
			t.Errorf("damaged, and whole: %v", a.Faults)
		}
	})
}
