package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"koinos/api"
	"koinos/store"
)

type contextKey string

const (
	requestKey contextKey = "request"
	callerKey  contextKey = "caller"
)

func requestID(ctx context.Context) string {
	id, _ := ctx.Value(requestKey).(string)
	return id
}

// record gives every request an id, and a line in the log when it has been
// answered. Queries and headers are left out: secrets travel there.
func (s *Service) record(c *gin.Context) {
	start := s.now()
	id := rand.Text()[:16]
	from := addressOf(c.Request.RemoteAddr)
	v := &visit{id: id, from: from,
		local: loopback(from) && loopback(hostName(c.Request.Host)) && !forwarded(c.Request.Header)}
	ctx := context.WithValue(c.Request.Context(), requestKey, id)
	c.Request = c.Request.WithContext(context.WithValue(ctx, visitKey, v))
	c.Header("X-Request-Id", id)
	c.Next()
	route := c.FullPath()
	if route == "" {
		route = "other"
	}
	status, took := c.Writer.Status(), s.now().Sub(start)
	s.metrics.request(method(c.Request.Method), route, status, took)
	s.audit(c.Request.Context(), v, shortened(c.Request.URL.Path), status)
	s.log.Info("request", "request", id, "from", from, "by", v.caller.name, "token", v.caller.token, "method",
		shortened(c.Request.Method), "path", shortened(c.Request.URL.Path), "status", status, "bytes", c.Writer.Size(),
		"ms", took.Milliseconds())
}

// recover answers a request that panicked and keeps the service running.
func (s *Service) recover(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			if r == http.ErrAbortHandler {
				panic(r)
			}
			s.log.Error("request crashed", "request", requestID(c), "panic", fmt.Sprint(r), "stack",
				string(debug.Stack()))
			if !c.Writer.Written() {
				abort(c, problem("internal", "The service's log has the details under the request id."))
			}
		}
	}()
	c.Next()
}

// guard keeps web pages of other sites from using the service through somebody's browser: the Host must be a name of
// ours (which also prevents DNS rebinding), and a request with an Origin must come from our console.
func (s *Service) guard(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("X-Frame-Options", "DENY")
	host := hostName(c.Request.Host)
	if !loopback(host) && !s.hosts[host] {
		abort(c, problem("host_refused",
			fmt.Sprintf("%q is not a name of this service; start it with --host %s to allow it.", host, host)))
		return
	}
	if origin := c.GetHeader("Origin"); origin != "" {
		u, err := url.Parse(origin)
		if err != nil || u.Host != c.Request.Host {
			abort(c, problem("origin_refused", fmt.Sprintf("Pages of %s may not call this service.", origin)))
			return
		}
	}
	if site := c.GetHeader("Sec-Fetch-Site"); site == "cross-site" && c.Request.Method != http.MethodGet {
		abort(c, problem("origin_refused", "Pages of other sites may not call this service."))
		return
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, s.cfg.MaxBody)
	c.Next()
}

func hostName(hostport string) string {
	host, _, err := net.SplitHostPort(hostport)
	if err != nil {
		host = hostport
	}
	return strings.ToLower(strings.Trim(host, "[]"))
}

func bodyLimit(e *http.MaxBytesError) string {
	return fmt.Sprintf("A request may have %d MiB; split the document, or start the service with a larger --max-body.",
		e.Limit>>20)
}

// Scopes, each with what it includes.
var scopes = map[string][]string{
	"read":  {"read"},
	"load":  {"read", "load"},
	"admin": {"read", "load", "admin"},
}

// caller is who makes a request.
type caller struct {
	name   string
	token  int64 // its number; 0 is none
	scopes []string
	only   api.Narrowed
}

func callerOf(ctx context.Context) caller {
	c, _ := ctx.Value(callerKey).(caller)
	return c
}

