package drafting

import (
	"bytes"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"koinos/core/list"
	"koinos/core/source"
)

// stranger is a document that nobody tuned the drafter for when it was written, and what a person would
// say of it.
type stranger struct {
	name, doc string // a document, or a file with one
	wants     string // lines of the draft, without their marks
	others    string // what it is where it is no document of orders
}

var strangers = []stranger{
	{"per cent is no cent", "Order,Item,Qty,Price,Discount percent,Tax per cent\nA-1,00417,10,2.00,10,20\n" +
		"A-1,00533,2,4.00,5,20\nA-2,00801,1,100.00,0,20\n",
		"discount_percent: {from: Discount percent}|tax_percent: {from: Tax per cent}|unit_price: {from: Price}", ""},
	{"a discount of the whole order, with a minus", `{"data":[{"order_ref":"W-1001","shipping":4.95,` +
		`"discount":-3.00,"grand_total":33.51,"lines":[` +
		`{"sku":"00417","quantity":10,"unit_price":2.34,"row_total":23.40},{"sku":"00533","quantity":2,` +
		`"unit_price":4.08,"row_total":8.16}]}]}`,
		"allowance.discount: {from: discount, expr: 'num(value) * -1', write: 'num(value) * -1'}|" +
			"total: {from: grand_total}|amount: {from: row_total}", ""},
	{"a total of what is net", `{"purchaseOrder":{"number":"77001","date":"2026-03-02","positions":[{"pos":1,` +
		`"article":"00417","qty":120,"net":1.98,"lineNet":237.6,"vatRate":25},` +
		`{"pos":2,"article":"00533","qty":24,"net":3.4,"lineNet":81.6,"vatRate":25}],"totals":{"net":319.2,"vat":79.8,"gross":399.0}}}`,
		"total_before_tax: {from: $.purchaseOrder.totals.net}|total: {from: $.purchaseOrder.totals.gross}", ""},
	{"tax in money beside what it is of", "date,order,sku,qty,gross,vat,net\n2026-03-02,A-1,00417,10,23.40,3.90," +
		"19.50\n2026-03-02,A-1,00533,2,8.16,1.36,6.80\n" +
		"2026-03-03,A-2,00801,1,106.80,17.80,89.00\n", "quantity: {from: qty, need: must}|amount: {from: net}|# Not used: gross, vat", ""},
	{"two discounts and a text in two columns, which are no lines",
		"Auftrags-Nr;Kd-Nr;Pos;Art-Nr;Bez. 1;Bez. 2;Menge;ME;EP;Rab1 %;Rab2 %;GP\n" +
			"5001;10044;10;00417;Tauwerk;12 mm weiß;120;M;1,95;10;5;200,07\n5001;10044;20;00533;Schäkel;A4;24;ST;3,40;;;81,60\n" +
			"5002;10051;10;00801;Laterne;Messing;2;ST;89,00;5;;169,10\n",
		"group: {by: key, columns: Auftrags-Nr}|number: {from: Pos}|quantity: {from: Menge, need: must}|" +
			"unit_price: {from: EP}|amount: {from: GP}", ""},
	{"prices in ct", "Ref;Kunde;Artikel;Anzahl;Stückpreis in ct;Gesamt in ct\nA-1;OSTRAND;00417;10;195;1950\n" +
		"A-1;OSTRAND;00533;2;340;680\nA-2;PELLOW;00801;1;8900;8900\n",
		"unit_price: {from: Stückpreis in ct, expr: 'num(value) / 100', write: 'num(value) * 100'}|" +
			"amount: {from: Gesamt in ct, expr: 'num(value) / 100', write: 'num(value) * 100'}", ""},
	{"St. for pieces", "Auftrag;Artikel;Text;St.;Preis\nA-1;00417;Tauwerk;12;1,95\nA-1;00533;Schäkel;4;3,40\nA-2;00801;Laterne;2;89,00\n",
		"quantity: {from: St., need: must}|unit_price: {from: Preis}", ""},
	{"seconds since 1970", `[{"id":"A-1","createdAt":1772445600,"items":[{"sku":"00417","quantity":"12"},` +
		`{"sku":"00533","quantity":"6"}]},` +
		`{"id":"A-2","createdAt":1772532000,"items":[{"sku":"00801","quantity":"1"}]}]`, "ordered_on: {from: createdAt, dates: unix}", ""},
	{"pieces beside boxes, priced by the piece", "PO,Line,Item,Qty,UOM,Conv,Base Qty,Base UOM,Price,Price UOM," +
		"Ext\n1,1,00417,10,BX,12,120,EA,1.95,EA,234.00\n" +
		"1,2,00533,4,BX,6,24,EA,3.40,EA,81.60\n2,1,00801,2,EA,1,2,EA,89.00,EA,178.00\n",
		"quantity: {from: Base Qty, need: must}|unit_price: {from: Price}|amount: {from: Ext}|# Not used: Qty, UOM, Conv, Price UOM", ""},
	{"a time stamp of digits, which is no tax", `{"order":{"no":"A-1","ts":"1772445600000",` +
		`"rows":[{"sku":"00417","qty":12},{"sku":"00533","qty":6}]}}`,
		"sender_number: {from: $.order.no, need: must}|# Not used: order ts", ""},
	{"dates with times, in digits", "OrderNumber,OrderDate,SKU,Quantity\nA-1,20260302103000,00417,12\n" +
		"A-1,20260302103000,00533,6\nA-2,20260303094500,00801,1\n",
		"ordered_on: {from: OrderDate, dates: yyyymmdd}", ""},
	{"shares of one for per cent", "order,customer,item,qty,price,discount,tax_rate,line_total\nA-1,OSTRAND,00417,10,2.00,0.1,0.2,18.00\n" +
		"A-1,OSTRAND,00533,2,4.00,0,0.2,8.00\nA-2,PELLOW,00801,1,100.00,0.25,0.2,75.00\n",
		"discount_percent: {from: discount, expr: 'num(value) * 100', write: 'num(value) / 100'}|" +
			"tax_percent: {from: tax_rate, expr: 'num(value) * 100', write: 'num(value) / 100'}|amount: {from: line_total}", ""},
	{"money off, and what is left", "order,customer,item,qty,price,discount_amount,net\nA-1,OSTRAND,00417,10,2.00,2.00,18.00\n" +
		"A-1,OSTRAND,00533,2,4.00,0.00,8.00\nA-2,PELLOW,00801,1,100.00,25.00,75.00\n",
		"allowance.discount: {from: discount_amount}|# Not used: net", ""},
	{"the price of a kilogram beside that of a piece", "Order;Item;Qty;Unit;Price per unit;Price per kg;Weight kg;Amount\n" +
		"A-1;00417;10;EA;2,00;4,00;5,0;20,00\nA-1;00533;2;EA;4,00;2,00;4,0;8,00\nA-2;00801;1;EA;100,00;10,00;10,0;100,00\n",
		"unit_price: {from: Price per unit}|amount: {from: Amount}|# Not used: Price per kg, Weight kg", ""},
	{"thousands, and the price of a thousand", "PO,Item,Qty (thousands),Price per 1000,Amount\n" +
		"A-1,00417,10,2.00,20.00\nA-1,00533,2,4.00,8.00\n" +
		"A-2,00801,1,100.00,100.00\n", "unit_price: {from: Price per 1000}|amount: {from: Amount}|" +
		"quantity: {from: Qty (thousands), need: must}", ""},
	{"prices that hold the tax", "Order ref,Item code,Item,Quantity,Price inc VAT,VAT rate,Line total inc VAT\n" +
		"W-1001,00417,Rope 12mm,10,2.34,20%,23.40\n" +
		"W-1001,00533,Shackle,2,4.08,20%,8.16\nW-1002,00801,Lantern,1,106.80,20%,106.80\n",
		"tax_treatment: {value: inclusive}|unit_price: {from: Price inc VAT}|tax_percent: {from: VAT rate}", ""},
	{"prix TTC", "Commande;Article;Quantité;Prix unitaire TTC;TVA;Montant TTC\nC-1;00417;10;2,34;20%;23,40\nC-1;00533;2;4,08;20%;8,16\n" +
		"C-2;00801;1;106,80;20%;106,80\n", "tax_treatment: {value: inclusive}|unit_price: {from: Prix unitaire TTC}", ""},
	{"JSON made of XML", `{"purchase_orders":[{"@number":"88-1","@date":"2026-03-02","line":[{"@no":"1",` +
		`"product":{"@id":"00417","#text":"Rope"},` +
		`"ordered":{"@unit":"MTR","#text":"120"}},{"@no":"2","product":{"@id":"00533","#text":"Shackle"},` +
		`"ordered":{"@unit":"EA","#text":"24"}}]}]}`,
		"item: {from: \"$.product['@id']\", need: must}|unit: {from: \"$.ordered['@unit']\"}|" +
			"quantity: {from: \"$.ordered['#text']\", need: must}|" +
			"description: {from: \"$.product['#text']\"}", ""},
	{"a remark above rows that say what they are", "# orders of 2026-03-02\nH|4711|2026-03-02|OSTRAND|EUR\nD|1|" +
		"00417|120|MTR|1.95\nD|2|00533|24|PCE|3.40\n" +
		"H|4712|2026-03-02|PELLOW|EUR\nD|1|00801|2|PCE|89.00\nT|2|3\n",
		"rows: {first: 2}|group: {by: rowkind, kind: \"@A\", kinds: {D: line, H: header, T: leave-out}}|" +
			"sender_number: {from: \"@B\", need: must}", ""},
	{"prices for a hundred and for a thousand, as letters", "OrdNo\tCustNo\tAddr1\tCity\tSt\tZip\tItem\tDesc\tQtyOrd\tUOM\tPrice\tPer\tExt\n" +
		"100234\tC10\t1 Dock\tBristol\tRI\t02809\t00417\tRope\t1200\tFT\t19.50\tC\t234.00\n" +
		"100234\tC10\t1 Dock\tBristol\tRI\t02809\t00533\tShackle\t24\tEA\t3.40\tE\t81.60\n" +
		"100235\tC11\t9 Pier\tNewport\tRI\t02840\t00801\tScrews\t5000\tEA\t12.00\tM\t60.00\n",
		"price_basis: {from: Per, crosswalk: price-per}|description: {from: Desc}|ship_to.street: {from: Addr1}|" +
			"ship_to.region: {from: St}|" +
			"unit_price: {from: Price}|amount: {from: Ext}", ""},
	{"Chinese", "客户订单号,下单日期,客户,物料编码,物料名称,数量,单位,单价,金额,交货日期\nD20260302,2026/3/2,OSTRAND,00417,绳索,120,米,1.95,234.00,2026/3/20\n" +
		"D20260302,2026/3/2,OSTRAND,00533,卸扣,24,个,3.40,81.60,2026/3/20\nD20260303,2026/3/3,PELLOW,00801,灯,2,个,89.00,178.00,2026/3/24\n",
		"group: {by: key, columns: 客户订单号}|sender_number: {from: 客户订单号, need: must}|ordered_on: {from: 下单日期, dates: yyyy/m/d}|" +
			"requested_delivery_on: {from: 交货日期, dates: yyyy/m/d}|partner: {from: 客户}|item: {from: 物料编码, need: must}|" +
			"description: {from: 物料名称}|quantity: {from: 数量, need: must}|unit: {from: 单位, crosswalk: unit-words}|" +
			"unit_price: {from: 单价}|amount: {from: 金额}", ""},
	{"Japanese", "発注番号,発注日,品番,品名,数量,単位,単価,金額,納期,備考\nH-881,2026/03/02,00417,ロープ,120,メートル,195,23400,2026/03/20,\n" +
		"H-881,2026/03/02,00533,シャックル,24,個,340,8160,2026/03/20,急ぎ\nH-882,2026/03/03,00801,ランタン,2,個,8900,17800,2026/03/24,\n",
		"sender_number: {from: 発注番号, need: must}|ordered_on: {from: 発注日, dates: yyyy/m/d}|item: {from: 品番, need: must}|" +
			"description: {from: 品名}|quantity: {from: 数量, need: must}|unit: {from: 単位, crosswalk: unit-words}|unit_price: {from: 単価}|" +
			"amount: {from: 金額}|requested_delivery_on: {from: 納期, dates: yyyy/m/d}|notes: {from: 備考}", ""},
	{"sizes that are words for units, too", "BUYER PO,PO DATE,STYLE,COLOR,SIZE,UPC,UNITS,WHLSL,EXT WHLSL\n" +
		"55012,20260302,JKT01,NAVY,M,012345678905,24,45.00,1080.00\n55012,20260302,JKT01,NAVY,L,012345678912,12,45.00,540.00\n" +
		"55013,20260302,JKT01,RED,M,012345678929,6,45.00,270.00\n", "quantity: {from: UNITS, need: must}|# Not used: SIZE", ""},
	{"a program's id beside the number", `[{"orderId":"a1b2","orderNumber":"SO-5001","lines":[{"sku":"00417",` +
		`"qty":1},{"sku":"00533","qty":2}]},` +
		`{"orderId":"a1b3","orderNumber":"SO-5002","lines":[{"sku":"00417","qty":4}]}]`,
		"sender_number: {from: orderNumber, need: must}|# Not used: orderId", ""},
	{"a sales price in Danish", "Ordre nr.;Varenr.;Antal;Enhed;Salgspris;Rabat i %;Linjebeløb;Debitor\n" +
		"10231;00417;120,00;MTR;14,50;10,00;1.566,00;40021\n" +
		"10231;00533;24,00;STK;25,00;;600,00;40021\n10232;00801;2,00;STK;665,00;5,00;1.263,50;40035\n",
		"unit_price: {from: Salgspris}|amount: {from: Linjebeløb}|partner: {from: Debitor}", ""},
	{"money in cents, as programs keep it",
		`{"orders":[{"order_no":"1001","created_at":"2026-03-02T11:00:01-05:00","currency":"USD",` +
			`"customer_code":"SALTRY","shipping_cents":950,"totalInCents":8740,"items":[{"sku":"00417","qty":10,` +
			`"unit_price_cents":195,"line_total_cents":1950},{"sku":"00533","qty":2,"unit_price_cents":2920,` +
			`"line_total_cents":5840}]},{"order_no":"1002","created_at":"2026-03-03T09:12:44-05:00",` +
			`"currency":"USD","customer_code":"PELLOW","shipping_cents":0,"totalInCents":8900,` +
			`"items":[{"sku":"00801","qty":1,"unit_price_cents":8900,"line_total_cents":8900}]}]}`,
		"charge.freight: {from: shipping_cents, expr: 'num(value) / 100', write: 'num(value) * 100'}|" +
			"total: {from: totalInCents, expr: 'num(value) / 100', write: 'num(value) * 100'}|" +
			"unit_price: {from: unit_price_cents, expr: 'num(value) / 100', write: 'num(value) * 100'}|" +
			"amount: {from: line_total_cents, expr: 'num(value) / 100', write: 'num(value) * 100'}|quantity: {from: qty, need: must}", ""},
	{"a price that has decimals is not in cents, whatever stands above it",
		"Order,Item,Qty,Price (cents)\nA-1,00417,2,1.95\nA-1,00533,1,3.40\nA-2,00417,6,1.95\n", "unit_price: {from: Price (cents)}", ""},
	{"a decimal comma in texts of JSON, and a name of two words that says more than what is around it",
		`{"data":{"order":{"number":"PO-8812","issued":"20260302","positions":[{"pos":10,"material":"00417",` +
			`"amount":120,"uom":"MTR","netPrice":"1,95","per":1},{"pos":20,"material":"00533","amount":24,` +
			`"uom":"EA","netPrice":"34,00","per":10}],"netValue":"315,60"}}}`,
		`locale: {decimal: ","}|sender_number: {from: $.data.order.number, need: must}|total: {from: $.data.order.netValue}|` +
			"unit_price: {from: netPrice}|price_basis: {from: per}", ""},
	{"a printed table", "spaces.txt",
		"PO NO: 1-10|DESCRIPTION: 45-65|PRICE: 82-129|rows: {first: 2}|findings: {row_too_wide: error}   # a value that does " +
			"not fit in its column is not loaded in part|group: {by: key, columns: PO NO}|" +
			"ordered_on: {from: DATE, dates: d.m.yyyy}|partner: {from: CUSTOMER}|item: {from: ARTICLE, need: must}|" +
			"description: {from: DESCRIPTION}|quantity: {from: QTY, need: must}|unit: {from: UNIT}|unit_price: {from: PRICE}", ""},
	{"a printed list with pages, rules and a sum", "list.txt",
		`until: {text: "PAGE*"}|rows: {first: 5, leave_out: 'text() matches "^[-=_]{2,}$" or filled() == 1 and text() matches ` +
			`"^[-0-9., ]+$"'}|group: {by: opener, columns: "PO#"}|number: {from: LN}|item: {from: "ITEM#", need: must}|` +
			`quantity: {from: ORD QTY, need: must}|requested_delivery_on: {from: DUE DATE, dates: m/d/yy}`, ""},
	{"a report with a line of dashes below its headings", "report.txt",
		`until: {text: "TOTAL*"}|rows: {first: 6, leave_out: 'text() matches "^[-=_]{2,}$"'}|DESCRIPTION: 16-35|` +
			`group: {by: key, columns: ORDER}|amount: {from: AMOUNT}`, ""},
	{"a printed table without headings", "headless.txt",
		`A: 1-8|F: 54-100|group: {by: key, columns: "@A"}|item: {from: "@B", need: must}|quantity: {from: "@D", need: must}`, ""},
	{"net, tax and gross of a JSON order",
		`{"order_number":"O-77","order_date":"2026-11-21","currency":"EUR","line_items":[{"line":1,"sku":"00417",` +
			`"quantity":2,"price":2.5,"net":5.0}],"totals":{"net":5.0,"tax":1.05,"gross":6.05}}`,
		"total_before_tax: {from: $.totals.net}|tax_amount: {from: $.totals.tax}|total: {from: $.totals.gross}|amount: {from: net}",
		""},
	{"what stands around some of the orders; a freight of several is that of none",
		`{"taxAmount":5,"stores":[{"shippingTotal":7.5,"storeCode":"S1","currency":"EUR",` +
			`"orders":[{"orderNo":"A1","items":[{"sku":"1","qty":1}]},{"orderNo":"A2","items":[{"sku":"1",` +
			`"qty":2}]}]}, {"storeCode":"S2","currency":"USD","orders":[{"orderNo":"B1","items":[{"sku":"1",` +
			`"qty":1}]}]}]}`,
		"currency: {from: currency, of: parent}|ship_to.code: {from: storeCode, of: parent}|sender_number: {from: orderNo, need: must}|" +
			"# Not used: shippingTotal, taxAmount",
		""},
	{"names of an export, cut short",
		"CUST_NO,ORD_DT,ORD_NO,ITM,ITM_DESC,QTY_ORD,UOM,UNIT_PRC,EXT_AMT\nC1004,20260302,5501,00101,Rope 8 " +
			"mm,12,EA,1.45,17.40\n" +
			"C1004,20260302,5501,00104,Shackle,4,EA,9.50,38.00\nC1009,20260303,5502,00107,Lantern,2,EA,64.50," +
			"129.00\nC1009,20260303,5502,00110,Paint,x,EA,21.60,\n",
		"group: {by: key, columns: ORD_NO}|partner: {from: CUST_NO}|ordered_on: {from: ORD_DT, dates: " +
			"yyyymmdd}|item: {from: ITM, need: must}|" +
			"quantity: {from: QTY_ORD, need: must}|unit_price: {from: UNIT_PRC}|amount: {from: EXT_AMT}", ""},
	{"a date that is a week",
		"Bestellung;Datum;Kunde;Pos;Artikel;Bezeichnung;Menge;ME;Preis;Summe;Liefertermin\n" +
			"B-101;02.03.2026;4711;1;00101;Tau;12;Stk;1,45;17,40;16.03.2026\n" +
			"B-101;02.03.2026;4711;2;00104;Schäkel;4;Stk;9,50;38,00;16.03.2026\n" +
			"B-102;03.03.2026;4712;1;00107;Laterne;2;Stk;64,50;129,00;KW 12\n" +
			"B-102;03.03.2026;4712;2;00110;Farbe;10;Ltr;21,60;216,00;20.03.2026\n",
		"group: {by: key, columns: Bestellung}|requested_delivery_on: {from: Liefertermin, dates: " +
			"d.m.yyyy}|quantity: {from: Menge, need: must}", ""},
	{"a date that is none yet, and a reference",
		"Date,Reference,Code,Quantity,Net\n3/14/2026,PO-7,00101,12,17.40\n3/14/2026,PO-7,00104,4,38.00\n" +
			"3/15/2026,PO-8,00107,2,129.00\ntbc,PO-9,00110,1,21.60\n",
		"group: {by: key, columns: Reference}|sender_number: {from: Reference, need: must}|ordered_on: {from: Date, " +
			"dates: m/d/yyyy}|item: {from: Code, need: must}", ""},
	{"open quantities beside ordered ones",
		`{"batch": 7, "data": {"purchaseOrders": [{"poNumber": "7001", "poDate": "2026-03-02", "details": [{"lineNo": 1, "partNo": "00101",
		"orderedQty": 12, "openQty": 3, "unitCost": 1.45, "extCost": 17.40, "tags": []}]}, {"poNumber": "7002", "poDate": "2026-03-03", "details": [{"lineNo": 1,
		"partNo": "00104", "orderedQty": 4, "openQty": 4, "unitCost": 9.5, "extCost": 38, "tags": ["x"]}]}]}}`,
		"quantity: {from: orderedQty, need: must}|amount: {from: extCost}|unit_price: {from: unitCost}", ""},
	{"days told by another column",
		"Numero,Data,Cliente,Articolo,Descrizione,Q.tà,Prezzo,Importo,Consegna\n" +
			"44,02/03/2026,Ebbing,00101,Corda,12,\"1,45\",\"17,40\",16/03/2026\n" +
			"44,02/03/2026,Ebbing,00104,Grillo,4,\"9,50\",\"38,00\",16/03/2026\n" +
			"45,03/03/2026,Saltry,00107,Lanterna,2,\"64,50\",\"129,00\",20/03/2026\n",
		"ordered_on: {from: Data, dates: d/m/yyyy}|quantity: {from: Q.tà, need: must}", ""},
	{"a dirty cell among three", "Order,Date,Customer,Item,Qty,Unit price\nA-1,2026-03-02,EBBING,00417,3,1.45\n" +
		"A-1,2026-03-02,EBBING,00513,2,9.90\nA-2,2026-03-03,EBBING,00417,x,1.45\n",
		"quantity: {from: Qty, need: must}|unit_price: {from: Unit price}", ""},
	{"a sum beside the days",
		"PO|Line|SKU|Mon 16 Mar|Tue 17 Mar|Wed 18 " +
			"Mar|Total\nP-1|1|00101|4|0|8|12\nP-1|2|00104|0|4|0|4\nP-2|1|00107|1|1|0|2\n",
		`lines: {across: matrix, columns: "@D-@F"}|sender_number: {from: PO, need: must}`, ""},
	{"a price list", "Item,Description,List price,Currency,Valid from\n00101,Rope 8 " +
		"mm,1.45,EUR,2026-01-01\n00104,Shackle,9.50,EUR,2026-01-01\n", "", "a price list"},
	{"a stock list", "Item;Bin;On hand;Reserved;Available\n00101;A-12;120;30;90\n00104;A-14;40;4;36\n", "",
		"a stock list"},
	{"a list of addresses",
		"Name,Street,City,Country,Phone\nEbbing Paints,Quay 4,Quillmere,GB,123\nSaltry School,Pier 9,Ostrand,GB,456\n",
		"", "a list of addresses"},
	{"a list of addresses in JSON",
		`[{"id": 1, "name": "Ebbing", "address": {"street": "Quay 4", "city": "Q"}}, {"id": 2, "name": "Saltry", ` +
			`"address": {"street": "Pier 9", "city": "O"}}]`,
		"", "a list of addresses"},
	{"a list of invoices",
		"Invoice no,Invoice date,Due,Customer,Amount,Paid\nINV-1,2026-03-02,2026-04-01,C1004,55.40,yes\n" +
			"INV-2,2026-03-03,2026-04-02,C1009,129.00,no\n",
		"", "a list of invoices"},
	{"a Swedish form of two lines",
		`"Buyer:","Norrvik Batklubb AB",,,,,
"Contact:","Ulla Strand",,,,,
"PO-nr:","NB-7781",,"Datum:","2026-11-20",,
,,,,,,
"Pos","Art.nr","Benämning","Antal","Enh","á-pris","Belopp"
10,"00417","Tross 12 mm","25,5","m","12,90","328,95"
20,"00551","Schackel","12","st","8,00","96,00"
,,,,,"Summa","424,95"
`,
		`buyer.contact: {label: Contact}|unit: {from: Enh, crosswalk: unit-words}|amount: {from: Belopp}|` +
			`quantity: {from: Antal, need: must}`, ""},
	{"rows of kinds with a trailer",
		`H|4500012345|20261120|VEND01|EUR|NET30
L|10|MAT-00017|LANTERN BRASS|12|EA|45.50|20261215
L|20|MAT-00018|LANTERN STEEL|6|EA|30.00|20261215
H|4500012346|20261121|VEND01|EUR|NET30
L|10|MAT-00100|ROPE 10MM|200|M|1.10|20261220
T|2|3
`,
		`group: {by: rowkind, kind: "@A", kinds: {H: header, L: line, T: leave-out}}|` +
			`ordered_on: {from: "@C", dates: yyyymmdd}|requested_delivery_on: {from: "@H", dates: yyyymmdd}|` +
			`quantity: {from: "@E", need: must}`, ""},
	{"days of delivery that vary within an order",
		`Order ID;Line;SKU;Product;Qty Ordered;Qty Open;UoM;Net Price;Curr;Del. Date;Deliv. Addr
A1001;1;LN-1;Lantern;10;10;PCE;45,00;EUR;01.12.2026;Dock 4, Port Hale
A1001;2;RP-2;Rope;100;40;MTR;1,10;EUR;05.12.2026;Dock 4, Port Hale
A1002;1;SH-3;Shackle;1.000;1.000;PCE;0,455;EUR;01.12.2026;Dock 4, Port Hale
`,
		`requested_delivery_on: {from: Del. Date, dates: d.m.yyyy}|quantity: {from: Qty Ordered, need: must}|` +
			`unit_price: {from: Net Price}`, ""},
	{"what is charged for shipping, in a list",
		`{"exportedAt":"2026-11-20T10:00:00Z","orders":[{"id":991,"name":"#1042","created_at":"2026-11-19T22:10:00+01:00","customer":{"email":"kim@harbour.example","first_name":"Kim","last_name":"Ode"},"shipping_address":{"name":"Kim Ode","address1":"Quay 2","city":"Hale","zip":"HA1 2BB","country_code":"GB"},"currency":"GBP","subtotal_price":"57.00","total_tax":"9.50","shipping_lines":[{"title":"Courier","price":"4.50"}],"total_price":"71.00","line_items":[{"sku":"LN-1","title":"Lantern","quantity":1,"price":"45.00","grams":900},{"sku":"SH-3","title":"Shackle","quantity":4,"price":"3.00","grams":100}],"note":null}]}
`,
		`charge.freight: {from: "$.shipping_lines[*].price", repeat: sum}|total: {from: total_price}|` +
			`buyer.email: {from: $.customer.email}`, ""},
	{"days that a supplier promises",
		`PO Number,Vendor,Vendor Part,Mfr Part,Desc,Order Qty,Ship Qty,B/O Qty,Unit Cost,Ext Cost,Promise,Buyer
77120,KESTLE,KB-9,B9-X,Brass cleat,50,50,0,$4.10,$205.00,12/4/26,Ann
77120,KESTLE,KB-10,B10-X,Brass hook,20,0,20,$2.00,$40.00,12/18/26,Ann
77121,KESTLE,KB-9,B9-X,Brass cleat,10,0,10,$4.10,$41.00,12/4/26,Bo
`,
		`kind: purchase|requested_delivery_on: {from: Promise, dates: m/d/yy}|amount: {from: Ext Cost}`, ""},
	{"days that are needed",
		`need,po,item,qty,price,store
2026-12-15,P-1,FW-1,100,1.25,0007
2026-12-15,P-1,FW-2,40,3.00,0007
2026-12-20,P-2,FW-9,7,10.00,0009
`,
		`requested_delivery_on: {from: need}|quantity: {from: qty, need: must}`, ""},
	{"Dutch, with prices without tax",
		`Bestel nr.;Klant;Lijn;Artikelcode;Omschrijving;Hoeveelheid;Eenheid;Prijs excl. BTW;Levering tegen
B2026-77;Zeevaart NV;1;00417;Touw 12mm;25;m;12,90;04/12/2026
B2026-77;Zeevaart NV;2;00551;Sluiting;12;st;8,00;04/12/2026
B2026-78;Kade BV;1;00417;Touw 12mm;5;m;12,90;11/12/2026
`,
		`number: {from: Lijn}|quantity: {from: Hoeveelheid, need: must}|unit_price: {from: Prijs excl. BTW}|` +
			`requested_delivery_on: {from: Levering tegen, dates: [d/m/yyyy, m/d/yyyy]}`, ""},
	{"orders of which one is cancelled",
		`[{"orderNumber":"W-10","status":"processing","dateCreated":"2026-11-20T09:00:00","billing":{"company":"Kade BV","address1":"Kade 1"},"shipping":{"company":"Kade BV","address1":"Kade 1","city":"Ostrand","postcode":"1000","country":"BE"},"items":[{"sku":"00417","name":"Touw","qty":5,"unitPrice":12.9,"discountPct":10,"lineTotal":58.05}],"fees":[{"name":"Handling","total":2.5}],"shippingTotal":7.5,"grandTotal":68.05,"currency":"EUR"},
{"orderNumber":"W-11","status":"cancelled","dateCreated":"2026-11-20T10:00:00","billing":{"company":"Zeevaart","address1":"Pier 2"},"shipping":{"company":"Zeevaart","address1":"Pier 2","city":"Ostrand","postcode":"1000","country":"BE"},"items":[{"sku":"00551","name":"Sluiting","qty":2,"unitPrice":8,"discountPct":0,"lineTotal":16}],"fees":[],"shippingTotal":0,"grandTotal":16,"currency":"EUR"}]
`,
		`leave_out: 'lower(col("status")) == "cancelled"'|charge.other: {from: "$.fees[*].total", repeat: sum}|` +
			`total: {from: grandTotal}`, ""},
	{"a form with a charge among its sums",
		`PURCHASE ORDER,,,,
Vendor:,Ebbing Paints,,P.O. #,EP-3301
Ship To:,Quillmere Chandlery,,P.O. Date,11/20/2026
,1 Harbour Rd,,Terms,Net 30
,"Quillmere, QM 12345",,Ship Via,Truck
,,,,
Item #,Description,Qty,Rate,Amount
PNT-RED-1L,Paint red 1 l,24,$12.50,$300.00
PNT-BLU-1L,Paint blue 1 l,12,$12.50,$150.00
,,,Subtotal,$450.00
,,,Shipping,$25.00
,,,Total,$475.00
`,
		`until: {text: "Subtotal*"}|charge.freight: {label: Shipping}|carrier.name: {label: Ship Via}|` +
			`total: {label: Total}|unit_price: {from: Rate}`, ""},
	{"weeks above quantities, and their sum",
		`Artikel,Bezeichnung,KW 49,KW 50,KW 51,Summe
00417,Tau 12 mm,100,,50,150
00551,Schäkel,,200,,200
`,
		`lines: {across: matrix, columns: "@C-@E"}|custom.week: {from: "{heading}"}`, ""},
	{"Polish",
		`Data zamówienia;Nr zamówienia;Kontrahent;Indeks;Nazwa;Ilość;J.m.;Cena netto;Wartość netto;VAT %;Termin dostawy
20.11.2026;ZAM/1;Port Sp. z o.o.;00417;Lina 12 mm;25,5;m;12,90;328,95;23;01.12.2026
20.11.2026;ZAM/1;Port Sp. z o.o.;00551;Szekla;12;szt;8,00;96,00;23;01.12.2026
`,
		`ordered_on: {from: Data zamówienia, dates: d.m.yyyy}|unit: {from: J.m., crosswalk: unit-words}|amount: {from: Wartość netto}`, ""},
	{"a price from which the discounts are taken off",
		"Order ref;Line ref;Product;Order qty;UoM;List price;Disc 1 %;Disc 2 %;Net price;Net value;Promised;Whs\n" +
			"SO/2026/001;10;00101;100;MTR;1,00;10;5;0,855;85,50;16.03.2026;01\n" +
			"SO/2026/001;20;00104;50;MTR;2,00;0;0;2,00;100,00;16.03.2026;01\n" +
			"SO/2026/002;10;00107;10;MTR;3,00;0;10;2,70;27,00;18.03.2026;02\n",
		`unit_price: {from: Net price}|amount: {from: Net value}|location: {from: Whs}|number: {from: Line ref}|` +
			`# Not used: List price, Disc 1 %, Disc 2 %`, ""},
	{"what we ask a supplier to confirm",
		"ORDER CONFIRMATION REQUEST,\nVendor,VARNHOLT\n\nPO,Pos,Your part,Our part,Qty ord.,Price,Currency\n" +
			"4500001,10,V-1,00101,100,85.00,EUR\n4500001,20,V-2,00104,50,97.00,EUR\n4500002,10,V-3,00107,10,110.00,EUR\n",
		`kind: purchase|supplier_item: {from: Your part}|item: {from: Our part, need: must}|partner: {label: Vendor}`, ""},
	{"the parties of a purchase order in JSON",
		`[{"purchaseOrder":{"id":"PO-1","issueDate":"2026-03-02","buyer":{"partyId":"HARB","name":"Harbour"},"lines":[` +
			`{"id":1,"item":{"sellersId":"00101"},"quantity":{"value":20,"unit":"MTR"},"price":{"amount":0.85,"baseQuantity":1}},` +
			`{"id":2,"item":{"sellersId":"00104"},"quantity":{"value":10,"unit":"MTR"},"price":{"amount":97,"baseQuantity":100}}]}}]`,
		`sender_number: {from: $.purchaseOrder.id, need: must}|buyer.name: {from: $.purchaseOrder.buyer.name}|` +
			`buyer.code: {from: $.purchaseOrder.buyer.partyId}|price_basis: {from: $.price.baseQuantity}|number: {from: id}`,
		""},
	{"a language that nobody taught it",
		"Rendelésszám;Rendelés dátuma;Cikkszám;Megnevezés;Mennyiség;Egység;Egységár;Összesen\n" +
			"R-1;2026.03.02;00101;Kötél 4 mm;20;m;0,85;17,00\n" +
			"R-1;2026.03.02;00104;Kötél 5 mm;10;m;0,97;9,70\nR-2;2026.03.03;00107;Kötél 6 mm;5;m;1,10;5,50\n",
		`group: {by: key, columns: Rendelésszám}|quantity: {from: Mennyiség, need: must}|unit_price: {from: Egységár}|` +
			`amount: {from: Összesen}|unit: {from: Egység, crosswalk: unit-words}|item: {from: Cikkszám, need: must}`, ""},
	{"thousands, and weeks, as in Switzerland",
		"Bestell-Nr.;Datum;Art.-Nr.;Bezeichnung;Menge;ME;Preis CHF;Total CHF;Liefertermin\n" +
			"B-1;02.03.2026;00101;Seil;1'200;m;0.85;1'020.00;KW 12/2026\n" +
			"B-1;02.03.2026;00104;Seil 5;10;m;CHF 0.97;9.70;KW 12/2026\nB-2;03.03.2026;00107;Seil 6;5;m;1.10;5.50;KW 13/2026\n",
		`quantity: {from: Menge, need: must}|amount: {from: Total CHF}|` +
			`requested_delivery_on: {from: Liefertermin, dates: "'KW' ww/yyyy"}`, ""},
	{"a label that stands above each customer's orders",
		"Report: Open orders,,,\n\nCustomer: HARB,,,\nOrder,Item,Qty,Price\nA-1,00101,20,0.85\nA-1,00104,10,0.97\n" +
			"Customer: PIER,,,\nOrder,Item,Qty,Price\nB-1,00107,5,1.10\n",
		`partner: {expr: '""', need: must}|group: {by: key, columns: Order}|quantity: {from: Qty, need: must}`, ""},
	{"what was and what is to be",
		"PO;Lieferant;Artikel;Menge alt;Menge neu;Preis\n4500001;VARNHOLT;00101;100;120;0,85\n4500001;VARNHOLT;00104;50;50;0,97\n" +
			"4500002;VARNHOLT;00107;10;5;1,10\n",
		`quantity: {from: Menge neu, need: must}|# Not used: Menge alt`,
		`The columns "Menge alt" and "Menge neu" look like those of a change, which is about orders that are stored.`},
	{"cases, packs and pieces",
		"Cust PO#,PO Dt,UPC,Case Pack,Cases,Eaches,Unit Cost,Ext Cost\n7788120,03/14/2026,2004417000118,12,4,48,1.25,60.00\n" +
			"7788120,03/14/2026,2004417000484,24,2,48,2.10,100.80\n7788121,03/14/2026,2004417000118,12,1,12,1.25,15.00\n",
		`quantity: {from: Eaches, need: must}|unit_price: {from: Unit Cost}|amount: {from: Ext Cost}`, ""},
	{"sizes and colours of a style",
		"Style;Colour;XS;S;M;L;Total units;Wholesale;PO;Start ship;Cancel\n8810;Navy;;4;6;6;16;64,50;FW26-118;15.08.2026;30.09.2026\n" +
			"8810;Red;2;2;;;4;64,50;FW26-118;15.08.2026;30.09.2026\n8840;Black;;;3;3;6;41,00;FW26-119;15.08.2026;30.09.2026\n",
		`lines: {across: matrix, columns: "@C-@F"}|custom.colour: {from: Colour}|unit_price: {from: Wholesale}|` +
			`requested_ship_on: {from: Start ship, dates: d.m.yyyy}|cancel_after: {from: Cancel, dates: d.m.yyyy}`, ""},
	{"a column for each store, below the facts of the order",
		"Replenishment order,,,,,,\nPO number,R-9001,,Order date,2026-03-02,,\n,,,,,,\n" +
			"SKU,Description,Cost,Store 12,Store 14,Store 20,Total\n" +
			"00101,Rope 4 mm,0.85,10,,5,15\n00104,Rope 5 mm,0.97,,20,,20\n00107,Rope 6 mm,1.10,4,4,4,12\n",
		`group: {by: sheet}|lines: {across: matrix, columns: "@D-@F"}|location: {from: "{heading}"}|unit_price: {from: Cost}|` +
			`sender_number: {label: PO number, need: must}`, ""},
	{"the same without an order number",
		"SKU,Description,Cost,Store 12,Store 14,Store 20,Total\n00101,Rope 4 mm,0.85,10,,5,15\n" +
			"00104,Rope 5 mm,0.97,,20,,20\n00107,Rope 6 mm,1.10,4,4,4,12\n",
		`group: {by: file}|lines: {across: matrix, columns: "@D-@F"}|location: {from: "{heading}"}`, ""},
	{"totals before tax that are of lines",
		"Bestelnummer;Besteldatum;Artikelnummer;Aantal;Eenheid;Prijs p/st;Korting %;Totaal excl. btw\n" +
			"NL-2201;02-03-2026;00101;20;m;0,85;5;16,15\nNL-2201;02-03-2026;00104;10;m;0,97;0;9,70\n" +
			"NL-2202;03-03-2026;00107;5;m;1,10;0;5,50\n",
		`amount: {from: Totaal excl. btw}|discount_percent: {from: "Korting %"}|quantity: {from: Aantal, need: must}`, ""},
	{"orders and lines of JSON:API, which name each other by ids",
		`{"data":[{"type":"orders","id":"1","attributes":{"number":"A-1","placed-at":"2026-03-02"}},{"type":"orders","id":"2","attributes":{"number":"A-2","placed-at":"2026-03-03"}}],
"included":[{"type":"lines","id":"11","attributes":{"sku":"00101","quantity":2,"order-id":"1"}},{"type":"lines","id":"12","attributes":{"sku":"00104","quantity":1,"order-id":"1"}},{"type":"lines","id":"13","attributes":{"sku":"00104","quantity":4,"order-id":"2"}}]}
`,
		`group: {by: join, headers: {path: "$.data[*]", columns: id}, lines: {path: "$.included[*]", columns: ` +
			`"$.attributes['order-id']"}}|` +
			`sender_number: {from: $.attributes.number, need: must}|quantity: {from: $.attributes.quantity, need: must}`, ""},
	{"orders and lines apart, in JSON",
		`{"orders":[{"orderNo":"K-1","orderDate":"2026-11-20","customer":"HARB"},{"orderNo":"K-2","orderDate":"2026-11-21","customer":"PIER"}],
"lines":[{"orderNo":"K-1","line":1,"sku":"00417","qty":5,"price":12.9},{"orderNo":"K-1","line":2,"sku":"00551","qty":2,"price":8},{"orderNo":"K-2","line":1,"sku":"00417","qty":1,"price":12.9}]}
`,
		`group: {by: join, headers: {path: "$.orders[*]", columns: orderNo}, lines: {path: "$.lines[*]", columns: orderNo}}|` +
			`sender_number: {from: orderNo, need: must}|ordered_on: {from: orderDate}|quantity: {from: qty, need: must}`, ""},
	{"rows beside the articles that they name, in JSON",
		`{"articles":[{"code":"00417","name":"Rope"},{"code":"00551","name":"Shackle"}],
"rows":[{"order":"K-1","article":"00417","qty":2},{"order":"K-1","article":"00551","qty":1},{"order":"K-2","article":"00417","qty":3}]}
`,
		`records: "$.rows[*]"|group: {by: key, columns: order}|item: {from: article, need: must}|quantity: {from: qty, need: must}`, ""},
	{"lines that name an order by its id, in JSON",
		`{"meta":{"sent":"2026-11-22"},"data":{"heads":[{"id":1,"purchaseOrder":"K-1","currency":"EUR"},{"id":2,"purchaseOrder":"K-2","currency":"EUR"}],
"positions":[{"head":1,"line":1,"sku":"00417","qty":1},{"head":1,"line":2,"sku":"00551","qty":2},{"head":2,"line":1,"sku":"00417","qty":2}]}}
`,
		`group: {by: join, headers: {path: "$.data.heads[*]", columns: id}, lines: {path: "$.data.positions[*]", columns: head}}|` +
			`sender_number: {from: purchaseOrder, need: must}|number: {from: line}|quantity: {from: qty, need: must}`, ""},
	{"positions by their numbers, whose amounts are quantities",
		`{"order":{"number":"Z-9","placed":"2026-11-20","buyer":{"id":"HARB"}},"positions":{"1":{"article":"00417","amount":"5","unit":"EA","price":"12.90"},"2":{"article":"00551","amount":"2","unit":"EA","price":"8.00"}},"sum":"80.50"}
`,
		`lines: {each: "$.positions.*"}|sender_number: {from: $.order.number, need: must}|` +
			`quantity: {from: amount, need: must}|unit_price: {from: price}|total: {from: sum}`, ""},
	{"items by their codes", `{"orders":[{"id":"W-1001","date":"2026-03-14","customer":"Harbour Stores","items":{"00417":12,"00233":4}},` +
		`{"id":"W-1002","date":"2026-03-15","customer":"Pellow","items":{"00417":2,"00101":40,"00305":1}}]}`,
		`group: {by: path, path: "$.orders[*]"}|lines: {each: "$.items.*"}|sender_number: {from: id, need: must}|` +
			`item: {from: "{name}", need: must}|quantity: {from: $, need: must}`, ""},
	{"a basket of one thing", `[{"orderNo":5501,"createdAt":"2026-03-14T09:12:00Z","basket":{"ROPE-10-W":3}},` +
		`{"orderNo":5502,"createdAt":"2026-03-14T10:40:00Z","basket":{"CLEAT-A4":12}}]`,
		`lines: {each: "$.basket.*"}|sender_number: {from: orderNo, need: must}|` +
			`item: {from: "{name}", need: must}|quantity: {from: $, need: must}`, ""},
	{"sums by their names, which are no items", `[{"orderNo":5501,"totals":{"net":300,"vat":60,"gross":360},` +
		`"rows":[{"sku":"00417","qty":12},{"sku":"00233","qty":4}]}]`,
		`lines: {each: "$.rows[*]"}|item: {from: sku, need: must}|quantity: {from: qty, need: must}`, ""},
	{"positions by their codes", `{"orderNo":"88231","orderDate":"2026-03-14","positions":{"00417":{"qty":12,` +
		`"price":1.5},"00233":{"qty":4,"price":22.0},"00101":{"qty":1,"price":3.25}}}`,
		`lines: {each: "$.positions.*"}|item: {from: "{name}", need: must}|quantity: {from: qty, need: must}`, ""},
	{"positions by their numbers", `{"orderNo":"88231","positions":{"10":{"text":"Rope, white","qty":12},` +
		`"20":{"text":"Cleat","qty":4},"30":{"text":"Buoy","qty":1}}}`,
		`number: {from: "{name}"}|description: {from: text}|quantity: {from: qty, need: must}`, ""},
	{"a sheet as lists of cells", `{"range":"Orders!A1:G4","values":[["Order No","Order Date","Customer","Item",` +
		`"Description","Qty","Price"],` +
		`["W-1001","2026-03-14","Harbour Stores","00417","Rope 10 mm","12","1.50"],["W-1001","2026-03-14",` +
		`"Harbour Stores","00233","Cleat","4","22.00"],` +
		`["W-1002","2026-03-15","Pellow","00101","Buoy","40","3.25"]]}`,
		`records: "$.values[1:]"|group: {by: key, columns: "$[0]"}|sender_number: {from: "$[0]", need: must}|` +
			`ordered_on: {from: "$[1]"}|item: {from: "$[3]", need: must}|quantity: {from: "$[5]", need: must}|` +
			`unit_price: {from: "$[6]"}`, ""},
	{"a sheet of one order as lists of cells", `[["Bestellnummer","Artikel","Menge","Preis"],["B-77","00417",12,` +
		`1.5],["B-77","00233",4,22]]`,
		`records: "$[1:]"|group: {by: key, columns: "$[0]"}|sender_number: {from: "$[0]", need: must}|` +
			`item: {from: "$[1]", need: must}|quantity: {from: "$[2]", need: must}`, ""},
	{"rows beside the names of their columns", `{"order":"W-1001","date":"2026-03-14","customer":"Harbour ` +
		`Stores","columns":["sku","description","quantity","price"],` +
		`"rows":[["00417","Rope 10 mm",12,1.5],["00233","Cleat",4,22.0]]}`,
		`group: {by: path, path: $}|lines: {each: "$.rows[*]"}|sender_number: {from: order, need: must}|` +
			`item: {from: "$[0]", need: must}|quantity: {from: "$[2]", need: must}|unit_price: {from: "$[3]"}`, ""},
	{"lists of three without names", `{"order":"W-1001","lines":[["00417","Rope 10 mm",12],["00233","Cleat",4]]}`,
		`lines: {each: "$.lines[*]"}|sender_number: {from: order, need: must}|item: {from: "$[0]", need: must}|` +
			`quantity: {from: "$[2]", need: must}`, ""},
	{"lines as JSON in a cell", "order_id,order_date,customer_name,currency,line_items,total\n" +
		`1001,2026-03-14,Harbour Stores,EUR,"[{""sku"":""00417"",""name"":""Rope 10 mm"",""quantity"":12,` +
		`""price"":""1.50""},{""sku"":""00233"",""name"":""Cleat"",""quantity"":4,""price"":""22.00""}]",106.00` + "\n" +
		`1002,2026-03-15,Pellow,EUR,"[{""sku"":""00101"",""name"":""Buoy"",""quantity"":40,""price"":""3.25""}]",130.00` + "\n",
		`lines: {across: cells, columns: line_items, by: json}|sender_number: {from: order_id, need: must}|` +
			`ordered_on: {from: order_date}|` +
			`item: {from: line_items, need: must, expr: 'json(value, "sku")'}|` +
			`quantity: {from: line_items, need: must, expr: 'json(value, "quantity")'}|` +
			`unit_price: {from: line_items, expr: 'json(value, "price")'}|total: {from: total}`, ""},
	{"JSON within JSON in a cell", "Order;Date;Cart\n" + `W-1;14.03.2026;"[{""product"":{""code"":""A-10"",` +
		`""title"":""Rope""},""qty"":3,""unitPrice"":1.5},{""product"":{""code"":""A-11"",""title"":""Cleat""},` +
		`""qty"":1,""unitPrice"":22}]"` + "\n" +
		`W-2;15.03.2026;"[{""product"":{""code"":""A-12"",""title"":""Buoy""},""qty"":7,""unitPrice"":3.25}]"` + "\n",
		`lines: {across: cells, columns: Cart, by: json}|item: {from: Cart, need: must, expr: 'json(value, ` +
			`"$.product.code")'}|quantity: {from: Cart, need: must, expr: 'json(value, "qty")'}`, ""},
	{"lists of codes and quantities in cells", "Order ID,Date,Customer,SKUs,Quantities\n" +
		"1001,2026-03-14,Harbour Stores,\"00417,00233\",\"12,4\"\n1002,2026-03-15,Pellow,00101,40\n" +
		"1003,2026-03-16,Pellow,\"00101,00305,00417\",\"1,2,30\"\n",
		`lines: {across: cells, columns: [SKUs, Quantities], by: ","}|` +
			`sender_number: {from: Order ID, need: must}|item: {from: SKUs, need: must}|` +
			`quantity: {from: Quantities, need: must}`, ""},
	{"lists divided by semicolons, with prices", "Order,Item codes,Qty,Unit prices\nA-1,A10; A11,2; 3,1.50; 22.00\nA-2,A12,5,3.25\n",
		`lines: {across: cells, columns: [Item codes, Qty, Unit prices], by: ;}|` +
			`item: {from: Item codes, need: must}|quantity: {from: Qty, need: must}|unit_price: {from: Unit prices}`, ""},
	{"items and quantities in one cell", "Order ID,Date,Customer,Items\n1001,2026-03-14,Harbour Stores,00417 x 12;" +
		" 00233 x 4\n1002,2026-03-15,Pellow,00101 x 40\n",
		`lines: {across: cells, columns: Items, by: ;}|item: {from: Items, need: must, expr: 'before(value, " x ` +
			`")'}|quantity: {from: Items, need: must, expr: 'after(value, " x ")'}`, ""},
	{"quantities and items in one cell", "Bestellnummer,Datum,Warenkorb\nB-1,2026-03-14,\"3× A10, 2× A11\"\nB-2,2026-03-15,1× A12\n",
		`lines: {across: cells, columns: Warenkorb, by: ","}|item: {from: Warenkorb, need: must, expr: ` +
			`'after(value, "×")'}|quantity: {from: Warenkorb, need: must, expr: 'before(value, "×")'}`, ""},
	{"commas in texts and figures, which divide nothing", "Auftrag;Artikel;Bezeichnung;Menge;Preis\n" +
		"A-1;00417;Tauwerk, weiß;12;1,95\nA-1;00533;Schäkel, A4;4;3,40\nA-2;00801;Laterne, Messing;2;89,00\n",
		`item: {from: Artikel, need: must}|description: {from: Bezeichnung}|quantity: {from: Menge, need: must}|` +
			`unit_price: {from: Preis}|group: {by: key, columns: Auftrag}`, ""},
	{"sizes written with an x, which are no quantities", "Order,Item,Qty,Price\nA-1,Board 20 x 40,3,9.50\n" +
		"A-1,Board 30 x 60,1,12.00\nA-2,Board 20 x 80,2,15.00\n",
		`item: {from: Item, need: must}|quantity: {from: Qty, need: must}|unit_price: {from: Price}`, ""},
	{"an e-mail of fixed width, with what it is in front", "From: orders@bellrock.example\nSubject: PO 5561\n\nPO Number: 5561\n" +
		"Order Date: 11/27/2026\nShip To: Bellrock Store 12, 1 Pier Rd, Seaport\n\n" +
		"Item      Qty   Description              Price\n00113      50   Braided rope 10 mm        1.33\n" +
		"00310       4   Antifouling, white       35.00\n\nTotal: 206.50\n",
		"sender_number: {label: PO Number, need: must}|ordered_on: {label: Order Date, dates: m/d/yyyy}|ship_to.name: {label: Ship To}|" +
			"total: {label: Total}|item: {from: Item, need: must}|quantity: {from: Qty, need: must}|description: {from: Description}|" +
			"unit_price: {from: Price}", ""},
	{"in Finnish", "Tilausnumero;Tilauspäivä;Tuotenumero;Tuotenimi;Määrä;Yksikkö;Hinta;Toimituspäivä\n" +
		"T-1;27.11.2026;00113;Punosköysi 10 mm;50;m;1,33;15.12.2026\nT-1;27.11.2026;00310;Pohjamaali;4;l;35,00;15.12.2026\n" +
		"T-2;28.11.2026;00530;Messinkiknaapi;6;kpl;14,90;20.12.2026\n",
		"sender_number: {from: Tilausnumero, need: must}|ordered_on: {from: Tilauspäivä, dates: d.m.yyyy}|" +
			"requested_delivery_on: {from: Toimituspäivä, dates: d.m.yyyy}|item: {from: Tuotenumero, need: must}|description: {from: Tuotenimi}|" +
			"quantity: {from: Määrä, need: must}|unit_price: {from: Hinta}", ""},
	{"in Czech", "Číslo objednávky;Datum objednávky;Číslo zboží;Název;Množství;MJ;Cena za kus\n77;27.11.2026;00113;Lano;50;m;1,33\n" +
		"77;27.11.2026;00310;Barva;4;l;35,00\n78;28.11.2026;00530;Vazák;6;ks;14,90\n",
		"sender_number: {from: Číslo objednávky, need: must}|ordered_on: {from: Datum objednávky, dates: d.m.yyyy}|" +
			"item: {from: Číslo zboží, need: must}|description: {from: Název}|quantity: {from: Množství, need: must}|unit_price: {from: Cena za kus}", ""},
	{"a number of pieces called n", `{"groups":[{"store":"0010","orders":[{"no":"G-1","lines":[{"sku":"00101","n":5},{"sku":"00104","n":2}]},` +
		`{"no":"G-2","lines":[{"sku":"00417","n":1}]}]},{"store":"0020","orders":[{"no":"G-3","lines":[{"sku":"00530","n":4}]}]}]}`,
		`sender_number: {from: "no", need: must}|quantity: {from: "n", need: must}|item: {from: sku, need: must}`, ""},
	{"figures with a decimal comma, which are no lists", "Bestellung;Artikel;Menge;Preis;Summe\nB-1;00104;50;0,67;33,50\nB-1;00116;30;1,01;30,30\n" +
		"B-2;00143;15;0,90;13,50\n", "quantity: {from: Menge, need: must}|unit_price: {from: Preis}|amount: {from: Summe}", ""},
}

