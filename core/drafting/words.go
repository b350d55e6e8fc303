package drafting

import (
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"unicode"

	"koinos/core/order"
)

// wording is what order documents call a field. Plain words are unambiguous; loose ones are also used for other things.
type wording struct {
	level order.Level
	field string
	plain string // separated by bars
	loose string
}

// wordings is the vocabulary: English, German, French, Spanish, Italian,
// Dutch, Portuguese, the Scandinavian languages and Polish. Those of the east are in eastern.go.
var wordings = []wording{
	{order.Header, "sender_number",
		"order no|po no|purchase order no|purchase order|po|your order no|customer order no|order ref|order " +
			"reference|po ref|web order|sales order no|bestell no|bestellno|bestelno|bestellung|auftrags " +
			"no|auftragsno|auftrag|beleg no|belegno|no commande|commande|no de commande|ref commande|no " +
			"pedido|pedido|no de pedido|no ordine|ordine|no d ordine|order no klant|bestelling|ordre no|ordreno|best " +
			"no|purch doc|purchasing document|purchasing doc|zamowienie|no zamowienia|encomenda|no encomenda|no da " +
			"encomenda|orderno|ordernumber|pono|purchaseorder|purchaseorderno|order code|order key",
		"order|reference|ref|our ref|your ref|document no|document|doc no|no|id|job|order nbr|number"},
	{order.Header, "ordered_on",
		"order date|ordered on|ordered|date ordered|ordered at|order time|order timestamp|date " +
			"created|created date|purchase date|purchased at|po date|date of order|placed on|placed at|order " +
			"placed|bestelldatum|auftragsdatum|bestellt am|date commande|date de commande|date de la commande|fecha " +
			"pedido|fecha de pedido|fecha del pedido|data ordine|data dell " +
			"ordine|orderdatum|besteldatum|ordredato|bestillingsdato|data zamowienia|data da encomenda|data " +
			"encomenda|orderdate|podate|document date|order day|doc date|doc dt|issued|issued on|issue date|date issued|creation date",
		"date|datum|fecha|data|dato|created|created at|created time|creation time|timestamp|placed|created on|" +
			"day|jour|belegdatum|dated|entered|entered " +
			"on|raised|raised on|booked on|submitted|submitted at|erfasst|erstellt"},
	{order.Header, "requested_delivery_on",
		"delivery date|deliver by|deliver on|requested delivery|requested delivery date|delivery on|required " +
			"date|required by|required on|wanted on|wanted by|need by|needed by|need date|due date|eta|delivery " +
			"day|lieferdatum|liefertermin|wunschtermin|wunschlieferdatum|lieferung am|date de livraison|date " +
			"livraison|livrer le|fecha de entrega|fecha entrega|data consegna|data di consegna|consegna " +
			"entro|leverdatum|leveringsdatum|leveringsdato|leveransdatum|gewenste leverdatum|data dostawy|data de " +
			"entrega|data entrega|deliverydate|arrive by|arrival date|in hands date|del date|deliv date|dlv date|" +
			"delv date|dely date|needed|promise " +
			"date|promised date|promised on|promised for",
		"delivery|due|need|promise|promised|wanted|livraison|entrega|consegna|levering|lieferung|leverans|required|deadline|dostawa|lt"},
	{order.Header, "requested_ship_on",
		"ship date|ship on|ship by|start ship|ship start|start ship date|ship start date|ship from|" +
			"ship window start|requested ship date|dispatch date|despatch date|dispatch by|dispatch " +
			"on|versanddatum|versand am|versandtermin|date d expedition|date expedition|fecha de envio|fecha " +
			"envio|data spedizione|data di spedizione|verzenddatum|afsendelsesdato|shipdate|shipping date|data wysylki",
		"ship|dispatch|versand|expedition|envio|spedizione"},
	{order.Header, "cancel_after",
		"cancel|cancel date|complete ship|ship window end|end ship|cancel after|cancel by|" +
			"cancel if not shipped by|stornodatum|stornieren nach|latest " +
			"delivery|last delivery date|not after", ""},
	{order.Header, "currency",
		"currency|ccy|curr|cur|currency code|wahrung|waehrung|devise|moneda|valuta|divisa|waluta|moeda", ""},
	{order.Header, "payment_terms",
		"terms|payment terms|terms of " +
			"payment|payment|zahlungsbedingungen|zahlungsbedingung|zahlungsziel|zahlung|conditions de " +
			"paiement|paiement|condiciones de pago|forma de pago|pagamento|termini di pagamento|condizioni di " +
			"pagamento|betalingstermijn|betalingscondities|betalingsbetingelser|betalningsvillkor", ""},
	{order.Header, "delivery_terms",
		"incoterms|incoterm|delivery terms|terms of delivery|lieferbedingungen|lieferbedingung|incoterm " +
			"code|conditions de livraison|leveringsvoorwaarden|leveringsbetingelser", ""},
	{order.Header, "price_level",
		"price level|price list|price group|preisliste|preisgruppe|tarif|lista de precios|listino|prijslijst|prisliste",
		""},
	{order.Header, "partner",
		"customer no|customer code|customer id|account no|account code|supplier no|supplier code|vendor no|vendor " +
			"code|vendor id|kunden no|kundenno|kdno|kdnr|kd no|lieferanten no|lieferantenno|code client|no client|code " +
			"fournisseur|codigo cliente|codigo proveedor|codice cliente|codice fornitore|klant " +
			"no|klantno|leverancier no|kunde no|kundeno|kund no|supplierno|customerno|customer account|buyer " +
			"code|sold to|sold to party|sold to no|debitor|debitor no|debitorno|kreditor|kreditor no|kreditorno",
		"customer|account|supplier|vendor|kunde|lieferant|client|fournisseur|cliente|proveedor|fornitore|klant|" +
			"leverancier|kund|leverantor|leverandor|kontrahent|fornecedor|buyer|partner|seller"},
	{order.Header, "total",
		"order total|grand total|total order|order value|order sum|order amount|total amount|total value|total " +
			"price|gesamtsumme|gesamtbetrag|auftragssumme|bestellsumme|rechnungsbetrag|total commande|total " +
			"general|montant total|total pedido|importe total|totale " +
			"ordine|ordertotaal|totaalbedrag|totalbelop|ordresum|ordretotal|total encomenda|total due|totals gross|totals total|" +
			"total gross|totals grand total|summary total|total incl tax|total incl vat|total with tax", ""},
	{order.Header, "total_before_tax",
		"total before tax|total without tax|total excl tax|total ex tax|total excl vat|total ex vat|order total excl vat|" +
			"totals net|summary net|total ht|totale imponibile|totaal excl btw", ""},
	{order.Header, "tax_amount",
		"taxes|total taxes|tax amount|vat amount|total tax|total vat|mwst betrag|steuerbetrag|montant tva|importe iva|importo iva|btw " +
			"bedrag|momsbelob|order tax|totals tax|totals vat|summary tax|summary vat", ""},
	{order.Header, "notes",
		"notes|note|remark|remarks|comment|comments|instructions|special instructions|delivery " +
			"notes|bemerkung|bemerkungen|hinweis|hinweise|notiz|remarque|remarques|commentaire|observaciones|" +
			"comentarios|notas|opmerking|opmerkingen|anmerkung|bemaerkning|merknad|anmarkning|uwagi|" +
			"osservazioni|observacoes|memo|message", ""},
	{order.Header, "reference.contract",
		"contract|contract no|contract id|vertrag|vertrags no|contrat|contrato|contratto|kontrakt", ""},
	{order.Header, "carrier.name", aboutCarriers + "|carrier name|shipping method|ship method|delivery method|shipping " +
		"service|delivery service|versandart|versandweg", ""},
	{order.Header, "charge.freight",
		"freight|shipping|shipping cost|shipping costs|freight charge|delivery " +
			"charge|fracht|frachtkosten|versandkosten|frais de port|port|portes|gastos de envio|trasporto|spese di " +
			"trasporto|verzendkosten|vracht|fragt|frakt|postage|shipping fee|carriage", ""},
	{order.Header, "allowance.discount", "total discount|order discount|totals discount|discounts total|cart discount|coupon " +
		"discount|gesamtrabatt|auftragsrabatt|remise totale|descuento total|sconto totale|korting totaal",
		"discount|discount total|discount amount"},
	{order.Header, "ship_to.code",
		"ship to code|ship to no|ship to id|ship to location|deliver to code|delivery code|store no|store code|yard " +
			"code|branch code|branch no|filial no|filialno|lieferort|lieu de livraison|delivery location|delivery " +
			"site|receiving location|destination code",
		"yard|store|branch|site|filiale|destination|deliver to|ship to|depot"},
	{order.Header, "ship_to.name",
		"ship to name|deliver to name|delivery " +
			"name|recipient|consignee|receiver|lieferempfanger|empfanger|warenempfanger|destinataire|" +
			"destinatario|ontvanger|mottaker|modtager", "ship to|deliver to|delivery address|lieferadresse|" +
			"adresse de livraison|direccion de entrega|afleveradres|leveringsadresse"},

	{order.Lines, "number",
		"line|line no|line number|lijn|pos|position|pos no|posno|row|row no|ligne|no " +
			"ligne|linea|regel|regelno|zeile|lnr|rad|linje|no linea|lineno|item line|lp|riga|no riga|order " +
			"item|sales order item", "no|item|nr"},
	{order.Lines, "item",
		"item|item no|item code|style no|style code|item id|sku|stock code|article|article no|article code|part " +
			"no|part|part " +
			"number|product no|product code|product id|material no|material|artikel|artikel no|artikelno|art " +
			"no|artno|art|code article|no article|article ref|codigo articulo|codigo de articulo|codigo|articulo|cod " +
			"articulo|codice|codice articolo|articolo|cod articolo|produktno|varenummer|vare " +
			"no|vareno|varenno|artikelcode|produktkode|kod|kod towaru|indeks|codigo artigo|artigo|our item|our " +
			"code|itemcode|itemno|partno|productcode|articleno|stock no|catalogue no|catalog no|cat no|model no",
		"code|product|reference|ref|produkt|produit|producto|prodotto|no|id|model|style|design"},
	{order.Lines, "buyer_item",
		"customer item|customer part no|buyer item|buyer part no|your item|your part no|your article " +
			"no|kundenartikelno|kundenartikel no|ihre artikel no|ref client|buyer item code|customer sku", ""},
	{order.Lines, "supplier_item",
		"supplier item|supplier part no|supplier sku|vendor item|vendor part no|vendor sku|mfr part no|manufacturer " +
			"part no|their article|lieferantenartikel no|lieferantenartikelno|ref fournisseur|reference " +
			"fournisseur|referencia proveedor|leveranciersartikel|supplier code item|supplier article|codice " +
			"fornitore articolo", ""},
	{order.Lines, "gtin",
		"gtin|ean|ean code|ean 13|ean13|upc|upc code|barcode|bar code|streckcode|strichcode|code barres|codigo de " +
			"barras|codice a barre|kod ean|gtin 13|gtin 14", ""},
	{order.Lines, "description",
		"description|desc|item desc|product desc|item description|product description|product name|item name|article " +
			"description|artikelbezeichnung|kurztext|artikeltext|warenbezeichnung|bezeichnung|beschreibung|" +
			"designation|libelle|descripcion|descrizione|omschrijving|beskrivelse|benamning|benaming|" +
			"varetekst|denumire|opis|nazwa|nazwa towaru|descricao|article name|produktname|text|goods|what|" +
			"articlename|productname|itemdescription|item title|title",
		"name|product|produkt|artikel|item|article|produit|details|colour|color|varenavn|navn"},
	{order.Lines, "quantity",
		"qty|quantity|qty ordered|ordered qty|quantity ordered|order qty|order " +
			"quantity|pieces|pcs|menge|mge|anzahl|stuck|stueck|stk|bestellmenge|quantite|qte|quantite " +
			"commandee|cantidad|cant|cantidades|quantita|q " +
			"ta|qta|aantal|hoeveelheid|antal|antall|kvantitet|ilosc|qtd|quantidade|qtde|units ordered|how " +
			"many|kolicina|quant|order pieces|qty pcs", "amount|units|boxes|metres|litres|ordered|count|st|no"},
	{order.Lines, "unit",
		"unit|uom|oun|o un|order unit|u m|um|u|unit of measure|units of measure|einheit|mengeneinheit|me|unite|unidad|ud|unita|unita di " +
			"misura|eenheid|enhed|enhet|jm|jednostka|unidade|un|measure|order unit|enh", "pack|packaging"},
	{order.Lines, "unit_price",
		"price|wholesale|wholesale price|whsl|sales price|selling price|verkaufspreis|verkoopprijs|salgspris|forsaljningspris|" +
			"unit price|each|price each|price unit|item price|net price|unit " +
			"cost|cost|preis|einzelpreis|vk|vk preis|ek|ek preis|stuckpreis|stueckpreis|nettopreis|ep|e " +
			"preis|prix|prix unitaire|pu|prix " +
			"unit|p u|precio|precio unitario|precio unidad|prezzo|prezzo " +
			"unitario|prijs|stuksprijs|eenheidsprijs|pris|a pris|stykpris|enhetspris|cena|cena netto|preco|preco " +
			"unitario|unitprice|price ea|rate", ""},
	{order.Lines, "price_basis",
		"price basis|price per|per|pricing unit|pricing uom|price uom|price um|preiseinheit|price quantity|price unit qty|pe|per qty",
		""},
	{order.Lines, "discount_percent",
		"discount|disc|disc %|discount %|rabatt|rab|rab %|rabatt %|remise|remise %|descuento|dto|dto %|desc " +
			"%|sconto|sconto " +
			"%|korting|korting %|rabat|rabat %|rabais|desconto|less|less %|sc|sc %|sconto percentuale|discount " +
			"percent|discount pct|rebate %", ""},
	{order.Lines, "allowance.discount", "discount amount|discount value|disc amount|discount total|rabattbetrag|rabatt " +
		"betrag|montant remise|remise montant|importe descuento|importo sconto|kortingsbedrag|korting bedrag|rabatbelob|rabatt belopp", ""},
	{order.Lines, "tax_percent",
		"vat|vat %|tax %|tax rate|vat rate|mwst|mwst %|ust|ust %|tva|tva %|iva|iva %|btw|btw %|moms|moms " +
			"%|steuersatz|taux tva|tax percent", "tax"},
	{order.Lines, "amount",
		"amount|line total|line amount|extended|extended amount|extended cost|extended value|extended price|ext " +
			"price|line value|net amount|net " +
			"value|wert|betrag|belopp|gesamtpreis|positionswert|zeilensumme|nettobetrag|gp|montant|montant ht|total " +
			"ligne|importe|importo|bedrag|regeltotaal|belob|belop|wartosc|wartosc netto|valor|linetotal|line " +
			"sum|value|sum", "total|summe|gesamt|somme|suma|somma|totaal|net|totale|price total"},
	{order.Lines, "location",
		"location|warehouse|whs|whse|from warehouse|lager|lagerort|entrepot|almacen|magazzino|magazijn|ship from|stock " +
			"location|bin|magazyn|armazem|from location", "store|yard"},
	{order.Lines, "shipped",
		"shipped|qty shipped|shipped qty|quantity shipped|delivered|geliefert|gelieferte " +
			"menge|livre|enviado|spedito|geleverd", ""},
	{order.Lines, "received", "received|qty received|received qty|erhalten|recu|recibido|ricevuto|ontvangen", ""},
	{order.Lines, "cancelled", "cancelled|qty cancelled|canceled|storniert|annule|cancelado|annullato|geannuleerd", ""},
}

