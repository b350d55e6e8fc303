package mapping

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/jsondoc"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/x12"
)

// Parse reads a mapping. Where it is wrong in any way the error is a
// finding.All with everything that is wrong, each at its line and column.
func Parse(src []byte) (*Mapping, error) {
	root, bad := readYAML(src)
	if bad != nil {
		return nil, finding.All{*bad}
	}
	var m mistakes
	if e := root.get("extends"); e != nil && e.scalar {
		base := standardNode(e.text, e.at)
		if base == nil {
			m.add(finding.MappingWrongValue, e.at, e.text, "There is no standard mapping %q; there are %s.", e.text,
				strings.Join(StandardNames(), ", "))
			return nil, m.all
		}
		root = root.over(base, 0)
	}
	grammar.fit(root, "a mapping", &m)
	if len(m.all) > 0 {
		return nil, m.all
	}
	b := builder{mistakes: &m}
	mapping := b.mapping(root)
	mapping.Text = string(src)
	if len(m.all) > 0 {
		return nil, m.all
	}
	return mapping, nil
}

// builder makes a Mapping of nodes that fit the grammar, and checks what the
// grammar alone cannot say.
type builder struct {
	*mistakes
	m       *Mapping
	x12     bool         // the document is of X12
	each    *x12.Address // of the part whose bindings are read
	records *x12.Address // of the orders within a set
}

func (n *node) str(key string) string {
	if v := n.get(key); v != nil {
		return v.text
	}
	return ""
}

// all gives the values of a list, or the single one that stands without brackets.
func (n *node) all(key string) []*node {
	v := n.get(key)
	switch {
	case v == nil:
		return nil
	case v.scalar:
		return []*node{v}
	}
	return v.items
}

func (n *node) strs(key string) []string {
	var list []string
	for _, item := range n.all(key) {
		list = append(list, item.text)
	}
	return list
}

func (n *node) number(key string) int {
	v, _ := strconv.Atoi(n.str(key)) // the grammar has looked at it
	return v
}

var namePattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)

func (b *builder) mapping(root *node) *Mapping {
	m := &Mapping{Name: root.str("name"), About: root.str("about"), Bindings: map[order.Level][]Binding{}}
	b.m = m
	if !namePattern.MatchString(m.Name) {
		b.add(finding.MappingWrongValue, root.get("name").at, m.Name,
			"name must be of small letters, digits and hyphens, at most 64.")
	}
	m.Document.Locale = Locale{DecimalSign: '.', grouping: ','}
	if d := root.get("document"); d != nil && d.str("format") == string(source.X12) {
		b.x12 = true
		m.Document.Locale.grouping = 0
		for _, form := range []string{"yyyymmdd", "yymmdd"} { // as the element type DT has them
			f, _ := parseDateForm(form)
			m.Document.Locale.Dates = append(m.Document.Locale.Dates, f)
		}
	}
	if d := root.get("document"); d != nil {
		b.document(d, &m.Document)
	}
	orders := root.get("orders")
	m.Kind = intent.Order
	switch kind := orders.str("kind"); {
	case slices.Contains(order.Kinds, kind):
		m.Of = order.Kind(kind)
		if of := orders.get("of"); of != nil {
			b.add(finding.MappingWrongValue, of.at, of.text,
				"of goes with notices; kind says already that the orders are %s.", kind)
		}
	default:
		m.Kind = intent.Kind(kind)
		m.side(order.Kind(orders.str("of")))
		if m.Of == "" && !b.x12 {
			b.add(finding.MappingMissingKey, orders.at, "",
				"kind: %s needs %q: which orders it speaks of, sales or purchase.", kind, "of")
		}
	}
	m.Rounding = order.Rounding(orders.str("rounding"))
	m.Tolerance = order.MustNumber("0.01")
	if t := orders.get("tolerance"); t != nil {
		n, err := order.ParseNumber(t.text)
		if err != nil || n.Sign() < 0 || n.IsZero() {
			b.add(finding.MappingWrongValue, t.at, t.text, "tolerance must be a plain number from 0 on, such as 0.05.")
		}
		m.Tolerance = n
	}
	b.group(orders.get("group"), &m.Group)
	for i, level := range order.Levels {
		if p := orders.get("parts"); p != nil && p.get(string(level)) != nil {
			m.Parts[i] = b.part(p.get(string(level)))
		}
		if n := root.get(string(level)); n != nil {
			b.records, _ = m.Document.Records.(*x12.Address)
			b.each = b.records
			if m.Parts[i] != nil && m.Parts[i].Each != nil {
				b.each, _ = m.Parts[i].Each.(*x12.Address)
			}
			m.Bindings[level] = b.bindings(n, level, m.Document.Locale)
			m.Levels[i] = m.Bindings[level]
		}
	}
	b.complete(root, m)
	b.again(orders, m)
	if r := root.get("results"); r != nil {
		b.results(r, &m.Results)
	} else {
		b.results(&node{}, &m.Results)
	}
	return m
}

