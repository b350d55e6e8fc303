package drafting

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"koinos/core/intent"
	"koinos/core/order"
)

// notice is the vocabulary of documents about stored orders.
type notice struct {
	of       order.Kind // whose orders it speaks of, where nothing says so
	tells    [2]string  // fields by whose columns it is known, where there is one of each; separated by bars
	number   string     // its field for the number of the notice; "" is that it has none
	day      string     // its field for the day
	counts   bool       // each line needs a quantity
	keeps    []string   // which fields of an order its lines and header have, besides those that name order and line
	wordings []wording
}

// Kinds are the kinds that a document can be drafted as: orders from customers or to suppliers, or notices about stored
// orders.
func Kinds() []string { return append(slices.Clone(order.Kinds), intent.Notices...) }

// KindOf interprets such a kind, and for notices which orders they are about (sales or purchase). Blank words leave
// this open.
func KindOf(kind, of string) (order.Kind, intent.Kind, error) {
	switch {
	case of != "" && !slices.Contains(order.Kinds, of):
		return "", "", fmt.Errorf("orders are of the kind sales or purchase, not %q", of)
	case kind == "" || slices.Contains(order.Kinds, kind):
		if of != "" && of != kind {
			return "", "", fmt.Errorf("of says which orders a document is about, such as shipment of sales")
		}
		return order.Kind(kind), "", nil
	case noticeOf[intent.Kind(kind)] == nil:
		return "", "", fmt.Errorf("the kind is %s, not %q", strings.Join(Kinds(), ", "), kind)
	}
	return order.Kind(of), intent.Kind(kind), nil
}

// noticeHints returns what a heading can mean in a notice, the best first: words of the notice itself before those of
// orders.
func (d *drafter) noticeHints(heading string, usual []hint) []hint {
	n := noticeOf[d.hints.Says]
	own := hintsFrom(plainWords(heading), noticeWords[[2]string{string(d.hints.Says), string(d.hints.Kind)}]())
	repeats := d.repeats(heading)
	for _, h := range usual {
		switch {
		case slices.ContainsFunc(own, func(o hint) bool { return o.score >= 0.9 }):
			continue // the notice has a word for it
		case h.field == "quantity" && repeats:
			continue // a wrong quantity is worse than none
		case n.number != "" && h.field == "sender_number" && slices.ContainsFunc(own,
			func(o hint) bool { return o.field == n.number && o.score >= h.score }):
			continue // what is only called a number is that of the notice
		case h.field == "sender_number" && d.hints.Kind == order.Purchase:
			h.field = "number"
		}
		if d.has(h.field) && !slices.ContainsFunc(own,
			func(o hint) bool { return o.level == h.level && o.field == h.field }) {
			own = append(own, h)
		}
	}
	if repeats {
		own = slices.DeleteFunc(own, func(h hint) bool {
			return h.field == "accepted" || h.field == "quantity" &&
				h.score < 0.6
		})
	}
	slices.SortStableFunc(own, func(a, b hint) int {
		switch {
		case a.score > b.score:
			return -1
		case a.score < b.score:
			return 1
		}
		return 0
	})
	return own
}

// repeats reports whether a heading of a notice is that of a quantity which the notice repeats from the order.
func (d *drafter) repeats(heading string) bool {
	return d.hints.Says != "" && d.hints.Says != intent.Change &&
		slices.ContainsFunc(plainWords(heading), func(w string) bool { return slices.Contains(ordered, w) })
}

// has reports whether the documents that are being drafted for can have a field of orders.
func (d *drafter) has(field string) bool {
	n := noticeOf[d.hints.Says]
	if n != nil && field == "partner" && d.hints.Partner != "" {
		return false // it is known, whatever a column says
	}
	return n == nil || d.hints.Says == intent.Change || slices.Contains(names, field) || slices.Contains(n.keeps, field)
}

// lookup finds a field of a level for the documents that are being drafted for.
func (d *drafter) lookup(level order.Level, name string) (order.Field, bool) {
	return order.LookupOf(string(d.hints.Says), level, name)
}

// mostLooked is how many columns are examined to find out what else a document may be.
const mostLooked = 200

