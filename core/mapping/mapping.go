package mapping

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/jsondoc"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/tree"
	"koinos/core/x12"
)

// Mapping is a parsed mapping. It does not change after Parse and may be used
// by several goroutines.
type Mapping struct {
	Name     string
	About    string
	Text     string // the YAML it was parsed from
	Document Document
	Kind     intent.Kind // what its records are
	// sales or purchase: of the orders, or of those that its notices are about; notices of X12 may leave it open
	Of        order.Kind
	Group     Grouping
	Tolerance order.Number
	Over      order.Number // per cent more than was ordered that may move
	Rounding  order.Rounding
	Bindings  map[order.Level][]Binding
	Results   Results
	Again     Again
	Holds     []string                          // codes of warnings that hold an order; "all" is every one
	LeaveOut  *Expr                             // of orders that are passed over, asked of their first row
	KindBy    *KindBy                           // where a value says of which kind an order is; nil is nowhere
	Rules     []Rule                            // of the user's own
	Weighs    map[finding.Code]finding.Severity // "" is that nothing is said
	ByHand    [2]float64                        // minutes for an order and for each of its lines
	Levels    [5][]Binding                      // Bindings by the index of order.Levels
	Parts     [5]*Part                          // by the same index; nil where the mapping says nothing of the level
	Needs     []string                          // steps of a sequence whose results it takes
	Computes  bool                              // an expression stands somewhere
	wide      bool                              // bindings ask for the objects around the records
	swaps     bool                              // two forms of a date differ in day and month only
	Beside    bool                              // cells or labels are asked

	// FromSeller says that the records are from the point of view of the orders' seller, and that we are the buyer:
	// notices of X12 that a supplier sends.
	FromSeller bool
}

// indexes of the levels in order.Levels
const (
	InHeader = iota
	InLines
	InParties
	InCharges
	InDeliveries
)

// Document is what a mapping says about the document's outer form.
type Document struct {
	Format    source.Format
	Encoding  source.Encoding
	Delimiter string
	Quote     string
	RecordEnd string
	Release   string
	Positions []source.Position
	Sheets    []string // patterns or numbers; none is the first visible one
	Records   Query    // nil is found out
	Set       string   // of X12: the transaction set that is read and written
	Fixed     []Fixed
	HeadRow   int // 0 is not stated
	HeadFind  []string
	HeadRows  int      // rows that the heading takes
	Headless  bool     // there is no heading row
	Repeats   bool     // page heads and headings stand again further down
	Carried   []Source // columns that are written only where they change
	Unknown   bool     // of columns that nothing uses it is said
	BlankRows int      // 0 reads to the end
	UntilText []string
	SkipHide  bool // hidden rows are left out
	First     int  // first row of the table that counts; 0 is not stated
	Last      int
	Chosen    [][2]int // first and last of the rows that alone count
	Asked     [][2]int // the same, as asked for one load
	LeaveOut  *Expr
	Keep      *Expr
	Unused    []Source // columns that are left out on purpose
	Refuse    bool     // a document that is broken is refused as a whole
	Totals    *Totals  // that it states of itself; nil is none
	Locale    Locale
}

// CutsText reports whether the mapping says how lines of text are cut into cells. Where it does not, the document shows
// it.
func (d *Document) CutsText() bool {
	return d.Positions != nil || d.Delimiter != "" || d.Quote != "" || d.RecordEnd != "" || d.Release != "" || d.Encoding != ""
}

// Totals are counts and sums that a document states about itself.
type Totals struct {
	When   *Expr     // the row on which they stand; nil is that they stand around the orders
	Warn   bool      // a difference is a warning, else the document is refused
	Values []Binding // by their fields' names, which are those of TotalNames
}

// Refuses reports whether something about a document as a whole may refuse it.
func (m *Mapping) Refuses() bool {
	return m.Document.Refuse || m.Document.Totals != nil && !m.Document.Totals.Warn ||
		slices.ContainsFunc(m.Rules, func(r Rule) bool { return r.Of == "document" && r.Severity == finding.Error })
}

