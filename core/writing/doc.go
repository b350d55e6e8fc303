// Package writing writes orders in the shape that a mapping reads: rows of a CSV
// or a workbook, forms, joined sheets, JSON, transaction sets of X12; and blank
// sheets to fill in.
// Reading what was written gives the same orders.
package writing
