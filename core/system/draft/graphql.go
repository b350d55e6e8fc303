package draft

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/graph-gophers/graphql-go"
)

// graph is a GraphQL schema, as its introspection has it (GraphQL specification, section 4).
type graph struct {
	QueryType    struct{ Name string }
	MutationType struct{ Name string }
	Types        []*graphType
	made         map[string]*openapi3.Schema
}

type graphType struct {
	Kind, Name string
	Fields     []graphField
	EnumValues []struct{ Name string }
}

type graphField struct {
	Name string
	Args []graphArg
	Type graphRef
}

type graphArg struct {
	Name         string
	Type         graphRef
	DefaultValue *string
}

type graphRef struct {
	Kind, Name string
	OfType     *graphRef
}

// graphList is how a list is asked for.
type graphList struct {
	field graphField
	node  *graphType
	into  string // where the nodes are, below the field: nodes, edges.node, or ""
	get   *graphField
	by    graphArg // of get
}

func (r *graphRef) base() *graphRef {
	for r.OfType != nil {
		r = r.OfType
	}
	return r
}

func (r *graphRef) list() bool {
	for ; r != nil; r = r.OfType {
		if r.Kind == "LIST" {
			return true
		}
	}
	return false
}

// String is the type as a query writes it.
func (r *graphRef) String() string {
	switch r.Kind {
	case "NON_NULL":
		return r.OfType.String() + "!"
	case "LIST":
		return "[" + r.OfType.String() + "]"
	}
	return r.Name
}

func (a *graphArg) needed() bool { return a.Type.Kind == "NON_NULL" && a.DefaultValue == nil }

// sizes reports whether an argument says how many are wanted.
func (a *graphArg) sizes() bool {
	return slices.Contains(sizeNames, norm(a.Name)) && a.Type.base().Name == "Int"
}

// asked reports whether a field can be asked for without knowing something.
func (f *graphField) asked() bool {
	return !strings.HasPrefix(f.Name, "__") && !slices.ContainsFunc(f.Args,
		func(a graphArg) bool { return a.needed() && !a.sizes() })
}

// FromGraphQL drafts a description from a GraphQL schema: its text, or the answer to an
// introspection. Only names the kinds of record to take.
func FromGraphQL(src []byte, only []string) (*Draft, error) {
	g, err := readGraph(src)
	if err != nil {
		return nil, fmt.Errorf("the document is not readable as a GraphQL schema: %w", err)
	}
	a := &api{name: "system", graph: g, doc: &openapi3.T{Paths: &openapi3.Paths{}}}
	queries := g.named(g.QueryType.Name)
	if queries == nil {
		return nil, ErrNoLists
	}
	for _, f := range queries.Fields {
		if l := g.listOf(f); l != nil && a.named(l.record) == nil {
			g.alone(l, queries)
			a.lists = append(a.lists, l)
		}
	}
	if len(a.lists) == 0 {
		return nil, ErrNoLists
	}
	kept, left, err := a.choose(only)
	if err != nil {
		return nil, err
	}
	root := &entry{}
	root.add("koinos", "system/1", "")
	root.add("name", a.name, "what is it called?").open = true
	root.add("address", quoted("{env: "+a.variable("URL")+"}"), "where is the API? A schema does not say").open = true
	root.ask("auth: how does one sign in?")
	root.ask("limits: rate and at_once? Does an answer say what it cost (budget), or how long to wait (wait)?")
	records := root.add("records", "", "")
	for _, l := range kept {
		a.record(records, l, kept)
	}
	return finish(a.name, root, left)
}

func readGraph(src []byte) (*graph, error) {
	if !json.Valid(src) {
		schema, err := graphql.ParseSchema(string(src), nil)
		if err != nil {
			return nil, err
		}
		if src, err = schema.ToJSON(); err != nil {
			return nil, err
		}
	}
	var answer struct {
		Schema *graph `json:"__schema"`
		Data   struct {
			Schema *graph `json:"__schema"`
		}
	}
	if err := json.Unmarshal(src, &answer); err != nil {
		return nil, err
	}
	g := answer.Schema
	if g == nil {
		g = answer.Data.Schema
	}
	if g == nil {
		return nil, errors.New("it has no __schema")
	}
	g.made = map[string]*openapi3.Schema{}
	return g, nil
}

func (g *graph) named(name string) *graphType {
	for _, t := range g.Types {
		if t.Name == name && name != "" {
			return t
		}
	}
	return nil
}

func (t *graphType) field(name string) *graphField {
	for i := range t.Fields {
		if t.Fields[i].Name == name {
			return &t.Fields[i]
		}
	}
	return nil
}

