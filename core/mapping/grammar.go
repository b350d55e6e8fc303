package mapping

import (
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/source"
)

// Version is the first line of every mapping of this grammar.
const Version = "mapping/1"

type shapeKind int

const (
	object  shapeKind = iota // keys
	text                     // any scalar, taken as it is written
	choice                   // one of choices
	integer                  // a whole number of at least 1
	boolean                  // true or false
	listOf                   // of items; a single item may stand without brackets
	fields                   // order fields of a level, each with items as its shape
	table                    // words of the user's own, each with items as its shape
)

// shape is what may stand at one point of a mapping.
type shape struct {
	kind    shapeKind
	about   string
	keys    []key
	choices []string
	items   *shape
	level   order.Level
	one     bool // exactly one of the keys
}

type key struct {
	name     string
	required bool
	shape    *shape
}

func words(about string, choices ...string) *shape {
	return &shape{kind: choice, about: about, choices: choices}
}
func some(about string) *shape  { return &shape{kind: text, about: about} }
func many(about string) *shape  { return &shape{kind: listOf, about: about, items: &shape{kind: text}} }
func whole(about string) *shape { return &shape{kind: integer, about: about} }

var (
	decimalSign  = words("Decimal sign", ".", ",")
	groupingSign = words("Sign between thousands; spaces are always allowed", ".", ",", "'", "none")
	dateForms    = many("Forms of a date, tried in turn: d or dd, m, mm or mmm (Jan), yy or yyyy, e.g. d.m.yyyy; " +
		"serial or serial-1904 for a spreadsheet's day number; yyyy-mm-dd always works. Two forms that differ only " +
		"in day and month are decided by what the whole column says")
	zone = some("Time zone in which the day of a time counts, e.g. Europe/Oslo; left out, the day as it is written")
	yes  = many("Words for true; true, yes, 1 and x always are")
	no   = many("Words for false; false, no and 0 always are")
)

var binding = &shape{kind: object,
	about: "Where one field of the order gets its value, and what is done to it on the way", keys: []key{
		{"from", false, many("Heading of the column, letter case and space aside; @C for column C; a name or a path " +
			"($.a.b, RFC 9535) in JSON; an element of X12 (BEG/03, PO1/07 where PO1/06 = VP); {n} in a heading is a " +
			"number from 1 on; {heading}, {cell} of a matrix; {sheet} the sheet's name. Of several the first that has a value")},
		{"cell", false, some("Fixed cell, such as B3")},
		{"label", false, many("Text of the cell beside which the value stands, * for any letters; a colon at its end " +
			"does not matter")},
		{"beside", false, words("Where the value stands beside its label; left out, the first filled cell to the "+
			"right, or else below", "right", "below")},
		{"of", false, words("Which record is asked: the line's own (the usual), the order's, the object around the "+
			"record, or the whole document", "order", "parent", "document")},
		{"row", false, many("By rowkind: the kinds of row, in the partner's words, on which the value stands; left " +
			"out, those that fit the level")},
		{"value", false, some("The same value for every order")},
		{"result", false, some("In a sequence: what an earlier step gave the order of the same row, as step.field: " +
			"purchase.number, purchase.lines.amount")},
		{"expr", false, some("Expression that gives the value; value is what from, cell or label found")},
		{"when", false, some("Condition: the binding counts only where it is true")},
		{"repeat", false, words("What a header fact does that stands in several rows: agree (the usual), first, "+
			"last, join its texts, sum its numbers", "agree", "first", "last", "join", "sum")},
		{"default", false, some("Value where there is none")},
		{"need", false, words("must: a missing value refuses the order; should: it warns; may: it is fine", "must",
			"should", "may")},
		{"crosswalk", false, some("Crosswalk that turns the partner's code into ours, before the list is asked")},
		{"others", false, words("What the crosswalk does not have: refuse (the usual), or keep: it is taken as a "+
			"code of ours, which the list then judges", "refuse", "keep")},
		{"list", false, some("Reference list that must hold the value")},
		{"by", false, many("What of the list's entries the value is compared with: code (the usual), name, or any " +
			"column; the first that fits counts")},
		{"near", false, whole("How many letters a value may differ from the list's; always leaves a warning")},
		{"give", false, some("What of the list's entry is taken; left out, its code")},
		{"dates", false, dateForms},
		{"decimal", false, decimalSign},
		{"grouping", false, groupingSign},
		{"zone", false, zone},
		{"yes", false, yes},
		{"no", false, no},
		{"suffix", false, words("What a word behind the number does: unit sets the line's unit, drop leaves it out; "+
			"else it is an error. Currency signs are always understood", "unit", "drop")},
		{"type", false, words("Type of a custom field", "text", "code", "decimal", "percent", "date", "boolean")},
		{"check", false, &shape{kind: boolean,
			about: "false keeps a stated amount or total without comparing it with Koinos's own"}},
		{"write", false, some("Expression that gives the text on the way out; value is the field")},
	}}

