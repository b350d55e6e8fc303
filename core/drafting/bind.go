package drafting

import (
	"iter"
	"koinos/core/list"
	"koinos/core/order"
	"maps"
	"slices"
	"strings"
)

// bind writes the binding of a chosen candidate.
func (d *drafter) bind(c *candidate, all []candidate, second *candidate) {
	b := binding{level: c.level, field: c.field.Name, from: c.column.from, sure: sureness(c, all),
		why: strings.Join(unique(c.why), "; ")}
	if second != nil {
		b.second = string(second.level) + "." + second.name()
	}
	d.values(&b, c)
	if c.column.expr != "" {
		d.within(&b, c)
	}
	d.add(b)
	if m := pricePer.FindStringSubmatch(c.column.heading); m != nil && c.field.Name == "unit_price" && m[2] != "1" &&
		!strings.Contains(b.why, " × ") { // a quantity that is counted in as many has the price of one
		d.add(binding{level: order.Lines, field: "price_basis", words: []string{"value: " + m[2]}, sure: "likely",
			why: "the heading of the price says so"})
	}
}

// within lets the binding of a value that is a part of its cell take it out of it. A number in JSON has a decimal
// point.
func (d *drafter) within(b *binding, c *candidate) {
	own := c.column.expr
	b.words = slices.DeleteFunc(b.words, func(w string) bool {
		if more, is := strings.CutPrefix(w, "expr: '"); is {
			own = strings.ReplaceAll(strings.TrimSuffix(more, "'"), "value", own)
			return true
		}
		return strings.HasPrefix(w, "write:")
	})
	b.words = append(b.words, "expr: '"+strings.ReplaceAll(own, "'", "''")+"'")
	if d.decimal == ',' && strings.HasPrefix(c.column.expr, "json(") && (c.field.Type == order.Decimal || c.field.Type == order.Percent) {
		b.words = append(b.words, `decimal: "."`)
	}
}

func unique(all []string) []string {
	var some []string
	for _, s := range all {
		if !slices.Contains(some, s) {
			some = append(some, s)
		}
	}
	return some
}

func (d *drafter) add(b binding) {
	if slices.ContainsFunc(d.y.bindings, func(o binding) bool { return o.level == b.level && o.field == b.field }) {
		return
	}
	d.y.bindings = append(d.y.bindings, b)
	choice := b.from
	if choice == "" {
		choice = strings.Join(b.words, ", ")
	}
	d.guess(string(b.level)+"."+b.field, choice, b.why, b.sure, b.second)
}

// say adds a word to a binding.
func (d *drafter) say(level order.Level, field, word string) {
	for i := range d.y.bindings {
		if b := &d.y.bindings[i]; b.level == level && b.field == field {
			b.words = append(b.words, word)
		}
	}
}

// values adds to a binding what its values need: forms of dates, lists, crosswalks, suffixes.
func (d *drafter) values(b *binding, c *candidate) {
	p := c.column
	switch c.field.Type {
	case order.Day:
		forms, _ := p.mostlyDates(mostly)
		if unix := p.unixTimes(); unix != "" && len(forms) == 0 {
			forms = []string{unix}
		} else if _, all := p.isDates(); !all {
			b.why += "; some of its values are no dates"
		}
		if len(forms) > 0 {
			b.words = append(b.words, "dates: "+flow(forms))
		}
		if len(forms) == 2 && swapped(forms[0], forms[1]) {
			b.sure = "unsure"
			b.why += "; day and month cannot be told apart in the sample"
		}
	case order.Decimal, order.Percent:
		if c.name() == "price_basis" && p.perLetters() {
			b.words = append(b.words, "crosswalk: "+list.PricePer)
		} else if p.share(p.numbers) < 0.9 {
			b.why += "; some of its values are no numbers"
		}
		words, all := 0, 0
		for w, n := range p.suffix {
			all += n
			if !isCurrency(w) {
				words += n
			}
		}
		if words*5 >= p.numbers && words > 0 && c.field.Type == order.Decimal { // a single one is a dirty cell
			suffix := "drop"
			if c.field.Name == "quantity" {
				suffix = "unit"
			}
			b.words = append(b.words, "suffix: "+suffix)
			if suffix == "unit" {
				d.units(b, p, maps.Keys(p.suffix))
			}
		}
		d.inMinor(b, c)
		if strings.HasPrefix(c.name(), "allowance.") && p.allNegative() && len(b.words) == 0 {
			b.words = append(b.words, "expr: 'num(value) * -1'", "write: 'num(value) * -1'")
			b.why += "; it stands with a minus, and an allowance is taken off by itself"
		}
		if c.field.Type == order.Percent && p.isShare() {
			b.words = append(b.words, "expr: 'num(value) * 100'", "write: 'num(value) / 100'")
			b.why += "; its values are shares, of which 1 is all"
			if b.sure == "sure" {
				b.sure = "likely"
			}
		}
	case order.Code, order.Text, order.Unit, order.Currency:
		d.look(b, c)
	}
	switch c.field.Name {
	case "answer":
		d.spoken(b, p, list.AnswerWords, func(w string) bool { _, ok := order.VerdictOf(w); return ok })
	case "change":
		d.spoken(b, p, list.ChangeWords, func(w string) bool {
			return len(w) == 2 || slices.Contains([]string{"add", "change", "delete", "replace"}, strings.ToLower(w))
		}) // a code of X12, or what it is itself
	case "sender_number", "item", "quantity":
		if d.hints.Says == "" || c.name() == "quantity" && noticeOf[d.hints.Says].counts {
			b.words = append(b.words, "need: must")
		}
	}
	if d.hints.Says != "" && c.level == order.Header && (c.name() == noticeOf[d.hints.Says].number ||
		c.name() == "sender_number" || c.name() == "number") {
		b.words = append(b.words, "need: must")
	}
}

