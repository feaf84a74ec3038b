package server

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"hash/maphash"
	"slices"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	"github.com/klauspost/compress/flate"

	"steady-compass/core/parallel"
)

// piece is a stretch of an answer as it goes over the wire: deflated by itself (RFC 1951), it may stand anywhere in what is packed.
type piece struct {
	packed []byte
	sum    uint32 // CRC-32 of the text
	size   int    // of the text, in bytes
}

// packer packs an answer (gzip, RFC 1952): text, and pieces that were packed before.
type packer struct {
	out  bytes.Buffer
	text *flate.Writer // what is written goes there; nil behind a piece, which it knows nothing of
	sum  uint32
	size int
}

// deflaters are writers to be used again: each has tables of its own.
var deflaters = sync.Pool{New: func() any {
	w, _ := flate.NewWriter(nil, flate.BestSpeed) // the level is one
	return w
}}

func deflater(out *bytes.Buffer) *flate.Writer {
	w := deflaters.Get().(*flate.Writer)
	w.Reset(out)
	return w
}

// pieceOf packs a text by itself.
func pieceOf(text []byte) piece {
	var out bytes.Buffer
	w := deflater(&out)
	_, _ = w.Write(text) // into memory
	_ = w.Flush()
	deflaters.Put(w)
	return piece{bytes.Clone(out.Bytes()), crc32.ChecksumIEEE(text), len(text)}
}

func newPacker() *packer {
	p := &packer{}
	p.out.Write([]byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 4, 255}) // deflated, of no date, fast, on no system in particular
	return p
}

func (p *packer) Write(text []byte) (int, error) {
	if p.text == nil {
		p.text = deflater(&p.out)
	}
	p.sum, p.size = crc32.Update(p.sum, crc32.IEEETable, text), p.size+len(text)
	return p.text.Write(text)
}

// add puts a piece behind what there is.
func (p *packer) add(b piece) {
	if p.text != nil {
		_ = p.text.Flush() // into memory
		deflaters.Put(p.text)
		p.text = nil
	}
	p.out.Write(b.packed)
	p.sum, p.size = sumOfBoth(p.sum, b.sum, b.size), p.size+b.size
}

// packed is all that was written, with its end.
func (p *packer) packed() []byte {
	if p.text == nil {
		p.text = deflater(&p.out)
	}
	_ = p.text.Close() // into memory
	deflaters.Put(p.text)
	end := binary.LittleEndian.AppendUint32(nil, p.sum)
	end = binary.LittleEndian.AppendUint32(end, uint32(p.size))
	return append(bytes.Clone(p.out.Bytes()), end...)
}

// sumOfBoth is the CRC-32 of a text and another of some bytes behind it, by those of each: the first is multiplied by x to the power of the
// bits of the second, modulo the polynomial (RFC 1952 §8, whose bits are reflected).
func sumOfBoth(first, second uint32, size int) uint32 {
	power, square := uint32(1)<<31, uint32(1)<<23 // 1, and x to the eighth: a byte
	for ; size > 0; size >>= 1 {
		if size&1 != 0 {
			power = product(square, power)
		}
		square = product(square, square)
	}
	return product(power, first) ^ second
}

// product multiplies two polynomials modulo that of CRC-32, all of them reflected.
func product(a, b uint32) uint32 {
	var sum uint32
	for bit := uint32(1) << 31; bit != 0; bit >>= 1 {
		if a&bit != 0 {
			sum ^= b
		}
		if b = b>>1 ^ b&1*crc32.IEEE; a&(bit-1) == 0 {
			break
		}
	}
	return sum
}

// rows says what an answer has to know of the rows of its list, to take over those that were packed before.
type rows[T any, ID comparable] struct {
	name func(*T) string // by which stretches are cut: the same wherever the row stands
	id   func(*T) ID     // the same for rows that say the same
}

// stretch is some rows of a list, one behind the other, and what they are packed.
type stretch[ID comparable] struct {
	ids []ID
	piece
}

// meant is how many rows a stretch has, on average.
const meant = 64

var cutSeed = maphash.MakeSeed()

// cut cuts a list into stretches, by the names of rows: one more row changes the stretch that it is in, and no other.
func (of rows[T, ID]) cut(list []T) [][]T {
	var out [][]T
	begun := 0
	for i := 1; i <= len(list); i++ {
		if i == len(list) || maphash.String(cutSeed, of.name(&list[i]))%meant == 0 {
			out, begun = append(out, list[begun:i]), i
		}
	}
	return out
}

func (of rows[T, ID]) ids(list []T) []ID {
	out := make([]ID, len(list))
	for i := range list {
		out[i] = of.id(&list[i])
	}
	return out
}

// pack packs the rows of a list as they stand between the brackets of a JSON array (RFC 8259 §5). Stretches that were packed before, by the
// first of their rows, are taken over.
func (of rows[T, ID]) pack(r *recorder, list []T) error {
	type made struct {
		stretch[ID]
		err error
	}
	before, _ := r.rows.(map[ID]stretch[ID])
	cuts := of.cut(list)
	all := parallel.Map(context.Background(), len(cuts), func(i int) made { // what is begun does not take long
		ids := of.ids(cuts[i])
		if known := before[ids[0]]; slices.Equal(known.ids, ids) {
			return made{known, nil}
		}
		text, err := jsonOf(cuts[i])
		if err != nil {
			return made{err: err}
		}
		return made{stretch[ID]{ids, pieceOf(text[1 : len(text)-1])}, nil}
	})
	now := make(map[ID]stretch[ID], len(cuts))
	p := r.packer()
	for i, m := range all {
		if m.err != nil {
			return m.err
		}
		if i > 0 {
			p.add(comma)
		}
		p.add(m.piece)
		now[m.ids[0]] = m.stretch
	}
	r.rows = now
	return nil
}

// around packs an answer whose list is empty, with these rows in the list of a name.
func (of rows[T, ID]) around(r *recorder, answer any, name string, list []T) error {
	text, err := jsonOf(answer)
	if err != nil {
		return err
	}
	before, behind, _ := bytes.Cut(text, fmt.Appendf(nil, "%q:[", name)) // within a string its quotes would be escaped
	p := r.packer()
	_, _ = fmt.Fprintf(p, "%s%q:[", before, name) // into memory
	if err := of.pack(r, list); err != nil {
		return err
	}
	_, _ = p.Write(append(behind, '\n'))
	return nil
}

// jsonOf is a value as it stands in an answer.
func jsonOf(v any) ([]byte, error) {
	var text bytes.Buffer
	if err := huma.DefaultJSONFormat.Marshal(&text, v); err != nil {
		return nil, err
	}
	return bytes.TrimSuffix(text.Bytes(), []byte("\n")), nil
}

var comma = pieceOf([]byte(","))
