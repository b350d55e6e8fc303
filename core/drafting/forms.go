package drafting

import (
	"fmt"
	"slices"
	"strings"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
)

// label is a text with a value beside it.
type label struct {
	text  string
	value source.Cell
	row   int
}

// findLabels returns the labels in rows around a table.
func (d *drafter) findLabels(rows []source.Record) []label {
	var all []label
	for i := range rows {
		r := &rows[i]
		for c := 0; c < len(r.Cells); c++ {
			t := text(r, c)
			if t == "" || r.Cells[c].Kind != source.Text {
				continue
			}
			if head, rest, cut := strings.Cut(t, ":"); cut && strings.TrimSpace(rest) != "" && len(head) < 40 &&
				plainName(strings.TrimSpace(head)) && len(hints(head)) > 0 && !strings.Contains(rest[:1], "/") {
				all = append(all, label{strings.TrimSpace(head), source.Cell{Text: strings.TrimSpace(rest)}, i})
				continue
			}
			word := strings.TrimRight(t, ": ")
			if !plainName(word) || len(d.hintsOf(word)) == 0 {
				continue
			}
			for next := c + 1; next < len(r.Cells); next++ {
				if v := text(r, next); v != "" {
					if !strings.HasSuffix(v, ":") {
						all = append(all, label{word, source.Cell{Text: v, Kind: r.Cells[next].Kind}, i})
						c = next
					}
					break
				}
			}
			if n := len(all); (n == 0 || all[n-1].row != i || all[n-1].text != word) && i+1 < len(rows) &&
				rows[i+1].Row == r.Row+1 {
				if v := text(&rows[i+1], c); v != "" && len(hints(strings.TrimRight(v, ":"))) == 0 {
					all = append(all, label{word, source.Cell{Text: v, Kind: rows[i+1].Cells[c].Kind}, i})
				}
			}
		}
	}
	return all
}

// says reports whether rows have a label again, beside another value: it is about the rows below it, and not about all.
func says(rows []source.Record, l label) bool {
	for i := range rows {
		for c := range rows[i].Cells {
			head, rest, inside := strings.Cut(text(&rows[i], c), ":")
			if !inside {
				continue
			}
			if rest = strings.TrimSpace(rest); rest == "" {
				rest = text(&rows[i], c+1)
			}
			if list.Fold(head) == list.Fold(l.text) && rest != "" && rest != strings.TrimSpace(l.value.Text) {
				return true
			}
		}
	}
	return false
}

// wholeTotals are labels of the total with the tax, if a tax stands above it.
var wholeTotals = []string{"total", "grand total", "order total", "total amount", "total due", "total gross", "gross total", "gross",
	"gesamt", "gesamtsumme", "gesamtbetrag", "brutto", "bruttobetrag", "total ttc", "total a payer", "totale", "totaal", "importe total",
	"total general"}

