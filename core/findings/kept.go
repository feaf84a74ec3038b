package findings

import (
	"context"
	"sync/atomic"

	"steady-compass/core/carry"
	"steady-compass/core/parallel"
)

// kept is what was worked out for keys, in order, so that a check after an edit does again only what that touches.
type kept[K comparable, V any] struct {
	keys   []K
	values []V
	by     atomic.Pointer[carry.Map[K, V]] // by key, from when it is first asked for
}

// find is what was worked out for a key.
func (k *kept[K, V]) find(key K) (V, bool) {
	if k == nil {
		var none V
		return none, false
	}
	by := k.by.Load()
	if by == nil {
		all := make(map[K]V, len(k.keys))
		for i, key := range k.keys {
			all[key] = k.values[i]
		}
		made := carry.MapOf(all)
		k.by.CompareAndSwap(nil, &made)
		by = &made
	}
	return by.Get(key)
}

// renewed is a value that was worked out in place of another; none where it came or went.
type renewed[K comparable, V any] struct {
	key      K
	old, now V
	went     bool // the key is no more
}

// chunk is how many values are looked at in one go.
const chunk = 1024

// redo works out values for keys, by their index, on all cores; but those that stand are taken over. With it comes what was
// renewed. Where the context ends first, it is nothing at all.
func redo[K comparable, V any](ctx context.Context, before *kept[K, V], keys []K, stands func(int, V) bool, work func(int) V) (*kept[K, V], []renewed[K, V]) {
	if before == nil {
		before = &kept[K, V]{}
	}
	now := &kept[K, V]{keys: keys, values: make([]V, len(keys))}
	was, left := places(before.keys, keys)
	anew := parallel.Map(ctx, (len(keys)+chunk-1)/chunk, func(n int) (anew []int) {
		for i := n * chunk; i < min(len(keys), (n+1)*chunk); i++ {
			if at := was(i); at >= 0 && stands(i, before.values[at]) {
				now.values[i] = before.values[at]
			} else {
				anew = append(anew, i)
			}
		}
		return anew
	})
	var changes []renewed[K, V]
	var todo []int
	for _, list := range anew {
		for _, i := range list {
			change := renewed[K, V]{key: keys[i]}
			if at := was(i); at >= 0 {
				change.old = before.values[at]
			}
			todo, changes = append(todo, i), append(changes, change)
		}
	}
	for n, v := range parallel.Map(ctx, len(todo), func(n int) V { return work(todo[n]) }) {
		now.values[todo[n]], changes[n].now = v, v
	}
	if ctx.Err() != nil { // some are not worked out: none is to be looked at
		return &kept[K, V]{}, nil
	}
	for _, at := range left {
		changes = append(changes, renewed[K, V]{key: before.keys[at], old: before.values[at], went: true})
	}
	if by := before.by.Load(); by != nil {
		var gone []K
		come := make(map[K]V, len(changes))
		for _, c := range changes {
			if c.went {
				gone = append(gone, c.key)
			} else {
				come[c.key] = c.now
			}
		}
		next := by.After(gone, come)
		now.by.Store(&next)
	}
	return now, changes
}

// places gives where each key stood before, -1 where it did not; and where those stood that are no more.
func places[K comparable](before, keys []K) (was func(int) int, left []int) {
	if sameSlice(before, keys) {
		return func(i int) int { return i }, nil
	}
	start, end := carry.Ends(before, keys, func(a, b K) bool { return a == b })
	at := make(map[K]int, len(before)-end-start) // of those between
	for i := start; i < len(before)-end; i++ {
		at[before[i]] = i
	}
	between := make([]int, len(keys)-end-start)
	for i := range between {
		n, known := at[keys[start+i]]
		if between[i] = -1; known {
			between[i] = n
			delete(at, keys[start+i])
		}
	}
	for i := start; i < len(before)-end; i++ {
		if _, there := at[before[i]]; there {
			left = append(left, i)
		}
	}
	return func(i int) int {
		switch {
		case i < start:
			return i
		case i >= len(keys)-end:
			return i - len(keys) + len(before)
		}
		return between[i-start]
	}, left
}

func sameSlice[T any](a, b []T) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}
