package running

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"koinos/cli/shell"
	"koinos/demo"
	"koinos/standin"
)

// standins plays the trading partners of the scenario against a running service, and its other systems.
func (a *app) standins() *cobra.Command {
	var dir, shop, books, yard string
	orders := 60
	c := &cobra.Command{
		Use: "standin", Short: "Play the demo's trading partners and other systems for a running service",
		Long: `Standin plays others until it is stopped. With --exchange two trading partners:
PELLOW orders, changes an order, and acknowledges what it is told; VARNHOLT takes
orders, answers, ships and invoices them. They exchange files with a service that
was started with the same folder (koinos serve --exchange), and that knows them:
koinos partner keep.

With --slipway the web shop Slipway (docs/standins/slipway.md); its token is
$SLIPWAY_TOKEN, or slipway-demo. With --ledgerline the bookkeeping program
Ledgerline (docs/standins/ledgerline.md); its client is koinos, the secret
$LEDGERLINE_SECRET, or ledgerline-demo. With --yard the East yard, a warehouse
that exchanges files in a folder (docs/standins/east-yard.md).`,
		Example: "  koinos standin --exchange /srv/edi\n" +
			"  koinos standin --slipway 127.0.0.1:8750 --ledgerline 127.0.0.1:8760",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if dir == "" && shop == "" && books == "" && yard == "" {
				return shell.Usage(fmt.Errorf("say whom to play: --exchange DIR, --slipway ADDRESS, --ledgerline ADDRESS or --yard DIR"))
			}
			return a.play(c.Context(), dir, shop, books, yard, orders)
		},
	}
	c.Flags().StringVar(&dir, "exchange", "", "folder of the service's exchange")
	c.Flags().StringVar(&shop, "slipway", "", "address at which Slipway answers, such as 127.0.0.1:8750")
	c.Flags().StringVar(&books, "ledgerline", "", "address at which Ledgerline answers, such as 127.0.0.1:8760")
	c.Flags().StringVar(&yard, "yard", "", "folder that the East yard shares with the service")
	c.Flags().IntVar(&orders, "orders", orders, "how many orders Slipway has")
	return c
}

// play plays those that have a folder or an address, until ctx ends or one of them fails.
func (a *app) play(ctx context.Context, dir, shop, books, yard string, orders int) error {
	ended := make(chan error, 4)
	if shop != "" {
		at, err := serveShop(ctx, shop, orders, ended)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "Slipway answers at %s/slipway/v1.\n", at)
	}
	if books != "" {
		at, err := serveBooks(ctx, books, ended)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "Ledgerline answers at %s/api/v2.\n", at)
	}
	if yard != "" {
		if err := serveYard(ctx, yard, ended); err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "The East yard works over %s.\n", yard)
	}
	if dir != "" {
		fmt.Fprintf(a.Out, "PELLOW and VARNHOLT play over %s.\n", dir)
		go func() { ended <- playPartners(ctx, dir, slog.New(slog.NewTextHandler(a.Err, nil))) }()
	}
	fmt.Fprintln(a.Out, "Ctrl-C ends it.")
	return <-ended
}

// The ids and secrets by which the stand-ins know us by default.
const (
	shopToken   = "slipway-demo"
	booksSecret = "ledgerline-demo"
)

// serveShop lets Slipway answer at an address until ctx ends.
func serveShop(ctx context.Context, address string, orders int, ended chan<- error) (at string, err error) {
	slipway, err := demo.Slipway(cmp.Or(os.Getenv("SLIPWAY_TOKEN"), shopToken), orders, true, time.Now)
	if err != nil {
		return "", err
	}
	return serve(ctx, address, slipway, ended)
}

// serveBooks lets Ledgerline answer at an address until ctx ends.
func serveBooks(ctx context.Context, address string, ended chan<- error) (at string, err error) {
	books, err := demo.Ledgerline(cmp.Or(os.Getenv("LEDGERLINE_SECRET"), booksSecret), time.Now)
	if err != nil {
		return "", err
	}
	return serve(ctx, address, books, ended)
}

// yardLooks is how often the East yard looks into its folder.
const yardLooks = 200 * time.Millisecond

// serveYard lets the East yard work over a folder until ctx ends.
func serveYard(ctx context.Context, folder string, ended chan<- error) error {
	whole, err := filepath.Abs(folder)
	if err != nil {
		return err
	}
	yard, err := standin.NewYard(whole, time.Now)
	if err != nil {
		return err
	}
	go func() { ended <- yard.Run(ctx, yardLooks) }()
	return nil
}

// serve answers at an address until ctx ends; how it ended is told.
func serve(ctx context.Context, address string, h http.Handler, ended chan<- error) (at string, err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return "", err
	}
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	context.AfterFunc(ctx, func() { _ = server.Close() })
	go func() {
		err := server.Serve(l)
		if errors.Is(err, http.ErrServerClosed) {
			err = nil
		}
		ended <- err
	}()
	return "http://" + l.Addr().String(), nil
}

// playPartners plays both partners until ctx ends.
func playPartners(ctx context.Context, dir string, log *slog.Logger) error {
	read := func(name string) (string, error) {
		b, err := demo.Files.ReadFile("partners/" + name + ".yaml")
		return string(b), err
	}
	orders, err := demo.Orders("pellow")
	if err != nil {
		return err
	}
	text, err := read("pellow")
	if err != nil {
		return err
	}
	customer, err := standin.Customer(filepath.Join(dir, "PELLOW"), text, orders, time.Now, log)
	if err != nil {
		return err
	}
	if text, err = read("varnholt"); err != nil {
		return err
	}
	supplier, err := standin.Supplier(filepath.Join(dir, "VARNHOLT"), text, time.Now, log)
	if err != nil {
		return err
	}
	ended := make(chan error, 2)
	for _, p := range []*standin.Partner{customer, supplier} {
		go func() { ended <- p.Run(ctx, 200*time.Millisecond) }()
	}
	err = <-ended
	if other := <-ended; err == nil {
		err = other
	}
	return err
}
