package jsondoc

import (
	"bufio"
	"errors"
	"io"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"
)

// Without copies a JSON document without the elements of arrays whose pointer (RFC 6901) is in drop. It uses its own
// indentation.
func Without(w io.Writer, r io.Reader, drop map[string]bool) error {
	in := jsontext.NewDecoder(r, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	out := jsontext.NewEncoder(w, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true),
		jsontext.WithIndent("  "))
	indexes := []int64{} // of the next element, for each open array; -1 for objects
	for {
		pointer := in.StackPointer()
		if n := len(indexes); n > 0 && indexes[n-1] >= 0 && in.PeekKind() != ']' {
			_, length := in.StackIndex(in.StackDepth())
			at := string(parent(pointer, length)) + "/" + strconv.FormatInt(length, 10)
			if drop[at] {
				if err := in.SkipValue(); err != nil {
					return err
				}
				continue
			}
		}
		t, err := in.ReadToken()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch t.Kind() {
		case '[':
			indexes = append(indexes, 0)
		case '{':
			indexes = append(indexes, -1)
		case ']', '}':
			indexes = indexes[:len(indexes)-1]
		}
		if err := out.WriteToken(t); err != nil {
			return err
		}
	}
}

// parent is the pointer of the open array, given the pointer of its element that was read last, or the array's own
// pointer if none has been read.
func parent(pointer jsontext.Pointer, read int64) jsontext.Pointer {
	if read > 0 {
		return pointer.Parent()
	}
	return pointer
}

// WithoutLines copies lines of NDJSON without those whose number, counted from 1, is in drop.
func WithoutLines(w io.Writer, r io.Reader, drop map[int]bool) error {
	in, out := bufio.NewReader(r), bufio.NewWriter(w)
	for n := 1; ; {
		part, err := in.ReadSlice('\n')
		if !drop[n] {
			out.Write(part) // its error comes back from Flush
		}
		if err == bufio.ErrBufferFull {
			continue
		}
		if err == io.EOF {
			return out.Flush()
		}
		if err != nil {
			return err
		}
		n++
	}
}
