package lab

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"
)

// BenchmarkLoad has 50 people who have signed in read, and 5 edit, an estate of ten thousand names for as long as a benchmark runs (-benchtime), a
// second or so of thought between two questions. It reports how long reads and edits take, in ms, and the most memory that the
// server ever had, in MB; and how long whoever comes first after a start waits. Nothing may fail.
func BenchmarkLoad(b *testing.B) {
	const readers, editors, names = 50, 5, 10_000
	dir := b.TempDir()
	text, code := command(b, "synth", "--names", fmt.Sprint(names))
	if code != 0 {
		b.Fatal(text)
	}
	file, db := filepath.Join(dir, "synth.estate"), filepath.Join(dir, "a.db")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	if out, code := command(b, "import", "estate", file, "--db", db); code != 0 {
		b.Fatal(out)
	}
	p := start(b, "serve", "--db", db)
	keeper := p.signed(b, "keeper", p.code(b))
	var people []*program
	for i := range readers + editors {
		role := "reader"
		if i >= readers {
			role = "editor"
		}
		var invited struct{ Code string }
		name := fmt.Sprintf("person-%d", i)
		if status, err := keeper.call("POST", "/api/people", map[string]any{"name": name, "role": role}, &invited); err != nil || status != http.StatusOK {
			b.Fatal(status, err)
		}
		people = append(people, p.signed(b, name, invited.Code))
	}
	var targets []string
	for _, owner := range regexp.MustCompile(`(?m)^dns\s+(\S+) A `).FindAllStringSubmatch(text, 500) {
		targets = append(targets, owner[1])
	}
	questions := func(r *rand.Rand) string {
		name := url.QueryEscape(targets[r.IntN(len(targets))])
		return []string{
			"/api/names", "/api/state", "/api/counts", "/api/log", "/api/findings", "/api/trace?target=" + name + "%3A443", "/api/uses?of=" + name,
		}[r.IntN(7)]
	}
	var lock sync.Mutex
	took := map[string][]time.Duration{}
	began := time.Now()
	for _, path := range []string{"/api/counts", "/api/names"} { // what comes first after a start waits for the first look at the whole
		if status, err := keeper.call("GET", path, nil, nil); err != nil || status != http.StatusOK {
			b.Fatal(path, status, err)
		}
	}
	one := map[string]any{"base": 1, "add": []string{"dns load." + targets[0] + " A 192.0.2.7"}, "remove": []string{}}
	if status, err := keeper.call("POST", "/api/change", one, nil); err != nil || status != http.StatusOK {
		b.Fatal(status, err)
	}
	first := time.Since(began)
	b.ResetTimer()
	var all sync.WaitGroup
	rounds := make(chan struct{}, readers+editors)
	ask := func(p *program, kind, method, path string, body, out any) {
		began := time.Now()
		status, err := p.call(method, path, body, out)
		lock.Lock()
		took[kind] = append(took[kind], time.Since(began))
		lock.Unlock()
		if err != nil || status != http.StatusOK {
			b.Errorf("%s %s: %d %v", method, path, status, err)
		}
	}
	for i := range readers + editors {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(i), 1))
			known := struct{ Revision int64 }{1} // as the interface knows it, from the answer to its last change
			for n := 0; ; n++ {
				if _, more := <-rounds; !more {
					return
				}
				if i < readers {
					ask(people[i], "read", "GET", questions(r), nil, nil)
				} else {
					ask(people[i], "edit", "POST", "/api/change", map[string]any{"base": known.Revision, "add": []string{fmt.Sprintf("dns load-%d-%d.%s A 192.0.2.7", i, n, targets[r.IntN(len(targets))])}, "remove": []string{}}, &known)
				}
				time.Sleep(time.Duration(500+r.IntN(1000)) * time.Millisecond)
			}
		})
	}
	for range b.N {
		rounds <- struct{}{}
	}
	close(rounds)
	all.Wait()
	b.StopTimer()
	for _, kind := range []string{"read", "edit"} {
		list := took[kind]
		if len(list) == 0 {
			continue
		}
		slices.Sort(list)
		at := func(share float64) float64 { return float64(list[int(share*float64(len(list)-1))].Milliseconds()) }
		b.ReportMetric(at(0.5), kind+"-p50-ms")
		b.ReportMetric(at(0.99), kind+"-p99-ms")
	}
	b.ReportMetric(float64(first.Milliseconds()), "first-ms")
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	if err != nil {
		b.Fatal(err)
	}
	if most := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(status); most != nil {
		kb, _ := strconv.Atoi(string(most[1]))
		b.ReportMetric(float64(kb)/1000, "peak-MB")
	}
}
