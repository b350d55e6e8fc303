// Package notice works out what one side of an order tells the other about it: a change, an answer, a shipment, an
// invoice. Each result is a view of the order, as the seller sees it, that a mapping writes into its transaction set.
package notice
