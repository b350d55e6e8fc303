package pack

import (
	"encoding/binary"
	"fmt"
	"math"
)

// Widest is the largest number of columns of a row.
const Widest = 48

// The types of values, as SQLite numbers them.
const (
	integer = 1
	float   = 2
	text    = 3
	blob    = 4
	null    = 5
)

// Rows is what unpack takes: rows of one number of columns, filled value by value from left to right.
type Rows struct {
	b      []byte
	width  int
	values int
	starts []int // of each row in b
	err    error
}

// NewRows returns no rows yet, of width columns, 1 to [Widest], with room for as many bytes.
func NewRows(width, room int) *Rows { return &Rows{width: width, b: make([]byte, 0, room)} }

// Reset removes all rows.
func (r *Rows) Reset() { r.b, r.values, r.starts, r.err = r.b[:0], 0, r.starts[:0], nil }

// Err is what was wrong with a value.
func (r *Rows) Err() error { return r.err }

// Len is how many rows have begun.
func (r *Rows) Len() int { return len(r.starts) }

// Size is how many bytes the rows take.
func (r *Rows) Size() int { return len(r.b) }

// Value returns the rows as unpack takes them, valid until the next change. It fails if the last row is not filled, or
// if a value is longer than SQLite takes any.
func (r *Rows) Value() ([]byte, error) {
	if r.values%r.width != 0 {
		return nil, fmt.Errorf("%d values do not fill rows of %d columns", r.values, r.width)
	}
	return r.b, r.err
}

// more counts values that are about to be added, none of them in another row than the first.
func (r *Rows) more(values int) {
	if len(r.b) == 0 {
		r.b = append(r.b, byte(r.width))
	}
	if r.values%r.width == 0 {
		r.starts = append(r.starts, len(r.b))
	}
	r.values += values
}

// Append adds the values of row i, counted from 0, of rows that were put together before. They are a part of this row.
func (r *Rows) Append(part *Rows, i int) *Rows {
	from, to := part.starts[i], len(part.b)
	if i+1 < len(part.starts) {
		to = part.starts[i+1]
	}
	r.more(part.width)
	r.b = append(r.b, part.b[from:to]...)
	if r.err == nil {
		r.err = part.err
	}
	return r
}

// Null adds NULL.
func (r *Rows) Null() *Rows {
	r.more(1)
	r.b = append(r.b, null)
	return r
}

// Int adds an integer.
func (r *Rows) Int(n int) *Rows { return r.Int64(int64(n)) }

// Bool adds 1 for true and 0 for false, which is how SQLite keeps them.
func (r *Rows) Bool(is bool) *Rows {
	if is {
		return r.Int64(1)
	}
	return r.Int64(0)
}

// Int64 adds an integer.
func (r *Rows) Int64(n int64) *Rows {
	r.more(1)
	r.b = binary.LittleEndian.AppendUint64(append(r.b, integer), uint64(n))
	return r
}

// Text adds text.
func (r *Rows) Text(s string) *Rows {
	if r.sized(text, len(s)) {
		r.b = append(r.b, s...)
	}
	return r
}

// Bytes adds bytes; nil is NULL.
func (r *Rows) Bytes(b []byte) *Rows {
	if b == nil {
		return r.Null()
	}
	if r.sized(blob, len(b)) {
		r.b = append(r.b, b...)
	}
	return r
}

// sized begins a value with its length.
func (r *Rows) sized(kind byte, n int) bool {
	r.more(1)
	if n > math.MaxInt32 {
		r.err = fmt.Errorf("a value of %d bytes is longer than SQLite takes any", n)
		return false
	}
	r.b = binary.LittleEndian.AppendUint32(append(r.b, kind), uint32(n))
	return true
}

// TextBytes adds bytes as text, and NULL where there are none.
func (r *Rows) TextBytes(b []byte) *Rows {
	if len(b) == 0 {
		return r.Null()
	}
	if r.sized(text, len(b)) {
		r.b = append(r.b, b...)
	}
	return r
}

// TextBy adds the text that a function appends, and NULL where it appends nothing.
func (r *Rows) TextBy(appendTo func([]byte) ([]byte, error)) *Rows {
	if r.sized(text, 0); r.err != nil {
		return r
	}
	at := len(r.b)
	b, err := appendTo(r.b)
	switch n := len(b) - at; {
	case err != nil:
		r.err = err
	case n == 0:
		r.b = append(r.b[:at-5], null)
	default:
		r.b = b
		binary.LittleEndian.PutUint32(b[at-4:], uint32(n))
	}
	return r
}

// TextOrNull adds text, and NULL where it is blank.
func (r *Rows) TextOrNull(s string) *Rows {
	if s == "" {
		return r.Null()
	}
	return r.Text(s)
}

// Int64OrNull adds an integer, and NULL where it is 0.
func (r *Rows) Int64OrNull(n int64) *Rows {
	if n == 0 {
		return r.Null()
	}
	return r.Int64(n)
}
