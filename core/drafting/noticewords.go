package drafting

import (
	"sync"

	"koinos/core/intent"
	"koinos/core/order"
)

// names are the fields by which every notice identifies its order and line.
var names = []string{"partner", "sender_number", "number", "sender_line", "item", "buyer_item", "supplier_item", "gtin",
	"description", "unit", "quantity", "notes"}

const (
	aboutCarriers = "carrier|scac|carrier code|carrier scac|courier|haulier|shipped via|ship via|via|shipper|" +
		"forwarder|freight forwarder|spediteur|" +
		"spedition|frachtfuhrer|transporteur|transportista|corriere|vervoerder|fragtmand|transportor|przewoznik|" +
		"transportadora"
	aboutTracking = "pro|tracking|tracking no|track trace|track en trace|tracking id|tracking code|track and trace|" +
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
	intent.Shipment: {order.Sales, [2]string{"shipment", "quantity|shipped_on"}, "shipment", "shipped_on", true, nil, moving("shipment",
		"shipment|shipment no|ship no|shipment id|outbound delivery|outbound delivery no|delivery note|"+
			"delivery note no|delivery no|delivery id|despatch|despatch no|dn|dn no|"+
			"despatch note|despatch note no|dispatch|dispatch no|dispatch note|dispatch note no|packing slip|"+
			"packing slip no|packing list|packing list no|asn|asn no|load no|manifest|manifest no|pick ticket|pick ticket no|pick no|pick list|pick list no|picking list|picking list no|lieferschein|lieferschein no|lieferscheinno|"+
			"lieferung|lieferungs no|bon de livraison|no bl|no bon de livraison|albaran|no albaran|ddt|no ddt|bolla|"+
			"pakbon|pakbon no|pakbonno|folgeseddel|folgeseddel no|packsedel|foljesedel|wz|guia|guia de remessa",
		"shipped_on",
		"ship date|shipped on|shipping date|date shipped|shipped|dispatch date|despatch date|despatched|dispatched|"+
			"despatched on|dispatched on|delivery date|delivered on|date of despatch|date of dispatch|left on|"+
			"versanddatum|versendet am|lieferdatum|lieferscheindatum|date expedition|date d expedition|date de livraison|"+
			"date livraison|fecha envio|fecha de envio|data spedizione|data ddt|verzenddatum|leverdatum|leveringsdato|"+
			"leveransdatum|data wysylki|asn date|sent|sent on|date sent|versandt am|gesendet am|envoye le|expedie le|"+
			"enviado el|inviato il|verzonden op|sendt|skickat",
		"qty shipped|shipped qty|ship qty|levererat antal|leveret antal|levert antall|ilosc wyslana|quantidade enviada|"+
			"quantity shipped|shipped quantity|shipped|qty despatched|despatched qty|"+
			"quantity despatched|despatched|qty dispatched|dispatched qty|dispatched|qty delivered|delivered qty|"+
			"quantity delivered|delivered|this delivery|this shipment|leaves today|ships today|liefermenge|"+
			"gelieferte menge|geliefert|qte livree|quantite livree|livre|cantidad enviada|enviado|cantidad entregada|"+
			"quantita spedita|spedito|geleverd|geleverd aantal|leveret|levert|levererat|wyslano|sent|qty sent|sent qty|"+
			"quantity sent|sent now|sent today|shipped now|picked|qty picked|picked qty|qty loaded|loaded qty|fulfilled|"+
			"versandt|versendet|versandmenge|versandte menge|gesendet|envoye|qte envoyee|expedie|qte expediee|inviato|"+
			"verzonden|verzonden aantal|skickat|sendt")},
	intent.Receipt: {order.Purchase, [2]string{"receipt", "quantity"}, "receipt", "received_on", true, nil, moving("receipt",
		"receipt|receipt no|goods receipt|goods receipt no|grn|grn no|gr no|goods in no|goods in|delivery note|"+
			"delivery note no|wareneingang|wareneingangs no|wareneingangsno|we no|we beleg|bon de reception|reception|"+
			"no reception|no de reception|entrada|no entrada|recepcion|bolla di entrata|entrata|ontvangst|ontvangst no|"+
			"varemodtagelse|mottak|mottagnings no|mottagningsno|varemottak|inleverans|pz|no pz|guia de recepcao",
		"received_on",
		"grn date|gr date|received on|receipt date|date received|received|goods in date|arrived on|arrival date|booked in|"+
			"eingangsdatum|eingang am|wareneingangsdatum|date reception|date de reception|fecha recepcion|"+
			"fecha de recepcion|fecha entrada|data ricevimento|data entrata|ontvangstdatum|modtaget den",
		"qty received|received qty|counted|qty counted|counted qty|gezahlt|compte|mottaget antal|mottagen kvantitet|mottatt antall|modtaget antal|ilosc przyjeta|"+
			"quantidade recebida|recebido|quantity received|received quantity|received|qty in|qty delivered|delivered qty|"+
			"delivered|qty accepted|accepted qty|qty rcvd|rcvd qty|rcvd|qty recd|recd qty|recd|qty rec d|rec d|eingangsmenge|erhaltene menge|erhalten|menge erhalten|qte recue|"+
			"arrived|qty arrived|qty booked|booked qty|eingegangen|eingegangene menge|arrive|llegado|arrivato|aangekomen|"+
			"quantite recue|recu|cantidad recibida|recibido|quantita ricevuta|ricevuto|ontvangen|ontvangen aantal|modtaget|"+
			"mottatt|mottaget")},
	intent.Return: {order.Sales, [2]string{"return", "quantity"}, "return", "returned_on", true, []string{"reason"},
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
	intent.Invoice: {order.Sales, [2]string{"invoice", "quantity|invoiced_on"}, "invoice", "invoiced_on", true, []string{"unit_price", "price_basis",
		"amount", "currency", "total",
		"tax_amount", "tax_percent", "discount_percent", "charge.freight"}, []wording{
		{order.Header, "invoice", "invoice|invoice no|invoice number|invoice id|bill|bill no|inv no|rechnung|rechnungs no|" +
			"rechnungsno|facture|no facture|no de facture|factura|no factura|fattura|no fattura|factuur|factuur no|" +
			"factuurno|faktura|faktura no", "document no|document|no|id|number|reference|ref"},
		{order.Header, "invoiced_on", "invoice date|inv date|invoiced on|date of invoice|billed on|billing date|bill date|" +
			"rechnungsdatum|date facture|date de facture|fecha factura|fecha de factura|data fattura|factuurdatum|" +
			"fakturadato|fakturadatum", "date|datum|fecha|data|dato"},
		{order.Header, "billed_shipment", "shipment|shipment no|delivery note|delivery note no|despatch note|" +
			"lieferschein|lieferschein no|lieferscheinno|bon de livraison|albaran|ddt|pakbon", ""},
		{order.Lines, "quantity", "qty invoiced|invoiced qty|quantity invoiced|invoiced quantity|invoiced|qty billed|" +
			"billed qty|billed|rechnungsmenge|berechnete menge|qte facturee|quantite facturee|cantidad facturada|" +
			"quantita fatturata|gefactureerd", ""}}},
	intent.Answer: {order.Purchase, [2]string{"accepted", "answer|due_on"}, "", "answered_on", false, []string{"unit_price",
		"price_basis"}, []wording{
		{order.Header, "answered_on", "confirmation date|confirmed on|date confirmed|answered on|acknowledged on|" +
			"acknowledgement date|bestatigt am|auftragsbestatigung vom|date de confirmation|fecha confirmacion", ""},
		{order.Lines, "answer", "status|line status|confirmation status|confirmation|answer|response|reply|ack|ack code|" +
			"ack status|acknowledgement|confirmed|accepted|antwort|bestatigung|statut|reponse|estado|respuesta|stato|" +
			"risposta|antwoord", ""},
		{order.Lines, "accepted", "qty confirmed|confirmed qty|qty conf|conf qty|confirmed quantity|quantity confirmed|accepted qty|" +
			"qty accepted|accepted quantity|promised qty|qty promised|available qty|qty available|confirmed|accepted|" +
			"bestatigte menge|menge bestatigt|bestatigt|zugesagte menge|qte confirmee|quantite confirmee|confirme|" +
			"cantidad confirmada|confirmado|quantita confermata|confermato|bevestigd|bevestigd aantal|bekreftet", ""},
		{order.Lines, "due_on", "confirmed date|delivery week|confirmed week|liefer kw|lieferwoche|confirmed delivery|confirmed delivery date|promised date|promise date|" +
			"promised|promised on|promised delivery date|eta|new date|new delivery date|delivery date|available on|due|" +
			"due date|expected on|expected date|ship date|confirmed ship date|bestatigter termin|bestatigter liefertermin|" +
			"zugesagter termin|liefertermin|lieferdatum|date confirmee|date de livraison|date livraison|" +
			"fecha confirmada|fecha entrega|fecha de entrega|data confermata|data consegna|leverdatum|leveringsdato", ""},
		{order.Lines, "unit_price", "confirmed price|price confirmed|bestatigter preis|prix confirme|precio confirmado",
			""},
		{order.Lines, "reason", "reason|comment|comments|remark|remarks|note|notes|reason code|grund|bemerkung|" +
			"kommentar|motif|commentaire|motivo|comentario|reden|opmerking", ""}}},
	// any field of an order can be changed
	intent.Change: {order.Sales, [2]string{"change|change_number", "quantity|unit_price"}, "change_number", "changed_on", false, nil,
		[]wording{
			{order.Header, "change_number", "change no|change number|change id|change order|amendment|amendment no|" +
				"change request|anderungs no|anderungsno|no modification", ""},
			{order.Header, "changed_on", "change date|changed on|date of change|amended on|anderungsdatum|geandert am", ""},
			{order.Lines, "change", "change|action|change type|change code|what|what to do|operation|anderung|aktion|" +
				"modification|accion|azione|actie", "status|line status|state"},
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

// ofCustomers are headings of the number of a customer's order in what its seller writes.
var ofCustomers = []string{"customer po", "customer po no", "customer order", "customer order no", "customer order number",
	"kundenbestellung", "kundenbestellno", "no pedido cliente", "ordine cliente"}

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
