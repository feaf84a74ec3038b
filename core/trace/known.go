package trace

import "sync"

// known is what was worked out by key, each once; was, where it is set, is what a tracer before an edit had worked out.
type known[K comparable, V reader] struct {
	now, was *sync.Map
}

// reader is something worked out, with what that came by.
type reader interface{ read() *Reads }

// find is what was worked out for a key: also before the edit, where that leaves alone what it came by.
func (k *known[K, V]) find(key K, touch *Touch) (V, bool) {
	if v, ok := k.now.Load(key); ok {
		return v.(V), true
	}
	if k.was != nil {
		if v, ok := k.was.Load(key); ok && !touch.Reading(v.(V).read()) {
			k.now.Store(key, v)
			return v.(V), true
		}
	}
	var none V
	return none, false
}

func (k *known[K, V]) keep(key K, v V) { k.now.Store(key, v) }

func (x *taking) read() *Reads   { return &x.reads }
func (s *shore) read() *Reads    { return &s.reads }
func (c *crossing) read() *Reads { return &c.reads }

func (x *narrowSites) read() *Reads { return &x.reads }
