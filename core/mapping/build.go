package mapping

import (
	"regexp"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/intent"
	"koinos/core/jsondoc"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/x12"
)

// Parse reads a mapping. If it is wrong in any way, the error is a finding.All with everything that is wrong, each at
// its line and column.
func Parse(src []byte) (*Mapping, error) {
	root, bad := grammar.Read(src, "mapping", Version)
	if bad != nil {
		return nil, finding.All{*bad}
	}
	var m grammar.Mistakes
	if e := root.Get("extends"); e != nil && e.Scalar {
		base := standardNode(e.Text, e.At)
		if base == nil {
			m.Add(finding.MappingWrongValue, e.At, e.Text, "There is no standard mapping %q; there are %s.", e.Text,
				strings.Join(StandardNames(), ", "))
			return nil, m.Err()
		}
		root = over(root, base, 0)
	}
	words.Fit(root, "a mapping", &m)
	if err := m.Err(); err != nil {
		return nil, err
	}
	b := builder{Mistakes: &m}
	mapping := b.mapping(root)
	mapping.Text = string(src)
	if err := m.Err(); err != nil {
		return nil, err
	}
	return mapping, nil
}

// builder makes a Mapping of nodes that fit the grammar, and checks what the grammar alone cannot express.
type builder struct {
	*grammar.Mistakes
	m       *Mapping
	x12     bool         // the document is of X12
	each    *x12.Address // of the part whose bindings are read
	around  bool         // the binding that is read asks the loops around its own
	records *x12.Address // of the orders within a set
}

// IsName reports whether a text can be the name of a mapping or sequence.
func IsName(name string) bool { return namePattern.MatchString(name) }

var namePattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)

