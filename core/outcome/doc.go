// Package outcome says what became of a load: how far it came, what was asked of it,
// its figures, and the outcome of every order and of the rows that the order is from.
package outcome