// roles and parts make the parties' fields: "Ship to city", "Lieferort PLZ".
var roleWords = map[string]string{
	"ship_to": "ship to|shipto|shipping|lieferort|deliver to|deliverto|delivery|delivery address|shipping " +
		"address|liefer|lieferadresse|lieferanschrift|livraison|entrega|envio|consegna|lever|levering|consignee|recipient|destination",
	"bill_to": "bill to|billto|billing|billing address|invoice " +
		"to|invoice|rechnung|rechnungsadresse|facturation|factuur|facturacion|fattura|faktura",
	"buyer":    "buyer|purchaser|ordered by|besteller|einkaufer|acheteur|comprador|inkoper",
	"supplier": "supplier|vendor|seller|lieferant|fournisseur|proveedor|fornitore|leverancier",
}

var partWords = []struct{ part, words string }{
	{"name", "name|company|firm|firma|nom|nombre|nome|naam|navn|namn|company name"},
	{"name2", "name 2|name2|name line 2|company 2|company name 2|firma 2|firma2|nom 2|care of|c o|in care of|zusatz|" +
		"namenszusatz|name zusatz"},
	{"street", "street|address|address 1|address1|address line|address line 1|street " +
		"1|strasse|str|adresse|rue|direccion|calle|indirizzo|via|straat|adres|gade|gate|adress|ulica|addr|addr 1|" +
		"addr1|address 1|line1|line 1"},
	{"street2", "address 2|address2|addr 2|addr2|address line 2|street 2|line2|line 2"},
	{"city", "city|town|ort|stadt|ville|ciudad|citta|plaats|stad|by|poststed|miasto|cidade|localidad"},
	{"region", "state|st|region|county|province|provincia|bundesland|kanton"},
	{"postal_code", "zip|zip code|zipcode|postcode|post code|postal code|postalcode|plz|postleitzahl|code " +
		"postal|cp|codigo postal|cap|postno|postnummer|kod pocztowy"},
	{"country", "country|country code|land|pays|pais|paese|kraj"},
	{"contact", "contact|contact name|contact " +
		"person|attention|attn|ansprechpartner|kontakt|contacto|contatto|contactpersoon"},
	{"phone", "phone|telephone|tel|phone no|mobile|telefon|telefono|telefoon"},
	{"email", "email|e mail|mail|email address"},
	{"code", "code|id|no|gln|location no"},
}

