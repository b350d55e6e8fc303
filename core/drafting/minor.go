package drafting

import (
	"regexp"
	"strings"

	"koinos/core/order"
)

// minorUnit matches the end of a heading that says that its figures are in the currency's smaller unit:
// unit_price_cents, totalInCents, Price (pence).
var minorUnit = regexp.MustCompile(`(?i)^(.*?[^\s_.(-])[\s_.(-]+(?:in[\s_.-]+)?` +
	`(cents?|cts?|pence|pennies|minor(?:[\s_.-]?(?:currency[\s_.-]?)?units?)?|centimes|centavos|céntimos|` +
	`centesimi|øre|öre|groszy|haléře)\)?$`)

var inCt = regexp.MustCompile(`(?i)\bin\s+cts?\b`)

var camel = regexp.MustCompile(`([a-z0-9])([A-Z])`)

// ofMinor returns a heading without the word for the smaller unit of a currency, and that word; "" where there is none.
func ofMinor(heading string) (of, unit string) {
	m := minorUnit.FindStringSubmatch(camel.ReplaceAllString(heading, "$1 $2"))
	if m == nil || strings.HasSuffix(strings.ToLower(m[1]), "per") || strings.EqualFold(m[2][:2], "ct") && !inCt.MatchString(heading) {
		return "", "" // per cent; and ct alone may be a carton
	}
	return m[1], strings.ToLower(m[2])
}

// isMoney reports whether a field holds an amount of money or a price.
func isMoney(field string) bool {
	switch field {
	case "unit_price", "amount", "total", "total_before_tax", "tax_amount":
		return true
	}
	return strings.HasPrefix(field, "charge.") || strings.HasPrefix(field, "allowance.")
}

// minorHints are the fields that a heading with a smaller unit can mean: those of money that it means without the unit.
func (d *drafter) minorHints(heading string, all []hint) []hint {
	of, _ := ofMinor(heading)
	if of == "" {
		return all
	}
	var money []hint
	for _, h := range d.hintsOf(of) {
		if isMoney(h.field) {
			money = append(money, h)
		}
	}
	if len(money) == 0 {
		return all
	}
	return money
}

// inMinor divides figures that are in the smaller unit of a currency. It does not where some of them have decimals.
func (d *drafter) inMinor(b *binding, c *candidate) {
	p := c.column
	_, unit := ofMinor(p.heading)
	if unit == "" || !isMoney(c.name()) || c.field.Type != order.Decimal || p.whole < p.numbers {
		return
	}
	b.words = append(b.words, "expr: 'num(value) / 100'", "write: 'num(value) * 100'")
	b.why += "; in " + unit + ", a hundredth of the currency"
	if b.sure == "sure" {
		b.sure = "likely"
	}
}
