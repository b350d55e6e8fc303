package standin

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Ledgerline is a bookkeeping program, as docs/standins/ledgerline.md has it. It is an
// http.Handler.
type Ledgerline struct {
	secret string
	now    func() time.Time
	mux    *http.ServeMux
	faults faults

	mu         sync.Mutex
	tokens     map[string]time.Time // until when
	customers  []bookCustomer
	articles   []bookArticle
	orders     []*bookOrder
	changes    []bookChange
	replays    map[string]replay // by idempotency key
	lastLine   int64
	lastOrder  int64
	deliveries []bookDelivery
}

type bookCustomer struct {
	ID    int64  `json:"id"`
	Email string `json:"email"`
	Name  string `json:"name"`
}

type bookArticle struct {
	ID    int64  `json:"id"`
	SKU   string `json:"sku"`
	Title string `json:"title"`
}

type bookOrder struct {
	ID       int64      `json:"id"`
	Number   string     `json:"number"`
	OurRef   string     `json:"our_ref"`
	Customer int64      `json:"customer_id"`
	BookDate string     `json:"book_date"`
	Currency string     `json:"currency"`
	Note     *string    `json:"note"`
	State    string     `json:"state"`
	Lines    []bookLine `json:"lines"`
	version  int
}

func (o *bookOrder) etag() string { return fmt.Sprintf(`"%d-%d"`, o.ID, o.version) }

type bookLine struct {
	ID      int64       `json:"id"`
	OurLine string      `json:"our_line"`
	Article int64       `json:"article_id"`
	Qty     json.Number `json:"qty"`
	Price   json.Number `json:"unit_price"`
	ETag    string      `json:"etag"`
	version int
}

func (l *bookLine) touch() {
	l.version++
	l.ETag = fmt.Sprintf("%d.%d", l.ID, l.version)
}

type bookChange struct {
	Seq  int    `json:"seq"`
	Kind string `json:"kind"`
	ID   int64  `json:"id"`
	Gone bool   `json:"gone,omitempty"`
}

type replay struct {
	body   [32]byte
	status int
	header http.Header
	answer []byte
}

// NewLedgerline makes a program with the goods as articles and no orders.
func NewLedgerline(secret string, goods []Goods, now func() time.Time) *Ledgerline {
	l := &Ledgerline{secret: secret, now: now, tokens: map[string]time.Time{}, replays: map[string]replay{},
		mux: http.NewServeMux(), lastLine: 500}
	for i, g := range goods {
		l.articles = append(l.articles, bookArticle{int64(7000 + i), g.SKU, g.Title})
	}
	l.customers = []bookCustomer{{41, "harbour@office.example", "Harbour office"}}
	l.mux.HandleFunc("POST /api/v2/oauth/token", l.token)
	api := func(pattern string, f func(*call) (int, any)) {
		l.mux.HandleFunc(strings.Replace(pattern, " ", " /api/v2", 1), func(w http.ResponseWriter, r *http.Request) {
			l.guarded(w, r, f)
		})
	}
	api("GET /customers", l.listCustomers)
	api("POST /customers", l.addCustomer)
	api("GET /customers/{id}", func(c *call) (int, any) {
		return byID(c, l.customers, func(k bookCustomer) int64 { return k.ID })
	})
	api("GET /articles", l.listArticles)
	api("GET /articles/{id}", func(c *call) (int, any) {
		return byID(c, l.articles, func(a bookArticle) int64 { return a.ID })
	})
	api("GET /sales-orders", l.listOrders)
	api("POST /sales-orders", l.addOrder)
	api("GET /sales-orders/{id}", l.getOrder)
	api("PATCH /sales-orders/{id}", l.patchOrder)
	api("POST /sales-orders/{id}/lines", l.addLines)
	api("PATCH /sales-orders/{id}/lines/{line}", l.patchLine)
	api("DELETE /sales-orders/{id}/lines/{line}", l.dropLine)
	api("POST /sales-orders/{id}/confirm", l.confirm)
	api("POST /sales-orders/{id}/void", l.void)
	api("POST /sales-orders/{id}/deliveries", l.addDelivery)
	api("GET /deliveries", l.listDeliveries)
	api("GET /deliveries/{id}", l.getDelivery)
	api("GET /meta/sales-orders", l.meta)
	api("GET /changes", l.listChanges)
	l.mux.HandleFunc("POST /admin/faults", l.faults.set)
	l.mux.HandleFunc("POST /admin/orders/{id}", l.byHand)
	l.mux.HandleFunc("POST /admin/orders", l.typeIn)
	l.mux.HandleFunc("POST /admin/articles", l.putArticle)
	l.mux.HandleFunc("GET /admin/orders", func(w http.ResponseWriter, _ *http.Request) {
		l.mu.Lock()
		defer l.mu.Unlock()
		answer(w, http.StatusOK, "application/json", map[string]any{"orders": l.orders, "customers": l.customers,
			"deliveries": l.deliveries})
	})
	l.mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		l.fail(w, http.StatusNotFound, "not_found", "Nothing is at "+r.URL.Path+".")
	})
	return l
}

