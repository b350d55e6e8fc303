package orders

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/order"
	"koinos/core/report"
)

// act is something that a command does to orders.
type act struct {
	app  *app
	what string // the last part of the call's path
	told client.Told
	of   ofOrders // of which orders, besides those that are named
}

// flags adds the flags that every act has; with many, it can be applied to all orders of a filter.
func (t *act) flags(c *cobra.Command, many bool) {
	c.Flags().StringSliceVar(&t.told.Accept, "accept", nil, "code of a warning that does not hold it; repeatable")
	c.Flags().IntVar(&t.told.Seen, "revision", 0, "only if the order still has this revision")
	if many {
		t.of.flags(c)
	}
}

// orders are those that are named, and those of the filter.
func (t *act) orders(ctx context.Context, names []string) (all []api.OrderSummary, err error) {
	for _, name := range names {
		found, err := t.app.Numbered(ctx, name)
		if err != nil {
			return nil, err
		}
		if len(found) > 1 {
			return nil, shell.Exit(shell.ExitFailed, fmt.Sprintf("%d orders have the number %q; say which by our number", len(found), name))
		}
		all = append(all, found...)
	}
	q, err := t.of.query()
	if err != nil {
		return nil, err
	}
	if len(q) == 0 {
		if len(all) == 0 {
			return nil, shell.Usage(errors.New("name an order, or say of which"))
		}
		return all, nil
	}
	q.Set("limit", "1000")
	for {
		page, err := t.app.Client().Orders(ctx, q)
		if err != nil {
			return nil, err
		}
		if all = append(all, page.Items...); page.Next == "" {
			slices.Reverse(all[len(names):]) // the oldest first
			return all, nil
		}
		q.Set("cursor", page.Next)
	}
}

// done is what became of one order.
type done struct {
	api.Posted
	Problem string `json:"problem,omitempty"`
}

// say applies it to each order and shows what became of them. A refused order does not keep the others from being
// processed.
func (t *act) say(ctx context.Context, orders []api.OrderSummary, n api.Notice) error {
	calls := t.app.Client()
	all := []done{}
	failed := 0
	var broken error // what others that follow cannot be asked for
	for _, o := range orders {
		p, err := calls.Tell(ctx, o.ID, t.what, n, t.told)
		d := done{Posted: p}
		var no *api.Problem
		switch {
		case errors.As(err, &no) && (no.Code == "order_refused" || no.Code == "order_held" || no.Code == "changed_meanwhile"):
			failed++
			d.Posted = api.Posted{OrderID: o.ID, Number: o.Number, Outcome: "refused", Findings: no.Findings}
			if d.Problem = no.Detail; no.Code == "order_held" {
				d.Outcome = "held"
			}
		case err != nil:
			broken = err
		}
		if broken != nil {
			break
		}
		all = append(all, d)
	}
	shown, err := t.app.JSON(all)
	if err == nil && !shown && len(all) > 0 {
		t.show(all)
	}
	if err = errors.Join(err, broken); err == nil && failed > 0 {
		return shell.Exit(shell.ExitRefused, "")
	}
	return err
}

func (t *act) show(all []done) {
	var rows [][]string
	for _, d := range all {
		first := []string{d.Number, string(d.Outcome), ""}
		if d.Revision > 0 {
			first[2] = strconv.Itoa(d.Revision)
		}
		said := false
		row := func(text string) {
			if said {
				first = []string{"", "", ""}
			}
			rows, said = append(rows, append(slices.Clone(first), text)), true
		}
		for _, c := range d.Changes {
			where := c.Field
			if c.Line > 0 {
				where = fmt.Sprintf("line %d %s", c.Line, c.Field)
			}
			if c.Field == order.Reason {
				row(c.String())
				continue
			}
			row(fmt.Sprintf("%s: %s → %s", where, shell.OrBlank(c.Was), shell.OrBlank(c.Is)))
		}
		for i := range d.Findings {
			f := &d.Findings[i]
			row(string(f.Severity) + ": " + f.Message)
		}
		if d.Problem != "" && d.Problem != "The findings say why." {
			row(d.Problem)
		}
		if !said {
			row("")
		}
	}
	report.Table(t.app.Out, []string{"order", "outcome", ">revision", "what"}, rows)
}