// isAbout notes which notices the columns of a document look like that is drafted as one of orders.
func (d *drafter) isAbout(columns []*profile) {
	for _, word := range intent.Notices {
		n := noticeOf[intent.Kind(word)]
		if n == nil || d.out.As != "" {
			continue
		}
		words := noticeWords[[2]string{word, string(n.of)}]()
		var found [2]string
		for _, p := range columns[:min(len(columns), mostLooked)] {
			var strong []string
			for _, h := range hintsFrom(plainWords(p.heading), words) {
				f, _ := order.LookupOf(word, h.level, h.field)
				if h.score >= 0.95 && p.fits(f) > 0 {
					strong = append(strong, h.field)
				}
			}
			for i, fields := range n.tells {
				if len(strong) == 1 && found[i] == "" && slices.Contains(strings.Split(fields, "|"), strong[0]) &&
					(!n.counts || strong[0] != n.day || d.read(order.Lines, "quantity")) { // else it is a list of them
					found[i] = p.heading
				}
			}
		}
		if word == string(intent.Shipment) && (found[0] == "" || found[1] == "") && !d.read(order.Lines, "quantity") &&
			d.bound(order.Header, "sender_number") {
			found = onlySent(columns[:min(len(columns), mostLooked)], words)
		}
		if word == string(intent.Change) && (found[0] == "" || found[1] == "") && d.bound(order.Header, "sender_number") {
			found = oldAndNew(columns[:min(len(columns), mostLooked)])
		}
		if found[0] != "" && found[1] != "" {
			d.out.As = intent.Kind(word)
			article := "a"
			if strings.ContainsAny(word[:1], "aeiou") {
				article = "an"
			}
			d.out.NoOrders = fmt.Sprintf("The columns %q and %q look like those of %s %s, which is about orders that are stored.",
				found[0], found[1], article, word)
		}
	}
}

// read reports whether a field has a value from the document.
func (d *drafter) read(level order.Level, field string) bool {
	return slices.ContainsFunc(d.y.bindings, func(b binding) bool {
		return b.level == level && b.field == field && !slices.Equal(b.words, unsaid)
	})
}

// onlySent returns the headings of the columns for the number of a carrier and for the day on which goods left, or else
// the carrier.
func onlySent(columns []*profile, words []entry) (found [2]string) {
	at := map[string]string{}
	for _, p := range columns {
		for _, h := range hintsFrom(plainWords(p.heading), words) {
			f, is := order.LookupOf(string(intent.Shipment), h.level, h.field)
			if is && h.score >= 0.95 && p.fits(f) > 0 && at[h.field] == "" {
				at[h.field] = p.heading
			}
		}
	}
	return [2]string{at["tracking"], cmp.Or(at["shipped_on"], at["carrier"])}
}

// before and after are words for a value as it was and as it is to be.
var (
	before = []string{"old", "current", "was", "alt", "alte", "alter", "altes", "ancien", "ancienne", "antiguo", "antigua",
		"vecchio", "vecchia", "oud", "oude", "gammel", "gammal"}
	after = []string{"new", "revised", "is", "neu", "neue", "neuer", "neues", "nouveau", "nouvelle", "nuevo", "nueva",
		"nuovo", "nuova", "nieuw", "nieuwe", "ny", "nytt"}
)

// oldAndNew returns the headings of two columns for the same as it was and as it is to be.
func oldAndNew(columns []*profile) (found [2]string) {
	was := map[string]string{}
	for _, p := range columns {
		if what, is := without(plainWords(p.heading), before); is && was[what] == "" {
			was[what] = p.heading
		}
	}
	for _, p := range columns {
		if what, is := without(plainWords(p.heading), after); is && was[what] != "" {
			return [2]string{was[what], p.heading}
		}
	}
	return found
}

// without returns words without the one of some that they begin or end with, and whether there is one, and more.
func without(words, some []string) (rest string, is bool) {
	switch n := len(words); {
	case n < 2:
	case slices.Contains(some, words[0]):
		return strings.Join(words[1:], " "), true
	case slices.Contains(some, words[n-1]):
		return strings.Join(words[:n-1], " "), true
	}
	return "", false
}