// totals are the words with which rows of sums begin.
var totals = []string{"total", "grand total", "sub total", "subtotal", "sum", "summe", "gesamt", "gesamtsumme",
	"zwischensumme", "totale", "totaal", "suma", "somme", "sous total", "razem", "i alt", "sammenlagt", "summa",
	"importe total", "soma", "sum total", "montant total", "order total", "carried forward", "ubertrag", "page total"}

var plainLetters = strings.NewReplacer("ä", "a", "ö", "o", "ü", "u", "ß", "ss", "é", "e", "è", "e", "ê", "e", "à", "a",
	"â", "a", "ç", "c", "ñ", "n", "ó", "o", "ò", "o", "í", "i", "á", "a", "ú", "u", "ù", "u", "ø", "o", "å", "a", "æ",
	"ae", "ã", "a", "õ", "o", "ł", "l", "ś", "s", "ć", "c", "ę", "e", "ą", "a", "ż", "z", "ź", "z", "ń", "n", "î", "i",
	"ô", "o", "û", "u", "ë", "e", "ï", "i", "ì", "i", "č", "c", "ř", "r", "ě", "e", "š", "s", "ž", "z", "ý", "y", "ů", "u",
	"ť", "t", "ď", "d", "ň", "n", "ő", "o", "ű", "u", "ş", "s", "ğ", "g", "ı", "i", "i̇", "i")

