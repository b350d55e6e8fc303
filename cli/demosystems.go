package cli

import (
	"context"
	"fmt"
	"os"

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
	return nil
}
