package drafting

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
)

// Hints is what is known in addition to the document.
type Hints struct {
	Name    string             // of the mapping; by default draft
	Partner string             // our code of the partner, where it is known
	Kind    order.Kind         // left out, it is guessed
	Says    intent.Kind        // what the document says of orders that are stored; by default it brings orders
	Lists   *list.Set          // lists and crosswalks to look values up in; nil is none
	Known   []*mapping.Mapping // mappings made before: their headings count as words
	Limits  source.Limits
}

// Guess is one thing that was guessed.
type Guess struct {
	What   string `json:"what" doc:"What was guessed: heading, grouping, locale, header.ordered_on …"`
	Choice string `json:"choice"`
	Why    string `json:"why"`
	Sure   string `json:"sure" enum:"sure,likely,unsure"`
	Second string `json:"second,omitempty" doc:"What else it could be"`
}

// Proposal is a mapping for a person to review.
type Proposal struct {
	Text    string   `json:"text" doc:"The mapping as YAML; what is not sure is marked in it"`
	Guesses []Guess  `json:"guesses"`
	Unbound []string `json:"unbound" doc:"Columns or paths with values that are not used"`
	// NoOrders is blank if the document looks like one of orders.
	NoOrders string `json:"no_orders,omitempty" doc:"Why the document does not look like one of orders"`
	// As is a kind of notice that the document looks more like; blank if there is none.
	As intent.Kind `json:"as,omitempty" enum:"change,answer,shipment,receipt,return,invoice" doc:"Where it looks like one about stored orders: the kind as which it would rather be drafted"`
}

type drafter struct {
	hints   Hints
	decimal byte
	cache   map[string][]hint
	scored  int // texts of a sheet that were looked up to find its heading
	out     Proposal
	format  source.Format
	fixed   *source.Fixed // of text of fixed width; nil is none
	sheets  []*sheet
	keyed   map[string]bool // paths of objects of JSON whose members have names of their own
	y       yaml
}

// Draft proposes a mapping for a document of size bytes.
func Draft(r io.ReaderAt, size int64, h Hints) (*Proposal, error) {
	if h.Lists == nil {
		h.Lists = &list.Set{}
	}
	if h.Name == "" {
		h.Name = "draft"
	}
	if n := noticeOf[h.Says]; n == nil {
		h.Says = ""
	}
	d := &drafter{hints: h, decimal: '.', cache: map[string][]hint{}}
	d.out.Guesses, d.out.Unbound = []Guess{}, []string{}
	if n := noticeOf[d.hints.Says]; n != nil && h.Kind == "" {
		d.hints.Kind = n.of
	}
	opt := source.Options{Limits: h.Limits}
	shape, err := source.Sniff(r, size, opt)
	if err != nil {
		return nil, err
	}
	d.format = shape.Format
	if shape.Format == source.X12 {
		return &d.out, d.interchange(r, size)
	}
	if shape.Format.Tree() {
		err = d.tree(r, size, opt)
	} else {
		opt.Sheets, opt.Visible = func(int, string) bool { return true }, true
		if d.fixed, err = source.FixedWidth(r, size, shape); err != nil {
			return nil, err
		}
		if d.fixed != nil {
			opt.Positions = d.fixed.Columns
		}
		d.sheets, _, err = readSheets(r, size, opt)
		if found := finding.Of(err); len(found) > 0 && found[0].Code == finding.SheetMissing { // all are hidden
			opt.Visible = false
			d.sheets, _, err = readSheets(r, size, opt)
		}
		if err == nil {
			d.putAbove()
			if h.Kind == "" {
				d.whoseOrders()
			}
			err = d.tables()
		}
	}
	if err != nil {
		return nil, err
	}
	d.out.Text = d.y.text(d)
	// A draft that Koinos itself does not understand would be worse than none.
	if _, err := mapping.Parse([]byte(d.out.Text)); err != nil {
		return &d.out, fmt.Errorf("the draft needs a hand: %w", err)
	}
	return &d.out, nil
}

