package orders

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/report"
)

func (a *app) order() *cobra.Command {
	c := &cobra.Command{Use: "order", Short: "List orders, show one, write them as a document; confirm, change, ship, bill, cancel them"}
	var of ofOrders
	var limit int
	ls := &cobra.Command{
		Use: "list", Short: "List orders, newest first", Args: cobra.NoArgs,
		Example: "  koinos order list --kind purchase --partner EBBING\n  koinos order list --load 4 --limit 50\n  " +
			"koinos order list --text OB-26\n  " +
			"koinos order list --status open,confirmed,partial --changed-since 2026-03-02",
		RunE: func(c *cobra.Command, _ []string) error {
			q, err := of.query()
			if err != nil {
				return err
			}
			page, err := shell.Pages(limit, q, func(q url.Values) (api.Page[api.OrderSummary],
				error) {
				return a.Client().Orders(c.Context(), q)
			})
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			var rows [][]string
			for _, o := range page.Items {
				rows = append(rows, []string{o.Number, string(o.Kind), o.Partner, o.SenderNumber, string(o.OrderedOn),
					shell.Num(o.Lines), o.Total + " " + o.Currency, string(o.Status)})
			}
			report.Table(a.Out, []string{"number", "kind", "partner", "their number", "ordered", ">lines", ">total",
				"status"}, rows)
			a.MoreRows(page.Next)
			return nil
		},
	}
	of.flags(ls)
	ls.Flags().IntVar(&limit, "limit", 20, "how many")
	show := &cobra.Command{
		Use: "show NUMBER", Short: "Show an order, and where each of its values came from",
		Example: "  koinos order show SO-000012", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return a.showOrder(c.Context(), args[0]) },
	}
	c.AddCommand(ls, show, a.writeOrders())
	c.AddCommand(a.orderActs()...)
	c.AddCommand(a.exportOrders())
	return c
}

func (a *app) showOrder(ctx context.Context, number string) error {
	calls := a.Client()
	numbered, err := a.Numbered(ctx, number)
	if err != nil {
		return err
	}
	for _, found := range numbered {
		o, err := calls.Order(ctx, found.ID)
		if err != nil {
			return err
		}
		if done, err := a.JSON(o); done {
			if err != nil {
				return err
			}
			continue
		}
		a.printOrder(o)
	}
	return nil
}

func (a *app) printOrder(o *api.StoredOrder) {
	fmt.Fprintf(a.Out, "%s order %s, %s, revision %d\n", title(string(o.Kind)), o.Number, o.Status, o.Revision)
	if o.Load != 0 {
		fmt.Fprintf(a.Out, "from %s through mapping %s version %d, load %d\n\n", o.DocumentName, o.Mapping, o.Version,
			o.Load)
	} else {
		fmt.Fprint(a.Out, "it came by itself, through the API\n\n")
	}
	places := map[string]string{}
	for _, p := range o.Places {
		places[fmt.Sprintf("%d %s", p.Line, p.Field)] = p.At
	}
	var rows [][]string
	lines := make([]map[string]string, len(o.Lines))
	o.Each(func(line int, field, value string) {
		if line == 0 {
			rows = append(rows, []string{field, value, places["0 "+field]})
			return
		}
		if lines[line-1] == nil {
			lines[line-1] = map[string]string{}
		}
		lines[line-1][field] = value
	})
	report.Table(a.Out, []string{"field", "value", "place"}, rows)
	rows = nil
	for i, l := range o.Lines {
		more := ""
		for _, f := range []string{"location", "requested_delivery_on", "buyer_item", "supplier_item", "shipped",
			"received", "cancelled", "backordered", "deliveries", "notes"} {
			if v := lines[i][f]; v != "" {
				more += f + " " + v + "  "
			}
		}
		if l.Returned.Sign() != 0 {
			more += "returned " + l.Returned.Plain() + "  "
		}
		if l.Invoiced.Sign() != 0 {
			more += "invoiced " + l.Invoiced.Plain() + "  "
		}
		for _, p := range l.Earlier {
			more += p.Quantity.Plain() + " at " + p.UnitPrice.String() + "  "
		}
		discount := ""
		if !l.DiscountPercent.IsZero() {
			discount = l.DiscountPercent.String() + " %"
		}
		for _, c := range l.Charges {
			what, amount := charged(c)
			more += what + " " + amount + "  "
		}
		place := places[fmt.Sprintf("%d ", i+1)]
		rows = append(rows, []string{l.Number, item(&l), l.Description, l.Quantity.String(), l.Unit,
			l.UnitPrice.String(), discount, l.Amount.String(), place, strings.TrimSpace(more)})
	}
	fmt.Fprintln(a.Out)
	report.Table(a.Out, []string{">line", "item", "description", ">quantity", "unit", ">price", ">less", ">amount",
		"place", "more"}, rows)
	fmt.Fprintln(a.Out)
	sum := func(word, amount string) { fmt.Fprintf(a.Out, "%-14s %12s\n", word, amount) }
	sum("goods", o.Goods.String())
	if sum := ofLines(o.Lines); !sum.IsZero() {
		fmt.Fprintf(a.Out, "%-14s %12s\n", "of lines", strings.Replace(sum.String(), "-", "−", 1))
	}
	for _, c := range o.Charges {
		sum(charged(c))
	}
	if !o.Tax.IsZero() {
		sum("tax", o.Tax.String())
	}
	sum("total "+o.Currency, o.Total.String())
	fmt.Fprintln(a.Out)
	var offered [][]string
	for _, f := range o.Offers {
		if len(f.Differs) > 0 {
			offered = append(offered, []string{f.Number, strings.Join(f.Differs, ", "), f.Reason})
		}
	}
	if len(offered) > 0 {
		report.Table(a.Out, []string{">line", "not as ordered", "reason"}, offered)
		fmt.Fprintf(a.Out, "To take what is offered: koinos order change %s --as-offered\n\n", o.Number)
	}
	a.printMoves(o)
	for _, l := range o.Links {
		agreed := fmt.Sprintf("agreed at revision %d", l.Revision)
		if l.Revision == 0 {
			agreed = "not right there yet"
		}
		fmt.Fprintf(a.Out, "%s  in %s it is %s %s, %s\n", shell.Local(l.At), l.System, l.Record, cmp.Or(l.Number, l.Key),
			agreed)
	}
	for _, e := range o.Events {
		fmt.Fprintf(a.Out, "%s  %s by %s%s\n", shell.Local(e.Origin.At), e.Action, e.Origin.By, broughtBy(&e.Origin))
		if named := e.Named(); named != "" {
			fmt.Fprintf(a.Out, "                  %s\n", named)
		}
	}
}

