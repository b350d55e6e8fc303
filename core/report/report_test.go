package report

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/source"
)

func found(code finding.Code, order, row, column int, field, value string) finding.Finding {
	f := finding.New(code, origin.Place{Row: row, Column: column}, value, "%s says %s.", field, value)
	f.Order, f.Field = order, field
	return f
}

// Four hundred failures of one reason are one line with a count and an example.
func TestText(t *testing.T) {
	var tally Tally
	for i := range 400 {
		tally.Add(found(finding.UnknownUnit, i+1, i+2, 8, "unit", fmt.Sprintf("metre%d", i%3)))
		tally.Add(found(finding.UnknownUnit, i+1, i+2, 8, "unit", "again"))
	}
	tally.Add(found(finding.ShouldMissing, 7, 8, 3, "ordered_on", ""))
	tally.Add(found(finding.MustMissing, 7, 8, 4, "quantity", "\x1b[31mred\x07"))
	l := outcome.Load{ID: 4, DocumentName: "week.csv", Mapping: "m", Version: 2, Status: outcome.Done,
		Counts: outcome.Counts{Rows: 401, Orders: 401, Lines: 401, Loaded: 1, Refused: 400, Errors: 801, Warnings: 1,
			LeftOut: 1, RowsOut: 12}}
	var b bytes.Buffer
	Text(&b, &l, tally.Reasons(), Style{})
	lines := strings.Split(b.String(), "\n")
	if len(lines) > 24 {
		t.Errorf("%d lines:\n%s", len(lines), &b)
	}
	flat := strings.Join(strings.Fields(b.String()), " ")
	for _, want := range []string{"Load 4: week.csv", "through mapping m (version 2)", "401 orders in 401 lines",
		"1 loaded", "400 refused", "1 left out, as the mapping's orders.leave_out says: it is not counted above",
		"12 rows left out, as the mapping's document.rows says", "800 400 unit: not a unit of measure (4",
		"row 2 column 8 unit says metre0.",
		"What keeps orders out", "1 1 quantity: a value that must be", "What to look at",
		"1 1 ordered_on: a value that should be"} {
		if !strings.Contains(flat, want) {
			t.Errorf("it does not say %q:\n%s", want, &b)
		}
	}
	if strings.ContainsAny(b.String(), "\x1b\x07") {
		t.Error("a document's control characters reach the terminal")
	}
	for _, line := range lines {
		if n := len([]rune(line)); n > 124 {
			t.Errorf("a line of %d columns: %s", n, line)
		}
	}
	b.Reset()
	Text(&b, &l, tally.Reasons(), Style{Color: true, Width: 80})
	if !strings.Contains(b.String(), "\x1b[") {
		t.Error("no colours on a terminal")
	}
	for status, want := range map[outcome.Status]string{outcome.Failed: "stopped before the document's end",
		outcome.Paused:  "load resume 4",
		outcome.Stopped: "when it is fixed", outcome.Cancelled: "orders that were loaded are recognised",
		outcome.Running: "still running"} {
		b.Reset()
		l.Status = status
		if Text(&b, &l, nil, Style{}); !strings.Contains(b.String(), want) {
			t.Errorf("%s: %s", status, &b)
		}
	}
}

func TestGuard(t *testing.T) {
	for in, want := range map[string]string{
		"": "", "rope": "rope", "=1+1": "'=1+1", "+49 30": "'+49 30", "@x": "'@x", "-": "'-", "-5": "-5",
		"+5.20": "+5.20", "-1.234,50": "-1.234,50", "-2+3": "-2+3", "-cmd": "'-cmd", "\t=1": "'\t=1", "a=b": "a=b",
	} {
		if got := source.Guard(in); got != want {
			t.Errorf("%q becomes %q, want %q", in, got, want)
		}
	}
}

// answerList is a load's answers held in a list.
type answerList struct {
	spans []outcome.SpanOutcome
	found []finding.Finding
}

