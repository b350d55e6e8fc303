// Package exchange exchanges X12 documents with trading partners:
// what comes in is kept, recognised where it has come before, acknowledged, and
// brought into orders; what is to be said of orders goes out with control numbers
// that are never used twice, and waits for its acknowledgement.
package exchange
