// Package book is the order book: it takes intents, and it alone writes orders. It recognises an order that came
// before, matches lines, decides what a second arrival means, checks, computes, stores, and records the event. What
// cannot be carried out is refused or held with its findings.
package book