// ServeHTTP answers a request.
func (l *Ledgerline) ServeHTTP(w http.ResponseWriter, r *http.Request) { l.mux.ServeHTTP(w, r) }

func (l *Ledgerline) fail(w http.ResponseWriter, status int, code, message string) {
	answer(w, status, "application/problem+json", refusal{code, message, 0}.problem(status))
}

// refusal is why something is not done.
type refusal struct {
	code, detail string
	conflict     int64
}

func (r refusal) problem(status int) map[string]any {
	p := map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status, "code": r.code,
		"detail": r.detail}
	if r.conflict != 0 {
		p["conflict_with"] = r.conflict
	}
	return p
}

const tokenLife = 2 * time.Minute

func (l *Ledgerline) token(w http.ResponseWriter, r *http.Request) {
	if r.FormValue("client_id") != "koinos" || r.FormValue("client_secret") != l.secret {
		answer(w, http.StatusUnauthorized, "application/json", map[string]string{"error": "invalid_client"})
		return
	}
	t := rand.Text()
	l.mu.Lock()
	l.tokens[t] = l.now().Add(tokenLife)
	l.mu.Unlock()
	answer(w, http.StatusOK, "application/json", map[string]any{"access_token": t, "token_type": "Bearer",
		"expires_in": int(tokenLife.Seconds())})
}

// call is a request on its way through the program; its body has been read.
type call struct {
	r      *http.Request
	body   []byte
	header http.Header
}

// checks reports whether the caller only wants to know what the answer would be.
func (c *call) checks() bool { return c.r.URL.Query().Get("check") == "true" }

func (c *call) into(v any) error {
	d := json.NewDecoder(bytes.NewReader(c.body))
	d.UseNumber()
	d.DisallowUnknownFields()
	return d.Decode(v)
}

func (l *Ledgerline) guarded(w http.ResponseWriter, r *http.Request, f func(*call) (int, any)) {
	l.mu.Lock()
	until := l.tokens[strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")]
	l.mu.Unlock()
	if !l.now().Before(until) {
		w.Header().Set("WWW-Authenticate", "Bearer")
		l.fail(w, http.StatusUnauthorized, "unauthorized", "The token is unknown or has ended.")
		return
	}
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		l.fail(w, http.StatusBadRequest, "bad_body", err.Error())
		return
	}
	l.faults.pass(w, r, func(w http.ResponseWriter, r *http.Request) { l.once(w, r, body, f) }, l.fail)
}

// once does what is asked, or returns the first answer again to an idempotency key.
func (l *Ledgerline) once(w http.ResponseWriter, r *http.Request, body []byte, f func(*call) (int, any)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	key := r.Header.Get("Idempotency-Key")
	digest := sha256.Sum256(append([]byte(r.URL.Path+"\n"), body...))
	if was, ok := l.replays[key]; ok && key != "" && r.Method == http.MethodPost {
		if was.body != digest {
			l.fail(w, http.StatusUnprocessableEntity, "key_reused", "The idempotency key came with another body.")
			return
		}
		for name, v := range was.header {
			w.Header()[name] = v
		}
		w.WriteHeader(was.status)
		_, _ = w.Write(was.answer) // whoever is gone does not miss it
		return
	}
	c := &call{r, body, http.Header{}}
	status, v := f(c)
	kind := "application/json"
	if no, is := v.(refusal); is {
		kind, v = "application/problem+json", no.problem(status)
	}
	c.header.Set("Content-Type", kind)
	for name, values := range c.header {
		w.Header()[name] = values
	}
	w.WriteHeader(status)
	var b []byte
	if v != nil {
		b, _ = json.Marshal(v) // plain values
	}
	_, _ = w.Write(b) // whoever is gone does not miss it
	if key != "" && r.Method == http.MethodPost && status < http.StatusInternalServerError {
		l.replays[key] = replay{digest, status, c.header, b}
	}
}

