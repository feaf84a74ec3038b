package lab

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite"

	"steady-compass/core/estate"
	"steady-compass/store"
)

// TestKilledUnderEdits kills the server at random moments under a stream of edits, 20 times: whatever it
// acknowledged is there afterwards, each change whole, and the file is sound.
func TestKilledUnderEdits(t *testing.T) {
	path := filepath.Join(t.TempDir(), "crash.db")
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 0))
	acknowledged := 0
	for round := range 20 {
		p := start(t, "serve", "--alone", "--db", path)
		var last atomic.Int64 // the last edit that was acknowledged
		last.Store(int64(acknowledged))
		done := make(chan struct{})
		go func() {
			defer close(done)
			for n := acknowledged; ; n++ {
				// Each edit brings two lines and takes one away again: none may be half there.
				body := map[string]any{"base": n, "add": []string{fmt.Sprintf("host h%d", n), fmt.Sprintf("address h%d 10.%d.%d.1 internet", n, n/250, n%250)}, "remove": []string{}}
				if n > 0 {
					body["remove"] = []string{fmt.Sprintf("host h%d", n-1)}
				}
				status, err := p.call("POST", "/api/change", body, nil)
				if err != nil {
					return // killed
				}
				if status != http.StatusOK {
					t.Errorf("edit %d: status %d", n, status)
					return
				}
				last.Store(int64(n + 1))
			}
		}()
		time.Sleep(time.Duration(20+r.IntN(160)) * time.Millisecond)
		p.kill()
		<-done
		db, err := store.Open(context.Background(), path)
		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
		now := db.Current()
		// One more than was acknowledged may be there: the answer was on its way.
		if now.Revision < last.Load() || now.Revision > last.Load()+1 {
			t.Fatalf("round %d: at revision %d, acknowledged were %d", round, now.Revision, last.Load())
		}
		acknowledged = int(now.Revision)
		hosts, addresses := now.Estate.Of(estate.KindNamed("host")), now.Estate.Of(estate.KindNamed("address"))
		if acknowledged > 0 && (len(hosts) != 1 || len(addresses) != acknowledged || estate.Line(hosts[0]) != fmt.Sprintf("host h%d", acknowledged-1)) {
			t.Fatalf("round %d: %d hosts and %d addresses at revision %d", round, len(hosts), len(addresses), acknowledged)
		}
		if err := db.Close(); err != nil {
			t.Fatal(err)
		}
		if verdict := integrity(t, path); verdict != "ok" {
			t.Fatalf("round %d: the file is not sound: %s", round, verdict)
		}
	}
	if acknowledged < 20 {
		t.Fatalf("only %d edits were made in 20 rounds", acknowledged)
	}
	t.Logf("%d edits over 20 kills", acknowledged)
}

func integrity(t *testing.T, path string) string {
	t.Helper()
	db, err := sqlx.Open("sqlite", "file:"+path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	var lines []string
	if err := db.Select(&lines, "PRAGMA integrity_check"); err != nil {
		t.Fatal(err)
	}
	return strings.Join(lines, "\n")
}

var judgedKills = flag.Int("judge.kills", 8, "how often two servers on one file are killed under edits")

// TestKilledWithTwoHands has two servers on one database, each under a stream of edits, and kills both at random moments: whatever
// either acknowledged is there afterwards, by whichever of them, and the file is sound.
func TestKilledWithTwoHands(t *testing.T) {
	path := filepath.Join(t.TempDir(), "hands.db")
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 0))
	var lock sync.Mutex
	var acknowledged []string
	for round := range *judgedKills {
		hands := []*program{start(t, "serve", "--alone", "--db", path), start(t, "serve", "--alone", "--db", path)}
		var all sync.WaitGroup
		for i, p := range hands {
			all.Go(func() {
				revision := struct{ Revision int64 }{}
				if _, err := p.call("GET", "/api/state", nil, &revision); err != nil {
					return // killed
				}
				for n := 0; ; n++ {
					line := fmt.Sprintf("host h%d-%d-%d", round, i, n)
					status, err := p.call("POST", "/api/change", map[string]any{"base": revision.Revision, "add": []string{line}, "remove": []string{}}, &revision)
					if err != nil {
						return // killed
					}
					if status != http.StatusOK {
						t.Errorf("round %d, hand %d, edit %d: status %d", round, i, n, status)
						return
					}
					lock.Lock()
					acknowledged = append(acknowledged, line)
					lock.Unlock()
				}
			})
		}
		for _, i := range r.Perm(len(hands)) {
			time.Sleep(time.Duration(20+r.IntN(160)) * time.Millisecond)
			hands[i].kill()
		}
		all.Wait()
		db, err := store.Open(context.Background(), path)
		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
		e := db.Current().Estate
		for _, line := range acknowledged {
			if !e.Has(line) {
				t.Errorf("round %d: %s was acknowledged, and is not there", round, line)
			}
		}
		if err := db.Close(); err != nil {
			t.Fatal(err)
		}
		if t.Failed() {
			return
		}
	}
	if verdict := integrity(t, path); verdict != "ok" {
		t.Errorf("the file is not sound: %s", verdict)
	}
	if len(acknowledged) < *judgedKills {
		t.Errorf("only %d edits in %d rounds", len(acknowledged), *judgedKills)
	}
	t.Logf("%d edits acknowledged in %d rounds", len(acknowledged), *judgedKills)
}
