package mapping

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/source"
)

// Mapping is a parsed mapping. It does not change after Parse and may be used
// by several goroutines.
type Mapping struct {
	Name      string
	About     string
	Text      string // the YAML it was parsed from
	Document  Document
	Kind      order.Kind
	Group     Grouping
	Tolerance order.Number
	Rounding  order.Rounding
	Header    []Binding
	Lines     []Binding
	Results   Results
}

// Document is what a mapping says of the document's outer form.
type Document struct {
	Format    source.Format
	Encoding  source.Encoding
	Delimiter string
	Quote     string
	Sheet     string // pattern; "" is the first visible sheet
	HeadRow   int    // 0 is not stated
	HeadFind  []string
	BlankRows int // 0 reads to the end
	UntilText []string
	locale    locale
}

// Options is what the reader of the document must know.
func (d *Document) Options(limits source.Limits) source.Options {
	opt := source.Options{Format: d.Format, Encoding: d.Encoding, Delimiter: d.Delimiter, Quote: d.Quote, Limits: limits}
	if d.Sheet != "" {
		opt.Sheets = func(name string) bool { return match(d.Sheet, name) }
	}
	return opt
}

// Grouping says which rows make one order.
type Grouping struct {
	By       string // key or opener
	Columns  []string
	Break    bool // a blank key breaks the order instead of continuing it
	Anywhere bool // rows of one key need not be adjacent
	at       finding.Place
}

// Need is how much a field is needed, in the words of RFC 2119.
type Need string

const (
	Must   Need = "must"
	Should Need = "should"
	May    Need = "may"
)

// Binding says where one field gets its value.
type Binding struct {
	Field     order.Field
	From      string // heading or @C; "" where Value is set
	Value     string
	Default   string
	Need      Need
	Crosswalk string
	List      string
	Compare   bool // a stated amount or total is compared with ours
	locale    locale
	at        finding.Place // of the binding in the mapping
}

// Results names the columns of the marked-up copy, counted from 1; 0 is "the
// first free ones at the right".
type Results struct {
	Outcome, Number, Message int
}

// Parse reads a mapping. Where it is wrong in any way the error is a
// finding.All with everything that is wrong, each at its line and column.
func Parse(src []byte) (*Mapping, error) {
	root, bad := readYAML(src)
	if bad != nil {
		return nil, finding.All{*bad}
	}
	var m mistakes
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
type builder struct{ *mistakes }

func (n *node) str(key string) string {
	if v := n.get(key); v != nil {
		return v.text
	}
	return ""
}

func (n *node) strs(key string) []string {
	v := n.get(key)
	if v == nil {
		return nil
	}
	if v.scalar {
		return []string{v.text}
	}
	var list []string
	for _, item := range v.items {
		list = append(list, item.text)
	}
	return list
}

var namePattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)

func (b *builder) mapping(root *node) *Mapping {
	m := &Mapping{Name: root.str("name"), About: root.str("about")}
	if !namePattern.MatchString(m.Name) {
		b.add(finding.MappingWrongValue, root.get("name").at, m.Name, "name must be of small letters, digits and hyphens, at most 64.")
	}
	m.Document.locale = locale{decimal: '.', grouping: ','}
	if d := root.get("document"); d != nil {
		b.document(d, &m.Document)
	}
	orders := root.get("orders")
	m.Kind = order.Kind(orders.str("kind"))
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
	m.Header = b.bindings(root.get("header"), order.Header, m.Document.locale)
	m.Lines = b.bindings(root.get("lines"), order.Lines, m.Document.locale)
	b.complete(root, m)
	if r := root.get("results"); r != nil {
		m.Results = Results{b.letter(r, "outcome"), b.letter(r, "number"), b.letter(r, "message")}
	}
	return m
}

