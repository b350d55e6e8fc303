package source

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"golang.org/x/text/transform"
)

// CSVWriter writes rows of CSV with a document's encoding, delimiter and quotation mark. Rows end with CRLF (RFC 4180);
// unlike in encoding/csv, line ends within a field stay as they are.
type CSVWriter struct {
	out       *bufio.Writer
	encoder   *transform.Writer // nil for UTF-8
	encoding  Encoding
	delimiter string
	quote     string
	special   string
	shape     Shape
}

// NewCSVWriter makes a writer to out. What is blank in the shape is UTF-8, a comma, and ".
func NewCSVWriter(out io.Writer, shape Shape) *CSVWriter {
	c := &CSVWriter{delimiter: ",", quote: `"`, encoding: shape.Encoding, shape: shape}
	if shape.Delimiter != "" {
		c.delimiter = shape.Delimiter
	}
	if shape.Quote != "" {
		c.quote = shape.Quote
	}
	c.special = c.delimiter + c.quote + "\r\n"
	if enc := shape.Encoding.encoding(); enc != nil {
		c.encoder = transform.NewWriter(out, enc.NewEncoder())
		out = c.encoder
	}
	c.out = bufio.NewWriterSize(out, 64<<10) // a file of a million rows has few writes
	return c
}

// Write writes a row. A character that the encoding lacks becomes a question mark. Close returns errors that Write does
// not return.
func (c *CSVWriter) Write(row []string) error {
	if c.shape.Positions != nil {
		return c.writeAt(row)
	}
	for i, text := range row {
		if i > 0 {
			c.out.WriteString(c.delimiter)
		}
		if c.encoding.Lacks(text) != 0 {
			text = strings.Map(func(r rune) rune {
				if c.encoding.Lacks(string(r)) != 0 {
					return '?'
				}
				return r
			}, text)
		}
		if c.shape.Release != "" {
			c.out.WriteString(c.releasing(text))
			continue
		}
		if c.quote == NoQuote {
			c.out.WriteString(strings.NewReplacer(c.delimiter, " ", "\r", " ", "\n", " ").Replace(text))
			continue
		}
		if !c.quoted(text, len(row) == 1) {
			c.out.WriteString(text)
			continue
		}
		c.out.WriteString(c.quote)
		c.out.WriteString(strings.ReplaceAll(text, c.quote, c.quote+c.quote))
		c.out.WriteString(c.quote)
	}
	_, err := c.out.WriteString(cmp.Or(c.shape.RecordEnd, "\r") + "\n")
	return err
}

// releasing puts the release sign before characters that would end the value.
func (c *CSVWriter) releasing(text string) string {
	var b strings.Builder
	for _, r := range text {
		if s := string(r); s == c.delimiter || s == cmp.Or(c.shape.RecordEnd, "\n") || s == c.shape.Release {
			b.WriteString(c.shape.Release)
		}
		b.WriteRune(r)
	}
	return b.String()
}

// writeAt writes a row of fixed width; a value that is longer than its column is an error, unless it is a line with a
// label, which has no columns.
func (c *CSVWriter) writeAt(row []string) error {
	if len(row) > 0 && isLabelled(row[0]) && divides(c.shape.Positions, []rune(row[0])) &&
		!slices.ContainsFunc(row[1:], func(text string) bool { return text != "" }) {
		_, err := c.out.WriteString(row[0] + "\r\n")
		return err
	}
	var line []rune
	for i, p := range c.shape.Positions {
		for len(line) < p.Last {
			line = append(line, ' ')
		}
		if i >= len(row) {
			continue
		}
		text := []rune(row[i])
		if len(text) > p.Last-p.First+1 {
			return fmt.Errorf("%q is longer than the column %s, which has %d characters", row[i], p.Name,
				p.Last-p.First+1)
		}
		copy(line[p.First-1:], text)
	}
	_, err := c.out.WriteString(strings.TrimRight(string(line), " ") + "\r\n")
	return err
}

// quoted reports whether a field needs quotation marks. A single blank field does, because its row would be a blank
// line.
func (c *CSVWriter) quoted(text string, alone bool) bool {
	if text == "" {
		return alone
	}
	return strings.ContainsAny(text, c.special) || text[0] == ' ' || text[len(text)-1] == ' '
}

// signs are those at which a spreadsheet program takes a text for a formula, including the full-width ones.
var signs = []string{"=", "+", "-", "@", "\t", "\r", "＝", "＋", "－", "＠"}

// isFormula reports whether a spreadsheet program that opens a CSV may run text as a formula; plain numbers are not
// formulas.
func isFormula(text string) bool {
	if text == "" || text[0] >= '0' && text[0] <= '9' || text[0] >= 'A' && text[0] <= 'Z' || text[0] >= 'a' &&
		text[0] <= 'z' {
		return false // what nearly every cell begins with
	}
	if !slices.ContainsFunc(signs, func(s string) bool { return strings.HasPrefix(text, s) }) {
		return false
	}
	return strings.Trim(text, "+-0123456789.,") != "" || strings.Trim(text, "+-") == ""
}

// Guard keeps a spreadsheet program from running text as a formula when it opens a CSV: it puts an apostrophe in front.
// Reading a CSV removes the apostrophe.
func Guard(text string) string {
	if isFormula(strings.TrimLeft(text, "'")) {
		return "'" + text
	}
	return text
}

// Unguard removes what Guard puts in front of a text.
func Unguard(text string) string {
	if text != "" && text[0] == '\'' && isFormula(strings.TrimLeft(text, "'")) {
		return text[1:]
	}
	return text
}

// Close writes what is left; it does not close the underlying writer.
func (c *CSVWriter) Close() error {
	err := c.out.Flush()
	if c.encoder != nil && err == nil {
		err = c.encoder.Close()
	}
	return err
}