// lineQuantities separates arguments such as 3=5 (line 3, five of it) from numbers of orders.
func lineQuantities(args []string) (names []string, lines []map[string]string, err error) {
	for _, a := range args {
		line, quantity, is := strings.Cut(a, "=")
		switch {
		case !is:
			names = append(names, a)
		case line == "" || quantity == "":
			return nil, nil, shell.Usage(fmt.Errorf("%q is no LINE=QUANTITY, such as 3=5 or 3=2BX", a))
		default:
			digits := strings.TrimRightFunc(quantity, func(r rune) bool { return r != '.' && !unicode.IsDigit(r) })
			if digits == "" {
				return nil, nil, shell.Usage(fmt.Errorf("%q is no LINE=QUANTITY, such as 3=5 or 3=2BX", a))
			}
			l := map[string]string{"number": line, "quantity": digits}
			if unit := strings.TrimSpace(quantity[len(digits):]); unit != "" {
				l["unit"] = strings.ToUpper(unit)
			}
			lines = append(lines, l)
		}
	}
	return names, lines, nil
}

// posting is a command that posts moved goods or bills.
type posting struct {
	use, what, number, on string // the command, the last part of the call's path, and the fields of its number and day
	short, long, example  string
	// further fields by the names of their flags, which are theirs, with what they are
	fields map[string]string
}

// ofGoods are the flags of commands that post moved goods.
var ofGoods = map[string]string{"carrier": "who carries the goods", "tracking": "the carrier's number",
	"bill_of_lading": "number of the bill of lading",
	"packages":       "how many packages", "weight": "gross weight of all of it",
	"weight_unit": "unit of the weight, such as KGM",
	"notes":       "a remark", "reverses": "number of the one that this takes back, whole where no line is named"}

var postings = []posting{
	{"ship", "shipments", "shipment", "shipped_on", "Say what was shipped of orders",
		"Ship posts a shipment against lines of an order.",
		"  koinos order ship SO-000331 1=5 2=3 --number LS-771 --carrier Tern\n" +
			"  koinos order ship SO-000331 SO-000332 --open\n  koinos order ship SO-000331 1=2BX\n" +
			"  koinos order ship SO-000331 1=1 --reverses LS-771", ofGoods},
	{"receive", "receipts", "receipt", "received_on", "Say what was received of purchase orders",
		"Receive posts a receipt against lines of an order.",
		"  koinos order receive PO-000004 1=20 --number GR-118\n  koinos order receive PO-000004 --open", ofGoods},
	{"return", "returns", "return", "returned_on", "Say what a customer sent back, or what went back to a supplier",
		"Return posts goods that came back. It opens nothing again: what was shipped by mistake is taken back with\n" +
			"\"koinos order ship ORDER --reverses NUMBER\". What was returned is not billed any more; what is billed already is given\n" +
			"back with \"koinos order bill ORDER --reverses INVOICE\".",
		"  koinos order return SO-000331 1=2 --number RT-12 --reason \"wrong colour\"", withField(ofGoods, "reason",
			"why, in words")},
	{"bill", "invoices", "invoice", "invoiced_on", "Invoice what has moved of orders, or give an invoice back",
		"Bill keeps an invoice for lines of an order, at the order's prices. With --open it bills what has moved and is not\n" +
			"billed yet. An invoice to a customer gets the next number of the series where none is given. With --reverses it is a\n" +
			"credit note: it gives back that invoice, or the lines that are named.",
		"  koinos order bill SO-000331 --open\n  koinos order bill PO-000004 1=20 --number 88-17\n" +
			"  koinos order bill SO-000331 1=2 --reverses IN-000017",
		map[string]string{"charges_billed": "when the order's charges are billed: first (with the first invoice, the default), share (by " +
			"share of the goods), last or none",
			"reverses": "number of the invoice that this credit note takes back, whole where no line is named",
			"reason":   "why, in words"}},
}

func withField(fields map[string]string, name, about string) map[string]string {
	more := maps.Clone(fields)
	more[name] = about
	return more
}

// post makes a command that posts moved goods or bills.
func (a *app) post(p *posting) *cobra.Command {
	t := &act{app: a, what: p.what}
	fields := map[string]*string{}
	var open, rest bool
	c := &cobra.Command{
		Use: p.use + " ORDER… [LINE=QUANTITY…]", Short: p.short, Example: p.example, Args: cobra.MinimumNArgs(0),
		Long: p.long + "\n\nA line is named by its number in the order; a quantity may be in another unit than the " +
			"line's (1=2BX) where the list\n" +
			"items says how many of the item's own unit that holds. Without lines, say --open: all that is open.\n" +
			"What a document would only be warned of is held until --accept names the warning's code.",
		RunE: func(c *cobra.Command, args []string) error {
			names, lines, err := lineQuantities(args)
			if err != nil {
				return err
			}
			n := api.Notice{Header: map[string]string{}, Lines: lines}
			for name, v := range fields {
				if *v != "" {
					n.Header[name] = *v
				}
			}
			if open {
				n.Header["quantities"] = "open"
			}
			if !open && len(lines) == 0 && n.Header["reverses"] == "" {
				return shell.Usage(errors.New("say how much of which line with LINE=QUANTITY, or all that is open with --open"))
			}
			if len(lines) > 0 && len(names) != 1 {
				return shell.Usage(errors.New("LINE=QUANTITY goes with one order"))
			}
			if rest {
				for _, l := range lines {
					l["rest"] = "cancel"
				}
			}
			orders, err := t.orders(c.Context(), names)
			if err != nil {
				return err
			}
			return t.say(c.Context(), orders, n)
		},
	}
	t.flags(c, true)
	f := c.Flags()
	f.BoolVar(&open, "open", false, "all that is open")
	fields[p.number] = f.String("number", "", "its number; the same number again changes nothing; by default it gets one")
	fields[p.on] = f.String("on", "", "its day, yyyy-mm-dd")
	if p.what == "shipments" || p.what == "receipts" {
		f.BoolVar(&rest, "rest-cancelled", false, "that was all: what is left of these lines is not wanted any more")
	}
	for name, about := range p.fields {
		fields[name] = f.String(strings.ReplaceAll(name, "_", "-"), "", about)
	}
	return c
}

