// Package partners has the commands about trading partners and other programs that are told of orders.
package partners