// putAbove puts aside what stands above a table of fixed width: the names of its columns are known already, and only
// lines with a label and its value are not cut into pieces.
func (d *drafter) putAbove() {
	if d.fixed == nil {
		return
	}
	for _, s := range d.sheets {
		s.rows = slices.DeleteFunc(s.rows, func(r source.Record) bool {
			is := r.Row < d.fixed.First && (r.Row > 0 || d.fixed.Heading == 0)
			if is && filledCells(&r) == 1 && strings.Contains(firstText(&r), ": ") {
				s.above = append(s.above, r)
			}
			return is
		})
	}
}

func (d *drafter) guess(what, choice, why, sure, second string) {
	d.out.Guesses = append(d.out.Guesses, Guess{what, choice, why, sure, second})
}

func (d *drafter) decimalOf(c source.Cell) byte {
	if c.Kind != source.Text {
		return '.'
	}
	return d.decimal
}

// binding is one line of the mapping that is being written.
type binding struct {
	level  order.Level
	field  string
	from   string // heading, @C or path; "" where words says it all
	words  []string
	sure   string
	why    string
	second string
}

// tables drafts a mapping for sheets.
func (d *drafter) tables() error {
	d.decimals(cellTexts(d.sheets))
	var all []*table
	for _, s := range d.sheets {
		if len(s.rows) > 0 {
			all = append(all, d.find(s))
		}
	}
	if len(all) == 0 {
		return finding.Fatal(finding.DocumentEmpty, origin.Place{}, "No sheet of the document has a row.")
	}
	main := all[0]
	for _, t := range all[1:] {
		if t.score > main.score+0.5 || len(main.rows) < 2 && t.score >= main.score && len(t.rows) > len(main.rows) {
			main = t
		}
	}
	layouts := []func(*table, []*table) bool{d.kinds, d.joined, d.forms, d.plain}
	if d.hints.Says != "" { // one row for each line that it speaks of
		layouts = layouts[3:]
	}
	for _, draft := range layouts {
		if draft(main, all) {
			return nil
		}
	}
	return nil
}

// plain drafts for one table of rows: by key, opener, gap, across or matrix.
func (d *drafter) plain(t *table, all []*table) bool {
	d.describe(t, d.alikeSheets(t, all))
	each, how := d.unfolded(t)
	if how != nil {
		how.say(d, t)
		t = each
	}
	agree(t.columns)
	columns := t.columns
	numbered := d.numbered(t)
	if numbered != nil {
		columns = numbered
	}
	candidates := d.candidates(columns, nil)
	sideBySide := numbered == nil && how == nil && d.hints.Says == ""
	matrix := []*profile(nil)
	if sideBySide {
		matrix, candidates = d.matrix(t, candidates)
	}
	chosen, _ := assign(candidates)
	g := d.grouped(t, slices.DeleteFunc(slices.Clone(columns),
		func(p *profile) bool { return slices.Contains(matrix, p) }),
		chosen)
	if d.hints.Says == "" {
		d.doubt(&g, columns, chosen)
	}
	candidates = d.candidates(columns, g.groups)
	if how != nil {
		candidates = how.candidates(d, candidates)
	}
	if sideBySide {
		matrix, candidates = d.matrix(t, candidates)
	}
	if g.ident != nil { // the grouping knows which column identifies the order
		candidates = settle(candidates, g.ident, "sender_number")
	}
	chosen, second := assign(candidates)
	if matrix == nil {
		chosen = append(chosen, d.onlyNumbers(columns, chosen)...)
	}
	chosen = d.numbersOfBoth(chosen, second)
	d.ofWholeOrders(chosen)
	chosen, fields := d.fieldByField(columns, chosen)
	for _, c := range chosen {
		d.bind(&c, candidates, second[c.column])
	}
	chosen = append(chosen, fields...)
	matrix = d.bindMatrix(t, matrix)
	d.y.group = g.yaml
	d.guess("grouping", g.by, g.why, g.sure, g.second)
	d.filledIn(t, chosen)
	d.carried(&g, chosen)
	d.all(columns, g.groups, chosen)
	d.labels(t, false)
	d.finish(t, columns, chosen, matrix)
	d.cancelled(columns, g.groups, chosen)
	return true
}