// labels binds header fields to labels around the table.
func (d *drafter) labels(t *table, below bool) {
	rows := t.above
	if below {
		rows = append(slices.Clone(rows), t.below...)
	}
	type found struct {
		l     label
		p     *profile
		h     hint
		field order.Field
	}
	var all []found
	labels := d.findLabels(rows)
	taxed, stated := false, false // a tax is in the total; its amount is said
	for _, l := range labels {
		if slices.Contains(sumOf(l.text), "tax") && !d.bound(order.Lines, "tax_percent") {
			n, word, is := mapping.NumberIn(d.decimalOf(l.value), strings.TrimSpace(l.value.Text))
			taxed, stated = true, stated || is && word == "" && n.Sign() > 0
		}
	}
	for _, l := range labels {
		p := d.profile(l.text, "", 0, []value{{0, l.value}})
		if sum := sumOf(l.text); taxed && slices.Contains(sum, "amount") && slices.Contains(sum, "net") {
			f, _ := order.Lookup(order.Header, "total_before_tax")
			all = append(all, found{l, p, hint{score: 0.9, word: l.text}, f})
			continue
		} else if stated && slices.Contains(sum, "tax") && !slices.Contains(sum, "net") && !slices.Contains(sum, "gross") {
			f, _ := order.Lookup(order.Header, "tax_amount")
			all = append(all, found{l, p, hint{score: 0.85, word: l.text}, f})
			continue
		}
		for _, h := range d.hintsOf(l.text) {
			of := h.field == "total" || h.field == "amount" || h.field == "tax_amount"
			if taxed && of && !(stated && h.field != "tax_amount" && slices.Contains(wholeTotals, strings.Join(plainWords(l.text), " "))) {
				continue // the lines say nothing of the tax that is in it
			}
			field := h.field
			switch {
			case h.level == order.Lines && field == "amount":
				field = "total"
			case field == "sender_number" && d.hints.Says != "" && p.begin(oursBegin[d.hints.Kind]) > 0:
				field = "number" // it is one of ours
			}
			if role, isCode := strings.CutSuffix(field, ".code"); isCode && strings.Contains(l.value.Text, " ") {
				field = role + ".name" // words, not a code
			}
			f, ok := d.lookup(order.Header, field)
			if !ok || h.score < 0.65 || p.fits(f) == 0 || d.bound(order.Header, field) ||
				field == "partner" && d.hints.Partner != "" {
				continue
			}
			all = append(all, found{l, p, h, f})
		}
	}
	slices.SortStableFunc(all, func(a, b found) int {
		if a.h.score > b.h.score {
			return -1
		} else if a.h.score < b.h.score {
			return 1
		}
		return 0
	})
	used := map[string]bool{}
	for _, f := range all {
		if used[f.l.text] || d.bound(order.Header, f.field.Name) || says(t.rows, f.l) {
			continue
		}
		used[f.l.text] = true
		b := binding{level: order.Header, field: f.field.Name, words: []string{"label: " + quote(f.l.text)},
			sure: "likely", why: fmt.Sprintf("it stands beside %q", f.l.text)}
		if f.h.score >= 0.95 {
			b.sure = "sure"
		} else if f.h.score < 0.7 {
			b.sure = "unsure"
		}
		if f.field.Name == "ship_to.name" && len(hints(f.l.text)) > 0 && f.h.score < 0.8 {
			b.sure = "unsure"
		}
		c := candidate{column: f.p, level: order.Header, field: f.field}
		d.values(&b, &c)
		d.add(b)
	}
}

// forms drafts for documents in which each sheet, or each block of a sheet, is an order with labelled facts around its
// lines.
func (d *drafter) forms(t *table, all []*table) bool {
	if t.headAt < 0 {
		return false
	}
	s := t.sheet
	// The same heading occurs several times on a sheet: forms stand below one another.
	var heads []int
	for i := range s.rows {
		if sameRow(&s.rows[i], &s.rows[t.headAt]) {
			heads = append(heads, i)
		}
	}
	identified := false
	chosen, _ := assign(d.candidates(t.columns, nil))
	for _, c := range chosen {
		identified = identified || c.name() == "sender_number" && c.score >= 0.6
	}
	if identified {
		return false
	}
	if len(heads) > 1 {
		if opener, begins := d.opener(s, heads); opener != "" {
			end := begins[1]
			one := &sheet{name: s.name, rows: s.rows[begins[0]:end]}
			first := d.find(one)
			d.describe(first, d.alikeSheets(t, all))
			d.y.headRow, d.y.headRows = 0, 0 // each form has its own
			d.y.group = "by: form, opener: " + quote(opener)
			d.guess("grouping", "form", fmt.Sprintf("the heading stands %d times, each time below %q", len(heads),
				opener), "sure", "")
			d.bindForm(first)
			return true
		}
	}
	labels := d.findLabels(append(slices.Clone(t.above), t.below...))
	number := slices.ContainsFunc(labels, func(l label) bool {
		for _, h := range d.hintsOf(l.text) {
			if h.field == "sender_number" && h.score >= 0.65 {
				return true
			}
		}
		return false
	})
	alike := 0
	for _, o := range all {
		if o.headAt >= 0 && sameHead(o.head, t.head) {
			alike++
		}
	}
	if !number && alike < 2 {
		return false
	}
	d.describe(t, d.alikeSheets(t, all))
	if alike > 1 { // the heading may stand in other rows elsewhere
		d.y.headRow, d.y.headRows = 0, 0
	}
	by, why := "sheet", fmt.Sprintf("the facts of the order stand around the table, on each of %d sheets", alike)
	if alike < 2 {
		why = "the facts of the order stand around the table"
	}
	d.y.group = "by: " + by
	d.guess("grouping", by, why, "likely", "")
	d.bindForm(t)
	if alike > 1 && !d.bound(order.Header, "sender_number") {
		d.add(binding{level: order.Header, field: "sender_number", from: "{sheet}", sure: "unsure",
			why: "each sheet is an order; nothing else identifies it"})
	}
	return true
}