func (b *builder) document(n *node, d *Document) {
	d.Format = source.Format(n.str("format"))
	d.Encoding = source.Encoding(n.str("encoding"))
	d.Sheets = n.strs("sheet")
	d.Delimiter, d.Quote = b.sign(n, "delimiter"), b.sign(n, "quote")
	d.SkipHide = n.str("hidden") == "leave-out"
	d.Records = b.path(n.get("records"))
	d.Set = n.str("set")
	if d.Set != "" && !slices.Contains(x12.Sets(), d.Set) {
		b.add(finding.MappingWrongValue, n.get("set").at, d.Set, "The dictionary has no transaction set %q; it has %s.",
			d.Set, strings.Join(x12.Sets(), ", "))
	}
	if b.x12 != (d.Set != "") {
		b.add(finding.MappingWrongValue, n.at, d.Set, "format: x12 and set go together.")
	}
	if f := n.get("fixed"); f != nil {
		for _, e := range f.entries {
			a, err := x12.ParseAddress(e.key)
			if err != nil || !a.IsElement() {
				b.add(finding.MappingWrongValue, e.at, e.key, "%q is no element of X12, such as BEG/01.", e.key)
				continue
			}
			d.Fixed = append(d.Fixed, Fixed{a, e.node.text})
		}
	}
	d.Unused = b.sources(n.all("unused"))
	if h := n.get("heading"); h != nil {
		d.HeadRow, d.HeadFind, d.HeadRows = h.number("row"), h.strs("find"), h.number("rows")
		if d.HeadRow > 0 && d.HeadFind != nil {
			b.add(finding.MappingWrongValue, h.at, "", "heading takes exactly one of: row, find.")
		}
	}
	if u := n.get("until"); u != nil {
		d.BlankRows, d.UntilText = u.number("blank_rows"), u.strs("text")
	}
	if r := n.get("rows"); r != nil {
		d.First, d.Last = r.number("first"), r.number("last")
		d.LeaveOut, d.Keep = b.compile(r.get("leave_out"), true), b.compile(r.get("keep"), true)
		for _, c := range r.all("chosen") {
			x, y, ok := rowsOf(c.text)
			if !ok {
				b.add(finding.MappingWrongValue, c.at, c.text, "%q are no rows; write 12, or 20-35.", c.text)
				continue
			}
			d.Chosen = append(d.Chosen, [2]int{x, y})
		}
	}
	if l := n.get("locale"); l != nil {
		b.locale(l, &d.Locale)
	}
}

// sign reads a single ASCII character.
func (b *builder) sign(n *node, key string) string {
	s := n.str(key)
	if s == `\t` || s == "tab" {
		s = "\t"
	}
	if s != "" && (len(s) != 1 || s[0] >= 0x80 || s == "\n" || s == "\r") {
		b.add(finding.MappingWrongValue, n.get(key).at, s, "%s must be one plain character.", key)
		return ""
	}
	return s
}

func (b *builder) path(n *node) Query {
	if n == nil {
		return nil
	}
	if b.x12 {
		return b.address(n, n.text)
	}
	p, err := jsondoc.ParsePath(n.text)
	if err != nil {
		b.add(finding.MappingWrongValue, n.at, n.text, "%q is not a path of RFC 9535: %v.", n.text, err)
		return nil
	}
	return p
}