// whose are headings of columns that say for whom an order is.
var whose = map[string]bool{"shop": true, "store": true, "branch": true, "outlet": true, "customer": true,
	"client": true, "filiale": true, "kunde": true,
	"magasin": true, "tienda": true, "cliente": true, "negozio": true, "winkel": true, "klant": true, "site": true,
	"depot": true, "customer no": true, "kunden no": true}

// settle gives a column the field that the grouping found for it.
func settle(all []candidate, column *profile, field string) []candidate {
	kept := slices.DeleteFunc(all, func(c candidate) bool {
		return (c.column == column) != (c.field.Name == field && c.level == order.Header)
	})
	found := slices.ContainsFunc(kept, func(c candidate) bool { return c.column == column })
	if !found {
		f, _ := order.Lookup(order.Header, field)
		kept = append([]candidate{{column, order.Header, f, 0.55, []string{"rows hang together by it"}, false}},
			kept...)
	}
	return kept
}

// describe writes what the document looks like.
func (d *drafter) describe(t *table, sheets string) {
	if n := t.sheet.hidden; n > 0 {
		d.y.hidden = true
		d.guess("hidden", "leave-out", fmt.Sprintf("%d rows of the sheet are hidden or filtered out", n), "unsure",
			"read")
	}
	d.y.format = string(d.format)
	d.y.sheet = sheets
	if f := d.fixed; f != nil {
		d.y.fixed, d.y.first = f, f.First
		why := "columns stand one below another, with blanks between them"
		if f.Heading > 0 {
			why += fmt.Sprintf("; their names stand in row %d", f.Heading)
		}
		d.guess("positions", fmt.Sprintf("%d columns", len(f.Columns)), why, "likely", "")
	} else if t.headAt >= 0 {
		row := t.sheet.rows[t.headAt].Row
		d.y.headRow, d.y.headRows, d.y.repeats = row, t.headRows, t.repeats
		sure := "sure"
		if t.score < 2 {
			sure = "unsure"
		}
		d.guess("heading", fmt.Sprintf("row %d", row), fmt.Sprintf("it reads: %s",
			finding.Clip(strings.Join(nonblank(t.head), ", "), 120)), sure, "")
	} else {
		d.guess("heading", "none", "no row looks like headings; columns are named by their letters", "likely", "")
	}
	if t.repeats {
		d.guess("heading.repeats", "true", "the heading stands again below what stands above it, as on printed pages",
			"likely", "")
	}
	if t.until != "" {
		d.y.until = t.until
		d.guess("until", t.until, "nothing behind it looks like a row of the table", "likely", "")
	}
	if t.leaveOut != "" {
		d.y.leaveOut = t.leaveOut
		d.guess("rows.leave_out", t.leaveOut, "rows of sums, or drawn ones, stand between the lines or below them", "likely",
			"")
	}
}

func nonblank(all []string) []string {
	var some []string
	for _, s := range all {
		if s != "" {
			some = append(some, s)
		}
	}
	return some
}

// alikeSheets names the sheets that have the same headings: "" if there is only the first visible one, otherwise a
// pattern.
func (d *drafter) alikeSheets(t *table, all []*table) string {
	if t.sheet.name == "" {
		return ""
	}
	var alike []string
	for _, o := range all {
		if o == t || o.headAt >= 0 && t.headAt >= 0 && sameHead(o.head, t.head) {
			alike = append(alike, o.sheet.name)
		}
	}
	if len(alike) == 1 {
		if len(all) == 1 || d.sheets[0] == t.sheet {
			return ""
		}
		return t.sheet.name
	}
	if len(alike) == len(d.sheets) {
		return "*"
	}
	prefix := alike[0]
	for _, n := range alike[1:] {
		for !strings.HasPrefix(n, prefix) {
			prefix = prefix[:len(prefix)-1]
		}
	}
	others := 0
	for _, s := range d.sheets {
		if strings.HasPrefix(s.name, prefix) && !slices.Contains(alike, s.name) {
			others++
		}
	}
	if len(prefix) >= 2 && others == 0 {
		return strings.TrimRight(prefix, " ") + "*"
	}
	return strings.Join(alike, "\x00")
}

