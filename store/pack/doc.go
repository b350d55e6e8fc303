// Package pack carries many rows into SQLite, and out of it, as one value.
//
// Binding a value to a statement, and fetching one from a row, is a call from Go into C each, and for orders with their
// lines these calls cost as much as what SQLite does with the values. Two functions in C take many rows at once:
//
//	INSERT INTO lines (order_id, n, item) SELECT c1, c2, c3 FROM unpack(?)
//	SELECT pack(order_id, n, item) FROM lines GROUP BY order_id
//
// [Rows] makes the value that unpack takes, and [Reader] reads what pack made. Every connection that is opened has both
// functions.
//
// A value of rows is one byte with the number of columns, and the rows, value by value. A value is a byte with its type
// as SQLite numbers them (1 integer, 2 float, 3 text, 4 blob, 5 NULL), and then: nothing for NULL, eight bytes for an
// integer or a float (IEEE 754), or four bytes with a length and as many bytes for text and blobs. Numbers have their
// low byte first. The form is not stored anywhere.
package pack
