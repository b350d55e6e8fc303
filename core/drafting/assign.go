package drafting

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"

	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
)

// candidate is a field that a column may be.
type candidate struct {
	column *profile
	level  order.Level
	field  order.Field
	score  float64
	why    []string
	strong bool // the values themselves say so, or the heading leaves no doubt
}

func (c *candidate) name() string { return c.field.Name }

var pricePer = regexp.MustCompile(`(?i)^(.*?)\s*(?:per|pro|par|por|/)\s*([0-9]+)\b.*$`)

var pricePerUnit = regexp.MustCompile(`(?i)^(.*?)\s*(?:\b(?:per|pro|je|par|por)\b|/)\s*[^0-9\s]+$`)

// hintsOf returns what a heading can mean: as mappings of this partner or of others bound it before, and according to
// the vocabulary.
func (d *drafter) hintsOf(heading string) []hint {
	if h, ok := d.cache[heading]; ok {
		return h
	}
	all := hints(heading)
	if d.hints.Says != "" {
		all = d.noticeHints(heading, all)
	} else {
		all = oldOrNew(heading, all)
	}
	if m := pricePer.FindStringSubmatch(heading); m != nil { // the price of so many
		if price := hints(m[1]); len(price) > 0 && price[0].field == "unit_price" {
			all = price
		}
	}
	all = d.minorHints(heading, all)
	all = withoutTaxWords(heading, all)
	if m := pricePerUnit.FindStringSubmatch(heading); m != nil { // the price of a kilogram, not how many it is for
		if price := hints(m[1]); len(price) > 0 && price[0].field == "unit_price" {
			all = price
		}
	}
	folded := list.Fold(heading)
	for _, m := range d.hints.Known {
		for level, bindings := range m.Bindings {
			for i := range bindings {
				for _, s := range bindings[i].From {
					if s.Kind == mapping.ByHeading && list.Fold(s.Text) == folded {
						all = append([]hint{{level, bindings[i].Field.Name, 1.05, "the mapping " + m.Name}}, all...)
					}
				}
			}
		}
	}
	d.cache[heading] = all
	return all
}

// bothLevels are fields that a header and a line both have.
var bothLevels = []string{"requested_ship_on", "requested_delivery_on", "notes", "charge.freight"}

// constant says how a column behaves within orders: it is the share of orders in which the column has at most one
// value.
func constant(p *profile, groups []int) float64 {
	if len(p.values) == 0 {
		return 1
	}
	first := map[int]string{}
	bad := map[int]bool{}
	for _, v := range p.values {
		g := groups[v.row]
		t := list.Fold(v.cell.Text)
		if f, ok := first[g]; !ok {
			first[g] = t
		} else if f != t {
			bad[g] = true
		}
	}
	return 1 - float64(len(bad))/float64(max(len(first), 1))
}

// firstOnly reports whether the column is filled only in the first row of each order, for orders of several rows.
func firstOnly(p *profile, groups []int) bool {
	begins := map[int]int{}
	sizes := map[int]int{}
	for i, g := range groups {
		if _, ok := begins[g]; !ok {
			begins[g] = i
		}
		sizes[g]++
	}
	several := false
	for _, v := range p.values {
		g := groups[v.row]
		if begins[g] != v.row {
			return false
		}
		several = several || sizes[g] > 1
	}
	return several && len(p.values) > 0
}