func sameHead(a, b []string) bool {
	a, b = nonblank(a), nonblank(b)
	n, has := 0, headCounts(b)
	for _, x := range a {
		if has[list.Fold(x)] > 0 {
			n++
		}
	}
	return n >= 2 && n*10 >= max(len(a), len(b))*8
}

// unsaid is the binding of a field that the document does not have. It refuses each order until a person fills it in.
var unsaid = []string{"expr: '\"\"'", "need: must"}

// finish adds the partner and the kind, and lists what is not used.
func (d *drafter) finish(t *table, columns []*profile, chosen []candidate, matrix []*profile) {
	last := d.fullNames(columns)
	d.wholeAddresses(columns)
	if t != nil {
		d.bands(t, chosen)
	}
	for _, p := range columns {
		used := slices.ContainsFunc(chosen, func(c candidate) bool { return c.column == p }) ||
			slices.Contains(matrix, p) || slices.Contains(last, p)
		if p.filled > 0 && !used {
			name := p.from
			if p.heading != "" {
				name = p.heading
			}
			d.out.Unbound = append(d.out.Unbound, name)
		}
	}
	if d.hints.Says != "" {
		d.spokenBy(columns)
		d.saysOf()
		d.partner(d.texts(t))
		d.y.kind, d.y.of = string(d.hints.Says), string(d.hints.Kind)
		return
	}
	if d.isAbout(columns); d.out.As == "" {
		d.noOrders(columns)
	}
	if !d.bound(order.Lines, "quantity") {
		d.add(binding{level: order.Lines, field: "quantity", words: unsaid, sure: "unsure",
			why: "no column looks like a quantity: say from which one it comes"})
	}
	if !slices.ContainsFunc(codes,
		func(f string) bool { return d.bound(order.Lines, f) }) {
		d.add(binding{level: order.Lines, field: "description", words: unsaid, sure: "unsure",
			why: "no column looks like an item: say from which one it comes"})
	}
	d.taxed(chosen)
	d.percentOrMoney(chosen)
	texts := d.texts(t)
	d.partner(texts)
	d.kind(texts)
}

// percentOrMoney doubts a discount that nothing shows to be one in per cent: neither a sign, nor amounts.
func (d *drafter) percentOrMoney(chosen []candidate) {
	if d.bound(order.Lines, "amount") {
		return
	}
	for i := range chosen {
		p := chosen[i].column
		words := plainWords(p.heading)
		if chosen[i].name() != "discount_percent" || p.percent > 0 || p.isShare() ||
			slices.ContainsFunc(words, func(w string) bool { return w == "%" || w == "pct" || strings.HasPrefix(w, "percent") }) {
			continue
		}
		d.unsure(chosen[i].level, "discount_percent", "it may be money: allowance.discount is what it is then")
	}
}

// unsure marks a binding as unsure.
func (d *drafter) unsure(level order.Level, field, why string) {
	for i := range d.y.bindings {
		if b := &d.y.bindings[i]; b.level == level && b.field == field {
			b.sure, b.why = "unsure", b.why+"; "+why
			for k := range d.out.Guesses {
				if g := &d.out.Guesses[k]; g.What == string(level)+"."+field {
					g.Sure, g.Why = b.sure, b.why
				}
			}
		}
	}
}

// texts are the texts in the first rows of a document of sheets.
func (d *drafter) texts(t *table) (texts []string) {
	if t == nil {
		return nil
	}
	for _, s := range d.sheets {
		for i := range s.rows[:min(len(s.rows), 30)] {
			for c := range s.rows[i].Cells {
				if x := text(&s.rows[i], c); x != "" && len(texts) < 600 {
					texts = append(texts, x)
				}
			}
		}
	}
	return texts
}

func (d *drafter) bound(level order.Level, field string) bool {
	return slices.ContainsFunc(d.y.bindings, func(b binding) bool { return b.level == level && b.field == field })
}

