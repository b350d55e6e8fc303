package system

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"koinos/core/grammar"
	"koinos/core/jsondoc"
	"koinos/core/order"
	"koinos/core/tree"
)

// Describing is how a system describes the fields of a kind of record.
type Describing struct {
	Path    string
	Schema  *jsondoc.Path // a JSON Schema of the record; nil is a list of fields
	Fields  *jsondoc.Path // the list
	Name    *jsondoc.Path // within a field, like those below, which may be nil
	Type    *jsondoc.Path
	Types   map[string]string // the system's words for types, and ours
	Longest *jsondoc.Path
	Choices *jsondoc.Path
	Needed  While
	Fixed   While // what cannot be changed once the record is made
	Never   While // what nobody can write
}

// TheirField is what a system says about one of its fields.
type TheirField struct {
	Name    string   `json:"name" doc:"As the system has it"`
	Pointer string   `json:"pointer" doc:"Where it stands in the record, or in a line (RFC 6901)"`
	OfLine  bool     `json:"of_line"`
	Type    string   `json:"type,omitempty" enum:"text,number,boolean,date,time" doc:"Absent if the system does not say, or says something else"`
	Needed  bool     `json:"needed" doc:"A record is not made without it"`
	Fixed   bool     `json:"fixed" doc:"It cannot be changed once the record is made"`
	Never   bool     `json:"never" doc:"Nobody can write it"`
	Longest int      `json:"longest,omitempty" doc:"How many letters it may have"`
	Choices []string `json:"choices,omitempty"`
}

// kinds are the types of fields, with the words that systems use for them.
var kinds = map[string]string{"text": "text", "string": "text", "number": "number", "integer": "number",
	"decimal": "number",
	"boolean": "boolean", "bool": "boolean", "date": "date", "date-time": "time", "datetime": "time", "time": "time"}

// describing are the words about a system that describes its own fields.
var describing = grammar.Group("Where the system tells of its own fields: what is written is held against them before a "+
	"call is made",
	grammar.Must("path", grammar.Some("Path below the system's address")),
	grammar.May("schema", grammar.Some("Where the answer has a JSON Schema of the record: "+path+"; $ is the answer")),
	grammar.May("records", grammar.Some("Or where its list of fields stands: "+path)),
	grammar.May("name", grammar.Some("A field's name, with points or slashes where it stands deeper: path within the field")),
	grammar.May("type", grammar.Some("Its type: path within the field")),
	grammar.May("types", &grammar.Shape{Kind: grammar.Table,
		About: "The system's words for types. Those for text, number, " +
			"boolean, date and time that are usual need not be said; a type of another word is not looked at",
		Items: grammar.OneOf("Type", "text", "number", "boolean", "date", "time")}),
	grammar.May("longest", grammar.Some("How many letters it may have: path within the field")),
	grammar.May("choices", grammar.Some("The values that it may have: path within the field")),
	grammar.May("needed", while("When a record is not made without it")),
	grammar.May("fixed", while("When it cannot be changed once the record is made")),
	grammar.May("never", while("When nobody can write it")))

func (b *builder) fields(n *grammar.Node) *Describing {
	if n == nil {
		return nil
	}
	d := &Describing{Path: n.Str("path"), Schema: b.path(n.Get("schema")), Fields: b.path(n.Get("records")),
		Name: b.path(n.Get("name")), Type: b.path(n.Get("type")), Types: texts(n.Get("types")),
		Longest: b.path(n.Get("longest")), Choices: b.path(n.Get("choices")), Needed: b.while(n.Get("needed")),
		Fixed: b.while(n.Get("fixed")), Never: b.while(n.Get("never"))}
	b.below(n.Get("path"))
	if (d.Schema == nil) == (d.Fields == nil) {
		b.wrong(n.Get("path"),
			"say either schema: where the answer has a JSON Schema, or records: where its list of fields is.")
	}
	if d.Fields != nil && d.Name == nil {
		b.wrong(n.Get("path"), "say name: where a field has its name.")
	}
	return d
}

// Told reads what a system says about the fields of a record.
func (r *Record) Told(a Answer) ([]TheirField, error) {
	d := r.Fields
	root, _, err := jsondoc.Parse(a.Body, 1)
	if err != nil || root == nil {
		return nil, &AnswerError{"", "is not JSON"}
	}
	var all []TheirField
	if d.Schema != nil {
		schema := d.Schema.First(root)
		if schema == nil || schema.Member("properties") == nil {
			return nil, &AnswerError{d.Schema.String(), "has no JSON Schema with properties"}
		}
		all = r.properties(schema, "", true, nil, 0)
	} else {
		list := d.Fields.All(root)
		if len(list) == 0 {
			return nil, &AnswerError{d.Fields.String(), "has no fields"}
		}
		for _, n := range list {
			f := TheirField{Name: scalar(d.Name, n), Type: d.kind(scalar(d.Type, n)), Needed: d.Needed.Holds(n),
				Fixed: d.Fixed.Holds(n), Never: d.Never.Holds(n)}
			if f.Name == "" {
				return nil, &AnswerError{n.Pointer(), "has a field without a name"}
			}
			f.Longest, _ = strconv.Atoi(scalar(d.Longest, n))
			if d.Choices != nil {
				for _, c := range d.Choices.All(n) {
					f.Choices = append(f.Choices, c.Text)
				}
			}
			all = append(all, r.placed(f))
		}
	}
	return all, nil
}