// candidates returns what each column may be. groups says which order each row belongs to; nil if that is not known
// yet.
func (d *drafter) candidates(columns []*profile, groups []int) []candidate {
	var all []candidate
	for _, p := range columns {
		if p.filled == 0 || p.from == "{name}" { // see named
			continue
		}
		byField := map[string]*candidate{}
		add := func(level order.Level, field string, score float64, why string, strong bool) {
			level, field = d.settleLevel(p, level, field, groups)
			f, ok := d.lookup(level, field)
			if !ok {
				return
			}
			fit := p.fits(f)
			if fit == 0 || field == "price_level" && p.isMoney() {
				return
			}
			key := string(level) + "/" + field
			c := byField[key]
			if c == nil {
				c = &candidate{column: p, level: level, field: f}
				byField[key] = c
			}
			s := score * fit
			if level == order.Lines && field == "number" && p.longest > 20 {
				return // a list of lines, perhaps, but no number
			}
			if level == order.Lines && field == "number" && !p.counts() {
				s *= 0.6 // the lines of an order are counted
			}
			if s > c.score {
				c.score, s = s, c.score
			}
			c.score = min(c.score+s*0.25, 1.2)
			c.why = append(c.why, why)
			c.strong = c.strong || strong && fit > 0.7
		}
		for _, h := range d.hintsOf(p.heading) {
			why := fmt.Sprintf("its heading is like %q", h.word)
			if h.score > 1 {
				why = h.word + " binds it so"
			} else if h.score >= 0.98 {
				why = fmt.Sprintf("its heading says %q", h.word)
			}
			add(h.level, h.field, h.score, why, h.score >= 0.9)
		}
		if prefix := oursBegin[d.hints.Kind]; d.hints.Says != "" {
			switch ours := p.share(p.begin(prefix)); {
			case ours > 0.9:
				add(order.Header, "number", 1.1, "its values begin with "+prefix+", as our numbers do", true)
			case ours > 0.1: // the others are their senders'
				add(order.Header, "sender_number", 0.9, "some of its values begin with "+prefix+", as our numbers do", true)
			}
		}
		if d.hints.Says == "" && groups != nil && p.percent == 0 && d.looksLike(p, "tax_percent") > 0.5 && firstOnly(p, groups) {
			add(order.Header, "tax_amount", 1.05, "it stands once for each order", true)
		}
		d.byValues(p, func(level order.Level, field string, score float64, why string, strong bool) {
			if d.has(field) {
				add(level, field, score, why, strong)
			}
		})
		for _, c := range byField {
			all = append(all, *c)
		}
	}
	if d.hints.Says == "" || d.hints.Says == intent.Invoice {
		d.byProducts(columns, &all)
		lessMoney(d, columns, &all)
		lessTax(d, columns, &all)
	}
	if d.hints.Partner != "" { // only a column of several partners knows better than who asks
		all = slices.DeleteFunc(all, func(c candidate) bool {
			return c.level == order.Header && c.name() == "partner" && !(c.score >= 0.6 && len(c.column.words) > 1)
		})
	}
	preferNumbers(all)
	preferCodes(all)
	preferSpoken(all)
	preferQuantities(all)
	d.newest(all)
	sort.SliceStable(all, func(i, j int) bool {
		if all[i].score != all[j].score {
			return all[i].score > all[j].score
		}
		if all[i].column.letter != all[j].column.letter {
			return all[i].column.letter < all[j].column.letter
		}
		if all[i].column.from != all[j].column.from {
			return all[i].column.from < all[j].column.from
		}
		return all[i].field.Name < all[j].field.Name
	})
	return all
}

// preferSpoken chooses the number that people use for an order as its number, if the program that keeps the order has
// an id for it besides.
func preferSpoken(all []candidate) {
	for i := range all {
		id := &all[i]
		if id.name() == "sender_number" && strings.EqualFold(id.column.heading, "id") && slices.ContainsFunc(all,
			func(c candidate) bool {
				return c.name() == "sender_number" && c.score >= 0.5 && !strings.EqualFold(c.column.heading, "id") &&
					c.column.filled >= id.column.filled && len(c.column.words) == c.column.filled
			}) {
			id.score *= 0.6
		}
	}
}

// preferQuantities takes whole numbers that are called an amount for the quantity where nothing else may be it.
func preferQuantities(all []candidate) {
	best := map[*profile]*candidate{}
	for i := range all {
		if c := &all[i]; best[c.column] == nil || c.score > best[c.column].score {
			best[c.column] = c
		}
	}
	for _, c := range best {
		if c.name() == "quantity" {
			return
		}
	}
	for i := range all {
		if c := &all[i]; c.name() == "quantity" && c.column.whole == c.column.filled && best[c.column].name() == "amount" &&
			!best[c.column].strongly("×") {
			c.score, best[c.column].score = best[c.column].score*0.8, 0
			return
		}
	}
}

// strongly reports whether one of the reasons has a word.
func (c *candidate) strongly(word string) bool {
	return slices.ContainsFunc(c.why, func(why string) bool { return strings.Contains(why, word) })
}

