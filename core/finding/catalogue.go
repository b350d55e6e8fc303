package finding

// Code names a kind of finding. Codes are stable: programs switch on them.
type Code string

// About is what is known about every finding of a code.
type About struct {
	Severity Severity
	Title    string // the reason in a few words, as a summary line reads it
	Advice   string // what usually fixes it; a finding may carry a better hint
}

const (
	FormatUnknown    Code = "format_unknown"
	DocumentBroken   Code = "document_broken"
	DocumentEmpty    Code = "document_empty"
	DocumentTooLarge Code = "document_too_large"
	DocumentDiffers  Code = "document_differs"
	SheetMissing     Code = "sheet_missing"
	HeadingMissing   Code = "heading_missing"
	ColumnMissing    Code = "column_missing"
	ColumnAmbiguous  Code = "column_ambiguous"
	ColumnUnknown    Code = "column_unknown"
	ListMissing      Code = "list_missing"

	StorageFailed Code = "storage_failed"
	KoinosFailed  Code = "koinos_failed"

	EncodingInvalid  Code = "encoding_invalid"
	ControlCharacter Code = "control_character"
	CharacterInvalid Code = "character_invalid"
	QuoteUnclosed    Code = "quote_unclosed"
	QuoteStray       Code = "quote_stray"
	CellTooLong      Code = "cell_too_long"
	RowTooWide       Code = "row_too_wide"
	RecordBroken     Code = "record_broken"
	NameTwice        Code = "name_twice"
	TextBehind       Code = "text_behind"
	X12Envelope      Code = "x12_envelope"
	X12Test          Code = "x12_test"
	OrderNotFirm     Code = "order_not_firm"
	X12Rejected      Code = "x12_rejected"
	X12Noted         Code = "x12_noted"
	X12Rule          Code = "x12_rule"
	FieldUnwritten   Code = "field_unwritten"
	CharacterChanged Code = "character_changed"
	NoticeDiffers    Code = "notice_differs"
	AnswerDiffers    Code = "answer_differs"
	ChangeAsked      Code = "change_asked"
	ChangeOutOfTurn  Code = "change_out_of_turn"
	ChangeSkipped    Code = "change_skipped"
	OverDelivery     Code = "over_delivery"
	OverReturned     Code = "over_returned"
	OverInvoiced     Code = "over_invoiced"
	PriceDiffers     Code = "price_differs"
	InvoiceDiffers   Code = "invoice_differs"
	OnHold           Code = "on_hold"
	CheckDigitWrong  Code = "check_digit_wrong"
	OrderUnknown     Code = "order_unknown"
	LineUnknown      Code = "line_unknown"
	LineDiffers      Code = "line_differs"
	OutOfRange       Code = "out_of_range"
	PartnerInvalid   Code = "partner_invalid"
	PartnerUnknown   Code = "partner_unknown"
	X12Duplicate     Code = "x12_duplicate"
	ControlUsed      Code = "control_number_used"
	NotSent          Code = "not_sent"
	CellError        Code = "cell_error"
	FormulaUnkept    Code = "formula_unkept"

	MustMissing       Code = "must_missing"
	ShouldMissing     Code = "should_missing"
	NotADate          Code = "not_a_date"
	DatesDecided      Code = "dates_decided"
	DateAmbiguous     Code = "date_ambiguous"
	NotABoolean       Code = "not_a_boolean"
	ExpressionFailed  Code = "expression_failed"
	NotANumber        Code = "not_a_number"
	NotASchedule      Code = "not_a_schedule"
	NumberMangled     Code = "number_mangled"
	UnknownCurrency   Code = "unknown_currency"
	UnknownUnit       Code = "unknown_unit"
	UnknownChoice     Code = "unknown_choice"
	UnknownCode       Code = "unknown_code"
	NearMatch         Code = "near_match"
	SpellingDiffers   Code = "spelling_differs"
	ListAmbiguous     Code = "list_ambiguous"
	CurrencyDiffers   Code = "currency_differs"
	CrosswalkMissing  Code = "crosswalk_missing"
	QuantityNegative  Code = "quantity_negative"
	QuantityZero      Code = "quantity_zero"
	PriceNegative     Code = "price_negative"
	LineTwice         Code = "line_twice"
	RuleBroken        Code = "rule_broken"
	LineWithoutItem   Code = "line_without_item"
	DatesOutOfOrder   Code = "dates_out_of_order"
	AmountDiffers     Code = "amount_differs"
	DeliveriesDiffer  Code = "deliveries_differ"
	TotalDiffers      Code = "total_differs"
	TaxDiffers        Code = "tax_differs"
	AmountTooLarge    Code = "amount_too_large"
	HeaderDisagrees   Code = "header_disagrees"
	CellsDiffer       Code = "cells_differ"
	CellUnreadable    Code = "cell_unreadable"
	SeveralValues     Code = "several_values"
	ValueDropped      Code = "value_dropped"
	ValueUnread       Code = "value_unread"
	RowKindUnknown    Code = "row_kind_unknown"
	LineBeforeHeader  Code = "line_before_header"
	OrderWithoutLines Code = "order_without_lines"
	OrderTooLong      Code = "order_too_long"
	OrderTooWide      Code = "order_too_wide"
	IdentityMissing   Code = "identity_missing"
	IdentityRepeated  Code = "identity_repeated"
	UpdateConflict    Code = "update_conflict"
	NotNewer          Code = "not_newer"
	ResultMissing     Code = "result_missing"
	StepFailed        Code = "step_failed"
	IdentityStored    Code = "identity_stored"
	PartnerNotAllowed Code = "partner_not_allowed"
	RevisionDiffers   Code = "revision_differs"
	MovementUnknown   Code = "movement_unknown"
	NumberTaken       Code = "number_taken"

	MappingInvalid    Code = "mapping_invalid"
	MappingUnknownKey Code = "mapping_unknown_key"
	MappingMissingKey Code = "mapping_missing_key"
	MappingWrongValue Code = "mapping_wrong_value"
)

