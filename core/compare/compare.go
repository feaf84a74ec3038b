// Package compare lays two traces side by side: the ways of the one beside those of the other, and the steps of two ways joined where
// they are the same, split where they part. It judges nothing: what is the same is what the traces say.
package compare

import (
	"slices"

	"steady-compass/core/flow"
	"steady-compass/core/trace"
)

// Comparison is two traces side by side.
type Comparison struct {
	Left  trace.Result `json:"left"`
	Right trace.Result `json:"right"`
	Ways  []Pair       `json:"ways" nullable:"false" doc:"In the order of the left one's; those that only the right one has are last"`
}

// Pair is one way of each trace, or of one of them where the other has none like it.
type Pair struct {
	Left     *int      `json:"left" doc:"Which of the left trace's paths; null where it has none like it"`
	Right    *int      `json:"right"`
	Same     bool      `json:"same" doc:"Both go by the same steps to the same end"`
	Segments []Segment `json:"segments" nullable:"false"`
}

// Segment is steps that both ways have, pair by pair, or what each has by itself between such.
type Segment struct {
	Joined bool  `json:"joined"`
	Left   []int `json:"left" nullable:"false" doc:"Which of the left path's steps"`
	Right  []int `json:"right" nullable:"false"`
}

// Of compares two traces.
func Of(left, right trace.Result) Comparison {
	c := Comparison{Left: left, Right: right, Ways: []Pair{}}
	partner := partners(left.Paths, right.Paths)
	taken := make([]bool, len(right.Paths))
	for l, r := range partner {
		if r < 0 {
			c.Ways = append(c.Ways, way(&left.Paths[l], nil, l, r))
			continue
		}
		taken[r] = true
		c.Ways = append(c.Ways, way(&left.Paths[l], &right.Paths[r], l, r))
	}
	for r := range right.Paths {
		if !taken[r] {
			c.Ways = append(c.Ways, way(nil, &right.Paths[r], -1, r))
		}
	}
	return c
}

// alike are the readings of which way is beside which, the nearest first: a way is paired by the first that finds it a free partner.
var alike = []func(a, b *trace.Path) bool{
	func(a, b *trace.Path) bool {
		return asked(a, b) && member(a, b) && a.Address == b.Address && a.Via == b.Via
	},
	func(a, b *trace.Path) bool { return asked(a, b) && member(a, b) && a.Family == b.Family },
	func(a, b *trace.Path) bool { return asked(a, b) && a.Family == b.Family },
	func(a, b *trace.Path) bool { return asked(a, b) && member(a, b) },
	asked,
	func(a, b *trace.Path) bool { return a.Port == b.Port && a.Transport == b.Transport },
}

// asked says whether two ways are asked for alike: port, transport and URL path.
func asked(a, b *trace.Path) bool {
	return a.Port == b.Port && a.Transport == b.Transport && a.URLPath == b.URLPath
}

func member(a, b *trace.Path) bool { return a.Member == b.Member }

// partners gives for each way on the left the one beside it; -1 where there is none.
func partners(left, right []trace.Path) []int {
	readings := alike
	if !slices.ContainsFunc(left, func(a trace.Path) bool {
		return slices.ContainsFunc(right, func(b trace.Path) bool { return a.Port == b.Port && a.Transport == b.Transport })
	}) { // of two targets at other ports, the ways are beside one another as they come
		readings = append(slices.Clone(alike), func(_, _ *trace.Path) bool { return true })
	}
	partner, taken := make([]int, len(left)), make([]bool, len(right))
	for l := range partner {
		partner[l] = -1
	}
	for _, like := range readings {
		for l := range left {
			for r := range right {
				if partner[l] < 0 && !taken[r] && like(&left[l], &right[r]) {
					partner[l], taken[r] = r, true
				}
			}
		}
	}
	return partner
}

// way compares two paths, by their indices; nil and -1 for one that is not there.
func way(left, right *trace.Path, l, r int) Pair {
	w := Pair{Segments: []Segment{}}
	var a, b []step
	if left != nil {
		w.Left, a = &l, stepsOf(left)
	}
	if right != nil {
		w.Right, b = &r, stepsOf(right)
	}
	w.Segments = segments(a, b)
	w.Same = left != nil && right != nil && left.Outcome == right.Outcome && left.Inner == right.Inner &&
		!slices.ContainsFunc(w.Segments, func(s Segment) bool { return !s.Joined })
	return w
}

// step is a step as it is told from others: what is done to the flow and by which lines, not from where the flow is.
type step struct {
	*flow.Step
	breaks []flow.Break
}

func stepsOf(p *trace.Path) []step {
	out := make([]step, len(p.Steps))
	for i := range p.Steps {
		out[i].Step = &p.Steps[i]
	}
	for _, b := range p.Breaks {
		if b.Step < len(out) {
			out[b.Step].breaks = append(out[b.Step].breaks, b)
		}
	}
	return out
}

// same says whether two steps are one thing done to both flows. Whether it is done, or would be past a break, does not part them.
func (s step) same(o step) bool {
	return s.Stage == o.Stage && s.At == o.At && s.Filter == o.Filter && s.Verdict == o.Verdict && slices.Equal(s.Records, o.Records) &&
		s.Flow.To == o.Flow.To && s.Flow.Name == o.Flow.Name && s.Flow.Encrypted == o.Flow.Encrypted &&
		slices.EqualFunc(s.breaks, o.breaks, func(a, b flow.Break) bool { return a.Code == b.Code && a.At == b.At })
}

// segments are two lists of steps joined where they have the same in the same order: a longest common subsequence.
func segments(left, right []step) []Segment {
	common := make([][]int, len(left)+1) // how many steps are common from there on
	for l := range common {
		common[l] = make([]int, len(right)+1)
	}
	for l := len(left) - 1; l >= 0; l-- {
		for r := len(right) - 1; r >= 0; r-- {
			if left[l].same(right[r]) {
				common[l][r] = common[l+1][r+1] + 1
			} else {
				common[l][r] = max(common[l+1][r], common[l][r+1])
			}
		}
	}
	out := []Segment{}
	at := func(joined bool) *Segment {
		if len(out) == 0 || out[len(out)-1].Joined != joined {
			out = append(out, Segment{Joined: joined, Left: []int{}, Right: []int{}})
		}
		return &out[len(out)-1]
	}
	for l, r := 0, 0; l < len(left) || r < len(right); {
		switch {
		case l < len(left) && r < len(right) && left[l].same(right[r]):
			s := at(true)
			s.Left, s.Right = append(s.Left, l), append(s.Right, r)
			l, r = l+1, r+1
		case r == len(right) || l < len(left) && common[l+1][r] >= common[l][r+1]:
			s := at(false)
			s.Left = append(s.Left, l)
			l++
		default:
			s := at(false)
			s.Right = append(s.Right, r)
			r++
		}
	}
	return out
}