func (a *app) orderActs() (all []*cobra.Command) {
	for i := range postings {
		all = append(all, a.post(&postings[i]))
	}
	return append(all, a.confirm(), a.answerOrder(), a.changeOrder(), a.cancelOrder(), a.holdOrder(true),
		a.holdOrder(false))
}

// holdOrder makes the commands that put orders on hold and release them.
func (a *app) holdOrder(on bool) *cobra.Command {
	t := &act{app: a, what: "changes"}
	var reason string
	c := &cobra.Command{
		Use: "hold ORDER… --reason TEXT", Short: "Put orders on hold, so that nothing of them moves or is billed",
		Long: "Hold keeps shipments, receipts and invoices of an order from being posted by people and programs until it is released,\n" +
			"unless they accept on_hold. Documents are warned. A purchase order on hold is not sent to its supplier.",
		Example: "  koinos order hold SO-000331 --reason \"credit limit\"\n" +
			"  koinos order hold --partner PELLOW --status open --reason recall",
	}
	if !on {
		c = &cobra.Command{
			Use: "release ORDER…", Short: "Release orders that are on hold",
			Example: "  koinos order release SO-000331\n  koinos order release --partner PELLOW --reason \"paid\"",
		}
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		header := map[string]string{"on_hold": ""}
		switch {
		case on && strings.TrimSpace(reason) == "":
			return shell.Usage(errors.New("say why with --reason"))
		case on:
			header["on_hold"] = reason
		default:
			header = withReason(header, reason)
		}
		orders, err := t.orders(c.Context(), args)
		if err != nil {
			return err
		}
		return t.say(c.Context(), orders, api.Notice{Header: header})
	}
	t.flags(c, true)
	c.Flags().StringVar(&reason, "reason", "", "why, in words")
	return c
}

func (a *app) confirm() *cobra.Command {
	t := &act{app: a, what: "changes"}
	var reason string
	c := &cobra.Command{
		Use: "confirm [ORDER…]", Short: "Confirm orders: nothing of them may have moved",
		Long: "Confirm brings orders to the stage confirmed. Back to open, or to draft, goes with\n" +
			"\"koinos order change ORDER stage=open\".",
		Example: "  koinos order confirm SO-000331\n  koinos order confirm --partner PELLOW --status open",
		RunE: func(c *cobra.Command, args []string) error {
			orders, err := t.orders(c.Context(), args)
			if err != nil {
				return err
			}
			return t.say(c.Context(), orders, api.Notice{Header: withReason(map[string]string{"stage": "confirmed"}, reason)})
		},
	}
	t.flags(c, true)
	c.Flags().StringVar(&reason, "reason", "", "why, in words")
	return c
}

func withReason(header map[string]string, reason string) map[string]string {
	if reason != "" {
		header["reason"] = reason
	}
	return header
}