// Catalogue holds every code. docs/findings.md is generated from it.
var Catalogue = map[Code]About{
	FormatUnknown: {Error, "not a document that Koinos reads",
		"Send a workbook (.xlsx or .ods), a CSV file, JSON or X12."},
	DocumentBroken: {Error, "the document is damaged",
		"Ask the sender for the file again; this copy cannot be read to its end."},
	DocumentEmpty: {Error, "no orders in the document",
		"Check whether the right file and sheet were sent, and where the mapping stops reading (document.until)."},
	DocumentTooLarge: {Error, "the document is over a limit",
		"Split the document, or raise the limit where the service is started."},
	DocumentDiffers: {Error, "the document states other totals than it has",
		"Ask the sender for the whole document: rows may be missing, or occur twice. With differ: warn in " +
			"document.totals it is taken."},
	SheetMissing: {Error, "the workbook has no such sheet",
		"Correct document.sheet in the mapping, or ask for the right workbook."},
	HeadingMissing: {Error, "the heading row was not found",
		"Say where it is with document.heading in the mapping; or this document belongs to another mapping."},
	ColumnMissing: {Error, "a column of the mapping is not in the document",
		"Correct `from` in the mapping, or ask the sender what became of the column."},
	ColumnUnknown: {Warning, "the document has a column that the mapping does not know",
		"Bind it, or name it in document.unused of the mapping."},
	ColumnAmbiguous: {Error, "two columns have the same heading",
		"Name the column by its letter in the mapping, for example from: \"@C\"."},
	ListMissing: {Error, "a list or crosswalk of the mapping is not here",
		"Import it: koinos list import NAME FILE, or koinos crosswalk import NAME FILE."},

	StorageFailed: {Error, "the store could not be written",
		"Look at the disk's free space and the service's log, then load the document again: orders that were loaded are recognised."},

	KoinosFailed: {Error, "Koinos itself failed on the document",
		"This is a mistake in Koinos, not in the document. The service's log has the details: report them, with the " +
			"document if you may."},

	EncodingInvalid: {Warning, "characters that do not fit the encoding",
		"State document.encoding in the mapping; the unreadable bytes were replaced by U+FFFD."},
	ControlCharacter: {Warning, "control characters inside a cell",
		"They were left out of the value; the document itself is kept as it came."},
	CharacterInvalid: {Error, "a value contains something that is not a character",
		"Ask the sender for the value: half a surrogate pair, an unknown entity or U+0000 is no character."},
	QuoteUnclosed: {Error, "a quoted cell does not end where it should",
		"Close the quotation mark, or double it where it belongs to the text. If marks are text in this document, say " +
			"document: {quote: none}."},
	QuoteStray: {Warning, "a quotation mark inside a cell",
		"Double the quotation marks that belong to a quoted text; the value is the text within them and after them."},
	CellTooLong: {Error, "a cell is too long",
		"The value was cut. Look for a missing quotation mark, or shorten the text."},
	RowTooWide: {Warning, "a row has more than its columns hold",
		"Look for an unquoted delimiter inside a value: the cells after it have moved."},
	RecordBroken: {Error, "a record is not JSON", "Correct the record; the others are read."},
	NameTwice: {Error, "a name occurs twice in a JSON object",
		"Ask the sender which of the two is meant. With findings: {name_twice: warning} the last one is taken."},
	TextBehind: {Error, "there is text after the end of the JSON document",
		"Ask the sender for the whole document; orders in a second one were not read. Several JSON values under one " +
			"another are NDJSON: say so with document.format."},
	OrderNotFirm: {Error, "a purchase order that does not order anything yet",
		"The releases of a blanket order are orders of their own. If the partner means a firm order by it, say " +
			"findings: {order_not_firm: warning} in its mapping."},
	X12Test: {Error, "an interchange that its sender marks as a test",
		"Ask the sender for the production interchange. If this one is meant to count, say findings: {x12_test: warning} in the mapping."},
	X12Envelope: {Error, "an envelope of the interchange is wrong",
		"Ask the sender for the interchange again, with the standard's code in brackets; koinos x12 show has the " +
			"place. What could be read was read."},
	X12Rejected: {Error, "the transaction set is rejected",
		"The acknowledgement (997 or 999) tells the sender so, with the same code; the order comes again when it is " +
			"fixed there."},
	X12Rule: {Error, "a partner's rule is broken",
		"Incoming: tell the partner, and accept the set or wait for a correct one. Outgoing: give the order or its lists what " +
			"the rule asks for, then send again. Or correct the partner's rules."},
	FieldUnwritten: {Error, "the partner's document has no place for a value",
		"Bind the field in the partner's mapping, or remove the value from the order."},
	CharacterChanged: {Warning, "a value was written in the partner's characters",
		"Nothing needs to be done if it can still be read; otherwise change the value, or characters.set of the partner."},
	NoticeDiffers: {Warning, "what the partner says differs from the order",
		"Look at the order beside the document, and settle it with the partner."},
	ChangeAsked: {Warning, "the partner asks for a change",
		"Take it or refuse it, line by line (koinos exchange decide ID, or on the page of the interchange): the answer says " +
			"what was taken."},
	ChangeOutOfTurn: {Warning, "a change comes after a later one",
		"A later change, or another one of that number, was taken already. Compare the two: if this one still counts, accept it."},
	ChangeSkipped: {Warning, "a change before this one was not taken",
		"If it was not refused here, ask the partner for it: what it changes is not in the order."},
	AnswerDiffers: {Warning, "the supplier's answer differs from the order",
		"Accept what the supplier offers by changing the order, or settle it with the supplier."},
	OverDelivery: {Warning, "more moved than was ordered",
		"Check the quantity. If it is right, accept it; over_delivery in the mapping lets a share more than ordered pass."},
	OverReturned: {Warning, "more came back than had moved",
		"Check the quantity and the line; if it is right, accept it."},
	OverInvoiced: {Warning, "more is invoiced than has moved",
		"Post the missing shipment or receipt first, or ask for a credit note; if it is right, accept it."},
	PriceDiffers: {Warning, "the invoice has another price than the order",
		"Correct the order if the price was agreed, or ask for another invoice; if it is right, accept it."},
	InvoiceDiffers: {Warning, "the invoice differs from the order in money",
		"Look at its charges and its total; ask for another invoice, or accept it."},
	OnHold: {Warning, "the order is on hold",
		"Release the order first (koinos order release); if it should go ahead anyway, accept it."},
	CheckDigitWrong: {Warning, "the check digit of a code is wrong",
		"Compare the code with the label; a digit was probably mistyped."},
	OrderUnknown: {Error, "no order of that number",
		"Check whether the partner names the right order; when it is stored, try this again."},
	LineUnknown: {Error, "no such line in the order",
		"Look which line is meant: its number, the sender's id of it, or an item that only one line has."},
	LineDiffers: {Error, "the line of the order is a different one",
		"Check that number, item and unit belong together. Nothing was changed."},
	PartnerInvalid: {Error, "the partner's description is wrong", "Correct the text at the place named."},
	PartnerUnknown: {Error, "from an unknown partner",
		"Keep a partner with these ids (koinos partner keep), then replay the interchange."},
	X12Duplicate: {Warning, "the interchange has come before",
		"There is nothing to do: the sender sent the same bytes once more, and gets the same answer as the first time."},
	ControlUsed: {Error, "another interchange came with this control number",
		"Look at both. Let this one in if it is new (koinos exchange let-in), or refuse it (koinos exchange refuse): then " +
			"the sender is told that its control number came before."},
	NotSent: {Warning, "it acknowledges what was never sent",
		"Ask the partner what it means; nothing of ours is changed by it."},
	X12Noted: {Warning, "the transaction set has errors that do not reject it",
		"The acknowledgement (997 or 999) notes them. koinos x12 show prints the set with each at its place."},
	CellError: {Error, "a cell holds a spreadsheet error", "Correct the formula in the sheet and send it again."},
	FormulaUnkept: {Error, "a formula has no stored value",
		"Open the workbook in a spreadsheet program, let it calculate, and save it."},

	MustMissing:   {Error, "a value that must be there is missing", "Fill the cell in."},
	ShouldMissing: {Warning, "a value that should be there is missing", "Fill the cell in if the value is known."},
	NotADate: {Error, "not a date",
		"Write the date as the mapping expects it, or add its form to document.locale.dates."},
	DatesDecided: {Warning, "day and month were told apart by the whole column",
		"Check one date that you know. List a single form in dates to settle it."},
	DateAmbiguous: {Warning, "day and month cannot be told apart",
		"Name a single form in dates, or ask the sender for yyyy-mm-dd."},
	NotASchedule: {Error, "a text that does not describe deliveries",
		"Write for each delivery quantity, place and day, such as: 12 to 0040; 8 to 0041, arrives 2026-03-16."},
	NotABoolean: {Error, "neither true nor false", "Add the partner's words to yes and no in the mapping."},
	ExpressionFailed: {Error, "an expression of the mapping failed",
		"Correct the value, or the expression at the place of the mapping that is named."},
	NotANumber: {Error, "not a number", "Write a plain number with the decimal sign that the mapping names."},
	NumberMangled: {Error, "a code was turned into a rounded number",
		"Format the column as text in the spreadsheet and enter the full code again: its last digits are lost."},
	UnknownCurrency: {Error, "not a currency", "Use the three-letter code of ISO 4217, for example EUR."},
	UnknownUnit: {Error, "not a unit of measure",
		"Use a code of the list `units`, or bring the partner's word there with a crosswalk."},
	UnknownChoice: {Error, "not one of the words allowed here", "Use one of the words named."},
	UnknownCode:   {Error, "a code is not in its list", "Correct the code, or add it to the list."},
	NearMatch:     {Warning, "a value was matched to a similar one", "Check that it is the one that was meant."},
	SpellingDiffers: {Warning, "a value was accepted although its spelling differs",
		"Nothing needs to be done if it is the one that was meant. To accept such spellings without a warning, " +
			"add fold: case to the binding; to " +
			"refuse them, say findings: {spelling_differs: error}."},
	ListAmbiguous: {Error, "several entries of a list fit",
		"Ask the list by a key that tells them apart, or correct the list."},
	CurrencyDiffers: {Error, "a figure is in another currency than its order",
		"Ask the sender; an order has one currency."},
	CrosswalkMissing: {Error, "a partner's code is not in the crosswalk",
		"Add the partner's code to the crosswalk, with ours beside it."},
	QuantityNegative: {Error, "a quantity is below zero",
		"An order line cannot take goods back: leave the line out or send a return."},
	OutOfRange: {Error, "a figure is outside what it can be",
		"Correct the figure; discounts and taxes are per cent from 0 to 100, quantities that moved are not below zero."},
	QuantityZero: {Warning, "a quantity is zero", "Leave the line out if nothing is wanted."},
	PriceNegative: {Warning, "a price or a charge is below zero",
		"Check whether it is a reduction; what the order gets less is an allowance."},
	LineTwice: {Error, "two lines of an order have the same number",
		"Correct one of the numbers. If numbers may repeat, say findings: {line_twice: ignore} in the mapping."},
	RuleBroken: {Error, "a rule of the mapping is broken",
		"Correct the value, or the rule in the mapping: rules, or least, most, places, length and pattern of the binding."},
	LineWithoutItem: {Error, "a line says nothing about what is ordered", "Fill in an item code or a description."},
	DatesOutOfOrder: {Warning, "goods are wanted before they were ordered",
		"Compare the dates; day and month may be exchanged."},
	DeliveriesDiffer: {Warning, "a line's deliveries are not its quantity",
		"Ask the sender which of them is meant, before goods leave for the wrong place."},
	AmountDiffers: {Error, "a line's amount is not quantity × price",
		"Correct the figure that is wrong, or raise orders.tolerance in the mapping."},
	TotalDiffers: {Error, "an order's total is not the sum of its parts",
		"Look for a missing line or charge, or raise orders.tolerance in the mapping."},
	TaxDiffers: {Error, "an order's tax is not that of its lines",
		"Check whether tax is rounded once for each rate (tax_rounding: {value: order}), for a line without its rate, or raise " +
			"orders.tolerance in the mapping."},
	AmountTooLarge: {Error, "a figure is too large to compute with",
		"Nineteen digits is the most; look for columns that have moved."},
	HeaderDisagrees: {Error, "rows of one order disagree about its header",
		"Make the rows agree, or check whether two orders share a number."},
	CellsDiffer: {Error, "cells that hold a value for each line hold different numbers of them",
		"Correct the cells, or ask the sender which values belong together."},
	CellUnreadable: {Error, "a cell that should be a list in JSON is none",
		"Look at the cell: it may have been cut, or another program may have written it in another way."},
	SeveralValues: {Error, "a path leads to several values that differ",
		"Add repeat: first, last, join or sum to the binding, or make the path lead to one value."},
	ValueDropped: {Warning, "of several values only the first is taken",
		"Add repeat: first, last, join or sum to the binding, or make the address lead to one value."},
	ValueUnread: {Warning, "the document says something important that the mapping does not read",
		"Put it into the order by hand, or bind it in the mapping; list in document.unused what can be ignored."},
	RowKindUnknown: {Error, "a row of an unknown kind",
		"Name the kind in orders.group.kinds; leave-out skips such rows."},
	LineBeforeHeader:  {Error, "a line belongs to no order", "Fill in the cell that begins the order."},
	OrderWithoutLines: {Error, "an order has no lines", "Add its lines, or remove the order."},
	OrderTooLong: {Error, "more rows in one order than Koinos holds",
		"Look at the grouping: a wrong key makes one order of many. Or sort the document by its key."},
	OrderTooWide: {Error, "more charges, references, parties or fields of your own than an order holds",
		"Look at the mapping or the program that made them: something that belongs to lines, or to other orders, " +
			"may be taken for parts of one."},
	IdentityMissing: {Warning, "the sender's order number is missing",
		"Without it a corrected copy of this order cannot be recognised."},
	IdentityRepeated: {Error, "the same order twice in the document",
		"Remove one. If the rows of an order are not next to each other, say `rows: anywhere` in orders.group."},
	UpdateConflict: {Error, "the stored order cannot be changed like this",
		"Correct the row, or say in orders.again of the mapping how lines are matched and what happens to missing ones."},
	NotNewer: {Error, "the stored order is newer",
		"Nothing needs to be done where an old document came late; else correct the date."},
	ResultMissing: {Error, "an earlier step gave no value",
		"Run the document through the sequence, and see that the earlier step makes an order of this row."},
	StepFailed: {Error, "it waits for an order of an earlier step",
		"Fix the order of the earlier step, then run the sequence again: it continues from there."},
	IdentityStored: {Error, "the order is already stored and differs",
		"Nothing was changed. Compare the two and change the stored order if the new one is right."},
	RevisionDiffers: {Error, "the order has changed since it was looked at",
		"Look at the order as it is now, and repeat the change if it is still right."},
	MovementUnknown: {Error, "no shipment or receipt of that number",
		"Compare the number with the order's shipments and receipts: koinos order show."},
	PartnerNotAllowed: {Error, "the order is of another partner than may be touched",
		"Correct the partner, or load the document with a token that is not narrowed to other partners."},
	NumberTaken: {Error, "the order's number belongs to another order",
		"Give another number, or leave it out to have one assigned."},

	MappingInvalid: {Error, "the mapping cannot be read", "Correct the YAML at the place named."},
	MappingUnknownKey: {Error, "an unknown word in the mapping",
		"docs/mapping.md lists the words that are allowed there."},
	MappingMissingKey: {Error, "something is missing from the mapping", "Add it."},
	MappingWrongValue: {Error, "a value in the mapping is not allowed there",
		"Use one of the values named."},
}

