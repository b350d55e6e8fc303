package drafting

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/order"
)

// fieldHeads are headings of a column that names the field which a row of a list of changes is about, and newHeads of
// the one with its new value.
var (
	fieldHeads = words("field|field name|changed field|field changed|attribute|property|column|what|what changed|feld|attribut|" +
		"eigenschaft|champ|campo|veld|felt|falt|change|change of")
	newHeads = words("new value|new|to|is|now|revised value|changed to|value|neuer wert|neu|nouvelle valeur|nuevo valor|nuovo valore|" +
		"nieuwe waarde|ny verdi|nytt varde")
)

// mostFields is how many words there can be for fields; a column with more names something else.
const mostFields = 60

// fieldByField binds the columns of a list of changes in which each row names a field and its new value, such as
// "Quantity" and "50", and returns what was chosen for the others, and these columns. A field that is not known is not
// bound.
func (d *drafter) fieldByField(columns []*profile, chosen []candidate) (others, bound []candidate) {
	if d.hints.Says != intent.Change {
		return chosen, nil
	}
	at := func(heads map[string]bool) *profile {
		i := slices.IndexFunc(columns, func(p *profile) bool { return heads[strings.Join(plainWords(p.heading), " ")] && p.filled > 0 })
		if i < 0 {
			return nil
		}
		return columns[i]
	}
	field, is := at(fieldHeads), at(newHeads)
	if field == nil || is == nil || field == is || len(field.words) > mostFields {
		return chosen, nil
	}
	named, in := map[string][]value{}, map[int]string{} // new values by the word that names their field
	for _, v := range field.values {
		in[v.row] = strings.ToLower(strings.TrimSpace(v.cell.Text))
	}
	for _, v := range is.values {
		if word := in[v.row]; word != "" {
			named[word] = append(named[word], v)
		}
	}
	var all []candidate
	says := map[string][]string{} // words by the fields that they name
	known := 0
	for _, word := range slices.Sorted(maps.Keys(named)) {
		c, ok := d.fieldCalled(word, d.profile(word, is.from, is.letter, named[word]))
		if !ok {
			continue
		}
		known += len(named[word])
		if says[c.name()] = append(says[c.name()], word); len(says[c.name()]) == 1 {
			all = append(all, c)
		}
	}
	if len(all) == 0 || known*2 < field.filled {
		return chosen, nil
	}
	called := "lower(trim(col(" + strconv.Quote(field.from) + ")))"
	var words, ofHeader []string
	for i := range all {
		c := &all[i]
		d.bind(c, nil, nil)
		d.say(c.level, c.name(), "when: '"+apostrophes(called+" in "+listed(says[c.name()]))+"'")
		if words = append(words, says[c.name()]...); c.level == order.Header {
			ofHeader = append(ofHeader, says[c.name()]...)
		}
	}
	if ofHeader != nil { // a row about the order names no line
		d.y.parts = append(d.y.parts, "lines: {when: '"+apostrophes("not ("+called+" in "+listed(ofHeader)+")")+"'}")
	}
	d.add(binding{level: order.Lines, field: "change", from: field.from, sure: "likely",
		words: []string{"expr: '" + apostrophes("lower(trim(value)) in "+listed(words)+` ? "change" : value`) + "'"},
		why:   "a word that is not known stops the change"})
	chosen = slices.DeleteFunc(chosen, func(c candidate) bool { return c.column == field || c.column == is || isBefore(c.column) })
	return chosen, append(all, candidate{column: field, level: order.Lines, field: all[0].field},
		candidate{column: is, level: order.Lines, field: all[0].field})
}

// listed is a list of texts as an expression has it.
func listed(texts []string) string {
	quoted := make([]string, len(texts))
	for i, t := range texts {
		quoted[i] = strconv.Quote(t)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

// apostrophes doubles those of a text, as a quoted text of YAML has them.
func apostrophes(s string) string { return strings.ReplaceAll(s, "'", "''") }

// fieldCalled is the field of a change that a word names, if it can have the values.
func (d *drafter) fieldCalled(word string, p *profile) (candidate, bool) {
	for _, h := range d.hintsOf(word) {
		level, name := h.level, h.field
		if name == "ordered_on" || slices.Contains(lineNames, name) && list.Fold(word) != "item" {
			continue
		}
		if _, isLine := d.lookup(order.Lines, name); isLine { // a row names a line
			level = order.Lines
		}
		f, ok := d.lookup(level, name)
		if ok && h.score >= 0.7 && p.fits(f) > 0 {
			return candidate{column: p, level: level, field: f, score: 0.8,
				why: []string{fmt.Sprintf("%d rows are about %q", p.filled, word)}}, true
		}
	}
	return candidate{}, false
}

// isBefore reports whether a column has values as they were.
func isBefore(p *profile) bool {
	return slices.ContainsFunc(plainWords(p.heading), func(w string) bool { return slices.Contains(before, w) })
}
