// Package jsondoc reads JSON documents (RFC 8259) as a stream of values that
// know their place, and asks them queries.
//
// A Stream gives the values of a document that a path chooses, one after
// another, so that an array of a million orders is never held whole. Each is a
// tree of Nodes: numbers stay as they are written, every Node has its JSON
// Pointer (RFC 6901), and a name that stands twice is noted, not lost. A Path
// is a query of RFC 9535.
package jsondoc