var numberWords = map[string]bool{"nr": true, "number": true, "num": true, "nummer": true, "nbr": true, "numero": true,
	"n": true, "nº": true, "n°": true, "№": true, "#": true, "numer": true, "nro": true}

// short are abbreviations in the headings of exports, as in CUST_NO, ORD_DT, EXT_AMT.
var short = map[string]string{"cust": "customer", "cus": "customer", "vend": "vendor", "vnd": "vendor",
	"sup": "supplier", "ord": "order",
	"dt": "date", "dte": "date", "trk": "tracking", "carr": "carrier", "itm": "item", "prod": "product", "art": "article",
	"dsc":   "description",
	"descr": "description", "prc": "price",
	"amt": "amount", "ext": "extended", "disc": "discount", "deliv": "delivery", "dlv": "delivery", "dlvy": "delivery",
	"req":  "requested",
	"rqst": "requested", "reqd": "requested", "shp": "ship", "addr": "address", "unt": "unit", "um": "uom",
	"curr": "currency", "ccy": "currency", "cd": "code",
	"ln": "line", "whse": "warehouse", "wh": "warehouse", "qnty": "qty", "quan": "qty"}

// plainWords splits a heading into the words that are compared: without accents and signs, at changes of case, with the
// same word for every form of "number".
func plainWords(s string) []string {
	var b strings.Builder
	before := rune(0)
	for _, r := range strings.ReplaceAll(s, "MwSt", "Mwst") {
		if unicode.IsUpper(r) && unicode.IsLower(before) {
			b.WriteByte(' ')
		}
		before = r
		if r == '#' || r == '№' {
			b.WriteString(" # ")
			continue
		}
		b.WriteRune(unicode.ToLower(r))
	}
	text := plainLetters.Replace(b.String())
	text = strings.NewReplacer("n°", " no ", "nº", " no ", "%", " % ").Replace(text)
	fields := strings.FieldsFunc(text, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '%' && r != '#'
	})
	var words []string
	for _, w := range fields {
		if pieces := cutShort(w); pieces != nil {
			words = append(words, pieces...)
			continue
		}
		if whole := short[w]; whole != "" {
			w = whole
		}
		if numberWords[w] {
			w = "no"
		} else if len(w) > 5 && strings.HasSuffix(w, "nummer") {
			w = strings.TrimSuffix(w, "nummer") + "no"
		} else if len(w) > 4 && strings.HasSuffix(w, "nr") {
			w = strings.TrimSuffix(w, "nr") + "no"
		}
		words = append(words, w)
	}
	return words
}

