package corpus

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

func cols(s string) []string { return strings.Split(s, "|") }

// layouts are documents of rows.
var layouts = []layout{
	{name: "en-flat", seed: 1,
		columns: cols("sender_number=Order no|ordered_on=Order " +
			"date|item=Item|description=Description|quantity=Qty|unit=Unit|unit_price=Price|amount=Amount")},
	{name: "en-once", seed: 2, once: true,
		columns: cols("sender_number=PO Number|ordered_on=PO Date|ship_to.city=Ship to " +
			"city|item=SKU|quantity=Quantity|unit_price=Unit Price")},
	{name: "en-titles", seed: 3, above: []string{"Orders of the week", "printed|2026-03-12", ""},
		below: []string{"", "Total|||||||99"},
		columns: cols("sender_number=PO no.|ordered_on=Date|requested_delivery_on=Delivery date|item=Article " +
			"no.|description=Article|quantity=Pieces|unit_price=Price each|amount=Sum")},
	{name: "en-us-dates", seed: 4, orders: 14, date: "01/02/2006",
		columns: cols("sender_number=Purchase Order|ordered_on=Ordered|requested_delivery_on=Need By|item=Part " +
			"Number|description=Item description|quantity=Order Qty|unit=UOM|unit_price=Unit cost|amount=Extended price")},
	{name: "en-scattered", seed: 5, scattered: true,
		columns: cols("sender_number=Order id|ordered_on=Date ordered|item=Product code|quantity=Qty " +
			"ordered|unit_price=Price")},
	{name: "en-gtin", seed: 6,
		columns: cols("sender_number=Your order no|ordered_on=Ordered on|gtin=Barcode|description=Product " +
			"name|quantity=Units ordered|unit_price=Net price|tax_percent=VAT %")},
	{name: "en-extra", seed: 7,
		columns: cols("-=Flag|sender_number=Order ref|ordered_on=Order date|-=Rep|item=Stock " +
			"code|description=Description|quantity=Quantity|unit_price=Price|amount=Line total|notes=Remarks")},
	{name: "en-party", seed: 8,
		columns: cols("sender_number=order_id|ordered_on=order_date|ship_to.name=ship_to_name|" +
			"ship_to.postal_code=ship_to_zip|ship_to.city=ship_to_city|item=sku|description=product_name|" +
			"quantity=qty|unit_price=unit_price|amount=line_total|currency=currency")},
	{name: "en-subtotals", seed: 9, sums: "Subtotal",
		columns: cols("sender_number=Order no|ordered_on=Order date|item=Item " +
			"no|description=Description|quantity=Qty|unit_price=Price|amount=Amount")},
	{name: "en-totals-once", seed: 10, once: true, sums: "Total", below: []string{"Grand total|||||||1234"},
		columns: cols("sender_number=Order number|ordered_on=Order date|requested_delivery_on=Due date|item=Item " +
			"code|description=Item description|quantity=Qty|unit_price=Price|amount=Value")},
	{name: "en-gap", seed: 11, gap: true,
		columns: cols("ordered_on=Order date|item=Item|description=Description|quantity=Qty|unit_price=Price")},
	{name: "en-two-rows", seed: 12, heads: []string{"Order", "", "Item", "", "", ""},
		columns: cols("sender_number=No|ordered_on=Date|item=Code|description=Name|quantity=Qty|unit_price=Price")},
	{name: "en-book", seed: 13, book: "Orders March", above: []string{"Saltry Sailing School", ""},
		columns: cols("sender_number=Order|ordered_on=Ordered on|requested_delivery_on=Wanted " +
			"on|item=Item|description=What|quantity=Qty|unit=Unit|unit_price=Each")},
	{name: "en-book-once", seed: 14, once: true, book: "Sheet A",
		columns: cols("sender_number=P.O. #|ordered_on=P.O. Date|partner=Customer No|item=Part " +
			"#|description=Description|quantity=QTY|unit=U/M|unit_price=PRICE|amount=EXT PRICE")},
	{name: "en-tab", seed: 15, delimiter: "\t", date: "02 Jan 2006",
		columns: cols("sender_number=Customer order no|ordered_on=Placed on|requested_delivery_on=Deliver " +
			"by|item=Product id|quantity=Ordered qty|unit_price=Price|payment_terms=Terms")},
	{name: "de-flat", seed: 16, delimiter: ";", decimal: ",", date: "02.01.2006",
		columns: cols("sender_number=Bestellnummer|ordered_on=Bestelldatum|item=Artikelnr.|" +
			"description=Bezeichnung|quantity=Menge|unit=Einheit|unit_price=Einzelpreis|amount=Gesamtpreis")},
	{name: "de-once", seed: 17, delimiter: ";", decimal: ",", date: "02.01.06", once: true,
		below: []string{";", "Gesamtsumme|||||||77,00"},
		columns: cols("sender_number=Auftragsnr.|ordered_on=Auftragsdatum|requested_delivery_on=Liefertermin|" +
			"number=Pos.|item=Art.-Nr.|description=Artikelbezeichnung|quantity=Anzahl|unit_price=Preis")},
	{name: "de-book", seed: 18, decimal: ",", date: "02.01.2006", book: "Bestellungen",
		above: []string{"Bootswerft Ostrand", "Bestellungen KW 12", ""},
		columns: cols("sender_number=Bestell-Nr.|ordered_on=Datum|ship_to.city=Lieferort " +
			"Ort|item=Artikel|quantity=Stück|unit_price=Preis €|amount=Betrag €")},
	{name: "fr-flat", seed: 19, delimiter: ";", decimal: ",", date: "02/01/2006",
		columns: cols("sender_number=N° commande|ordered_on=Date commande|requested_delivery_on=Date de " +
			"livraison|item=Code article|description=Désignation|quantity=Quantité|unit_price=Prix " +
			"unitaire|amount=Montant")},
	{name: "fr-once", seed: 20, delimiter: ";", decimal: ",", date: "02/01/2006", once: true,
		columns: cols("sender_number=Commande|ordered_on=Date|item=Réf.|description=Libellé|quantity=Qté|" +
			"unit_price=PU|tax_percent=TVA|amount=Montant HT")},
	{name: "es-flat", seed: 21, delimiter: ";", decimal: ",", date: "02/01/2006",
		columns: cols("sender_number=Nº pedido|ordered_on=Fecha pedido|requested_delivery_on=Fecha de " +
			"entrega|item=Código artículo|description=Descripción|quantity=Cantidad|unit_price=Precio|amount=Importe")},
	{name: "it-flat", seed: 22, delimiter: ";", decimal: ",", date: "02/01/2006",
		columns: cols("sender_number=Numero ordine|ordered_on=Data ordine|requested_delivery_on=Data " +
			"consegna|item=Codice " +
			"articolo|description=Descrizione|quantity=Quantità|unit=U.M.|unit_price=Prezzo|amount=Importo")},
	{name: "nl-once", seed: 23, delimiter: ";", decimal: ",", date: "02-01-2006", once: true,
		columns: cols("sender_number=Ordernummer|ordered_on=Orderdatum|requested_delivery_on=Leverdatum|" +
			"item=Artikelcode|description=Omschrijving|quantity=Aantal|unit=Eenheid|unit_price=Prijs|amount=Bedrag")},
	{name: "sv-flat", seed: 24, delimiter: ";", decimal: ",",
		columns: cols("sender_number=Ordernr|ordered_on=Orderdatum|item=Artikelnr|description=Benämning|" +
			"quantity=Antal|unit=Enhet|unit_price=Pris|amount=Belopp")},
	{name: "da-flat", seed: 25, delimiter: ";", decimal: ",", date: "02-01-2006",
		columns: cols("sender_number=Ordrenummer|ordered_on=Ordredato|requested_delivery_on=Leveringsdato|" +
			"item=Varenummer|description=Varetekst|quantity=Antal|unit_price=Stykpris|amount=Beløb")},
	{name: "pl-flat", seed: 26, delimiter: ";", decimal: ",", date: "02.01.2006",
		columns: cols("sender_number=Nr zamówienia|ordered_on=Data zamówienia|item=Kod towaru|description=Nazwa " +
			"towaru|quantity=Ilość|unit=J.m.|unit_price=Cena netto|amount=Wartość netto")},
	{name: "pt-flat", seed: 27, delimiter: ";", decimal: ",", date: "02/01/2006",
		columns: cols("sender_number=Encomenda|ordered_on=Data " +
			"encomenda|item=Código|description=Descrição|quantity=Quantidade|unit_price=Preço unitário|amount=Valor")},
	{name: "en-no-heading", seed: 28, noHeading: true,
		columns: cols("sender_number=|ordered_on=|gtin=|description=|quantity=|unit_price=|amount=")},
	{name: "en-order-total", seed: 29, once: true,
		columns: cols("sender_number=Order no|ordered_on=Order date|total=Order " +
			"total|currency=Currency|item=Article|description=Description|quantity=Qty|unit_price=Price|amount=Line amount")},
	{name: "en-misspelt", seed: 30,
		columns: cols("sender_number=Oder number|ordered_on=Order dat|item=Artcle " +
			"no|description=Descripton|quantity=Quantitiy|unit_price=Unit prise")},
	{name: "en-short", seed: 31,
		columns: cols("sender_number=PO|ordered_on=Ordered|item=Part|quantity=Qty|unit=UM|unit_price=Price|amount=Ext")},
	{name: "en-camel", seed: 32,
		columns: cols("sender_number=OrderNumber|ordered_on=OrderDate|partner=CustomerCode|item=ItemCode|" +
			"description=ItemDescription|quantity=QtyOrdered|unit_price=UnitPrice|amount=LineAmount")},
	{name: "en-footer-notes", seed: 33, below: []string{"", "All prices without tax", "Thank you for your order"},
		columns: cols("sender_number=Order no|ordered_on=Date|item=Item|description=Description|" +
			"quantity=Quantity|unit_price=Price|amount=Total")},
}

