package syncing

import "koinos/core/grammar"

// Version is the first line of every sync of this grammar.
const Version = "sync/1"

// What becomes of an order's link if the system does not have the record any more.
const (
	LostHold   = "hold"   // a person decides
	LostCreate = "create" // it is made anew
	LostCancel = "cancel" // what is open of the order here is cancelled
)

// What becomes of a record whose order does not meet the push's condition any more.
const (
	UnfitLeave  = "leave"  // it stays as it is
	UnfitCancel = "cancel" // it is treated like one whose order was cancelled
)

// What of an order a push can write besides the order itself.
const (
	OfShipment = "shipment"
	OfReceipt  = "receipt"
	OfAnswer   = "answer"
	OfInvoice  = "invoice"
)

// Parts are all of them.
var Parts = []string{OfShipment, OfReceipt, OfAnswer, OfInvoice}

const every = "How often, such as 30s, 5m or 2h; by default only when the sync is run"

var words = grammar.Group("A sync",
	grammar.Must("koinos", grammar.OneOf("Version of the grammar", Version)),
	grammar.Must("name", grammar.Some("Small letters, digits and hyphens")),
	grammar.May("about", grammar.Some("What it is for, in a sentence")),
	grammar.May("runs", grammar.OneOf("When it works: by itself (always), or only when somebody runs it (asked). By default "+
		"always where something says every or hooks, else asked", "always", "asked")),
	grammar.May("pull", &grammar.Shape{Kind: grammar.ListOf, About: "What is read",
		Items: grammar.Group("One kind of record that is read",
			grammar.Must("record", grammar.Some("System and kind of record, such as slipway.order")),
			grammar.May("mapping", grammar.Some("By default the one that the system's description names")),
			grammar.May("also", grammar.Many("Mappings through which the same records go besides, such as one for the shipments within "+
				"an order's record")),
			grammar.May("query", &grammar.Shape{Kind: grammar.Table, About: "Parameters that go along with the list, such as " +
				"state: placed", Items: grammar.Some("Value")}),
			grammar.May("only", grammar.Group("Only these records are taken in; others are passed over, unless they are orders here "+
				"already",
				grammar.Must("path", grammar.Some("What of a record says so: path (RFC 9535) within it")),
				grammar.May("is", grammar.Many("The values that say so")),
				grammar.May("not", grammar.Many("In place of is: the values that say that it is not one of them")))),
			grammar.May("without_order", grammar.OneOf("What becomes of records that are no orders here yet: they become ones "+
				"(take, the default), or are passed over", "take", "pass")),
			grammar.May("every", grammar.Some(every)),
			grammar.May("hooks", &grammar.Shape{Kind: grammar.Boolean, About: "true: the system's webhooks tell of changes, " +
				"and what follows is done at once"}))}),
	grammar.May("push", &grammar.Shape{Kind: grammar.ListOf, About: "What is written",
		Items: grammar.Group("One kind of record that orders are written as",
			grammar.Must("record", grammar.Some("System and kind of record, such as ledgerline.sales_order")),
			grammar.May("name", grammar.Some("Where two pushes write the same kind of record; by default the record")),
			grammar.May("of", grammar.OneOf("What of an order is written: the order itself (left out), or each of its shipments, "+
				"receipts, answers or invoices, once", Parts...)),
			grammar.May("mapping", grammar.Some("That writes an order as such a record; by default the one that the "+
				"system's description names")),
			grammar.May("which", grammar.Some("The orders that are written: a condition such as partner == \"SLIPWAY\" "+
				"and status != \"draft\"; by default all")),
			grammar.May("unfit", grammar.OneOf("What becomes of a record whose order does not fit the condition any more",
				UnfitLeave, UnfitCancel)),
			grammar.May("lost", grammar.OneOf("What becomes of an order whose record the system does not have any more",
				LostHold, LostCreate, LostCancel)),
			grammar.May("creates", &grammar.Shape{Kind: grammar.Boolean,
				About: "false: only records that orders are linked with are changed, and none is made"}),
			grammar.May("after", grammar.Group("It waits until another record of the order is so far",
				grammar.Must("record", grammar.Some("System and kind of record, such as ledgerline.sales_order")),
				grammar.May("path", grammar.Some("What of it says so: path (RFC 9535) within the record")),
				grammar.May("is", grammar.Many("The values that say so")))))}),
	grammar.May("shared", &grammar.Shape{Kind: grammar.Table,
		About: "Where a record is both read and written: whose value " +
			"counts where both sides changed it, by fields of orders such as notes or lines.quantity; lines is that lines come " +
			"and go, all is every other one",
		Items: grammar.Group("One field", grammar.Must("owner", grammar.Some("here, the name of a system, or person: "+
			"then it is held until somebody decides. By default person")))}),
	grammar.May("reconcile", grammar.Group("Comparing everything on both sides by itself",
		grammar.Must("every", grammar.Some("How often, such as 24h")),
		grammar.May("repair", &grammar.Shape{Kind: grammar.Boolean, About: "What differs is made right; by default it is " +
			"only reported"}))),
)

// Schema is the grammar as a JSON Schema (draft 2020-12).
func Schema() map[string]any {
	s := words.Schema(map[string]any{})
	s["$schema"], s["title"] = grammar.Draft, "Koinos sync, version 1"
	return s
}