func isCurrency(w string) bool {
	return strings.ContainsAny(w, "€£$¥") || len(w) == 3 && order.KnownCurrency(strings.ToUpper(w)) ||
		strings.EqualFold(w, "kr")
}

// look adds the crosswalk and list that contain the values.
func (d *drafter) look(b *binding, c *candidate) {
	p := c.column
	lists := map[string][]string{"item": {"items"}, "partner": {"customers", "suppliers"},
		"ship_to.code": {"locations"}, "location": {"locations"}, "payment_terms": {"terms"}}[c.name()]
	for _, l := range lists {
		if p.share(p.inList[l+"/code"]) >= 0.5 {
			b.words = append(b.words, "list: "+l)
			return
		}
		for _, key := range []string{"name", "gtin"} {
			if p.share(p.inList[l+"/"+key]) >= 0.6 {
				b.words = append(b.words, "list: "+l, "by: ["+key+", code]")
				return
			}
		}
	}
	best := ""
	for name, n := range p.across {
		if p.share(n) >= 0.6 && (best == "" || n > p.across[best]) {
			best = name
		}
	}
	if best != "" {
		b.words = append(b.words, "crosswalk: "+best)
		if len(lists) > 0 && d.hints.Lists.Lists[lists[0]] != nil {
			b.words = append(b.words, "list: "+lists[0])
		}
	}
	if c.field.Type == order.Unit && best == "" {
		d.units(b, p, maps.Keys(p.words))
	}
}

// units checks whether the units in a column are codes, names of the list, or common words.
func (d *drafter) units(b *binding, p *profile, all iter.Seq[string]) {
	known, listed := order.KnownUnit, d.hints.Lists.Lists["units"]
	if listed != nil {
		known = func(code string) bool { return listed.Look(code, nil, 0).Entry != nil }
	}
	codes, words, strange := 0, []string{}, 0
	for _, w := range slices.Sorted(all) {
		means, _, ok := d.hints.Lists.Crosswalk(list.UnitWords).Ours(w)
		switch {
		case listed == nil && known(strings.ToUpper(w)), listed != nil && known(w):
			codes++
		case ok && known(means):
			words = append(words, w+" is "+means)
		default:
			strange++
		}
	}
	switch {
	case p.share(p.inList["units/name"]) > 0.6:
		b.words = append(b.words, "list: units", "by: [name, code]")
	case strange > 0:
		b.sure = "unsure"
		b.why += "; its words are not codes of units: say crosswalk: and import one with them"
	case len(words) > 0:
		b.words = append(b.words, "crosswalk: "+list.UnitWords)
		if codes > 0 {
			b.words = append(b.words, "others: keep")
		}
		b.why += "; " + strings.Join(words[:min(len(words), 5)], ", ")
		if b.sure == "sure" {
			b.sure = "likely"
		}
	}
}

func flow(words []string) string {
	if len(words) == 1 {
		return quote(words[0])
	}
	var all []string
	for _, w := range words {
		all = append(all, quote(w))
	}
	return "[" + strings.Join(all, ", ") + "]"
}
