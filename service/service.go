package service

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"path/filepath"
	"reflect"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-contrib/gzip"
	"github.com/gin-gonic/gin"
	"golang.org/x/net/netutil"

	"koinos/api"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/exchange"
	"koinos/folder"
	"koinos/jobs"
	"koinos/load"
	"koinos/notify"
	"koinos/store"
	"koinos/syncs"
)

// Config is how a service runs.
type Config struct {
	Listen       string   // host:port; loopback needs no tokens unless RequireToken
	Hosts        []string // further host names that browsers may use to reach it
	RequireToken bool     // also of callers on this machine
	MaxBody      int64    // bytes of a request
	Limits       source.Limits
	Folders      []Folder        // that are watched
	Keep         store.Retention // how long what is kept for a time only is kept; nil is the usual
	// of what is written for others into those, and into the partners' folders; 0 is the usual
	FilesMode folder.Mode
	Exchange  string // folder with one for each trading partner; "" is none
	Crashed   bool   // the service before this one ended by a mistake of ours
	Version   string
	Outside   string // address under which other applications reach it; "" is that of the listener, on loopback
	Data      string // the data folder, where secrets are that are made here
	TLS       *tls.Config
}

// DefaultMaxBody is the largest document that is accepted by default.
const DefaultMaxBody = 1 << 30

// Service is a running Koinos.
type Service struct {
	cfg      Config
	store    *store.Store
	engine   *load.Engine
	exchange *exchange.Exchange
	syncs    *syncs.Syncs
	notifier *notify.Notifier
	queue    *jobs.Queue
	log      *slog.Logger
	now      func() time.Time
	metrics  *metrics
	hosts    map[string]bool
	wrong    strangers
	check    checking
	turns    *turns
	http     *http.Server
	stop     context.CancelFunc // ends streams when the service stops
	leave    context.CancelFunc // ends every request that is still being answered
	stopped  context.Context
}