// nodes returns the type of what a field lists, and where that stands below it.
func (g *graph) nodes(f *graphField) (node *graphType, into string) {
	t := g.named(f.Type.base().Name)
	switch {
	case t == nil || t.Kind != "OBJECT":
		return nil, ""
	case f.Type.list():
		return t, ""
	}
	if n := t.field("nodes"); n != nil && n.Type.list() {
		return g.named(n.Type.base().Name), "nodes"
	}
	if e := t.field("edges"); e != nil && e.Type.list() {
		if edge := g.named(e.Type.base().Name); edge != nil && edge.field("node") != nil {
			return g.named(edge.field("node").Type.base().Name), "edges.node"
		}
	}
	for _, name := range dataNames {
		if n := t.field(name); n != nil && n.Type.list() {
			if node := g.named(n.Type.base().Name); node != nil && node.Kind == "OBJECT" {
				return node, name
			}
		}
	}
	return nil, ""
}

// listOf is a field of the queries that lists records; nil if there is none.
func (g *graph) listOf(f graphField) *list {
	node, into := g.nodes(&f)
	if node == nil || node.Kind != "OBJECT" || !f.asked() {
		return nil
	}
	l := &list{record: singular(f.Name), path: "/graphql", whole: 1, one: "",
		each:  of(openapi3.NewSchemaRef("", g.schema(node, 0))),
		graph: &graphList{field: f, node: node, into: into}}
	l.at = "$.data." + f.Name
	if into != "" {
		l.at += "." + strings.ReplaceAll(into, ".", "[*].")
	}
	if into != "edges.node" {
		l.at += "[*]"
	}
	for _, arg := range f.Args {
		l.query = append(l.query, prop{arg.Name, of(openapi3.NewSchemaRef("", g.scalar(arg.Type.base())))})
	}
	return l
}

// alone finds the query for one record by its key.
func (g *graph) alone(l *list, queries *graphType) {
	for i := range queries.Fields {
		f := &queries.Fields[i]
		if f.Type.list() || f.Type.base().Name != l.graph.node.Name {
			continue
		}
		for _, a := range f.Args {
			if a.needed() && (a.Type.base().Name == "ID" || slices.Contains(keyNames, norm(a.Name))) {
				l.graph.get, l.graph.by, l.param = f, a, a.Name
				return
			}
		}
	}
}

// scalar is what a scalar, or what else is no object, is in JSON.
func (g *graph) scalar(r *graphRef) *openapi3.Schema {
	switch {
	case r.Name == "Int":
		return openapi3.NewIntegerSchema()
	case r.Name == "Float":
		return openapi3.NewFloat64Schema()
	case r.Name == "Boolean":
		return openapi3.NewBoolSchema()
	case r.Kind == "ENUM":
		s := openapi3.NewStringSchema()
		if t := g.named(r.Name); t != nil {
			for _, v := range t.EnumValues {
				s.Enum = append(s.Enum, v.Name)
			}
		}
		return s
	case r.Kind == "INPUT_OBJECT":
		return openapi3.NewObjectSchema()
	case norm(r.Name) == "date":
		return openapi3.NewStringSchema().WithFormat("date")
	}
	return openapi3.NewStringSchema()
}

// deepest is how deep a query asks.
const deepest = 2

// schema is an object of GraphQL as one of JSON; lists in pages are lists.
func (g *graph) schema(t *graphType, deep int) *openapi3.Schema {
	s := openapi3.NewObjectSchema()
	for _, f := range t.Fields {
		node, _ := g.nodes(&f)
		inner := g.named(f.Type.base().Name)
		switch {
		case !f.asked():
		case node != nil && node.Kind == "OBJECT" && deep < deepest:
			s.WithProperty(f.Name, openapi3.NewArraySchema().WithItems(g.schema(node, deep+1)))
		case inner != nil && inner.Kind == "OBJECT" && deep < deepest:
			s.WithProperty(f.Name, g.schema(inner, deep+1))
		case inner == nil || inner.Kind == "SCALAR" || inner.Kind == "ENUM":
			v := g.scalar(f.Type.base())
			if f.Type.list() {
				v = openapi3.NewArraySchema().WithItems(v)
			}
			s.WithProperty(f.Name, v)
		}
	}
	return s
}

// linesAsked is how many lines a query asks for with their record.
const linesAsked = "50"

// selection is what is asked of an object: fields, or one with what is asked of it.
type selection struct {
	head  string
	under []selection
}

// width is how wide a query is written.
const width = 100

