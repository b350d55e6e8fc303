package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"mime"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/time/rate"

	"koinos/core/system"
)

// Client calls one system. Its methods may be called by several goroutines; they share
// its limits.
type Client struct {
	system *system.System
	base   string
	http   *http.Client
	limit  *rate.Limiter
	slots  chan struct{}
	clock  clock
	seen   func(Call)

	mu     sync.Mutex
	hold   time.Time // nothing is asked before
	points *float64  // that were left by the last answer that said so
	token  token
	renew  sync.Mutex // one sign-in at a time
}

// clock is the time functions that a client needs, so that a test can run without time passing.
type clock struct {
	now   func() time.Time
	sleep func(context.Context, time.Duration) error
}

// Call is one request that was made, for people who watch. It contains no secrets.
type Call struct {
	ID     string        `json:"id"` // goes along as X-Request-Id
	At     time.Time     `json:"at"`
	Method string        `json:"method"`
	URL    string        `json:"url"`
	Status int           `json:"status,omitempty" doc:"Absent if no answer came"`
	Bytes  int           `json:"bytes" doc:"Of the answer"`
	Took   time.Duration `json:"took" doc:"Nanoseconds"`
	Waited time.Duration `json:"waited" doc:"Nanoseconds before it, for the system's limits"`
	Why    string        `json:"why,omitempty" doc:"What was wrong with it"`
	Body   []byte        `json:"-"` // of the answer
}

// Problem says why a system did not do what it was asked.
type Problem struct {
	Kind   Kind
	Status int    // 0 where no answer came
	Why    string // a sentence, with the system's own words where it has some
	Body   []byte // of the answer
	undone bool   // the system says that it was not done
	err    error
}

// Kind is what a problem means for the caller.
type Kind string

const (
	Away    Kind = "away"    // it may pass by itself: no answer, a broken one, 5xx, 429
	Login   Kind = "login"   // the system does not know us, or does not let us
	Missing Kind = "missing" // there is no such thing there (404, 410)
	Never   Kind = "never"   // it will not pass by itself
	Changed Kind = "changed" // it is another one than was read (412)
	Unclear Kind = "unclear" // it may have been done: look before asking again
	Setup   Kind = "setup"   // the description, or what it needs, is not right here
	Large   Kind = "large"   // the answer is, or would be, too large; smaller pages may do
)

func (p *Problem) Error() string { return p.Why }

// Unwrap returns the cause of the problem.
func (p *Problem) Unwrap() error { return p.err }

// tries is how often a request is made that fails temporarily, first a fifth of a second apart.
const (
	tries     = 5
	firstWait = 200 * time.Millisecond
	mostWait  = 30 * time.Second
	mostHold  = 15 * time.Minute // a system that asks for more is away
)

// Open makes a client for a system. seen, unless it is nil, is called for each call.
func Open(s *system.System, seen func(Call)) (*Client, error) {
	base, err := system.Resolve(s.Address, os.LookupEnv)
	if err != nil {
		return nil, &Problem{Kind: Setup, Why: err.Error(), err: err}
	}
	if seen == nil {
		seen = func(Call) {}
	}
	c := &Client{system: s, base: base, seen: seen, slots: make(chan struct{}, s.Limits.AtOnce),
		limit: rate.NewLimiter(rate.Limit(s.Limits.Rate), s.Limits.Burst), clock: clock{time.Now, sleep}}
	dialer := &net.Dialer{Timeout: 10 * time.Second, Control: refuseLocal}
	c.http = &http.Client{
		Transport: &http.Transport{DialContext: dialer.DialContext, ForceAttemptHTTP2: true,
			MaxIdleConnsPerHost: s.Limits.AtOnce,
			TLSHandshakeTimeout: 10 * time.Second, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: 256 << 10},
		CheckRedirect: func(req *http.Request, via []*http.Request) error {
			if req.URL.Scheme != via[0].URL.Scheme || req.URL.Host != via[0].URL.Host || len(via) > 3 ||
				via[0].Method != http.MethodGet {
				// nobody's credentials go to another host, nor what is written anywhere else
				return http.ErrUseLastResponse
			}
			return nil
		},
	}
	return c, nil
}

