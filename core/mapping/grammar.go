package mapping

import (
	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/source"
	"regexp"
	"slices"
	"strings"
)

// Version is the first line of every mapping of this grammar.
const Version = "mapping/1"

// fieldsOf are bindings of the fields of a level.
func fieldsOf(level order.Level, about string) *grammar.Shape {
	return &grammar.Shape{Kind: grammar.Table, About: about, Items: binding,
		Names: func() []string { return order.FieldNames(level) },
		Known: func(word string) bool {
			return slices.ContainsFunc(append([]string{""}, intent.Notices...), func(kind string) bool {
				_, ok := order.LookupOf(kind, level, word)
				return ok
			})
		},
		Words: func() (properties, patterns map[string]any) {
			properties, patterns = map[string]any{}, map[string]any{}
			for _, f := range append(order.AllFields(level), order.Statements(level)...) {
				one := map[string]any{"description": f.About, "$ref": "#/$defs/" + binding.Ref}
				if family, ok := strings.CutSuffix(f.Name, "*"); ok {
					patterns["^"+regexp.QuoteMeta(family)+".+$"] = one
				} else {
					properties[f.Name] = one
				}
			}
			return properties, patterns
		}}
}

var (
	decimalSign  = grammar.OneOf("Decimal sign", ".", ",")
	groupingSign = grammar.OneOf("Sign between thousands; spaces are always allowed", ".", ",", "'", "none")
	dateForms    = grammar.Many("Forms of a date, tried in turn: d or dd, m, mm or mmm (Jan), yy or yyyy, e.g. " +
		"d.m.yyyy; ddd is the name of a weekday, " +
		"ww a week of ISO 8601 (its Monday is meant), 'de' a word; " +
		"serial or serial-1904 for a spreadsheet's day number, unix or unix-ms for seconds or milliseconds since 1970; " +
		"yyyy-mm-dd always works. Two forms that differ only " +
		"in day and month are decided by what the whole column says")
	zone = grammar.Some("Time zone in which the day of a time counts, e.g. Europe/Oslo; by default the day as it is written")
	yes  = grammar.Many("Words for true; true, yes, 1 and x always are")
	no   = grammar.Many("Words for false; false, no and 0 always are")

	blankWords = grammar.Many("Values that mean that there is none, such as -, n/a or 0; letter case aside")
)