// preferNumbers chooses a column that may be the order's number or its item as the number, if another column looks as
// much like the item.
func preferNumbers(all []candidate) {
	for i := range all {
		number := &all[i]
		if number.name() != "sender_number" || slices.ContainsFunc(all, func(o candidate) bool {
			return o.name() == "sender_number" && o.column != number.column && o.score >= 0.9
		}) {
			continue
		}
		for j := range all {
			item := &all[j]
			if item.name() != "item" || item.column != number.column || item.score > number.score+0.1 ||
				number.score < 0.4 {
				continue
			}
			if slices.ContainsFunc(all, func(o candidate) bool {
				return o.name() == "item" && o.column != item.column && o.score >= item.score-0.05
			}) {
				number.score = max(number.score, item.score+0.15)
			}
		}
	}
}

// settleLevel moves a field to the level at which its column behaves.
func (d *drafter) settleLevel(p *profile, level order.Level, field string, groups []int) (order.Level, string) {
	if role, isCode := strings.CutSuffix(field, ".code"); isCode && p.share(p.spaces) > 0.8 && len(p.inList) == 0 &&
		len(p.across) == 0 {
		field = role + ".name" // words, not codes
	}
	if groups == nil {
		return level, field
	}
	c := constant(p, groups)
	several := 0
	sizes := map[int]int{}
	for _, g := range groups {
		if sizes[g]++; sizes[g] == 2 {
			several++
		}
	}
	if several == 0 {
		return level, field // each order has one row: nothing to be seen
	}
	varies := c < 0.97
	switch {
	case slices.Contains(bothLevels, field) && level == order.Header && varies:
		return order.Lines, field
	case field == "ordered_on" && varies: // an order has one; each of its lines has a day of its own
		return order.Lines, "requested_delivery_on"
	case field == "reason" && level == order.Header && varies: // each line has its own
		return order.Lines, "notes"
	case slices.Contains(bothLevels, field) && d.hints.Says == intent.Change: // what is to change is the line's
		return order.Lines, field
	case slices.Contains(bothLevels, field) && level == order.Lines && !varies:
		return order.Header, field
	case field == "ship_to.code" && varies:
		return order.Lines, "location"
	case field == "location" && firstOnly(p, groups):
		return order.Header, "ship_to.code"
	case field == "amount" && firstOnly(p, groups):
		return order.Header, "total"
	case (field == "total" || field == "total_before_tax") && varies:
		return order.Lines, "amount"
	case field == "ship_to.name" && varies && p.filled > 3:
		return order.Lines, "description"
	}
	return level, field
}

