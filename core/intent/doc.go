// Package intent describes what somebody wants done with orders: an order, a change, an answer, a movement of goods, an
// invoice. Whatever a document, a partner, a program or a person says becomes an intent, with where it came from and
// what was found on the way. Only the order book carries it out.
package intent
