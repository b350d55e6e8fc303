// Package intent is what somebody wants done with orders: an order, a change of
// one, an answer to one, goods that moved, an invoice. Whatever a document, a
// partner, a program or a person says becomes an intent, with where it came
// from and what was found on the way; the order book alone carries it out.
package intent
