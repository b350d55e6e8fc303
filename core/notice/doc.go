// Package notice works out what one side of an order tells the other about it:
// a change, a confirmation, a shipment, an invoice. Each is a view of the order,
// as the seller sees it, that a mapping writes into its transaction set; and what
// arrives that way is brought into the order that it speaks of.
package notice
