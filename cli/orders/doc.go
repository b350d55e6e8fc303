// Package orders has the commands about orders: what happens to them, why they say what they say, and what waits for a
// person.
package orders