func (d *drafter) bindForm(t *table) {
	columns := t.columns
	groups := make([]int, len(t.rows))
	candidates := d.candidates(columns, groups)
	candidates = slices.DeleteFunc(candidates, func(c candidate) bool {
		return c.level != order.Lines && !slices.Contains(bothLevels, c.name())
	})
	matrix := []*profile(nil)
	if d.hints.Says == "" {
		matrix, candidates = d.matrix(t, candidates)
	}
	chosen, second := assign(candidates)
	for _, c := range chosen {
		d.bind(&c, candidates, second[c.column])
	}
	matrix = d.bindMatrix(t, matrix)
	d.labels(t, true)
	d.finish(t, columns, chosen, matrix)
}

func sameRow(a, b *source.Record) bool {
	same, other := 0, 0
	for i := range max(len(a.Cells), len(b.Cells)) {
		x, y := text(a, i), text(b, i)
		switch {
		case x == "" && y == "":
		case list.Fold(x) == list.Fold(y):
			same++
		default:
			other++
		}
	}
	return same >= 2 && other == 0
}

// opener finds the text with which each form begins: the first row before each heading that is the same every time.
func (d *drafter) opener(s *sheet, heads []int) (string, []int) {
	first := func(i int) string { return firstText(&s.rows[i]) }
	common := func(a, b string) string {
		n := 0
		for n < len(a) && n < len(b) && a[n] == b[n] {
			n++
		}
		return strings.TrimRight(a[:n], " 0123456789-/#.")
	}
	for at := 0; at < heads[0]; at++ { // the first row above the first table that also stands above the others
		prefix := first(at)
		if i := strings.Index(prefix, ":"); i > 0 {
			prefix = prefix[:i+1]
		}
		begins := []int{at}
		for k := 1; k < len(heads); k++ {
			found := -1
			for i := heads[k-1] + 1; i < heads[k]; i++ {
				if c := common(prefix, first(i)); len(c) >= 3 {
					found, prefix = i, c
					break
				}
			}
			if found < 0 {
				break
			}
			begins = append(begins, found)
		}
		if len(begins) == len(heads) && len(prefix) >= 3 && !isTotal(prefix) {
			return strings.TrimRight(prefix, ": ") + "*", begins
		}
	}
	return "", nil
}

// joined drafts for a sheet of headers and a sheet of lines.
func (d *drafter) joined(_ *table, all []*table) bool {
	for _, heads := range all {
		for _, lines := range all {
			if heads == lines || heads.headAt < 0 || lines.headAt < 0 || sameHead(heads.head, lines.head) {
				continue
			}
			if key, ref := d.joins(heads, lines); ref != nil {
				d.guess("heading", fmt.Sprintf("rows %d and %d", heads.sheet.rows[heads.headAt].Row,
					lines.sheet.rows[lines.headAt].Row), "the rows with the headings of both sheets", "sure", "")
				if heads.until != "" || lines.until != "" {
					d.y.until = heads.until + lines.until
				}
				d.join(side{heads, "sheet", heads.sheet.name, key}, side{lines, "sheet", lines.sheet.name, ref})
				return true
			}
		}
	}
	return false
}

