package report

import (
	"errors"
	"io"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
)

// Answers returns what a load found and decided, by rows of a sheet.
type Answers interface {
	// Spans returns the runs of rows that touch the rows first to last, in order.
	Spans(sheet string, first, last int) ([]outcome.SpanOutcome, error)
	// Findings returns what was found at the rows first to last, by place.
	Findings(sheet string, first, last int) ([]finding.Finding, error)
	// FirstRow is the first row of the sheet that belongs to an order; 0 if there is none.
	FirstRow(sheet string) (int, error)
	// Stored returns the stored order of an outcome, nil where there is none, and which of its lines, counted from 1, a
	// row of the document is; 0 if there is none.
	Stored(o *outcome.OrderOutcome) (stored *order.Order, line func(sheet string, row int) int, err error)
}

// Set is one load's answers beside the rows: a document that goes through a
// sequence gets one set for each step.
type Set struct {
	Name    string // of the step; blank outside of sequences
	Mapping *mapping.Mapping
	Answers Answers
}

// chunkRows is how many rows of answers are held at a time.
const chunkRows = 2_000

// rowAnswer is what is written beside a row.
type rowAnswer struct {
	sheet    string
	row      int
	span     outcome.SpanOutcome
	message  string
	warnings string
	findings []finding.Finding
}

// between stands between several sentences about a row.
const between = " | "

// rows returns the answers to the rows first to last that have any.
func (s *Set) rows(sheet string, first, last int) (map[int]*rowAnswer, error) {
	spans, err := s.Answers.Spans(sheet, first, last)
	if err != nil {
		return nil, err
	}
	findings, err := s.Answers.Findings(sheet, first, last)
	if err != nil {
		return nil, err
	}
	apart := slices.ContainsFunc(s.Mapping.Results.Columns, func(c mapping.ResultColumn) bool { return c.What == "warnings" })
	rows := map[int]*rowAnswer{}
	for _, sp := range spans {
		for row := max(first, sp.First); row <= min(last, sp.Last); row++ {
			rows[row] = &rowAnswer{sheet: sheet, row: row, span: sp}
		}
	}
	say := func(to *string, what string) {
		if len(*to) > mostText || slices.Contains(strings.Split(*to, between), what) {
			return // the same cell counts for several orders
		}
		if *to != "" {
			*to += between
		}
		*to += what
	}
	for _, f := range findings {
		r := rows[f.Place.Row]
		if r == nil {
			r = &rowAnswer{sheet: sheet, row: f.Place.Row}
			rows[f.Place.Row] = r
		}
		r.findings = append(r.findings, f)
		if apart && f.Severity == finding.Warning {
			say(&r.warnings, sentence(&f))
		} else {
			say(&r.message, sentence(&f))
		}
	}
	another := "Another row of this order"
	if len(s.Mapping.Document.Carried) > 0 {
		another = "Another row of this order, or one above that counts for it,"
	}
	for _, r := range rows {
		switch {
		case r.span.Outcome == outcome.Refused && !hasError(r.findings):
			say(&r.message, another+" keeps it out.")
		case r.span.Outcome == outcome.Held && len(r.findings) == 0:
			say(&r.message, another+" holds it.")
		case r.span.Outcome == outcome.Changed || r.span.Outcome == outcome.Differs:
			if text := changesText(r.span.Changes, r.row, r.row == r.span.First); text != "" {
				say(&r.message, text)
			}
		}
	}
	return rows, nil
}

// changesText says which fields changed by what stands in a row, in a line;
// what stands nowhere is said on the order's first row.
func changesText(changes []order.Change, row int, first bool) string {
	var here []order.Change
	for _, c := range changes {
		if c.Place.Row == row || c.Place.Row == 0 && first {
			here = append(here, c)
		}
	}
	return order.Named(here)
}

func hasError(list []finding.Finding) bool {
	for i := range list {
		if list[i].Severity == finding.Error {
			return true
		}
	}
	return false
}

func sentence(f *finding.Finding) string {
	s := f.Message
	if f.Field != "" && !strings.Contains(s, f.Field) {
		s = f.Field + ": " + s
	}
	if f.Severity == finding.Warning {
		s = "Warning: " + s
	}
	if f.Hint != "" {
		s += " " + f.Hint
	}
	return s
}