func (d *Describing) kind(word string) string {
	if kind := d.Types[word]; kind != "" {
		return kind
	}
	return kinds[strings.ToLower(word)]
}

// listOf is the pointer of a record's list of lines; "" if there is none.
func (r *Record) listOf() string {
	if r.Lines == nil {
		return ""
	}
	list, err := jsondoc.ParsePath(strings.TrimSuffix(r.Lines.String(), "[*]"))
	if err != nil {
		return ""
	}
	return list.Pointer()
}

// placed says where a field stands.
func (r *Record) placed(f TheirField) TheirField {
	name := strings.TrimPrefix(strings.TrimPrefix(f.Name, "$"), "/")
	for _, list := range []string{"[*]", "[]"} {
		name = strings.ReplaceAll(name, list, "")
	}
	for _, part := range strings.FieldsFunc(name, func(c rune) bool { return c == '.' || c == '/' }) {
		f.Pointer += "/" + tree.Token(part)
	}
	if rest, ok := strings.CutPrefix(f.Pointer, r.listOf()+"/"); ok && r.listOf() != "" {
		f.Pointer, f.OfLine = "/"+rest, true
	}
	return f
}

// mostDeep is how deeply nested a schema may be.
const mostDeep = 8

// properties reads the fields of an object of a JSON Schema (2020-12, the validation vocabulary). A needed field is one
// of an object that is needed itself.
func (r *Record) properties(schema *tree.Node, at string, needed bool, all []TheirField, deep int) []TheirField {
	must := map[string]bool{}
	if list := schema.Member("required"); list != nil && list.Kind == tree.Array {
		for n := list.First(); n != nil; n = n.Next() {
			must[n.Text] = true
		}
	}
	props := schema.Member("properties")
	if props == nil || props.Kind != tree.Object || deep > mostDeep {
		return all
	}
	is := func(n *tree.Node, name string) bool { v := n.Member(name); return v != nil && v.Text == "true" }
	for n := props.First(); n != nil; n = n.Next() {
		name := strings.TrimPrefix(at+"."+n.Name, ".")
		kind, format := text(n.Member("type")), text(n.Member("format"))
		if list := n.Member("type"); list != nil && list.Kind == tree.Array { // ["string", "null"]
			for c := list.First(); c != nil; c = c.Next() {
				if c.Text != "null" {
					kind = c.Text
				}
			}
		}
		switch {
		case n.Member("properties") != nil:
			all = r.properties(n, name, needed && must[n.Name], all, deep+1)
			continue
		case n.Member("items") != nil && n.Member("items").Member("properties") != nil:
			all = r.properties(n.Member("items"), name, true, all, deep+1)
			continue
		}
		f := TheirField{Name: name, Type: kinds[kind], Needed: needed && must[n.Name], Never: is(n, "readOnly")}
		if kinds[format] != "" && f.Type == "text" {
			f.Type = kinds[format]
		}
		f.Longest, _ = strconv.Atoi(text(n.Member("maxLength")))
		if list := n.Member("enum"); list != nil {
			for c := list.First(); c != nil; c = c.Next() {
				if c.Kind != tree.Null {
					f.Choices = append(f.Choices, c.Text)
				}
			}
		}
		all = append(all, r.placed(f))
	}
	return all
}

func text(n *tree.Node) string {
	if n == nil || !n.Scalar() || n.Kind == tree.Null {
		return ""
	}
	return n.Text
}

// Wrong says what a system would not accept as a value of a field; "" if it accepts it. making says that the record
// does not exist yet.
func (f *TheirField) Wrong(n *tree.Node, making bool) string {
	v := text(n)
	switch {
	case v == "" && f.Needed && !f.Never && (making || n != nil):
		return "is blank, but needed there"
	case v == "":
		return ""
	case f.Never && making:
		return fmt.Sprintf("is %q, but cannot be written there", v)
	case f.Longest > 0 && utf8.RuneCountInString(v) > f.Longest:
		return fmt.Sprintf("has %d letters, but may have %d there", utf8.RuneCountInString(v), f.Longest)
	case len(f.Choices) > 0 && !slices.Contains(f.Choices, v):
		return fmt.Sprintf("is %q, but can only be %s there", v, strings.Join(f.Choices, ", "))
	}
	var err error
	switch f.Type {
	case "number":
		_, err = order.ParseNumber(v)
	case "boolean":
		_, err = strconv.ParseBool(v)
	case "date":
		_, err = time.Parse(time.DateOnly, v)
	case "time":
		_, err = instant(v)
	}
	if err != nil {
		return fmt.Sprintf("is %q, but must be a %s there", v, f.Type)
	}
	return ""
}
