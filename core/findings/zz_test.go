package findings

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"steady-compass/core/synth"
)

func TestZZText(t *testing.T) {
	seed, _ := strconv.Atoi(os.Getenv("SEED"))
	r := rand.New(rand.NewPCG(uint64(seed), 9))
	pick := func(words ...string) string { return words[r.IntN(len(words))] }
	text := synth.Crossing(r)
	for range 4 {
		q := synth.Ask(r)
		text += fmt.Sprintf("\nintend %s %d for %s", q.To, q.Port, pick("internet", "lan", "link", "far", "nobody"))
	}
	for range 2 {
		text += fmt.Sprintf("\nintend %s %d for %s", pick("box", "plain", "deep", "edge", "box/one"), 1+r.IntN(13), pick("internet", "lan", "link", "far", "nobody"))
	}
	fmt.Println(text)
}