func (b *builder) mapping(root *grammar.Node) *Mapping {
	m := &Mapping{Name: root.Str("name"), About: root.Str("about"), Bindings: map[order.Level][]Binding{}}
	b.m = m
	b.weighs(root.Get("findings"))
	if !namePattern.MatchString(m.Name) {
		b.Add(finding.MappingWrongValue, root.Get("name").At, m.Name,
			"name must be of small letters, digits and hyphens, at most 64.")
	}
	m.Document.Locale = Locale{DecimalSign: '.', grouping: ','}
	if d := root.Get("document"); d != nil && d.Str("format") == string(source.X12) {
		b.x12 = true
		m.Document.Locale.grouping = 0
		for _, form := range []string{"yyyymmdd", "yymmdd"} { // as the element type DT has them
			f, _ := parseDateForm(form)
			m.Document.Locale.Dates = append(m.Document.Locale.Dates, f)
		}
	}
	if d := root.Get("document"); d != nil {
		b.document(d, &m.Document)
	}
	orders := root.Get("orders")
	m.Kind = intent.Order
	switch kind := orders.Str("kind"); {
	case slices.Contains(order.Kinds, kind):
		m.Of = order.Kind(kind)
		if of := orders.Get("of"); of != nil {
			b.Add(finding.MappingWrongValue, of.At, of.Text,
				"of goes with notices; kind says already that the orders are %s.", kind)
		}
	default:
		m.Kind = intent.Kind(kind)
		m.side(order.Kind(orders.Str("of")))
		if m.Of == "" && !b.x12 {
			b.Add(finding.MappingMissingKey, orders.At, "",
				"kind: %s needs %q: which orders it is about, sales or purchase.", kind, "of")
		}
	}
	m.LeaveOut = b.compile(orders.Get("leave_out"), true)
	if k := orders.Get("kinds"); k != nil {
		m.KindBy = &KindBy{Source: b.source(k.Get("from"), k.Str("from")), Kinds: map[string]order.Kind{}}
		for _, kind := range order.Kinds {
			for _, word := range k.Strs(kind) {
				m.KindBy.Kinds[list.Fold(word)] = order.Kind(kind)
			}
		}
		if m.Kind != intent.Order {
			b.Add(finding.MappingWrongValue, k.At, "", "kinds goes with kind: sales or purchase.")
		}
	}
	m.Rounding = order.Rounding(orders.Str("rounding"))
	m.Tolerance = order.MustNumber("0.01")
	if t := orders.Get("tolerance"); t != nil {
		n, err := order.ParseNumber(t.Text)
		if err != nil || n.Sign() < 0 || n.IsZero() {
			b.Add(finding.MappingWrongValue, t.At, t.Text, "tolerance must be a plain number from 0 on, such as 0.05.")
		}
		m.Tolerance = n
	}
	if t := orders.Get("over_delivery"); t != nil {
		n, err := order.ParseNumber(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(t.Text), "%")))
		switch {
		case err != nil || n.Sign() < 0 || n.IsZero():
			b.Add(finding.MappingWrongValue, t.At, t.Text, "over_delivery must be a number of per cent from 0 on, such as 10.")
		case m.Kind != intent.Shipment && m.Kind != intent.Receipt:
			b.Add(finding.MappingWrongValue, t.At, t.Text, "over_delivery goes with kind: shipment or receipt.")
		}
		m.Over = n
	}
	b.group(orders.Get("group"), &m.Group)
	for i, level := range order.Levels {
		if p := orders.Get("parts"); p != nil && p.Get(string(level)) != nil {
			if level == order.Deliveries {
				m.Parts[i] = b.deliveries(p.Get(string(level)), m)
			} else {
				m.Parts[i] = b.part(p.Get(string(level)))
			}
		}
		if n := root.Get(string(level)); n != nil {
			b.records, _ = m.Document.Records.(*x12.Address)
			b.each = b.records
			if level == order.Deliveries {
				b.each = b.lines(m) // what is asked of a delivery is asked of its line, as if it had no other
			} else if m.Parts[i] != nil && m.Parts[i].Each != nil {
				b.each, _ = m.Parts[i].Each.(*x12.Address)
			}
			m.Bindings[level] = b.bindings(n, level, m.Document.Locale)
			m.Levels[i] = m.Bindings[level]
		}
	}
	if d := root.Get("document"); d != nil {
		b.totals(d.Get("totals"))
	}
	m.Rules = b.rules(root.Get("rules"))
	b.complete(root, m)
	b.again(orders, m)
	if r := root.Get("results"); r != nil {
		b.results(r, &m.Results)
	} else {
		b.results(&grammar.Node{}, &m.Results)
	}
	return m
}

