package origin

import (
	"strconv"
	"strings"
)

// Place is where a value stands in something that was received. The fields that are set determine the kind of place;
// the zero Place is the document as a whole. Two places are the same if they are equal with ==.
type Place struct {
	Sheet  string `json:"sheet,omitempty" doc:"Sheet of a workbook; empty for CSV"`
	Row    int    `json:"row,omitempty" doc:"Row, counted from 1 as a spreadsheet shows it"`
	Column int    `json:"column,omitempty" doc:"Column, counted from 1; 0 means the whole row"`
	// Pointer is where a value stands in a JSON document (RFC 6901), and Line the line of NDJSON that it is in. Row and
	// Column are then those of the table in which Koinos shows the document's values, one value a row.
	Pointer string `json:"pointer,omitempty" doc:"JSON Pointer of a value in a JSON document, or in its line of NDJSON"`
	Line    int    `json:"line,omitempty" doc:"Line of NDJSON, counted from 1"`
	// Segment and Element are where a value stands in X12. Row and Column are then those of the table in which Koinos
	// shows the segments, one segment a row.
	Segment string `json:"segment,omitempty" doc:"X12: transaction set and segment, such as ST 0004 / PO1 #3"`
	Element string `json:"element,omitempty" doc:"X12: element of the segment, with its component: 02, or 04-1"`
	// Mapping is set if the place is in the mapping and not in the order document. Row and Column are then its line and
	// column.
	Mapping bool `json:"mapping,omitempty" doc:"True when row and column are line and column of the mapping document"`
}

// String returns the place as a person would say it: "Orders!C17" in a
// workbook, "row 17 column 3" in a CSV, "/orders/3/lines/0/qty" in JSON, "line
// 17 /lines/0/qty" in NDJSON, "ST 0004 / PO1 #3 / 02" in X12, "mapping line 4
// column 9" in a mapping, and "" for the document as a whole.
func (p Place) String() string {
	switch {
	case p.Segment != "" && p.Element != "":
		return p.Segment + " / " + p.Element
	case p.Segment != "":
		return p.Segment
	case p.Line > 0:
		return strings.TrimSuffix("line "+strconv.Itoa(p.Line)+" "+p.Pointer, " ")
	case p.Pointer != "":
		return p.Pointer
	case p.Row == 0 && p.Sheet != "":
		return p.Sheet
	case p.Row == 0:
		return ""
	case p.Mapping:
		return "mapping line " + strconv.Itoa(p.Row) + " column " + strconv.Itoa(p.Column)
	case p.Sheet == "" && p.Column == 0:
		return "row " + strconv.Itoa(p.Row)
	case p.Sheet == "":
		return "row " + strconv.Itoa(p.Row) + " column " + strconv.Itoa(p.Column)
	case p.Column == 0:
		return quoteSheet(p.Sheet) + "!" + strconv.Itoa(p.Row) + ":" + strconv.Itoa(p.Row)
	}
	return quoteSheet(p.Sheet) + "!" + ColumnName(p.Column) + strconv.Itoa(p.Row)
}

// quoteSheet writes a sheet's name as a cell reference in a formula needs it (ECMA-376 part 1, 18.17.2.3), so that a
// place can be pasted into a "go to" box.
func quoteSheet(name string) string {
	plain := func(r rune) bool {
		return r == '_' || r > 127 || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z'
	}
	for _, r := range name {
		if !plain(r) {
			return "'" + strings.ReplaceAll(name, "'", "''") + "'"
		}
	}
	return name
}

// ColumnName returns the letters of a column counted from 1: 1 is A, 28 is AB.
func ColumnName(n int) string {
	var b [8]byte
	i := len(b)
	for ; n > 0 && i > 0; n = (n - 1) / 26 {
		i--
		b[i] = byte('A' + (n-1)%26)
	}
	return string(b[i:])
}

// ColumnNumber is the reverse of ColumnName. It is 0 if s does not name a column that a spreadsheet has (A to XFD).
func ColumnNumber(s string) int {
	n := 0
	for i := 0; i < len(s); i++ {
		c := s[i] | 0x20
		if c < 'a' || c > 'z' || i > 2 {
			return 0
		}
		n = n*26 + int(c-'a') + 1
	}
	if n > 16384 {
		return 0
	}
	return n
}

// Span is a run of rows of a document.
type Span struct {
	Sheet string `json:"sheet,omitempty"`
	First int    `json:"first"`
	Last  int    `json:"last"`
}