// Base is the system's address.
func (c *Client) Base() string { return c.base }

// Host is scheme, host and port of the system's address.
func (c *Client) Host() string { return origin(c.base) }

// refuseLocal keeps descriptions from reaching addresses that only this machine can reach: link-local addresses and the
// metadata services of clouds.
func refuseLocal(_, address string, _ syscall.RawConn) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return err
	}
	ip := net.ParseIP(host)
	if ip == nil || ip.IsLinkLocalUnicast() || ip.IsLinkLocalMulticast() || ip.IsMulticast() || ip.IsUnspecified() {
		return fmt.Errorf("%s is not an address that may be called", host)
	}
	return nil
}

func sleep(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Request is one thing that a system is asked to do.
type Request struct {
	Method, Address string
	Body            []byte // JSON; nil is none
	Match           string // for If-Match; "" is none
	Header, Key     string // an idempotency key with its header; "" is none
	Reads           bool   // nothing is changed by it, whatever its method
	GraphQL         bool   // an answer with errors is none
	Smaller         bool   // less can be asked for where an answer is too large
}

// repeatable reports whether the request can be repeated without harm.
func (r *Request) repeatable() bool {
	return r.Reads || r.Method == http.MethodGet || r.Method == http.MethodPut || r.Method == http.MethodDelete ||
		r.Key != "" ||
		r.Match != ""
}

// Get asks for an address of the system. Temporary failures are repeated a few times. An answer that it returns is
// complete and JSON.
func (c *Client) Get(ctx context.Context, address string) (system.Answer, error) {
	return c.Do(ctx, Request{Method: http.MethodGet, Address: address})
}

// Page asks for a page of a list.
func (c *Client) Page(ctx context.Context, l *system.List, address string) (system.Answer, error) {
	to, body, err := l.Request(address)
	_, smaller := l.Smaller(address)
	return c.read(ctx, address, Request{Address: to, Body: body, GraphQL: l.GraphQL != "", Smaller: smaller}, err)
}

// One asks for one record by its key.
func (c *Client) One(ctx context.Context, r *system.Record, key string) (system.Answer, error) {
	address := r.One(c.base, key)
	to, body, err := r.RequestOne(address)
	return c.read(ctx, address, Request{Address: to, Body: body, GraphQL: r.GetQuery != ""}, err)
}

// read asks for what an address means: by POST if there is a body.
func (c *Client) read(ctx context.Context, address string, r Request, err error) (system.Answer, error) {
	if err != nil {
		return system.Answer{}, err
	}
	r.Method, r.Reads = http.MethodGet, true
	if r.Body != nil {
		r.Method = http.MethodPost
	}
	a, err := c.Do(ctx, r)
	if r.Body == nil {
		return a, err
	}
	a.URL = address // the paging goes on from its variables
	return a, err
}

// Do makes a request to the system. Temporary failures are repeated a few times if repeating does no harm; otherwise,
// an end that leaves open whether the request was carried out is Unclear. An answer is complete, and JSON or, after a
// write, empty.
func (c *Client) Do(ctx context.Context, r Request) (system.Answer, error) {
	u, err := url.Parse(r.Address)
	if err != nil || !strings.HasPrefix(r.Address, origin(c.base)+"/") {
		return system.Answer{}, &Problem{Kind: Setup, err: err,
			Why: fmt.Sprintf("%q is not an address of %s.", r.Address, c.system.Name)}
	}
	if c.system.Auth.Kind == "query" { // an address that the system gave may have the key in it; ours is put in anew
		q := u.Query()
		q.Del(c.system.Auth.Name)
		u.RawQuery = q.Encode()
	}
	wait := firstWait
	for try := 1; ; try++ {
		a, again, err := c.attempt(ctx, &r, u)
		if err == nil || ctx.Err() != nil {
			return a, err
		}
		var p *Problem
		if !errors.As(err, &p) || p.Kind != Away && (p.Kind != Large || r.Smaller || p.undone) {
			return a, err
		}
		if !r.repeatable() && !p.surely() { // an answer that is too large says nothing of what was done
			p.Kind = Unclear
			return a, p
		}
		if try == tries {
			return a, err
		}
		if again == 0 {
			again = wait/2 + rand.N(wait)
			wait = min(2*wait, mostWait)
		}
		if again > mostHold {
			return a, err
		}
		if err := c.clock.sleep(ctx, again); err != nil {
			return a, err
		}
	}
}

// surely reports whether it is certain that nothing was done.
func (p *Problem) surely() bool {
	var op *net.OpError
	return p.undone || p.Status == http.StatusTooManyRequests || errors.As(p.err, &op) && op.Op == "dial"
}

// origin is scheme, host and port of an address.
func origin(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	return u.Scheme + "://" + u.Host
}

// attempt makes one request. again is how long the system asked to wait.
func (c *Client) attempt(ctx context.Context, r *Request, u *url.URL) (a system.Answer, again time.Duration,
	err error) {
	began := c.clock.now()
	if err := c.turn(ctx); err != nil {
		return a, 0, err
	}
	defer func() { <-c.slots }()
	waited := c.clock.now().Sub(began)
	ctx, stop := context.WithTimeout(ctx, c.system.Limits.Timeout)
	defer stop()
	for renewed := false; ; renewed = true {
		req, used, err := c.request(ctx, r, u)
		if err != nil {
			return a, 0, err
		}
		a, again, err = c.do(req, u, waited)
		if err == nil && r.GraphQL {
			err = c.partial(a.Body)
		}
		var p *Problem
		if errors.As(err, &p) && p.Status == http.StatusUnauthorized && c.system.Auth.Kind == "client_credentials" &&
			!renewed {
			c.refused(used)
			continue
		}
		return a, again, err
	}
}

// turn waits until a request may be made, and takes one of the places for simultaneous requests.
func (c *Client) turn(ctx context.Context) error {
	select {
	case c.slots <- struct{}{}:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	err := c.limit.Wait(ctx)
	for err == nil {
		c.mu.Lock()
		d := c.hold.Sub(c.clock.now())
		c.mu.Unlock()
		if d <= 0 {
			return nil
		}
		err = c.clock.sleep(ctx, d)
	}
	<-c.slots
	return err
}

// partial says what is wrong with an answer that has errors beside its data. A query that is not understood has no data
// at all; other errors may pass.
func (c *Client) partial(body []byte) error {
	words, whole, is := system.Partial(body)
	if !is {
		return nil
	}
	p := &Problem{Kind: Away, Status: http.StatusOK, Body: body,
		Why: fmt.Sprintf("%s's answer has errors: %s.", c.system.Name, strings.TrimRight(words, "."))}
	if whole && c.system.Limits.Pause(body) == 0 {
		p.Kind = Never
	}
	c.means(p)
	return p
}

// request makes a request with what the system needs to know about us; used is the token that goes along.
func (c *Client) request(ctx context.Context, r *Request, u *url.URL) (req *http.Request, used string, err error) {
	asked := *u
	var body io.Reader
	if r.Body != nil {
		body = bytes.NewReader(r.Body)
	}
	if req, err = http.NewRequestWithContext(ctx, r.Method, asked.String(), body); err != nil {
		return nil, "", err
	}
	req.Header.Set("Accept", "application/json")
	req.Header.Set("User-Agent", "Koinos")
	req.Header.Set("X-Request-Id", fmt.Sprintf("%016x", rand.Uint64()))
	for name, value := range map[string]string{"If-Match": r.Match, r.Header: r.Key} {
		if value != "" {
			req.Header.Set(name, value)
		}
	}
	switch {
	case r.Body == nil:
	case r.Method == http.MethodPatch:
		req.Header.Set("Content-Type", "application/merge-patch+json") // RFC 7396
	default:
		req.Header.Set("Content-Type", "application/json")
	}
	for name, value := range c.system.Headers {
		if r.Body != nil || http.CanonicalHeaderKey(name) != "Content-Type" {
			req.Header.Set(name, value)
		}
	}
	return req, used, c.sign(req, &used)
}

// do sends a request and reads its answer.
func (c *Client) do(req *http.Request, shown *url.URL, waited time.Duration) (a system.Answer, again time.Duration,
	err error) {
	call := Call{ID: req.Header.Get("X-Request-Id"), At: c.clock.now(), Method: req.Method, URL: shown.String(),
		Waited: waited}
	defer func() {
		call.Took = c.clock.now().Sub(call.At)
		if err != nil {
			call.Why = err.Error()
		}
		c.seen(call)
	}()
	res, err := c.http.Do(req)
	if err != nil {
		if cause := context.Cause(req.Context()); cause != nil && !errors.Is(cause, context.DeadlineExceeded) {
			return a, 0, cause
		}
		return a, 0, &Problem{Kind: Away, Why: c.system.Name + " does not answer: " + plain(err, req) + ".", err: err}
	}
	defer res.Body.Close()
	call.Status = res.StatusCode
	body, err := io.ReadAll(io.LimitReader(res.Body, c.system.Limits.Largest+1))
	body = bytes.TrimPrefix(body, []byte("\ufeff"))
	if call.Bytes = len(body); !signingIn(req) { // what that gives is nobody's to see
		call.Body = body
	}
	if again = max(c.told(res), c.system.Limits.Pause(body)); again > 0 {
		c.mu.Lock()
		c.hold = later(c.hold, c.clock.now().Add(min(again, mostHold)))
		c.mu.Unlock()
	}
	if left, ok := c.system.Limits.PointsLeft(body); ok {
		c.mu.Lock()
		c.points = &left
		c.mu.Unlock()
	}
	if err != nil {
		return a, again, &Problem{Kind: Away, Status: res.StatusCode, err: err,
			Why: c.system.Name + "'s answer broke off: " + plain(err, req) + "."}
	}
	if int64(len(body)) > c.system.Limits.Largest {
		return a, again, &Problem{Kind: Large, Status: res.StatusCode,
			Why: fmt.Sprintf("%s's answer is larger than %d MiB; ask for smaller "+
				"pages, or raise limits.largest.", c.system.Name, c.system.Limits.Largest>>20)}
	}
	if p := c.judge(res, body); p != nil {
		return a, again, p
	}
	return system.Answer{URL: shown.String(), Status: res.StatusCode, Link: res.Header.Values("Link"),
		ETag: res.Header.Get("ETag"), Header: res.Header, Body: body}, 0, nil
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// plain is a transport's error without the address, which may contain a key.
func plain(err error, req *http.Request) string {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return "it took longer than it may (limits.timeout)"
	}
	return strings.ReplaceAll(err.Error(), req.URL.RawQuery+"?", "")
}

// signingIn reports whether a request is one for a token.
func signingIn(req *http.Request) bool {
	return req.Header.Get("Content-Type") == "application/x-www-form-urlencoded"
}

// told is how long an answer asks to wait (RFC 9110, Retry-After): seconds, or a date that is compared with the
// answer's own.
func (c *Client) told(res *http.Response) time.Duration {
	v := res.Header.Get("Retry-After")
	if v == "" {
		return 0
	}
	if s, err := strconv.Atoi(v); err == nil {
		return time.Duration(max(s, 0)) * time.Second
	}
	at, err := http.ParseTime(v)
	if err != nil {
		return 0
	}
	now, err := http.ParseTime(res.Header.Get("Date"))
	if err != nil {
		now = c.clock.now()
	}
	return max(at.Sub(now), 0)
}

// judge says what an answer's status and content type mean; nil means that the answer can be read.
func (c *Client) judge(res *http.Response, body []byte) *Problem {
	name := c.system.Name
	is := func(kind Kind, format string, args ...any) *Problem {
		why := name + fmt.Sprintf(format, args...)
		if words := itsWords(res, body); words != "" {
			why += ": " + words
		}
		p := &Problem{Kind: kind, Status: res.StatusCode, Why: strings.TrimRight(why, ".") + ".", Body: body}
		c.means(p)
		return p
	}
	switch s := res.StatusCode; {
	case s == http.StatusUnauthorized:
		return is(Login, " does not know who calls (401)")
	case s == http.StatusForbidden:
		return is(Login, " does not allow this (403)")
	case s == http.StatusNotFound || s == http.StatusGone:
		return is(Missing, " has no such thing (%d)", s)
	case s == http.StatusPreconditionFailed:
		return is(Changed, " has another one meanwhile (412)")
	case s == http.StatusTooManyRequests:
		return is(Away, " was asked too often (429)")
	case s == http.StatusRequestTimeout || s >= 500:
		return is(Away, " cannot answer now (%d)", s)
	case s >= 300 && s < 400:
		return is(Away, " sends us elsewhere (%d), which is not followed", s)
	case s == http.StatusUnsupportedMediaType:
		return is(Never, " does not take %s (415); say headers: {Content-Type: …} if it wants another one",
			res.Request.Header.Get("Content-Type"))
	case s >= 400:
		return is(Never, " refuses this (%d)", s)
	}
	if len(bytes.TrimSpace(body)) == 0 && (res.Request.Method != http.MethodGet ||
		res.StatusCode == http.StatusNoContent) {
		return nil // it was done, and there is nothing to say
	}
	kind, _, err := mime.ParseMediaType(res.Header.Get("Content-Type"))
	if (err != nil || !strings.HasSuffix(kind, "json")) && !c.system.AnyType {
		return &Problem{Kind: Away, Status: res.StatusCode, Why: fmt.Sprintf("%s's answer is not JSON but %q.", name,
			kind) + map[bool]string{true: " If it is JSON all the same, say answers: any."}[json.Valid(body)]}
	}
	if !json.Valid(body) {
		return &Problem{Kind: Away, Status: res.StatusCode, Why: name + "'s answer is cut short or not JSON."}
	}
	if words, is := c.system.Refused(body); is {
		p := &Problem{Kind: Never, Status: res.StatusCode, Why: name + " did not do it: " +
			strings.TrimRight(words, ".") + ".",
			Body: body}
		c.means(p)
		return p
	}
	return nil
}

// JudgePart says what the answer to one of several parts of a call means, as if it had come alone; nil means that it
// was done.
func (c *Client) JudgePart(status int, body []byte) *Problem {
	p := c.judge(&http.Response{StatusCode: status, Header: http.Header{"Content-Type": {"application/json"}},
		Request: &http.Request{Method: http.MethodPost}}, body)
	if p != nil && p.Kind == Away && !p.surely() {
		p.Kind = Unclear
	}
	return p
}

// means gives a problem the meaning that the description defines for it.
func (c *Client) means(p *Problem) {
	kind, is := map[string]Kind{"later": Away, "changed": Changed, "missing": Missing, "never": Never,
		"smaller": Large}[c.system.Meaning(p.Status, p.Body)]
	if is {
		p.Kind, p.undone = kind, true
	}
}

// itsWords are what a system says about a problem.
func itsWords(res *http.Response, body []byte) string {
	if !strings.Contains(res.Header.Get("Content-Type"), "json") {
		return ""
	}
	return system.Words(body)
}