// write writes a selection, on one line where that is not too long.
func (s *selection) write(b *strings.Builder, indent string) {
	if line := s.line(); len(indent)+len(line) <= width || len(s.under) == 0 {
		b.WriteString(indent + line + "\n")
		return
	}
	b.WriteString(indent + s.head + " {\n")
	for i := range s.under {
		s.under[i].write(b, indent+"  ")
	}
	b.WriteString(indent + "}\n")
}

func (s *selection) line() string {
	if len(s.under) == 0 {
		return s.head
	}
	var parts []string
	for i := range s.under {
		parts = append(parts, s.under[i].line())
	}
	return s.head + " { " + strings.Join(parts, " ") + " }"
}

// text is a selection as a block of YAML.
func (s *selection) text() []string {
	b := &strings.Builder{}
	s.write(b, "")
	return strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")
}

// fields is what is asked of an object: its values, and those of the objects and lists in it.
func (g *graph) fields(t *graphType, above []*graphType) (out []selection) {
	var plain []string
	for _, f := range t.Fields {
		if inner := g.named(f.Type.base().Name); f.asked() && (inner == nil || inner.Kind == "SCALAR" ||
			inner.Kind == "ENUM") {
			plain = append(plain, f.Name)
		}
	}
	if len(plain) > 0 {
		out = append(out, selection{head: strings.Join(plain, " ")})
	}
	if len(above) >= deepest {
		return out
	}
	above = append(slices.Clone(above), t)
	for i := range t.Fields {
		f := &t.Fields[i]
		inner := g.named(f.Type.base().Name)
		if !f.asked() || inner == nil || inner.Kind != "OBJECT" {
			continue
		}
		node, into := g.nodes(f)
		if node != nil {
			inner = node
		}
		if slices.Contains(above, inner) { // an order in an order is another one
			continue
		}
		under := g.fields(inner, above)
		if len(under) == 0 {
			continue
		}
		head := f.Name
		for _, a := range f.Args {
			if a.sizes() {
				head += "(" + a.Name + ": " + linesAsked + ")"
				break
			}
		}
		out = append(out, selection{head, g.around(f, into, under)})
	}
	return out
}

// around is what stands around the fields of the nodes of a list.
func (g *graph) around(f *graphField, into string, under []selection) []selection {
	if into == "" {
		return under
	}
	parts := strings.Split(into, ".")
	for i := len(parts) - 1; i >= 0; i-- {
		under = []selection{{parts[i], under}}
	}
	if info := g.info(f); len(info) > 0 {
		under = append(under, selection{"pageInfo", []selection{{head: strings.Join(info, " ")}}})
	}
	return under
}

// info is what the page of a list says of further ones.
func (g *graph) info(f *graphField) (out []string) {
	t := g.named(f.Type.base().Name)
	if t == nil || t.field("pageInfo") == nil {
		return nil
	}
	if info := g.named(t.field("pageInfo").Type.base().Name); info != nil {
		for _, name := range []string{"hasNextPage", "endCursor"} {
			if info.field(name) != nil {
				out = append(out, name)
			}
		}
	}
	return out
}

// list writes how a list is asked for.
func (g *graph) list(e *entry, l *list) {
	f := &l.graph.field
	var vars, args, query []string
	since := -1
	var paging string
	at := "$.data." + f.Name
	for i, a := range f.Args {
		n := norm(a.Name)
		name := a.Name
		switch {
		case a.sizes() && len(query) == 0:
			query = append(query, a.Name)
		case slices.Contains(cursorNames, n) && slices.Contains(g.info(f), "endCursor"):
			paging = g.cursor(f, a.Name, at)
		case slices.Contains(offsetNames, n) && a.Type.base().Name == "Int":
			paging = "{offset: {parameter: " + a.Name + "}}"
		case slices.Contains(pageNames, n) && a.Type.base().Name == "Int":
			paging = "{page: {parameter: " + a.Name + "}}"
		case sinceNamed(a.Name) && a.Type.base().Kind == "SCALAR":
			since = i
		case slices.Contains(l.ways(), a.Name):
		default:
			continue
		}
		vars = append(vars, "$"+name+": "+a.Type.String())
		args = append(args, a.Name+": $"+name)
	}
	head := f.Name
	if len(args) > 0 {
		head += "(" + strings.Join(args, ", ") + ")"
	}
	asked := selection{"query", []selection{{head, g.around(f, l.graph.into, g.fields(l.graph.node, nil))}}}
	if len(vars) > 0 {
		asked.head += " (" + strings.Join(vars, ", ") + ")"
	}
	e.add("path", "/graphql", "is it there?").open = true
	if len(query) > 0 {
		e.add("query", fmt.Sprintf("{%s: \"50\"}", query[0]), "how many may a page have?").open = true
		e.add("size", query[0], "")
	}
	e.add("graphql", "|", "").raw = asked.text()
	e.add("records", quoted(l.at), "")
	switch {
	case paging != "":
		e.add("paging", paging, "")
	default:
		e.ask("paging: how does the list go on? No argument is named like that. Without it, only the first page is read.")
	}
	if _, stamped := named(l.each.props(), stampTable(l.each.props()), plain); since >= 0 && stamped {
		a := f.Args[since]
		form := ""
		if a.Type.base().Name == "Int" {
			form = ", form: seconds"
		}
		e.add("since", fmt.Sprintf("{parameter: %s%s, overlap: 5m}", a.Name, form), "")
	} else if stamped {
		e.ask("since: how does one ask for what is new only? No argument is called so.")
	}
}

