package report

import (
	"encoding/csv"
	"io"
	"strconv"

	"koinos/core/finding"
	"koinos/core/source"
)

// FindingsCSV writes findings as CSV (RFC 4180), one a row.
type FindingsCSV struct{ w *csv.Writer }

// NewFindingsCSV writes the heading row.
func NewFindingsCSV(w io.Writer) (*FindingsCSV, error) {
	c := &FindingsCSV{csv.NewWriter(w)}
	return c, c.w.Write([]string{"code", "severity", "place", "sheet", "row", "column", "order", "number", "line",
		"field",
		"value", "message", "hint"})
}

// Add writes findings.
func (c *FindingsCSV) Add(list ...finding.Finding) error {
	for _, f := range list {
		err := c.w.Write([]string{
			string(f.Code), string(f.Severity), f.At, source.Guard(f.Place.Sheet), orBlank(f.Place.Row),
			orBlank(f.Place.Column), orBlank(f.Order), source.Guard(f.Number), orBlank(f.Line), f.Field,
			source.Guard(f.Value), source.Guard(f.Message),
			source.Guard(f.Hint),
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// orBlank is nothing for 0: rows, orders and lines are counted from 1.
func orBlank(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// Close writes what is left.
func (c *FindingsCSV) Close() error {
	c.w.Flush()
	return c.w.Error()
}
