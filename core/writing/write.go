package writing

import (
	"fmt"
	"io"
	"slices"

	"github.com/xuri/excelize/v2"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/source"
)

// Format is the format in which a mapping's documents are written.
func Format(m *mapping.Mapping) source.Format {
	switch f := m.Document.Format; {
	case f != "":
		return f
	case m.Group.By == "path" || m.Group.Headers.Path != nil:
		return source.JSON
	case m.Group.By == "sheet" || m.Group.By == "join":
		return source.XLSX
	}
	return source.CSV
}

// In returns a mapping whose documents are written in a format. A table can be a CSV or a workbook, as the mapping
// says.
func In(m *mapping.Mapping, format source.Format) (*mapping.Mapping, error) {
	is := Format(m)
	if format == is || format == "" {
		return m, nil
	}
	table := func(f source.Format) bool { return f == source.CSV || f == source.XLSX || f == source.ODS }
	if !table(is) || !table(format) {
		return nil, fmt.Errorf("the mapping %s writes %s, not %s", m.Name, is, format)
	}
	out := *m
	out.Document.Format = format
	return &out, nil
}

// Write writes orders as a document that the mapping reads. Problems are what the document cannot express.
func Write(out io.Writer, m *mapping.Mapping, orders []order.Order, set *list.Set) ([]Problem, error) {
	format := Format(m)
	if format == source.X12 {
		return nil, fmt.Errorf("the mapping %s writes X12, which needs a partner and control numbers: koinos "+
			"exchange send", m.Name)
	}
	if format == source.ODS {
		return nil, fmt.Errorf("the mapping %s reads .ods workbooks, which Koinos does not write: name a file that "+
			"ends in .xlsx or .csv", m.Name)
	}
	if format.Tree() {
		return writeTree(out, m, orders, set, format)
	}
	if m.Document.Positions != nil && labelled(m) {
		return nil, fmt.Errorf("the mapping %s reads labels in text of fixed width, which is only read", m.Name)
	}
	pages, problems, err := Layout(m, orders, set)
	if err != nil {
		return problems, err
	}
	if format == source.XLSX {
		return problems, writeBook(out, pages)
	}
	if len(pages) > 1 {
		return problems, fmt.Errorf("the mapping %s needs %d sheets: say format: xlsx", m.Name, len(pages))
	}
	return problems, writeCSV(out, m, pages[0].Rows)
}

// labelled reports whether a mapping reads something that stands beside a label.
func labelled(m *mapping.Mapping) bool {
	for _, level := range m.Levels {
		for i := range level {
			if slices.ContainsFunc(level[i].From, func(s mapping.Source) bool { return s.Kind == mapping.ByLabel }) {
				return true
			}
		}
	}
	return false
}

// shapeOf is the form in which a mapping's text is written.
func shapeOf(m *mapping.Mapping) source.Shape {
	shape := source.Shape{Encoding: m.Document.Encoding, Delimiter: m.Document.Delimiter, Quote: m.Document.Quote,
		RecordEnd: m.Document.RecordEnd, Release: m.Document.Release, Positions: m.Document.Positions}
	if shape.Delimiter == "" {
		shape.Delimiter = ","
		if lines := m.Bindings[order.Lines]; len(lines) > 0 && lines[0].Decimal() == "," {
			shape.Delimiter = ";"
		}
	}
	return shape
}

func writeCSV(out io.Writer, m *mapping.Mapping, rows [][]string) error {
	shape := shapeOf(m)
	if shape.Positions != nil {
		rows = atPositions(rows, shape.Positions)
	}
	w := source.NewCSVWriter(out, shape)
	width := 0
	for _, r := range rows {
		width = max(width, len(r))
	}
	for _, r := range rows {
		for len(r) < width {
			r = append(r, "")
		}
		if err := w.Write(r); err != nil {
			return err
		}
	}
	return w.Close()
}

func writeBook(out io.Writer, pages []Page) error {
	f := excelize.NewFile()
	defer f.Close()
	for i, p := range pages {
		if err := addPage(f, i, &p); err != nil {
			return err
		}
	}
	return f.Write(out)
}

func addPage(f *excelize.File, i int, p *Page) error {
	if i == 0 {
		if err := f.SetSheetName("Sheet1", p.Name); err != nil {
			return err
		}
	} else if _, err := f.NewSheet(p.Name); err != nil {
		return err
	}
	for r, row := range p.Rows {
		for c, text := range row {
			if text == "" {
				continue
			}
			at, err := excelize.CoordinatesToCellName(c+1, r+1)
			if err == nil {
				// Text stays text: a code keeps its zeros, a figure its digits.
				err = f.SetCellStr(p.Name, at, text)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// atPositions returns rows without their heading, with each cell in the column of its heading.
func atPositions(rows [][]string, columns []source.Position) (out [][]string) {
	for _, row := range rows[1:] {
		line := make([]string, len(columns))
		for i, heading := range rows[0] {
			at := slices.IndexFunc(columns,
				func(p source.Position) bool { return list.Fold(p.Name) == list.Fold(heading) })
			if at >= 0 && i < len(row) {
				line[at] = row[i]
			}
		}
		out = append(out, line)
	}
	return out
}
