package writing

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/core/tree"
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

// shapeOf is the form in which a mapping's text is written.
func shapeOf(m *mapping.Mapping) source.Shape {
	shape := source.Shape{Encoding: m.Document.Encoding, Delimiter: m.Document.Delimiter, Quote: m.Document.Quote,
		RecordEnd: m.Document.RecordEnd, Release: m.Document.Release, Positions: m.Document.Positions}
	if shape.Delimiter == "" {
		shape.Delimiter = ","
		if m.Bindings[order.Lines][0].Decimal() == "," {
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

// trees writes orders as JSON.
type trees struct {
	*writer
	blanks bool // a blank value is written as null, not left out
}

// fill puts the values of a level into an object. Values that stand elsewhere go into the object that of names.
func (t *trees) fill(into map[string]*tree.Members, level order.Level, v values, line int, value func(string) string) {
	all := t.m.Bindings[level]
	for i := range all {
		b := &all[i]
		if len(b.From) == 0 || b.From[0].Many() && b.Repeat != "" { // gathered from several places: it is only read
			continue
		}
		text := t.text(b, v, line, value(b.Field.Name))
		pointer := b.From[0].Pointer()
		o := into[b.Of]
		switch {
		case text == "" && t.blanks && pointer != "" && o != nil && !o.Has(pointer):
			o.Put(pointer, nil)
		case text == "":
		case pointer == "" || o == nil:
			t.problem(v, line, b.Field.Name, fmt.Sprintf("%s is not one place to write to", b.From[0].Text))
		case b.Field.Type == order.Decimal && b.Decimal() == "." && b.Suffix == "" && b.Crosswalk == "":
			o.Put(pointer, json.Number(text))
		default:
			o.Put(pointer, text)
		}
	}
}

// steps splits a path such as $.a.items[*].node at its repetition, into the pointer of the list and the pointer within
// each of its elements.
func steps(path string) (list, inner string, ok bool) {
	head, tail, found := strings.Cut(path, "[*]")
	if !found || strings.Contains(tail, "[*]") {
		return "", "", false
	}
	plain := func(s string) string {
		return strings.ReplaceAll(strings.ReplaceAll(strings.TrimPrefix(s, "$"), "['", "."), "']", "")
	}
	head, tail = plain(head), plain(tail)
	if strings.ContainsAny(head+tail, "[]?*") || strings.Contains(head+tail, "..") {
		return "", "", false
	}
	return strings.ReplaceAll(head, ".", "/"), strings.ReplaceAll(tail, ".", "/"), true
}

func writeTree(out io.Writer, m *mapping.Mapping, orders []order.Order, set *list.Set, format source.Format) ([]Problem,
	error) {
	if set == nil {
		set = &list.Set{}
	}
	t := &trees{writer: &writer{m: m, set: set}}
	root := &tree.Members{}
	if m.Group.By == "join" {
		return t.writeJoined(out, orders, root, format)
	}
	var records []any
	for i := range orders {
		v := valuesOf(&orders[i])
		if m.Group.By == "path" {
			record, err := t.record(v, root)
			if err != nil {
				return nil, err
			}
			records = append(records, record)
			continue
		}
		for n := range v.o.Lines { // flat: a record for each line, the header's facts on each
			o := &tree.Members{}
			t.fill(map[string]*tree.Members{"": o, "document": root}, order.Header, v, 0, v.header)
			t.fill(map[string]*tree.Members{"": o, "order": o}, order.Lines, v, n+1, v.line(n+1))
			records = append(records, o)
		}
	}
	e := json.NewEncoder(out)
	if format == source.NDJSON {
		for _, r := range records {
			if err := e.Encode(r); err != nil {
				return t.problems, err
			}
		}
		return t.problems, nil
	}
	e.SetIndent("", "  ")
	path := "$[*]"
	if m.Document.Records != nil {
		path = m.Document.Records.String()
	}
	if path == "$[*]" {
		return t.problems, e.Encode(records)
	}
	if path == "$" {
		if len(records) != 1 {
			return t.problems, fmt.Errorf("the mapping %s makes one order of a document: write orders one at a time",
				m.Name)
		}
		return t.problems, e.Encode(records[0])
	}
	if err := putRecords(root, path, records); err != nil {
		return t.problems, err
	}
	return t.problems, e.Encode(root)
}

// putRecords puts records into the list that a path leads to.
func putRecords(root *tree.Members, path string, records []any) error {
	at, inner, ok := steps(path)
	if !ok || at == "" {
		return fmt.Errorf("%s is not one list to write orders to", path)
	}
	for i := range records {
		if inner != "" {
			o := &tree.Members{}
			o.Put(inner, records[i])
			records[i] = o
		}
	}
	root.Put(at, records)
	return nil
}

// writeJoined writes a list of headers and a list of lines, each of which has the key of its order.
func (t *trees) writeJoined(out io.Writer, orders []order.Order, root *tree.Members, format source.Format) ([]Problem,
	error) {
	g := &t.m.Group
	if format == source.NDJSON || g.Headers.Path == nil {
		return nil, fmt.Errorf("the mapping %s joins two lists of one document, which is written as JSON only", t.m.Name)
	}
	heads, lines := []any{}, []any{}
	for i := range orders {
		v := valuesOf(&orders[i])
		head := &tree.Members{}
		t.fill(map[string]*tree.Members{"": head, "document": root}, order.Header, v, 0, v.header)
		heads = append(heads, head)
		for n := range v.o.Lines {
			line := &tree.Members{}
			for k := range g.Lines.Columns {
				pointer := g.Lines.Columns[k].Pointer()
				if pointer == "" {
					return t.problems, fmt.Errorf("%s is not one place to write a key to", g.Lines.Columns[k].Text)
				}
				line.Put(pointer, t.keyOf(v, k))
			}
			t.fill(map[string]*tree.Members{"": line, "document": root}, order.Lines, v, n+1, v.line(n+1))
			lines = append(lines, line)
		}
	}
	err := putRecords(root, g.Headers.Path.String(), heads)
	if err == nil {
		err = putRecords(root, g.Lines.Path.String(), lines)
	}
	if err != nil {
		return t.problems, err
	}
	e := json.NewEncoder(out)
	e.SetIndent("", "  ")
	return t.problems, e.Encode(root)
}

// record writes one order of by: path.
func (t *trees) record(v values, root *tree.Members) (*tree.Members, error) {
	o := &tree.Members{}
	t.fill(map[string]*tree.Members{"": o, "document": root}, order.Header, v, 0, v.header)
	each := func(level order.Level, n int, value func(int) func(string) string, line func(int) int) error {
		if len(t.m.Bindings[level]) == 0 {
			return nil
		}
		part := t.m.Part(level)
		if part == nil || part.Each == nil {
			return fmt.Errorf("the mapping does not say at which path the %s are", level)
		}
		return t.list(o, part, level, n, func(one *tree.Members, i int) error {
			t.fill(map[string]*tree.Members{"": one, "order": o, "document": root}, level, v, line(i), value(i))
			if level == order.Lines {
				return t.deliveries(one, v, i)
			}
			return nil
		})
	}
	err := each(order.Lines, len(v.o.Lines), func(i int) func(string) string { return v.line(i + 1) },
		func(i int) int { return i + 1 })
	if err == nil {
		err = each(order.Parties, len(v.o.Parties), func(i int) func(string) string { return party(&v.o.Parties[i]) },
			func(int) int { return 0 })
	}
	if err == nil {
		err = each(order.Charges, len(v.o.Charges), func(i int) func(string) string { return charge(&v.o.Charges[i]) },
			func(int) int { return 0 })
	}
	return o, err
}

// list writes n values of a part of an order into the object that contains them; fill fills each.
func (t *trees) list(into *tree.Members, part *mapping.Part, level order.Level, n int, fill func(one *tree.Members,
	i int) error) error {
	at, inner, ok := steps(part.Each.String())
	if !ok {
		return fmt.Errorf("%s is not one list to write %s to", part.Each, level)
	}
	list := []any{}
	for i := range n {
		one := &tree.Members{}
		if err := fill(one, i); err != nil {
			return err
		}
		if inner != "" {
			wrapped := &tree.Members{}
			wrapped.Put(inner, one)
			one = wrapped
		}
		list = append(list, one)
	}
	into.Put(at, list)
	return nil
}

// deliveries writes the deliveries of a line into it.
func (t *trees) deliveries(into *tree.Members, v values, i int) error {
	part, line := t.m.Parts[mapping.InDeliveries], &v.o.Lines[i]
	if part == nil || len(t.m.Bindings[order.Deliveries]) == 0 {
		return nil
	}
	return t.list(into, part, order.Deliveries, len(line.Deliveries), func(one *tree.Members, k int) error {
		t.fill(map[string]*tree.Members{"": one, "order": into}, order.Deliveries, v, i+1, delivery(line, k))
		return nil
	})
}

// Record writes one order as the JSON record that the mapping reads. Values that the mapping names and the order does
// not have are null, so that they can be compared.
func Record(m *mapping.Mapping, o *order.Order, set *list.Set) ([]byte, []Problem, error) {
	if m.Group.By != "path" {
		return nil, nil, fmt.Errorf("the mapping %s does not make an order of a JSON value (group: {by: path})", m.Name)
	}
	if set == nil {
		set = &list.Set{}
	}
	t := &trees{writer: &writer{m: m, set: set}, blanks: true}
	record, err := t.record(valuesOf(o), &tree.Members{})
	if err != nil {
		return nil, t.problems, err
	}
	b, err := json.Marshal(record)
	return b, t.problems, err
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