var binding = &grammar.Shape{Kind: grammar.Object, Ref: "binding",
	About: "Where one field of the order gets its value, and what is done to it on the way", Keys: []grammar.Key{
		grammar.May("from", grammar.Many("Heading of the column, letter case and space aside; @C for column C; a "+
			"name or a path "+
			"($.a.b, RFC 9535) in JSON; an element of X12 (BEG/03, PO1/07 where PO1/06 = VP); {n} in a heading is a "+
			"number from 1 on; {heading}, {cell} of a matrix; {sheet} the sheet's name; {name} the name of the "+
			"member of JSON that the record or the line "+
			"is. Of several the first that has a value")),
		grammar.May("cell", grammar.Some("Fixed cell, such as B3")),
		grammar.May("label", grammar.Many("Text of the cell beside which the value stands, * for any letters; a "+
			"colon at its end "+
			"does not matter")),
		grammar.May("beside",
			grammar.OneOf("Where the value stands beside its label; by default the first filled cell to the "+
				"right, or else below", "right", "below")),
		grammar.May("of", grammar.OneOf("Which record is asked: the line's own (the default), the order's, the object around the "+
			"record, the nearest loop around it in which the address leads to something (X12), or the whole document", "order",
			"parent", "around", "document")),
		grammar.May("row", grammar.Many("By rowkind: the kinds of row, in the partner's words, on which the value "+
			"stands; left "+
			"out, those that fit the level")),
		grammar.May("value", grammar.Some("The same value for every order")),
		grammar.May("result",
			grammar.Some("In a sequence: what an earlier step gave the order of the same row, as step.field: "+
				"purchase.number, purchase.lines.amount")),
		grammar.May("expr", grammar.Some("Expression that gives the value; value is what from, cell or label found")),
		grammar.May("when", grammar.Some("Condition: the binding counts only where it is true")),
		grammar.May("repeat",
			grammar.OneOf("What a fact does that stands in several rows, or several times under one path: agree (the default), "+
				"first, last, join its texts, sum its numbers", "agree", "first", "last", "join", "sum")),
		grammar.May("separator", grammar.Some("What stands between texts that are joined; by default a line break")),
		grammar.May("default", grammar.Some("Value where there is none")),
		grammar.May("need", grammar.OneOf("must: a missing value refuses the order; should: it warns; may: it is fine",
			"must",
			"should", "may")),
		grammar.May("crosswalk",
			grammar.Some("Crosswalk that turns the partner's code into ours, before the list is asked")),
		grammar.May("others",
			grammar.OneOf("What the crosswalk does not have: refuse (the default), or keep: it is taken as a "+
				"code of ours, which the list then judges", "refuse", "keep")),
		grammar.May("list", grammar.Some("Reference list that must hold the value")),
		grammar.May("by", grammar.Many("What of the list's entries the value is compared with: code (the default), "+
			"name, or any "+
			"column; the first that fits counts")),
		grammar.May("near", grammar.Whole("How many letters a value may differ from the list's; always leaves a warning")),
		grammar.May("give", grammar.Some("What of the list's entry is taken; by default its code")),
		grammar.May("fold", grammar.OneOf("case: letter case does not count: facts of several rows agree without it, "+
			"and a code, a unit or a "+
			"currency that is spelled otherwise leaves no warning", "case")),
		grammar.May("blank", blankWords),
		grammar.May("least", grammar.Some("The smallest number, or the first day (yyyy-mm-dd), that is allowed")),
		grammar.May("most", grammar.Some("The largest number, or the last day, that is allowed")),
		grammar.May("places", &grammar.Shape{Kind: grammar.Integer,
			About: "How many digits may stand behind the point"}),
		grammar.May("length", grammar.Some("How many letters the text may have: 10 at most, or 3-10")),
		grammar.May("pattern", grammar.Some("Regular expression (RE2) that the whole text must fit")),
		grammar.May("dates", dateForms),
		grammar.May("decimal", decimalSign),
		grammar.May("grouping", groupingSign),
		grammar.May("zone", zone),
		grammar.May("yes", yes),
		grammar.May("no", no),
		grammar.May("suffix",
			grammar.OneOf("What a word behind the number does: unit sets the line's unit, drop leaves it out; "+
				"else it is an error. Currency signs are always understood", "unit", "drop")),
		grammar.May("type", grammar.OneOf("Type of a custom field; of a reference it is text or code", "text", "code",
			"decimal", "percent", "date",
			"boolean")),
		grammar.May("check", &grammar.Shape{Kind: grammar.Boolean,
			About: "false keeps a stated amount or total without comparing it with Koinos's own"}),
		grammar.May("write", grammar.Some("Expression that gives the text on the way out; value is the field, with the partner's "+
			"code where there is a crosswalk")),
	}}

var condition = "col(\"Heading\") is a cell's text, text the row's first filled cell, filled how many cells are " +
	"filled, row its number"

// groupings are the ways in which rows become orders.
var groupings = []string{"key", "opener", "gap", "rowkind", "count", "sheet", "file", "form", "join", "path", "set"}

// rowKinds are what a row can be by rowkind.
var rowKinds = []string{"header", "line", "party", "charge", "delivery", "note", "leave-out"}

// weighed are the codes of findings whose severity can be set.
func weighed() []string {
	var all []string
	for code := range finding.Weighed {
		all = append(all, string(code))
	}
	slices.Sort(all)
	return all
}

// TotalNames are the totals that a document can state about itself.
var TotalNames = []string{"orders", "lines", "rows", "quantity", "goods", "total"}

var aboutTotals = map[string]string{
	"orders": "How many orders it has", "lines": "How many lines they have",
	"rows":     "How many rows stand below the heading, blank ones and that of the totals aside",
	"quantity": "Sum of the lines' quantities", "goods": "Sum of the lines' amounts",
	"total": "Sum of the orders' totals",
}

func totalKeys() (keys []grammar.Key) {
	for _, name := range TotalNames {
		keys = append(keys, grammar.May(name, grammar.Group(aboutTotals[name]+": where it stands",
			grammar.May("from", binding.Under("from")), grammar.May("cell", binding.Under("cell")),
			grammar.May("label", binding.Under("label")),
			grammar.May("beside", binding.Under("beside")), grammar.May("expr", binding.Under("expr")),
			grammar.May("decimal", decimalSign), grammar.May("grouping", groupingSign))))
	}
	return keys
}

