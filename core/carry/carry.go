// Package carry takes over from one state of something to the next what stays as it was.
package carry

import (
	"iter"
	"maps"
)

// Map is a map that is not changed: one that goes on from another holds only what is not as there. The zero Map is empty.
type Map[K comparable, V any] struct {
	base map[K]V
	over map[K]V // in place of those of base, and besides them
	gone map[K]bool
}

// MapOf is a map with all that another has, which is not to be changed any more.
func MapOf[K comparable, V any](all map[K]V) Map[K, V] { return Map[K, V]{base: all} }

// Get is what stands under a key.
func (m Map[K, V]) Get(key K) (V, bool) {
	if v, ok := m.over[key]; ok {
		return v, true
	}
	if m.gone[key] {
		var none V
		return none, false
	}
	v, ok := m.base[key]
	return v, ok
}

// Of is what stands under a key; the zero value where nothing does.
func (m Map[K, V]) Of(key K) V {
	v, _ := m.Get(key)
	return v
}

// All gives every key with what stands under it, in no order.
func (m Map[K, V]) All() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for key, v := range m.base {
			if _, other := m.over[key]; !other && !m.gone[key] && !yield(key, v) {
				return
			}
		}
		for key, v := range m.over {
			if !yield(key, v) {
				return
			}
		}
	}
}

// After is the map once some keys are gone, and others have come or stand for something else. A key in both has come. The map
// given is not to be changed any more.
func (m Map[K, V]) After(gone []K, come map[K]V) Map[K, V] {
	switch {
	case len(gone)+len(come) == 0:
		return m
	case len(m.base)+len(m.over) == 0:
		return MapOf(come)
	}
	next := Map[K, V]{m.base, make(map[K]V, len(m.over)+len(come)), make(map[K]bool, len(m.gone)+len(gone))}
	maps.Copy(next.over, m.over)
	maps.Copy(next.gone, m.gone)
	for _, key := range gone {
		delete(next.over, key)
		if _, there := m.base[key]; there {
			next.gone[key] = true
		}
	}
	for key, v := range come {
		next.over[key] = v
		delete(next.gone, key)
	}
	if few := 64 + len(m.base)/8; len(next.over)+len(next.gone) > few {
		return MapOf(maps.Collect(next.All()))
	}
	return next
}

// Ends says how many values two lists have in common at their start, and how many of the rest at their end.
func Ends[V any](a, b []V, same func(a, b V) bool) (start, end int) {
	most := min(len(a), len(b))
	for start < most && same(a[start], b[start]) {
		start++
	}
	for end < most-start && same(a[len(a)-1-end], b[len(b)-1-end]) {
		end++
	}
	return start, end
}