// clipped are the pieces that names without vowels are made of, as in SLSORDNBR.
var clipped = map[string]string{"sls": "", "ord": "order", "cus": "customer", "cust": "customer", "vnd": "vendor",
	"vend": "vendor", "sup": "supplier", "nbr": "no", "num": "no", "dte": "date", "dt": "date", "req": "requested",
	"rqd": "requested", "shp": "ship", "dlv": "delivery", "del": "delivery", "lin": "line", "ln": "line", "itm": "item",
	"prt": "part", "dsc": "description", "desc": "description", "qty": "qty", "uom": "uom", "cde": "code", "cd": "code",
	"unt": "unit", "prc": "price", "amt": "amount", "ext": "extended", "dsct": "discount", "pct": "%",
	"loc": "location",
	"whs": "warehouse", "po": "po", "so": "sales order"}

// cutShort splits a word into such pieces; nil if it is not made of them.
func cutShort(w string) []string {
	if len(w) < 6 || conceptOf[w] != "" {
		return nil
	}
	var pieces []string
	for rest := w; rest != ""; {
		found := ""
		for n := min(4, len(rest)); n >= 2; n-- {
			if _, known := clipped[rest[:n]]; known {
				found = rest[:n]
				break
			}
		}
		if found == "" {
			return nil
		}
		pieces = append(pieces, strings.Fields(clipped[found])...)
		rest = rest[len(found):]
	}
	return pieces
}