// New makes a service for a store.
func New(ctx context.Context, cfg Config, s *store.Store, log *slog.Logger) (*Service, error) {
	if cfg.Keep == nil {
		cfg.Keep = store.Usual()
	}
	cfg.FilesMode = cmp.Or(cfg.FilesMode, folder.Usual)
	host, _, err := net.SplitHostPort(cfg.Listen)
	if err != nil {
		return nil, err
	}
	why := cfg.tokenNeeded(host)
	cfg.RequireToken = why != ""
	if cfg.MaxBody == 0 {
		cfg.MaxBody = DefaultMaxBody
	}
	engine := load.New(s, cfg.Limits, time.Now, log)
	if why == "" {
		log.Info("callers on this machine need no token; those who come through a proxy do")
	} else {
		log.Info("every caller needs a token", "because", why)
	}
	svc := &Service{cfg: cfg, store: s, engine: engine, log: log, now: time.Now, hosts: map[string]bool{}}
	svc.exchange = exchange.New(s, engine, cfg.Exchange, cfg.FilesMode, svc.now, log)
	kinds := engine.Kinds()
	maps.Copy(kinds, svc.exchange.Kinds())
	svc.syncs = syncs.New(s, engine, cfg.FilesMode, svc.now, log)
	maps.Copy(kinds, svc.syncs.Kinds())
	svc.notifier = notify.New(s, filepath.Join(cfg.Data, "secrets"), svc.now, log)
	svc.queue = jobs.New(s, kinds, svc.now, log)
	engine.Use(svc.queue)
	for _, h := range append(cfg.Hosts, host) {
		svc.hosts[strings.ToLower(h)] = true
	}
	svc.check = checking{asked: make(chan struct{}, 1), state: api.DataCheck{Troubles: []api.Trouble{}}}
	svc.metrics = newMetrics(engine, systemFigures{svc.syncs, s}, workFigures{s, &svc.cfg, svc.now})
	svc.turns = newTurns()
	svc.stopped, svc.stop = context.WithCancel(context.Background())
	requests, leave := context.WithCancel(context.Background())
	svc.leave = leave
	svc.http = &http.Server{
		BaseContext: func(net.Listener) context.Context { return requests },
		Handler:     svc.router(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: mostHeader,
		ErrorLog:       slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}
	return svc, svc.queue.Resume(ctx, cfg.Crashed)
}

// forgetEvery is how often data is removed that is kept for a limited time.
const forgetEvery = time.Hour

func (s *Service) forgetting(ctx context.Context) {
	tick := time.NewTicker(forgetEvery)
	defer tick.Stop()
	for {
		if err := s.store.Forget(ctx, s.cfg.Keep, s.now()); err != nil && ctx.Err() == nil {
			s.log.Error("what is kept for a time only stays", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func loopback(host string) bool {
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Serve answers requests on l until ctx ends, then stops gracefully: streams
// and loads end, requests in progress have a few seconds.
func (s *Service) Serve(ctx context.Context, l net.Listener) error {
	outside := s.cfg.Outside
	if host, _, err := net.SplitHostPort(l.Addr().String()); err == nil && outside == "" && loopback(host) {
		outside = map[bool]string{false: "http://", true: "https://"}[s.cfg.TLS != nil] + l.Addr().String()
	}
	s.syncs.Outside(strings.TrimRight(outside, "/"))
	watch, unwatch := context.WithCancel(context.WithoutCancel(ctx))
	watched := s.folders(watch)
	var work sync.WaitGroup
	work.Go(func() { s.exchange.Run(watch) })
	work.Go(func() { s.notifier.Run(watch) })
	work.Go(func() { s.syncs.Run(watch) })
	work.Go(func() { s.forgetting(watch) })
	work.Go(func() { s.dataChecks(watch) })
	queue, endQueue := context.WithCancel(context.WithoutCancel(ctx))
	defer endQueue()
	work.Go(func() { s.queue.Run(queue) })
	failed := make(chan error, 1)
	l = netutil.LimitListener(l, mostConnections)
	go func() {
		if s.cfg.TLS != nil {
			s.http.TLSConfig = s.cfg.TLS
			failed <- s.http.ServeTLS(l, "", "")
			return
		}
		failed <- s.http.Serve(l)
	}()
	var err error
	select {
	case err = <-failed:
	case <-ctx.Done():
	}
	s.stop()
	unwatch()
	err = errors.Join(err, s.endRequests())
	endQueue()
	watched()
	work.Wait()
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// How long requests have to end when the service stops, and how long they then have to stop in the middle. What they
// have done stays done, and can be requested again.
const (
	toEnd   = 2500 * time.Millisecond
	toLeave = 1500 * time.Millisecond
)

// endRequests finishes running requests, and accepts no new ones.
func (s *Service) endRequests() error {
	for _, most := range []time.Duration{toEnd, toLeave} {
		ctx, cancel := context.WithTimeout(context.Background(), most)
		err := s.http.Shutdown(ctx)
		cancel()
		s.leave()
		if !errors.Is(err, context.DeadlineExceeded) {
			return err
		}
	}
	return s.http.Close()
}

func (s *Service) router() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.ContextWithFallback = true
	r.Use(s.record, s.recover, s.guard, gzip.Gzip(gzip.BestSpeed,
		gzip.WithExcludedPathsRegexs([]string{`/progress$`, `/report$`, `/content$`, `/export$`, `^/metrics$`})))
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok "+s.cfg.Version+"\n") })
	r.GET("/readyz", s.ready)
	r.GET("/metrics", s.admit, s.metrics.handler())
	r.POST("/hooks/:name", s.hook)
	s.console(r)
	h := humagin.New(r, apiConfig(s.cfg.Version))
	h.UseMiddleware(s.authorize(h), s.limit(h), s.once(h))
	s.register(h)
	r.NoRoute(s.noRoute)
	r.HandleMethodNotAllowed = true
	r.NoMethod(func(c *gin.Context) {
		abort(c, problem("method_not_allowed", shortened(c.Request.Method)+" is not for "+shortened(c.Request.URL.Path)+
			"."))
	})
	return r
}

func (s *Service) ready(c *gin.Context) {
	if err := s.store.Ready(c); err != nil {
		s.log.WarnContext(c, "not ready", "error", err)
		why := cmp.Or(store.Blocked(err), "the database does not answer or cannot be written")
		c.String(http.StatusServiceUnavailable, why+"\n")
		return
	}
	c.String(http.StatusOK, "ready\n")
}

// decimal is how a number of an order is transmitted: as text, so that nobody rounds it. Its value is checked with the
// rest of the request, at its place.
type decimal string

// Schema is the decimal's place in the API's description.
func (decimal) Schema(huma.Registry) *huma.Schema {
	s := &huma.Schema{Type: huma.TypeString, Pattern: `^([-+]?([0-9]+\.?[0-9]*|\.[0-9]+))?$`,
		PatternDescription: "a decimal number such as 12.50", Examples: []any{"12.50"}}
	s.PrecomputeMessages()
	return s
}

func apiConfig(version string) huma.Config {
	cfg := huma.DefaultConfig("Koinos", version)
	cfg.Info.Description = "Takes order documents, maps them onto sales and purchase orders, loads them, and answers every row."
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath = "/api/v1/openapi", "", ""
	cfg.CreateHooks = nil // no $schema links in answers
	cfg.Components.Schemas.RegisterTypeAlias(reflect.TypeFor[order.Number](), reflect.TypeFor[decimal]())
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer",
			Description: "An access token of the scope named; on loopback none is needed unless the service requires tokens."},
	}
	cfg.Tags = []*huma.Tag{
		{Name: "Documents", Description: "What was received, byte for byte"},
		{Name: "Mappings", Description: "How documents become orders"},
		{Name: "Lists", Description: "Reference lists and crosswalks that orders must agree with"},
		{Name: "Loads", Description: "Runs of documents through mappings, and what became of every row"},
		{Name: "Sequences", Description: "Several loads over one document, of which later ones use what earlier ones got"},
		{Name: "Exchange", Description: "Trading partners, and the X12 interchanges with them"},
		{Name: "Systems", Description: "Other applications, and what was read out of them"},
		{Name: "Syncs", Description: "Standing instructions that keep orders equal between systems"},
		{Name: "Orders", Description: "The orders themselves, and what happened to them"},
		{Name: "Held", Description: "What waits for a person, with the reason"},
		{Name: "Access", Description: "Who may do what"},
		{Name: "Operation", Description: "Whether everything that is kept is whole"},
	}
	return cfg
}
