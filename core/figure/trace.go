// Package figure draws a trace as a picture that stands alone (SVG 1.1): to be put into a letter, a ticket or a wall of paper. It needs
// no style sheet and no font of ours, so words are wrapped by how wide letters are about.
package figure

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"strings"

	"steady-compass/core/flow"
	"steady-compass/core/trace"
)

// The inks and grounds of the interface by day; a picture is kept and printed on white.
const (
	ink      = "#0E2640"
	ink2     = "#475A6E"
	faint    = "#8794A1"
	hairline = "#DDE2E4"
	magenta  = "#B0126B"
)

var grounds = map[flow.Ground]string{flow.External: "#FFFFFF", flow.Edge: "#EBF3F9", flow.Internal: "#FAF4E4"}

// Lengths in pixels.
const (
	width  = 920
	railAt = 34
	placed = 56  // where the place begins
	said   = 232 // where what was done begins
	margin = 24
	line   = 17
)

// font is a face, how large, and how wide its letters are about, as a part of that.
type font struct {
	family string
	size   float64
	wide   float64
}

var (
	sans  = font{"IBM Plex Sans, Noto Sans, DejaVu Sans, sans-serif", 13, 0.53}
	small = font{sans.family, 12, 0.53}
	head  = font{sans.family, 17, 0.56}
	mono  = font{"IBM Plex Mono, DejaVu Sans Mono, monospace", 12, 0.602}
)

