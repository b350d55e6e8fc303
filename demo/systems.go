package demo

import (
	"bytes"
	"fmt"
	"time"

	"koinos/core/listfile"
	"koinos/standin"
)

// Slipway is the web shop as the scenario has it: so many orders of the goods that the
// list of items has, and of one that it does not have.
func Slipway(token string, orders int, limited bool, now func() time.Time) (*standin.Slipway, error) {
	goods, err := goods()
	if err != nil {
		return nil, err
	}
	return standin.NewSlipway(token, orders, goods, limited, now), nil
}

// Ledgerline is the bookkeeping as the scenario has it: the goods are its articles.
func Ledgerline(secret string, now func() time.Time) (*standin.Ledgerline, error) {
	goods, err := goods()
	if err != nil {
		return nil, err
	}
	return standin.NewLedgerline(secret, goods, now), nil
}

// goods are the items of the scenario, each with a price, and a gift card.
func goods() ([]standin.Goods, error) {
	b, err := Files.ReadFile("lists/items.csv")
	if err != nil {
		return nil, err
	}
	items, err := listfile.Read(bytes.NewReader(b), int64(len(b)), false)
	if err != nil {
		return nil, err
	}
	all := make([]standin.Goods, 0, len(items)+1)
	for i, e := range items {
		all = append(all, standin.Goods{SKU: e.Code, Title: e.Name, Price: fmt.Sprintf("%d.%02d", 1+i%80, i*7%100)})
	}
	return append(all, standin.Goods{SKU: "GIFT-25", Title: "Gift card", Price: "25.00"}), nil
}
