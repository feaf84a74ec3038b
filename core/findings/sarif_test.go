package findings

import (
	"encoding/json"
	"testing"
)

// TestSARIF holds the log against what SARIF 2.1.0 asks of one, and against the report: each finding once, its code
// among the rules, its level one of the standard's, its fingerprint its own.
func TestSARIF(t *testing.T) {
	r := check1(edited(t, sound, `
		- listen store 9000 as files
		- rule edge pass 80,443 from internet to box
		dns lost.a.example CNAME nowhere.a.example
		rule edge pass 80 from internet to box`))
	if len(r.Findings) < 4 {
		t.Fatalf("too little is wrong: %v", said(r))
	}
	for _, c := range []struct{ file, uri string }{{"", ""}, {"-", ""}, {"my.estate", "my.estate"}, {"two words/är.estate", "two%20words/%C3%A4r.estate"}, {"a:b.estate", "./a:b.estate"}} {
		raw, err := json.Marshal(SARIF(r, c.file))
		if err != nil {
			t.Fatal(err)
		}
		var log struct {
			Schema  string `json:"$schema"`
			Version string
			Runs    []struct {
				Tool struct {
					Driver struct {
						Name  string
						Rules []struct{ ID string }
					}
				}
				Results []struct {
					RuleID, Level string
					Message       struct{ Text string }
					Locations     []struct {
						PhysicalLocation *struct{ ArtifactLocation struct{ URI string } }
						LogicalLocations []struct{ FullyQualifiedName string }
					}
					PartialFingerprints map[string]string
				}
			}
		}
		if err := json.Unmarshal(raw, &log); err != nil {
			t.Fatal(err)
		}
		if log.Version != "2.1.0" || len(log.Runs) != 1 || log.Runs[0].Tool.Driver.Name == "" {
			t.Fatalf("%s", raw)
		}
		run := log.Runs[0]
		rules, prints := map[string]bool{}, map[string]bool{}
		for _, rule := range run.Tool.Driver.Rules {
			if rules[rule.ID] {
				t.Errorf("rule %s stands twice", rule.ID)
			}
			rules[rule.ID] = true
		}
		if len(run.Results) != len(r.Findings) {
			t.Fatalf("%d results for %d findings", len(run.Results), len(r.Findings))
		}
		for i, got := range run.Results {
			f := r.Findings[i]
			if got.RuleID != f.Code || got.Level != string(f.Level) || got.Message.Text != f.Subject+": "+f.Why {
				t.Errorf("%+v for %+v", got, f)
			}
			if !rules[got.RuleID] {
				t.Errorf("%s is none of the rules", got.RuleID)
			}
			if got.Level != "error" && got.Level != "warning" && got.Level != "note" { // §3.27.10
				t.Errorf("level %q", got.Level)
			}
			print := got.PartialFingerprints["subject/v1"]
			if print == "" || prints[print] {
				t.Errorf("fingerprint %q is not its own", print)
			}
			prints[print] = true
			if len(got.Locations) != 1 || len(got.Locations[0].LogicalLocations) != 1 || got.Locations[0].LogicalLocations[0].FullyQualifiedName != f.Subject {
				t.Fatalf("%+v stands at %+v", f, got.Locations)
			}
			uri := ""
			if at := got.Locations[0].PhysicalLocation; at != nil {
				uri = at.ArtifactLocation.URI
			}
			if uri != c.uri {
				t.Errorf("file %q is at %q, want %q", c.file, uri, c.uri)
			}
		}
	}
}

func TestSARIFOfNothing(t *testing.T) {
	raw, err := json.Marshal(SARIF(check1(edited(t, sound, "")), "x"))
	if err != nil {
		t.Fatal(err)
	}
	const want = `{"$schema":"https://json.schemastore.org/sarif-2.1.0.json","version":"2.1.0","runs":[{"tool":{"driver":{"name":"steady-compass","rules":[]}},"results":[]}]}`
	if string(raw) != want {
		t.Errorf("%s\nwant %s", raw, want)
	}
}