// fill are words that have no meaning for what a column is.
var fill = map[string]bool{"the": true, "of": true, "de": true, "la": true, "le": true, "der": true, "die": true,
	"das": true, "del": true, "van": true, "eur": true, "usd": true, "gbp": true, "€": true, "in": true, "per": true,
	"net": true, "netto": true, "ht": true, "excl": true, "requested": true, "no": true}

// about are words that only say what a heading is about.
var about = map[string]bool{"item": true, "line": true, "order": true, "product": true, "article": true,
	"artikel": true, "position": true, "pos": true}

// hint is a field that a heading can mean.
type hint struct {
	level order.Level
	field string
	score float64
	word  string
}

type entry struct {
	level  order.Level
	field  string
	words  []string
	joined string // the words with a space between
	run    string // and with none
	text   string
	top    float64
}

// vocabulary is what headings are compared with. Making it takes as long as a short command, so it is made only when it
// is needed.
var vocabulary = sync.OnceValue(func() []entry {
	all := slices.Concat(entriesOf(wordings), entriesOf(furtherWordings), entriesOf(easternWordings))
	add := func(level order.Level, field, words string, top float64) {
		all = append(all, entries(level, field, words, top)...)
	}
	for _, role := range []string{"ship_to", "bill_to", "buyer", "supplier"} {
		for _, part := range partWords {
			for _, r := range strings.Split(roleWords[role], "|") {
				if role == "bill_to" && part.part == "code" && !strings.Contains(r, "to") {
					continue // an invoice's number
				}
				for _, p := range strings.Split(part.words, "|") {
					add(order.Header, role+"."+part.part, r+" "+p, 0.97)
				}
			}
		}
	}
	for _, part := range partWords {
		switch part.part { // whose it is, the heading does not say
		case "code", "contact":
		case "phone", "email": // goods need an address, people a number
			add(order.Header, "buyer."+part.part, part.words, 0.66)
		default:
			add(order.Header, "ship_to."+part.part, part.words, 0.68)
		}
	}
	add(order.Header, "sender_number", "order id", 0.95) // a program's own, where there is a number besides
	add(order.Header, "buyer.contact",
		"contact|contact name|contact person|attention|attn|ordered "+
			"by|ansprechpartner|besteller|kontakt|contacto|contatto|contactpersoon|buyer name|buyer", 0.66)
	return all
})

