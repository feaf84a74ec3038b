package findings

import (
	"strings"
	"testing"
)

// TestSentencesOfIdleLines holds what is said of a line of a filter that takes nothing against what is there: where something listens
// after all, inside a container, and where the line that is in the way stands behind it.
func TestSentencesOfIdleLines(t *testing.T) {
	const box = `network lan 10.1.0.0/24
network dock 172.20.0.0/24 on box
host box
address box 10.1.0.10 lan
container box/c in dock=172.20.0.5
listen box/c 80 as web
listen box 22 as sshd
`
	for _, test := range []struct{ lines, code, want string }{
		{"filter f on box input otherwise drop\nrule f pass 80\nmap box/c 8080 to 80\n", "order.unused", "box itself has nothing on 80: box/c listens there inside it, and `map box/c 8080 to 80` is how flows come to that."},
		{"filter f on box input otherwise drop\nrule f pass 80\n", "order.unused", "box itself has nothing on 80: box/c listens there inside it, and nothing leads to that from outside."},
		{"filter f on box input otherwise drop\nrule f pass 81\n", "order.unused", "Nothing on box listens on 81."},
		{"filter f on box input otherwise drop drop-wins\nrule f pass 22\nrule f drop 22\n", "order.shadowed", "Line 1 of filter f takes nothing: line 2, ahead of it by drop-wins, drops all that it names."},
		{"filter f on box input otherwise drop\nrule f drop 22\nrule f pass 22\n", "order.shadowed", "Line 2 of filter f takes nothing: line 1 before it drops all that it names."},
	} {
		var said []string
		for _, f := range looked(t, reread(t, box+test.lines)).Findings {
			if f.Code == test.code {
				said = append(said, f.Why)
			}
		}
		if got := strings.Join(said, "\n"); got != test.want {
			t.Errorf("%s\nsays %q\nwant %q", test.lines, got, test.want)
		}
	}
}
