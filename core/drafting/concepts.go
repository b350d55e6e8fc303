package drafting

import (
	"slices"
	"strings"

	"koinos/core/order"
)

// concept is what one word of a heading is about.
type concept string

// concepts are the words that headings are made of, in their plain form (plainWords): "Date liv. souhaitée" is a date,
// of a delivery, that is requested.
var concepts = map[concept]string{
	"order": "order orders ordered po purchase sales so cde cdes cdee commande commandes commandee bestell bestellung " +
		"bestellungs best auftrag auftrags pedido pedidos pedida ordine ordini ordinata ordinato bestel bestelling besteld " +
		"ordre ordres zamowienie zamowienia zamowiona zam encomenda encomendada bestilling bestillings besteller",
	"no": "no id key code ref refno",
	"date": "date datum fecha data dato day tag jour dia giorno dag termin termijn on at by am le tegen dzien " +
		"timestamp time",
	"delivery": "delivery deliver deliveries liv livraison livrer liefer lieferung lieferungs entrega consegna lever " +
		"levering leverings leverans leveringsdatum dostawy dostawa arrival arrive eta anlieferung anliefer receipt arrives",
	"ship": "ship shipping shipment dispatch despatch versand expedition envio spedizione verzend wysylki afsendelse send",
	"requested": "requested request req required requires desired wanted want wunsch souhaite souhaitee demande " +
		"demandee need " +
		"needed gewenst gewenste onskad onsket solicitada solicitado richiesta richiesto zadany due deadline " +
		"expected planned prevue prevu previsto prevista geplant verwacht forventet gewunscht " +
		"gewunschter gewunschtes pozadana",
	"item": "item items article articles artikel artikels art part parts sku product products produkt produit producto " +
		"prodotto articulo articolo artigo material mat towar towaru indeks artikkel artikler vare varer goods stock catalogue " +
		"catalog style model design varu vara mercancia",
	"description": "description desc designation libelle bezeichnung beschreibung omschrijving descripcion descrizione " +
		"descricao benamning benaming beskrivelse beskrivning nazwa opis name nom nome naam navn title text tekst kurztext",
	"quantity": "qty quantity quantities menge mengen anzahl qte quantite cantidad cant quantita qta aantal antal " +
		"antall ilosc mge " +
		"hoeveelheid hoev quantidade qtd qtde pieces pcs kvantitet stuckzahl",
	"unit":  "unit units uom einheit unite eenheid enhet enhed jednostka unidade unita me um jm",
	"price": "price prices prix preis precio prezzo prijs pris cena preco cost rate ep pu tarif vk ek",
	"amount": "amount total totals montant betrag importe importo bedrag belopp belop belob wartosc wert value val sum summe " +
		"somme suma valor totaal totale gesamt gp totaux",
	"line": "line lines row regel lijn lijnno pos position positions zeile ligne linea riga rad linje entry pozycja detail",
	"net":  "net netto nett neto ht excl",
	"customer": "customer customers client clients kunde kunden klant klanten cliente clienti kontrahent klient kund " +
		"kd buyer account debitor odberatel",
	"supplier": "supplier suppliers vendor vendors lieferant lieferanten fournisseur proveedor fornitore leverancier leverantor " +
		"leverandor dostawca fornecedor kreditor seller mfr mfg manufacturer hersteller",
	"discount": "discount disc rem sc remise rabatt dto descuento korting sconto rabat rabais desconto rab",
	"tax":      "vat tax mwst ust tva iva btw moms",
	"%":        "% pct percent prozent",
	"cancel":   "cancel cancelled storno",
	"location": "location store shop branch site yard depot filiale magasin tienda negozio winkel warehouse dc",
	"your":     "your ihre ihr votre vostro uw their",
}

// conceptOf maps a plain word to its concept.
var conceptOf = func() map[string]concept {
	all := map[string]concept{}
	for c, words := range concepts {
		for _, w := range strings.Fields(words) {
			all[w] = c
		}
	}
	return all
}()