// address reads an address of X12.
func (b *builder) address(n *node, text string) Query {
	a, err := x12.ParseAddress(text)
	if err != nil {
		b.add(finding.MappingWrongValue, n.at, text, "%q is no address of X12: %v.", text, err)
		return nil
	}
	return a
}

func (b *builder) locale(n *node, l *Locale) {
	if s := n.str("decimal"); s != "" {
		l.DecimalSign = s[0]
		l.grouping = map[byte]byte{'.': ',', ',': '.'}[s[0]]
	}
	if s := n.str("grouping"); s == "none" {
		l.grouping = 0
	} else if s != "" {
		l.grouping = s[0]
	}
	if g := n.get("grouping"); g != nil && l.grouping == l.DecimalSign {
		b.add(finding.MappingWrongValue, g.at, g.text, "grouping and decimal cannot be the same sign.")
	}
	if dates := n.all("dates"); dates != nil {
		l.Dates = nil
		for _, d := range dates {
			form, err := parseDateForm(d.text)
			if err != nil {
				b.add(finding.MappingWrongValue, d.at, d.text, "%q is not a form of a date: %v.", d.text, err)
				continue
			}
			l.Dates = append(l.Dates, form)
		}
	}
	if z := n.get("zone"); z != nil {
		zone, err := time.LoadLocation(z.text)
		if err != nil || z.text == "Local" {
			b.add(finding.MappingWrongValue, z.at, z.text, "%q is not a time zone; write one such as Europe/Oslo.",
				z.text)
		}
		l.zone = zone
	}
	if yes := n.strs("yes"); yes != nil {
		l.yes = yes
	}
	if no := n.strs("no"); no != nil {
		l.no = no
	}
}

// groupKeys says with which groupings a word of group goes, and which need it.
var groupKeys = map[string]struct{ with, needed string }{
	"columns": {"key opener gap rowkind", "key"},
	"blanks":  {"key", ""}, "rows": {"key", ""},
	"when":  {"opener", ""},
	"kinds": {"rowkind", "rowkind"}, "kind": {"rowkind", "rowkind"},
	"count": {"count", "count"}, "opener": {"form", "form"}, "path": {"path set", ""},
	"headers": {"join", "join"}, "lines": {"join", "join"},
}

func (b *builder) group(n *node, g *Grouping) {
	g.By, g.At = n.str("by"), n.at
	for _, k := range grammar.under("orders", "group").keys[1:] {
		v, use := n.get(k.name), groupKeys[k.name]
		switch {
		case v != nil && !slices.Contains(strings.Fields(use.with), g.By):
			b.add(finding.MappingWrongValue, v.at, v.text, "%s goes with by: %s only.", k.name,
				strings.ReplaceAll(use.with, " ", ", "))
		case v == nil && slices.Contains(strings.Fields(use.needed), g.By):
			b.add(finding.MappingMissingKey, n.at, "", "group by %s needs %q: %s.", g.By, k.name, k.shape.about)
		}
	}
	if b.x12 != (g.By == "set") {
		b.add(finding.MappingWrongValue, n.at, g.By, "group by: set goes with format: x12, and only with it.")
	}
	if g.By == "set" { // a transaction set is a record, as a value of JSON is
		g.By = "path"
	}
	g.Columns = b.sources(n.all("columns"))
	g.Break, g.Anywhere = n.str("blanks") == "break", n.str("rows") == "anywhere"
	g.When = b.compile(n.get("when"), true)
	if g.By == "opener" && g.Columns == nil && g.When == nil {
		b.add(finding.MappingMissingKey, n.at, "", "group by opener needs %q or %q: what opens an order.", "columns",
			"when")
	}
	if k := n.get("kind"); k != nil {
		s := b.source(k, k.text)
		g.Kind = &s
	}
	if k := n.get("kinds"); k != nil {
		g.Kinds = map[string]string{}
		for _, e := range k.entries {
			g.Kinds[list.Fold(e.key)] = e.node.text
			g.Words = append(g.Words, e.key)
		}
	}
	g.Count, g.Opener = n.number("count"), n.str("opener")
	if p := n.get("path"); p != nil {
		if b.m.Document.Records != nil {
			b.add(finding.MappingWrongValue, p.at, p.text,
				"path and document.records both say which values count; take one of them out.")
		}
		b.m.Document.Records = b.path(p)
	}
	for key, j := range map[string]*Joined{"headers": &g.Headers, "lines": &g.Lines} {
		if v := n.get(key); v != nil {
			*j = Joined{v.str("sheet"), b.sources(v.all("columns"))}
		}
	}
	if len(g.Headers.Columns) != len(g.Lines.Columns) {
		b.add(finding.MappingWrongValue, n.at, "",
			"headers and lines must name as many columns as each other: they are compared one by one.")
	}
}

