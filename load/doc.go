// Package load runs documents through mappings into the store:
// document → records → orders → checks → target → outcomes.
//
// Three stages run side by side. One goroutine reads and groups rows, some map
// and check groups, one writes: in batches, each order whole in one
// transaction with its outcome. Batches keep the document's order, so numbers
// do too, and their count is bounded: memory does not grow with the document.
package load