// byValues adds what the values alone suggest.
func (d *drafter) byValues(p *profile, add func(order.Level, string, float64, string, bool)) {
	if p.filled > 1 && p.share(p.gtins) >= 0.9 {
		add(order.Lines, "gtin", 0.9, "its values are GTINs, check digits and all", true)
	}
	type listed struct {
		list, key, field string
		level            order.Level
		score            float64
	}
	for _, l := range []listed{
		{"items", "code", "item", order.Lines, 0.9}, {"items", "gtin", "gtin", order.Lines, 0.85},
		{"items", "name", "description", order.Lines, 0.7},
		{"customers", "code", "partner", order.Header, 0.85}, {"suppliers", "code", "partner", order.Header, 0.85},
		{"customers", "name", "partner", order.Header, 0.7}, {"suppliers", "name", "partner", order.Header, 0.7},
		{"locations", "code", "ship_to.code", order.Header, 0.75}, {"units", "code", "unit", order.Lines, 0.8},
		{"units", "name", "unit", order.Lines, 0.7},
		{"terms", "code", "payment_terms", order.Header, 0.8}, {"price-levels", "code", "price_level", order.Header,
			0.7},
	} {
		if n := p.inList[l.list+"/"+l.key]; n > 0 && p.share(n) >= 0.6 && (p.filled > 2 || len(p.words) > 1) {
			if l.list == "price-levels" && len(p.words) < 2 {
				continue
			}
			add(l.level, l.field, l.score*min(1, 0.4+0.6*p.share(n)),
				fmt.Sprintf("%.0f %% of its values stand in the list %s by %s", 100*p.share(n), l.list, l.key),
				p.share(n) > 0.8)
		}
	}
	for name, n := range p.across {
		if p.share(n) < 0.6 {
			continue
		}
		level, field := d.walkField(name)
		if field != "" {
			add(level, field, 0.85*p.share(n), fmt.Sprintf("%.0f %% of its values stand in the crosswalk %s",
				100*p.share(n), name), true)
		}
	}
	if d.looksLike(p, "unit_price") > 0.5 && p.filled > 1 && p.ofTen() {
		add(order.Lines, "price_basis", 1.05, "prices are for 1, 10, 100 or 1000", true)
	}
	if d.looksLike(p, "price_basis") > 0.5 && p.perLetters() {
		add(order.Lines, "price_basis", 1.05, "its letters say how many units the price is for", true)
	}
	if hashed := p.begin("#"); hashed > 0 && p.share(hashed) > 0.9 {
		add(order.Header, "sender_number", 0.75, `its values begin with "#"`, false)
	}
	if currency, _ := order.Lookup(order.Header, "currency"); p.fits(currency) == 1 && p.longest <= 3 {
		add(order.Header, "currency", 0.8, "its values are currencies", true)
	}
	if strings.EqualFold(p.heading, "id") && p.counts() {
		add(order.Lines, "number", 0.6, "it counts the lines", false)
	}
	if words := plainWords(p.heading); len(words) == 1 && conceptOf[words[0]] == "item" && p.padded() {
		add(order.Lines, "item", 0.8, "its values are codes", false)
	}
	if p.heading == "" || d.hints.Says == "" && len(d.hintsOf(p.heading)) == 0 {
		_, dates := p.isDates()
		switch {
		case dates:
			add(order.Header, "ordered_on", 0.4, "its values are dates", false)
			add(order.Lines, "requested_delivery_on", 0.38, "its values are dates", false)
		case p.padded():
			add(order.Lines, "item", 0.35, "its values are codes", false)
		case p.filled > 1 && p.share(p.units()) > 0.9 && !isSize(p.heading): // L and M are sizes, too
			add(order.Lines, "unit", 0.4, "its values are words for units", false)
		case p.share(p.numbers) > 0.95 && p.share(p.whole) > 0.95 && p.longest <= 5:
			add(order.Lines, "quantity", 0.35, "its values are small whole numbers", false)
		case p.share(p.numbers) > 0.95 && p.share(p.whole) < 0.6:
			add(order.Lines, "unit_price", 0.3, "its values are numbers with decimals", false)
		case p.share(p.spaces) > 0.5 && p.share(p.numbers) < 0.2:
			add(order.Lines, "description", 0.35, "its values are words", false)
		}
	}
}

// walkField guesses what a crosswalk is for from the list that contains its codes.
func (d *drafter) walkField(name string) (order.Level, string) {
	for _, f := range []struct {
		list, field string
		level       order.Level
	}{{"items", "item", order.Lines}, {"units", "unit", order.Lines}, {"locations", "ship_to.code", order.Header},
		{"customers", "partner", order.Header}, {"suppliers", "partner", order.Header}} {
		l := d.hints.Lists.Lists[f.list]
		if l == nil {
			continue
		}
		n, all := 0, 0
		for _, p := range d.hints.Lists.Crosswalks[name].Pairs() {
			all++
			if _, ok := l.Find(p.Ours); ok {
				n++
			}
		}
		if all > 0 && n*10 >= all*8 {
			return f.level, f.field
		}
	}
	return "", ""
}

func (d *drafter) looksLike(p *profile, field string) float64 {
	for _, h := range d.hintsOf(p.heading) {
		if h.field == field {
			return h.score
		}
	}
	return 0
}

func (d *drafter) raise(all *[]candidate, p *profile, field, why string) {
	for i := range *all {
		if c := &(*all)[i]; c.column == p && c.field.Name == field && c.level == order.Lines {
			c.score, c.strong = min(1.2, c.score+0.4), true
			c.why = append(c.why, why)
			return
		}
	}
	f, _ := order.Lookup(order.Lines, field)
	*all = append(*all, candidate{p, order.Lines, f, 0.7, []string{why}, true})
}

// assign gives each column one field and each field one column, the best first.
func assign(all []candidate) (chosen []candidate, second map[*profile]*candidate) {
	taken := map[string]bool{}
	has := map[*profile]bool{}
	second = map[*profile]*candidate{}
	for i := range all {
		c := &all[i]
		key := string(c.level) + "/" + c.name()
		if c.score < 0.3 {
			continue
		}
		if has[c.column] || taken[key] {
			if second[c.column] == nil && has[c.column] {
				second[c.column] = c
			}
			continue
		}
		has[c.column], taken[key] = true, true
		chosen = append(chosen, *c)
	}
	return chosen, second
}

