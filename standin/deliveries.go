package standin

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"

	"koinos/core/order"
)

// bookDelivery is goods that left, posted to a sales order.
type bookDelivery struct {
	ID    int64          `json:"id"`
	Order int64          `json:"order_id"`
	Ref   string         `json:"ref"`
	Day   string         `json:"day"`
	Lines []deliveryLine `json:"lines"`
}

type deliveryLine struct {
	OurLine string      `json:"our_line"`
	Qty     json.Number `json:"qty"`
}

// listDeliveries lists those of exactly a reference, or all.
func (l *Ledgerline) listDeliveries(c *call) (int, any) {
	ref := c.r.URL.Query().Get("ref")
	some := []bookDelivery{}
	for _, d := range l.deliveries {
		if ref == "" || d.Ref == ref {
			some = append(some, d)
		}
	}
	return onePage(some)
}

func (l *Ledgerline) getDelivery(c *call) (int, any) {
	return byID(c, l.deliveries, func(d bookDelivery) int64 { return d.ID })
}

// addDelivery posts one: its reference once, to an order that is confirmed, and no more
// than is left of a line.
func (l *Ledgerline) addDelivery(c *call) (int, any) {
	o := l.order(c)
	if o == nil {
		return noOrder()
	}
	var d bookDelivery
	if err := c.into(&d); err != nil {
		return invalid("%v", err)
	}
	for _, was := range l.deliveries {
		if was.Ref == d.Ref && was.Order == o.ID {
			return http.StatusConflict, refusal{"duplicate", "ref was posted already.", was.ID}
		}
	}
	switch {
	case d.Ref == "" || d.Day == "" || len(d.Lines) == 0:
		return invalid("ref, day and lines are needed.")
	case o.State != "confirmed":
		return http.StatusConflict, refusal{"not_confirmed", "The order is " + o.State + ".", 0}
	}
	for _, k := range d.Lines {
		if why := l.mayLeave(o, k); why != "" {
			return invalid("%s", why)
		}
	}
	d.ID, d.Order = int64(9001+len(l.deliveries)), o.ID
	l.deliveries = append(l.deliveries, d)
	c.header.Set("Location", "/api/v2/deliveries/"+strconv.FormatInt(d.ID, 10))
	return http.StatusCreated, d
}

// mayLeave says why so much of a line cannot leave; "" means that it can.
func (l *Ledgerline) mayLeave(o *bookOrder, k deliveryLine) string {
	left, err := order.ParseNumber(string(k.Qty))
	if err != nil || left.Sign() <= 0 {
		return "qty is a number above 0."
	}
	for _, line := range o.Lines {
		if line.OurLine != k.OurLine {
			continue
		}
		for _, d := range l.deliveries {
			for _, was := range d.Lines {
				if d.Order == o.ID && was.OurLine == k.OurLine {
					n, err := order.ParseNumber(string(was.Qty))
					if err == nil {
						left, err = left.Add(n)
					}
					if err != nil {
						return err.Error()
					}
				}
			}
		}
		of, err := order.ParseNumber(cmp.Or(string(line.Qty), "0"))
		if err != nil || left.Cmp(of) > 0 {
			return fmt.Sprintf("Of line %s no more than %s can leave.", k.OurLine, line.Qty)
		}
		return ""
	}
	return fmt.Sprintf("The order has no line %s.", k.OurLine)
}
