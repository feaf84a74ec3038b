package figure

import (
	"encoding/xml"
	"io"
	"strconv"
	"strings"
	"testing"

	"steady-compass/core/model"
	"steady-compass/core/notation/notationtest"
	"steady-compass/core/trace"
	"steady-compass/demo"
)

func traced(t *testing.T, text, target string) *trace.Result {
	t.Helper()
	tr := trace.New(model.Compile(notationtest.Parse(t, text)), "2026-12-01")
	v, err := tr.VantageNamed("internet")
	if err != nil {
		t.Fatal(err)
	}
	tg, err := tr.ParseTarget(target)
	if err != nil {
		t.Fatal(err)
	}
	r := tr.Trace(tg, v)
	return &r
}

// TestTrace draws every name of the demo: each picture is sound XML, says all that the trace says, and nothing of it is outside.
func TestTrace(t *testing.T) {
	for _, n := range trace.New(model.Compile(notationtest.Parse(t, demo.Estate)), "2026-12-01").Names() {
		r := traced(t, demo.Estate, n.Name)
		texts, height := readBack(t, Trace(r))
		all := strings.Join(strings.Fields(strings.Join(texts, " ")), " ")
		for _, p := range r.Paths {
			for _, s := range p.Steps {
				if !strings.Contains(all, s.At) {
					t.Errorf("%s: %s is not on the picture", r.Target, s.At)
				}
			}
			for _, b := range p.Breaks {
				if !strings.Contains(all, b.Code) {
					t.Errorf("%s: %s is not on the picture", r.Target, b.Code)
				}
			}
		}
		if height < 100 {
			t.Errorf("%s: %d high", r.Target, height)
		}
	}
}

// readBack gives the lines of a picture, each within its bounds, and how high it is.
func readBack(t *testing.T, picture []byte) (texts []string, height int) {
	t.Helper()
	d := xml.NewDecoder(strings.NewReader(string(picture)))
	inText, at := false, 0
	for {
		token, err := d.Token()
		if err == io.EOF {
			return texts, height
		}
		if err != nil {
			t.Fatalf("%v in\n%s", err, picture)
		}
		switch x := token.(type) {
		case xml.StartElement:
			inText = x.Name.Local == "text"
			for _, a := range x.Attr {
				switch {
				case x.Name.Local == "svg" && a.Name.Local == "height":
					height, _ = strconv.Atoi(a.Value)
				case inText && a.Name.Local == "y":
					if at, _ = strconv.Atoi(a.Value); at <= 0 || at >= height {
						t.Errorf("a line at %d of %d", at, height)
					}
				}
			}
		case xml.CharData:
			if inText {
				texts = append(texts, string(x))
			}
		case xml.EndElement:
			inText = false
		}
	}
}

// TestWhatStrangersWrite draws what would end a picture, were it not escaped, and words longer than a line.
func TestWhatStrangersWrite(t *testing.T) {
	long := strings.Repeat("a", 60) + "." + strings.Repeat("b", 60) + ".example"
	text := `host box note "</text><script>alert(1)</script> & ]]>"
address box 198.51.100.7 internet
listen box 443 as web tls cert c
cert c for ` + long + ` expires 2027-01-01 on box
dns ` + long + ` A 198.51.100.7
`
	picture := Trace(traced(t, text, long+":443"))
	if strings.Contains(string(picture), "<script") {
		t.Error("a note became part of the picture")
	}
	texts, _ := readBack(t, picture)
	for _, line := range texts {
		if len(line) > 130 {
			t.Errorf("a line of %d letters", len(line))
		}
	}
	if !strings.Contains(strings.Join(texts, ""), strings.Repeat("b", 60)) {
		t.Error("a long name was cut")
	}
}