// combined are the fields that concepts together mean. A heading means one if it contains no other concept, except
// "net", and except "item" and "line" for what only lines have.
var combined = []struct {
	concepts string
	level    order.Level
	field    string
	top      float64
}{
	{"order no", order.Header, "sender_number", 1},
	{"customer order no", order.Header, "sender_number", 1},
	{"your order no", order.Header, "sender_number", 1},
	{"order date", order.Header, "ordered_on", 1},
	{"delivery date", order.Header, "requested_delivery_on", 1},
	{"delivery requested", order.Header, "requested_delivery_on", 0.95},
	{"delivery date requested", order.Header, "requested_delivery_on", 1},
	{"order delivery date", order.Header, "requested_delivery_on", 0.9},
	{"date requested", order.Header, "requested_delivery_on", 0.95},
	{"customer date requested", order.Header, "requested_delivery_on", 0.9},
	{"ship date", order.Header, "requested_ship_on", 1},
	{"ship requested", order.Header, "requested_ship_on", 0.9},
	{"ship date requested", order.Header, "requested_ship_on", 1},
	{"cancel date", order.Header, "cancel_after", 0.95},
	{"customer no", order.Header, "partner", 1},
	{"supplier no", order.Header, "partner", 1},
	{"delivery location", order.Header, "ship_to.code", 0.9},
	{"ship location", order.Header, "ship_to.code", 0.9},
	{"delivery location no", order.Header, "ship_to.code", 0.95},
	{"order amount", order.Header, "total", 0.95},
	{"line no", order.Lines, "number", 1},
	{"order line no", order.Lines, "number", 0.95},
	{"order line", order.Lines, "number", 0.8},
	{"item no", order.Lines, "item", 1},
	{"customer item", order.Lines, "buyer_item", 0.97},
	{"customer item no", order.Lines, "buyer_item", 1},
	{"your item", order.Lines, "buyer_item", 0.95},
	{"your item no", order.Lines, "buyer_item", 1},
	{"supplier item", order.Lines, "supplier_item", 0.97},
	{"supplier item no", order.Lines, "supplier_item", 1},
	{"item description", order.Lines, "description", 1},
	{"line description", order.Lines, "description", 0.9},
	{"order quantity", order.Lines, "quantity", 1},
	{"item quantity", order.Lines, "quantity", 0.95},
	{"line quantity", order.Lines, "quantity", 0.9},
	{"requested quantity", order.Lines, "quantity", 0.9},
	{"quantity unit", order.Lines, "unit", 0.95},
	{"order unit", order.Lines, "unit", 0.9},
	{"unit price", order.Lines, "unit_price", 1},
	{"item price", order.Lines, "unit_price", 0.95},
	{"order price", order.Lines, "unit_price", 0.85},
	{"line amount", order.Lines, "amount", 1},
	{"item amount", order.Lines, "amount", 0.85},
	{"amount net", order.Lines, "amount", 0.97},
	{"line price", order.Lines, "amount", 0.7},
	{"amount price", order.Lines, "amount", 0.85},
	{"price net", order.Lines, "unit_price", 0.97},
	{"net price tax", order.Lines, "unit_price", 0.97}, // without it
	{"amount net tax", order.Lines, "amount", 0.97},
	{"% discount", order.Lines, "discount_percent", 1},
	{"line discount", order.Lines, "discount_percent", 0.8},
	{"% tax", order.Lines, "tax_percent", 1},
}

// combinations maps concepts, sorted, to entries of combined.
var combinations = func() map[string][]int {
	all := map[string][]int{}
	for i, c := range combined {
		words := strings.Fields(c.concepts)
		slices.Sort(words)
		key := strings.Join(words, " ")
		all[key] = append(all[key], i)
	}
	return all
}()

// spokenOf returns the concepts of a heading's words, sorted and each once; strange is how many words are unknown.
func spokenOf(words []string) (all []concept, strange int) {
	for _, w := range words {
		found, ok := inWord(w)
		if !ok {
			if !fill[w] {
				strange++
			}
			continue
		}
		all = append(all, found...)
	}
	slices.Sort(all)
	return slices.Compact(all), strange
}

// inWord returns the concept of a word, or of the two words that it is made of, as in "bestelldatum" and "regelbedrag".
func inWord(w string) ([]concept, bool) {
	if c := conceptOf[w]; c != "" {
		return []concept{c}, true
	}
	for cut := 3; cut <= len(w)-3; cut++ {
		second := conceptOf[w[cut:]]
		if second == "" {
			continue
		}
		first := w[:cut]
		for _, joint := range []string{"", "s", "n", "e"} {
			if stem, has := strings.CutSuffix(first, joint); has && len(stem) >= 3 && conceptOf[stem] != "" {
				return []concept{conceptOf[stem], second}, true
			}
		}
	}
	return nil, false
}

// combinedHints returns the fields that the words of a heading mean together.
func combinedHints(words []string, joined string) []hint {
	spoken, strange := spokenOf(words)
	if len(spoken) < 2 || strange > 1 {
		return nil
	}
	var all []hint
	try := func(spoken []concept, weight float64) bool {
		parts := make([]string, len(spoken))
		for i, c := range spoken {
			parts[i] = string(c)
		}
		for _, i := range combinations[strings.Join(parts, " ")] {
			c := combined[i]
			all = append(all, hint{c.level, c.field, c.top * weight, joined})
		}
		return len(all) > 0
	}
	weight := 0.93 - 0.2*float64(strange)
	if try(spoken, weight) {
		return all
	}
	for _, beside := range []concept{"net", "order", "line", "item", "no"} {
		if less := slices.DeleteFunc(slices.Clone(spoken),
			func(c concept) bool { return c == beside }); len(less) >= 2 &&
			len(less) < len(spoken) && try(less, weight-0.05) {
			return all
		}
	}
	return nil
}
