package orders

import (
	"fmt"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"koinos/cli/shell"
	"koinos/core/order"
)

// ofOrders are the flags that say which orders a command applies to.
type ofOrders struct {
	values  map[string]*string // by the names of the call's query
	changed string
	overdue bool
}

func (f *ofOrders) flags(c *cobra.Command) {
	f.values = map[string]*string{}
	for _, v := range []struct{ query, flag, about string }{
		{"kind", "kind", "only orders of this kind: sales or purchase"},
		{"status", "status", "only orders of this status, or of one of several with commas between: draft, open, confirmed, partial,\n" +
			"complete, cancelled"},
		{"partner", "partner", "only orders of this partner, by our code"},
		{"text", "text", "only orders whose number, sender's number or partner begins so"},
		{"load", "load", "only orders that this load stored"},
		{"from", "ordered-from", "only orders of this day or later, yyyy-mm-dd"},
		{"to", "ordered-to", "only orders of this day or earlier, yyyy-mm-dd"},
	} {
		f.values[v.query] = c.Flags().String(v.flag, "", v.about)
	}
	c.Flags().StringVar(&f.changed, "changed-since", "",
		"only orders that are new or have changed since this day (yyyy-mm-dd) or moment (RFC 3339)")
	c.Flags().BoolVar(&f.overdue, "overdue", false,
		"only orders whose day of delivery is past and of which nothing has moved")
	shell.Offers(c, "kind", order.Kinds...)
	shell.Offers(c, "status", "draft", "open", "confirmed", "partial", "complete", "cancelled")
}

// query is the filter in the form of the API; empty means that no flag was given.
func (f *ofOrders) query() (url.Values, error) {
	q := url.Values{}
	for name, v := range f.values {
		if *v != "" {
			q.Set(name, *v)
		}
	}
	if f.changed != "" {
		t, err := time.Parse(time.RFC3339, f.changed)
		if err != nil {
			t, err = time.ParseInLocation(time.DateOnly, f.changed, time.Local)
		}
		if err != nil {
			return nil, shell.Usage(fmt.Errorf("%q is no day such as 2026-03-02, and no moment such as 2026-03-02T14:00:00Z",
				f.changed))
		}
		q.Set("changed_since", t.UTC().Format(time.RFC3339))
	}
	if f.overdue {
		q.Set("overdue", "true")
	}
	return q, nil
}
