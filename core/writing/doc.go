// Package writing writes orders in the form that a mapping reads: rows of a CSV or a workbook, forms, joined sheets,
// JSON, transaction sets of X12; and blank sheets to be filled in. Reading what was written gives the same orders.
package writing
