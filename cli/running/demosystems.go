package running

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/demo"
)

// shopOrders is how many orders the web shop of the demo has.
const shopOrders = 40

// hookSecret is the secret with which the shop signs its webhooks. It is public, because this is a demo.
const hookSecret = "whsec_cXVpbGxtZXJlLWNoYW5kbGVyeS1kZW1v"

// playSystems starts the demo's other systems where their descriptions look for them.
func playSystems(ctx context.Context, yard string) error {
	ended := make(chan error, 3) // they end with the demo
	shop, err := serveShop(ctx, "127.0.0.1:0", shopOrders, ended)
	if err != nil {
		return fmt.Errorf("the web shop cannot be played: %w", err)
	}
	books, err := serveBooks(ctx, "127.0.0.1:0", ended)
	if err != nil {
		return fmt.Errorf("the bookkeeping cannot be played: %w", err)
	}
	if err := serveYard(ctx, yard, ended); err != nil {
		return fmt.Errorf("the yard cannot be played: %w", err)
	}
	for name, value := range map[string]string{"YARD_FOLDER": yard, "SLIPWAY_URL": shop, "SLIPWAY_TOKEN": shopToken,
		"SLIPWAY_HOOK_SECRET": hookSecret, "LEDGERLINE_URL": books,
		"LEDGERLINE_ID": "koinos", "LEDGERLINE_SECRET": booksSecret} {
		if err := os.Setenv(name, value); err != nil {
			return err
		}
	}
	return nil
}

// fillSystems stores the descriptions, and reads the shop's orders.
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
	if err := tell(ctx, os.Getenv("LEDGERLINE_URL")+"/admin/articles", `{"sku": "`+missingArticle+
		`", "gone": true}`); err != nil {
		return fmt.Errorf("nobody could take an article out of the bookkeeping: %w", err)
	}
	for _, name := range demo.Names("syncs") {
		b, err := demo.Files.ReadFile("syncs/" + name)
		if err != nil {
			return err
		}
		if _, err := calls.KeepSync(ctx, b); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	if _, err := a.syncDemo(ctx, calls); err != nil {
		return err
	}
	y, err := calls.Sync(ctx, demoSync)
	if err != nil {
		return err
	}
	pulls, err := calls.Pulls(ctx, url.Values{"system": {"slipway"}})
	if err != nil {
		return err
	}
	var all api.Pull
	for _, p := range pulls.Items {
		all.Records, all.Loaded, all.Gone, all.Failed = all.Records+p.Records, all.Loaded+p.Loaded, all.Gone+p.Gone,
			all.Failed+p.Failed
	}
	fmt.Fprintf(a.Out, "\nThe web shop Slipway has %s: %d are loaded, %d withdrawn, %d refused.\n",
		report.Plural(all.Records, "order"), all.Loaded, all.Gone, all.Failed)
	fmt.Fprintf(a.Out, "The sync %s wrote %s of them into the bookkeeping Ledgerline; %s held.\n", demoSync,
		report.Plural(y.State.Counts.Created, "order"), shell.AreOrders(y.State.Counts.Held))
	if err := a.fillYard(ctx, calls); err != nil {
		return err
	}
	if err := a.fillConflict(ctx, calls); err != nil {
		return err
	}
	return a.fillHooks(ctx, calls)
}

// demoSync keeps the shop and the bookkeeping system equal, and missingArticle is one that the bookkeeping system does
// not have.
const (
	demoSync       = "slipway-ledgerline"
	missingArticle = "00203"
	clashOrder     = "SL-1037"
)

// syncDemo runs the demo's sync to its end.
func (a *app) syncDemo(ctx context.Context, calls *client.Client) (api.SyncRun, error) {
	r, err := calls.RunSync(ctx, demoSync, api.NewSyncRun{})
	if err == nil {
		r, err = calls.UntilRun(ctx, r.ID, func(api.SyncRun) bool { return true })
	}
	if err != nil {
		return r, fmt.Errorf("the sync did not run: %w", err)
	}
	for _, p := range r.Pulls {
		if p.State != api.PullDone {
			return r, fmt.Errorf("%s of %s was not read: %s", p.Record, p.System, p.Reason)
		}
	}
	return r, nil
}