func (b *builder) document(n *grammar.Node, d *Document) {
	d.Format = source.Format(n.Str("format"))
	d.Encoding = source.Encoding(n.Str("encoding"))
	d.Sheets = n.Strs("sheet")
	d.Delimiter, d.RecordEnd, d.Release = b.sign(n, "delimiter"), b.sign(n, "record_end"), b.sign(n, "release")
	if d.Quote = n.Str("quote"); d.Quote != source.NoQuote {
		d.Quote = b.sign(n, "quote")
	}
	b.positions(n.Get("positions"), d)
	if q := n.Get("quote"); q != nil && d.Quote != source.NoQuote &&
		(d.RecordEnd != "" || d.Release != "" || d.Positions != nil) {
		b.Add(finding.MappingWrongValue, q.At, q.Text,
			"with record_end, release or positions there are no quotation marks: leave quote out.").Hint = ""
	}
	d.SkipHide = n.Str("hidden") == "leave-out"
	d.Refuse = n.Str("broken") == "refuse"
	d.Records = b.path(n.Get("records"))
	d.Set = n.Str("set")
	if d.Set != "" && !slices.Contains(x12.Sets(), d.Set) {
		b.Add(finding.MappingWrongValue, n.Get("set").At, d.Set, "The dictionary has no transaction set %q; it has %s.",
			d.Set, strings.Join(x12.Sets(), ", "))
	}
	if b.x12 != (d.Set != "") {
		b.Add(finding.MappingWrongValue, n.At, d.Set, "format: x12 and set go together.")
	}
	if f := n.Get("fixed"); f != nil {
		for _, e := range f.Entries {
			a, err := x12.ParseAddress(e.Key)
			if err != nil || !a.IsElement() {
				b.Add(finding.MappingWrongValue, e.At, e.Key, "%q is no element of X12, such as BEG/01.", e.Key)
				continue
			}
			d.Fixed = append(d.Fixed, Fixed{a, e.Node.Text})
		}
	}
	d.Unknown = n.Str("unknown") == "warn"
	d.Unused = b.sources(n.List("unused"))
	if h := n.Get("heading"); h != nil {
		d.HeadRow, d.HeadFind, d.HeadRows = h.Number("row"), h.Strs("find"), h.Number("rows")
		d.Headless, d.Repeats = h.Str("none") == "true", h.Str("repeats") == "true"
		if d.HeadRow > 0 && d.HeadFind != nil {
			b.Add(finding.MappingWrongValue, h.At, "", "heading takes exactly one of: row, find.")
		}
		if d.Headless && (d.HeadRow > 0 || d.HeadFind != nil || d.HeadRows > 0 || d.Repeats) {
			b.Add(finding.MappingWrongValue, h.At, "",
				"a document without a heading row has none to find: leave out all but none.").Hint = ""
		}
	}
	if c := n.Get("carried"); c != nil {
		d.Carried = b.sources(n.List("carried"))
		if b.x12 || d.Format == source.JSON || d.Format == source.NDJSON || d.Records != nil {
			b.Add(finding.MappingWrongValue, c.At, "", "only tables have rows, of which one can leave out what stands above.").
				Hint = ""
		}
	}
	if u := n.Get("until"); u != nil {
		d.BlankRows, d.UntilText = u.Number("blank_rows"), u.Strs("text")
	}
	if r := n.Get("rows"); r != nil {
		d.First, d.Last = r.Number("first"), r.Number("last")
		d.LeaveOut, d.Keep = b.compile(r.Get("leave_out"), true), b.compile(r.Get("keep"), true)
		for _, c := range r.List("chosen") {
			x, y, ok := rowsOf(c.Text)
			if !ok {
				b.Add(finding.MappingWrongValue, c.At, c.Text, "%q are no rows; write 12, or 20-35.", c.Text)
				continue
			}
			d.Chosen = append(d.Chosen, [2]int{x, y})
		}
	}
	if l := n.Get("locale"); l != nil {
		b.locale(l, &d.Locale)
	}
}

// positions reads where the columns of fixed-width text are.
func (b *builder) positions(n *grammar.Node, d *Document) {
	if n == nil {
		return
	}
	for _, e := range n.Entries {
		first, last, ok := rowsOf(e.Node.Text)
		if !ok || last > 1<<20 {
			b.Add(finding.MappingWrongValue, e.Node.At, e.Node.Text, "%q are no characters; write 1-8.",
				e.Node.Text).Hint = ""
			continue
		}
		d.Positions = append(d.Positions, source.Position{Name: e.Key, First: first, Last: last})
	}
	slices.SortStableFunc(d.Positions, func(a, b source.Position) int { return a.First - b.First })
	for i := 1; i < len(d.Positions); i++ {
		if p := d.Positions[i]; p.First <= d.Positions[i-1].Last {
			b.Add(finding.MappingWrongValue, n.At, p.Name, "the columns %s and %s have characters in common.",
				d.Positions[i-1].Name, p.Name).Hint = ""
		}
	}
	if d.Delimiter != "" || d.RecordEnd != "" || d.Release != "" {
		b.Add(finding.MappingWrongValue, n.At, "",
			"text of fixed width has no delimiter, record_end or release.").Hint = ""
	}
}

// sign reads a single ASCII character.
func (b *builder) sign(n *grammar.Node, key string) string {
	s := n.Str(key)
	if s == `\t` || s == "tab" {
		s = "\t"
	}
	if s != "" && (len(s) != 1 || s[0] >= 0x80 || s == "\n" || s == "\r") {
		b.Add(finding.MappingWrongValue, n.Get(key).At, s, "%s must be one plain character.", key)
		return ""
	}
	return s
}

