// Package rewriting writes a workbook (XLSX) again with changes to single cells, rows and comments. Everything else
// stays as its author made it: formats, formulas, pictures, other sheets.
package rewriting