// Samples returns every document of the corpus.
func Samples() []Sample {
	var all []Sample
	for i := range layouts {
		all = append(all, layouts[i].sample())
	}
	return append(all, forms()...)
}

// forms are documents in other shapes than one table of lines.
func forms() []Sample {
	return append(append([]Sample{
		sheets("form-sheets", 41, func(o *anOrder) [][]string {
			return [][]string{{"Purchase order"}, {"Order no:", o.head["sender_number"], "", "Order date:",
				o.head["ordered_on"]}, {"Delivery date:", o.head["requested_delivery_on"]}, nil}
		}, cols("item=Article no|description=Description|quantity=Qty|unit_price=Price"),
			map[string]string{"header.sender_number": "Order no", "header.ordered_on": "Order date",
				"header.requested_delivery_on": "Delivery date"}),
		sheets("form-sheets-de", 42, func(o *anOrder) [][]string {
			return [][]string{{"Bestellung Nr.: " + o.head["sender_number"]},
				{"Bestelldatum", dotted(o.head["ordered_on"])}, nil}
		}, cols("number=Pos|item=Artikelnummer|description=Bezeichnung|quantity=Menge|unit=Einheit"),
			map[string]string{"header.sender_number": "Bestellung Nr.", "header.ordered_on": "Bestelldatum"}),
		stacked("form-stacked", 43),
		joined("join", 44),
		wide("wide", 45, "sku_%d", "qty_%d", "sku_{n}", "qty_{n}"),
		wide("wide-words", 46, "Item %d", "Quantity %d", "Item {n}", "Quantity {n}"),
		wide("wide-same", 47, "Article", "Pieces", "Article", "Pieces"),
		matrix("matrix-sizes", 48, []string{"S", "M", "L", "XL"}, "lines.custom.size"),
		matrix("matrix-days", 49, []string{"2026-04-01", "2026-04-08", "2026-04-15"}, "lines.requested_delivery_on"),
		kinds("kinds", 50, "H", "L"), kinds("kinds-words", 51, "HDR", "LIN"),
	}, trees()...), single("form-one", 60))
}

