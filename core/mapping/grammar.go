package mapping

import (
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
	dateForms    = many("Forms of a date, tried in turn: d or dd, m, mm or mmm (Jan), yy or yyyy, e.g. d.m.yyyy; yyyy-mm-dd always works")
)

var binding = &shape{kind: object, about: "Where one field of the order gets its value, and what is done to it on the way", keys: []key{
	{"from", false, some("Heading of the column, letter case and space aside; or @C for column C")},
	{"value", false, some("The same value for every order")},
	{"default", false, some("Value where the cell is blank")},
	{"need", false, words("must: a missing value refuses the order; should: it warns; may: it is fine", "must", "should", "may")},
	{"crosswalk", false, some("Crosswalk that turns the partner's code into ours, before the list is asked")},
	{"list", false, some("Reference list that must hold the value")},
	{"dates", false, dateForms},
	{"decimal", false, decimalSign},
	{"grouping", false, groupingSign},
	{"check", false, &shape{kind: boolean, about: "false keeps a stated amount or total without comparing it with Koinos's own"}},
}}

// grammar is everything that may stand in a mapping.
var grammar = &shape{kind: object, about: "How a document's records become orders", keys: []key{
	{"koinos", true, words("Version of the grammar", Version)},
	{"name", true, some("Name of the mapping: small letters, digits and hyphens")},
	{"about", false, some("What the mapping is for, in a sentence")},
	{"document", false, &shape{kind: object, about: "What the document looks like; what is left out is found out", keys: []key{
		{"format", false, words("Outer form", source.Formats...)},
		{"encoding", false, words("Encoding of a CSV", source.Encodings...)},
		{"delimiter", false, some("Sign between the cells of a CSV; \\t is a tab")},
		{"quote", false, some("Quotation mark of a CSV")},
		{"sheet", false, some("Sheets of a workbook by name, * for any letters; left out, the first visible one")},
		{"heading", false, &shape{kind: object, one: true, about: "Where the heading row is; left out, the row with most of the headings that the bindings name", keys: []key{
			{"row", false, whole("Row number, counted from 1")},
			{"find", false, many("The first row that holds all these headings")},
		}}},
		{"until", false, &shape{kind: object, about: "Where reading stops", keys: []key{
			{"blank_rows", false, whole("After so many blank rows")},
			{"text", false, many("At a row whose first filled cell is this, * for any letters, e.g. Total*")},
		}}},
		{"locale", false, &shape{kind: object, about: "How numbers and dates are written", keys: []key{
			{"decimal", false, decimalSign},
			{"grouping", false, groupingSign},
			{"dates", false, dateForms},
		}}},
	}}},
	{"orders", true, &shape{kind: object, about: "What the orders are and which rows make one", keys: []key{
		{"kind", true, words("sales: a partner orders from us; purchase: we order from a supplier", order.Kinds...)},
		{"group", true, &shape{kind: object, about: "Which rows make one order", keys: []key{
			{"by", true, words("key: rows with the same key; opener: a filled cell opens an order and the rows below belong to it", "key", "opener")},
			{"columns", true, many("The columns of the key, or of the opener; named like from")},
			{"blanks", false, words("by key: a row with a blank key continues the order (the usual), or breaks it", "continue", "break")},
			{"rows", false, words("by key: rows of one order stand adjacent (the usual), or anywhere in the sheet", "adjacent", "anywhere")},
		}}},
		{"tolerance", false, some("How far stated amounts and totals may differ from Koinos's own; left out, 0.01")},
		{"rounding", false, words("How amounts are rounded to the currency's digits", order.Roundings...)},
	}}},
	{"header", true, &shape{kind: fields, level: order.Header, items: binding, about: "Bindings of the order's own fields"}},
	{"lines", true, &shape{kind: fields, level: order.Lines, items: binding, about: "Bindings of each line's fields"}},
	{"results", false, &shape{kind: object, about: "Columns of the marked-up copy that take the outcome; left out, the first free ones at the right", keys: []key{
		{"outcome", false, some("Column letter for loaded, refused, unchanged …")},
		{"number", false, some("Column letter for the order number")},
		{"message", false, some("Column letter for what was found")},
	}}},
}}
