package report

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/origin"
)

// Expected writes orders as people review them and programs compare them: what
// a mapping makes of a document, order by order, with the codes and places of
// what was found. It is the form of kept expected orders.
type Expected struct {
	w       *bufio.Writer
	words   bool // what was found is said in words, each beside its line
	holds   func(*finding.Finding) bool
	orders  int
	lines   int
	refused int
}

// NewExpected begins to write to w.
func NewExpected(w io.Writer) *Expected { return &Expected{w: bufio.NewWriter(w)} }

// NewOrders begins to write to w for people: what was found is said in words, beside the line that it is
// about. Holds says which warnings hold an order.
func NewOrders(w io.Writer, holds func(*finding.Finding) bool) *Expected {
	return &Expected{w: bufio.NewWriter(w), words: true, holds: holds}
}

// Add writes one order.
func (e *Expected) Add(d *intent.Intent) {
	if e.orders > 0 {
		e.w.WriteByte('\n') // errors stay with the writer until Close
	}
	e.orders++
	e.lines += len(d.Order.Lines)
	outcome := ""
	if d.Refused() {
		e.refused++
		outcome = " refused"
	}
	if d.Orphan {
		outcome = " not an order"
	}
	if e.holds != nil && outcome == "" && slices.ContainsFunc(d.Findings,
		func(f finding.Finding) bool { return e.holds(&f) }) {
		outcome = " held"
	}
	fmt.Fprintf(e.w, "order %d%s, %s\n", d.Seq, outcome, spansText(d.Spans))
	line := 0
	if d.Order.Number != "" && d.Kind != intent.Order { // of the order that it is about
		fmt.Fprintf(e.w, "  number: %s\n", quoted(d.Order.Number))
	}
	d.Order.Each(func(n int, field, value string) {
		if n == 0 {
			fmt.Fprintf(e.w, "  %s: %s\n", field, quoted(value))
			return
		}
		if n > 0 && field == "number" && value == strconv.Itoa(n) {
			return // counted, not read
		}
		if n != line {
			if line > 0 {
				e.w.WriteByte('\n')
				e.beside(d, line)
			}
			line = n
			fmt.Fprintf(e.w, "  line %d:", n)
		} else {
			e.w.WriteByte(',')
		}
		fmt.Fprintf(e.w, " %s %s", field, quoted(value))
	})
	if line > 0 {
		e.w.WriteByte('\n')
		e.beside(d, line)
	}
	if d.Order.Total.Sign() != 0 || !d.Order.StatedTotal.IsZero() {
		fmt.Fprintf(e.w, "  = %s\n", strings.TrimSpace(d.Order.Total.String()+" "+d.Order.Currency))
	}
	for i := range d.Findings {
		if f := &d.Findings[i]; !e.words || f.Line == 0 || f.Line > line {
			e.finding(f)
		}
	}
}

// beside writes for people what was found about a line.
func (e *Expected) beside(d *intent.Intent, line int) {
	for i := range d.Findings {
		if f := &d.Findings[i]; e.words && f.Line == line {
			e.w.WriteString("  ")
			e.finding(f)
		}
	}
}

func (e *Expected) finding(f *finding.Finding) {
	about := f.Field
	if f.Line > 0 {
		about = strings.TrimSpace("line " + strconv.Itoa(f.Line) + " " + about)
	}
	at := f.At
	if at == "" {
		at = "the document"
	}
	fmt.Fprintf(e.w, "  %s %s at %s", f.Severity, f.Code, at)
	if about != "" && !e.words {
		fmt.Fprintf(e.w, " (%s)", about)
	}
	if e.words {
		fmt.Fprintf(e.w, ": %s", f.Message)
		if f.Hint != "" && f.Severity == finding.Error {
			fmt.Fprintf(e.w, " %s", f.Hint)
		}
	}
	e.w.WriteByte('\n')
}

// Close writes what was found about the document as a whole, and the sums.
func (e *Expected) Close(notes []finding.Finding) error {
	if e.orders > 0 {
		e.w.WriteByte('\n')
	}
	fmt.Fprintf(e.w, "%s, %s, %d refused\n", Plural(e.orders, "order"), Plural(e.lines, "line"), e.refused)
	for i := range notes {
		e.finding(&notes[i])
	}
	return e.w.Flush()
}

func quoted(s string) string {
	if s == "" || strings.ContainsAny(s, ",\"\n\r\t") || strings.TrimSpace(s) != s {
		return strconv.Quote(s)
	}
	return s
}

// spansText says which rows: rows 2-4, Orders!7.
func spansText(spans []origin.Span) string {
	var parts []string
	for _, s := range spans {
		rows := strconv.Itoa(s.First)
		if s.Last > s.First {
			rows += "-" + strconv.Itoa(s.Last)
		}
		if s.Sheet != "" {
			rows = s.Sheet + " " + rows
		}
		parts = append(parts, rows)
	}
	if len(parts) == 1 && spans[0].First == spans[0].Last {
		return "row " + parts[0]
	}
	return "rows " + strings.Join(parts, ", ")
}
