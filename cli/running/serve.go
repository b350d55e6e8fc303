package running

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/folder"
	"koinos/service"
	"koinos/store"
)

// defaultData is where a service stores its data by default.
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
	scheme   string
}

// start opens the data folder and the address. If something fails, everything is closed again.
func start(ctx context.Context, data string, cfg service.Config, log *slog.Logger) (*running, error) {
	// Loads make much garbage beside little that stays: collecting it less often saves a tenth of the processor, for some
	// 45 MiB. From the limit on it is collected as often as needed.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(200)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(400 << 20)
	}
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
	cfg.Version, cfg.Crashed, cfg.Data = shell.Version(), crash != "", data
	svc, err := service.New(ctx, cfg, s, log)
	if err != nil {
		return nil, errors.Join(err, l.Close(), s.Close())
	}
	scheme := "http://"
	if cfg.TLS != nil {
		scheme = "https://"
	}
	return &running{l, svc, s, scheme}, nil
}

// checkFolders checks whether watched folders name existing mappings or sequences; otherwise their files would fail one
// after another.
func checkFolders(ctx context.Context, s *store.Store, folders []service.Folder) error {
	for _, f := range folders {
		_, err := s.Mapping(ctx, f.Mapping, 0)
		if errors.Is(err, store.ErrNotFound) {
			_, err = s.Sequence(ctx, f.Mapping, 0)
		}
		if errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("the watched folder %s goes through %s, and there is no mapping or sequence of that name: "+
				"start the service without the folder, keep the mapping (koinos mapping keep), and start it again",
				f.Dir, f.Mapping)
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

func (r *running) address() string { return r.scheme + r.listener.Addr().String() }

func (a *app) serve() *cobra.Command {
	cfg := service.Config{Limits: source.DefaultLimits}
	var data, logFormat, cert, key, config string
	var show bool
	filesMode, keep := "0640", store.Usual().Texts()
	var folders []string
	var maxBody, maxUnpacked int64
	c := &cobra.Command{
		Use: "serve", Short: "Run the service and its console", Args: cobra.NoArgs,
		Long: `Serve runs the service until it is told to stop. It listens on loopback unless
told otherwise. Programs on the same machine then need no access token.
Everybody needs one if the service listens beyond loopback, if --host or
--outside say that something in front of it passes requests on, and if a request
itself says so by a header of proxies. Make the first token with
"koinos token create --data FOLDER", which needs no running service.

A watched folder (--folder DIR=MAPPING, or a sequence's name) takes in every file
that has stopped growing and moves it to done, or to failed where an order did
not go in, with the marked-up copy beside it.

Each option can be a line of a file (--config), or a variable: KOINOS_MAX_BODY is
--max-body. What is said with the command counts first, then the variable, then the
file.

The folder of --exchange has one for each trading partner, with in (what they
send) and out (what we send); koinos partner keep makes partners known.`,
		Example: `  koinos serve
  koinos serve --listen 127.0.0.1:9000 --data /srv/koinos
  koinos serve --listen 0.0.0.0:8740 --host koinos.quillmere.example
  koinos serve --listen 0.0.0.0:8740 --tls-cert koinos.crt --tls-key koinos.key
  koinos serve --exchange /srv/edi
  koinos serve --folder /srv/in/saltry=saltry-orders --folder /srv/in/desk=drop-ship`,
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := settings(c, config, data)
			if err != nil {
				return err
			}
			if show {
				a.showSettings(all)
				return nil
			}
			if logFormat != "text" && logFormat != "json" {
				return shell.Usage(fmt.Errorf("--log is text or json, not %q", logFormat))
			}
			mode, err := strconv.ParseUint(filesMode, 8, 32)
			if err != nil || mode > 0o666 || mode&0o600 != 0o600 || mode&0o111 != 0 {
				return shell.Usage(fmt.Errorf("--files-mode is who may read and write, as in 0640 or 0660, not %q",
					filesMode))
			}
			cfg.FilesMode = folder.Mode(mode)
			if cfg.Keep, err = store.Retained(keep); err != nil {
				return shell.Usage(fmt.Errorf("--keep: %w", err))
			}
			log := newLog(a, logFormat)
			for _, f := range folders {
				dir, name, ok := strings.Cut(f, "=")
				if !ok || dir == "" || name == "" {
					return shell.Usage(fmt.Errorf("--folder is DIR=MAPPING, not %q", f))
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
			if (cert == "") != (key == "") {
				return shell.Usage(errors.New("--tls-cert and --tls-key go together"))
			}
			if cert != "" {
				var err error
				if cfg.TLS, err = service.TLS(cert, key); err != nil {
					return err
				}
			}
			cfg.MaxBody, cfg.Limits.Unpacked = maxBody<<20, maxUnpacked<<20
			r, err := start(c.Context(), data, cfg, log)
			if err != nil {
				return err
			}
			log.Info("koinos listens", "address", r.address(), "data", data, "version", shell.Version())
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
	f.StringVar(&filesMode, "files-mode", filesMode,
		"mode of the files that the service writes into folders of --exchange and --folder, which get it too")
	f.StringSliceVar(&keep, "keep", keep, "NAME=DAYS: how long what is kept for a time only is kept; 0 is for good")
	f.StringVar(&cfg.Listen, "listen", shell.DefaultAddress, "host:port; anything but loopback insists on tokens")
	f.StringVar(&cfg.Outside, "outside", "",
		"address under which other applications reach the service, such as https://koinos.quillmere.example")
	f.StringVar(&data, "data", defaultData(), "data folder; $KOINOS_DATA")
	f.StringSliceVar(&cfg.Hosts, "host", nil, "further host names under which browsers reach the service")
	f.BoolVar(&cfg.RequireToken, "require-token", false, "insist on access tokens on loopback too")
	f.Int64Var(&maxBody, "max-body", service.DefaultMaxBody>>20, "largest document in MiB")
	f.Int64Var(&maxUnpacked, "max-unpacked", source.DefaultLimits.Unpacked>>20, "what a workbook may unpack to, in MiB")
	f.IntVar(&cfg.Limits.Rows, "max-rows", source.DefaultLimits.Rows, "rows of a document")
	f.IntVar(&cfg.Limits.Columns, "max-columns", source.DefaultLimits.Columns, "cells of a row")
	f.StringVar(&cert, "tls-cert", "",
		"file of a certificate (PEM) to serve HTTPS with; it is read again when it changes")
	f.StringVar(&key, "tls-key", "", "file of the certificate's key (PEM)")
	f.StringVar(&logFormat, "log", "text", "text or json")
	f.StringVar(&config, "config", os.Getenv("KOINOS_CONFIG"),
		"file with these settings, a line for each; by default koinos.yaml in the data folder")
	f.BoolVar(&show, "show-config", false, "print every setting, with where its value comes from, and end")
	return c
}

func newLog(a *app, format string) *slog.Logger {
	if format == "json" {
		return slog.New(slog.NewJSONHandler(a.Err, nil))
	}
	return slog.New(slog.NewTextHandler(a.Err, nil))
}

func (a *app) tokens() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Create, list and revoke access tokens"}
	var name, scope, data, expires string
	var narrowed api.Narrowed
	create := &cobra.Command{
		Use: "create --name NAME --scope read|load|admin", Short: "Create an access token; it is shown only once",
		Args: cobra.NoArgs,
		Long: "With --data the token is made in a data folder directly, without a service: that is how the first " +
			"one is made.\nWith --partner and --mapping a token is for less than its scope allows: for orders of those\npartners, " +
			"and loads through those mappings.",
		Example: "  koinos token create --name warehouse --scope read\n  koinos token create --name first --scope " +
			"admin --data /srv/koinos\n" +
			"  koinos token create --name saltry-site --scope load --partner SALTRY --mapping saltry-orders",
		RunE: func(c *cobra.Command, _ []string) error {
			if name == "" {
				return shell.Usage(errors.New("say what or whom the token is for with --name"))
			}
			if scope == "admin" && narrowed.Is() {
				return shell.Usage(errors.New("a token of scope admin cannot be narrowed with --partner or --mapping"))
			}
			if scope != "read" && scope != "load" && scope != "admin" {
				return shell.Usage(fmt.Errorf("--scope is read, load or admin, not %q", scope))
			}
			ends, err := expiry(expires, time.Now())
			if err != nil {
				return shell.Usage(err)
			}
			made, err := a.newToken(c.Context(), api.NewToken{Name: name, Scope: scope, ExpiresAt: ends, Narrowed: narrowed},
				data)
			if err != nil {
				return err
			}
			if done, err := a.JSON(made); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s\n", made.Secret)
			fmt.Fprintf(a.Err, "Token %d for %s, scope %s. It is not shown again: put it into KOINOS_TOKEN.\n", made.ID,
				made.Name, made.Scope)
			return nil
		},
	}
	create.Flags().StringVar(&name, "name", "", "what or whom it is for")
	create.Flags().StringVar(&scope, "scope", "", "read, load or admin")
	create.Flags().StringVar(&expires, "expires", "", "when it expires: 90d, 12h, or a day such as 2027-01-31")
	create.Flags().StringSliceVar(&narrowed.Partners, "partner", nil,
		"only for orders of this partner, by our code; repeatable")
	create.Flags().StringSliceVar(&narrowed.Mappings, "mapping", nil, "only for loads through this mapping; repeatable")
	create.Flags().StringVar(&data, "data", "", "data folder in which to create it, without a service")
	ls := &cobra.Command{
		Use: "list", Short: "List access tokens", Args: cobra.NoArgs, Example: "  koinos token list",
		RunE: func(c *cobra.Command, _ []string) error {
			tokens, err := a.Client().Tokens(c.Context())
			if err != nil {
				return err
			}
			if done, err := a.JSON(tokens); done {
				return err
			}
			var rows [][]string
			for _, t := range tokens {
				rows = append(rows, []string{strconv.FormatInt(t.ID, 10), t.Name, t.Scope,
					strings.Join(append(slices.Clone(t.Partners), t.Mappings...), ", "), shell.Local(t.CreatedAt),
					shell.When(t.UsedAt), shell.When(t.ExpiresAt), shell.When(t.RevokedAt)})
			}
			report.Table(a.Out, []string{">token", "name", "scope", "only for", "made", "used last", "ends", "revoked"}, rows)
			return nil
		},
	}
	revoke := &cobra.Command{
		Use: "revoke TOKEN", Short: "Revoke an access token by its number", Example: "  koinos token revoke 3",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return shell.Usage(fmt.Errorf("%q is not the number of a token; koinos token list shows them", args[0]))
			}
			if err := a.Client().RevokeToken(c.Context(), id); err != nil {
				return err
			}
			if done, err := a.JSON(map[string]int64{"revoked": id}); done {
				return err
			}
			fmt.Fprintf(a.Err, "Token %d is revoked.\n", id)
			return nil
		},
	}
	c.AddCommand(create, ls, revoke)
	return c
}

func (a *app) newToken(ctx context.Context, n api.NewToken, data string) (api.CreatedToken, error) {
	if data == "" {
		return a.Client().CreateToken(ctx, n)
	}
	s, err := store.Open(data)
	if err != nil {
		return api.CreatedToken{}, err
	}
	t, secret, err := s.NewToken(ctx, n, time.Now())
	if err == nil {
		err = s.AddAudit(ctx, api.Audit{At: time.Now(), By: "a command", From: "the data folder", Did: "create-token",
			Path:   "/tokens",
			Status: http.StatusCreated})
	}
	return api.CreatedToken{Token: t, Secret: secret}, errors.Join(err, s.Close())
}

// expiry reads when a token ends: after a time from now, or at the end of a day.
func expiry(text string, now time.Time) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	ends, err := time.ParseInLocation(time.DateOnly, text, time.Local)
	if err == nil {
		ends = ends.AddDate(0, 0, 1)
	} else if days, isDays := strings.CutSuffix(text, "d"); isDays {
		var n int
		n, err = strconv.Atoi(days)
		ends = now.AddDate(0, 0, n)
	} else {
		var d time.Duration
		d, err = time.ParseDuration(text)
		ends = now.Add(d)
	}
	if err != nil || !ends.After(now) {
		return nil, fmt.Errorf("--expires is a time from now on (90d, 12h) or a day to come (2027-01-31), not %q", text)
	}
	ends = ends.UTC()
	return &ends, nil
}

func (a *app) audit() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "audit", Short: "List what administrators changed, newest first", Args: cobra.NoArgs,
		Example: "  koinos audit\n  koinos audit --limit 500 --output json",
		RunE: func(c *cobra.Command, _ []string) error {
			page, err := shell.Pages(limit, url.Values{}, func(q url.Values) (api.Page[api.Audit], error) {
				return a.Client().Audit(c.Context(), q)
			})
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			var rows [][]string
			for _, x := range page.Items {
				by := x.By
				if x.Token > 0 {
					by += fmt.Sprintf(" (token %d)", x.Token)
				}
				rows = append(rows, []string{shell.Local(x.At), by, x.From, x.Did, strings.TrimPrefix(x.Path, "/api/v1")})
			}
			report.Table(a.Out, []string{"when", "by", "from", "did", "to"}, rows)
			a.MoreRows(page.Next)
			return nil
		},
	}
	c.Flags().IntVar(&limit, "limit", 100, "how many")
	return c
}