func onePage(data any) (int, any) { return http.StatusOK, map[string]any{"data": data, "next": nil} }

func begins(all, with string) bool {
	return strings.HasPrefix(strings.ToLower(all), strings.ToLower(with))
}

// byID returns the one of a list that a request names.
func byID[T any](c *call, all []T, id func(T) int64) (int, any) {
	for _, one := range all {
		if strconv.FormatInt(id(one), 10) == c.r.PathValue("id") {
			return http.StatusOK, one
		}
	}
	return http.StatusNotFound, refusal{"not_found", "There is no such record.", 0}
}

func (l *Ledgerline) listCustomers(c *call) (int, any) {
	found := []bookCustomer{}
	for _, k := range l.customers {
		if begins(k.Email, c.r.URL.Query().Get("email")) {
			found = append(found, k)
		}
	}
	return onePage(found)
}

func (l *Ledgerline) addCustomer(c *call) (int, any) {
	var k bookCustomer
	if err := c.into(&k); err != nil || k.Email == "" || k.Name == "" || k.ID != 0 {
		return http.StatusUnprocessableEntity, refusal{"invalid", "A customer needs email and name, and nothing else.",
			0}
	}
	for _, was := range l.customers {
		if strings.EqualFold(was.Email, k.Email) {
			return http.StatusConflict, refusal{"duplicate", "The e-mail address is another customer's.", was.ID}
		}
	}
	k.ID = int64(41 + len(l.customers))
	l.customers = append(l.customers, k)
	return http.StatusCreated, k
}

func (l *Ledgerline) listArticles(c *call) (int, any) {
	found := []bookArticle{}
	for _, a := range l.articles {
		if begins(a.SKU, c.r.URL.Query().Get("sku")) && len(found) < 100 {
			found = append(found, a)
		}
	}
	return onePage(found)
}

func (l *Ledgerline) touch(o *bookOrder) {
	o.version++
	l.changes = append(l.changes, bookChange{len(l.changes) + 1, "sales-order", o.ID, false})
}

func (l *Ledgerline) listOrders(c *call) (int, any) {
	ref := c.r.URL.Query().Get("our_ref")
	from, _ := strconv.Atoi(c.r.URL.Query().Get("from")) // none is 0
	found := []bookOrder{}
	for _, o := range l.orders {
		if ref == "" || o.OurRef == ref {
			k := *o
			k.Lines = nil
			found = append(found, k)
		}
	}
	const size = 100
	from = min(max(from, 0), len(found))
	page := map[string]any{"data": found[from:min(from+size, len(found))], "next": nil}
	if from+size < len(found) {
		q := url.Values{"from": {strconv.Itoa(from + size)}}
		if ref != "" {
			q.Set("our_ref", ref)
		}
		page["next"] = "/api/v2/sales-orders?" + q.Encode()
	}
	return http.StatusOK, page
}

func (l *Ledgerline) listChanges(c *call) (int, any) {
	after, err := strconv.Atoi(cmp.Or(c.r.URL.Query().Get("after"), "0"))
	if err != nil || after < 0 {
		return http.StatusUnprocessableEntity, refusal{"invalid", "after is a number that Ledgerline gave.", 0}
	}
	from := min(after, len(l.changes))
	some := slices.Clone(l.changes[from:min(from+100, len(l.changes))])
	if some == nil {
		some = []bookChange{}
	}
	return http.StatusOK, map[string]any{"changes": some, "last": from + len(some)}
}
