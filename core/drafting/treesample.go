package drafting

import (
	"bytes"
	"io"

	"koinos/core/finding"
	"koinos/core/jsondoc"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/tree"
)

// treeSample is how many bytes of a JSON document are read.
const treeSample = 8 << 20

// roots reads the beginning of the document: for NDJSON the values of its first lines, for JSON one value, repaired if
// the sample ends inside it.
func (d *drafter) roots(r io.ReaderAt, size int64, opt source.Options) ([]*tree.Node, error) {
	if d.format == source.NDJSON {
		opt.Format = d.format
		src, err := source.Open(r, size, opt)
		if err != nil {
			return nil, err
		}
		var roots []*tree.Node
		for len(roots) < sampleRows {
			rec, err := src.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				return nil, err
			}
			if rec.Node != nil {
				roots = append(roots, rec.Node)
			}
		}
		return roots, nil
	}
	sample := make([]byte, min(size, treeSample))
	if _, err := r.ReadAt(sample, 0); err != nil && err != io.EOF {
		return nil, err
	}
	sample = bytes.TrimPrefix(sample, []byte("\xef\xbb\xbf"))
	if size > treeSample {
		sample = fix(sample)
	}
	root, _, err := jsondoc.Parse(sample, 0)
	if err != nil {
		return nil, finding.Fatal(finding.DocumentBroken, origin.Place{}, "The document stops being JSON: %v.", err)
	}
	return []*tree.Node{root}, nil
}

// fix cuts incomplete JSON behind its last complete member or element, and closes what is open.
func fix(b []byte) []byte {
	var stack, at []byte
	cut := 0
	inString := false
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case inString && c == '\\':
			i++
		case c == '"':
			inString = !inString
		case inString:
		case c == '{':
			stack = append(stack, '}')
		case c == '[':
			stack = append(stack, ']')
		case (c == '}' || c == ']') && len(stack) > 0:
			stack = stack[:len(stack)-1]
		case c == ',':
			cut, at = i, append(at[:0], stack...)
		}
	}
	if len(stack) == 0 {
		return b
	}
	out := append([]byte{}, b[:cut]...)
	for i := len(at) - 1; i >= 0; i-- {
		out = append(out, at[i])
	}
	return out
}
