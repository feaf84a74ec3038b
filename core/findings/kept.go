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

func keptFor[K comparable, V any](keys []K) *kept[K, V] {
	return &kept[K, V]{keys, make([]V, len(keys)), sync.OnceValue(func() map[K]int {
		at := make(map[K]int, len(keys))
		for i, key := range keys {
			at[key] = i
		}
		return at
	})}
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

// chunk is how many values are looked at in one go.
const chunk = 1024

// redo works out values for keys, by their index, on all cores; but those that stand are taken over. With it comes what was
// renewed.
func redo[K comparable, V any](ctx context.Context, before *kept[K, V], keys []K, stands func(int, V) bool, work func(int) V) (*kept[K, V], []renewed[V]) {
	if before == nil {
		before = keptFor[K, V](nil)
	}
	now := keptFor[K, V](keys)
	same := sameSlice(before.keys, keys)
	if same {
		now.index = before.index
	}
	was := make([]int, len(keys)) // where each key was before; -1 where it was not
	stays := make([]bool, len(before.keys))
	next := 0 // where the key is looked for first
	for i, key := range keys {
		at, known := next, same || next < len(before.keys) && before.keys[next] == key
		if !known {
			at, known = before.index()[key]
		}
		if was[i] = -1; known {
			was[i], next, stays[at] = at, at+1, true
		}
	}
	good := make([]bool, len(keys))
	parallel.Map(ctx, (len(keys)+chunk-1)/chunk, func(n int) struct{} {
		for i := n * chunk; i < min(len(keys), (n+1)*chunk); i++ {
			good[i] = was[i] >= 0 && stands(i, before.values[was[i]])
		}
		return struct{}{}
	})
	var todo []int
	var changes []renewed[V]
	for i, at := range was {
		var change renewed[V]
		if at >= 0 {
			change.old = before.values[at]
		}
		if good[i] {
			now.values[i] = change.old
			continue
		}
		todo, changes = append(todo, i), append(changes, change)
	}
	for i, v := range parallel.Map(ctx, len(todo), func(i int) V { return work(todo[i]) }) {
		now.values[todo[i]], changes[i].now = v, v
	}
	for i, stays := range stays {
		if !stays {
			changes = append(changes, renewed[V]{old: before.values[i]})
		}
	}
	return now, changes
}

func sameSlice[T any](a, b []T) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}