func dotted(day string) string { return day[8:] + "." + day[5:7] + "." + day[:4] }

func lineRows(columns []string, o *anOrder) (head []string, rows [][]string, fields map[string]string) {
	fields = map[string]string{}
	for _, c := range columns {
		f, h, _ := strings.Cut(c, "=")
		head = append(head, h)
		fields["lines."+f] = h
	}
	for _, l := range o.lines {
		var row []string
		for _, c := range columns {
			f, _, _ := strings.Cut(c, "=")
			row = append(row, l[f])
		}
		rows = append(rows, row)
	}
	return head, rows, fields
}

func sheets(name string, seed uint64, top func(*anOrder) [][]string, columns []string,
	fields map[string]string) Sample {
	s := Sample{Name: name + ".xlsx", Fields: fields}
	data := map[string][][]string{}
	var names []string
	for i, o := range some(seed, 4) {
		n := "Order " + strconv.Itoa(i+1)
		names = append(names, n)
		rows := top(&o)
		head, lines, more := lineRows(columns, &o)
		rows = append(rows, head)
		var places []string
		for _, l := range lines {
			rows = append(rows, l)
			places = append(places, fmt.Sprintf("%s!%d", n, len(rows)))
		}
		rows = append(rows, nil, []string{"Thank you"})
		for k, v := range more {
			s.Fields[k] = v
		}
		data[n] = rows
		s.Orders = append(s.Orders, places)
	}
	s.Bytes = book(data, names...)
	return s
}