// sentOrders are those that the East yard ships.
var sentOrders = []string{"SL-1036", "SL-1037"}

// fillYard waits until the East yard has shipped what it was asked for, and everybody knows.
func (a *app) fillYard(ctx context.Context, calls *client.Client) error {
	if err := until(ctx, func() (bool, error) {
		for _, number := range sentOrders {
			page, err := calls.Orders(ctx, url.Values{"text": {number}})
			if err != nil || len(page.Items) == 0 || page.Items[0].Status != order.Complete {
				return false, err
			}
		}
		y, err := calls.Sync(ctx, "yard")
		return y.State.Settled, err
	}); err != nil {
		return fmt.Errorf("the East yard did not send what it should: %w", err)
	}
	fmt.Fprintf(a.Out, "The East yard picked and sent %d of them: they are deliveries in the bookkeeping and parcels in the shop.\n",
		len(sentOrders))
	return nil
}

// fillConflict changes the note of an order in the bookkeeping system, and here.
func (a *app) fillConflict(ctx context.Context, calls *client.Client) error {
	page, err := calls.Orders(ctx, url.Values{"text": {clashOrder}})
	if err != nil || len(page.Items) == 0 {
		return fmt.Errorf("the order %s is not there: %w", clashOrder, err)
	}
	is, err := calls.Order(ctx, page.Items[0].ID)
	if err != nil {
		return err
	}
	key := ""
	for _, l := range is.Links {
		if l.System == "ledgerline" {
			key = l.Key
		}
	}
	if err := tell(ctx, os.Getenv("LEDGERLINE_URL")+"/admin/orders/"+key,
		`{"note": "The customer collects it."}`); err != nil {
		return fmt.Errorf("nobody could change an order of the bookkeeping: %w", err)
	}
	o := is.Order
	o.Notes, o.StatedTotal = "Please leave it at the gate.", order.Number{}
	if got, err := calls.PostOrder(ctx, &o, outcome.Update); err != nil || got.Outcome != outcome.Changed {
		return fmt.Errorf("the order %s could not be changed here: %s %w", clashOrder, got.Outcome, err)
	}
	if _, err := a.syncDemo(ctx, calls); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "Then somebody changed the note of %s in the bookkeeping, and somebody else here: a person decides.\n", clashOrder)
	return nil
}

// fillHooks has the shop announce changes of orders, and changes one.
func (a *app) fillHooks(ctx context.Context, calls *client.Client) error {
	shop := os.Getenv("SLIPWAY_URL")
	_, err := calls.RegisterHooks(ctx, "slipway")
	if err == nil {
		err = tell(ctx, shop+"/admin/orders", `{"id": 9007199254740997, "reference": "SL-1005", "state": "changed",
		  "placed_at": "2026-03-02T10:28:03.000201Z", "currency": "EUR", "remarks": "Two more, please.",
		  "buyer": {"name": "Otis Varne", "mail": "otis.48@harbour.example"},
		  "deliver_to": {"name": "Otis Varne", "street": "2 Brygga", "town": "Sundvik", "zip": "3915", "country": "NO"},
		  "lines": [{"line": 1, "sku": "00101", "title": "Braided rope 6 mm, white", "count": 12, "each": "1.00"}]}`)
	}
	if err != nil {
		return fmt.Errorf("the shop could not be asked to tell us: %w", err)
	}
	if err := until(ctx, func() (bool, error) {
		pulls, err := calls.Pulls(ctx, url.Values{"system": {"slipway"}})
		return len(pulls.Items) > 0 && pulls.Items[0].Hook != 0 && pulls.Items[0].Ended(), err
	}); err != nil {
		return fmt.Errorf("the shop's webhook did not come: %w", err)
	}
	fmt.Fprintln(a.Out, "Then the shop told by a webhook that SL-1005 had changed.")
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
