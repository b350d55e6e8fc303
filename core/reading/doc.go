// Package reading makes intents of a document's records as a mapping says.
//
// A mapping meets a document in a Table, which finds the heading row, binds
// columns and groups rows (table.go, heading.go, plan.go, gather.go, form.go);
// Read makes an intent of each Group: an order, its findings, and where every
// value came from (draft.go, take.go, view.go, trace.go). Coverage says what a
// mapping leaves of a document, Weigh decides which form dates are in.
package reading