// single is one order on one sheet.
func single(name string, seed uint64) Sample {
	s := Sample{Name: name + ".csv", Fields: map[string]string{"header.sender_number": "Order no",
		"header.ordered_on": "Date of order", "header.total": "Order total"}}
	o := some(seed, 1)[0]
	rows := [][]string{{"Quillmere Chandlery"}, {"Order no", o.head["sender_number"]},
		{"Date of order", o.head["ordered_on"]}, {""}}
	head, lines, more := lineRows(cols("item=Item|description=Description|quantity=Qty|unit_price=Price|amount=Amount"),
		&o)
	rows = append(rows, head)
	var places []string
	for _, l := range lines {
		rows = append(rows, l)
		places = append(places, strconv.Itoa(len(rows)))
	}
	rows = append(rows, []string{""}, []string{"Order total", "", "", "", o.head["total"]})
	for k, v := range more {
		s.Fields[k] = v
	}
	s.Orders, s.Bytes = [][]string{places}, table(rows, "")
	return s
}

func stacked(name string, seed uint64) Sample {
	s := Sample{Name: name + ".csv", Fields: map[string]string{"header.sender_number": "Order no",
		"header.ordered_on": "Order date"}}
	var rows [][]string
	for _, o := range some(seed, 5) {
		rows = append(rows, []string{"Order no:", o.head["sender_number"]},
			[]string{"Order date:", o.head["ordered_on"]})
		head, lines, more := lineRows(cols("item=Item|description=Description|quantity=Qty|unit_price=Price"), &o)
		rows = append(rows, head)
		var places []string
		for _, l := range lines {
			rows = append(rows, l)
			places = append(places, strconv.Itoa(len(rows)))
		}
		rows = append(rows, []string{""})
		for k, v := range more {
			s.Fields[k] = v
		}
		s.Orders = append(s.Orders, places)
	}
	s.Bytes = table(rows, "")
	return s
}