var condition = "col(\"Heading\") is a cell's text, text the row's first filled cell, filled how many cells are " +
	"filled, row its number"

// groupings are the ways in which rows become orders.
var groupings = []string{"key", "opener", "gap", "rowkind", "count", "sheet", "file", "form", "join", "path", "set"}

// rowKinds are what a row can be by rowkind.
var rowKinds = []string{"header", "line", "party", "charge", "note", "leave-out"}

func joined(about string) *shape {
	return &shape{kind: object, about: about, keys: []key{
		{"sheet", true, some("Sheet by name, * for any letters")},
		{"columns", true, many("The columns of the key; named like from")},
	}}
}

func part(what string) *shape {
	keys := []key{
		{"each", false, some("JSON: path of the " + what +
			" within the order (RFC 9535); X12: the segment that begins one of them, such as PO1")},
		{"across", false, words("Several in one row. numbered: {n} in a heading counts them, or the same heading "+
			"stands several times; matrix: one for each filled cell of the columns", "numbered", "matrix")},
		{"columns", false, many("matrix: the columns by heading, @F, or from first to last as @F-@M")},
		{"when", false, some("Condition of a row that is one: " + condition)},
	}
	if what == "lines" {
		keys = append(keys, key{"begin", false,
			words("same: lines may begin on the order's first row (the usual); next: on the row below it", "same",
				"next")})
	}
	return &shape{kind: object,
		about: "How " + what + " stand in an order's rows; left out, a row with a value for one of them is one",
		keys:  keys}
}

