package report

import (
	"errors"
	"io"
	"strings"

	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/rewriting"
	"koinos/core/source"
)

// ErrNotMarked says that a document has no column of order numbers that
// Koinos wrote.
var ErrNotMarked = errors.New("no column is headed \"Koinos order\"; only a marked copy can be brought up to date")

// FindOrder returns the stored order of a number, nil where there is none.
type FindOrder func(number string) (*order.Order, error)

// Refreshed counts what bringing a marked copy up to date did.
type Refreshed struct {
	Rows   int `json:"rows" doc:"Rows with an order number"`
	Cells  int `json:"cells" doc:"Cells that say something else now"`
	Absent int `json:"absent" doc:"Rows whose order is not there any more"`
}

// refresher works through the rows of one sheet. It knows the columns by the
// headings that a marked copy has: a group of columns begins with its order
// number's, "Koinos order" or "Koinos STEP order".
type refresher struct {
	find    FindOrder
	last    *order.Order
	of      string
	columns []refreshed
	count   *Refreshed
}

type refreshed struct {
	at   int // counted from 1
	step string
	what string
}

// heads looks for the headings of a marked copy in a row. Where a group has no
// column of the order's status, width+1 and on take one.
func (x *refresher) heads(cells []string) bool {
	var list []refreshed
	var steps []string
	status := map[string]bool{}
	for i, text := range cells {
		rest, ours := strings.CutPrefix(text, "Koinos ")
		if !ours {
			continue
		}
		step, what, stepped := strings.Cut(rest, " ")
		if !stepped || rest == "line id" {
			step, what = "", rest
		}
		switch what {
		case "line id":
			what = "line_id"
		case "order":
			what = "number"
			steps = append(steps, step)
		}
		status[step] = status[step] || what == "status"
		list = append(list, refreshed{i + 1, step, what})
	}
	if len(steps) == 0 {
		return false
	}
	next := len(cells)
	for _, step := range steps {
		if !status[step] {
			next++
			list = append(list, refreshed{next, step, "status"})
		}
	}
	x.columns = list
	return true
}

// gone is the status of an order that is not there any more.
const gone = "gone"

// row returns what the columns of a row say now, by column; those that say the
// same are left out.
func (x *refresher) row(cell func(int) string) (map[int]string, error) {
	numbers, lines := map[string]string{}, map[string]string{}
	for _, c := range x.columns {
		switch c.what {
		case "number":
			numbers[c.step] = strings.TrimSpace(cell(c.at))
		case "line", "line_id":
			lines[c.step] = strings.TrimSpace(cell(c.at))
		}
	}
	changed := map[int]string{}
	for step, number := range numbers {
		if number == "" {
			continue
		}
		x.count.Rows++
		if number != x.of || x.last == nil {
			o, err := x.find(number)
			if err != nil {
				return nil, err
			}
			x.last, x.of = o, number
		}
		if x.last == nil {
			x.count.Absent++
		}
		for _, c := range x.columns {
			if c.step != step || c.what == "number" || c.what == "outcome" || c.what == "message" ||
				c.what == "warnings" || c.what == "line" || c.what == "line_id" {
				continue
			}
			now := gone
			if x.last != nil {
				now = storedValue(x.last, c.what, lineOf(x.last, lines[step]))
			} else if c.what != "status" {
				now = ""
			}
			if now != cell(c.at) {
				changed[c.at] = now
				x.count.Cells++
			}
		}
	}
	return changed, nil
}

// lineOf finds the line of a line number or line id; 0 if there is none.
func lineOf(o *order.Order, name string) int {
	for i := range o.Lines {
		if name != "" && (o.Lines[i].Number == name || lineID(o, i+1) == name) {
			return i + 1
		}
	}
	return 0
}

// RefreshWorkbook brings the answers of a marked workbook up to date with what
// its orders are today. Everything else in it stays.
func RefreshWorkbook(w io.Writer, r io.ReaderAt, size int64, opt source.Options, find FindOrder) (count Refreshed,
	err error) {
	opt.Sheets = func(int, string) bool { return true }
	wide, err := markedSheets(r, size, opt)
	if err != nil {
		return count, err
	}
	if len(wide) == 0 {
		return count, ErrNotMarked
	}
	src, err := source.Open(r, size, opt) // it is read beside the copy that is written, row for row
	if err != nil {
		return count, err
	}
	beside := sideBySide{src: src}
	var x *refresher
	err = rewriting.Rewrite(w, r, size, opt.Limits.Unpacked, rewriting.Changes{
		Rows:   func(sheet string) bool { return wide[sheet] != nil },
		Widths: func(sheet string) map[int]float64 { return wide[sheet] },
		Row: func(sheet string, row int) (change rewriting.Row, err error) {
			if x == nil || sheet != beside.sheet {
				x = &refresher{find: find, count: &count}
			}
			rec, err := beside.at(sheet, row)
			if err == nil && rec != nil {
				change.Cells, err = x.cells(rec)
			}
			return change, err
		}})
	return count, err
}