// authorize admits a caller whose token has the operation's scope. Without a
// token only callers on this machine are answered, by a service that asks for none.
func (s *Service) authorize(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		who := caller{name: "local", scopes: scopes["admin"]}
		header := ctx.Header("Authorization")
		v := visitOf(ctx.Context())
		if header != "" || s.cfg.RequireToken || !v.local {
			var p *api.Problem
			if who, p = s.login(ctx.Context(), header); p != nil {
				p.Request = requestID(ctx.Context())
				if p.Status == http.StatusUnauthorized {
					ctx.SetHeader("WWW-Authenticate", `Bearer realm="Koinos"`)
				}
				write(h, ctx, p)
				return
			}
		}
		for _, need := range ctx.Operation().Security {
			for _, scope := range need["token"] {
				if !slices.Contains(who.scopes, scope) {
					write(h, ctx, problem("not_allowed", fmt.Sprintf("This needs a token of scope %s; this one has %s.",
						scope, strings.Join(who.scopes, ", "))))
					return
				}
			}
		}
		v.caller = who
		if err := s.narrowed(ctx, &who.only); err != nil {
			p, is := err.(*api.Problem)
			if !is {
				p = problem("internal", "")
			}
			p.Request = requestID(ctx.Context())
			write(h, ctx, p)
			return
		}
		if o := ctx.Operation(); ctx.Method() != http.MethodGet && slices.ContainsFunc(o.Security,
			func(need map[string][]string) bool { return slices.Contains(need["token"], "admin") }) {
			v.did = o.OperationID
		}
		next(huma.WithValue(ctx, callerKey, who))
	}
}

// admit is authorize for requests outside the API: whoever may read is admitted.
func (s *Service) admit(c *gin.Context) {
	header := c.GetHeader("Authorization")
	if header == "" && !s.cfg.RequireToken && visitOf(c.Request.Context()).local {
		return
	}
	who, p := s.login(c.Request.Context(), header)
	if p != nil {
		abort(c, p)
		return
	}
	visitOf(c.Request.Context()).caller = who
	if who.only.Is() {
		abort(c, notFor(&who.only))
	}
}

func (s *Service) login(ctx context.Context, header string) (caller, *api.Problem) {
	scheme, secret, _ := strings.Cut(header, " ")
	if header == "" {
		return caller{}, problem("login_needed",
			"Send the header Authorization: Bearer TOKEN. An administrator makes tokens with koinos token create.")
	}
	if !strings.EqualFold(scheme, "bearer") {
		return caller{}, problem("login_needed", "Only the Bearer scheme is understood.")
	}
	token, err := s.store.FindToken(ctx, strings.TrimSpace(secret))
	if errors.Is(err, store.ErrNotFound) {
		s.slow(ctx)
		return caller{}, problem("login_needed", "The token is unknown or has been revoked.")
	}
	if err == nil && token.ExpiresAt != nil && !s.now().Before(*token.ExpiresAt) {
		return caller{}, problem("login_needed",
			fmt.Sprintf("The token %d (%s) ended on %s. An administrator makes a new one.",
				token.ID, token.Name, token.ExpiresAt.Format(time.DateOnly)))
	}
	if err != nil {
		s.log.ErrorContext(ctx, "token could not be looked up", "error", err)
		return caller{}, problem("internal", "")
	}
	if err := s.store.UsedToken(ctx, token, s.now()); err != nil {
		s.log.WarnContext(ctx, "token's use could not be noted", "error", err) // not worth refusing the request
	}
	return caller{token.Name, token.ID, scopes[token.Scope], token.Narrowed}, nil
}

func write(h huma.API, ctx huma.Context, p *api.Problem) {
	ctx.SetHeader("Content-Type", p.ContentType(""))
	ctx.SetStatus(p.Status)
	_ = h.Marshal(ctx.BodyWriter(), "application/json", p) // the connection is gone
}

// progressEvery is how often a watched load is reported.
const progressEvery = 250 * time.Millisecond
