package drafting

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"koinos/core/intent"
	"koinos/core/order"
)

// notice is the vocabulary of documents about stored orders.
type notice struct {
	of       order.Kind // whose orders it speaks of, where nothing says so
	tells    [2]string  // fields by whose columns it is known, where there is one of each; separated by bars
	number   string     // its field for the number of the notice; "" is that it has none
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

// names are the fields by which every notice identifies its order and line.
var names = []string{"partner", "sender_number", "number", "sender_line", "item", "buyer_item", "supplier_item", "gtin",
	"description", "unit", "quantity", "notes"}

const (
	aboutCarriers = "carrier|scac|carrier code|carrier scac|courier|haulier|shipped via|ship via|via|shipper|" +
		"forwarder|freight forwarder|spediteur|" +
		"spedition|frachtfuhrer|transporteur|transportista|corriere|vervoerder|fragtmand|transportor|przewoznik|" +
		"transportadora"
	aboutTracking = "tracking|tracking no|track trace|track en trace|tracking id|tracking code|track and trace|" +
		"consignment no|consignment|waybill|" +
		"waybill no|air waybill|awb|pro no|sendungs no|sendungsno|paket no|paketno|no suivi|no de suivi|suivi|" +
		"seguimiento|no seguimiento|no spedizione|tracking link"
	aboutLading   = "bill of lading|bill of lading no|bol|bol no|b l|bl no|frachtbrief|frachtbrief no|cmr|cmr no"
	aboutWeight   = "weight|gross weight|total weight|gewicht|bruttogewicht|poids|poids brut|peso|peso lordo|vikt|vaegt"
	aboutPackages = "packages|parcels|cartons|pallets|colli|kolli|colis|bultos|packstucke|no of packages|no of parcels|" +
		"no of cartons|no of pallets|boxes"
	aboutLots = "lot|lot no|batch|batch no|serial|serial no|chargen no|chargenno|lote|no lote|partij|lotto|" +
		"no lot|parti"
	aboutMarks = "sscc|sscc no|nve|package|package no|package id|carton no|carton id|parcel no|parcel id|box no|box id|" +
		"license plate|ctn id|ctn no|carton|sscc 18|sscc18|handling unit|hu no"
)

// moving are the wordings of goods that move, with those for the number, the day and the quantity of one kind.
func moving(field, number, on, day, quantity string) []wording {
	return []wording{
		{order.Header, field, number, "delivery|document no|document|doc no|reference|ref|no|id|number"},
		{order.Header, on, day, "date|datum|fecha|data|dato|day|jour|delivery"},
		{order.Header, "carrier", aboutCarriers, ""}, {order.Header, "tracking", aboutTracking, ""},
		{order.Header, "bill_of_lading", aboutLading, ""}, {order.Header, "weight", aboutWeight, ""},
		{order.Header, "packages", aboutPackages, ""},
		{order.Lines, "quantity", quantity, ""},
		{order.Lines, "lot", aboutLots, "charge"}, {order.Lines, "package", aboutMarks, ""},
		{order.Lines, "package_in", "pallet|pallet no|pallet id|palette|paletten no", ""},
	}
}

var noticeOf = map[intent.Kind]*notice{
	intent.Shipment: {order.Sales, [2]string{"shipment", "quantity"}, "shipment", true, nil, moving("shipment",
		"shipment|shipment no|ship no|shipment id|outbound delivery|outbound delivery no|delivery note|"+
			"delivery note no|delivery no|delivery id|despatch|despatch no|dn|dn no|"+
			"despatch note|despatch note no|dispatch|dispatch no|dispatch note|dispatch note no|packing slip|"+
			"packing slip no|packing list|packing list no|asn|asn no|load no|lieferschein|lieferschein no|lieferscheinno|"+
			"lieferung|lieferungs no|bon de livraison|no bl|no bon de livraison|albaran|no albaran|ddt|no ddt|bolla|"+
			"pakbon|pakbon no|pakbonno|folgeseddel|folgeseddel no|packsedel|foljesedel|wz|guia|guia de remessa",
		"shipped_on",
		"ship date|shipped on|shipping date|date shipped|shipped|dispatch date|despatch date|despatched|dispatched|"+
			"despatched on|dispatched on|delivery date|delivered on|date of despatch|date of dispatch|left on|"+
			"versanddatum|versendet am|lieferdatum|lieferscheindatum|date expedition|date d expedition|date de livraison|"+
			"date livraison|fecha envio|fecha de envio|data spedizione|data ddt|verzenddatum|leverdatum|leveringsdato|"+
			"leveransdatum|data wysylki|asn date",
		"qty shipped|shipped qty|ship qty|levererat antal|leveret antal|levert antall|ilosc wyslana|quantidade enviada|"+
			"quantity shipped|shipped quantity|shipped|qty despatched|despatched qty|"+
			"quantity despatched|despatched|qty dispatched|dispatched qty|dispatched|qty delivered|delivered qty|"+
			"quantity delivered|delivered|this delivery|this shipment|leaves today|ships today|liefermenge|"+
			"gelieferte menge|geliefert|qte livree|quantite livree|livre|cantidad enviada|enviado|cantidad entregada|"+
			"quantita spedita|spedito|geleverd|geleverd aantal|leveret|levert|levererat|wyslano")},
	intent.Receipt: {order.Purchase, [2]string{"receipt", "quantity"}, "receipt", true, nil, moving("receipt",
		"receipt|receipt no|goods receipt|goods receipt no|grn|grn no|gr no|goods in no|goods in|delivery note|"+
			"delivery note no|wareneingang|wareneingangs no|wareneingangsno|we no|we beleg|bon de reception|reception|"+
			"no reception|no de reception|entrada|no entrada|recepcion|bolla di entrata|entrata|ontvangst|ontvangst no|"+
			"varemodtagelse|mottak|mottagnings no|mottagningsno|varemottak|inleverans|pz|no pz|guia de recepcao",
		"received_on",
		"received on|receipt date|date received|received|goods in date|arrived on|arrival date|booked in|"+
			"eingangsdatum|eingang am|wareneingangsdatum|date reception|date de reception|fecha recepcion|"+
			"fecha de recepcion|fecha entrada|data ricevimento|data entrata|ontvangstdatum|modtaget den",
		"qty received|received qty|counted|qty counted|counted qty|gezahlt|compte|mottaget antal|mottagen kvantitet|mottatt antall|modtaget antal|ilosc przyjeta|"+
			"quantidade recebida|recebido|quantity received|received quantity|received|qty in|qty delivered|delivered qty|"+
			"delivered|qty accepted|accepted qty|qty rcvd|rcvd qty|rcvd|qty recd|recd qty|recd|qty rec d|rec d|eingangsmenge|erhaltene menge|erhalten|menge erhalten|qte recue|"+
			"quantite recue|recu|cantidad recibida|recibido|quantita ricevuta|ricevuto|ontvangen|ontvangen aantal|modtaget|"+
			"mottatt|mottaget")},
	intent.Return: {order.Sales, [2]string{"return", "quantity"}, "return", true, []string{"reason"},
		append(moving("return",
			"return|return no|rma|rma no|returns no|return id|return note|retoure|retouren no|retourenno|retour|no retour|"+
				"no de retour|devolucion|no devolucion|reso|no reso|retur|retur no",
			"returned_on",
			"returned on|return date|date returned|received on|received date|rcvd date|date received|returned|"+
				"came back on|rucksendedatum|retourendatum|date retour|"+
				"date de retour|fecha devolucion|data reso|retourdatum",
			"qty returned|returned qty|quantity returned|returned quantity|returned|qty back|retourmenge|"+
				"zuruckgesandte menge|zuruck|qte retournee|quantite retournee|cantidad devuelta|devuelto|quantita resa|reso|"+
				"retour aantal|geretourneerd"), wording{order.Header, "reason",
			"reason|return reason|reason for return|why|grund|retourengrund|motif|motivo|reden|arsag", ""})},
	intent.Invoice: {order.Sales, [2]string{"invoice", "quantity"}, "invoice", true, []string{"unit_price", "price_basis",
		"amount", "currency", "total",
		"tax_amount", "tax_percent", "discount_percent", "charge.freight"}, []wording{
		{order.Header, "invoice", "invoice|invoice no|invoice number|invoice id|bill|bill no|inv no|rechnung|rechnungs no|" +
			"rechnungsno|facture|no facture|no de facture|factura|no factura|fattura|no fattura|factuur|factuur no|" +
			"factuurno|faktura|faktura no", "document no|document|no|id|number|reference|ref"},
		{order.Header, "invoiced_on", "invoice date|invoiced on|date of invoice|billed on|billing date|bill date|" +
			"rechnungsdatum|date facture|date de facture|fecha factura|fecha de factura|data fattura|factuurdatum|" +
			"fakturadato|fakturadatum", "date|datum|fecha|data|dato"},
		{order.Header, "billed_shipment", "shipment|shipment no|delivery note|delivery note no|despatch note|" +
			"lieferschein|lieferschein no|lieferscheinno|bon de livraison|albaran|ddt|pakbon", ""},
		{order.Lines, "quantity", "qty invoiced|invoiced qty|quantity invoiced|invoiced quantity|invoiced|qty billed|" +
			"billed qty|billed|rechnungsmenge|berechnete menge|qte facturee|quantite facturee|cantidad facturada|" +
			"quantita fatturata|gefactureerd", ""}}},
	intent.Answer: {order.Purchase, [2]string{"accepted", "answer|due_on"}, "", false, []string{"unit_price",
		"price_basis"}, []wording{
		{order.Header, "answered_on", "confirmation date|confirmed on|date confirmed|answered on|acknowledged on|" +
			"acknowledgement date|bestatigt am|auftragsbestatigung vom|date de confirmation|fecha confirmacion", ""},
		{order.Lines, "answer", "status|line status|confirmation status|confirmation|answer|response|reply|ack|ack code|" +
			"ack status|acknowledgement|confirmed|accepted|antwort|bestatigung|statut|reponse|estado|respuesta|stato|" +
			"risposta|antwoord", ""},
		{order.Lines, "accepted", "qty confirmed|confirmed qty|confirmed quantity|quantity confirmed|accepted qty|" +
			"qty accepted|accepted quantity|promised qty|qty promised|available qty|qty available|confirmed|accepted|" +
			"bestatigte menge|menge bestatigt|bestatigt|zugesagte menge|qte confirmee|quantite confirmee|confirme|" +
			"cantidad confirmada|confirmado|quantita confermata|confermato|bevestigd|bevestigd aantal|bekreftet", ""},
		{order.Lines, "due_on", "confirmed date|confirmed delivery|confirmed delivery date|promised date|promise date|" +
			"promised|promised on|promised delivery date|eta|new date|new delivery date|delivery date|available on|due|" +
			"due date|expected on|expected date|ship date|confirmed ship date|bestatigter termin|bestatigter liefertermin|" +
			"zugesagter termin|liefertermin|lieferdatum|date confirmee|date de livraison|date livraison|" +
			"fecha confirmada|fecha entrega|fecha de entrega|data confermata|data consegna|leverdatum|leveringsdato", ""},
		{order.Lines, "unit_price", "confirmed price|price confirmed|bestatigter preis|prix confirme|precio confirmado",
			""},
		{order.Lines, "reason", "reason|comment|comments|remark|remarks|note|notes|reason code|grund|bemerkung|" +
			"kommentar|motif|commentaire|motivo|comentario|reden|opmerking", ""}}},
	// any field of an order can be changed
	intent.Change: {order.Sales, [2]string{"change|change_number", "quantity|unit_price"}, "change_number", false, nil,
		[]wording{
			{order.Header, "change_number", "change no|change number|change id|change order|amendment|amendment no|" +
				"change request|anderungs no|anderungsno|no modification", ""},
			{order.Header, "changed_on", "change date|changed on|date of change|amended on|anderungsdatum|geandert am", ""},
			{order.Lines, "change", "change|action|change type|change code|what|what to do|operation|anderung|aktion|" +
				"modification|accion|azione|actie", ""},
			{order.Lines, "quantity", "new qty|new quantity|qty new|quantity new|revised qty|changed qty|neue menge|" +
				"nouvelle quantite|nueva cantidad|nuova quantita|nieuw aantal", ""},
			{order.Lines, "unit_price", "new price|price new|revised price|neuer preis|nouveau prix|nuevo precio|" +
				"nuovo prezzo|nieuwe prijs", ""},
			{order.Lines, "requested_delivery_on", "new date|new delivery date|revised date|new due date|neuer termin|" +
				"neuer liefertermin|nouvelle date|nueva fecha|nuova data|nieuwe datum", ""},
			{order.Header, "reason", "reason|reason for change|why|grund|motif|motivo|reden", ""}}},
}

// oursBegin maps kinds of order to the beginning of the numbers that Koinos gives them, unless somebody has chosen
// another series.
var oursBegin = map[order.Kind]string{order.Sales: "SO-", order.Purchase: "PO-"}

// ordered are words for quantities that a notice repeats from the order. Its own quantities stand elsewhere.
var ordered = []string{"ordered", "order", "bestellt", "bestellmenge", "commande", "commandee", "pedido", "pedida",
	"ordinato", "ordinata", "ordinati", "besteld", "bestelde", "bestilt", "bestalld", "bestallt", "bestallda", "zamowiono",
	"encomendado", "encomendada", "open", "old", "alt", "ancien", "outstanding", "remaining",
	"backorder", "rest"}

// ours and theirs are words for the number of the seller's own order and of the buyer's.
var (
	sellers = "sales order|sales order no|so|so no|so number|our order|our order no|our ref|our reference|order confirmation|" +
		"order confirmation no|auftrag|auftrags no|auftragsno|ab no"
	buyers = "customer po|customer po no|customer order|customer order no|customer ref|po|po no|po number|purchase order|" +
		"purchase order no|your order|your order no|your ref|your reference|bestellung|bestell no|bestellno|" +
		"ihre bestellung|bestelno|bestell no kunde|bestellno kunde|kundenbestellung|kunden bestell no|kundenbestellno|" +
		"no pedido cliente|ordine cliente"
)

// linesOfOrders are words for the number of an order's line.
const linesOfOrders = "po line|po line no|po pos|po item|order line|order line no|order pos|so line|so line no|so pos|" +
	"so item|bestellposition|bestellpos|auftragsposition|auftragspos|ligne commande|ligne de commande|linea pedido|" +
	"riga ordine|orderregel|ordrelinje"

// noticeWords is the vocabulary of a kind of notice, made when it is first needed.
var noticeWords = func() map[[2]string]func() []entry {
	all := map[[2]string]func() []entry{}
	for kind, n := range noticeOf {
		for _, of := range []order.Kind{order.Sales, order.Purchase} {
			all[[2]string{string(kind), string(of)}] = sync.OnceValue(func() []entry {
				own, other := sellers, buyers
				if of == order.Purchase {
					own, other = buyers, sellers
				}
				words := append([]wording{{order.Header, "number", own, ""}, {order.Header, "sender_number", other, ""},
					{order.Lines, "number", linesOfOrders, ""}},
					n.wordings...)
				if of == order.Purchase { // without a word whose number it is, it is ours
					words = append(words, wording{order.Header, "number", "order|order no|order number|order id", ""})
				}
				return entriesOf(words)
			})
		}
	}
	return all
}()

// noticeHints returns what a heading can mean in a notice, the best first: words of the notice itself before those of
// orders.
func (d *drafter) noticeHints(heading string, usual []hint) []hint {
	n := noticeOf[d.hints.Says]
	own := hintsFrom(plainWords(heading), noticeWords[[2]string{string(d.hints.Says), string(d.hints.Kind)}]())
	repeats := slices.ContainsFunc(plainWords(heading), func(w string) bool { return slices.Contains(ordered, w) })
	for _, h := range usual {
		switch {
		case slices.ContainsFunc(own, func(o hint) bool { return o.score >= 0.9 }):
			continue // the notice has a word for it
		case h.field == "quantity" && repeats && d.hints.Says != intent.Change:
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
	if repeats && d.hints.Says != intent.Change {
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
				if len(strong) == 1 && found[i] == "" && slices.Contains(strings.Split(fields, "|"), strong[0]) {
					found[i] = p.heading
				}
			}
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
	for _, name := range []string{noticeOf[d.hints.Says].number, "number", "sender_number"} {
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

// saysOf makes sure that a notice names what it must name.
func (d *drafter) saysOf() {
	n := noticeOf[d.hints.Says]
	ask := func(level order.Level, field, why string) {
		d.add(binding{level: level, field: field, words: unsaid, sure: "unsure", why: why})
	}
	if n.number != "" && n.number != "change_number" && !d.bound(order.Header, n.number) {
		ask(order.Header, n.number, fmt.Sprintf("nothing says the number of the %s, by which it is known when it comes again: "+
			"say where it stands", d.hints.Says))
	}
	if !d.bound(order.Header, "number") && !d.bound(order.Header, "sender_number") {
		ask(order.Header, "number", "nothing says which order it is about: say where its number stands")
	}
	if n.counts && !d.bound(order.Lines, "quantity") {
		ask(order.Lines, "quantity", "no column looks like a quantity: say from which one it comes")
	}
	if !slices.ContainsFunc([]string{"number", "sender_line", "item", "buyer_item", "supplier_item", "gtin"},
		func(f string) bool { return d.bound(order.Lines, f) }) {
		ask(order.Lines, "number", "no column says which line of the order is meant, by its number or its item")
	}
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