func (b *builder) path(n *grammar.Node) Query {
	if n == nil {
		return nil
	}
	if b.x12 {
		return b.address(n, n.Text)
	}
	p, err := jsondoc.ParsePath(n.Text)
	if err != nil {
		b.Add(finding.MappingWrongValue, n.At, n.Text, "%q is not a path of RFC 9535: %v.", n.Text, err)
		return nil
	}
	return p
}

// address reads an address of X12.
func (b *builder) address(n *grammar.Node, text string) Query {
	a, err := x12.ParseAddress(text)
	if err != nil {
		b.Add(finding.MappingWrongValue, n.At, text, "%q is no address of X12: %v.", text, err)
		return nil
	}
	return a
}

// groupKeys says for which groupings a word of group is allowed, and for which it is needed.
var groupKeys = map[string]struct{ with, needed string }{
	"columns": {"key opener gap rowkind", "key"},
	"blanks":  {"key", ""}, "rows": {"key", ""}, "fold": {"key join rowkind", ""},
	"when":  {"opener", ""},
	"kinds": {"rowkind", "rowkind"}, "kind": {"rowkind", "rowkind"},
	"count": {"count", "count"}, "opener": {"form", "form"}, "path": {"path set", ""}, "same": {"set", ""}, "line_names": {"set", ""},
	"headers": {"join", "join"}, "lines": {"join", "join"},
}

func (b *builder) group(n *grammar.Node, g *Grouping) {
	g.By, g.At = n.Str("by"), n.At
	for _, k := range words.Under("orders", "group").Keys[1:] {
		v, use := n.Get(k.Name), groupKeys[k.Name]
		switch {
		case v != nil && !slices.Contains(strings.Fields(use.with), g.By):
			b.Add(finding.MappingWrongValue, v.At, v.Text, "%s goes with by: %s only.", k.Name,
				strings.ReplaceAll(use.with, " ", ", "))
		case v == nil && slices.Contains(strings.Fields(use.needed), g.By):
			b.Add(finding.MappingMissingKey, n.At, "", "group by %s needs %q: %s.", g.By, k.Name, k.Shape.About)
		}
	}
	if b.x12 != (g.By == "set") {
		b.Add(finding.MappingWrongValue, n.At, g.By, "group by: set goes with format: x12, and only with it.")
	}
	if g.By == "set" { // a transaction set is a record, as a value of JSON is
		g.By = "path"
	}
	g.Columns = b.sources(n.List("columns"))
	g.Break, g.Anywhere = n.Str("blanks") == "break", n.Str("rows") == "anywhere"
	g.When = b.compile(n.Get("when"), true)
	if g.By == "join" && b.m.Document.Carried != nil {
		b.Add(finding.MappingWrongValue, n.At, g.By,
			"the sheets of a join have columns of their own, of which none is carried: leave document.carried out.").Hint = ""
	}
	if g.By == "opener" && g.Columns == nil && g.When == nil {
		b.Add(finding.MappingMissingKey, n.At, "", "group by opener needs %q or %q: what opens an order.", "columns",
			"when")
	}
	if k := n.Get("kind"); k != nil {
		s := b.source(k, k.Text)
		g.Kind = &s
	}
	if k := n.Get("kinds"); k != nil {
		g.Kinds = map[string]string{}
		for _, e := range k.Entries {
			if _, twice := g.Kinds[list.Fold(e.Key)]; twice {
				b.Add(finding.MappingWrongValue, e.At, e.Key, "letter case does not count in kinds: %q stands twice.",
					e.Key).Hint = ""
			}
			g.Kinds[list.Fold(e.Key)] = e.Node.Text
			g.Words = append(g.Words, e.Key)
		}
	}
	g.Count, g.Opener, g.Fold = n.Number("count"), n.Str("opener"), n.Str("fold") == "case"
	if p := n.Get("path"); p != nil {
		if b.m.Document.Records != nil {
			b.Add(finding.MappingWrongValue, p.At, p.Text,
				"path and document.records both say which values count; take one of them out.")
		}
		b.m.Document.Records = b.path(p)
	}
	for _, k := range n.List("same") {
		records, _ := b.m.Document.Records.(*x12.Address)
		a, _ := b.path(k).(*x12.Address)
		if a == nil || records == nil || !a.IsElement() || a.Within(records) == a {
			b.Add(finding.MappingWrongValue, k.At, k.Text,
				"same is an element within the loop that path names, such as HL/PRF/01.")
			continue
		}
		g.Same = append(g.Same, a.Within(records))
	}
	g.LineNames = b.lineNames(n.List("line_names"))
	for key, j := range map[string]*Joined{"headers": &g.Headers, "lines": &g.Lines} {
		if v := n.Get(key); v != nil {
			*j = Joined{Sheet: v.Str("sheet"), Columns: b.sources(v.List("columns"))}
			p := v.Get("path")
			switch {
			case p == nil && j.Sheet == "":
				b.Add(finding.MappingMissingKey, v.At, "", "%s needs sheet or path: where they are.", key)
			case p != nil && j.Sheet != "":
				b.Add(finding.MappingWrongValue, p.At, p.Text, "%s has both sheet and path; take one of them out.", key)
			}
			if p != nil {
				j.Path, _ = b.path(p).(*jsondoc.Path)
			}
		}
	}
	if (g.Headers.Path == nil) != (g.Lines.Path == nil) || g.Headers.Path != nil && b.m.Document.Records != nil {
		b.Add(finding.MappingWrongValue, n.At, "",
			"headers and lines are both on sheets, or both at paths; document.records does not go with paths.")
	}
	if len(g.Headers.Columns) != len(g.Lines.Columns) {
		b.Add(finding.MappingWrongValue, n.At, "",
			"headers and lines must name as many columns as each other: they are compared one by one.")
	}
}