func (d *drafter) partner(texts []string) {
	if d.bound(order.Header, "partner") {
		return
	}
	if p := d.hints.Partner; p != "" {
		d.add(binding{level: order.Header, field: "partner", words: []string{"value: " + quote(p)}, sure: "sure",
			why: "you said so"})
		return
	}
	for _, m := range d.hints.Known {
		for _, b := range m.Bindings[order.Header] {
			if b.Field.Name == "partner" && b.Value != "" && d.knownHeads(m) {
				d.add(binding{level: order.Header, field: "partner", words: []string{"value: " + quote(b.Value)},
					sure: "likely", why: "the mapping " + m.Name + " has the same headings"})
				return
			}
		}
	}
	for _, name := range []string{"customers", "suppliers"} {
		l := d.hints.Lists.Lists[name]
		if l == nil {
			continue
		}
		for _, e := range l.Entries() {
			for _, t := range texts {
				if f := list.Fold(t); e.Name != "" && strings.Contains(f, list.Fold(e.Name)) || f == list.Fold(e.Code) {
					d.add(binding{level: order.Header, field: "partner",
						words: []string{"value: " + quote(e.Code), "list: " + name}, sure: "likely",
						why: fmt.Sprintf("the document says %q", finding.Clip(t, 60))})
					return
				}
			}
		}
	}
	if d.hints.Says != "" {
		return // the orders say whose they are
	}
	d.add(binding{level: order.Header, field: "partner", words: unsaid, sure: "unsure",
		why: "nothing says who the partner is: write value: and our code of it"})
}

// knownHeads reports whether the headings of a known mapping are those of this document.
func (d *drafter) knownHeads(m *mapping.Mapping) bool {
	n, all := 0, 0
	for _, bindings := range m.Bindings {
		for _, b := range bindings {
			for _, s := range b.From {
				all++
				if slices.ContainsFunc(d.y.bindings,
					func(o binding) bool { return list.Fold(o.from) == list.Fold(s.Text) }) {
					n++
				}
			}
		}
	}
	return all > 0 && n*10 >= all*8
}

func (d *drafter) kind(texts []string) {
	if k := d.hints.Kind; k != "" {
		d.y.kind = string(k)
		return
	}
	sales, purchase := 0, 0
	for _, b := range d.y.bindings {
		if b.field == "partner" {
			words := strings.Join(b.words, " ") + " " + strings.ToLower(b.from)
			if strings.Contains(words, "suppliers") {
				purchase += 5
			}
			if strings.Contains(words, "customers") {
				sales += 5
			}
			texts = append(texts, b.from)
		}
	}
	for _, t := range texts {
		words := strings.Join(plainWords(t), " ")
		for _, w := range []string{"supplier", "vendor", "lieferant", "fournisseur", "proveedor", "fornitore",
			"leverancier", "our order", "our purchase"} {
			if strings.Contains(words, w) {
				purchase++
			}
		}
		for _, w := range []string{"customer", "sales order", "kunde", "web shop", "cliente", "auftrag"} {
			if strings.Contains(words, w) {
				sales++
			}
		}
	}
	d.y.kind = "sales"
	sure := "unsure"
	why := "nothing says whether they order from us or we from them"
	if purchase > sales {
		d.y.kind, sure, why = "purchase", "likely", "its words speak of a supplier"
		d.yoursIsTheirs()
	} else if sales > 0 {
		sure, why = "likely", "its words speak of a customer"
	}
	other := map[string]string{"sales": "purchase", "purchase": "sales"}[d.y.kind]
	d.guess("kind", d.y.kind, why, sure, other)
}

// yoursIsTheirs makes the code of the one who is spoken to that of the supplier: what we order from somebody says "your
// part" of theirs.
func (d *drafter) yoursIsTheirs() {
	if d.bound(order.Lines, "supplier_item") {
		return
	}
	for i := range d.y.bindings {
		if b := &d.y.bindings[i]; b.level == order.Lines && b.field == "buyer_item" {
			b.field = "supplier_item"
		}
	}
	for i := range d.out.Guesses {
		if g := &d.out.Guesses[i]; g.What == "lines.buyer_item" {
			g.What = "lines.supplier_item"
		}
	}
}