func joined(name string, seed uint64) Sample {
	s := Sample{Name: name + ".xlsx", Fields: map[string]string{"header.sender_number": "PO no",
		"header.ordered_on": "PO date", "header.payment_terms": "Terms", "lines.item": "Item", "lines.quantity": "Qty",
		"lines.unit_price": "Price"}}
	heads, lines := [][]string{{"PO no", "PO date", "Terms"}}, [][]string{{"PO no", "Item", "Qty", "Price"}}
	for _, o := range some(seed, 6) {
		heads = append(heads, []string{o.head["sender_number"], o.head["ordered_on"], o.head["payment_terms"]})
		var places []string
		for _, l := range o.lines {
			lines = append(lines, []string{o.head["sender_number"], l["item"], l["quantity"], l["unit_price"]})
			places = append(places, fmt.Sprintf("Lines!%d", len(lines)))
		}
		s.Orders = append(s.Orders, places)
	}
	s.Bytes = book(map[string][][]string{"Orders": heads, "Lines": lines}, "Orders", "Lines")
	return s
}

func wide(name string, seed uint64, item, qty, fromItem, fromQty string) Sample {
	s := Sample{Name: name + ".csv", Fields: map[string]string{"header.sender_number": "Order no",
		"header.ordered_on": "Order date", "lines.item": fromItem, "lines.quantity": fromQty}}
	head := []string{"Order no", "Order date"}
	write := func(form string, n int) string {
		if strings.Contains(form, "%") {
			return fmt.Sprintf(form, n)
		}
		return form
	}
	for n := 1; n <= 5; n++ {
		head = append(head, write(item, n), write(qty, n))
	}
	rows := [][]string{head}
	for _, o := range some(seed, 8) {
		row := []string{o.head["sender_number"], o.head["ordered_on"]}
		var places []string
		for _, l := range o.lines {
			row = append(row, l["item"], l["quantity"])
			places = append(places, strconv.Itoa(len(rows)+1))
		}
		for len(row) < len(head) {
			row = append(row, "")
		}
		rows = append(rows, row)
		s.Orders = append(s.Orders, places)
	}
	s.Bytes = table(rows, "")
	return s
}

func matrix(name string, seed uint64, heads []string, field string) Sample {
	s := Sample{Name: name + ".csv", Fields: map[string]string{"header.sender_number": "Order no",
		"header.ordered_on": "Order date", "lines.item": "Item no", "lines.description": "Description",
		"lines.quantity": "{cell}", field: "{heading}"}}
	rows := [][]string{append([]string{"Order no", "Order date", "Item no", "Description"}, heads...)}
	for n, o := range some(seed, 8) {
		var places []string
		for k, l := range o.lines {
			row := []string{o.head["sender_number"], o.head["ordered_on"], l["item"], l["description"]}
			for c := range heads {
				v := ""
				if (n+k+c)%3 != 0 {
					v = strconv.Itoa(1 + (n*5+k*3+c)%40)
					places = append(places, strconv.Itoa(len(rows)+1))
				}
				row = append(row, v)
			}
			rows = append(rows, row)
		}
		s.Orders = append(s.Orders, places)
	}
	s.Bytes = table(rows, "")
	return s
}

func kinds(name string, seed uint64, head, line string) Sample {
	s := Sample{Name: name + ".csv", Fields: map[string]string{"header.sender_number": "@B", "header.ordered_on": "@C",
		"lines.item": "@B", "lines.quantity": "@C", "lines.unit_price": "@D"}}
	var rows [][]string
	for _, o := range some(seed, 8) {
		rows = append(rows, []string{head, o.head["sender_number"], o.head["ordered_on"], "EUR"})
		var places []string
		for _, l := range o.lines {
			rows = append(rows, []string{line, l["item"], l["quantity"], l["unit_price"]})
			places = append(places, strconv.Itoa(len(rows)))
		}
		s.Orders = append(s.Orders, places)
	}
	s.Bytes = table(rows, "|")
	return s
}

