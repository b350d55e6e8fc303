// Package source reads order documents, CSV, XLSX and ODS, as a stream of records:
// rows of cells, each of which knows its place. Text stays text: no cell is
// turned into a number or a date that the document does not say it is.
//
// CSV follows RFC 4180, read generously: any delimiter and quotation mark,
// UTF-8, UTF-16 or Windows-1252, ragged rows, and quotation marks that were
// never closed (the row is read again without them, and a finding says so).
//
// XLSX follows ECMA-376 (Office Open XML). What a cell gives:
//
//	text                      the text as it stands
//	number                    its value in plain digits, at most 15 significant
//	                          ones (what a spreadsheet shows): 4006381333931, never
//	                          4.00638E+12. The format does not round it.
//	number formatted 00000    padded to as many digits as the format asks for: 00417
//	percentage                the value as it is shown, with its sign: 0.05 is 5%
//	date or time              ISO 8601 text: 2026-03-14 or 2026-03-14T09:30:00,
//	                          in the workbook's own date system, 1900 or 1904
//	TRUE, FALSE               those words
//	formula                   the value kept from the last calculation; a formula
//	                          with none has kind Unkept, which a mapping reports
//	error (#N/A, #REF! …)     that word, of kind ErrorValue, which a mapping reports
//
// OpenDocument spreadsheets (OpenDocument 1.3) give the same from what their
// cells say that they are; codes, percentages and text are as they show.
//
// A merged range gives its value in its first cell and blanks in the others.
// Hidden rows and columns are read like the rest, and say that they are hidden.
package source
