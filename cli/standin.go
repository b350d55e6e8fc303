package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"koinos/demo"
	"koinos/standin"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
)

// standins plays the trading partners of the scenario against a running service.
func (a *app) standins() *cobra.Command {
	var dir, shop string
	orders := 60
	c := &cobra.Command{
		Use: "standin", Short: "Play the demo's trading partners and its web shop for a running service",
		Long: `Standin plays others until it is stopped. With --exchange two trading partners:
PELLOW orders, changes an order, and acknowledges what it is told; VARNHOLT takes
orders, answers, ships and invoices them. They exchange files with a service that
was started with the same folder (koinos serve --exchange), and that knows them:
koinos partner keep. With --slipway the web shop Slipway, whose API is described in
docs/standins/slipway.md; its token is $SLIPWAY_TOKEN, or slipway-demo.`,
		Example: "  koinos standin --exchange /srv/edi\n  koinos standin --slipway 127.0.0.1:8750", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if shop != "" {
				return a.playShop(c.Context(), shop, orders)
			}
			if dir == "" {
				return usage{fmt.Errorf("say whom to play: --exchange DIR, or --slipway ADDRESS")}
			}
			fmt.Fprintf(a.out, "PELLOW and VARNHOLT play over %s. Ctrl-C ends it.\n", dir)
			return playPartners(c.Context(), dir, slog.New(slog.NewTextHandler(a.err, nil)))
		},
	}
	c.Flags().StringVar(&dir, "exchange", "", "folder of the service's exchange")
	c.Flags().StringVar(&shop, "slipway", "", "address at which Slipway answers, such as 127.0.0.1:8750")
	c.Flags().IntVar(&orders, "orders", orders, "how many orders Slipway has")
	return c
}

// playShop plays Slipway until ctx ends.
func (a *app) playShop(ctx context.Context, address string, orders int) error {
	at, ended, err := serveShop(ctx, address, cmp.Or(os.Getenv("SLIPWAY_TOKEN"), shopToken), orders)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Slipway answers at %s/slipway/v1. Ctrl-C ends it.\n", at)
	return <-ended
}

// shopToken is what Slipway knows us by where nothing else is said.
const shopToken = "slipway-demo"

// serveShop lets Slipway answer at an address until ctx ends.
func serveShop(ctx context.Context, address, token string, orders int) (at string, ended <-chan error, err error) {
	slipway, err := demo.Slipway(token, orders, true, time.Now)
	if err != nil {
		return "", nil, err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return "", nil, err
	}
	server := &http.Server{Handler: slipway, ReadHeaderTimeout: 10 * time.Second}
	context.AfterFunc(ctx, func() { _ = server.Close() })
	end := make(chan error, 1)
	go func() {
		err := server.Serve(l)
		if errors.Is(err, http.ErrServerClosed) {
			err = nil
		}
		end <- err
	}()
	return "http://" + l.Addr().String(), end, nil
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
