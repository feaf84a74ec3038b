package memo

import "sync"

// Table is what was worked out by key, each once; was, where it is set, is what a tracer before an edit had worked out.
type Table[K comparable, V reader] struct {
	now, was *sync.Map
}

// NewTable is one that nothing is known in.
func NewTable[K comparable, V reader]() Table[K, V] { return Table[K, V]{now: &sync.Map{}} }

// GoOn takes over what another knows, as far as an edit since leaves alone what it came by.
func (k *Table[K, V]) GoOn(from Table[K, V]) { k.was = from.now }

// reader is something worked out, with what that came by.
type reader interface{ Read() *Reads }

// Find is what was worked out for a key: also before the edit, where that leaves alone what it came by.
func (k *Table[K, V]) Find(key K, touch *Touch) (V, bool) {
	if v, ok := k.now.Load(key); ok {
		return v.(V), true
	}
	if k.was != nil {
		if v, ok := k.was.Load(key); ok && !touch.Reading(v.(V).Read()) {
			k.now.Store(key, v)
			return v.(V), true
		}
	}
	var none V
	return none, false
}

func (k *Table[K, V]) Keep(key K, v V) { k.now.Store(key, v) }
