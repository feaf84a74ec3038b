package findings

import (
	"os"
	"testing"

	"steady-compass/core/model"
	"steady-compass/core/notation"
	"steady-compass/core/trace"
)

const day = "2026-11-25"

func TestScratch(t *testing.T) {
	text, _ := os.ReadFile("../trace/testdata/example.estate")
	e, faults := notation.Parse(string(text))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	for _, f := range Check(trace.New(model.Compile(e), day), day).Findings {
		t.Log(f.Level, f.Code, f.Subject, "|", f.Why, "|", f.Records, "|", f.Mend)
	}
}
