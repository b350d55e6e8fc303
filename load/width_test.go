package load

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"strings"
	"testing"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/reading"
	"koinos/core/source"
)

// wideOrders is a CSV of orders of ten lines with thirty columns, and the
// mapping that binds all of them.
func wideOrders(rows int) (doc []byte, m string) {
	header := []string{"sender_number", "ordered_on", "requested_delivery_on", "requested_ship_on", "cancel_after",
		"currency", "payment_terms", "delivery_terms", "price_level", "ship_to.code", "ship_to.name", "ship_to.street",
		"ship_to.city", "ship_to.postal_code", "ship_to.country", "reference.contract"}
	lines := []string{"number", "item", "buyer_item", "gtin", "description", "quantity", "unit", "unit_price",
		"price_basis", "discount_percent", "tax_percent", "amount", "location", "notes"}
	var b bytes.Buffer
	b.WriteString(strings.Join(header, ",") + ",line " + strings.Join(lines, ",line ") + "\n")
	for i := range rows {
		fmt.Fprintf(&b, "A-%06d,2026-03-02,2026-04-01,2026-03-20,2026-05-01,EUR,N30,DAP,B,0040,East yard,Harbour "+
			"street 4,Ostrand,04170,NO,C-77,", i/10)
		fmt.Fprintf(&b, "%d,00%03d,K-%d,2004417000118,\"Braided rope, white\",%d,MTR,12.50,1,5,20,%d.%02d,0010,cut "+
			"to length\n", i%10+1, i%999, i%999, i%90+1, (i%90+1)*1250*95/10000, (i%90+1)*1250*95/100%100)
	}
	var y strings.Builder
	y.WriteString("koinos: mapping/1\nname: wide\norders: {kind: sales, tolerance: 1, group: {by: key, columns: " +
		"sender_number}}\nheader:\n  partner: {value: P}\n")
	for _, f := range header {
		fmt.Fprintf(&y, "  %s: {from: %s}\n", f, f)
	}
	y.WriteString("lines:\n")
	for _, f := range lines {
		fmt.Fprintf(&y, "  %s: {from: line %s}\n", f, f)
	}
	return b.Bytes(), y.String()
}

// Reading, grouping, mapping and checking thirty fields, beside encoding/csv
// reading the same rows.
func BenchmarkThirtyFields(b *testing.B) {
	doc, text := wideOrders(100_000)
	m, err := mapping.Parse([]byte(text))
	if err != nil {
		b.Fatal(err)
	}
	b.Run("koinos", func(b *testing.B) {
		b.SetBytes(int64(len(doc)))
		for range b.N {
			in := &input{mapping: m, set: &list.Set{}}
			if err := in.openAt(bytes.NewReader(doc), int64(len(doc)), source.DefaultLimits); err != nil {
				b.Fatal(err)
			}
			n := 0
			if _, err := in.run(context.Background(), func(orders []mapped) error {
				for i := range orders {
					if orders[i].Refused() {
						b.Fatal(orders[i].Findings)
					}
				}
				n += len(orders)
				return nil
			}); err != nil || n != 10_000 {
				b.Fatal(n, err)
			}
		}
	})
	b.Run("mapping-alone", func(b *testing.B) { // one goroutine reads and groups, one maps
		b.SetBytes(int64(len(doc)))
		for range b.N {
			src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
			if err != nil {
				b.Fatal(err)
			}
			groups := make(chan []reading.Group, 8)
			go func() {
				defer close(groups)
				table := reading.NewTable(m, src, nil)
				var some []reading.Group
				for {
					g, err := table.Next()
					if err != nil {
						groups <- some
						return
					}
					if some = append(some, g); len(some) == 64 {
						groups <- some
						some = nil
					}
				}
			}()
			n := 0
			for some := range groups {
				for i := range some {
					if reading.Read(m, &some[i], &list.Set{}).Refused() {
						b.Fatal("refused")
					}
					n++
				}
			}
			if n != 10_000 {
				b.Fatal(n)
			}
		}
	})
	b.Run("encoding-csv", func(b *testing.B) {
		b.SetBytes(int64(len(doc)))
		for range b.N {
			r := csv.NewReader(bytes.NewReader(doc))
			r.ReuseRecord = true
			for {
				if _, err := r.Read(); err == io.EOF {
					break
				} else if err != nil {
					b.Fatal(err)
				}
			}
		}
	})
}