func joined(about string) *grammar.Shape {
	return &grammar.Shape{Kind: grammar.Object, About: about, Keys: []grammar.Key{
		grammar.May("sheet", grammar.Some("Sheet by name, * for any letters")),
		grammar.May("path", grammar.Some("JSON: path of the values (RFC 9535), such as $.orders[*], in place of a sheet")),
		grammar.Must("columns", grammar.Many("The columns of the key; named like from")),
	}}
}

func part(what string) *grammar.Shape {
	across, ways := "Several in one row. numbered: {n} in a heading counts them, or the same heading stands several times; "+
		"matrix: one for each filled cell of the columns", []string{"numbered", "matrix"}
	if what == "lines" {
		across, ways = across+"; cells: one for each of the values that a cell of the columns holds", append(ways, "cells")
	}
	keys := []grammar.Key{
		grammar.May("each", grammar.Some("JSON: path of the "+what+
			" within the order (RFC 9535); X12: the segment that begins one of them, such as PO1")),
		grammar.May("across", grammar.OneOf(across, ways...)),
		grammar.May("columns", grammar.Many("matrix, cells: the columns by heading, @F, or from first to last as @F-@M")),
		grammar.May("when", grammar.Some("Condition of a row that is one: "+condition)),
	}
	switch what {
	case "deliveries":
		return &grammar.Shape{Kind: grammar.Object, About: "Where the deliveries of a line stand within it",
			Keys: []grammar.Key{grammar.Must("each",
				grammar.Many("JSON: path of the deliveries within the line (RFC 9535); X12: "+
					"the segment that begins one of them, such as PO1/SCH, or the first element of each where a segment has "+
					"several, such as PO1/SDQ/03. Of several, all are taken"))}}
	case "lines":
		keys = append(keys, grammar.May("by", grammar.Some("cells: what stands between the values in a cell, "+
			"such as \";\" or \"\\n\"; json: a cell is a "+
			"list in JSON, of whose values the function json reads the members")), grammar.May("begin",
			grammar.OneOf("same: lines may begin on the order's first row (the default); next: on the row below it",
				"same",
				"next")),
			grammar.May("sorted",
				grammar.OneOf("number: the lines stand in the order of their numbers; by default in that of "+
					"the document", "number")),
			grammar.May("apart", grammar.Many("X12: a segment within that of each, such as PO1/ACK: where it stands several "+
				"times, there is a line for each. Of a list, the first that stands several times. Lines of one number are "+
				"written with one of the first for each")))
	}
	return &grammar.Shape{Kind: grammar.Object,
		About: "How " + what + " stand in an order's rows; by default a row with a value for one of them is one",
		Keys:  keys}
}

