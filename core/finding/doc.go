// Package finding is what Koinos says about a document, a mapping or an order:
// a code that a program can switch on, a sentence that a person can act on,
// and the place it is about.
package finding
