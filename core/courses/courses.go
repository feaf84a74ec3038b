// Package courses draws names as courses: every name through its addresses, edges, machines and fronts to its backends. Names that go
// together run in one stroke, as wide as they are many; what breaks ends at its break. It says what is joined to what; where that
// stands on a sheet is the drawer's.
package courses

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"steady-compass/core/exposure"
	"steady-compass/core/survey"
	"steady-compass/core/trace"
)

// Column is how far in something stands on its course.
type Column string

const (
	Names    Column = "name"
	Answers  Column = "answers"
	Edges    Column = "edge"
	Machines Column = "machine"
	Fronts   Column = "front"
	Backends Column = "backend"
)

// Columns are all of them, from the stranger inwards.
var Columns = []Column{Names, Answers, Edges, Machines, Fronts, Backends}

// Fold is what names are drawn together by.
type Fold string

const (
	Unfolded  Fold = "nothing"
	ByZone    Fold = "zone"
	ByEdge    Fold = "edge"
	ByMachine Fold = "machine"
)

// Folds are all of them.
var Folds = []Fold{Unfolded, ByZone, ByEdge, ByMachine}

// State is how a stroke is drawn.
type State string

const (
	Live    State = "live"    // what goes by it, goes by
	Stopped State = "stopped" // it breaks here
	Outline State = "outline" // past a break: where it would go
	Ending  State = "ending"  // it ends here, and no fault is in that
	Unknown State = "unknown" // nobody wrote down what becomes of it
)

// States are all of them.
var States = []State{Live, Stopped, Outline, Ending, Unknown}

// Most is how many of a column are drawn; the smallest beyond them are drawn as one.
const Most = 24

// rest is the key of those that are drawn as one.
const rest = "…"

// Node is something that names go by; or the names themselves.
type Node struct {
	Column Column `json:"column" enum:"name,answers,edge,machine,front,backend"`
	Key    string `json:"key" doc:"To choose it by"`
	Word   string `json:"word"`
	More   string `json:"more"`
	Names  int    `json:"names" doc:"How many names go by it"`
	Target string `json:"target,omitempty" doc:"What to trace; of a single name"`
	Part   string `json:"part,omitempty" doc:"What would be gone: an address, a machine or a place"`
}

// Stroke is what goes from one node to another, or ends behind one.
type Stroke struct {
	From  int    `json:"from"`
	To    *int   `json:"to" doc:"null where it goes no further"`
	Names int    `json:"names"`
	State State  `json:"state" enum:"live,stopped,outline,ending,unknown"`
	Why   string `json:"why,omitempty" doc:"Of what is stopped: the reasons"`
}

// Around is a way in to a backend that goes around its front.
type Around struct {
	Door string `json:"door" doc:"The address and port"`
	To   int    `json:"to" doc:"Which node"`
	By   string `json:"by" doc:"Who may come by it"`
}

// Chart is names as courses.
type Chart struct {
	Nodes   []Node   `json:"nodes" nullable:"false"`
	Strokes []Stroke `json:"strokes" nullable:"false"`
	Around  []Around `json:"around" nullable:"false"`
	Names   int      `json:"names" doc:"How many are drawn"`
	Of      int      `json:"of" doc:"How many there are"`
	Fold    Fold     `json:"fold" enum:"nothing,zone,edge,machine" doc:"What names are drawn together by"`
}

// Question is which courses are drawn, and how.
type Question struct {
	Fold    Fold     // "" for whatever reads well
	Through []string // COLUMN:KEY, of what the courses go by
	Like    string   // what the names, or anything on their way, have in them
}

// ErrNoNode says that nothing of that key is there.
var ErrNoNode = errors.New("nothing of that is on a course")