// joins returns the column of headers by which lines name them, and the column of the lines that does so; nil if there
// is none.
func (d *drafter) joins(heads, lines *table) (key, ref *profile) {
	h, _ := assign(d.candidates(heads.columns, nil))
	l, _ := assign(d.candidates(lines.columns, nil))
	if !slices.ContainsFunc(l, func(c candidate) bool { return c.name() == "quantity" && c.score > 0.5 }) ||
		slices.ContainsFunc(h, func(c candidate) bool { return c.name() == "quantity" && c.score > 0.5 }) {
		return nil, nil
	}
	var keys []*profile // what tells headers apart: first their number, then anything else
	for _, p := range heads.columns {
		number := slices.ContainsFunc(h, func(c candidate) bool { return c.column == p && c.name() == "sender_number" })
		switch unique := len(p.words) == p.filled; {
		case unique && number:
			keys = slices.Insert(keys, 0, p)
		case unique && p.filled > 1:
			keys = append(keys, p)
		}
	}
	for _, key := range keys {
		for _, p := range lines.columns {
			in := 0
			for w := range p.words {
				if key.words[w] {
					in++
				}
			}
			// Quantities look like small ids, and articles may stand in a list of their own.
			ofLine := slices.ContainsFunc(l, func(c candidate) bool {
				return c.column == p && c.level == order.Lines && c.score > 0.5
			})
			if in > 0 && in*10 >= len(p.words)*7 && !ofLine {
				return key, p
			}
		}
	}
	return nil, nil
}

// side is the headers or the lines of a join: a sheet, or a list of a JSON document.
type side struct {
	*table
	word, name string   // sheet: Orders, path: $.orders[*]
	key        *profile // the column by which they are joined
}

func (s *side) yaml() string {
	return fmt.Sprintf("{%s: %s, columns: %s}", s.word, quote(s.name), quote(s.key.from))
}

// join drafts for headers and lines that name them.
func (d *drafter) join(heads, lines side) {
	d.y.format = string(d.format)
	d.y.group = "by: join, headers: " + heads.yaml() + ", lines: " + lines.yaml()
	d.guess("grouping", "join", fmt.Sprintf("the values of %s on %s stand in %s on %s", lines.key.from, lines.name,
		heads.key.from, heads.name), "sure", "")
	groups := make([]int, len(heads.rows))
	for i := range groups {
		groups[i] = i
	}
	candidates := d.candidates(heads.columns, groups)
	if !slices.ContainsFunc(candidates, func(c candidate) bool {
		return c.name() == "sender_number" && c.column != heads.key && c.score > 0.5 && len(c.column.words) == c.column.filled
	}) {
		candidates = settle(candidates, heads.key, "sender_number")
	}
	candidates = slices.DeleteFunc(candidates, func(c candidate) bool { return c.level == order.Lines })
	chosen, second := assign(candidates)
	for _, c := range chosen {
		d.bind(&c, candidates, second[c.column])
	}
	under := slices.DeleteFunc(d.candidates(lines.columns, d.byValue(lines.table, lines.key)),
		func(c candidate) bool { return c.level == order.Header || c.column == lines.key })
	more, second := assign(under)
	for _, c := range more {
		d.bind(&c, under, second[c.column])
	}
	rest := slices.DeleteFunc(slices.Clone(lines.columns), func(p *profile) bool { return p == lines.key })
	d.finish(lines.table, append(slices.Clone(heads.columns), rest...), append(chosen, more...), nil)
}

