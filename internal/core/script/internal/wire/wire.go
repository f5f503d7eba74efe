// Package wire is how the values of scripts pass between the product and the processes that run them:
// values as ECMAScript has them, each a tag followed by what it holds. Numbers are varints or IEEE 754
// in little endian; a text is its length in bytes and its UTF-8.
package wire

import (
	"encoding/binary"
	"math"
)

// Tag says which value follows.
type Tag byte

// The values. A record is its count of names, then each name and its value; a list is its count of
// items, then the items; other is what cannot pass, as a description.
const (
	Undefined Tag = iota
	Null
	False
	True
	Int
	Float
	Big // a text of digits
	Text
	Date  // milliseconds since 1970 in UTC
	Bytes // a list of numbers from 0 to 255
	List
	Record
	Other
)

// Append adds a value that its tag says all of.
func Append(b []byte, t Tag) []byte { return append(b, byte(t)) }

// AppendInt adds a whole number: an Int, or a Date.
func AppendInt(b []byte, t Tag, n int64) []byte { return binary.AppendVarint(append(b, byte(t)), n) }

// AppendFloat adds a number.
func AppendFloat(b []byte, x float64) []byte {
	return binary.LittleEndian.AppendUint64(append(b, byte(Float)), math.Float64bits(x))
}

// AppendText adds what is held as a text: a Text, Big, Bytes or Other.
func AppendText(b []byte, t Tag, s string) []byte { return AppendName(append(b, byte(t)), s) }

// AppendCount begins a List or Record of n.
func AppendCount(b []byte, t Tag, n int) []byte {
	return binary.AppendUvarint(append(b, byte(t)), uint64(n))
}

// AppendName adds a text without a tag, as the names of a record are.
func AppendName(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// Reader takes values apart. Once bytes are not what they must be, Bad is true and everything that is
// read is empty.
type Reader struct {
	Rest []byte
	Bad  bool
}

func (r *Reader) bad() {
	r.Rest, r.Bad = nil, true
}

// Tag reads what follows.
func (r *Reader) Tag() Tag {
	if len(r.Rest) == 0 {
		r.bad()
		return Undefined
	}
	t := Tag(r.Rest[0])
	r.Rest = r.Rest[1:]
	return t
}

// Int reads a whole number.
func (r *Reader) Int() int64 {
	n, size := binary.Varint(r.Rest)
	if size <= 0 {
		r.bad()
		return 0
	}
	r.Rest = r.Rest[size:]
	return n
}

// Float reads a number.
func (r *Reader) Float() float64 {
	if len(r.Rest) < 8 {
		r.bad()
		return 0
	}
	x := math.Float64frombits(binary.LittleEndian.Uint64(r.Rest))
	r.Rest = r.Rest[8:]
	return x
}

// Count reads how many follow: never more than there are bytes for.
func (r *Reader) Count() int {
	n, size := binary.Uvarint(r.Rest)
	if size <= 0 || n > uint64(len(r.Rest)-size) {
		r.bad()
		return 0
	}
	r.Rest = r.Rest[size:]
	return int(n)
}

// Text reads a text.
func (r *Reader) Text() string {
	n := r.Count()
	s := string(r.Rest[:n])
	r.Rest = r.Rest[n:]
	return s
}
