package running

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"koinos/api"
	"koinos/client"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/demo"
)

// fillExchange lets the partners play until they have said everything.
func (a *app) fillExchange(ctx context.Context, calls *client.Client, dir string, log *slog.Logger) error {
	for _, name := range demo.Names("partners") {
		b, err := demo.Files.ReadFile("partners/" + name)
		if err != nil {
			return err
		}
		if _, err := calls.KeepPartner(ctx, b); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	b, err := demo.Files.ReadFile("documents/pellow-orders.edi")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(filepath.Dir(dir), "examples", "pellow-orders.edi"), b, 0o600); err != nil {
		return err
	}
	if _, err := calls.ReceiveInterchange(ctx, "pellow-orders.edi", bytes.NewReader(b)); err != nil {
		return err
	}
	// Its answer leaves before the next order comes, even on a slow machine, so that the demo is the same each time.
	if err := until(ctx, func() (bool, error) {
		page, err := calls.Interchanges(ctx, url.Values{"partner": {"PELLOW"}, "direction": {"out"}, "kind": {"855"}})
		return len(page.Items) > 0, err
	}); err != nil {
		return fmt.Errorf("the order of PELLOW was not answered: %w", err)
	}
	purchases, err := demo.Orders("varnholt")
	if err != nil {
		return err
	}
	for i := range purchases {
		if _, err := calls.PostOrder(ctx, &purchases[i], outcome.Skip); err != nil {
			return err
		}
	}
	go func() {
		if err := playPartners(ctx, dir, log); err != nil {
			log.Error("stand-ins", "error", err)
		}
	}()
	if err := until(ctx, func() (bool, error) { return told(ctx, calls, "PELLOW", "865") }); err != nil {
		return fmt.Errorf("the change of PELLOW was not answered: %w", err)
	}
	page, err := calls.Orders(ctx, url.Values{"partner": {"PELLOW"}, "text": {"PM-4801"}})
	if err != nil || len(page.Items) == 0 {
		return fmt.Errorf("the order PM-4801 is not there: %w", err)
	}
	stored, err := calls.Order(ctx, page.Items[0].ID)
	if err != nil {
		return err
	}
	for i := range stored.Lines { // what the warehouse says has left
		l := &stored.Lines[i]
		if l.Cancelled.Sign() == 0 && i == 0 {
			l.Shipped = order.NumberOf(30)
		} else if l.Cancelled.Sign() == 0 {
			l.Shipped = l.Quantity
		}
	}
	if _, err := calls.PostOrder(ctx, &stored.Order, outcome.Update); err != nil {
		return err
	}
	for _, step := range [][2]string{{"PELLOW", "856"}, {"PELLOW", "810"}, {"VARNHOLT", "850"}} {
		if err := until(ctx, func() (bool, error) { return told(ctx, calls, step[0], step[1]) }); err != nil {
			return fmt.Errorf("%s did not acknowledge its %s: %w", step[0], step[1], err)
		}
	}
	if err := until(ctx, func() (bool, error) {
		page, err := calls.Interchanges(ctx, url.Values{"partner": {"VARNHOLT"}, "direction": {"in"}, "kind": {"810"}})
		return len(page.Items) > 0 && page.Items[0].State != api.StateArriving &&
			page.Items[0].State != api.StateReceived, err
	}); err != nil {
		return fmt.Errorf("the invoice of VARNHOLT did not come: %w", err)
	}
	page2, err := calls.Interchanges(ctx, url.Values{"limit": {"100"}})
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "\nPELLOW ordered, changed, and was told of shipment and invoice by X12; VARNHOLT took an "+
		"order,\nanswered, shipped and invoiced it: %d interchanges.\n", len(page2.Items))
	bought, err := calls.Orders(ctx, url.Values{"partner": {"VARNHOLT"}, "text": {purchases[0].SenderNumber}})
	if err != nil || len(bought.Items) == 0 {
		return fmt.Errorf("the order %s is not there: %w", purchases[0].SenderNumber, err)
	}
	fmt.Fprintf(a.Out, "The pages of two orders show it all, from the order to the invoice: the sale %s (PM-4801) and the purchase %s.\n",
		page.Items[0].Number,
		bought.Items[0].Number)
	return nil
}

// told reports whether a partner has acknowledged a set of ours.
func told(ctx context.Context, calls *client.Client, name, set string) (bool, error) {
	page, err := calls.Interchanges(ctx, url.Values{"partner": {name}, "direction": {"out"}, "kind": {set},
		"state": {api.StateAccepted}})
	return len(page.Items) > 0, err
}

// mostWait is how long the demo waits for a stand-in.
const mostWait = 60 * time.Second

// until checks again and again until done.
func until(ctx context.Context, done func() (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, mostWait)
	defer cancel()
	for {
		ok, err := done()
		if ok || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
