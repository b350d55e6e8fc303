package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"

	"koinos/api"
	"koinos/client"
	"koinos/core/report"
	"koinos/demo"
)

// shopOrders is how many orders the web shop of the demo has.
const shopOrders = 40

// hookSecret is what the shop signs its webhooks with: a demo has nothing to hide.
const hookSecret = "whsec_cXVpbGxtZXJlLWNoYW5kbGVyeS1kZW1v"

// playSystems starts the demo's other systems, where their descriptions look for them.
func playSystems(ctx context.Context) error {
	ended := make(chan error, 2) // they end with the demo
	shop, err := serveShop(ctx, "127.0.0.1:0", shopOrders, ended)
	if err != nil {
		return fmt.Errorf("the web shop cannot be played: %w", err)
	}
	books, err := serveBooks(ctx, "127.0.0.1:0", ended)
	if err != nil {
		return fmt.Errorf("the bookkeeping cannot be played: %w", err)
	}
	for name, value := range map[string]string{"SLIPWAY_URL": shop, "SLIPWAY_TOKEN": shopToken,
		"SLIPWAY_HOOK_SECRET": hookSecret, "LEDGERLINE_URL": books,
		"LEDGERLINE_ID": "koinos", "LEDGERLINE_SECRET": booksSecret} {
		if err := os.Setenv(name, value); err != nil {
			return err
		}
	}
	return nil
}

// fillSystems keeps the descriptions, and reads the shop's orders.
func (a *app) fillSystems(ctx context.Context, calls *client.Client) error {
	for _, name := range demo.Names("systems") {
		b, err := demo.Files.ReadFile("systems/" + name)
		if err != nil {
			return err
		}
		if _, err := calls.KeepSystem(ctx, b); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	p, err := calls.StartPull(ctx, "slipway", api.NewPull{Record: "order"})
	if err == nil {
		p, err = calls.UntilPulled(ctx, p.ID)
	}
	if err != nil {
		return fmt.Errorf("the shop's orders were not read: %w", err)
	}
	if p.State != api.PullDone {
		return fmt.Errorf("the shop's orders were not read: %s", p.Reason)
	}
	fmt.Fprintf(a.out, "\nThe web shop Slipway has %s: %d are loaded, %d withdrawn, %d refused.\n",
		report.Plural(p.Records, "order"), p.Loaded, p.Gone, p.Failed)
	if err := a.fillBooks(ctx, calls); err != nil {
		return err
	}
	return a.fillHooks(ctx, calls)
}

// fillHooks has the shop tell us when an order changes, and changes one.
func (a *app) fillHooks(ctx context.Context, calls *client.Client) error {
	shop := os.Getenv("SLIPWAY_URL")
	_, err := calls.RegisterHooks(ctx, "slipway")
	if err == nil {
		err = tell(ctx, shop+"/admin/orders", `{"id": 9007199254741030, "reference": "SL-1038", "state": "changed",
		  "placed_at": "2026-03-03T08:03:03.000201Z", "currency": "EUR", "remarks": "Two more, please.",
		  "buyer": {"name": "Otis Varne", "mail": "otis.48@harbour.example"},
		  "deliver_to": {"name": "Otis Varne", "street": "2 Brygga", "town": "Sundvik", "zip": "3915", "country": "NO"},
		  "lines": [{"line": 1, "sku": "00101", "title": "Braided rope 6 mm, white", "count": 12, "each": "1.00"}]}`)
	}
	if err != nil {
		return fmt.Errorf("the shop could not be asked to tell us: %w", err)
	}
	if err := until(ctx, func() (bool, error) {
		pulls, err := calls.Pulls(ctx, url.Values{"system": {"slipway"}})
		return len(pulls.Items) == 2 && pulls.Items[0].Ended(), err
	}); err != nil {
		return fmt.Errorf("the shop's webhook did not come: %w", err)
	}
	fmt.Fprintln(a.out, "Then the shop told by a webhook that SL-1038 had changed.")
	return nil
}

// tell posts JSON to a stand-in.
func tell(ctx context.Context, address, body string) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+shopToken)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode >= http.StatusMultipleChoices {
		return fmt.Errorf("%s answers %s", address, res.Status)
	}
	return nil
}

// bookedOrders is how many of the shop's orders go into the bookkeeping.
const bookedOrders = 10

// fillBooks pushes the shop's newest orders into the bookkeeping, where somebody then
// changes one.
func (a *app) fillBooks(ctx context.Context, calls *client.Client) error {
	page, err := calls.Orders(ctx, url.Values{"partner": {"SLIPWAY"}, "limit": {strconv.Itoa(bookedOrders)}})
	if err != nil {
		return err
	}
	var last api.Push
	for _, o := range page.Items {
		if last, err = calls.Push(ctx, "ledgerline", api.NewPush{Record: "sales_order", Order: o.Number}); err != nil {
			return fmt.Errorf("%s was not pushed: %w", o.Number, err)
		}
		if last.State != api.PushDone {
			return fmt.Errorf("%s was not pushed: %s", o.Number, strings.Join(last.Why, " "))
		}
	}
	if err := tell(ctx, os.Getenv("LEDGERLINE_URL")+"/admin/orders/"+last.Key,
		`{"note": "The customer collects it."}`); err != nil {
		return fmt.Errorf("nobody could change an order of the bookkeeping: %w", err)
	}
	fmt.Fprintf(a.out, "The bookkeeping Ledgerline has the newest %d of them; somebody there wrote a note on %s (%s).\n",
		len(page.Items), last.Number, last.Order)
	return nil
}