// grouped guesses which rows of a table belong together.
func (d *drafter) grouped(t *table, columns []*profile, chosen []candidate) grouping {
	if d.hints.Says != "" {
		if g, ok := d.groupNotice(t, chosen); ok {
			return g
		}
	}
	return d.groupRows(t, columns, chosen)
}

// groupNotice groups rows by the number of the notice and that of the order.
func (d *drafter) groupNotice(t *table, chosen []candidate) (grouping, bool) {
	var keys []*profile
	own := noticeOf[d.hints.Says].number
	if !slices.ContainsFunc(chosen, func(c candidate) bool { return c.level == order.Header && c.name() == own }) {
		own = "tracking" // see numberedBy
	}
	for _, name := range []string{own, "number", "sender_number"} {
		for _, c := range chosen {
			if c.level == order.Header && c.name() == name && name != "" && len(keys) < 2 {
				keys = append(keys, c.column)
			}
		}
	}
	if len(keys) == 0 {
		return grouping{}, false
	}
	var headings []string
	var by [][]int
	blank := false
	for _, p := range keys {
		headings = append(headings, p.from)
		by = append(by, d.byValue(t, p))
		blank = blank || p.filled < len(t.rows)
	}
	numbers, groups, runs := map[string]int{}, make([]int, len(t.rows)), 0
	for i := range groups {
		key := fmt.Sprint(by[0][i], by[len(by)-1][i])
		if _, known := numbers[key]; !known {
			numbers[key] = len(numbers)
		}
		if groups[i] = numbers[key]; i == 0 || groups[i] != groups[i-1] {
			runs++
		}
	}
	g := grouping{by: "key", yaml: "by: key, columns: " + flow(headings), groups: groups, sure: "likely",
		why: fmt.Sprintf("rows of one %s have the same %s", d.hints.Says, strings.Join(headings, " and "))}
	if runs > len(numbers) {
		g.yaml += ", rows: anywhere"
	}
	if blank {
		g.yaml += ", blanks: continue"
	}
	return g, true
}

// lineNames are the fields by which a notice names a line of the order.
var lineNames = []string{"number", "sender_line", "item", "buyer_item", "supplier_item", "gtin"}

// describes reports whether a column says which line is meant, if only in words.
func describes(c candidate) bool {
	return c.level == order.Lines && (c.name() == "description" || slices.Contains(lineNames, c.name()))
}

// ofWholeOrders lets a notice without a column that names a line speak of its orders as a whole, as far as the header
// has fields for what it says.
func (d *drafter) ofWholeOrders(chosen []candidate) {
	if d.hints.Says == "" || noticeOf[d.hints.Says].counts || slices.ContainsFunc(chosen, describes) {
		return
	}
	for i := range chosen {
		c := &chosen[i]
		f, is := d.lookup(order.Header, c.name())
		if c.level != order.Lines || !is || c.column.fits(f) == 0 ||
			slices.ContainsFunc(chosen, func(o candidate) bool { return o.level == order.Header && o.name() == c.name() }) {
			continue
		}
		c.level, c.field = order.Header, f
		c.why = append(c.why, "no column names a line: it is of all of them")
	}
}

// all lets goods that move, or an invoice, be of all that is open, if each order has one row, which says neither a line
// nor a quantity, and no other figure that could be one.
func (d *drafter) all(columns []*profile, groups []int, chosen []candidate) {
	if d.hints.Says == "" || !noticeOf[d.hints.Says].counts {
		return
	}
	if slices.ContainsFunc(chosen, func(c candidate) bool { return describes(c) || c.name() == "quantity" }) {
		return
	}
	rows := map[int]int{}
	for _, g := range groups {
		if rows[g]++; rows[g] > 1 {
			return
		}
	}
	for _, p := range columns {
		if 2*p.numbers > p.filled && !slices.ContainsFunc(chosen, func(c candidate) bool { return c.column == p }) {
			return
		}
	}
	d.add(binding{level: order.Header, field: "quantities", words: []string{"value: open"}, sure: "unsure",
		why: "no column says a line or a quantity: all that is open of the order"})
}

