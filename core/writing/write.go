package writing

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"

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
	case m.Group.By == "path":
		return source.JSON
	case m.Group.By == "sheet" || m.Group.By == "join":
		return source.XLSX
	}
	return source.CSV
}

// Write writes orders as a document that the mapping reads. Problems are what
// of them the document cannot say.
func Write(out io.Writer, m *mapping.Mapping, orders []order.Order, set *list.Set) ([]Problem, error) {
	format := Format(m)
	if format == source.X12 {
		return nil, fmt.Errorf("the mapping %s writes X12, which needs a partner and control numbers: koinos "+
			"exchange send", m.Name)
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

func writeCSV(out io.Writer, m *mapping.Mapping, rows [][]string) error {
	shape := source.Shape{Encoding: m.Document.Encoding, Delimiter: m.Document.Delimiter, Quote: m.Document.Quote}
	if shape.Delimiter == "" && m.Bindings[order.Lines][0].Decimal() == "," {
		shape.Delimiter = ";"
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

// ordered is a JSON object that keeps the order of its members.
type ordered struct {
	names  []string
	values map[string]any
}

func (o *ordered) at(name string) *ordered {
	if o.values == nil {
		o.values = map[string]any{}
	}
	if c, ok := o.values[name].(*ordered); ok {
		return c
	}
	c := &ordered{}
	o.set(name, c)
	return c
}

func (o *ordered) set(name string, v any) {
	if o.values == nil {
		o.values = map[string]any{}
	}
	if _, ok := o.values[name]; !ok {
		o.names = append(o.names, name)
	}
	o.values[name] = v
}

// MarshalJSON writes the members in the order in which they were set.
func (o *ordered) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, n := range o.names {
		if i > 0 {
			b.WriteByte(',')
		}
		name, err := json.Marshal(n)
		if err != nil {
			return nil, err
		}
		value, err := json.Marshal(o.values[n])
		if err != nil {
			return nil, err
		}
		b.Write(name)
		b.WriteByte(':')
		b.Write(value)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// put sets a value at a pointer of names.
func (o *ordered) put(pointer string, v any) {
	names := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for i := range names {
		names[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(names[i])
	}
	for _, n := range names[:len(names)-1] {
		o = o.at(n)
	}
	o.set(names[len(names)-1], v)
}

// tree writes orders as JSON.
type tree struct {
	*writer
}

// fill puts the values of a level into an object; what stands elsewhere goes
// into the object that of names.
func (t *tree) fill(into map[string]*ordered, level order.Level, v values, line int, value func(string) string) {
	all := t.m.Bindings[level]
	for i := range all {
		b := &all[i]
		if len(b.From) == 0 {
			continue
		}
		text := t.text(b, v, line, value(b.Field.Name))
		pointer := b.From[0].Pointer()
		o := into[b.Of]
		switch {
		case text == "":
		case pointer == "" || o == nil:
			t.problem(v, line, b.Field.Name, fmt.Sprintf("%s is not one place to write to", b.From[0].Text))
		case b.Field.Type == order.Decimal && b.Decimal() == "." && b.Suffix == "":
			o.put(pointer, json.Number(text))
		default:
			o.put(pointer, text)
		}
	}
}

// steps cuts a path such as $.a.items[*].node at its repetition: the pointer
// of the list, and the pointer within each of its elements.
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
	t := &tree{&writer{m: m, set: set}}
	root := &ordered{}
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
			o := &ordered{}
			t.fill(map[string]*ordered{"": o, "document": root}, order.Header, v, 0, v.header)
			t.fill(map[string]*ordered{"": o, "order": o}, order.Lines, v, n+1, v.line(n+1))
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
	at, inner, ok := steps(path)
	if !ok || at == "" {
		return t.problems, fmt.Errorf("%s is not one list to write orders to", path)
	}
	for i := range records {
		if inner != "" {
			o := &ordered{}
			o.put(inner, records[i])
			records[i] = o
		}
	}
	root.put(at, records)
	return t.problems, e.Encode(root)
}

// record writes one order of by: path.
func (t *tree) record(v values, root *ordered) (*ordered, error) {
	o := &ordered{}
	t.fill(map[string]*ordered{"": o, "document": root}, order.Header, v, 0, v.header)
	each := func(level order.Level, n int, value func(int) func(string) string, line func(int) int) error {
		if len(t.m.Bindings[level]) == 0 {
			return nil
		}
		part := t.m.Part(level)
		if part == nil || part.Each == nil {
			return fmt.Errorf("the mapping does not say at which path the %s are", level)
		}
		at, inner, ok := steps(part.Each.String())
		if !ok {
			return fmt.Errorf("%s is not one list to write %s to", part.Each, level)
		}
		list := []any{}
		for i := range n {
			one := &ordered{}
			t.fill(map[string]*ordered{"": one, "order": o, "document": root}, level, v, line(i), value(i))
			if inner != "" {
				wrapped := &ordered{}
				wrapped.put(inner, one)
				one = wrapped
			}
			list = append(list, one)
		}
		o.put(at, list)
		return nil
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
