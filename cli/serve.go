package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/service"
	"koinos/store"
)

// defaultData is where a service keeps its data where nothing else is said.
func defaultData() string {
	if dir := os.Getenv("KOINOS_DATA"); dir != "" {
		return dir
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "koinos-data"
	}
	return filepath.Join(home, ".local", "share", "koinos")
}

// running is a service that has been started.
type running struct {
	listener net.Listener
	service  *service.Service
	store    *store.Store
}

// start opens the data folder and the address; what fails is closed again.
func start(ctx context.Context, data string, cfg service.Config, log *slog.Logger) (*running, error) {
	s, err := store.Open(data)
	if err != nil {
		return nil, err
	}
	if err := s.Claim(); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := checkFolders(ctx, s, cfg.Folders); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	l, err := net.Listen("tcp", cfg.Listen)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			err = fmt.Errorf("another program listens on %s; choose another address with --listen", cfg.Listen)
		}
		return nil, errors.Join(err, s.Close())
	}
	crash, err := watchCrashes(data)
	if err != nil {
		return nil, errors.Join(err, l.Close(), s.Close())
	}
	if crash != "" {
		log.Error("the service crashed before", "crash", crash)
	}
	cfg.Version, cfg.Crashed, cfg.Data = Version(), crash != "", data
	svc, err := service.New(ctx, cfg, s, log)
	if err != nil {
		return nil, errors.Join(err, l.Close(), s.Close())
	}
	return &running{l, svc, s}, nil
}