// broughtBy says in brackets what brought something.
func broughtBy(o *origin.Origin) string {
	switch {
	case o.Interchange != 0:
		return fmt.Sprintf(" (interchange %d)", o.Interchange)
	case o.Load != 0:
		return fmt.Sprintf(" (load %d)", o.Load)
	}
	return ""
}

// prefixed is a text behind a word; "" if the text is blank.
func prefixed(word, text string) string {
	if text == "" {
		return ""
	}
	return word + text
}

func weight(m *order.Movement) string {
	return strings.TrimSpace(m.Weight.Plain() + " " + m.WeightIn)
}

// printMoves shows what was shipped, received, answered and invoiced.
func (a *app) printMoves(o *api.StoredOrder) {
	number := map[int]string{}
	for _, l := range o.Lines {
		number[l.ID] = l.Number
	}
	var rows [][]string
	// add adds a row for a line; what is said about the whole stands in the first row.
	add := func(what, num string, on order.Date, first bool, line int, quantity order.Number, amount string,
		more ...string) {
		if !first {
			what, num, on = "", "", ""
		}
		more = slices.DeleteFunc(more, func(m string) bool { return m == "" })
		rows = append(rows, []string{what, num, string(on), number[line], quantity.Plain(), amount, strings.Join(more, ", ")})
	}
	for _, m := range o.Movements {
		for i, l := range m.Lines {
			var more []string
			if i == 0 {
				more = append(more, prefixed("takes back ", m.Reverses), m.Carrier, m.Tracking, prefixed("bill of lading ",
					m.Lading), weight(&m), m.Notes)
			}
			if l.Told.Sign() != 0 {
				more = append(more, l.Told.Plain()+" "+l.ToldUnit)
			}
			add(string(m.Kind), m.Number, m.On, i == 0, l.Line, l.Quantity, "", append(more, prefixed("lot ", l.Lot),
				prefixed("package ", l.Package), prefixed("in ", l.PackageIn))...)
		}
	}
	for _, s := range o.Answers {
		for i, l := range s.Lines {
			price := prefixed("at ", l.UnitPrice.String())
			add("answer", s.Code, s.On, i == 0, l.Line, l.Quantity, "", l.Code, string(l.DueOn), price, l.Reason)
		}
	}
	for _, v := range o.Invoices {
		what := "invoice"
		if v.Reverses != "" {
			what = "credit note"
		}
		for i, l := range v.Lines {
			var more []string
			if i == 0 {
				more = append(more, prefixed("against ", v.Reverses), v.Reason)
				if total := cmp.Or(v.Total, v.Stated); !total.IsZero() {
					more = append(more, strings.TrimSpace("total "+total.String()+" "+v.Currency))
				}
				for _, c := range v.Charges {
					more = append(more, c.Code+" "+c.Amount.String())
				}
			}
			add(what, v.Number, v.On, i == 0, l.Line, l.Quantity, l.Amount.String(),
				append(more, prefixed("at ", l.UnitPrice.String()))...)
		}
	}
	if rows != nil {
		report.Table(a.Out, []string{"what", "number", "on", ">line", ">quantity", ">amount", "more"}, rows)
		fmt.Fprintln(a.Out)
	}
}

// ofLines is what the charges and allowances of lines add to their amounts.
func ofLines(lines []order.Line) (sum order.Number) {
	for i := range lines {
		for _, c := range lines[i].Charges {
			add := sum.Add
			if c.Allowance {
				add = sum.Sub
			}
			if n, err := add(c.Amount); err == nil {
				sum = n
			}
		}
	}
	return sum
}

// charged says what a charge is for, and its amount with the sign that it has in the total.
func charged(c order.Charge) (what, amount string) {
	what, amount = c.Code, c.Amount.String()
	if !c.Percent.IsZero() {
		what += " " + c.Percent.String() + " %"
	}
	if c.Allowance {
		amount = "−" + amount
	}
	return what, amount
}

func title(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func item(l *order.Line) string {
	for _, s := range []string{l.Item, l.SupplierItem, l.BuyerItem, l.GTIN} {
		if s != "" {
			return s
		}
	}
	return ""
}