// totals reads what a document states about itself.
func (b *builder) totals(n *grammar.Node) {
	if n == nil {
		return
	}
	d := &b.m.Document
	t := &Totals{When: b.compile(n.Get("when"), true), Warn: n.Str("differ") == "warn"}
	for _, e := range n.Entries {
		if !slices.Contains(TotalNames, e.Key) {
			continue
		}
		bind := b.binding(e, order.Field{Name: e.Key, Level: order.Header, Type: order.Decimal}, d.Locale)
		if t.When == nil && len(bind.From) > 0 && bind.From[0].Kind == ByPath {
			bind.Of, b.m.wide = "document", true
		}
		t.Values = append(t.Values, bind)
	}
	if len(t.Values) == 0 {
		b.Add(finding.MappingMissingKey, n.At, "", "totals needs one of %s.", strings.Join(TotalNames, ", "))
	}
	if t.When != nil && b.m.Group.Whole() {
		b.Add(finding.MappingWrongValue, n.Get("when").At, t.When.Text,
			"when goes with orders that are grouped by rows; with %s say cell or label.", b.m.Group.By)
	}
	if t.When == nil && !b.m.Group.Whole() && slices.ContainsFunc(t.Values, func(v Binding) bool {
		return !slices.ContainsFunc(v.From, func(s Source) bool { return s.Kind >= ByPath && s.Kind <= ByLabel })
	}) {
		b.Add(finding.MappingMissingKey, n.At, "", "totals needs when, which says on which row they stand.")
	}
	d.Totals = t
}

// weighs reads the severities of findings.
func (b *builder) weighs(n *grammar.Node) {
	if n == nil {
		return
	}
	b.m.Weighs = map[finding.Code]finding.Severity{}
	for _, e := range n.Entries {
		code, severity := finding.Code(e.Key), finding.Severity(e.Node.Text)
		if severity == "ignore" {
			severity = ""
		}
		if finding.Catalogue[code].Severity == finding.Error && severity != finding.Error && !finding.Weighed[code] {
			b.Add(finding.MappingWrongValue, e.Node.At, e.Node.Text,
				"%s is always an error: what it is about cannot be taken.", code).Hint = ""
		}
		b.m.Weighs[code] = severity
	}
}