// checkFolders looks whether watched folders name mappings, or sequences, that there are: their files would
// only fail, one after another.
func checkFolders(ctx context.Context, s *store.Store, folders []service.Folder) error {
	for _, f := range folders {
		_, err := s.Mapping(ctx, f.Mapping, 0)
		if errors.Is(err, store.ErrNotFound) {
			_, err = s.Sequence(ctx, f.Mapping, 0)
		}
		if errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("the watched folder %s goes through %s, and there is no mapping or sequence of that name: "+
				"start the service without the folder, keep the mapping (koinos mapping keep), and start it again", f.Dir, f.Mapping)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// serve answers until ctx ends.
func (r *running) serve(ctx context.Context) error {
	return errors.Join(r.service.Serve(ctx, r.listener), r.store.Close())
}

func (r *running) address() string { return "http://" + r.listener.Addr().String() }

func (a *app) serve() *cobra.Command {
	cfg := service.Config{Limits: source.DefaultLimits}
	var data, logFormat string
	var folders []string
	var maxBody, maxUnpacked int64
	c := &cobra.Command{
		Use: "serve", Short: "Run the service and its console", Args: cobra.NoArgs,
		Long: `Serve runs the service until it is told to stop. It listens on loopback unless
told otherwise, and then insists on access tokens; make the first one with
"koinos token create --data FOLDER", which needs no running service.

A watched folder (--folder DIR=MAPPING, or a sequence's name) takes in every file
that has stopped growing and moves it to done, or to failed where an order did
not go in, with the marked-up copy beside it.

The folder of --exchange has one for each trading partner, with in (what they
send) and out (what we send); koinos partner keep makes partners known.`,
		Example: `  koinos serve
  koinos serve --listen 127.0.0.1:9000 --data /srv/koinos
  koinos serve --listen 0.0.0.0:8740 --host koinos.quillmere.example
  koinos serve --exchange /srv/edi
  koinos serve --folder /srv/in/saltry=saltry-orders --folder /srv/in/desk=drop-ship`,
		RunE: func(c *cobra.Command, _ []string) error {
			log := newLog(a, logFormat)
			for _, f := range folders {
				dir, name, ok := strings.Cut(f, "=")
				if !ok || dir == "" || name == "" {
					return usage{fmt.Errorf("--folder is DIR=MAPPING, not %q", f)}
				}
				dir, err := filepath.Abs(dir)
				if err != nil {
					return err
				}
				cfg.Folders = append(cfg.Folders, service.Folder{Dir: dir, Mapping: name})
			}
			if cfg.Exchange != "" {
				var err error
				if cfg.Exchange, err = filepath.Abs(cfg.Exchange); err != nil {
					return err
				}
			}
			cfg.MaxBody, cfg.Limits.Unpacked = maxBody<<20, maxUnpacked<<20
			r, err := start(c.Context(), data, cfg, log)
			if err != nil {
				return err
			}
			log.Info("koinos listens", "address", r.address(), "data", data, "version", Version())
			err = r.serve(c.Context())
			log.Info("koinos has stopped")
			return err
		},
	}
	f := c.Flags()
	f.StringArrayVar(&folders, "folder", nil,
		"DIR=MAPPING: load the files that come into a folder; may be given several times")
	f.StringVar(&cfg.Exchange, "exchange", "",
		"folder with one for each trading partner: files come into PARTNER/in and go out by PARTNER/out")
	f.StringVar(&cfg.Listen, "listen", DefaultAddress, "host:port; anything but loopback insists on tokens")
	f.StringVar(&cfg.Outside, "outside", "",
		"address under which other applications reach the service, such as https://koinos.quillmere.example")
	f.StringVar(&data, "data", defaultData(), "data folder; $KOINOS_DATA")
	f.StringSliceVar(&cfg.Hosts, "host", nil, "further host names under which browsers reach the service")
	f.BoolVar(&cfg.RequireToken, "require-token", false, "insist on access tokens on loopback too")
	f.Int64Var(&maxBody, "max-body", service.DefaultMaxBody>>20, "largest document in MiB")
	f.Int64Var(&maxUnpacked, "max-unpacked", source.DefaultLimits.Unpacked>>20, "what a workbook may unpack to, in MiB")
	f.IntVar(&cfg.Limits.Rows, "max-rows", source.DefaultLimits.Rows, "rows of a document")
	f.IntVar(&cfg.Limits.Columns, "max-columns", source.DefaultLimits.Columns, "cells of a row")
	f.StringVar(&logFormat, "log", "text", "text or json")
	return c
}

func newLog(a *app, format string) *slog.Logger {
	if format == "json" {
		return slog.New(slog.NewJSONHandler(a.err, nil))
	}
	return slog.New(slog.NewTextHandler(a.err, nil))
}

func (a *app) tokens() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Make, list and end access tokens"}
	var name, scope, data string
	create := &cobra.Command{
		Use: "create --name NAME --scope read|load|admin", Short: "Make an access token; it is shown this once",
		Args: cobra.NoArgs,
		Long: "With --data the token is made in a data folder directly, without a service: that is how the first " +
			"one is made.",
		Example: "  koinos token create --name warehouse --scope read\n  koinos token create --name first --scope " +
			"admin --data /srv/koinos",
		RunE: func(c *cobra.Command, _ []string) error {
			if name == "" {
				return usage{errors.New("say what or whom the token is for with --name")}
			}
			if scope != "read" && scope != "load" && scope != "admin" {
				return usage{fmt.Errorf("--scope is read, load or admin, not %q", scope)}
			}
			made, err := a.newToken(c.Context(), name, scope, data)
			if err != nil {
				return err
			}
			if done, err := a.json(made); done {
				return err
			}
			fmt.Fprintf(a.out, "%s\n", made.Secret)
			fmt.Fprintf(a.err, "Token %d for %s, scope %s. It is not shown again: put it into KOINOS_TOKEN.\n", made.ID,
				made.Name, made.Scope)
			return nil
		},
	}
	create.Flags().StringVar(&name, "name", "", "what or whom it is for")
	create.Flags().StringVar(&scope, "scope", "", "read, load or admin")
	create.Flags().StringVar(&data, "data", "", "data folder to make it in, without a service")
	ls := &cobra.Command{
		Use: "list", Short: "List access tokens", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			tokens, err := a.client().Tokens(c.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(tokens); done {
				return err
			}
			var rows [][]string
			for _, t := range tokens {
				rows = append(rows, []string{strconv.FormatInt(t.ID, 10), t.Name, t.Scope, local(t.CreatedAt),
					when(t.UsedAt), when(t.RevokedAt)})
			}
			report.Table(a.out, []string{">token", "name", "scope", "made", "used last", "revoked"}, rows)
			return nil
		},
	}
	revoke := &cobra.Command{
		Use: "revoke TOKEN", Short: "End an access token by its number", Example: "  koinos token revoke 3",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage{fmt.Errorf("%q is not the number of a token; koinos token list shows them", args[0])}
			}
			if err := a.client().RevokeToken(c.Context(), id); err != nil {
				return err
			}
			if done, err := a.json(map[string]int64{"revoked": id}); done {
				return err
			}
			fmt.Fprintf(a.err, "Token %d is revoked.\n", id)
			return nil
		},
	}
	c.AddCommand(create, ls, revoke)
	return c
}

func when(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return local(*t)
}

func (a *app) newToken(ctx context.Context, name, scope, data string) (api.CreatedToken, error) {
	if data == "" {
		return a.client().CreateToken(ctx, api.NewToken{Name: name, Scope: scope})
	}
	s, err := store.Open(data)
	if err != nil {
		return api.CreatedToken{}, err
	}
	t, secret, err := s.NewToken(ctx, name, scope, time.Now())
	return api.CreatedToken{Token: t, Secret: secret}, errors.Join(err, s.Close())
}
