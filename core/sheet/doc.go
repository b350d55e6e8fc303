// Package sheet writes orders in the shape that a mapping reads: rows of a CSV
// or a workbook, forms, joined sheets, JSON; and blank sheets to fill in.
// Reading what was written gives the same orders.
package sheet
