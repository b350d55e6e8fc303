package source

import (
	"bufio"
	"io"
	"strings"

	"golang.org/x/text/transform"
)

// CSVWriter writes rows of CSV as a document of a shape is written: its encoding,
// delimiter and quotation mark. Rows end with CRLF (RFC 4180); line ends within a
// field stay as they are, which those that encoding/csv writes do not.
type CSVWriter struct {
	out       *bufio.Writer
	encoder   *transform.Writer // nil for UTF-8
	delimiter string
	quote     string
	special   string
}

// NewCSVWriter writes to out; what of the shape is blank is UTF-8, a comma, and ".
func NewCSVWriter(out io.Writer, shape Shape) *CSVWriter {
	c := &CSVWriter{delimiter: ",", quote: `"`}
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
	c.out = bufio.NewWriter(out)
	return c
}

// Write writes a row. Errors that it does not give Close gives.
func (c *CSVWriter) Write(row []string) error {
	for i, text := range row {
		if i > 0 {
			c.out.WriteString(c.delimiter)
		}
		if !c.quoted(text, len(row) == 1) {
			c.out.WriteString(text)
			continue
		}
		c.out.WriteString(c.quote)
		c.out.WriteString(strings.ReplaceAll(text, c.quote, c.quote+c.quote))
		c.out.WriteString(c.quote)
	}
	_, err := c.out.WriteString("\r\n")
	return err
}

// quoted reports whether a field needs quotation marks; a blank one that stands alone
// does, or its row would be a blank line.
func (c *CSVWriter) quoted(text string, alone bool) bool {
	if text == "" {
		return alone
	}
	return strings.ContainsAny(text, c.special) || text[0] == ' ' || text[len(text)-1] == ' '
}

// Close writes what is left; it does not close what is written to.
func (c *CSVWriter) Close() error {
	err := c.out.Flush()
	if c.encoder != nil && err == nil {
		err = c.encoder.Close()
	}
	return err
}
