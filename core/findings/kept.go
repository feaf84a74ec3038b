package findings

import (
	"context"
	"sync"

	"steady-compass/core/parallel"
)

// kept is what was worked out for keys, in order, so that a check after an edit does again only what that touches.
type kept[K comparable, V any] struct {
	keys   []K
	values []V
	index  func() map[K]int // made where it is asked for
}

// find is what was worked out for a key.
func (k *kept[K, V]) find(key K) (V, bool) {
	if k != nil {
		if i, ok := k.index()[key]; ok {
			return k.values[i], true
		}
	}
	var none V
	return none, false
}

// renewed is a value that was worked out in place of another; none where it came or went.
type renewed[V any] struct{ old, now V }

// redo works out values for keys, by their index, on all cores; but those that stand are taken over. With it comes what was
// renewed.
func redo[K comparable, V any](ctx context.Context, before *kept[K, V], keys []K, stands func(int, V) bool, work func(int) V) (*kept[K, V], []renewed[V]) {
	now := &kept[K, V]{keys: keys, values: make([]V, len(keys))}
	var todo []int
	var changes []renewed[V]
	next, same := 0, before != nil && len(before.keys) == len(keys)
	kept := 0
	for i, key := range keys {
		at := -1
		switch {
		case before == nil:
		case next < len(before.keys) && before.keys[next] == key:
			at = next
		default:
			same = false
			if known, ok := before.index()[key]; ok {
				at = known
			}
		}
		var change renewed[V]
		if at >= 0 {
			next = at + 1
			kept++
			if stands(i, before.values[at]) {
				now.values[i] = before.values[at]
				continue
			}
			change.old = before.values[at]
		}
		todo, changes = append(todo, i), append(changes, change)
	}
	for i, v := range parallel.Map(ctx, len(todo), func(i int) V { return work(todo[i]) }) {
		now.values[todo[i]], changes[i].now = v, v
	}
	if same {
		now.keys, now.index = before.keys, before.index
		return now, changes
	}
	now.index = sync.OnceValue(func() map[K]int {
		at := make(map[K]int, len(keys))
		for i, k := range keys {
			at[k] = i
		}
		return at
	})
	if before != nil && kept < len(before.keys) {
		for i, key := range before.keys {
			if _, stays := now.index()[key]; !stays {
				changes = append(changes, renewed[V]{old: before.values[i]})
			}
		}
	}
	return now, changes
}