// newest takes what a column says of the same as it was, or was planned, for less if another column has a word for how
// it is now.
func (d *drafter) newest(all []candidate) {
	if d.hints.Says == "" {
		return
	}
	isNow := func(c *candidate) bool {
		return slices.ContainsFunc(plainWords(c.column.heading), func(w string) bool { return slices.Contains(after, w) })
	}
	now := map[[2]string]bool{} // fields that a column gives as they are now
	field := func(c *candidate) [2]string { return [2]string{string(c.level), c.name()} }
	for i := range all {
		if c := &all[i]; c.score >= 0.7 && isNow(c) {
			now[field(c)] = true
		}
	}
	for i := range all {
		if c := &all[i]; now[field(c)] && !isNow(c) {
			c.score -= 0.3
		}
	}
}

// filledIn skips rows in which nobody filled in a quantity, as in a list of everything that is open.
func (d *drafter) filledIn(t *table, chosen []candidate) {
	if d.hints.Says == "" || !noticeOf[d.hints.Says].counts {
		return
	}
	for _, c := range chosen {
		if c.name() != "quantity" || c.column.filled == len(t.rows) {
			continue
		}
		is := "col(" + strconv.Quote(c.column.from) + ")"
		if strings.Contains(d.y.group, "blanks") { // a row may say the order, and no quantity
			d.y.parts = append(d.y.parts, "lines: {when: '"+strings.ReplaceAll(is, "'", "''")+" != \"\"'}")
		} else if d.y.leaveOut == "" {
			d.y.leaveOut = is + ` == ""`
		} else {
			d.y.leaveOut = "(" + d.y.leaveOut + ") or " + is + ` == ""`
		}
		d.guess("rows", "filled in", fmt.Sprintf("%d of %d rows have a %s; the others are passed over", c.column.filled,
			len(t.rows), c.column.from), "likely", "")
	}
}

// whoseOrders finds out which orders a notice is about, sales or purchase, if their numbers look like ours, or if a
// heading speaks of the customer's order: such numbers are not ours, however they begin.
func (d *drafter) whoseOrders() {
	if d.hints.Says == "" {
		return
	}
	seen := map[order.Kind]int{}
	customers := ""
	for text := range cellTexts(d.sheets) {
		for of, prefix := range oursBegin {
			if rest, has := strings.CutPrefix(strings.TrimSpace(text), prefix); has && len(rest) == 6 && strings.Trim(rest, "0123456789") == "" {
				seen[of]++
			}
		}
		if customers == "" && len(text) < 30 && slices.Contains(ofCustomers, strings.Join(plainWords(text), " ")) {
			customers = text
		}
	}
	was, is, why := d.hints.Kind, d.hints.Kind, ""
	if customers != "" {
		is, why = order.Sales, fmt.Sprintf("%q is a customer's order", customers)
	} else if len(seen) == 1 {
		for is = range seen {
			why = "numbers in it look like " + oursBegin[is] + "000123, as ours do"
		}
	}
	if is != was {
		d.hints.Kind = is
		d.guess("of", string(is), why, "likely", string(was))
	}
}

// spokenBy gives the codes of items that the one who has written a notice calls its own, or ours, to whom they belong.
func (d *drafter) spokenBy(columns []*profile) {
	says := func(begins ...string) bool {
		return slices.ContainsFunc(columns, func(p *profile) bool {
			words := strings.Join(plainWords(p.heading), " ")
			return slices.ContainsFunc(begins, func(b string) bool { return strings.HasPrefix(words, b) })
		})
	}
	switch {
	case d.hints.Kind != order.Purchase:
	case says("our po", "our order"): // the buyer has written it
		d.yoursIsTheirs()
	case says("your po", "your order", "your ref", "ihre bestell"): // the seller has
		for i := range d.y.bindings {
			b := &d.y.bindings[i]
			if words := plainWords(b.from); b.level == order.Lines && len(words) > 0 {
				switch first := words[0]; {
				case b.field == "item" && (first == "our" || strings.HasPrefix(first, "unser")):
					b.field = "supplier_item"
				case b.field == "buyer_item" && (first == "your" || strings.HasPrefix(first, "ihr")):
					b.field = "item"
				}
			}
		}
	}
}