// OfDocument are the codes for faults of a document itself, even if they stand at one of its rows. A mapping can refuse
// the whole document for them (document.broken).
var OfDocument = []Code{DocumentBroken, DocumentTooLarge, TextBehind, RecordBroken, X12Envelope, QuoteUnclosed}

// Weighed are the codes whose severity a mapping can set (findings). A warning can become an error, or be silenced.
// Those that are true are errors that can also be made less severe: the order is complete nevertheless, and nothing in
// it is guessed.
var Weighed = map[Code]bool{
	EncodingInvalid: false, ControlCharacter: false, QuoteStray: false, RowTooWide: false, ShouldMissing: false,
	DateAmbiguous: false, NearMatch: false, SpellingDiffers: false, QuantityZero: false, DeliveriesDiffer: false,
	PriceNegative:   false,
	DatesOutOfOrder: false,
	IdentityMissing: false, ValueDropped: false, ValueUnread: false,
	NameTwice: true, LineTwice: true, OutOfRange: true, QuantityNegative: true, AmountDiffers: true, TotalDiffers: true,
	TaxDiffers: true, X12Test: true, OrderNotFirm: true,
	NoticeDiffers: false, AnswerDiffers: false, OverDelivery: false, OverReturned: false, OverInvoiced: false,
	PriceDiffers: false, InvoiceDiffers: false, OnHold: false, CheckDigitWrong: false,
}