// kindWords are the words by which rows say what kind they are.
var kindWords = map[string]string{
	"h": "header", "hdr": "header", "head": "header", "header": "header", "ord": "header", "order": "header",
	"oh": "header", "hd": "header", "k": "header", "kopf": "header", "ent": "header", "cab": "header", "t1": "header",
	"100": "header", "01": "header", "10": "header",
	"l": "line", "lin": "line", "line": "line", "d": "line", "det": "line", "dtl": "line", "detail": "line",
	"p": "line", "pos": "line", "item": "line", "i": "line", "it": "line", "itm": "line", "ol": "line", "lig": "line",
	"z":   "line",
	"200": "line", "02": "line", "20": "line",
	"a": "party", "adr": "party", "addr": "party", "party": "party", "n1": "party", "nad": "party", "pty": "party",
	"n": "note", "t": "note", "txt": "note", "note": "note", "nte": "note", "msg": "note", "text": "note", "c": "note",
	"com": "note",
	"f":   "charge", "chg": "charge", "charge": "charge", "frt": "charge", "fee": "charge",
	"e": "leave-out", "end": "leave-out", "trl": "leave-out", "trailer": "leave-out", "tot": "leave-out",
	"total": "leave-out", "s": "leave-out", "sum": "leave-out", "x": "leave-out", "eof": "leave-out",
	"999": "leave-out", "99": "leave-out",
}

// hasWords reports whether a row that begins with a word contains text. A trailer contains only figures.
func (s *sheet) hasWords(word string) bool {
	for i := range s.rows {
		r := &s.rows[i]
		if list.Fold(text(r, 0)) != word {
			continue
		}
		for c := 1; c < len(r.Cells); c++ {
			if _, err := order.ParseNumber(text(r, c)); err != nil {
				return true
			}
		}
	}
	return false
}