// Of draws the rows of a table of names; and, of what is open, the ways around.
func Of(rows []survey.Row, open []exposure.Open, q Question) (*Chart, error) {
	all := coursesOf(rows)
	c := &Chart{Of: count(all), Nodes: []Node{}, Strokes: []Stroke{}, Around: []Around{}}
	like := strings.ToLower(strings.TrimSpace(q.Like))
	all = slices.DeleteFunc(all, func(x course) bool { return !x.row.Like(like) })
	for _, step := range q.Through {
		column, key, _ := strings.Cut(step, ":")
		at := slices.Index(Columns, Column(column))
		if at < 0 {
			return nil, fmt.Errorf("%w: %q; expected one of %s, a colon and a key", ErrNoNode, step, columnWords())
		}
		if !slices.ContainsFunc(all, func(x course) bool { return x.keys[at] != "" }) && key != rest {
			return nil, fmt.Errorf("%w: %q", ErrNoNode, key)
		}
		drawn := mostOf(all, at, all)
		all = slices.DeleteFunc(all, func(x course) bool {
			if key == rest {
				return x.keys[at] == "" || drawn[x.keys[at]]
			}
			return x.keys[at] != key && (at != 0 || !slices.ContainsFunc(Folds, func(f Fold) bool { return x.folded(f) == key }))
		})
	}
	c.Names, c.Fold = count(all), q.Fold
	if c.Fold == "" {
		c.Fold = Unfolded
		if c.Names > Most && slices.ContainsFunc(all, func(x course) bool { return x.row.Zone != all[0].row.Zone }) {
			c.Fold = ByZone
		}
	}
	c.draw(all, open)
	return c, nil
}

func columnWords() string {
	var words []string
	for _, c := range Columns {
		words = append(words, string(c))
	}
	return strings.Join(words, ", ")
}

// course is one way of a name.
type course struct {
	row    *survey.Row
	way    *survey.RowWay
	keys   []string // by column; "" where it does not come by one
	breaks int      // behind which column it is stopped; -1 where it is not
}

func coursesOf(rows []survey.Row) []course {
	var out []course
	for i := range rows {
		for n := range rows[i].Ways {
			out = append(out, courseOf(&rows[i], &rows[i].Ways[n]))
		}
	}
	return out
}

// stopsBehind is behind which column a break in a cell of the table stands.
var stopsBehind = map[string]Column{
	"answers": Answers, "edge": Edges, "letsIn": Edges, "machine": Machines, "service": Machines, "site": Fronts, "backend": Fronts,
}

func courseOf(row *survey.Row, way *survey.RowWay) course {
	cells := way.Cells
	machine, _, inside := strings.Cut(cells.Machine, "/")
	x := course{row: row, way: way, keys: []string{row.Name, cells.Answers, "", machine, "", cells.Backend}, breaks: -1}
	if cells.Edge != "" {
		x.keys[2] = cells.Router + " " + cells.Edge
	}
	if cells.Service != "" {
		x.keys[4] = machine + " " + cells.Service
		if inside {
			x.keys[4] = cells.Machine + " " + cells.Service
		}
	}
	if row.AsMeant { // nothing past it is anybody's
		x.keys = []string{row.Name, cells.Answers, "", "", "", ""}
		return x
	}
	if behind, ok := stopsBehind[cells.Broken]; ok {
		x.breaks = slices.Index(Columns, behind)
	}
	return x
}

// folded is the key by which a course's name is drawn with others: what they are drawn together by, and which of these it is.
func (x *course) folded(by Fold) string {
	switch by {
	case ByZone:
		return string(by) + " " + x.row.Zone
	case ByEdge:
		return string(by) + " " + x.way.Cells.Router
	case ByMachine:
		return string(by) + " " + x.keys[3]
	}
	return x.row.Name
}

// without is what a fold calls the names that have nothing of what it goes by.
var without = map[Fold]string{ByZone: "in no recorded zone", ByEdge: "by no router", ByMachine: "no machine reached"}

// count is how many names some courses are of.
func count(all []course) int {
	names := map[string]bool{}
	for i := range all {
		names[all[i].row.Name] = true
	}
	return len(names)
}

