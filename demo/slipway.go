package demo

import (
	"bytes"
	"fmt"
	"time"

	"koinos/core/listfile"
	"koinos/standin"
)

// Slipway is the web shop as the scenario has it: so many orders of the goods that the
// list of items has, each with a price.
func Slipway(token string, orders int, limited bool, now func() time.Time) (*standin.Slipway, error) {
	b, err := Files.ReadFile("lists/items.csv")
	if err != nil {
		return nil, err
	}
	items, err := listfile.Read(bytes.NewReader(b), int64(len(b)), false)
	if err != nil {
		return nil, err
	}
	goods := make([]standin.Goods, 0, len(items)+1)
	for i, e := range items {
		goods = append(goods, standin.Goods{SKU: e.Code, Title: e.Name, Price: fmt.Sprintf("%d.%02d", 1+i%80, i*7%100)})
	}
	goods = append(goods, standin.Goods{SKU: "GIFT-25", Title: "Gift card", Price: "25.00"}) // the list has no such item
	return standin.NewSlipway(token, orders, goods, limited, now), nil
}
