package drafting

import (
	"fmt"
	"slices"
	"strings"

	"koinos/core/order"
)

// doubt lowers the certainty of a grouping if a column varies within its orders that should be the same for all of an
// order, because that column may be a part of the key.
func (d *drafter) doubt(g *grouping, columns []*profile, chosen []candidate) {
	for _, p := range columns {
		if p == g.ident || p.filled < 2 || constant(p, g.groups) >= 0.97 {
			continue
		}
		party := whose[strings.Join(plainWords(p.heading), " ")]
		for _, c := range chosen {
			party = party || c.column == p && c.name() == "partner" && c.score > 0.5
		}
		if party && g.ident != nil {
			g.sure, g.second = "unsure", "key of "+g.ident.from+" and "+p.from
			g.why += fmt.Sprintf("; but %s varies within it: an order may be one for both", p.from)
			return
		}
	}
}

// others are words in the headings of documents that contain no orders.
var others = []struct{ what, words string }{
	{"a stock list", "on hand|stock|available|reserved|bestand|lagerbestand|stock on hand|disponible|en " +
		"stock|giacenza|voorraad|inventory"},
	{"a list of products", "ean|category|brand|stock|kategorie|marke|categorie|marque|weight|image|msrp"},
	{"a price list", "list price|valid from|valid until|gultig ab|gultig bis|listenpreis|prix tarif|price list|new " +
		"price|old price|rrp"},
	{"a list of invoices",
		"invoice no|invoice date|invoice|due date|due|paid|rechnungsno|rechnungsdatum|fallig|facture|date " +
			"facture|fattura|open amount"},
	{"a list of shipments", "shipment|shipment no|carrier|tracking|tracking no|shipped qty|qty shipped|shipped|delivered|" +
		"lieferschein|lieferschein no|sendungsno"},
	{"a sheet of hours", "employee|hours|project|mitarbeiter|stunden|projekt|worker|employe|heures|overtime"},
	{"a bank statement", "booking date|value date|balance|saldo|buchungstag|valuta|solde|debit|credit|haben|soll"},
	{"a list of addresses", "street|city|zip|phone|email|strasse|ort|plz|telefon|country|address|rue|ville|adresse"},
}

// noOrders reports that a document does not look like one of orders: it has no quantities, or the column that looks
// like them has another name.
func (d *drafter) noOrders(columns []*profile) {
	quantity, guessed, item := false, false, false
	for _, b := range d.y.bindings {
		switch {
		case b.level == order.Lines && b.field == "quantity":
			// A matrix is about orders if sizes, days or places stand above it, or if the orders are numbered.
			quantity = b.from != "{cell}" || d.bound(order.Header, "sender_number") || !d.bound(order.Lines, "custom.column")
			guessed = b.sure == "unsure"
		case b.level == order.Lines && (b.field == "item" || b.field == "gtin"):
			item = item || b.sure != "unsure"
		}
	}
	if len(columns) == 0 {
		return
	}
	numbered := d.bound(order.Header, "sender_number") || len(d.y.parts) > 0
	best, most := "", 0
	for _, o := range others {
		n := 0
		for _, p := range columns {
			heading := strings.Join(plainWords(p.heading), " ")
			for _, w := range strings.Split(o.words, "|") {
				if heading == w || strings.HasSuffix(p.from, "."+strings.ReplaceAll(w, " ", "")) {
					n++
				}
			}
		}
		if n > most {
			best, most = o.what, n
		}
	}
	headed := slices.ContainsFunc(columns, func(p *profile) bool { return p.heading != "" })
	reason := "No column looks like a quantity"
	switch {
	case !quantity, guessed && most >= 2, guessed && headed && !item && !numbered:
	case !numbered && most >= 2:
		reason = "No column looks like the number of an order"
	default:
		return
	}
	d.out.NoOrders = reason + ": this may be no document of orders."
	if best != "" {
		d.out.NoOrders = reason + ": this may be " + best + ", and no document of orders."
	}
	d.guess("document", "no orders", d.out.NoOrders, "unsure", "")
}