func (b *builder) sources(nodes []*grammar.Node) []Source {
	var all []Source
	for _, n := range nodes {
		all = append(all, b.source(n, n.Text))
	}
	return all
}

// source understands one word of from.
func (b *builder) source(n *grammar.Node, text string) Source {
	s := Source{Text: text, Folded: list.Fold(text), Number: strings.Contains(text, "{n}")}
	switch {
	case b.x12:
		s.Kind = ByPath
		if a, ok := b.address(n, text).(*x12.Address); ok {
			s.Path, s.Full = a.Within(b.each), a
			s.Outside = b.each != nil && !b.around && !a.Under(b.each)
			b.m.wide = b.m.wide || s.Outside
		}
	case text == "{heading}":
		s.Kind = ByMatrixHeading
	case text == "{cell}":
		s.Kind = ByMatrixCell
	case text == "{sheet}":
		s.Kind = BySheet
	case text == "{name}":
		s.Kind = ByName
	case text == "$" || strings.HasPrefix(text, "$.") || strings.HasPrefix(text, "$["):
		s.Kind = ByPath
		p, err := jsondoc.ParsePath(text)
		if err != nil {
			b.Add(finding.MappingWrongValue, n.At, text, "%q is not a path of RFC 9535: %v.", text, err)
		} else {
			s.Path = p
		}
	case strings.HasPrefix(text, "@"):
		s.Kind = ByColumn
		if s.Column = origin.ColumnNumber(text[1:]); s.Column == 0 {
			b.Add(finding.MappingWrongValue, n.At, text, "%q is not a column; write @A to @XFD.", text)
		}
	default:
		s.Path = jsondoc.Name(text)
	}
	return s
}

// ResultWords are what results can contain besides fields of the order.
var ResultWords = []string{"outcome", "number", "message", "warnings", "line", "line_id"}

func (b *builder) results(n *grammar.Node, r *Results) {
	for i, what := range ResultWords {
		if i < 3 || n.Get(what) != nil {
			r.Columns = append(r.Columns, ResultColumn{what, b.letter(n, what)})
		}
	}
	if f := n.Get("fields"); f != nil {
		for _, e := range f.Entries {
			if !order.IsResult(e.Key) {
				b.Add(finding.MappingUnknownKey, e.At, e.Key,
					"%q is no field of an order; those of lines are written lines.amount.", e.Key)
			}
			r.Columns = append(r.Columns, ResultColumn{e.Key, b.letter(f, e.Key)})
		}
	}
	r.Overwrite = n.Str("overwrite") == "true"
	used := map[int]string{}
	for _, c := range r.Columns {
		if c.Column > 0 && used[c.Column] != "" {
			b.Add(finding.MappingWrongValue, n.At, c.What, "results: %s and %s are given the same column.",
				used[c.Column], c.What)
		}
		used[c.Column] = c.What
	}
}

func (b *builder) letter(n *grammar.Node, key string) int {
	s := n.Str(key)
	if s == "" {
		return 0
	}
	column := origin.ColumnNumber(s)
	if column == 0 {
		b.Add(finding.MappingWrongValue, n.Get(key).At, s, "%q is not a column; write A to XFD.", s)
	}
	return column
}

// Result names a value that an earlier step of a sequence returned: the step, and the field of the order that it made
// of the same row.
type Result struct {
	Step  string
	Field string // order.ResultValue knows its names
}

var resultPattern = regexp.MustCompile(`^([a-z0-9][a-z0-9-]{0,63})\.(.+)$`)

func (b *builder) resultOf(n *grammar.Node) Result {
	if n == nil {
		return Result{}
	}
	m := resultPattern.FindStringSubmatch(n.Text)
	if m == nil || !order.IsResult(m[2]) {
		b.Add(finding.MappingWrongValue, n.At, n.Text, "%q is not a result; write step.field, such as purchase.number.",
			n.Text)
		return Result{Step: n.Text}
	}
	b.m.Needs = append(b.m.Needs, m[1])
	return Result{m[1], m[2]}
}