func (b *builder) document(n *node, d *Document) {
	d.Format = source.Format(n.str("format"))
	d.Encoding = source.Encoding(n.str("encoding"))
	d.Sheet = n.str("sheet")
	d.Delimiter, d.Quote = b.sign(n, "delimiter"), b.sign(n, "quote")
	if h := n.get("heading"); h != nil {
		d.HeadRow, _ = strconv.Atoi(h.str("row"))
		d.HeadFind = h.strs("find")
	}
	if u := n.get("until"); u != nil {
		d.BlankRows, _ = strconv.Atoi(u.str("blank_rows"))
		d.UntilText = u.strs("text")
	}
	if l := n.get("locale"); l != nil {
		b.locale(l, &d.locale)
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

func (b *builder) locale(n *node, l *locale) {
	if s := n.str("decimal"); s != "" {
		l.decimal = s[0]
		l.grouping = map[byte]byte{'.': ',', ',': '.'}[s[0]]
	}
	if s := n.str("grouping"); s == "none" {
		l.grouping = 0
	} else if s != "" {
		l.grouping = s[0]
	}
	if g := n.get("grouping"); g != nil && l.grouping == l.decimal {
		b.add(finding.MappingWrongValue, g.at, g.text, "grouping and decimal cannot be the same sign.")
	}
	if d := n.get("dates"); d != nil {
		l.dates = nil
		for i, s := range n.strs("dates") {
			form, err := parseDateForm(s)
			if err != nil {
				at := d.at
				if d.isList {
					at = d.items[i].at
				}
				b.add(finding.MappingWrongValue, at, s, "%q is not a form of a date: %v.", s, err)
				continue
			}
			l.dates = append(l.dates, form)
		}
	}
}

func (b *builder) group(n *node, g *Grouping) {
	g.By, g.Columns, g.at = n.str("by"), n.strs("columns"), n.at
	g.Break, g.Anywhere = n.str("blanks") == "break", n.str("rows") == "anywhere"
	for _, only := range []string{"blanks", "rows"} {
		if v := n.get(only); v != nil && g.By != "key" {
			b.add(finding.MappingWrongValue, v.at, v.text, "%s goes with by: key only.", only)
		}
	}
}

func (b *builder) bindings(n *node, level order.Level, doc locale) []Binding {
	var all []Binding
	for _, e := range n.entries {
		f, _ := order.Lookup(level, e.key)
		v := e.node
		bind := Binding{
			Field: f, From: v.str("from"), Value: v.str("value"), Default: v.str("default"), Need: Need(v.str("need")),
			Crosswalk: v.str("crosswalk"), List: v.str("list"), Compare: v.str("check") != "false", locale: doc, at: e.at,
		}
		if bind.Need == "" {
			bind.Need = May
		}
		b.locale(v, &bind.locale)
		switch from, value := v.get("from"), v.get("value"); {
		case from == nil && value == nil:
			b.add(finding.MappingMissingKey, e.at, "", "%s needs from (a column) or value (the same for all).", e.key)
		case from != nil && value != nil:
			b.add(finding.MappingWrongValue, value.at, value.text, "%s has both from and value; take one of them out, or say default instead of value.", e.key)
		case from != nil && strings.HasPrefix(bind.From, "@") && finding.ColumnNumber(bind.From[1:]) == 0:
			b.add(finding.MappingWrongValue, from.at, bind.From, "%q is not a column; write @A to @XFD.", bind.From)
		}
		for key, types := range bindingKeysFor {
			if k := v.get(key); k != nil && !strings.Contains(types, string(f.Type)) {
				b.add(finding.MappingWrongValue, k.at, k.text, "%s does not go with %s, which is a %s.", key, e.key, f.Type)
			}
		}
		if k := v.get("check"); k != nil && !f.IsStated() {
			b.add(finding.MappingWrongValue, k.at, k.text, "check goes with amount and total only.")
		}
		all = append(all, bind)
	}
	return all
}

// bindingKeysFor says with which types of field a word of a binding makes sense.
var bindingKeysFor = map[string]string{
	"dates":     "date",
	"decimal":   "decimal percent",
	"grouping":  "decimal percent",
	"list":      "text code unit currency",
	"crosswalk": "text code unit currency choice",
}

// complete checks that the fields without which an order makes no sense are bound.
func (b *builder) complete(root *node, m *Mapping) {
	bound := func(all []Binding, name string) *Binding {
		for i := range all {
			if all[i].Field.Name == name {
				return &all[i]
			}
		}
		return nil
	}
	for _, level := range []struct {
		name order.Level
		all  []Binding
	}{{order.Header, m.Header}, {order.Lines, m.Lines}} {
		for _, f := range order.AllFields(level.name) {
			if !f.Must {
				continue
			}
			if bind := bound(level.all, f.Name); bind == nil {
				b.add(finding.MappingMissingKey, root.get(string(level.name)).at, "", "%s needs %q: %s.", level.name, f.Name, f.About)
			} else {
				bind.Need = Must
			}
		}
	}
	for _, name := range []string{"item", "buyer_item", "supplier_item", "gtin", "description"} {
		if bound(m.Lines, name) != nil {
			return
		}
	}
	b.add(finding.MappingMissingKey, root.get("lines").at, "", "lines needs one of item, buyer_item, supplier_item, gtin, description: what is ordered.")
}

func (b *builder) letter(n *node, key string) int {
	s := n.str(key)
	if s == "" {
		return 0
	}
	column := finding.ColumnNumber(s)
	if column == 0 {
		b.add(finding.MappingWrongValue, n.get(key).at, s, "%q is not a column; write A to XFD.", s)
	}
	return column
}

// Missing lists the lists and crosswalks that the mapping names and set does not have.
func (m *Mapping) Missing(set *list.Set) finding.All {
	var all finding.All
	for _, b := range append(append([]Binding{}, m.Header...), m.Lines...) {
		if b.List != "" && set.Lists[b.List] == nil {
			all = append(all, finding.New(finding.ListMissing, b.at, b.List, "%s asks the list %q, which has not been imported.", b.Field.Name, b.List))
		}
		if b.Crosswalk != "" && set.Crosswalks[b.Crosswalk] == nil {
			all = append(all, finding.New(finding.ListMissing, b.at, b.Crosswalk, "%s asks the crosswalk %q, which has not been imported.", b.Field.Name, b.Crosswalk))
		}
	}
	return all
}

// Describe says in a sentence what the mapping makes of a document.
func (m *Mapping) Describe() string {
	return fmt.Sprintf("%s orders, grouped by %s of %s, %d header and %d line fields bound",
		m.Kind, m.Group.By, strings.Join(m.Group.Columns, " + "), len(m.Header), len(m.Lines))
}

// match compares a name with a pattern in which * stands for any letters;
// letter case and outer space aside.
func match(pattern, name string) bool {
	parts := strings.Split(list.Fold(pattern), "*")
	rest := list.Fold(name)
	for i, part := range parts {
		switch {
		case i == len(parts)-1 && i > 0:
			return strings.HasSuffix(rest, part)
		case i == 0:
			if !strings.HasPrefix(rest, part) {
				return false
			}
			rest = rest[len(part):]
		default:
			at := strings.Index(rest, part)
			if at < 0 {
				return false
			}
			rest = rest[at+len(part):]
		}
	}
	return rest == ""
}