// entries are the words of a field, separated by bars.
func entries(level order.Level, field, words string, top float64) (all []entry) {
	for _, w := range strings.Split(words, "|") {
		if w != "" {
			words := plainWords(w)
			all = append(all, entry{level, field, words, strings.Join(words, " "), strings.Join(words, ""), w, top})
		}
	}
	return all
}

// entriesOf are all words of some wordings.
func entriesOf(list []wording) (all []entry) {
	for _, w := range list {
		all = append(append(all, entries(w.level, w.field, w.plain, 1)...), entries(w.level, w.field, w.loose, 0.72)...)
	}
	return all
}

// hints returns what a heading can mean, the best first.
func hints(heading string) []hint {
	words := plainWords(heading)
	if len(words) == 0 || len(words) > 8 {
		return nil
	}
	if all, ok := hintsSeen.Load(heading); ok {
		return all.([]hint)
	}
	all := hintsFrom(words, vocabulary(), combinedHints(words, strings.Join(words, " "))...)
	if hintsKept.Add(1) < 10_000 { // headings come again, strangers' texts do not
		hintsSeen.Store(heading, slices.Clip(all))
	}
	return all
}

// hintsFrom returns what words can mean by a vocabulary, together with besides, the best first.
func hintsFrom(words []string, vocabulary []entry, besides ...hint) []hint {
	if len(words) == 0 || len(words) > 8 {
		return nil
	}
	joined, run := strings.Join(words, " "), strings.Join(words, "")
	best := map[[2]string]hint{}
	said := len(words) == 1 && slices.ContainsFunc(vocabulary, func(e entry) bool { return e.joined == joined })
	for i := range vocabulary {
		e := &vocabulary[i]
		score := alike(words, joined, run, e) * e.top
		if said && e.joined != joined {
			score *= 0.9 // "contact" is near "contract", but a word of its own
		}
		key := [2]string{string(e.level), e.field}
		if score >= 0.4 && score > best[key].score {
			best[key] = hint{e.level, e.field, score, e.text}
		}
	}
	for _, h := range besides {
		if key := [2]string{string(h.level), h.field}; h.score > best[key].score {
			best[key] = h
		}
	}
	var all []hint
	for _, h := range best {
		all = append(all, h)
	}
	slices.SortFunc(all, func(a, b hint) int {
		if a.score != b.score {
			if a.score > b.score {
				return -1
			}
			return 1
		}
		return strings.Compare(string(a.level)+a.field, string(b.level)+b.field)
	})
	return all
}