// mostOf are the keys of a column that are drawn by themselves: those that most names of the courses ahead go by, then most of all, and
// of these the first.
func mostOf(all []course, column int, ahead []course) map[string]bool {
	first, of := namesBy(ahead, column), namesBy(all, column)
	var order []string
	seen := map[string]bool{}
	for i := range all {
		if key := all[i].keys[column]; key != "" && !seen[key] {
			seen[key] = true
			order = append(order, key)
		}
	}
	slices.SortStableFunc(order, func(a, b string) int { return cmp.Or(first[b]-first[a], of[b]-of[a]) })
	out := map[string]bool{}
	for _, key := range order[:min(len(order), Most)] {
		out[key] = true
	}
	return out
}

// namesBy is how many names go by each key of a column.
func namesBy(all []course, column int) map[string]int {
	names, last := map[string]int{}, map[string]string{}
	for i := range all {
		if key, name := all[i].keys[column], all[i].row.Name; key != "" && last[key] != name {
			names[key]++
			last[key] = name
		}
	}
	return names
}

// drawing is a chart being drawn.
type drawing struct {
	*Chart
	nodes   map[nodeKey]int
	strokes map[strokeKey]int
	of      map[int]map[string]bool // by stroke: the reasons
	names   []map[string]bool       // by node
	counted []map[string]bool       // by stroke
}

type nodeKey struct {
	column int
	key    string
}

type strokeKey struct {
	from, to int
	state    State
}

func (c *Chart) draw(all []course, open []exposure.Open) {
	for i := range all {
		all[i].keys[0] = all[i].folded(c.Fold)
	}
	d := drawing{Chart: c, nodes: map[nodeKey]int{}, strokes: map[strokeKey]int{}, of: map[int]map[string]bool{}}
	drawn := []map[string]bool{mostOf(all, 0, all)}
	var ahead []course // whose names are drawn by themselves: what these go by is drawn first, so that they can be followed
	for i := range all {
		if drawn[0][all[i].keys[0]] {
			ahead = append(ahead, all[i])
		}
	}
	for column := 1; column < len(Columns); column++ {
		drawn = append(drawn, mostOf(all, column, ahead))
	}
	for i := range all {
		d.course(&all[i], drawn)
	}
	for i := range d.Nodes {
		d.Nodes[i].Names = len(d.names[i])
		d.say(&d.Nodes[i])
	}
	for i := range d.Strokes {
		d.Strokes[i].Names = len(d.counted[i])
		d.Strokes[i].Why = reasons(d.of[i])
	}
	d.around(all, open)
}

// course draws one course, from node to node.
func (d *drawing) course(x *course, drawn []map[string]bool) {
	var at []int // the columns that it comes by
	for column, key := range x.keys {
		if key != "" {
			at = append(at, column)
		}
	}
	state := Live
	for n, column := range at {
		from := d.node(x, column, drawn[column])
		last := n == len(at)-1
		if state == Live && x.breaks >= column && (last || x.breaks < at[n+1]) {
			state = Stopped
		}
		switch {
		case !last:
			d.stroke(x, from, d.node(x, at[n+1], drawn[at[n+1]]), state)
		case state == Stopped:
			d.stroke(x, from, -1, Stopped)
		case state == Live && x.way.Mark == trace.Unknown:
			d.stroke(x, from, -1, Unknown)
		case state == Live && x.way.Mark == trace.Ending:
			d.stroke(x, from, -1, Ending)
		case state == Live && x.way.Mark == trace.Stopping: // by what its cells do not say
			d.stroke(x, from, -1, Stopped)
		}
		if state == Stopped {
			state = Outline
		}
	}
}

func (d *drawing) node(x *course, column int, drawn map[string]bool) int {
	key := x.keys[column]
	if !drawn[key] {
		key = rest
	}
	k := nodeKey{column, key}
	i, known := d.nodes[k]
	if !known {
		i = len(d.Nodes)
		d.nodes[k] = i
		d.Nodes = append(d.Nodes, d.made(x, column, key))
		d.names = append(d.names, map[string]bool{})
	}
	d.names[i][x.row.Name] = true
	return i
}

