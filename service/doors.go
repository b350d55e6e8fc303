package service

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"koinos/api"
)

// tokenNeeded says why every caller needs a token; "" means that callers on this machine need none.
func (c *Config) tokenNeeded(host string) string {
	outside, _ := url.Parse(c.Outside)
	switch {
	case c.RequireToken:
		return "--require-token"
	case !loopback(host):
		return "it listens beyond loopback"
	case len(c.Hosts) > 0: // whatever reaches it by another name came through something in front of it
		return "--host"
	case outside != nil && outside.Host != "" && !loopback(outside.Hostname()):
		return "--outside"
	}
	return ""
}

// forwarded reports whether a request came through a proxy. Its sender is then not on this machine, although the
// connection is.
func forwarded(h http.Header) bool {
	for _, name := range []string{"Forwarded", "Via", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto",
		"X-Forwarded-Server", "X-Forwarded-Port", "X-Real-Ip"} {
		if h.Get(name) != "" {
			return true
		}
	}
	return false
}

// visit is what is known about a request from its beginning to its line in the log.
type visit struct {
	id     string
	from   string // address of the connection
	local  bool   // from this machine, by a name of loopback, through no proxy
	caller caller
	did    string // operation of an administrator that changes something
	to     string // the new name, if it gives something another one
}

const visitKey contextKey = "visit"

func visitOf(ctx context.Context) *visit {
	if v, ok := ctx.Value(visitKey).(*visit); ok {
		return v
	}
	return &visit{}
}

// strangers slows callers down who send wrong tokens.
type strangers struct {
	mu    sync.Mutex
	since time.Time
	tries map[string]int // by address, since then
}

const (
	triesEvery = time.Minute
	freeTries  = 10
	slowedBy   = time.Second
	mostKnown  = 10_000 // addresses
)

// came counts a wrong token and returns how long its answer must wait.
func (s *strangers) came(from string, now time.Time) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.tries == nil || now.Sub(s.since) > triesEvery || len(s.tries) >= mostKnown {
		s.tries, s.since = map[string]int{}, now
	}
	if s.tries[from]++; s.tries[from] > freeTries {
		return slowedBy
	}
	return 0
}

// slow delays the answer to a wrong token if many came from the same address.
func (s *Service) slow(ctx context.Context) {
	wait := s.wrong.came(visitOf(ctx).from, s.now())
	if wait == 0 {
		return
	}
	select {
	case <-time.After(wait):
	case <-ctx.Done():
	case <-s.stopped.Done():
	}
}

// audit records what an administrator changed, once it is done.
func (s *Service) audit(ctx context.Context, v *visit, path string, status int) {
	if v.did == "" || status >= 400 {
		return
	}
	if v.to != "" {
		path += " → " + v.to
	}
	err := s.store.AddAudit(context.WithoutCancel(ctx), api.Audit{At: s.now().UTC(), By: v.caller.name,
		Token: v.caller.token,
		From:  v.from, Did: v.did, Path: path, Status: status, Request: v.id})
	if err != nil {
		s.log.ErrorContext(ctx, "what an administrator changed was not noted", "did", v.did, "path", path, "by",
			v.caller.name, "error", err)
	}
}

// certificate is a certificate with its key, read again when its file changes.
type certificate struct {
	cert, key string
	mu        sync.Mutex
	read      time.Time // when the file that was read was changed last
	is        *tls.Certificate
}

// TLS returns the configuration for a certificate and its key; renewed files are used without a restart. An error says
// that they cannot be read now.
func TLS(cert, key string) (*tls.Config, error) {
	c := &certificate{cert: cert, key: key}
	if _, err := c.get(nil); err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get}, nil
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	info, err := os.Stat(c.cert)
	if err == nil && (c.is == nil || !info.ModTime().Equal(c.read)) {
		var is tls.Certificate
		if is, err = tls.LoadX509KeyPair(c.cert, c.key); err == nil {
			c.is, c.read = &is, info.ModTime()
		}
	}
	if c.is != nil {
		return c.is, nil // while new files are being written, the old certificate serves on
	}
	return nil, fmt.Errorf("the certificate cannot be read: %w", err)
}

func method(m string) string {
	switch m {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
		http.MethodOptions:
		return m
	}
	return "other"
}

func addressOf(remote string) string { return strings.Trim(hostName(remote), "[]") }
