// Package draft proposes a trading partner from sample interchanges: who it is, how it writes, which transaction sets
// are exchanged, and which segments, elements, qualifiers and codes they always have. Each line says what it was seen
// in; what the samples do not say is marked.
package draft