// under gives the shape of a word within a word of the grammar.
func (s *shape) under(words ...string) *shape {
	for _, w := range words {
		i := slices.IndexFunc(s.keys, func(k key) bool { return k.name == w })
		s = s.keys[i].shape
	}
	return s
}

func (b *builder) part(n *node) *Part {
	p := &Part{Each: b.path(n.get("each")), Across: n.str("across"), When: b.compile(n.get("when"), true),
		Next: n.str("begin") == "next"}
	columns := n.all("columns")
	if (p.Across == "matrix") != (columns != nil) {
		b.add(finding.MappingWrongValue, n.at, "", "across: matrix and columns go together.")
	}
	if len(columns) == 1 && strings.HasPrefix(columns[0].text, "@") && strings.Contains(columns[0].text, "-") {
		first, last, _ := strings.Cut(columns[0].text, "-")
		p.Range = [2]int{origin.ColumnNumber(strings.TrimPrefix(strings.TrimSpace(first), "@")),
			origin.ColumnNumber(strings.TrimPrefix(strings.TrimSpace(last), "@"))}
		if p.Range[0] == 0 || p.Range[1] < p.Range[0] {
			b.add(finding.MappingWrongValue, columns[0].at, columns[0].text, "%q are no columns; write @F-@M.",
				columns[0].text)
		}
		return p
	}
	p.Matrix = b.sources(columns)
	return p
}

func (b *builder) sources(nodes []*node) []Source {
	var all []Source
	for _, n := range nodes {
		all = append(all, b.source(n, n.text))
	}
	return all
}

// source understands one word of from.
func (b *builder) source(n *node, text string) Source {
	s := Source{Text: text, Folded: list.Fold(text), Number: strings.Contains(text, "{n}")}
	switch {
	case b.x12:
		s.Kind = ByPath
		if a, ok := b.address(n, text).(*x12.Address); ok {
			s.Path, s.Full = a.Within(b.each), a
		}
	case text == "{heading}":
		s.Kind = ByMatrixHeading
	case text == "{cell}":
		s.Kind = ByMatrixCell
	case text == "{sheet}":
		s.Kind = BySheet
	case text == "$" || strings.HasPrefix(text, "$.") || strings.HasPrefix(text, "$["):
		s.Kind = ByPath
		p, err := jsondoc.ParsePath(text)
		if err != nil {
			b.add(finding.MappingWrongValue, n.at, text, "%q is not a path of RFC 9535: %v.", text, err)
		} else {
			s.Path = p
		}
	case strings.HasPrefix(text, "@"):
		s.Kind = ByColumn
		if s.Column = origin.ColumnNumber(text[1:]); s.Column == 0 {
			b.add(finding.MappingWrongValue, n.at, text, "%q is not a column; write @A to @XFD.", text)
		}
	default:
		s.Path = jsondoc.Name(text)
	}
	return s
}

var cellPattern = regexp.MustCompile(`^\$?([A-Za-z]{1,3})\$?([1-9][0-9]{0,6})$`)

