package report

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/source"
)

// allFailed are answers of a load in which everything failed, with words that not every encoding has.
type allFailed struct{}

func (allFailed) Spans(_ string, first, last int) ([]outcome.SpanOutcome, error) {
	var s outcome.SpanOutcome
	s.First, s.Last, s.Outcome = max(2, first), last, outcome.Refused
	return []outcome.SpanOutcome{s}, nil
}
func (allFailed) Findings(string, int, int) ([]finding.Finding, error) {
	return []finding.Finding{finding.New(finding.NotANumber, origin.Place{Row: 3, Column: 2}, "→", "%q 数 is no number.",
		"→")}, nil
}
func (allFailed) FirstRow(string) (int, error) { return 2, nil }
func (allFailed) Stored(*outcome.OrderOutcome) (*order.Order, func(string, int) int, error) {
	return nil, func(string, int) int { return 0 }, nil
}

// The copy with what failed is written as the document was: what reads the document reads the copy,
// and finds the same values, whatever stands in them.
func TestFailedAgain(t *testing.T) {
	every := []string{"=1+1", "-5 kg", "+49 5", "@x", "'=x", "''=x", "'x", "＝1", "-5", "+", "1,5", "a;b", `say "hi"`,
		"it's", "two\nlines", " outer ", "",
		"Café", "é", "\ttab", "00417", "a|b"}
	r := rand.New(rand.NewPCG(14, 15))
	for n := range 300 {
		values := every
		encodings := []source.Encoding{"", source.UTF8, source.Windows1252, source.UTF16LE, source.UTF16BE}
		opt := source.Options{Format: source.CSV, Limits: source.DefaultLimits, Encoding: encodings[r.IntN(5)],
			Delimiter: []string{",", ";", "\t", "|"}[r.IntN(4)],
			Quote:     []string{`"`, "'"}[r.IntN(2)]}
		kind := r.IntN(5)
		switch kind {
		case 0:
			opt.Quote, opt.RecordEnd, opt.Release = "", []string{"~", ""}[r.IntN(2)], "?"
		case 1:
			opt.Quote, opt.Delimiter, opt.Positions = "", "", []source.Position{{Name: "Order", First: 1, Last: 5},
				{Name: "Item", First: 6, Last: 15}, {Name: "Note", First: 20, Last: 29}}
			values = slices.DeleteFunc(slices.Clone(values), func(s string) bool {
				return s != source.Trim(s) || strings.Contains(s, "\n")
			})
		case 2:
			opt.Quote = source.NoQuote
			values = slices.DeleteFunc(slices.Clone(values), func(s string) bool {
				return strings.ContainsAny(s, "\n"+opt.Delimiter)
			})
		}
		if opt.Encoding.Lacks("＝") != 0 {
			values = slices.DeleteFunc(slices.Clone(values), func(s string) bool { return opt.Encoding.Lacks(s) != 0 })
		}
		var text strings.Builder
		rows := [][]string{{"Order", "Item", "Note"}}
		for range 1 + r.IntN(6) {
			rows = append(rows, []string{"A", values[r.IntN(len(values))], values[r.IntN(len(values))]})
		}
		for n, row := range rows {
			if kind == 1 {
				if n > 0 {
					fmt.Fprintf(&text, "%-5s%-10s    %s\n", row[0], row[1], row[2])
				}
				continue
			}
			if kind == 0 {
				for i, v := range row {
					if i > 0 {
						text.WriteString(opt.Delimiter)
					}
					text.WriteString(strings.NewReplacer("?", "??", "~", "?~", "\n", "?\n", opt.Delimiter,
						"?"+opt.Delimiter).Replace(v))
				}
				if opt.RecordEnd == "" {
					text.WriteString("\n")
				} else {
					text.WriteString([]string{"~", "~\r\n"}[n%2])
				}
				continue
			}
			if kind == 2 {
				text.WriteString(strings.Join(row, opt.Delimiter) + "\n")
				continue
			}
			for i, v := range row {
				if i > 0 {
					text.WriteString(opt.Delimiter)
				}
				text.WriteString(opt.Quote + strings.ReplaceAll(v, opt.Quote, opt.Quote+opt.Quote) + opt.Quote)
			}
			text.WriteString("\n")
		}
		doc := encoded(t, text.String(), opt.Encoding, r.IntN(2) == 0)
		want := cells(t, doc, opt)
		for name, write := range map[string]func(*bytes.Buffer) error{
			"failed": func(b *bytes.Buffer) error {
				return FailedCSV(b, bytes.NewReader(doc), int64(len(doc)), opt, Set{Mapping: &mapping.Mapping{}, Answers: allFailed{}})
			},
			"marked": func(b *bytes.Buffer) error {
				return MarkedCSV(b, bytes.NewReader(doc), int64(len(doc)), opt, []Set{{Mapping: &mapping.Mapping{}, Answers: allFailed{}}})
			},
		} {
			if name == "marked" && kind < 2 { // it is written for people
				continue
			}
			var b bytes.Buffer
			if err := write(&b); err != nil {
				t.Fatal(n, name, err)
			}
			if got := cells(t, b.Bytes(), opt); got != want {
				t.Errorf("%d, %s, %+v:\n%q\nreads\n%q\nwant\n%q", n, name, opt, b.String(), got, want)
			}
		}
	}
}

// encoded writes text in an encoding, with a byte order mark where it is marked.
func encoded(t *testing.T, text string, as source.Encoding, marked bool) []byte {
	t.Helper()
	mark := unicode.IgnoreBOM
	if marked {
		mark = unicode.UseBOM
	}
	var err error
	switch as {
	case source.Windows1252:
		text, err = charmap.Windows1252.NewEncoder().String(text)
	case source.UTF16LE:
		text, err = unicode.UTF16(unicode.LittleEndian, mark).NewEncoder().String(text)
	case source.UTF16BE:
		text, err = unicode.UTF16(unicode.BigEndian, mark).NewEncoder().String(text)
	default:
		if marked {
			text = "\ufeff" + text
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	return []byte(text)
}

// cells are the first three of each row of a document, as they are read.
func cells(t *testing.T, doc []byte, opt source.Options) string {
	t.Helper()
	src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), opt)
	if err != nil {
		t.Fatal(err)
	}
	var all string
	for {
		rec, err := src.Next()
		if err != nil {
			return all
		}
		row := make([]string, 3)
		for i := range min(3, len(rec.Cells)) {
			row[i] = rec.Cells[i].Text
		}
		all += fmt.Sprintf("%q\n", row)
	}
}