// Options is what the reader of the document must know.
func (m *Mapping) Options(limits source.Limits) source.Options {
	d := &m.Document
	opt := source.Options{Format: d.Format, Encoding: d.Encoding, Delimiter: d.Delimiter, Quote: d.Quote,
		RecordEnd: d.RecordEnd, Release: d.Release, Positions: d.Positions, Limits: limits, Set: d.Set, Around: m.wide,
		Visible: d.SkipHide}
	switch records := d.Records.(type) {
	case *jsondoc.Path:
		opt.Records = []*jsondoc.Path{records}
	case *x12.Address:
		opt.Loops, opt.Same = records, m.Group.Same
	}
	opt.Parts = m.setParts()
	sheets := d.Sheets
	if g := &m.Group; g.Headers.Path != nil && g.Lines.Path != nil {
		opt.Records = []*jsondoc.Path{g.Headers.Path, g.Lines.Path}
	} else if g.By == "join" {
		sheets = []string{g.Headers.Sheet, g.Lines.Sheet}
	}
	if len(sheets) > 0 {
		opt.Sheets = func(number int, name string) bool {
			for _, s := range sheets {
				if IsSheet(s, number, name) {
					return true
				}
			}
			return false
		}
	}
	return opt
}

// IsSheet reports whether a pattern means the sheet with a number, counted from 1, and a name.
func IsSheet(pattern string, number int, name string) bool {
	return Match(pattern, name) || pattern == fmt.Sprint(number)
}

// Grouping says which rows make one order.
type Grouping struct {
	By       string // one of groupings
	Columns  []Source
	Break    bool // key: a blank key breaks the order instead of continuing it
	Anywhere bool // key: rows of one key need not be adjacent
	When     *Expr
	Kind     *Source           // rowkind: the column that says what a row is
	Kinds    map[string]string // rowkind: the partner's word, folded, and what it means
	Words    []string          // rowkind: the words as the mapping writes them
	Count    int
	Fold     bool // keys that differ only in letter case are one
	Opener   string
	Same     []*x12.Address // set: loops in which these are the same are one order
	// set: elements of a line that name its order, where the set itself names none
	LineNames []*x12.Address
	Headers   Joined
	Lines     Joined
	At        origin.Place
}

// KindBy says which value decides whether an order is a sales or a purchase order.
type KindBy struct {
	Source Source
	Kinds  map[string]order.Kind // by folded value
}

// Joined is one side of a join: a sheet, or the values of JSON that a path chooses.
type Joined struct {
	Sheet   string
	Path    *jsondoc.Path
	Columns []Source
}

func (j *Joined) String() string {
	if j.Path != nil {
		return j.Path.String()
	}
	return "sheet " + j.Sheet
}

// Heads reports whether records of a sheet, or of a part of a JSON document (source.Record.Part), are the headers of a
// join.
func (g *Grouping) Heads(sheet string, part int) bool {
	return part == 1 || part == 0 && IsSheet(g.Headers.Sheet, 0, sheet)
}

// Key is a value of a key column in the form in which it is compared with others.
func (g *Grouping) Key(text string) string {
	if g.Fold {
		return list.Fold(text)
	}
	return source.Trim(text)
}

// Whole reports whether an order is made of all rows of a sheet, a file or a form, so that its cells and labels may
// stand anywhere around its lines.
func (g *Grouping) Whole() bool { return g.By == "sheet" || g.By == "file" || g.By == "form" }

// Need is how much a field is needed, in the words of RFC 2119.
type Need string

const (
	Must   Need = "must"
	Should Need = "should"
	May    Need = "may"
)

// SourceKind says how a Source is found.
type SourceKind uint8

const (
	ByHeading       SourceKind = iota // a column by its heading; a member by its name in JSON
	ByColumn                          // a column by its letter
	ByPath                            // a value by its path
	ByCell                            // a fixed cell
	ByLabel                           // the cell beside a label
	ByMatrixHeading                   // the heading of the matrix's column
	ByMatrixCell                      // the cell of the matrix's column
	BySheet                           // the sheet's name
	ByName                            // in JSON, the name of the member that the record or the line is
)

