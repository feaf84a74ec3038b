package memo

import (
	"hash/maphash"

	"steady-compass/core/model"
	"steady-compass/core/names"
)

// marks are a set of hashes in few bits: two sets that have one in common meet, and so, now and then, do others. Most of what an
// edit leaves alone is told by them at a glance.
type marks [4]uint64

var markSeed = maphash.MakeSeed()

func (m *marks) hash(h uint64) { m[h>>6%4] |= 1 << (h % 64) }

func (m *marks) place(id model.PlaceID) { m.hash(uint64(id) * 0x9e3779b97f4a7c15 >> 32) }

func (m *marks) word(kind byte, text string) {
	m.hash(maphash.String(markSeed, text) + uint64(kind))
}

func (m *marks) service(name string) { m.word(1, name) }

// name is a name, and is below whatever it is under.
func (m *marks) name(name string) {
	m.word(2, name)
	for up, ok := name, true; ok; up, ok = names.Parent(up) {
		m.word(3, up)
	}
}

func (m *marks) all() { *m = marks{^uint64(0), ^uint64(0), ^uint64(0), ^uint64(0)} }

func (m *marks) meet(o *marks) bool {
	return m[0]&o[0]|m[1]&o[1]|m[2]&o[2]|m[3]&o[3] != 0
}
