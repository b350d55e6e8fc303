package drafting

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"koinos/core/order"
)

// withTax matches headings of prices and amounts that contain the tax.
var withTax = regexp.MustCompile(`(?i)\b(inc|incl|including|inkl|inklusive|incluye|compris)\b.*\b(vat|tax|taxes|` +
	`gst|mwst|ust|moms|btw|tva|iva)\b|` +
	`\b(vat|tax|gst|mwst|ust|moms|btw|tva|iva)\b.*\b(inc|incl|included|inkl|inclus|inclusa|incluido|incluida|comprise|compresa)\b|\bttc\b`)

// withoutTax matches those that say without what else they are: excl. VAT, incl. freight.
var withoutTax = regexp.MustCompile(`\b(ex|excl|excluding|exkl|ohne|hors|sans|senza|sin|uden|zonder|without|before)\b`)

// taxWords are those that say of a price or an amount whether the tax is in it.
var taxWords = strings.Fields("inc incl including inkl inklusive included ttc ht vat tax taxes gst mwst ust moms btw tva iva " +
	"ex excl excluding exkl without before ohne")

// withoutTaxWords are the hints of what a price or an amount is called without the words for its tax.
func withoutTaxWords(heading string, all []hint) []hint {
	words := plainWords(heading)
	if joined := strings.Join(words, " "); !withTax.MatchString(joined) && !withoutTax.MatchString(joined) {
		return all
	}
	rest := slices.DeleteFunc(words, func(w string) bool { return slices.Contains(taxWords, w) })
	if of := hints(strings.Join(rest, " ")); len(of) > 0 && isMoney(of[0].field) && of[0].level == order.Lines {
		return of
	}
	return all
}

// taxed says that prices hold the tax, where the heading of the price does, or that of the amount where there is no
// price.
func (d *drafter) taxed(chosen []candidate) {
	for _, field := range []string{"unit_price", "amount"} {
		for i := range chosen {
			if c := &chosen[i]; c.level == order.Lines && c.name() == field {
				if words := strings.Join(plainWords(c.column.heading), " "); withTax.MatchString(words) && !withoutTax.MatchString(words) {
					d.add(binding{level: order.Header, field: "tax_treatment", words: []string{"value: inclusive"}, sure: "likely",
						why: fmt.Sprintf("the heading %q says that prices hold the tax", c.column.heading)})
				}
				return
			}
		}
	}
}