// Query finds values in a tree: a path of JSON, or an address of X12.
type Query interface {
	First(*tree.Node) *tree.Node
	All(*tree.Node) []*tree.Node
	Append(found []*tree.Node, root *tree.Node) []*tree.Node
	Pointer() string
	String() string
}

// Fixed is an element of X12 that is always written with the same value.
type Fixed struct {
	At    *x12.Address
	Value string
}

// Source is one place of a document that a mapping names.
type Source struct {
	Text   string
	Kind   SourceKind
	Column int // ByColumn and ByCell, counted from 1
	Row    int // ByCell
	Path   Query
	Full   *x12.Address // X12: path as it is from the set on
	// Outside says of an address of X12 that it leads out of the loop that is asked, into the set around it.
	Outside bool
	Folded  string // the heading as headings are compared
	Number  bool   // {n} stands in the heading
}

// Many reports whether the source is a path of JSON, or an address of X12, that can lead to several values.
func (s Source) Many() bool {
	switch p := s.Path.(type) {
	case *jsondoc.Path:
		return p != nil && !p.Single()
	case *x12.Address:
		return p != nil && p.IsElement() && !p.Single()
	}
	return false
}

// Binding says where one field gets its value.
type Binding struct {
	Field     order.Field
	From      []Source // of several the first that has a value
	Value     string
	Default   string
	Need      Need
	Of        string   // "", order, parent or document
	Rows      []string // by rowkind: words of the rows that are asked, folded
	Repeat    string   // agree, first, last, join, sum
	Separator string   // of join, between texts
	Beside    string   // "", right or below
	Expr      *Expr
	When      *Expr
	Crosswalk string
	// UnitCrosswalk is used for the word behind a number that suffix: unit takes as the unit.
	UnitCrosswalk string
	Others        bool // what the crosswalk does not have is taken as it is
	List          string
	Keys          []string // of the list
	Near          int
	Fold          bool // letter case does not count
	Give          string
	Suffix        string
	Write         *Expr
	Result        Result // in a sequence: what an earlier step gave
	Bounds        *Bounds
	Compare       bool // a stated amount or total is compared with ours
	Locale        Locale
	Swapped       int          // index of the date form that is the one before it with day and month exchanged; 0 is none
	At            origin.Place // of the binding in the mapping
}

// Again is what a second arrival of a stored order means.
type Again struct {
	Do      string // refuse, skip, update, revise
	Arrival order.Arrival
	Newer   order.Field // revise: the date that says which is newer
}

// ResultColumn is a column of the marked-up copy and its content: outcome, number, message, warnings, line, line_id, or
// the name of a field.
type ResultColumn struct {
	What   string
	Column int // counted from 1; 0 is "the first free one at the right"
}

// Results are the columns of the marked-up copy.
type Results struct {
	Columns   []ResultColumn
	Overwrite bool
}

// Asked are the options of one load that change what the mapping says.
type Asked struct {
	Rows     []string // 12, 20-35, 40-
	Sheets   []string
	Defaults map[string]string // by field of the header, or lines.field
	Of       order.Kind        // of the orders that notices are about, where the mapping leaves it open
	Withdraw bool              // the orders are not wanted any more
	Encoding source.Encoding   // where the mapping states none
}

// naming are the fields of the header that identify the order.
var naming = []string{"number", "sender_number", "partner"}

// withdrawn reads nothing of an order except which one it is.
func (m *Mapping) withdrawn() {
	m.Kind = intent.Withdrawal
	var header []Binding
	for _, b := range m.Levels[InHeader] {
		if slices.Contains(naming, b.Field.Name) {
			header = append(header, b)
		}
	}
	for i := range m.Levels {
		m.Levels[i] = nil
	}
	m.Levels[InHeader] = header
}