// Trace draws each way of a trace below the other.
func Trace(r *trace.Result) []byte {
	d := &drawing{y: margin}
	name := r.Target
	if r.Unicode != "" {
		name = r.Unicode + " (" + r.Target + ")"
	}
	d.text(margin, head, ink, "600", name, width-2*margin)
	d.text(margin, sans, ink2, "", fmt.Sprintf("seen from %s: %s", r.From, words(r.Verdict)), width-2*margin)
	for i := range r.Paths {
		d.path(&r.Paths[i])
	}
	d.y += margin
	var out strings.Builder
	fmt.Fprintf(&out, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d">`+"\n", width, d.y, width, d.y)
	fmt.Fprintf(&out, "<title>%s</title>\n", escaped(fmt.Sprintf("%s from %s: %s", r.Target, r.From, words(r.Verdict))))
	fmt.Fprintf(&out, `<rect width="%d" height="%d" fill="#FFFFFF"/>`+"\n", width, d.y)
	return []byte(out.String() + d.out.String() + "</svg>\n")
}

// stageWords are what stages are called, as the interface calls them.
var stageWords = map[flow.Stage]string{
	flow.StageResolve: "answers", flow.StageRoute: "way", flow.StageTranslate: "translation", flow.StageFilter: "filter", flow.StageRewrite: "source",
	flow.StageSocket: "listener", flow.StageTLS: "TLS", flow.StageSite: "site", flow.StageUpstream: "hands on", flow.StageEnd: "end",
}

func words(o flow.Outcome) string { return strings.ReplaceAll(string(o), "-", " ") }

// drawing is a picture as far as it is drawn, downwards.
type drawing struct {
	out strings.Builder
	y   int
}

func escaped(text string) string {
	var out strings.Builder
	_ = xml.EscapeText(&out, []byte(text)) // into memory: it cannot fail
	return out.String()
}

// text writes lines from the height that the drawing has come to, wrapped within a width, and goes on below them.
func (d *drawing) text(x int, f font, colour, weight, text string, room int) {
	for _, part := range wrapped(text, int(float64(room)/(f.size*f.wide))) {
		d.y += max(line, int(f.size*1.3))
		attributes := ""
		if weight != "" {
			attributes = fmt.Sprintf(` font-weight="%s"`, weight)
		}
		fmt.Fprintf(&d.out, `<text x="%d" y="%d" font-family="%s" font-size="%g" fill="%s"%s xml:space="preserve">%s</text>`+"\n",
			x, d.y-4, f.family, f.size, colour, attributes, escaped(part))
	}
}

// wrapped is a text in lines of so many letters, broken between words, and within a word that is longer than a line.
func wrapped(text string, letters int) []string {
	var out []string
	now := ""
	for _, word := range strings.Fields(text) {
		for len([]rune(word)) > letters {
			if now != "" {
				out, now = append(out, now), ""
			}
			out = append(out, string([]rune(word)[:letters]))
			word = string([]rune(word)[letters:])
		}
		switch {
		case now == "":
			now = word
		case len([]rune(now))+1+len([]rune(word)) <= letters:
			now += " " + word
		default:
			out, now = append(out, now), word
		}
	}
	return append(out, now)
}

func (d *drawing) path(p *trace.Path) {
	d.y += 14
	title := fmt.Sprintf("%d/%s", p.Port, p.Transport)
	for _, word := range []string{p.Address, strings.TrimPrefix(p.URLPath, "/"), p.Member} {
		if word != "" {
			title += "  " + word
		}
	}
	outcome := words(p.Outcome)
	if p.Inner != "" {
		outcome += " (" + words(p.Inner) + ")"
	}
	colour := ink
	if p.Mark == trace.Stopping {
		colour = magenta
	}
	d.text(margin, mono, ink, "600", title+sourcesWords(p.Sources), width-2*margin)
	d.text(margin, sans, colour, "600", outcome, width-2*margin)
	d.y += 6
	for i := range p.Steps {
		d.step(p, i)
	}
}

func sourcesWords(s flow.Sources) string {
	if len(s.Only) == 0 && len(s.Except) == 0 {
		return ""
	}
	return ", from " + s.String()
}

// step draws a station, unless it says only what breaks; and the breaks that stand at it.
func (d *drawing) step(p *trace.Path, i int) {
	s := &p.Steps[i]
	var breaks []*flow.Break
	for n := range p.Breaks {
		if p.Breaks[n].Step == i {
			breaks = append(breaks, &p.Breaks[n])
		}
	}
	if s.Verdict != flow.Broken || len(breaks) == 0 {
		d.station(s, i == 0, i == len(p.Steps)-1 && len(breaks) == 0)
	}
	for _, b := range breaks {
		d.gap(b, s.Ground)
	}
}

func (d *drawing) station(s *flow.Step, first, last bool) {
	colour, written, dashes := ink, ink, ""
	if s.Ghost {
		colour, written, dashes = faint, ink2, ` stroke-dasharray="2 3"`
	}
	d.band(s.Ground, func(body *drawing) {
		top := body.y
		body.text(placed, sans, written, "600", s.At, said-placed-10)
		body.text(placed, small, ink2, "", stageWords[s.Stage], said-placed-10)
		left := body.y
		body.y = top
		body.text(said, sans, written, "", s.Why, width-said-margin)
		for _, r := range s.Records {
			body.text(said, mono, ink2, "", r, width-said-margin)
		}
		body.y = max(left, body.y)
	}, func(top, bottom int) {
		from, to := top, bottom
		if first {
			from = top + 14
		}
		if last {
			to = top + 14
		}
		fmt.Fprintf(&d.out, `<path d="M%d %dV%d" stroke="%s" stroke-width="2" fill="none"%s/>`+"\n", railAt, from, to, colour, dashes)
		fmt.Fprintf(&d.out, `<circle cx="%d" cy="%d" r="4" fill="#FFFFFF" stroke="%s" stroke-width="2"/>`+"\n", railAt, top+14, colour)
	})
}

// gap draws a break: the line is stopped, what is wrong is said in its box with the lines that mend it, and the line goes on in outline.
func (d *drawing) gap(b *flow.Break, ground flow.Ground) {
	var box [2]int
	d.band(ground, func(body *drawing) {
		body.y += 4
		box[0] = body.y
		body.text(placed+12, sans, magenta, "600", cmp.Or(b.Short, b.Code)+"  "+b.Code, width-placed-margin-24)
		body.text(placed+12, sans, ink, "", b.Why, width-placed-margin-24)
		if b.Mend != nil {
			for _, l := range b.Mend.Remove {
				body.text(placed+12, mono, ink2, "", "- "+l, width-placed-margin-24)
			}
			for _, l := range b.Mend.Add {
				body.text(placed+12, mono, ink, "", "+ "+l, width-placed-margin-24)
			}
		}
		box[1] = body.y + 5
		body.y += 8
	}, func(top, bottom int) {
		fmt.Fprintf(&d.out, `<rect x="%d" y="%d" width="%d" height="%d" fill="#FFFFFF" stroke="%s" stroke-dasharray="4 3"/>`+"\n",
			placed, box[0], width-placed-margin, box[1]-box[0], magenta)
		fmt.Fprintf(&d.out, `<path d="M%d %dV%dM%d %dH%dM%d %dH%d" stroke="%s" stroke-width="2" fill="none"/>`+"\n",
			railAt, top, top+16, railAt-7, top+16, railAt+7, railAt-4, top+20, railAt+4, magenta)
		fmt.Fprintf(&d.out, `<path d="M%d %dV%d" stroke="%s" stroke-width="2" stroke-dasharray="2 3" fill="none"/>`+"\n", railAt, top+26, bottom, faint)
	})
}

// band draws what is said on its ground, which is as high as that is: first the ground, then what under lays on it, then the words.
func (d *drawing) band(ground flow.Ground, words func(body *drawing), under func(top, bottom int)) {
	body := &drawing{y: d.y + 4}
	words(body)
	bottom := body.y + 6
	fmt.Fprintf(&d.out, `<path d="M0 %dH%dV%dH0Z" fill="%s"/><path d="M0 %dH%d" stroke="%s"/>`+"\n", d.y, width, bottom, grounds[ground], bottom, width, hairline)
	under(d.y, bottom)
	d.out.WriteString(body.out.String())
	d.y = bottom
}