func (b *builder) bindings(n *node, level order.Level, doc Locale) []Binding {
	var all []Binding
	for _, e := range n.entries {
		f, ok := order.LookupOf(string(b.m.Kind), level, e.key)
		if !ok {
			b.add(finding.MappingUnknownKey, e.at, e.key, "%s is no field of kind: %s.", e.key, b.m.Kind)
			continue
		}
		all = append(all, b.binding(e, f, doc))
	}
	return all
}

func (b *builder) binding(e entry, f order.Field, doc Locale) Binding {
	v := e.node
	if within := b.each; within != nil && v.get("of") != nil {
		if b.each = nil; v.str("of") == "order" {
			b.each = b.records
		}
		defer func() { b.each = within }()
	}
	bind := Binding{
		Field: f, From: b.sources(v.all("from")), Value: v.str("value"), Default: v.str("default"),
		Need: Need(v.str("need")), Of: v.str("of"),
		Repeat: v.str("repeat"), Beside: v.str("beside"), Expr: b.compile(v.get("expr"), false),
		When:      b.compile(v.get("when"), true),
		Crosswalk: v.str("crosswalk"), Others: v.str("others") == "keep", List: v.str("list"), Keys: v.strs("by"),
		Near: v.number("near"), Give: v.str("give"), Suffix: v.str("suffix"),
		Write: b.compile(v.get("write"), false), Result: b.resultOf(v.get("result")),
		Compare: v.str("check") != "false", Locale: doc, At: e.at,
	}
	b.m.Computes = b.m.Computes || bind.Expr != nil || bind.When != nil || bind.Write != nil
	b.m.wide = b.m.wide || bind.Of == "parent" || bind.Of == "document"
	for _, w := range v.strs("row") {
		bind.Rows = append(bind.Rows, list.Fold(w))
	}
	if bind.Need == "" {
		bind.Need = May
	}
	if c := v.get("cell"); c != nil {
		m := cellPattern.FindStringSubmatch(c.text)
		if m == nil || origin.ColumnNumber(m[1]) == 0 {
			b.add(finding.MappingWrongValue, c.at, c.text, "%q is not a cell; write one such as B3.", c.text)
		} else {
			row, _ := strconv.Atoi(m[2])
			bind.From = append(bind.From, Source{Text: c.text, Kind: ByCell, Column: origin.ColumnNumber(m[1]),
				Row: row})
			b.m.Beside = true
		}
	}
	for _, l := range v.all("label") {
		bind.From = append(bind.From, Source{Text: l.text, Kind: ByLabel,
			Folded: strings.TrimRight(list.Fold(l.text), ": ")})
		b.m.Beside = true
	}
	if t := v.get("type"); t != nil {
		if !strings.HasPrefix(e.key, "custom.") {
			b.add(finding.MappingWrongValue, t.at, t.text, "type goes with custom fields only; %s is a %s.", e.key,
				f.Type)
		} else {
			bind.Field.Type = order.Type(t.text)
		}
	}
	b.locale(v, &bind.Locale)
	for i := 1; i < len(bind.Locale.Dates) && bind.Field.Type == order.Day; i++ {
		if bind.Locale.Dates[i].swapped(bind.Locale.Dates[i-1]) {
			bind.Swapped, b.m.swaps = i, true
		}
	}
	value := v.get("value")
	switch given := v.get("from") != nil || v.get("cell") != nil || v.get("label") != nil || bind.Expr != nil ||
		bind.Result.Step != ""; {
	case !given && value == nil:
		b.add(finding.MappingMissingKey, e.at, "",
			"%s needs from (a column, a path, an element), cell, label, expr or result, or value (the same for all).",
			e.key)
	case v.get("from") != nil && value != nil:
		b.add(finding.MappingWrongValue, value.at, value.text,
			"%s has both from and value; take one of them out, or say default instead of value.", e.key)
	case given && value != nil:
		b.add(finding.MappingWrongValue, value.at, value.text,
			"%s has a value and something else that gives one; take one of them out.", e.key)
	}
	for _, k := range binding.keys {
		types, limited := bindingKeysFor[k.name]
		if at := v.get(k.name); limited && at != nil && !slices.Contains(strings.Fields(types),
			string(bind.Field.Type)) {
			b.add(finding.MappingWrongValue, at.at, at.text, "%s does not go with %s, which is a %s.", k.name, e.key,
				bind.Field.Type)
		}
	}
	if k := v.get("others"); k != nil && bind.Crosswalk == "" {
		b.add(finding.MappingWrongValue, k.at, k.text, "others goes with crosswalk only.")
	}
	for _, key := range []string{"by", "near", "give"} {
		if k := v.get(key); k != nil && bind.List == "" {
			b.add(finding.MappingWrongValue, k.at, k.text, "%s goes with list only.", key)
		}
	}
	if k := v.get("repeat"); k != nil && f.Level != order.Header && k.text != "join" {
		b.add(finding.MappingWrongValue, k.at, k.text, "repeat goes with header fields only.")
	}
	if k := v.get("check"); k != nil && !f.IsStated() {
		b.add(finding.MappingWrongValue, k.at, k.text, "check goes with amount and total only.")
	}
	if k := v.get("row"); k != nil && b.m.Group.By != "rowkind" {
		b.add(finding.MappingWrongValue, k.at, k.text, "row goes with group by rowkind only.")
	}
	for _, w := range bind.Rows {
		if b.m.Group.Kinds != nil && b.m.Group.Kinds[w] == "" {
			b.add(finding.MappingWrongValue, v.get("row").at, w, "orders.group.kinds has no kind %q.", w)
		}
	}
	return bind
}