// With returns the mapping, changed by what was asked.
func (m *Mapping) With(a Asked) (*Mapping, error) {
	open := m.Of == "" && a.Of != ""
	if len(a.Rows)+len(a.Sheets)+len(a.Defaults) == 0 && !open && !a.Withdraw && a.Encoding == "" {
		return m, nil
	}
	out := *m
	if a.Withdraw && m.Kind != intent.Order {
		return nil, finding.All{finding.New(finding.MappingWrongValue, origin.Place{}, m.Name,
			"The records of %s are %s: only orders can be withdrawn.", m.Name, m.records())}
	}
	if a.Withdraw {
		out.withdrawn()
	}
	out.Document.Encoding = cmp.Or(out.Document.Encoding, a.Encoding)
	if open {
		out.side(a.Of)
	}
	var all finding.All
	for _, text := range a.Rows {
		first, last, ok := rowsOf(text)
		if !ok {
			all = append(all, finding.New(finding.MappingWrongValue, origin.Place{}, text,
				"%q are no rows; write 12, 20-35 or 40-.", text))
			continue
		}
		out.Document.Asked = append(out.Document.Asked, [2]int{first, last})
	}
	if len(a.Sheets) > 0 {
		out.Document.Sheets = a.Sheets
	}
	for _, name := range slices.Sorted(maps.Keys(a.Defaults)) {
		level, field := InHeader, name
		if rest, ok := strings.CutPrefix(name, "lines."); ok {
			level, field = InLines, rest
		}
		f, ok := order.LookupOf(string(m.Kind), order.Levels[level], field)
		if !ok {
			all = append(all, finding.New(finding.MappingUnknownKey, origin.Place{}, name,
				"%q is no field of an order; those of lines are written lines.unit.", name))
			continue
		}
		bindings := slices.Clone(out.Levels[level])
		if i := slices.IndexFunc(bindings, func(b Binding) bool { return b.Field.Name == field }); i >= 0 {
			bindings[i].Default = a.Defaults[name]
		} else {
			bindings = append(bindings, Binding{Field: f, Value: a.Defaults[name], Need: May, Compare: true,
				Locale: m.Document.Locale})
		}
		out.Levels[level] = bindings
	}
	if len(all) > 0 {
		return nil, all
	}
	out.Bindings = maps.Clone(m.Bindings)
	for i, level := range order.Levels {
		if out.Levels[i] != nil || a.Withdraw {
			out.Bindings[level] = out.Levels[i]
		}
	}
	return &out, nil
}

// rowsOf reads 12, 20-35 or 40-.
func rowsOf(text string) (first, last int, ok bool) {
	from, to, span := strings.Cut(strings.TrimSpace(text), "-")
	first, err := strconv.Atoi(strings.TrimSpace(from))
	last = first
	if span {
		if last = math.MaxInt; strings.TrimSpace(to) != "" {
			var errTo error
			last, errTo = strconv.Atoi(strings.TrimSpace(to))
			err = errors.Join(err, errTo)
		}
	}
	return first, last, err == nil && first >= 1 && last >= first
}

// ReadsSegment reports whether any part of the mapping reads a segment of X12, or says that it is skipped.
func (m *Mapping) ReadsSegment(id string) bool {
	in := func(address string) bool {
		return slices.Contains(strings.Split(address, "/"), id)
	}
	for _, bindings := range m.Levels {
		for i := range bindings {
			if slices.ContainsFunc(bindings[i].From, func(s Source) bool { return in(s.Text) }) {
				return true
			}
		}
	}
	return slices.ContainsFunc(m.Document.Unused, func(s Source) bool { return in(s.Text) })
}

// OfLine reports whether lines have a binding for a field.
func (m *Mapping) OfLine(field string) bool { return bound(m.Levels[InLines], field) != nil }

// Addresses calls yield with each address of X12 that a binding reads, or that is skipped on purpose, as it is from the
// set on.
func (m *Mapping) Addresses(yield func(*x12.Address) bool) {
	each := func(sources []Source) bool {
		for i := range sources {
			if a := sources[i].Full; a != nil && !yield(a) {
				return false
			}
		}
		return true
	}
	for _, bindings := range m.Levels {
		for i := range bindings {
			if !each(bindings[i].From) || bindings[i].Expr != nil && !each(bindings[i].Expr.Reads) {
				return
			}
		}
	}
	each(m.Document.Unused)
}

