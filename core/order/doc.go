// Package order is the order itself: header, lines, parties, charges, exact
// quantities and money, the sums they make, its status, its identity, and what
// differs between two orders.
//
// The table in fields.go names every field; mappings, lineage, differences and
// the reference in docs/ are all made from it.
package order
