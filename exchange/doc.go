// Package exchange exchanges X12 documents with trading partners. What comes in is stored, recognised if it came
// before, acknowledged, and turned into orders. What partners must be told about orders is sent with control numbers
// that are never used twice, and waits for its acknowledgement.
package exchange