// sideBySide reads the rows of a document that somebody else goes through too, in the same order.
type sideBySide struct {
	src   source.Reader
	sheet string
	rec   source.Record // the last that was read
	come  bool          // it is of the sheet
	ended bool          // of the document
}

// at returns a row, nil where it is blank.
func (s *sideBySide) at(sheet string, row int) (*source.Record, error) {
	if sheet != s.sheet {
		s.sheet, s.come = sheet, s.rec.Sheet == sheet
	}
	for !s.ended && (!s.come || s.rec.Sheet == sheet && s.rec.Row < row) {
		var err error
		if s.rec, err = s.src.Next(); err == io.EOF {
			s.ended = true
		} else if err != nil {
			return nil, err
		}
		s.come = s.come || s.rec.Sheet == sheet
	}
	if s.ended || s.rec.Sheet != sheet || s.rec.Row != row {
		return nil, nil
	}
	return &s.rec, nil
}

// markedSheets are the widths of the columns of answers in the sheets that have some.
func markedSheets(r io.ReaderAt, size int64, opt source.Options) (map[string]map[int]float64, error) {
	src, err := source.Open(r, size, opt)
	if err != nil {
		return nil, err
	}
	wide := map[string]map[int]float64{}
	for {
		rec, err := src.Next()
		if err == io.EOF {
			return wide, nil
		}
		if err != nil {
			return nil, err
		}
		var x refresher
		if wide[rec.Sheet] != nil || !x.heads(texts(&rec)) {
			continue
		}
		wide[rec.Sheet] = map[int]float64{}
		for _, c := range x.columns {
			wide[rec.Sheet][c.at] = widthOf(c.what)
		}
	}
}

func texts(rec *source.Record) []string {
	all := make([]string, len(rec.Cells))
	for i, c := range rec.Cells {
		all[i] = c.Text
	}
	return all
}

// cells are the changes of a row: of the headings, or of the answers below them.
func (x *refresher) cells(rec *source.Record) (all []rewriting.Cell, err error) {
	if x.columns == nil {
		if x.heads(texts(rec)) {
			for _, c := range x.columns {
				all = append(all, rewriting.Cell{Column: c.at, Put: true, Text: heading(c.step, c.what),
					Look: headed})
			}
		}
		return byColumn(all), nil
	}
	changed, err := x.row(func(c int) string {
		if c > len(rec.Cells) {
			return ""
		}
		return rec.Cells[c-1].Text
	})
	for c, text := range changed {
		all = append(all, rewriting.Cell{Column: c, Put: true, Text: finding.Clip(text, mostText-3)})
	}
	return byColumn(all), err
}

// RefreshCSV is RefreshWorkbook for a marked CSV.
func RefreshCSV(w io.Writer, r io.ReaderAt, size int64, opt source.Options, find FindOrder) (count Refreshed,
	err error) {
	shape, err := source.Sniff(r, size, opt)
	if err != nil {
		return count, err
	}
	src, err := source.Open(r, size, opt)
	if err != nil {
		return count, err
	}
	if _, err := io.WriteString(w, "\ufeff"); err != nil {
		return count, err
	}
	out := source.NewCSVWriter(w, source.Shape{Delimiter: shape.Delimiter, Quote: shape.Quote})
	x := refresher{find: find, count: &count}
	for {
		rec, err := src.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return count, err
		}
		row := texts(&rec)
		set := func(c int, text string) {
			for len(row) < c {
				row = append(row, "")
			}
			row[c-1] = text
		}
		if x.columns == nil {
			if x.heads(row) {
				for _, c := range x.columns {
					set(c.at, heading(c.step, c.what))
				}
			}
		} else {
			changed, err := x.row(func(c int) string {
				if c > len(row) {
					return ""
				}
				return row[c-1]
			})
			if err != nil {
				return count, err
			}
			for c, text := range changed {
				set(c, text)
			}
		}
		for i := range row {
			row[i] = source.Guard(row[i])
		}
		if err := out.Write(row); err != nil {
			return count, err
		}
	}
	if x.columns == nil {
		return count, ErrNotMarked
	}
	return count, out.Close()
}
