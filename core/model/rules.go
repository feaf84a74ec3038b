package model

import (
	"iter"
	"net/netip"
)

// ruleIndex finds the rules of a long filter that may take what goes to an address: those for it alone, and those for more.
type ruleIndex struct {
	to   map[netip.Addr][]int
	wide []int
}

// longFilter is how many rules make a filter one that is worth an index.
const longFilter = 48

func indexRules(rules []*Rule) *ruleIndex {
	if len(rules) < longFilter {
		return nil
	}
	x := &ruleIndex{to: map[netip.Addr][]int{}}
	for i, r := range rules {
		if a, one := r.To.Set.Single(); one && !r.To.Any && len(r.To.Float) == 0 {
			x.to[a] = append(x.to[a], i)
		} else {
			x.wide = append(x.wide, i)
		}
	}
	return x
}

// For are the rules that may take what goes to an address, in the order in which it meets them: all, where the address is
// not valid.
func (f *Filter) For(to netip.Addr) iter.Seq[*Rule] {
	return func(yield func(*Rule) bool) {
		if f.index == nil || !to.IsValid() {
			for _, r := range f.Rules {
				if !yield(r) {
					return
				}
			}
			return
		}
		own, wide := f.index.to[to], f.index.wide
		for len(own)+len(wide) > 0 {
			var i int
			if len(wide) == 0 || len(own) > 0 && own[0] < wide[0] {
				i, own = own[0], own[1:]
			} else {
				i, wide = wide[0], wide[1:]
			}
			if !yield(f.Rules[i]) {
				return
			}
		}
	}
}