// made is the node of a key, as the first course that comes by it says.
func (d *drawing) made(x *course, column int, key string) Node {
	n := Node{Column: Columns[column], Key: key, Word: key}
	cells := x.way.Cells
	if key == rest {
		return n
	}
	switch n.Column {
	case Names:
		if d.Fold == Unfolded {
			n.Word, n.More, n.Target = cmp.Or(x.row.Unicode, x.row.Name), x.row.Zone, x.row.Target()
			break
		}
		n.Part = strings.TrimPrefix(key, string(d.Fold)+" ")
		n.Word = cmp.Or(n.Part, without[d.Fold])
	case Answers:
		n.Part = x.way.Address
	case Edges:
		n.Word, n.More, n.Part = cells.Router, strings.TrimPrefix(cells.Edge, cells.Router+", "), cells.Router
	case Machines:
		n.Part = key
	case Fronts:
		n.Word, n.Part = cells.Service, cells.Machine
		if n.More = cells.Machine; n.More == x.keys[3] {
			n.More = ""
		}
	case Backends:
		for _, place := range []string{x.way.End, x.way.Intended} {
			if place != "" && strings.HasPrefix(key, place+":") {
				n.Part = place
			}
		}
	}
	return n
}

// say ends what is said of a node, once its names are counted.
func (d *drawing) say(n *Node) {
	switch {
	case n.Key == rest:
		n.Word = "and more"
		n.More = counted(n.Names)
	case n.Column == Names && d.Fold == Unfolded:
	case n.More == "":
		n.More = counted(n.Names)
	}
}

func counted(n int) string {
	if n == 1 {
		return "1 name"
	}
	return fmt.Sprintf("%d names", n)
}

func (d *drawing) stroke(x *course, from, to int, state State) {
	k := strokeKey{from, to, state}
	i, known := d.strokes[k]
	if !known {
		i = len(d.Strokes)
		d.strokes[k] = i
		s := Stroke{From: from, State: state}
		if to >= 0 {
			s.To = &to
		}
		d.Strokes = append(d.Strokes, s)
		d.counted = append(d.counted, map[string]bool{})
	}
	d.counted[i][x.row.Name] = true
	if reason := x.way.Cells.Reason; state == Stopped && reason != "" {
		if d.of[i] == nil {
			d.of[i] = map[string]bool{}
		}
		d.of[i][reason] = true
	}
}

// mostReasons is how many reasons a stroke says.
const mostReasons = 3

func reasons(of map[string]bool) string {
	var list []string
	for reason := range of {
		list = append(list, reason)
	}
	slices.Sort(list)
	if more := len(list) - mostReasons; more > 0 {
		list = append(list[:mostReasons:mostReasons], fmt.Sprintf("and %d more reasons", more))
	}
	return strings.Join(list, "; ")
}

// around draws what is open to a backend by itself, though no intent says so, while its names come by a front at another place.
func (d *drawing) around(all []course, open []exposure.Open) {
	fronted := map[string]bool{} // the backends that a front stands before
	for i := range all {
		if cells := all[i].way.Cells; cells.Backend != "" && !strings.HasPrefix(cells.Backend, cells.Machine+":") {
			fronted[cells.Backend] = true
		}
	}
	seen := map[Around]bool{}
	for i := range open {
		o := &open[i]
		backend := fmt.Sprintf("%s:%d", o.Place, o.Port)
		to, drawn := d.nodes[nodeKey{slices.Index(Columns, Backends), backend}]
		if o.Intent == exposure.Declared || !fronted[backend] || !drawn {
			continue
		}
		a := Around{Door: net.JoinHostPort(o.Address, o.Ports) + transportWord(o.Transport), To: to, By: o.Sources.String()}
		if !seen[a] {
			seen[a] = true
			d.Around = append(d.Around, a)
		}
	}
}

func transportWord(transport string) string {
	if transport == "udp" {
		return "/udp"
	}
	return ""
}
