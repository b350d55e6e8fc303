// Package mapping is the language of mappings: what a partner's document says
// of orders.
//
// A mapping is a YAML document, "koinos: mapping/1". grammar.go is its whole
// grammar as data: Parse checks a document against it, Schema publishes it,
// docs/mapping.md explains it. Package reading makes intents of a document by a
// mapping, package writing makes documents of orders.
package mapping
