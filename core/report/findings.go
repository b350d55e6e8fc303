package report

import (
	"encoding/csv"
	"io"
	"strconv"

	"koinos/core/finding"
)

// FindingsCSV writes findings as CSV (RFC 4180), one a row.
type FindingsCSV struct{ w *csv.Writer }

// NewFindingsCSV writes the heading row.
func NewFindingsCSV(w io.Writer) (*FindingsCSV, error) {
	c := &FindingsCSV{csv.NewWriter(w)}
	return c, c.w.Write([]string{"code", "severity", "place", "sheet", "row", "column", "order", "line", "field",
		"value", "message", "hint"})
}

// Add writes findings.
func (c *FindingsCSV) Add(list ...finding.Finding) error {
	for _, f := range list {
		err := c.w.Write([]string{
			string(f.Code), string(f.Severity), f.At, guard(f.Place.Sheet), strconv.Itoa(f.Place.Row),
			strconv.Itoa(f.Place.Column),
			strconv.Itoa(f.Order), strconv.Itoa(f.Line), f.Field, guard(f.Value), guard(f.Message), guard(f.Hint),
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// Close writes what is left.
func (c *FindingsCSV) Close() error {
	c.w.Flush()
	return c.w.Error()
}
