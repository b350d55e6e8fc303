package source

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"koinos/core/finding"
	"koinos/core/origin"
)

// Encoding is how a CSV document's characters are written as bytes.
type Encoding string

const (
	UTF8        Encoding = "utf-8"
	UTF16LE     Encoding = "utf-16le"
	UTF16BE     Encoding = "utf-16be"
	Windows1252 Encoding = "windows-1252"
)

// Encodings are the encodings that can be named.
var Encodings = []string{string(UTF8), string(UTF16LE), string(UTF16BE), string(Windows1252)}

var byteOrderMarks = []struct {
	mark []byte
	is   Encoding
}{{[]byte("\xef\xbb\xbf"), UTF8}, {[]byte("\xff\xfe"), UTF16LE}, {[]byte("\xfe\xff"), UTF16BE}}

// sniffEncoding uses the byte order mark, otherwise the stated encoding, otherwise what the bytes allow. To tell UTF-8
// from Windows-1252, it reads the whole document, because the only accent may stand in the last row.
func (s *Shape) sniffEncoding(r io.ReaderAt, size int64, head []byte, stated Encoding) error {
	for _, b := range byteOrderMarks {
		if bytes.HasPrefix(head, b.mark) { // it says what the bytes are; whoever stated something else could not know
			s.Encoding, s.Marked = b.is, true
			return nil
		}
	}
	if stated != "" {
		s.Encoding = stated
		return nil
	}
	var zero [2]int
	for i, c := range head {
		if c == 0 {
			zero[i%2]++
		}
	}
	switch half := len(head) / 2; {
	case half > 1 && zero[1] > half*6/10 && zero[0] < half/10:
		s.Encoding = UTF16LE
		return nil
	case half > 1 && zero[0] > half*6/10 && zero[1] < half/10:
		s.Encoding = UTF16BE
		return nil
	}
	valid, err := validUTF8(io.NewSectionReader(r, 0, size))
	if err != nil {
		return finding.Fatal(finding.DocumentBroken, origin.Place{}, "The document cannot be read: %v.", err)
	}
	s.Encoding = Windows1252
	if valid {
		s.Encoding = UTF8
	}
	return nil
}

func validUTF8(r io.Reader) (bool, error) {
	buf := make([]byte, 256<<10)
	kept := 0
	for {
		n, err := r.Read(buf[kept:])
		chunk := buf[:kept+n]
		end := len(chunk)
		if err == nil { // a character may go on in the next chunk
			for back := 1; back <= min(3, end); back++ {
				if utf8.RuneStart(chunk[end-back]) {
					if !utf8.FullRune(chunk[end-back:]) {
						end -= back
					}
					break
				}
			}
		}
		if !utf8.Valid(chunk[:end]) {
			return false, nil
		}
		if err == io.EOF {
			return true, nil
		}
		if err != nil {
			return false, err
		}
		kept = copy(buf, chunk[end:])
	}
}

// encoding converts between bytes and text; nil is UTF-8, which needs no conversion.
func (e Encoding) encoding() encoding.Encoding {
	switch e {
	case UTF16LE:
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM)
	case UTF16BE:
		return unicode.UTF16(unicode.BigEndian, unicode.UseBOM)
	case Windows1252:
		return charmap.Windows1252
	}
	return nil
}

// Lacks returns the first character of a text that the encoding cannot express; 0 if there is none.
func (e Encoding) Lacks(text string) rune {
	if e == Windows1252 {
		for _, r := range text {
			if _, ok := charmap.Windows1252.EncodeRune(r); !ok {
				return r
			}
		}
	}
	return 0
}

// decode returns the document's text as UTF-8, without its byte order mark.
func (s *Shape) decode(r io.Reader) io.Reader {
	if enc := s.Encoding.encoding(); enc != nil {
		return transform.NewReader(r, enc.NewDecoder())
	}
	if s.Marked {
		_, _ = io.CopyN(io.Discard, r, 3)
	}
	return r
}

// decoded is the shape of the text that decode returns.
func (s Shape) decoded() Shape {
	s.Encoding, s.Marked = UTF8, false
	return s
}

// oddBytes lists the bytes of a text that are not UTF-8, as people write them: 0xE9, 0xFC.
func oddBytes(b []byte) string {
	var all []string
	for i := 0; i < len(b); {
		r, size := utf8.DecodeRune(b[i:])
		if r == utf8.RuneError && size < 2 {
			if len(all) == 5 {
				all = append(all, "…")
				break
			}
			all = append(all, fmt.Sprintf("0x%02X", b[i]))
		}
		i += max(size, 1)
	}
	return strings.Join(all, ", ")
}
