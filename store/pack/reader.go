package pack

import (
	"encoding/binary"
	"errors"
	"math"
)

// ErrForm says that a value is not what pack makes, or that its rows were read as what they are not.
var ErrForm = errors.New("packed rows: not of the form that was expected")

// Reader reads the rows of a value that pack made, value by value from left to right. After an error it gives only
// zeros, and no further row.
type Reader struct {
	s     string // what is left
	width int
	left  int // values of this row that were not read yet
	err   error
}

// Read begins to read a value. nil has no rows. Texts that are read share the memory of one copy of the value.
func Read(value []byte) *Reader {
	if len(value) == 0 {
		return &Reader{}
	}
	r := &Reader{s: string(value[1:]), width: int(value[0])}
	if r.width == 0 {
		r.wrong()
	}
	return r
}

// Next goes to the next row, and returns false behind the last one. What was not read of a row is skipped.
func (r *Reader) Next() bool {
	for r.left > 0 {
		r.value()
	}
	if len(r.s) == 0 || r.err != nil {
		return false
	}
	r.left = r.width
	return true
}

// Err is what was wrong.
func (r *Reader) Err() error { return r.err }

// value returns the type of the next value with its bytes.
func (r *Reader) value() (byte, string) {
	if r.left == 0 || len(r.s) == 0 {
		return r.wrong()
	}
	r.left--
	kind, rest, n := r.s[0], r.s[1:], 0
	switch kind {
	case null:
	case integer, float:
		n = 8
	case text, blob:
		if len(rest) < 4 {
			return r.wrong()
		}
		n, rest = int(binary.LittleEndian.Uint32([]byte(rest[:4]))), rest[4:]
	default:
		return r.wrong()
	}
	if n > len(rest) {
		return r.wrong()
	}
	r.s = rest[n:]
	return kind, rest[:n]
}

func (r *Reader) wrong() (byte, string) {
	r.s, r.left = "", 0
	if r.err == nil {
		r.err = ErrForm
	}
	return null, ""
}

// Int64 reads an integer; NULL is 0.
func (r *Reader) Int64() int64 {
	kind, s := r.value()
	switch kind {
	case integer:
		return int64(binary.LittleEndian.Uint64([]byte(s)))
	case null:
		return 0
	}
	r.wrong()
	return 0
}

// Int reads an integer; NULL is 0.
func (r *Reader) Int() int { return int(r.Int64()) }

// Float reads a float; NULL is 0.
func (r *Reader) Float() float64 {
	kind, s := r.value()
	switch kind {
	case float:
		return math.Float64frombits(binary.LittleEndian.Uint64([]byte(s)))
	case null:
		return 0
	}
	r.wrong()
	return 0
}

// Text reads text or bytes; NULL is "".
func (r *Reader) Text() string {
	kind, s := r.value()
	if kind == integer || kind == float {
		r.wrong()
		return ""
	}
	return s
}