var (
	hintsSeen sync.Map
	hintsKept atomic.Int64
)

// isTotal reports whether a text begins a row of sums.
func isTotal(text string) bool {
	words := plainWords(text)
	for _, t := range totals {
		want := strings.Fields(t)
		if len(words) >= len(want) && len(words) <= len(want)+4 && slices.Equal(words[:len(want)], want) {
			return true
		}
	}
	for _, w := range words[:min(len(words), 3)] { // net total, montant total HT
		if len(words) <= 4 && sumWords[w] {
			return true
		}
	}
	return false
}

// isSumOf reports whether a text names a sum of all lines, such as "Nettosumme",
// or the tax on them, such as "MwSt. 19 %".
func isSumOf(text string) bool { return len(sumOf(text)) > 0 }

// sumOf returns the concepts of such a text, or none if it is no such text.
func sumOf(text string) []concept {
	words := plainWords(text)
	if len(words) == 0 || len(words) > 4 {
		return nil
	}
	spoken, strange := spokenOf(slices.DeleteFunc(words, func(w string) bool {
		return w == "%" || strings.Trim(w, "0123456789") == ""
	}))
	sum := slices.Contains(spoken, "amount") || slices.Contains(spoken, "tax")
	if !sum || strange > 0 || slices.ContainsFunc(spoken, func(c concept) bool {
		return c != "amount" && c != "tax" && c != "net" && c != "order"
	}) {
		return nil
	}
	return spoken
}

// sumWords are words that mean a sum in any short text.
var sumWords = map[string]bool{"total": true, "subtotal": true, "summe": true, "gesamtsumme": true,
	"zwischensumme": true,
	"totale":        true, "totaal": true, "somme": true, "suma": true, "summa": true, "soma": true, "razem": true}

var (
	oldWords = words("old|previous|prev|former|alte|vorherig|vorherige|ancien|ancienne|anterior|precedente|oud|oude|gammel|gammal|vanha")
	newWords = words("new|revised|neu|neue|neuer|nouveau|nouvelle|nuevo|nueva|nuovo|nuova|nieuw|nieuwe|ny|nytt|nya|uusi")
)

// oldOrNew understands a heading that says which of two values it has, such as "Menge alt" beside "Menge neu": the new
// one counts.
func oldOrNew(heading string, all []hint) []hint {
	said := plainWords(heading)
	if len(said) < 2 {
		return all
	}
	if said[len(said)-1] == "alt" || slices.ContainsFunc(said, func(w string) bool { return oldWords[w] }) {
		out := slices.Clone(all)
		for i := range out {
			out[i].score *= 0.4
		}
		return out
	}
	rest := slices.DeleteFunc(slices.Clone(said), func(w string) bool { return newWords[w] })
	if len(rest) == len(said) || len(rest) == 0 {
		return all
	}
	if plain := hints(strings.Join(rest, " ")); best(plain) > best(all) {
		return plain
	}
	return all
}