// words is everything that is allowed in a mapping.
var words = &grammar.Shape{Kind: grammar.Object, About: "How a document's records become orders", Keys: []grammar.Key{
	grammar.Must("koinos", grammar.OneOf("Version of the grammar", Version)),
	grammar.Must("name", grammar.Some("Name of the mapping: small letters, digits and hyphens")),
	grammar.May("extends",
		grammar.Some("A standard mapping, such as x12-850, whose words hold where this one says nothing: "+
			"koinos mapping standard lists them")),
	grammar.May("about", grammar.Some("What the mapping is for, in a sentence")),
	grammar.May("document", &grammar.Shape{Kind: grammar.Object,
		About: "What the document looks like; what is left out is found out",
		Keys: []grammar.Key{
			grammar.May("format", grammar.OneOf("Outer form", source.Formats...)),
			grammar.May("encoding", grammar.OneOf("Encoding of a CSV", source.Encodings...)),
			grammar.May("delimiter", grammar.Some("Sign between the cells of a CSV; \\t is a tab")),
			grammar.May("quote", grammar.Some("Quotation mark of a CSV; none: there is none, and each mark is text")),
			grammar.May("record_end",
				grammar.Some("Character that ends a record of text instead of a line's end, such as ~; line ends "+
					"behind it do not "+
					"count, and there are no quotation marks")),
			grammar.May("release",
				grammar.Some("Character that makes the next one text, such as ?; there are no quotation marks")),
			grammar.May("positions", &grammar.Shape{Kind: grammar.Table,
				About: "Text of fixed width: its columns by names of your own, which stand for headings, " +
					"with the characters that each has, counted from 1",
				Items: grammar.Some("First and last character, such as 1-8")}),
			grammar.May("sheet", grammar.Many("Sheets of a workbook by name, * for any letters, or by number; by default the "+
				"first visible one")),
			grammar.May("set", grammar.Some("X12: the transaction set that is read and written, such as 850; of "+
				"others in the "+
				"document nothing is taken")),
			grammar.May("fixed", &grammar.Shape{Kind: grammar.Table,
				About: "X12: elements that are always written so, such as BEG/01: \"00\"",
				Items: grammar.Some("Value")}),
			grammar.May("records",
				grammar.Some("JSON: path (RFC 9535) of the values that are the rows; by default each line of "+
					"NDJSON, or each element of the outermost array")),
			grammar.May("unknown",
				grammar.OneOf("What is said of columns with a heading that no binding uses and unused does not name: "+
					"nothing (ignore, the "+
					"usual), or a warning", "ignore", "warn")),
			grammar.May("unused",
				grammar.Many("Columns, or paths of JSON, that are left out on purpose; named like from")),
			grammar.May("hidden",
				grammar.OneOf("What becomes of hidden sheets that are named, and of hidden and filtered rows: they "+
					"are read (the default) or left out",
					"read", "leave-out")),
			grammar.May("broken",
				grammar.OneOf("What becomes of a document that cannot be read to its end, or in which a record or "+
					"a quotation mark is broken: its sound orders are taken (the default), or the whole document is "+
					"refused and "+
					"nothing of it stored", "take", "refuse")),
			grammar.May("totals", &grammar.Shape{Kind: grammar.Object,
				About: "Counts and sums that the document states of itself, to be " +
					"compared with what was read",
				Keys: append([]grammar.Key{
					grammar.May("when", grammar.Some("Condition of the row on which they stand, which belongs to no order: "+condition+
						"; by default they stand in cells, beside labels, or in the JSON around the records")),
					grammar.May("differ",
						grammar.OneOf("What becomes of a document in which they differ: it is refused and nothing of it stored "+
							"(the default), or it is taken with a warning", "refuse", "warn")),
				}, totalKeys()...)}),
			grammar.May("rows", &grammar.Shape{Kind: grammar.Object, About: "Which rows of the table count",
				Keys: []grammar.Key{
					grammar.May("first", grammar.Whole("First row, counted from 1")),
					grammar.May("last", grammar.Whole("Last row")),
					grammar.May("chosen", grammar.Many("Only these rows: 12, or 20-35")),
					grammar.May("leave_out", grammar.Some("Condition of rows that are left out: "+condition)),
					grammar.May("keep", grammar.Some("Condition of the only rows that count")),
				}}),
			grammar.May("heading", &grammar.Shape{Kind: grammar.Object,
				About: "Where the heading row is; by default the row with most of the headings that the bindings name",
				Keys: []grammar.Key{
					grammar.May("row", grammar.Whole("Row number, counted from 1")),
					grammar.May("none", &grammar.Shape{Kind: grammar.Boolean,
						About: "true: there is no heading row, and the first row has values; " +
							"columns are named by their letters"}),
					grammar.May("repeats", &grammar.Shape{Kind: grammar.Boolean,
						About: "true: the head of the page stands again further down, as in what was made " +
							"to be printed, or another table with a heading of its own follows: rows that begin as " +
							"one above the heading does, digits " +
							"aside, are left out, and a row that has all headings which the bindings name is a " +
							"heading for those below it"}),
					grammar.May("find", grammar.Many("The first row that holds all these headings")),
					grammar.May("rows", grammar.Whole("How many rows the heading takes; the texts of a column are "+
						"joined by a "+
						"space, and a text above reaches over the blanks at its right")),
				}}),
			grammar.May("carried", grammar.Many("Columns that are written only where they change: a blank cell has the value "+
				"that stands above it in the sheet")),
			grammar.May("until", &grammar.Shape{Kind: grammar.Object, About: "Where reading stops", Keys: []grammar.Key{
				grammar.May("blank_rows", grammar.Whole("After so many blank rows")),
				grammar.May("text", grammar.Many("At a row whose first filled cell is this, * for any letters, e.g. Total*")),
			}}),
			grammar.May("locale", &grammar.Shape{Kind: grammar.Object, About: "How numbers and dates are written",
				Keys: []grammar.Key{
					grammar.May("decimal", decimalSign),
					grammar.May("grouping", groupingSign),
					grammar.May("dates", dateForms),
					grammar.May("blank", blankWords),
					grammar.May("zone", zone),
					grammar.May("yes", yes),
					grammar.May("no", no),
				}}),
		}}),
	grammar.Must("orders", &grammar.Shape{Kind: grammar.Object, About: "What the orders are and which rows make one",
		Keys: []grammar.Key{
			grammar.Must("kind", grammar.OneOf("What a record is. sales: an order that a partner makes with us; "+
				"purchase: one that we "+
				"make with a supplier. change, answer, shipment, receipt, return, invoice: it is about a stored order",
				append(order.Kinds, intent.Notices...)...)),
			grammar.May("kinds", grammar.Group("Where a value says of each order whether it is a sales or a purchase "+
				"order; kind is what "+
				"an order is where it is blank",
				grammar.Must("from", grammar.Some("Column or path of the value; named like from of a binding")),
				grammar.Must("sales", grammar.Many("Values of sales orders; letter case aside")),
				grammar.Must("purchase", grammar.Many("Values of purchase orders")))),
			grammar.May("leave_out",
				grammar.Some("Condition of an order that is passed over with all its rows, asked of its first row: "+
					condition)),
			grammar.May("of", grammar.OneOf("change, answer, shipment, receipt, return, invoice: which orders they are about",
				order.Kinds...)),
			grammar.Must("group", &grammar.Shape{Kind: grammar.Object, About: "Which rows make one order",
				Keys: []grammar.Key{
					grammar.Must("by", grammar.OneOf("How rows are grouped", groupings...)),
					grammar.May("columns",
						grammar.Many("key, opener, gap, rowkind: the columns asked; named like from")),
					grammar.May("blanks",
						grammar.OneOf("key: a row with a blank key continues the order (the default), or breaks it",
							"continue", "break")),
					grammar.May("fold", grammar.OneOf("key, join, rowkind: case: keys that differ only in letter "+
						"case are one; by default they are two", "case")),
					grammar.May("rows", grammar.OneOf("key: rows of one order stand adjacent (the default), or "+
						"anywhere in the document",
						"adjacent", "anywhere")),
					grammar.May("when", grammar.Some("opener: condition of a row that opens an order: "+condition)),
					grammar.May("kinds", &grammar.Shape{Kind: grammar.Table,
						About: "rowkind: the partner's words for kinds of row",
						Items: grammar.OneOf("What a row of the kind is", rowKinds...)}),
					grammar.May("kind", grammar.Some("rowkind: the column that says what a row is; named like from")),
					grammar.May("count", grammar.Whole("count: how many rows make an order")),
					grammar.May("opener",
						grammar.Some("form: text of the cell with which each form begins, * for any letters")),
					grammar.May("path", grammar.Some("path: which values of a JSON document are the orders (RFC "+
						"9535); set: the segment "+
						"that begins each order of a transaction set that holds several, such as HL where HL/03 = O")),
					grammar.May("same", grammar.Many("set, with path: elements within such a loop, as HL/PRF/01; the loops "+
						"of a set in which all of them are the same are one order")),
					grammar.May("line_names", grammar.Many("set: elements of a line that name its order, such as "+
						"IT1/07 where IT1/06 = PO; "+
						"if the set itself names none, and its lines name several, there is one for each")),
					grammar.May("headers", joined("join: the sheet, or the path, of the headers")),
					grammar.May("lines", joined("join: the sheet, or the path, of the lines")),
				}}),
			grammar.May("parts", &grammar.Shape{Kind: grammar.Object,
				About: "How the repeating parts of an order stand in its rows",
				Keys: []grammar.Key{
					grammar.May("lines", part("lines")), grammar.May("parties", part("parties")),
					grammar.May("charges", part("charges")), grammar.May("deliveries", part("deliveries")),
				}}),
			grammar.May("again", &grammar.Shape{Kind: grammar.Object,
				About: "What a second arrival of a stored order means", Keys: []grammar.Key{
					grammar.Must("do", grammar.OneOf("refuse: it is refused, the same or not; skip: the same is left "+
						"alone, a different "+
						"one refused (the default); update: the fields bound here are changed; revise: a newer one takes the "+
						"place of the stored one", "refuse", "skip", "update", "revise")),
					grammar.May("lines", grammar.OneOf("update: by what arriving lines are matched with stored ones; "+
						"left out, by number "+
						"or sender_line where it is bound, else by item", order.LineKeys...)),
					grammar.May("missing",
						grammar.OneOf("update: what becomes of stored lines that do not arrive: they are kept (the "+
							"usual), closed (what has not moved is cancelled), or the order is refused",
							order.Missings...)),
					grammar.May("blanks",
						grammar.OneOf("update: what a blank value does: it keeps the stored one (the default), or clears it", "keep",
							"clear")),
					grammar.May("newer", grammar.Some("revise: the header's date that says which is newer; by default ordered_on")),
				}}),
			grammar.May("hold", grammar.Many("Warnings that hold an order back until somebody accepts them: their "+
				"codes, or all")),
			grammar.May("by_hand", &grammar.Shape{Kind: grammar.Object,
				About: "How many minutes it takes to enter an order by hand: what a load saves", Keys: []grammar.Key{
					grammar.May("order", grammar.Some("Minutes for an order")),
					grammar.May("line", grammar.Some("Minutes for each line")),
				}}),
			grammar.May("tolerance",
				grammar.Some("How far stated amounts and totals may differ from Koinos's own; by default 0.01")),
			grammar.May("over_delivery", grammar.Some("shipment, receipt: how many per cent more than was ordered may move "+
				"without a finding, such as 10; by default 0")),
			grammar.May("rounding", grammar.OneOf("How amounts are rounded to the currency's digits",
				order.Roundings...)),
		}}),
	grammar.Must("header", fieldsOf(order.Header, "Bindings of the order's own fields")),
	grammar.May("lines", fieldsOf(order.Lines, "Bindings of each line's fields; a notice can be of whole orders, and have none")),
	grammar.May("parties", fieldsOf(order.Parties, "Bindings of parties that repeat within an order")),
	grammar.May("charges", fieldsOf(order.Charges, "Bindings of allowances and charges that repeat within an order")),
	grammar.May("deliveries", fieldsOf(order.Deliveries,
		"Bindings of each delivery of a line, where a line is to go to several places, or in parts")),
	grammar.May("rules", &grammar.Shape{Kind: grammar.ListOf, About: "Rules of your own", Items: ruleWords}),
	grammar.May("findings", &grammar.Shape{Kind: grammar.Table,
		About: "How grave a finding is, by its code: the order is refused (error), it goes in and somebody should look " +
			"(warning), or nothing is said (ignore). Warnings can be errors, and some errors can be less",
		Names: weighed, Known: func(word string) bool { _, is := finding.Weighed[finding.Code(word)]; return is },
		Items: grammar.OneOf("How grave it is", "error", "warning", "ignore")}),
	grammar.May("results", &grammar.Shape{Kind: grammar.Object,
		About: "Columns of the marked-up copy that take the answers; outcome, number and message that are left out " +
			"take the first free ones at the right", Keys: []grammar.Key{
			grammar.May("outcome", grammar.Some("Column letter for loaded, refused, unchanged …")),
			grammar.May("number", grammar.Some("Column letter for the order number")),
			grammar.May("message", grammar.Some("Column letter for what was found")),
			grammar.May("warnings", grammar.Some("Column letter for warnings, which otherwise stand with the errors")),
			grammar.May("line", grammar.Some("Column letter for the line number")),
			grammar.May("line_id", grammar.Some("Column letter for Koinos's own id of the line, such as 318-2")),
			grammar.May("fields", &grammar.Shape{Kind: grammar.Table,
				About: "Further fields of the order as it is stored: status, total, ordered_on, lines.amount …",
				Items: grammar.Some("Column letter")}),
			grammar.May("overwrite", &grammar.Shape{Kind: grammar.Boolean,
				About: "true writes over columns in which something stands; else the first free ones are taken instead"}),
		}}),
}}
