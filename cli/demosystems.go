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
	for name, value := range map[string]string{"SLIPWAY_URL": shop, "SLIPWAY_TOKEN": shopToken, "LEDGERLINE_URL": books,
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
	return a.fillBooks(ctx, calls)
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
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, os.Getenv("LEDGERLINE_URL")+"/admin/orders/"+last.Key,
		strings.NewReader(`{"note": "The customer collects it."}`))
	if err != nil {
		return err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("nobody could change an order of the bookkeeping: %w", err)
	}
	defer res.Body.Close()
	fmt.Fprintf(a.out, "The bookkeeping Ledgerline has the newest %d of them; somebody there wrote a note on %s (%s).\n",
		len(page.Items), last.Number, last.Order)
	return nil
}
