// Package chunk packs the points of a series: numbers over time, about two bytes each where they come at an even pace and change little.
//
// A number keeps one part in 8192 of itself: its sign, its exponent and the first 12 bits of its mantissa, as an integer that rises with it. What is
// written is the difference to the one before, as a variable number of bytes; and the time only where it did not come at the pace of the one before.
package chunk

import (
	"encoding/binary"
	"errors"
	"math"
)

// Point is a number at a time, in milliseconds since 1970.
type Point struct {
	T int64
	V float64
}

// dropped is how many bits of the mantissa are not kept.
const dropped = 40

// quantum gives a number as an integer that rises with it. NaN is larger than all.
func quantum(v float64) int64 {
	bits := math.Float64bits(v)
	if v != v {
		bits = math.Float64bits(math.NaN()) // of its many forms, one
	}
	negative := bits>>63 == 1
	bits &^= 1 << 63
	q := int64((bits + 1<<(dropped-1)) >> dropped) // to the nearest
	if most := int64(math.Float64bits(math.MaxFloat64) >> dropped); v == v && !math.IsInf(v, 0) && q > most {
		q = most // it must not become infinite
	}
	if negative {
		return -q
	}
	return q
}

// number gives the number of an integer.
func number(q int64) float64 {
	v := math.Float64frombits(uint64(max(q, -q)) << dropped)
	if q < 0 {
		return -v
	}
	return v
}

// Kept is a number as it comes back.
func Kept(v float64) float64 { return number(quantum(v)) }

// Chunk is points being packed. The zero value is empty.
type Chunk struct {
	data        []byte
	n           int
	first, last int64 // times
	pace        int64
	q           int64
}

// Add adds a point. One that is not after the last one is left out; false says so.
func (c *Chunk) Add(t int64, v float64) bool {
	q := quantum(v)
	if c.n == 0 {
		c.first, c.last, c.q, c.n = t, t, q, 1
		c.data = binary.AppendVarint(binary.AppendVarint(c.data[:0], t), q)
		return true
	}
	pace := t - c.last
	if pace <= 0 {
		return false
	}
	d := q - c.q
	zigzag := uint64(d<<1) ^ uint64(d>>63)
	if pace == c.pace {
		c.data = binary.AppendUvarint(c.data, zigzag<<1)
	} else {
		c.data = binary.AppendUvarint(c.data, zigzag<<1|1)
		c.data = binary.AppendUvarint(c.data, uint64(pace))
	}
	c.last, c.pace, c.q = t, pace, q
	c.n++
	return true
}

// Len is how many points it has.
func (c *Chunk) Len() int { return c.n }

// First and Last are the times of its first and its last point.
func (c *Chunk) First() int64 { return c.first }

// Last is the time of its last point.
func (c *Chunk) Last() int64 { return c.last }

// Bytes gives the packed points. They are valid until the next Add or Reset.
func (c *Chunk) Bytes() []byte { return c.data }

// Reset empties it.
func (c *Chunk) Reset() { c.data, c.n, c.pace = c.data[:0], 0, 0 }

// ErrDamaged says that bytes are not packed points.
var ErrDamaged = errors.New("these are no packed points")

// Append gives all points of packed bytes, after those that are there. What comes before damage is given with the error.
func Append(to []Point, data []byte) ([]Point, error) {
	if len(data) == 0 {
		return to, nil
	}
	t, n := binary.Varint(data)
	if n <= 0 {
		return to, ErrDamaged
	}
	data = data[n:]
	q, n := binary.Varint(data)
	if n <= 0 {
		return to, ErrDamaged
	}
	data = data[n:]
	to = append(to, Point{t, number(q)})
	pace := int64(0)
	for len(data) > 0 {
		var u uint64
		switch { // most take one or two bytes
		case data[0] < 0x80:
			u, data = uint64(data[0]), data[1:]
		case len(data) > 1 && data[1] < 0x80:
			u, data = uint64(data[0]&0x7f)|uint64(data[1])<<7, data[2:]
		default:
			if u, n = binary.Uvarint(data); n <= 0 {
				return to, ErrDamaged
			}
			data = data[n:]
		}
		if u&1 == 1 {
			p, n := binary.Uvarint(data)
			if n <= 0 || p > math.MaxInt64/4 {
				return to, ErrDamaged
			}
			data, pace = data[n:], int64(p)
		}
		zigzag := u >> 1
		q += int64(zigzag>>1) ^ -int64(zigzag&1)
		t += pace
		to = append(to, Point{t, number(q)})
	}
	return to, nil
}

// Each gives all points of packed bytes, until it gives false. What comes before the damage is given.
func Each(data []byte, each func(Point) bool) error {
	all, err := Append(nil, data)
	for _, p := range all {
		if !each(p) {
			return nil
		}
	}
	return err
}