// column is one of a set's columns in a sheet.
type column struct {
	set     *Set
	what    string
	at      int // counted from 1
	heading string
}

var resultNames = map[string]string{"number": "order", "line_id": "line id"}

// heading is what stands above a column. Refresh finds the columns by it.
func heading(step, what string) string {
	if name, ok := resultNames[what]; ok {
		what = name
	}
	if step != "" {
		what = step + " " + what
	}
	return "Koinos " + what
}

// value is what a column says of a row; for fields and lines the stored order
// is asked.
func (c *column) value(r *rowAnswer) (string, error) {
	switch c.what {
	case "outcome":
		return string(r.span.Outcome), nil
	case "number":
		return r.span.Number, nil
	case "message":
		return r.message, nil
	case "warnings":
		return r.warnings, nil
	}
	o, line, err := c.set.Answers.Stored(&r.span.OrderOutcome)
	if err != nil || o == nil {
		return "", err
	}
	return storedValue(o, c.what, line(r.sheet, r.row)), nil
}

// storedValue is what a column of a line or of a field says of a stored order.
func storedValue(o *order.Order, what string, line int) string {
	if line > len(o.Lines) {
		line = 0
	}
	switch what {
	case "number":
		return o.Number
	case "line":
		if line == 0 {
			return ""
		}
		return o.Lines[line-1].Number
	case "line_id":
		if line == 0 {
			return ""
		}
		return lineID(o, line)
	}
	return o.ResultValue(what, line)
}

// lineID names a line for good: by its order's id and its own, which no other line
// ever gets. Line is counted from 1.
func lineID(o *order.Order, line int) string {
	return strconv.FormatInt(o.ID, 10) + "-" + strconv.Itoa(o.Lines[line-1].ID)
}

// columns says where the columns of the sets go: where the mapping says, but
// never over something that stands there already unless it says that too, and
// otherwise behind the last used one.
func columns(sets []Set, e *extent) []column {
	used := map[int]bool{}
	for c := range e.used {
		used[c] = true
	}
	var all []column
	for i := range sets {
		s := &sets[i]
		list := s.Mapping.Results.Columns
		if len(list) == 0 {
			list = []mapping.ResultColumn{{What: "outcome"}, {What: "number"}, {What: "message"}}
		}
		first := len(all)
		for _, c := range list {
			at := c.Column
			if at > 0 && used[at] && !s.Mapping.Results.Overwrite {
				at = 0
			}
			used[at] = true
			all = append(all, column{s, c.What, at, heading(s.Name, c.What)})
		}
		next := e.width + 1
		for j := first; j < len(all); j++ {
			if all[j].at != 0 {
				continue
			}
			for used[next] {
				next++
			}
			all[j].at, used[next] = next, true
		}
	}
	return all
}

// extent is what of a sheet is in use.
type extent struct {
	width, last int
	used        map[int]bool // columns in which something stands from the heading row on
}

// extents looks through a document, sheet by sheet.
func extents(r io.ReaderAt, size int64, opt source.Options, sets []Set) (map[string]*extent, error) {
	src, err := source.Open(r, size, opt)
	if err != nil {
		return nil, err
	}
	all := map[string]*extent{}
	var e *extent
	first := 0
	for sheet := ""; ; {
		rec, err := src.Next()
		var broken *finding.Finding
		if err == io.EOF || errors.As(err, &broken) { // the load's report says so too
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		if e == nil || rec.Sheet != sheet {
			if sheet = rec.Sheet; all[sheet] == nil {
				all[sheet] = &extent{used: map[int]bool{}}
			}
			e, first = all[sheet], 0
			for i := range sets {
				row, err := sets[i].Answers.FirstRow(sheet)
				if err != nil {
					return nil, err
				}
				if first == 0 || row > 0 && row < first {
					first = row
				}
			}
		}
		n := len(rec.Cells)
		for n > 0 && rec.Cells[n-1].Text == "" {
			n--
		}
		e.width, e.last = max(e.width, n), rec.Row
		if rec.Row >= first-1 {
			for i := range n {
				if rec.Cells[i].Text != "" {
					e.used[i+1] = true
				}
			}
		}
	}
}
