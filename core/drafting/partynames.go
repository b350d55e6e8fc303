package drafting

import (
	"slices"
	"strings"

	"koinos/core/order"
)

// givenWords and familyWords are words of headings for the two parts of a person's name.
var (
	givenWords = words("first|firstname|given|forename|vorname|prenom|nombre|nome|voornaam|fornavn|fornamn")
	lastWords  = words("last|lastname|family|surname|nachname|familienname|nom|apellido|apellidos|cognome|achternaam|efternavn|" +
		"etternavn|efternamn")
)

// fullNames lets a name that is bound to a column of given names have the family names of the column beside it, and
// returns those columns.
func (d *drafter) fullNames(columns []*profile) (used []*profile) {
	for i := range d.y.bindings {
		b := &d.y.bindings[i]
		if b.level != order.Header || !strings.HasSuffix(b.field, ".name") && !strings.HasSuffix(b.field, ".contact") ||
			slices.ContainsFunc(b.words, func(w string) bool { return strings.HasPrefix(w, "expr:") }) {
			continue
		}
		at := slices.IndexFunc(columns, func(p *profile) bool { return p.from == b.from })
		if at < 0 {
			continue
		}
		whose, is := apart(plainWords(columns[at].heading), givenWords)
		if !is {
			continue
		}
		for _, p := range columns {
			other, is := apart(plainWords(p.heading), lastWords)
			if !is || other != whose || p.filled == 0 || strings.ContainsAny(p.from, `"'\\`) {
				continue
			}
			b.words = append(b.words, `expr: 'trim(value + " " + col("`+p.from+`"))'`)
			b.sure, b.second = "likely", ""
			b.why = "a given name; the family name stands in " + p.from
			for k := range d.out.Guesses {
				if g := &d.out.Guesses[k]; g.What == string(b.level)+"."+b.field {
					g.Sure, g.Why, g.Second = b.sure, b.why, ""
				}
			}
			used = append(used, p)
			break
		}
	}
	return used
}

// apart returns words without the one of some that stands among them, and reports whether there is one.
func apart(words []string, some map[string]bool) (rest string, is bool) {
	at := slices.IndexFunc(words, func(w string) bool { return some[w] })
	if at < 0 {
		return "", false
	}
	return strings.Join(slices.DeleteFunc(slices.Delete(slices.Clone(words), at, at+1), func(w string) bool { return w == "name" }), " "), true
}

// wholeAddresses takes the first line of a cell with a whole address for the name, and keeps the others together as the
// street: which of them is what only a person knows.
func (d *drafter) wholeAddresses(columns []*profile) {
	for i := range d.y.bindings {
		b := &d.y.bindings[i]
		role, is := strings.CutSuffix(b.field, ".name")
		at := slices.IndexFunc(columns, func(p *profile) bool { return p.from == b.from })
		if !is || at < 0 || b.level != order.Header || len(b.words) > 0 || d.bound(order.Header, role+".street") {
			continue
		}
		several := 0
		for _, v := range columns[at].values {
			if strings.Contains(strings.TrimSpace(v.cell.Text), "\n") {
				several++
			}
		}
		if columns[at].share(several) < 0.5 {
			continue
		}
		b.words = append(b.words, `expr: 'trim(part(value, "\n", 1))'`)
		d.unsure(order.Header, b.field, "the cell has a whole address: the name is its first line")
		d.add(binding{level: order.Header, field: role + ".street", from: b.from, sure: "unsure",
			words: []string{`expr: 'swap(trim(after(value, "\n")), "[ \r]*\n[ \r]*", ", ")'`},
			why:   "the other lines of the address, which are not told apart"})
	}
}