// saysOf makes sure that a notice names what it must name.
func (d *drafter) saysOf() {
	n := noticeOf[d.hints.Says]
	ask := func(level order.Level, field, why string) {
		d.add(binding{level: level, field: field, words: unsaid, sure: "unsure", why: why})
	}
	if n.number != "" && n.number != "change_number" && !d.bound(order.Header, n.number) && !d.numberedBy(n.number) {
		ask(order.Header, n.number, fmt.Sprintf("nothing says the number of the %s, by which it is known when it comes again: "+
			"say where it stands", d.hints.Says))
	}
	if !d.bound(order.Header, "number") && !d.bound(order.Header, "sender_number") {
		ask(order.Header, "number", "nothing says which order it is about: say where its number stands")
	}
	if d.bound(order.Header, "quantities") {
		return
	}
	says := func(f string) bool { return d.bound(order.Lines, f) || d.bound(order.Header, f) }
	if d.hints.Says == intent.Answer &&
		!slices.ContainsFunc([]string{"answer", "accepted", "quantity", "due_on", "unit_price"}, says) {
		ask(order.Lines, "answer", "no column says what is answered: a line of which nothing is said would count as accepted")
	}
	if d.hints.Says == intent.Change && !slices.ContainsFunc(d.y.bindings, func(b binding) bool {
		return b.field != "partner" && b.field != "change_number" && b.field != "changed_on" && b.field != "reason" &&
			!slices.Contains(lineNames, b.field) && b.field != "sender_number"
	}) {
		ask(order.Lines, "change", "no column says what is to change; value: delete cancels what is open of each line")
	}
	if n.counts && !d.bound(order.Lines, "quantity") {
		ask(order.Lines, "quantity", "no column looks like a quantity: say from which one it comes")
	}
	if !slices.ContainsFunc(lineNames, func(f string) bool { return d.bound(order.Lines, f) }) &&
		slices.ContainsFunc(d.y.bindings, func(b binding) bool { return b.level == order.Lines }) {
		ask(order.Lines, "number", "no column says which line of the order is meant, by its number or its item")
	}
}

// numberedBy numbers a notice that has no number by the carrier's number, or else by its order and day, and reports
// whether it has these.
func (d *drafter) numberedBy(field string) bool {
	from := func(name string) string {
		for _, b := range d.y.bindings {
			if b.level == order.Header && b.field == name && b.from != "" && !strings.ContainsAny(b.from, "\"'\\") &&
				!slices.ContainsFunc(b.words, func(w string) bool { return strings.HasPrefix(w, "expr:") }) {
				return b.from
			}
		}
		return ""
	}
	if tracking := from("tracking"); tracking != "" {
		d.add(binding{level: order.Header, field: field, from: tracking, words: []string{"need: must"}, sure: "unsure",
			why: fmt.Sprintf("nothing says the number of the %s, by which it is known when it comes again; the carrier's number "+
				"tells them apart", d.hints.Says)})
		return true
	}
	on, number := from(noticeOf[d.hints.Says].day), cmp.Or(from("number"), from("sender_number"))
	if on == "" || number == "" || d.format.Tree() {
		return false
	}
	d.add(binding{level: order.Header, field: field, words: []string{
		fmt.Sprintf(`expr: 'col("%s") + " " + col("%s")'`, number, on), "need: must"}, sure: "unsure",
		why: fmt.Sprintf("nothing says the number of the %s, by which it is known when it comes again; its order and day make one",
			d.hints.Says)})
	return true
}

// codes are the fields that identify the item of a line.
var codes = []string{"item", "buyer_item", "supplier_item", "gtin", "description"}

// spoken reports whether the words of a column are known, but do not belong to the given field.
func (d *drafter) spoken(b *binding, p *profile, name string, is func(word string) bool) {
	walk, strange := d.hints.Lists.Crosswalk(name), 0
	for w := range p.words {
		if _, _, known := walk.Ours(w); !known && !is(w) {
			strange++
		}
	}
	b.words = append(b.words, "crosswalk: "+name, "others: keep")
	if strange > 0 {
		b.sure = "unsure"
		b.why += "; some of its words are not known: import a crosswalk with them"
	}
}
