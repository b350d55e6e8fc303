// Package check holds the rules that an order must keep whatever it was read from: its figures agree, its lines are
// complete, its dates make sense.
package check
