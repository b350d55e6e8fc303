// Package standin simulates the outside systems of the made-up trade, so that
// Koinos can be tried and tested without any: trading partners that exchange
// X12 by folders, and a web shop with an API of its own habits.
package standin