// Missing lists the lists and crosswalks that the mapping names and set does not have.
func (m *Mapping) Missing(set *list.Set) finding.All {
	var all finding.All
	for _, bindings := range m.Levels {
		for _, b := range bindings {
			if b.List != "" && set.Lists[b.List] == nil {
				all = append(all, finding.New(finding.ListMissing, b.At, b.List,
					"%s needs the list %q, which has not been imported.", b.Field.Name, b.List))
			}
			if name := cmp.Or(b.Crosswalk, b.UnitCrosswalk); name != "" && set.Crosswalk(name) == nil {
				all = append(all, finding.New(finding.ListMissing, b.At, name,
					"%s needs the crosswalk %q, which has not been imported.", b.Field.Name, name))
			}
		}
	}
	return all
}

// UnitBehind says how the word behind a number is read as the line's unit (suffix: unit): like the unit's own binding,
// and with the crosswalk of the number's binding if it has one.
func (m *Mapping) UnitBehind(number *Binding) *Binding {
	unit, _ := order.Lookup(order.Lines, "unit")
	behind := &Binding{Field: unit, Crosswalk: number.UnitCrosswalk, Others: number.Others}
	for i := range m.Levels[InLines] {
		if own := &m.Levels[InLines][i]; own.Field.Name == "unit" {
			if behind.List, behind.Keys = own.List, own.Keys; behind.Crosswalk == "" {
				behind.Crosswalk, behind.Others = own.Crosswalk, own.Others
			}
		}
	}
	if behind.List == "" && behind.Keys == nil {
		behind.Keys = []string{"code", "name"}
	}
	return behind
}

// Describe says in a sentence what the mapping makes of a document.
func (m *Mapping) Describe() string {
	by := "grouped by " + m.Group.By
	var columns []string
	for _, c := range m.Group.Columns {
		columns = append(columns, c.Text)
	}
	if len(columns) > 0 {
		by += " of " + strings.Join(columns, " + ")
	}
	switch m.Group.By {
	case "sheet", "file", "form":
		by = "one a " + m.Group.By
	case "count":
		by = fmt.Sprintf("%d rows each", m.Group.Count)
	case "path":
		by = "one for each value of a path"
		if m.Document.Set != "" {
			by = "one for each transaction set " + m.Document.Set
		}
		if m.Document.Records != nil {
			by = "one for each " + m.Document.Records.String()
		}
	case "join":
		by = fmt.Sprintf("headers of %s joined with lines of %s", &m.Group.Headers, &m.Group.Lines)
	}
	return fmt.Sprintf("%s, %s, %d header and %d line fields bound", m.records(), by, len(m.Levels[InHeader]),
		len(m.Levels[InLines]))
}

// records names what the mapping's records are.
func (m *Mapping) records() string {
	orders := "orders"
	if m.Of != "" {
		orders = string(m.Of) + " orders"
	}
	switch m.Kind {
	case intent.Order:
		return orders
	case intent.Answer:
		return "answers to " + orders
	}
	return string(m.Kind) + "s of " + orders
}

// side says which orders notices are about. What a supplier sends by X12 about our purchase orders is from the seller's
// point of view; only a change goes the other way.
func (m *Mapping) side(of order.Kind) {
	m.Of = of
	m.FromSeller = m.Document.Format == source.X12 && of == order.Purchase && m.Kind != intent.Order &&
		m.Kind != intent.Change
}

// Match compares a name with a pattern in which * stands for any letters, ignoring letter case and outer space.
func Match(pattern, name string) bool {
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

// Undecided reports whether a document must be read once before it can be mapped: the mapping names two forms of a date
// that differ only in the order of day and month.
func (m *Mapping) Undecided() bool { return m.swaps }