// trees are documents of JSON.
func trees() []Sample {
	nested := func(o *anOrder, number, date, lines, sku, qty, price string) map[string]any {
		var list []any
		for _, l := range o.lines {
			list = append(list, map[string]any{sku: l["item"], qty: json.Number(l["quantity"]),
				price: json.Number(l["unit_price"])})
		}
		return map[string]any{number: o.head["sender_number"], date: o.head["ordered_on"], lines: list,
			"shipTo": map[string]any{"name": o.head["ship_to.name"], "city": o.head["ship_to.city"]}}
	}
	make := func(name string, seed uint64, wrap func([]any) any, number, date, lines, sku, qty, price string) Sample {
		s := Sample{Name: name + ".json", Fields: map[string]string{"header.sender_number": number,
			"header.ordered_on": date, "lines.item": sku, "lines.quantity": qty, "lines.unit_price": price,
			"header.ship_to.city": "$.shipTo.city", "header.ship_to.name": "$.shipTo.name"}}
		var all []any
		for _, o := range some(seed, 6) {
			all = append(all, nested(&o, number, date, lines, sku, qty, price))
			s.Orders = append(s.Orders, counted(len(o.lines)))
		}
		s.Bytes = marshal(wrap(all))
		return s
	}
	list := []Sample{
		make("json-array", 52, func(a []any) any { return a }, "orderNumber", "orderDate", "lines", "sku", "quantity",
			"unitPrice"),
		make("json-wrapped", 53, func(a []any) any { return map[string]any{"page": 1, "currency": "EUR", "orders": a} },
			"po_number", "po_date", "items", "item_code", "qty", "price"),
		make("json-deep", 54, func(a []any) any { return map[string]any{"data": map[string]any{"result": a}} }, "id",
			"created_at", "order_lines", "product_code", "quantity", "unit_price"),
	}
	edges := Sample{Name: "json-edges.json", Fields: map[string]string{"header.sender_number": "orderNumber",
		"header.ordered_on": "placedAt", "lines.item": "sku", "lines.quantity": "quantity"}}
	var all []any
	for _, o := range some(55, 5) {
		var list []any
		for _, l := range o.lines {
			list = append(list, map[string]any{"node": map[string]any{"sku": l["item"],
				"quantity": json.Number(l["quantity"])}})
		}
		all = append(all, map[string]any{"node": map[string]any{"orderNumber": o.head["sender_number"],
			"placedAt": o.head["ordered_on"] + "T09:30:00Z", "lineItems": map[string]any{"edges": list}}})
		edges.Orders = append(edges.Orders, counted(len(o.lines)))
	}
	edges.Bytes = marshal(map[string]any{"data": map[string]any{"orders": map[string]any{"edges": all}}})
	nd := Sample{Name: "ndjson-orders.ndjson", Fields: map[string]string{"header.sender_number": "order_no",
		"header.ordered_on": "order_date", "lines.item": "sku", "lines.quantity": "qty"}}
	flat := Sample{Name: "ndjson-flat.ndjson", Fields: map[string]string{"header.sender_number": "order_no",
		"header.ordered_on": "order_date", "lines.item": "sku", "lines.quantity": "qty"}}
	for _, o := range some(56, 7) {
		var list []any
		for _, l := range o.lines {
			list = append(list, map[string]any{"sku": l["item"], "qty": json.Number(l["quantity"])})
			flat.Bytes = append(flat.Bytes, marshal(map[string]any{"order_no": o.head["sender_number"],
				"order_date": o.head["ordered_on"], "sku": l["item"], "qty": json.Number(l["quantity"])})...)
		}
		nd.Bytes = append(nd.Bytes, marshal(map[string]any{"order_no": o.head["sender_number"],
			"order_date": o.head["ordered_on"], "rows": list})...)
		nd.Orders = append(nd.Orders, counted(len(o.lines)))
		flat.Orders = append(flat.Orders, counted(len(o.lines)))
	}
	return append(list, edges, nd, flat)
}

// counted stands for so many lines of a JSON document.
func counted(n int) []string {
	list := make([]string, n)
	for i := range list {
		list[i] = "line"
	}
	return list
}

func marshal(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return append(b, '\n')
}
