package remote

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"koinos/core/system"
)

// token is an access token of OAuth 2.0.
type token struct {
	value string
	until time.Time // it is renewed from here on, before its end
	ends  time.Time
}

// Signed says until when we are signed in, for people; zero means for good.
func (c *Client) Signed() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.token.ends
}

// Points are the points that were left according to the last answer that said so; nil if none has.
func (c *Client) Points() *float64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.points
}

// Waits says until when no requests are made because the system said so; zero if it has not.
func (c *Client) Waits() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.hold.After(c.clock.now()) {
		return c.hold
	}
	return time.Time{}
}

// SignIn makes sure that we can sign in: it gets a token if one is needed, and looks for the secret otherwise.
func (c *Client) SignIn(ctx context.Context) error {
	switch a := &c.system.Auth; a.Kind {
	case "":
		return nil
	case "client_credentials":
		_, err := c.current(ctx)
		return err
	default:
		_, err := c.value(a.Value, "secret")
		return err
	}
}

// Secret returns a secret, for a call that tells it to the system that it belongs to.
func (c *Client) Secret(s system.Secret) (string, error) { return c.value(s, "webhook secret") }

// value finds a secret where the description says that it is. It does so at each use, so that the secret can be changed
// while the service runs.
func (c *Client) value(s system.Secret, what string) (string, error) {
	if s.Env != "" {
		if v, ok := os.LookupEnv(s.Env); ok && v != "" {
			return v, nil
		}
		return "", &Problem{Kind: Setup,
			Why: fmt.Sprintf("The environment variable %s, which holds %s's %s, is not set.",
				s.Env, c.system.Name, what)}
	}
	b, err := os.ReadFile(s.File)
	if err != nil {
		return "", &Problem{Kind: Setup, err: err, Why: fmt.Sprintf("The file %s, which holds %s's %s, cannot be read.",
			s.File, c.system.Name, what)}
	}
	return strings.TrimSpace(string(b)), nil
}

// sign adds to a request what identifies us.
func (c *Client) sign(req *http.Request, used *string) error {
	a := &c.system.Auth
	switch a.Kind {
	case "":
		return nil
	case "client_credentials":
		t, err := c.current(req.Context())
		if err != nil {
			return err
		}
		*used = t
		req.Header.Set("Authorization", "Bearer "+t)
		return nil
	}
	v, err := c.value(a.Value, map[string]string{"bearer": "token", "basic": "password"}[a.Kind]+keyWord(a.Kind))
	if err != nil {
		return err
	}
	switch a.Kind {
	case "bearer":
		req.Header.Set("Authorization", "Bearer "+v)
	case "header":
		req.Header.Set(a.Name, strings.TrimSpace(a.Prefix+" "+v))
	case "basic_key":
		req.SetBasicAuth(v, "")
	case "basic":
		req.SetBasicAuth(a.Name, v)
	case "query":
		q := req.URL.Query()
		q.Set(a.Name, v)
		req.URL.RawQuery = q.Encode()
	case "signed":
		return c.signBody(req, v)
	}
	return nil
}

// signBody signs a request according to Standard Webhooks (1.0). Its id is that of the message, the same at every
// attempt, if it has one.
func (c *Client) signBody(req *http.Request, secret string) error {
	key := []byte(secret)
	if coded, is := strings.CutPrefix(secret, "whsec_"); is {
		b, err := base64.StdEncoding.DecodeString(coded)
		if err != nil {
			return &Problem{Kind: Setup, err: err, Why: "A secret of Standard Webhooks is whsec_ and base64."}
		}
		key = b
	}
	var body []byte
	if req.GetBody != nil {
		r, err := req.GetBody()
		if err == nil {
			body, err = io.ReadAll(r)
		}
		if err != nil {
			return err
		}
	}
	id := req.Header.Get("webhook-id")
	if id == "" {
		sum := sha256.Sum256(body)
		id = "msg_" + hex.EncodeToString(sum[:12])
	}
	stamp := strconv.FormatInt(c.clock.now().Unix(), 10)
	req.Header.Set("webhook-id", id)
	req.Header.Set("webhook-timestamp", stamp)
	req.Header.Set("webhook-signature", "v1,"+Sign(key, id, stamp, body))
	return nil
}

func keyWord(kind string) string {
	if kind == "header" || kind == "query" || kind == "basic_key" {
		return "key"
	}
	return ""
}

// refused forgets a token that the system did not accept, if it is still in use.
func (c *Client) refused(t string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.token.value == t {
		c.token = token{}
	}
}

// current returns a token that is valid for some time. The first caller that finds none gets one, and the others wait
// for it.
func (c *Client) current(ctx context.Context) (string, error) {
	good := func() (string, bool) {
		c.mu.Lock()
		defer c.mu.Unlock()
		return c.token.value, c.token.value != "" && c.clock.now().Before(c.token.until)
	}
	if t, ok := good(); ok {
		return t, nil
	}
	c.renew.Lock()
	defer c.renew.Unlock()
	if t, ok := good(); ok {
		return t, nil
	}
	t, err := c.signIn(ctx)
	if err != nil {
		return "", err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.token = t
	return t.value, nil
}

// signIn gets a token (RFC 6749, section 4.4).
func (c *Client) signIn(ctx context.Context) (t token, err error) {
	a := &c.system.Auth
	id, err := c.value(a.ID, "client id")
	if err != nil {
		return t, err
	}
	secret, err := c.value(a.Secret, "client secret")
	if err != nil {
		return t, err
	}
	address := a.Token
	if !strings.Contains(address, "://") {
		address = c.base + "/" + strings.TrimLeft(address, "/")
	}
	form := url.Values{"grant_type": {"client_credentials"}}
	if a.Scope != "" {
		form.Set("scope", a.Scope)
	}
	if !a.InHeader {
		form.Set("client_id", id)
		form.Set("client_secret", secret)
	}
	u, err := url.Parse(address)
	if err == nil {
		err = system.CheckAddress(address)
	}
	if err != nil {
		return t, &Problem{Kind: Setup, Why: "The address of the token endpoint: " + err.Error() + ".", err: err}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(form.Encode()))
	if err != nil {
		return t, err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("Accept", "application/json")
	if a.InHeader {
		req.SetBasicAuth(url.QueryEscape(id), url.QueryEscape(secret))
	}
	began := c.clock.now()
	got, _, err := c.do(req, u, 0)
	if err != nil {
		return t, err
	}
	var said struct {
		Token   string  `json:"access_token"`
		Expires float64 `json:"expires_in"`
	}
	if err := json.Unmarshal(got.Body, &said); err != nil || said.Token == "" {
		return t, &Problem{Kind: Never, Why: c.system.Name + "'s token endpoint gave no access_token.", err: err}
	}
	life := time.Duration(said.Expires * float64(time.Second))
	if life <= 0 {
		life = time.Hour
	}
	return token{said.Token, began.Add(life * 4 / 5), began.Add(life)}, nil
}
