// Package mapping turns a document's records into orders as a mapping says.
//
// A mapping is a YAML document, "koinos: mapping/1". grammar.go is its whole
// grammar as data: Parse checks a document against it, Schema publishes it,
// docs/mapping.md explains it. A parsed mapping meets a document in a Table,
// which finds the heading row, binds columns and groups rows; each Group
// becomes a Draft: an order, its findings, and where every value came from.
package mapping