func (a answerList) Spans(sheet string, first, last int) (list []outcome.SpanOutcome, err error) {
	for _, s := range a.spans {
		if s.Sheet == sheet && s.First <= last && s.Last >= first {
			list = append(list, s)
		}
	}
	return list, nil
}
func (a answerList) Findings(sheet string, first, last int) (list []finding.Finding, err error) {
	for _, f := range a.found {
		if f.Place.Sheet == sheet && f.Place.Row >= first && f.Place.Row <= last {
			list = append(list, f)
		}
	}
	return list, nil
}
func (a answerList) FirstRow(string) (int, error) { return 3, nil }
func (a answerList) Stored(*outcome.OrderOutcome) (*order.Order, func(string, int) int, error) {
	return nil, nil, nil
}

func TestMarkedCSV(t *testing.T) {
	const doc = "Orders;of March\nNo;Item\nA-1;00417\nA-1;=2+3\nA-2;ümlaut \"x\"\n;\nTotal;3\n"
	a := answerList{
		spans: []outcome.SpanOutcome{{First: 3, Last: 4, OrderOutcome: outcome.OrderOutcome{Outcome: outcome.Refused}},
			{First: 5, Last: 5, OrderOutcome: outcome.OrderOutcome{Outcome: outcome.Loaded, Number: "SO-000001"}}},
		found: []finding.Finding{found(finding.UnknownCode, 1, 4, 2, "item", "=2+3")},
	}
	for _, c := range []struct {
		results mapping.Results
		want    []string
	}{
		{mapping.Results{}, []string{"Orders;of March;;", "No;Item;Koinos outcome;Koinos order;Koinos message",
			"A-1;00417;refused;;Another row of this order keeps it out.",
			`A-1;'=2+3;refused;;item says =2+3. Correct the code, or add it to the list.`,
			`A-2;"ümlaut ""x""";loaded;SO-000001;`, ";;;;", "Total;3;;;"}},
		{mapping.Results{Columns: []mapping.ResultColumn{{What: "outcome"}, {What: "number", Column: 4},
			{What: "message", Column: 6}}}, []string{"Orders;of March;;;;",
			"No;Item;Koinos outcome;Koinos order;;Koinos message"}},
	} {
		var b bytes.Buffer
		if err := MarkedCSV(&b, strings.NewReader(doc), int64(len(doc)), source.Options{},
			[]Set{{Mapping: &mapping.Mapping{Results: c.results}, Answers: a}}); err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(strings.TrimPrefix(b.String(), "\ufeff"), "\r\n")
		for i, want := range c.want {
			if got := strings.TrimRight(lines[i], ";"); got != strings.TrimRight(want, ";") {
				t.Errorf("row %d: %s\nwant %s", i+1, got, want)
			}
		}
	}
}

func TestPlaces(t *testing.T) {
	for _, c := range []struct {
		place origin.Place
		want  string
	}{
		{origin.Place{}, ""}, {origin.Place{Sheet: "Orders"}, "Orders"}, {origin.Place{Row: 7}, "row 7"},
		{origin.Place{Row: 7, Column: 3}, "row 7 column 3"},
		{origin.Place{Sheet: "Orders", Row: 7, Column: 28}, "Orders!AB7"},
		{origin.Place{Sheet: "Week 12", Row: 7, Column: 1}, "'Week 12'!A7"},
		{origin.Place{Sheet: "Tom's", Row: 7}, "'Tom''s'!7:7"},
		{origin.Place{Mapping: true, Row: 4, Column: 9}, "mapping line 4 column 9"},
	} {
		if got := c.place.String(); got != c.want {
			t.Errorf("%+v is %q, want %q", c.place, got, c.want)
		}
	}
	for n := 1; n <= 16384; n += 127 {
		if back := origin.ColumnNumber(origin.ColumnName(n)); back != n {
			t.Errorf("column %d is %s is %d", n, origin.ColumnName(n), back)
		}
	}
	for _, wrong := range []string{"", "A1", "XFE", "AAAA", "Ä"} {
		if n := origin.ColumnNumber(wrong); n != 0 {
			t.Errorf("%q is column %d", wrong, n)
		}
	}
}
