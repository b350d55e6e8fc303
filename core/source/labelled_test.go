package source

import (
	"bytes"
	"io"
	"strings"
	"testing"
)

// At positions, a line that is a label and its value stays whole, and is written so again; a line of the table never is
// one, whatever stands in it.
func TestLabelledLines(t *testing.T) {
	positions := []Position{{Name: "Item", First: 1, Last: 7}, {Name: "Qty", First: 9, Last: 15}, {Name: "What", First: 17, Last: 40}}
	for _, c := range []struct{ line, want string }{
		{"PO Number: 5561", "PO Number: 5561||"},
		{"Ship to: Bellrock, 1 Pier Road, Seaport, far away", "Ship to: Bellrock, 1 Pier Road, Seaport, far away||"},
		{"Total: 206.50", "Total: 206.50||"},
		{"Total:  20", "Total:|20|"}, // made of the columns
		{"00113        50 Rope: white", "00113|     50|Rope: white"},
		{"0011323 1234567 Rope: white", "0011323|1234567|Rope: white"}, // full columns, and a number before the colon
		{"Bolts:a 1234567 Rope: white", "Bolts:a|1234567|Rope: white"},
	} {
		opt := Options{Positions: positions, Limits: DefaultLimits}
		doc := c.line + "\r\n"
		src, err := Open(strings.NewReader(doc), int64(len(doc)), opt)
		if err != nil {
			t.Fatal(err)
		}
		var cells []string
		for {
			rec, err := src.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatal(err)
			}
			if rec.Row > 0 {
				for _, cell := range rec.Cells {
					cells = append(cells, cell.Text)
				}
			}
		}
		if got := strings.Join(cells, "|"); got != c.want {
			t.Errorf("%q is read as %q, not %q", c.line, got, c.want)
		}
		var out bytes.Buffer
		w := NewCSVWriter(&out, Shape{Positions: positions})
		if err := w.Write(cells); err != nil {
			t.Errorf("%q: %v", c.line, err)
		}
		if err := w.Close(); err != nil || out.String() != doc {
			t.Errorf("%q is written as %q: %v", c.line, out.String(), err)
		}
	}
}