// grammar is everything that may stand in a mapping.
var grammar = &shape{kind: object, about: "How a document's records become orders", keys: []key{
	{"koinos", true, words("Version of the grammar", Version)},
	{"name", true, some("Name of the mapping: small letters, digits and hyphens")},
	{"extends", false, some("A standard mapping, such as x12-850, whose words hold where this one says nothing: " +
		"koinos mapping standard lists them")},
	{"about", false, some("What the mapping is for, in a sentence")},
	{"document", false, &shape{kind: object, about: "What the document looks like; what is left out is found out",
		keys: []key{
			{"format", false, words("Outer form", source.Formats...)},
			{"encoding", false, words("Encoding of a CSV", source.Encodings...)},
			{"delimiter", false, some("Sign between the cells of a CSV; \\t is a tab")},
			{"quote", false, some("Quotation mark of a CSV")},
			{"sheet", false, many("Sheets of a workbook by name, * for any letters, or by number; left out, the " +
				"first visible one")},
			{"set", false, some("X12: the transaction set that is read and written, such as 850; of others in the " +
				"document nothing is taken")},
			{"fixed", false, &shape{kind: table,
				about: "X12: elements that are always written so, such as BEG/01: \"00\"", items: some("Value")}},
			{"records", false, some("JSON: path (RFC 9535) of the values that are the rows; left out, each line of " +
				"NDJSON, or each element of the outermost array")},
			{"unused", false, many("Columns, or paths of JSON, that are left out on purpose; named like from")},
			{"hidden", false, words("What becomes of hidden and filtered rows: they are read (the usual) or left out",
				"read", "leave-out")},
			{"rows", false, &shape{kind: object, about: "Which rows of the table count", keys: []key{
				{"first", false, whole("First row, counted from 1")},
				{"last", false, whole("Last row")},
				{"chosen", false, many("Only these rows: 12, or 20-35")},
				{"leave_out", false, some("Condition of rows that are left out: " + condition)},
				{"keep", false, some("Condition of the only rows that count")},
			}}},
			{"heading", false, &shape{kind: object,
				about: "Where the heading row is; left out, the row with most of the headings that the bindings name",
				keys: []key{
					{"row", false, whole("Row number, counted from 1")},
					{"find", false, many("The first row that holds all these headings")},
					{"rows", false, whole("How many rows the heading takes; the texts of a column are joined by a " +
						"space, and a text above reaches over the blanks at its right")},
				}}},
			{"until", false, &shape{kind: object, about: "Where reading stops", keys: []key{
				{"blank_rows", false, whole("After so many blank rows")},
				{"text", false, many("At a row whose first filled cell is this, * for any letters, e.g. Total*")},
			}}},
			{"locale", false, &shape{kind: object, about: "How numbers and dates are written", keys: []key{
				{"decimal", false, decimalSign},
				{"grouping", false, groupingSign},
				{"dates", false, dateForms},
				{"zone", false, zone},
				{"yes", false, yes},
				{"no", false, no},
			}}},
		}}},
	{"orders", true, &shape{kind: object, about: "What the orders are and which rows make one", keys: []key{
		{"kind", true, words("What a record is. sales: an order that a partner makes with us; purchase: one that we "+
			"make with a supplier. change, answer, shipment, receipt, invoice: it speaks of an order that is stored",
			append(order.Kinds, intent.Notices...)...)},
		{"of", false, words("change, answer, shipment, receipt, invoice: which orders they speak of", order.Kinds...)},
		{"group", true, &shape{kind: object, about: "Which rows make one order", keys: []key{
			{"by", true, words("How rows are grouped", groupings...)},
			{"columns", false, many("key, opener, gap, rowkind: the columns asked; named like from")},
			{"blanks", false, words("key: a row with a blank key continues the order (the usual), or breaks it",
				"continue", "break")},
			{"rows", false, words("key: rows of one order stand adjacent (the usual), or anywhere in the document",
				"adjacent", "anywhere")},
			{"when", false, some("opener: condition of a row that opens an order: " + condition)},
			{"kinds", false, &shape{kind: table, about: "rowkind: the partner's words for kinds of row",
				items: words("What a row of the kind is", rowKinds...)}},
			{"kind", false, some("rowkind: the column that says what a row is; named like from")},
			{"count", false, whole("count: how many rows make an order")},
			{"opener", false, some("form: text of the cell with which each form begins, * for any letters")},
			{"path", false, some("path: which values of a JSON document are the orders (RFC 9535); set: the segment " +
				"that begins each order of a transaction set that holds several, such as HL where HL/03 = O")},
			{"headers", false, joined("join: the sheet of the headers")},
			{"lines", false, joined("join: the sheet of the lines")},
		}}},
		{"parts", false, &shape{kind: object, about: "How the repeating parts of an order stand in its rows",
			keys: []key{
				{"lines", false, part("lines")}, {"parties", false, part("parties")},
				{"charges", false, part("charges")},
			}}},
		{"again", false, &shape{kind: object, about: "What a second arrival of a stored order means", keys: []key{
			{"do", true, words("refuse: it is refused, the same or not; skip: the same is left alone, a different "+
				"one refused (the usual); update: the fields bound here are changed; revise: a newer one takes the "+
				"place of the stored one", "refuse", "skip", "update", "revise")},
			{"lines", false, words("update: by what arriving lines are matched with stored ones; left out, by number "+
				"or sender_line where it is bound, else by item", order.LineKeys...)},
			{"missing", false, words("update: what becomes of stored lines that do not arrive: they are kept (the "+
				"usual), closed (what has not moved is cancelled), or the order is refused", order.Missings...)},
			{"blanks", false, words("update: what a blank value does: it keeps the stored one (the usual), or clears it", "keep", "clear")},
			{"newer", false, some("revise: the header's date that says which is newer; left out, ordered_on")},
		}}},
		{"hold", false, many("Warnings that hold an order back until somebody accepts them: their codes, or all")},
		{"by_hand", false, &shape{kind: object,
			about: "How many minutes it takes to enter an order by hand: what a load saves", keys: []key{
				{"order", false, some("Minutes for an order")},
				{"line", false, some("Minutes for each line")},
			}}},
		{"tolerance", false, some("How far stated amounts and totals may differ from Koinos's own; left out, 0.01")},
		{"rounding", false, words("How amounts are rounded to the currency's digits", order.Roundings...)},
	}}},
	{"header", true, &shape{kind: fields, level: order.Header, items: binding,
		about: "Bindings of the order's own fields"}},
	{"lines", true, &shape{kind: fields, level: order.Lines, items: binding, about: "Bindings of each line's fields"}},
	{"parties", false, &shape{kind: fields, level: order.Parties, items: binding,
		about: "Bindings of parties that repeat within an order"}},
	{"charges", false, &shape{kind: fields, level: order.Charges, items: binding,
		about: "Bindings of allowances and charges that repeat within an order"}},
	{"results", false, &shape{kind: object,
		about: "Columns of the marked-up copy that take the answers; outcome, number and message that are left out " +
			"take the first free ones at the right", keys: []key{
			{"outcome", false, some("Column letter for loaded, refused, unchanged …")},
			{"number", false, some("Column letter for the order number")},
			{"message", false, some("Column letter for what was found")},
			{"warnings", false, some("Column letter for warnings, which otherwise stand with the errors")},
			{"line", false, some("Column letter for the line number")},
			{"line_id", false, some("Column letter for Koinos's own id of the line, such as 318-2")},
			{"fields", false, &shape{kind: table,
				about: "Further fields of the order as it is stored: status, total, ordered_on, lines.amount …",
				items: some("Column letter")}},
			{"overwrite", false, &shape{kind: boolean,
				about: "true writes over columns in which something stands; else the first free ones are taken instead"}},
		}}},
}}