// sizeHeads are what a column of sizes is called.
var sizeHeads = []string{"size", "sizes", "taille", "grosse", "groesse", "talla", "taglia", "maat", "storlek",
	"storrelse", "tamanho", "rozmiar", "尺码", "サイズ", "사이즈"}

func isSize(heading string) bool {
	return slices.ContainsFunc(plainWords(heading), func(w string) bool { return slices.Contains(sizeHeads, w) })
}

// numbersOfBoth lets a notice look for the numbers in a column among ours and among the senders', if some of them begin
// as ours do. What is bound is no second choice any more.
func (d *drafter) numbersOfBoth(chosen []candidate, second map[*profile]*candidate) []candidate {
	prefix := oursBegin[d.hints.Kind]
	for _, c := range chosen {
		if d.hints.Says == "" || c.level != order.Header || c.name() != "sender_number" || c.column.begin(prefix) == 0 ||
			slices.ContainsFunc(chosen, func(o candidate) bool { return o.level == order.Header && o.name() == "number" }) {
			continue
		}
		field, _ := d.lookup(order.Header, "number")
		delete(second, c.column)
		return append(chosen, candidate{column: c.column, level: order.Header, field: field, score: 0.7,
			why: []string{"some of its values begin with " + prefix + ", as our numbers do"}})
	}
	return chosen
}

// figure reports whether a word is that of a field with a figure other than a quantity, such as price.
func (d *drafter) figure(word string) bool {
	return slices.ContainsFunc(d.hintsOf(word), func(h hint) bool {
		f, is := d.lookup(h.level, h.field)
		return is && (f.Type == order.Decimal || f.Type == order.Percent) && f.Name != "quantity" && h.score >= 0.9
	})
}

// onlyNumbers takes the quantity, if no heading says where it is, from the one column of numbers that nothing else
// uses, and whose heading says nothing else.
func (d *drafter) onlyNumbers(columns []*profile, chosen []candidate) []candidate {
	if d.hints.Says != "" && !noticeOf[d.hints.Says].counts ||
		slices.ContainsFunc(chosen, func(c candidate) bool { return c.level == order.Lines && c.name() == "quantity" }) {
		return nil
	}
	var only []candidate
	field, _ := order.LookupOf(string(d.hints.Says), order.Lines, "quantity")
	for _, p := range columns {
		if p.filled > 1 && p.numbers == p.filled && p.gtins+p.percent+p.days == 0 &&
			!slices.ContainsFunc(chosen, func(c candidate) bool { return c.column == p }) &&
			!slices.ContainsFunc(plainWords(p.heading), d.figure) && !d.repeats(p.heading) {
			only = append(only, candidate{column: p, level: order.Lines, field: field,
				why: []string{"it is the only column of numbers that nothing else uses"}})
		}
	}
	if len(only) != 1 {
		return nil
	}
	return only
}

// sureness says how sure a choice is: sure, likely or unsure.
func sureness(c *candidate, all []candidate) string {
	rival := 0.0
	for i := range all {
		o := &all[i]
		if o.column == c.column && o.field.Name == c.field.Name && o.level == c.level {
			continue
		}
		if o.column == c.column || o.field.Name == c.field.Name && o.level == c.level {
			rival = max(rival, o.score)
		}
	}
	switch margin := c.score - rival; {
	case c.strong && c.score >= 0.9 && margin >= 0.2:
		return "sure"
	case c.score >= 0.6 && margin >= 0.05:
		return "likely"
	}
	return "unsure"
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func quote(s string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == utf8.RuneError {
			return ' '
		}
		return r
	}, s)
	if s == "" || strings.ContainsAny(s, ":{}[],&*#?|<>=!%@\\\"'`\n\t") || strings.TrimSpace(s) != s ||
		strings.ContainsAny(s[:1], "-0123456789~.") || yamlWord[strings.ToLower(s)] {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", " ", "\t", " ").Replace(s) + `"`
	}
	return s
}

var yamlWord = map[string]bool{"yes": true, "no": true, "true": true, "false": true, "null": true, "on": true,
	"off": true, "y": true, "n": true}