// bindingKeysFor says with which types of field a word of a binding makes sense.
var bindingKeysFor = map[string]string{
	"dates":     "date",
	"zone":      "date",
	"decimal":   "decimal percent",
	"grouping":  "decimal percent",
	"suffix":    "decimal",
	"yes":       "boolean",
	"no":        "boolean",
	"list":      "text code unit currency",
	"crosswalk": "text code unit currency choice boolean",
}

// ResultWords are what results can give besides fields of the order.
var ResultWords = []string{"outcome", "number", "message", "warnings", "line", "line_id"}

func (b *builder) results(n *node, r *Results) {
	for i, what := range ResultWords {
		if i < 3 || n.get(what) != nil {
			r.Columns = append(r.Columns, ResultColumn{what, b.letter(n, what)})
		}
	}
	if f := n.get("fields"); f != nil {
		for _, e := range f.entries {
			if !order.IsResult(e.key) {
				b.add(finding.MappingUnknownKey, e.at, e.key,
					"%q is no field of an order; those of lines are written lines.amount.", e.key)
			}
			r.Columns = append(r.Columns, ResultColumn{e.key, b.letter(f, e.key)})
		}
	}
	r.Overwrite = n.str("overwrite") == "true"
	used := map[int]string{}
	for _, c := range r.Columns {
		if c.Column > 0 && used[c.Column] != "" {
			b.add(finding.MappingWrongValue, n.at, c.What, "results: %s and %s are given the same column.",
				used[c.Column], c.What)
		}
		used[c.Column] = c.What
	}
}

func (b *builder) letter(n *node, key string) int {
	s := n.str(key)
	if s == "" {
		return 0
	}
	column := origin.ColumnNumber(s)
	if column == 0 {
		b.add(finding.MappingWrongValue, n.get(key).at, s, "%q is not a column; write A to XFD.", s)
	}
	return column
}

// Result names a value that an earlier step of a sequence gave: the step, and
// the field of the order that it made of the same row.
type Result struct {
	Step  string
	Field string // order.ResultValue knows its names
}

var resultPattern = regexp.MustCompile(`^([a-z0-9][a-z0-9-]{0,63})\.(.+)$`)

func (b *builder) resultOf(n *node) Result {
	if n == nil {
		return Result{}
	}
	m := resultPattern.FindStringSubmatch(n.text)
	if m == nil || !order.IsResult(m[2]) {
		b.add(finding.MappingWrongValue, n.at, n.text, "%q is not a result; write step.field, such as purchase.number.",
			n.text)
		return Result{Step: n.text}
	}
	b.m.Needs = append(b.m.Needs, m[1])
	return Result{m[1], m[2]}
}