func (a *app) changeOrder() *cobra.Command {
	t := &act{app: a, what: "changes"}
	var reason, line string
	var add, offered bool
	c := &cobra.Command{
		Use: "change ORDER FIELD=VALUE…", Short: "Change fields of an order's header, or of a line of it",
		Long: "Change sets fields by the names that mappings use. With --line they are those of that line; with --add they make\n" +
			"a new one. Every change is a revision with who, why, and what was. A new price counts for what is open; what has\n" +
			"moved or was invoiced keeps its price unless price_for=all is said.",
		Example: "  koinos order change SO-000331 requested_delivery_on=2026-04-01 --reason \"they asked on the phone\"\n" +
			"  koinos order change SO-000331 --line 3 quantity=5 unit_price=4.20\n" +
			"  koinos order change SO-000331 --line 3 unit_price=4.20 price_for=all\n" +
			"  koinos order change SO-000331 --add item=00417 quantity=2 unit=EA unit_price=9.50\n" +
			"  koinos order change PO-000004 --as-offered --line 2",
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			values := map[string]string{}
			for _, arg := range args[1:] {
				name, value, is := strings.Cut(arg, "=")
				if !is || name == "" {
					return shell.Usage(fmt.Errorf("%q is no FIELD=VALUE", arg))
				}
				values[name] = value
			}
			n := api.Notice{Header: withReason(map[string]string{}, reason)}
			if offered != (len(values) == 0) {
				return shell.Usage(errors.New("say what changes with FIELD=VALUE, or --as-offered"))
			}
			for name, flag := range map[string]bool{"change": add, "number": line != ""} {
				if _, there := values[name]; flag && there {
					return shell.Usage(fmt.Errorf("%s cannot be set here: the flags say it", name))
				}
			}
			switch {
			case add:
				values["change"] = "add"
				n.Lines = []map[string]string{values}
			case line != "":
				values["number"] = line
				n.Lines = []map[string]string{values}
			default:
				for name, v := range values {
					n.Header[name] = v
				}
			}
			orders, err := t.orders(c.Context(), args[:1])
			if err == nil && offered {
				n.Lines, err = t.offered(c.Context(), orders[0], line)
			}
			if err != nil {
				return err
			}
			return t.say(c.Context(), orders, n)
		},
	}
	t.flags(c, false)
	c.Flags().BoolVar(&offered, "as-offered", false,
		"take what the supplier's answers offer: quantities, prices, days, and what is refused;\nwith --line only of that line")
	c.Flags().StringVar(&line, "line", "", "number of the line that changes; by default the header")
	c.Flags().BoolVar(&add, "add", false, "add a line with these fields")
	c.Flags().StringVar(&reason, "reason", "", "why, in words")
	c.MarkFlagsMutuallyExclusive("line", "add")
	c.MarkFlagsMutuallyExclusive("as-offered", "add")
	return c
}

// offered are the changes with which a purchase order takes what its supplier offers, for one line or for all.
func (t *act) offered(ctx context.Context, of api.OrderSummary, line string) (lines []map[string]string, err error) {
	o, err := t.app.Client().Order(ctx, of.ID)
	if err != nil {
		return nil, err
	}
	items := ""
	for _, f := range o.Offers {
		switch {
		case line != "" && line != f.Number:
		case f.Take != nil:
			lines = append(lines, f.Take)
		case f.Item != "":
			items += fmt.Sprintf("Line %s is offered with another item, %s: that is for you to decide, with "+
				"koinos order change %s --line %s item=….\n",
				f.Number, f.Item, of.Number, f.Number)
		}
	}
	if len(lines) == 0 && items != "" {
		return nil, shell.Exit(shell.ExitFailed, strings.TrimSpace(items))
	}
	fmt.Fprint(t.app.Err, items)
	if len(lines) == 0 {
		what := "the order " + of.Number
		if line != "" {
			what = "line " + line + " of " + what
		}
		return nil, shell.Exit(shell.ExitFailed, fmt.Sprintf("No answer offers anything else than %s says.", what))
	}
	if t.told.Seen == 0 {
		t.told.Seen = o.Revision
	}
	return lines, nil
}

func (a *app) cancelOrder() *cobra.Command {
	t := &act{app: a, what: "withdrawals"}
	var reason string
	var lines []string
	c := &cobra.Command{
		Use: "cancel ORDER…", Short: "Cancel what is open of orders, or of some of their lines",
		Long: "Cancel takes back what has not moved. Where some of it has, it is held until that is accepted with\n" +
			"--accept notice_differs: the rest is cancelled then.",
		Example: "  koinos order cancel SO-000331 --reason \"out of stock\"\n  koinos order cancel SO-000331 --line 2 --line 3",
		RunE: func(c *cobra.Command, args []string) error {
			n := api.Notice{Header: withReason(map[string]string{}, reason)}
			if t.what = "withdrawals"; len(lines) > 0 {
				t.what = "changes"
			}
			for _, line := range lines {
				n.Lines = append(n.Lines, map[string]string{"number": line, "change": "delete"})
			}
			orders, err := t.orders(c.Context(), args)
			if err != nil {
				return err
			}
			if len(lines) > 0 && len(orders) != 1 {
				return shell.Usage(errors.New("--line goes with one order"))
			}
			return t.say(c.Context(), orders, n)
		},
	}
	t.flags(c, true)
	c.Flags().StringSliceVar(&lines, "line", nil, "number of a line; repeatable; by default every line")
	c.Flags().StringVar(&reason, "reason", "", "why, in words")
	return c
}
