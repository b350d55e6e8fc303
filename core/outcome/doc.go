// Package outcome describes what became of a load: its status, its options, its figures, and the outcome of every order
// and of the rows that the order was made from.
package outcome
