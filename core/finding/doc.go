// Package finding is what Koinos reports about a document, a mapping or an order: a code that a program can switch on,
// a sentence that a person can act on, and the place that it is about.
package finding