// cursor is how a list with pages goes on.
func (g *graph) cursor(f *graphField, parameter, at string) string {
	text := fmt.Sprintf("{cursor: {parameter: %s, from: %s.pageInfo.endCursor", parameter, at)
	if slices.Contains(g.info(f), "hasNextPage") {
		text += ", more: " + at + ".pageInfo.hasNextPage"
	}
	return text + "}}"
}

// rest writes how lines are asked for that a record's page of them does not show.
func (g *graph) rest(r *entry, l *list, lines string) {
	f := l.graph.node.field(lines)
	node, into := g.nodes(f)
	if into == "" || !slices.Contains(g.info(f), "endCursor") {
		return
	}
	after := slices.IndexFunc(f.Args, func(a graphArg) bool { return slices.Contains(cursorNames, norm(a.Name)) })
	if l.graph.get == nil || after < 0 {
		r.ask("rest: how are the lines of a record asked for behind its first %s?", linesAsked)
		return
	}
	listed, _, _ := strings.Cut(into, ".")
	args := fmt.Sprintf("%s: $after", f.Args[after].Name)
	for _, a := range f.Args {
		if a.sizes() {
			args = fmt.Sprintf("%s: %s, %s", a.Name, linesAsked, args)
			break
		}
	}
	e := r.add("rest", "", "lines behind the first "+linesAsked)
	e.add("into", "$."+lines+"."+listed, "")
	e.add("more", "$."+lines+".pageInfo.hasNextPage", "")
	e.add("from", "$."+lines+".pageInfo.endCursor", "")
	e.add("path", "/graphql", "")
	asked := selection{fmt.Sprintf("query ($key: %s, $after: %s)", l.graph.by.Type.String(),
		f.Args[after].Type.String()),
		[]selection{{fmt.Sprintf("%s(%s: $key)", l.graph.get.Name, l.graph.by.Name), []selection{{
			fmt.Sprintf("%s(%s)", f.Name, args), g.around(f, into, g.fields(node, []*graphType{l.graph.node}))}}}}}
	e.add("graphql", "|", "").raw = asked.text()
	at := "$.data." + l.graph.get.Name + "." + lines
	e.add("records", quoted(at+"."+listed+"[*]"), "")
	e.add("paging", g.cursor(f, "after", at), "")
}

// get writes how one record is asked for.
func (g *graph) get(r *entry, l *list) {
	if l.graph.get == nil {
		r.ask("get: how is one %s got? No query takes its key.", l.record)
		return
	}
	e := r.add("get", "", "")
	e.add("path", "/graphql", "")
	asked := selection{fmt.Sprintf("query ($key: %s)", l.graph.by.Type.String()), []selection{{
		fmt.Sprintf("%s(%s: $key)", l.graph.get.Name, l.graph.by.Name), g.fields(l.graph.node, nil)}}}
	e.add("graphql", "|", "").raw = asked.text()
	e.add("record", "$.data."+l.graph.get.Name, "")
}

// mutations asks about what can be written.
func (g *graph) mutations(r *entry, l *list) {
	m := g.named(g.MutationType.Name)
	if m == nil {
		return
	}
	var names []string
	for _, f := range m.Fields {
		if strings.Contains(norm(f.Name), l.record) {
			names = append(names, f.Name)
		}
	}
	if len(names) > 0 {
		r.ask("write: is one of these how one is made or changed? %s", strings.Join(names, ", "))
	}
}

// where is the path of a list within a record: of lists in pages, of their nodes.
func (l *list) where(a *api, name string) string {
	if a.graph == nil {
		return step("$", name) + "[*]"
	}
	f := l.graph.node.field(name)
	_, into := a.graph.nodes(f)
	switch into {
	case "":
		return "$." + name + "[*]"
	case "edges.node":
		return "$." + name + ".edges[*].node"
	}
	return "$." + name + "." + into + "[*]"
}
