package writing

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/core/tree"
)

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
		// what is gathered from several places is only read; what a member is called is put by putAll
		if len(b.From) == 0 || b.From[0].Many() && b.Repeat != "" || b.From[0].Kind == mapping.ByName {
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
// each of its elements. The elements of $.a.items.* are members with names of their own.
func steps(path string) (list, inner string, named, ok bool) {
	head, tail, found := strings.Cut(path, "[*]")
	if !found {
		head, named = strings.CutSuffix(path, ".*")
		found = named
	}
	if !found || strings.Contains(tail, "[*]") {
		return "", "", false, false
	}
	plain := func(s string) string {
		return strings.ReplaceAll(strings.ReplaceAll(strings.TrimPrefix(s, "$"), "['", "."), "']", "")
	}
	head, tail = plain(head), plain(tail)
	if strings.ContainsAny(head+tail, "[]?*") || strings.Contains(head+tail, "..") {
		return "", "", false, false
	}
	return strings.ReplaceAll(head, ".", "/"), strings.ReplaceAll(tail, ".", "/"), named, true
}

// element is what stands in a list, or, with a name, in an object.
type element struct {
	value any
	name  string
}

// putAll puts elements into the list, or the object, to which a path leads.
func putAll(into *tree.Members, path string, all []element) error {
	at, inner, named, ok := steps(path)
	if !ok || at == "" && !named {
		return fmt.Errorf("%s is not one list to write to", path)
	}
	list := []any{}
	for _, e := range all {
		if inner != "" {
			o := &tree.Members{}
			o.Put(inner, e.value)
			e.value = o
		}
		if !named {
			list = append(list, e.value)
			continue
		}
		if e.name == "" {
			return fmt.Errorf("no field says what the members of %s are called: bind one from {name}", path)
		}
		pointer := at + "/" + tree.Token(e.name)
		if into.Has(pointer) {
			return fmt.Errorf("two members of %s would be called %q", path, e.name)
		}
		into.Put(pointer, e.value)
	}
	if !named {
		into.Put(at, list)
	}
	return nil
}

// name is what a field that is bound from {name} says.
func (t *trees) name(level order.Level, v values, line int, value func(string) string) string {
	for i := range t.m.Bindings[level] {
		if b := &t.m.Bindings[level][i]; len(b.From) > 0 && b.From[0].Kind == mapping.ByName {
			return t.text(b, v, line, value(b.Field.Name))
		}
	}
	return ""
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
	var records []element
	for i := range orders {
		v := valuesOf(&orders[i])
		if m.Group.By == "path" {
			record, err := t.record(v, root)
			if err != nil {
				return nil, err
			}
			records = append(records, element{record, t.name(order.Header, v, 0, v.header)})
			continue
		}
		for n := range v.o.Lines { // flat: a record for each line, the header's facts on each
			o := &tree.Members{}
			t.fill(map[string]*tree.Members{"": o, "document": root}, order.Header, v, 0, v.header)
			t.fill(map[string]*tree.Members{"": o, "order": o}, order.Lines, v, n+1, v.line(n+1))
			records = append(records, element{value: o})
		}
	}
	e := json.NewEncoder(out)
	if format == source.NDJSON {
		for _, r := range records {
			if err := e.Encode(r.value); err != nil {
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
		all := []any{}
		for _, r := range records {
			all = append(all, r.value)
		}
		return t.problems, e.Encode(all)
	}
	if path == "$" {
		if len(records) != 1 {
			return t.problems, fmt.Errorf("the mapping %s makes one order of a document: write orders one at a time",
				m.Name)
		}
		return t.problems, e.Encode(records[0].value)
	}
	if err := putAll(root, path, records); err != nil {
		return t.problems, err
	}
	return t.problems, e.Encode(root)
}

// writeJoined writes a list of headers and a list of lines, each of which has the key of its order.
func (t *trees) writeJoined(out io.Writer, orders []order.Order, root *tree.Members, format source.Format) ([]Problem,
	error) {
	g := &t.m.Group
	if format == source.NDJSON || g.Headers.Path == nil {
		return nil, fmt.Errorf("the mapping %s joins two lists of one document, which is written as JSON only", t.m.Name)
	}
	var heads, lines []element
	for i := range orders {
		v := valuesOf(&orders[i])
		head := &tree.Members{}
		t.fill(map[string]*tree.Members{"": head, "document": root}, order.Header, v, 0, v.header)
		heads = append(heads, element{head, t.name(order.Header, v, 0, v.header)})
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
			lines = append(lines, element{line, t.name(order.Lines, v, n+1, v.line(n+1))})
		}
	}
	err := putAll(root, g.Headers.Path.String(), heads)
	if err == nil {
		err = putAll(root, g.Lines.Path.String(), lines)
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
		return t.list(o, part, n, func(one *tree.Members, i int) (name string, err error) {
			t.fill(map[string]*tree.Members{"": one, "order": o, "document": root}, level, v, line(i), value(i))
			if level == order.Lines {
				err = t.deliveries(one, v, i)
			}
			return t.name(level, v, line(i), value(i)), err
		})
	}
	err := each(order.Lines, len(v.o.Lines), func(i int) func(string) string { return v.line(i + 1) },
		func(i int) int { return i + 1 })
	if err == nil {
		err = each(order.Parties, len(v.o.Parties), func(i int) func(string) string { return party(&v.o.Parties[i]) },
			func(int) int { return 0 })
	}
	if err == nil {
		err = each(order.Charges, len(v.o.Charges), func(i int) func(string) string { return charge(&v.o.Charges[i], t.m) },
			func(int) int { return 0 })
	}
	return o, err
}

// list writes n values of a part of an order into the object that contains them; fill fills each, and returns what it
// is called where it is a member with a name of its own.
func (t *trees) list(into *tree.Members, part *mapping.Part, n int, fill func(one *tree.Members, i int) (name string,
	err error)) error {
	all := make([]element, n)
	for i := range all {
		one := &tree.Members{}
		name, err := fill(one, i)
		if err != nil {
			return err
		}
		all[i] = element{one, name}
	}
	return putAll(into, part.Each.String(), all)
}

// deliveries writes the deliveries of a line into it.
func (t *trees) deliveries(into *tree.Members, v values, i int) error {
	part, line := t.m.Parts[mapping.InDeliveries], &v.o.Lines[i]
	if part == nil || len(t.m.Bindings[order.Deliveries]) == 0 {
		return nil
	}
	return t.list(into, part, len(line.Deliveries), func(one *tree.Members, k int) (string, error) {
		value := delivery(line, k)
		t.fill(map[string]*tree.Members{"": one, "order": into}, order.Deliveries, v, i+1, value)
		return t.name(order.Deliveries, v, i+1, value), nil
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