var mark = regexp.MustCompile(`(?m)\s+#.*$`)

// Only headings that say so make prices hold the tax.
func TestTaxed(t *testing.T) {
	for heading, holds := range map[string]bool{"Price inc VAT": true, "Preis inkl. MwSt": true, "Prix TTC": true, "VAT incl. price": true,
		"Price excl. VAT, incl. freight": false, "Preis ohne MwSt inkl. Fracht": false, "Price": false, "Price ex VAT": false,
		"Income price": false} {
		doc := "Order,Item,Qty,\"" + heading + "\"\nA-1,00417,10,2.00\nA-1,00533,2,4.00\nA-2,00801,1,100.00\n"
		p, err := Draft(strings.NewReader(doc), int64(len(doc)), Hints{Limits: source.DefaultLimits})
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Contains(p.Text, "tax_treatment: {value: inclusive}"); got != holds || holds && !strings.Contains(p.Text, "unit_price:") {
			t.Errorf("%s: %v; want %v\n%s", heading, got, holds, p.Text)
		}
	}
}

func TestStrangers(t *testing.T) {
	for _, c := range strangers {
		if strings.HasSuffix(c.doc, ".txt") {
			text, err := os.ReadFile("../source/testdata/fixed/" + c.doc)
			if err != nil {
				t.Fatal(err)
			}
			c.doc = string(text)
		}
		p, err := Draft(strings.NewReader(c.doc), int64(len(c.doc)),
			Hints{Lists: &list.Set{}, Limits: source.DefaultLimits})
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		lines := map[string]bool{}
		for line := range strings.SplitSeq(mark.ReplaceAllString(p.Text, "")+p.Text, "\n") {
			lines[strings.TrimSpace(line)] = true
		}
		for want := range strings.SplitSeq(c.wants, "|") {
			if want != "" && !lines[want] {
				t.Errorf("%s: %s is not in\n%s", c.name, want, p.Text)
			}
		}
		said := strings.ReplaceAll(p.Text, "tax_treatment: {value: inclusive}", "") // a heading says it
		if strings.Contains(said, "UNKNOWN") || strings.Contains(said, "{value:") {
			t.Errorf("%s: a value is invented:\n%s", c.name, p.Text)
		}
		want := ""
		switch {
		case strings.HasPrefix(c.others, "The columns"):
			want = c.others
		case c.others != "":
			want = "No column looks like a quantity: this may be " + c.others + ", and no document of orders."
		}
		if p.NoOrders != want {
			t.Errorf("%s: %q, want %q", c.name, p.NoOrders, want)
		}
	}
}