// kinds drafts for rows whose first column says what kind each is.
func (d *drafter) kinds(t *table, _ []*table) bool {
	s := t.sheet
	if t.headAt >= 0 && t.score > 3.4 {
		return false // a heading that names many fields: rows are all alike
	}
	titles := slices.IndexFunc(s.rows, func(r source.Record) bool { // at most some, of one cell each
		return filledCells(&r) > 1 || kindWords[list.Fold(text(&r, 0))] != ""
	})
	if titles > 0 && titles < 5 {
		s = &sheet{name: s.name, hidden: s.hidden, rows: s.rows[titles:]}
	}
	if len(s.rows) < 3 {
		return false
	}
	words := map[string]int{}
	headers, lines := 0, 0
	for i := range s.rows {
		w := list.Fold(text(&s.rows[i], 0))
		words[w]++
		switch kindWords[w] {
		case "header":
			headers++
		case "line":
			lines++
		}
	}
	known := 0
	for w, n := range words {
		if kindWords[w] != "" {
			known += n
		}
	}
	if len(words) > 10 || headers == 0 || lines == 0 || known*10 < len(s.rows)*9 {
		return false
	}
	d.y.format = string(d.format)
	if titles > 0 {
		d.y.first = s.rows[0].Row
	}
	d.guess("heading", "none", "the first column says what each row is", "sure", "")
	d.out.Guesses = slices.DeleteFunc(d.out.Guesses, func(g Guess) bool { return g.What == "until" })
	var pairs []string
	for _, w := range sortedKeys(words) {
		kind := kindWords[w]
		if kind == "" || kind == "note" && !s.hasWords(w) {
			kind = "leave-out"
		}
		pairs = append(pairs, quote(strings.ToUpper(w))+": "+kind)
	}
	d.y.group = `by: rowkind, kind: "@A", kinds: {` + strings.Join(pairs, ", ") + "}"
	d.guess("grouping", "rowkind", "the words of the first column: "+strings.Join(sortedKeys(words), ", "), "likely",
		"")
	section := func(kind string) []*profile {
		var rows []source.Record
		for i := range s.rows {
			if kindWords[list.Fold(text(&s.rows[i], 0))] == kind {
				rows = append(rows, s.rows[i])
			}
		}
		var columns []*profile
		for c := 1; c < widest(rows); c++ {
			var values []value
			for i := range rows {
				if text(&rows[i], c) != "" {
					values = append(values, value{i, rows[i].Cells[c]})
				}
			}
			columns = append(columns, d.profile("", "@"+origin.ColumnName(c+1), c+1, values))
		}
		return columns
	}
	heads, details := section("header"), section("line")
	var used []candidate
	// The header's number is its first column of codes that never repeats.
	for _, p := range heads {
		if _, dates := p.isDates(); p.filled > 0 && len(p.words) == p.filled && !(dates && p.share(p.numbers) < 0.9) {
			f, _ := order.Lookup(order.Header, "sender_number")
			used = append(used, candidate{p, order.Header, f, 0.8, []string{"its values never repeat"}, false})
			break
		}
	}
	days := []string{"ordered_on", "requested_delivery_on", "requested_ship_on"}
	for _, p := range heads {
		if slices.ContainsFunc(used, func(c candidate) bool { return c.column == p }) {
			continue
		}
		field, score := "", 0.5
		currency, _ := order.Lookup(order.Header, "currency")
		_, dates := p.isDates()
		switch {
		case dates && len(days) > 0:
			field, days = days[0], days[1:]
		case p.fits(currency) == 1 && p.filled > 0:
			field, score = "currency", 0.8
		case p.share(p.inList["customers/code"]) > 0.6 || p.share(p.inList["suppliers/code"]) > 0.6:
			field, score = "partner", 0.8
		case p.share(p.inList["locations/code"]) > 0.6:
			field, score = "ship_to.code", 0.6
		}
		if f, ok := order.Lookup(order.Header, field); ok {
			used = append(used, candidate{p, order.Header, f, score, []string{"its values say so"}, false})
		}
	}
	under := d.candidates(details, nil)
	under = slices.DeleteFunc(under, func(c candidate) bool { return c.level != order.Lines })
	more, second := assign(under)
	// Without headings, the first columns of codes and whole numbers are used.
	take := func(field string, like func(*profile) bool) {
		if slices.ContainsFunc(more, func(c candidate) bool { return c.name() == field }) {
			return
		}
		for _, p := range details {
			if p.filled > 0 && like(p) && !slices.ContainsFunc(more, func(c candidate) bool { return c.column == p }) {
				f, _ := order.Lookup(order.Lines, field)
				more = append(more, candidate{p, order.Lines, f, 0.45, []string{"its values look like it"}, false})
				return
			}
		}
	}
	if len(details) > 0 && details[0].counts() {
		more = slices.DeleteFunc(more, func(c candidate) bool { return c.column == details[0] })
		f, _ := order.Lookup(order.Lines, "number")
		more = append(more, candidate{details[0], order.Lines, f, 0.7, []string{"it counts the lines"}, false})
	}
	take("item", func(p *profile) bool {
		return p.share(p.spaces) < 0.3 && p.longest >= 3 && p.share(p.whole) < 0.99 || p.longest >= 5 &&
			p.share(p.spaces) == 0
	})
	take("quantity", func(p *profile) bool { return p.share(p.numbers) > 0.95 && p.share(p.whole) > 0.6 })
	take("description", func(p *profile) bool { return p.share(p.spaces) > 0.3 && p.share(p.numbers) < 0.2 })
	take("unit", func(p *profile) bool { return p.longest <= 4 && p.share(p.numbers) == 0 })
	take("unit_price", func(p *profile) bool { return p.share(p.numbers) > 0.95 })
	for _, c := range append(used, more...) {
		d.bind(&c, append(slices.Clone(used), more...), second[c.column])
	}
	d.finish(nil, append(heads, details...), append(used, more...), nil)
	return true
}
