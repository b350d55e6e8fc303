// Package workbook opens the archives that workbooks are, XLSX (ECMA-376) and OpenDocument, and scans the XML of their
// parts: what reading rows and writing them again have in common.
package workbook