// What people do not see is not drafted.
func TestDraftOfHidden(t *testing.T) {
	f := excelize.NewFile()
	put := func(sheet string, rows ...[]any) {
		for i := range rows {
			if err := f.SetSheetRow(sheet, "A"+string(rune('1'+i)), &rows[i]); err != nil {
				t.Fatal(err)
			}
		}
	}
	put("Sheet1", []any{"Order no", "Item", "Qty"}, []any{"old", "x", 1}, []any{"A-1", "00101", 2},
		[]any{"A-2", "00104", 1})
	if _, err := f.NewSheet("Archive"); err != nil {
		t.Fatal(err)
	}
	put("Archive", []any{"Order no", "Item", "Qty"}, []any{"B-1", "y", 1}, []any{"B-2", "z", 1})
	if err := f.SetSheetVisible("Archive", false); err != nil {
		t.Fatal(err)
	}
	if err := f.SetRowVisible("Sheet1", 2, false); err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		t.Fatal(err)
	}
	p, err := Draft(bytes.NewReader(b.Bytes()), int64(b.Len()), Hints{Lists: &list.Set{}, Limits: source.DefaultLimits})
	if err != nil || strings.Contains(p.Text, "sheet:") || !strings.Contains(p.Text, "hidden: leave-out") {
		t.Errorf("%v\n%s", err, p.Text)
	}
}
