package standin

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	graphql "github.com/graph-gophers/graphql-go"
	"golang.org/x/time/rate"

	"koinos/core/order"
)

// Slipway is a web shop, as docs/standins/slipway.md has it. It is an http.Handler.
type Slipway struct {
	token string
	now   func() time.Time
	limit *rate.Limiter
	mux   *http.ServeMux

	limited bool
	points  points

	mu        sync.Mutex
	orders    []*shopOrder // by when they changed last, then id
	customers []shopCustomer
	parcels   []shopParcel
	hooks     []shopHook
	twice     int // how often a webhook is sent besides
	faults    faults
}

type shopOrder struct {
	ID        int64        `json:"id"`
	Reference string       `json:"reference"`
	State     string       `json:"state"`
	PlacedAt  string       `json:"placed_at"`
	ChangedAt string       `json:"changed_at"`
	Buyer     shopCustomer `json:"buyer"`
	DeliverTo shopAddress  `json:"deliver_to"`
	Currency  string       `json:"currency"`
	Remarks   *string      `json:"remarks"`
	Lines     []shopLine   `json:"lines"`
	LineCount int          `json:"line_count"`
	Total     string       `json:"total"`
}

type shopCustomer struct {
	ID   int    `json:"id,omitempty"`
	Name string `json:"name"`
	Mail string `json:"mail"`
}

type shopAddress struct {
	Name    string `json:"name"`
	Street  string `json:"street"`
	Town    string `json:"town"`
	Zip     string `json:"zip"`
	Country string `json:"country"`
}

type shopLine struct {
	Line  int    `json:"line"`
	SKU   string `json:"sku"`
	Title string `json:"title"`
	Count int    `json:"count"`
	Each  string `json:"each"`
}

type shopParcel struct {
	ID       string        `json:"id"`
	Number   string        `json:"number,omitempty"`
	Order    string        `json:"order"`
	SentAt   string        `json:"sent_at"`
	Carrier  string        `json:"carrier"`
	Tracking string        `json:"tracking"`
	Contents []parcelCount `json:"contents"`
}

type parcelCount struct {
	Line  int `json:"line"`
	Count int `json:"count"`
}

// mostOfPage, and how many a page has where nobody says.
const (
	mostOfPage  = 50
	usualOfPage = 20
	firstID     = 9_007_199_254_740_993 // beyond what a float holds
)

// Goods are what the shop sells: sku, title and price.
type Goods struct{ SKU, Title, Price string }

// NewSlipway makes a shop with so many orders of some goods, the same for the same
// numbers. Limited says whether it counts requests; tests of speed let it not.
func NewSlipway(token string, orders int, goods []Goods, limited bool, now func() time.Time) *Slipway {
	s := &Slipway{token: token, now: now, limit: rate.NewLimiter(20, 40), mux: http.NewServeMux(), limited: limited}
	if !limited {
		s.limit.SetLimit(rate.Inf)
	}
	s.seed(orders, goods)
	api := func(pattern string, f http.HandlerFunc) {
		s.mux.HandleFunc("GET /slipway/v1"+pattern, func(w http.ResponseWriter, r *http.Request) { s.guarded(w, r, f) })
	}
	api("/orders", s.listOrders)
	api("/orders/{id}", s.oneOrder)
	api("/customers", s.listCustomers)
	api("/parcels", s.listParcels)
	api("/parcels/{id}", s.oneParcel)
	s.mux.HandleFunc("POST /slipway/v1/parcels",
		func(w http.ResponseWriter, r *http.Request) { s.guarded(w, r, s.addParcel) })
	api("/webhooks", s.listHooks)
	graph := s.graph(graphql.MustParseSchema(shopSchema, &graphRoot{s}, graphql.UseFieldResolvers()))
	s.mux.HandleFunc("POST /slipway/graphql", func(w http.ResponseWriter, r *http.Request) { s.guarded(w, r, graph) })
	s.mux.HandleFunc("POST /slipway/v1/webhooks", func(w http.ResponseWriter, r *http.Request) {
		s.guarded(w, r, s.addHook)
	})
	s.mux.HandleFunc("POST /admin/hooks", func(w http.ResponseWriter, r *http.Request) {
		var asked struct{ Twice int }
		if err := json.NewDecoder(r.Body).Decode(&asked); err != nil || asked.Twice < 0 || asked.Twice > 9 {
			s.fail(w, http.StatusBadRequest, "bad_body", "twice is 0 to 9.")
			return
		}
		s.mu.Lock()
		s.twice = asked.Twice
		s.mu.Unlock()
		s.answer(w, asked)
	})
	s.mux.HandleFunc("POST /admin/faults", s.faults.set)
	s.mux.HandleFunc("POST /admin/orders", s.putOrder)
	s.mux.HandleFunc("DELETE /admin/orders/{id}", s.dropOrder)
	s.mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		s.fail(w, http.StatusNotFound, "not_found", "Nothing is at "+r.URL.Path+".")
	})
	return s
}

// ServeHTTP answers a request.
func (s *Slipway) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.mux.ServeHTTP(w, r) }

const micros = "2006-01-02T15:04:05.000000Z"

func (s *Slipway) seed(n int, goods []Goods) {
	r := rand.New(rand.NewPCG(7, 50))
	first := time.Date(2026, 3, 2, 9, 14, 3, 201_000, time.UTC)
	names := []string{"Ines Marlow", "Tobias Ferrow", "Aud Kelling", "Piet Sander", "Lena Brask", "Otis Varne",
		"Mira Holt"}
	towns := []shopAddress{{"", "7 Sail Loft Lane", "Port Ensel", "40112", "NL"},
		{"", "Kaistraße 3", "Norderwyk", "26410", "DE"},
		{"", "2 Brygga", "Sundvik", "3915", "NO"}}
	for i := range 60 {
		name := names[i%len(names)]
		mail := fmt.Sprintf("%s.%d@harbour.example", strings.ToLower(strings.Fields(name)[0]), i+1)
		s.customers = append(s.customers, shopCustomer{ID: i + 1, Name: name, Mail: mail})
	}
	for i := range n {
		who := s.customers[r.IntN(len(s.customers))]
		to := towns[r.IntN(len(towns))]
		to.Name = who.Name
		at := first.Add(time.Duration(i) * 37 * time.Minute)
		o := &shopOrder{ID: firstID + int64(i), Reference: fmt.Sprintf("SL-%d", 1001+i), State: "placed",
			PlacedAt: at.Format(micros), ChangedAt: at.Format(micros),
			Buyer:     shopCustomer{Name: who.Name, Mail: who.Mail},
			DeliverTo: to, Currency: "EUR"}
		if i%5 == 4 {
			text := "Please ring the bell twice."
			o.Remarks = &text
		}
		for k := range 1 + r.IntN(4) {
			g := goods[r.IntN(len(goods))]
			o.Lines = append(o.Lines, shopLine{Line: k + 1, SKU: g.SKU, Title: g.Title, Count: 1 + r.IntN(6),
				Each: g.Price})
		}
		if i%17 == 16 {
			o.State, o.ChangedAt = "withdrawn", at.Add(9*time.Hour).Format(micros)
		}
		o.sum()
		s.orders = append(s.orders, o)
		if i%3 == 0 {
			s.parcels = append(s.parcels, shopParcel{ID: fmt.Sprintf("P-%d", 500+i), Order: o.Reference,
				SentAt: at.Add(26 * time.Hour).Format(micros), Carrier: "Fjord Freight",
				Tracking: fmt.Sprintf("FF%09d", 7_000_000+i),
				Contents: []parcelCount{{1, o.Lines[0].Count}}})
		}
	}
	s.sort()
}

// sum works out what an order counts and costs.
func (o *shopOrder) sum() {
	total := order.NumberOf(0)
	for _, l := range o.Lines {
		price, err := order.ParseNumber(l.Each)
		if err == nil {
			price, err = price.Mul(order.NumberOf(int64(l.Count)))
		}
		if err == nil {
			total, err = total.Add(price)
		}
		if err != nil {
			total = order.Number{}
			break
		}
	}
	o.LineCount, o.Total = len(o.Lines), total.String()
}

func (s *Slipway) sort() {
	slices.SortFunc(s.orders, func(x, y *shopOrder) int {
		return cmp.Or(strings.Compare(x.ChangedAt, y.ChangedAt), cmp.Compare(x.ID, y.ID))
	})
}

// guarded looks at who asks and how often, does what a fault says, and answers.
func (s *Slipway) guarded(w http.ResponseWriter, r *http.Request, f http.HandlerFunc) {
	if r.Header.Get("Authorization") != "Bearer "+s.token {
		w.Header().Set("WWW-Authenticate", "Bearer")
		s.fail(w, http.StatusUnauthorized, "unauthorized", "The token is unknown.")
		return
	}
	if !s.limit.Allow() {
		w.Header().Set("Retry-After", "1")
		s.fail(w, http.StatusTooManyRequests, "too_many", "20 requests a second are allowed.")
		return
	}
	s.faults.pass(w, r, f, s.fail)
}

func (s *Slipway) fail(w http.ResponseWriter, status int, code, message string) {
	answer(w, status, "application/json", map[string]any{"error": map[string]string{"code": code, "message": message}})
}

func (s *Slipway) answer(w http.ResponseWriter, v any) {
	answer(w, http.StatusOK, "application/json; charset=utf-8", v)
}

func (s *Slipway) listOrders(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	limit := usualOfPage
	if text := q.Get("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > mostOfPage {
			s.fail(w, http.StatusUnprocessableEntity, "bad_limit", fmt.Sprintf("limit is 1 to %d.", mostOfPage))
			return
		}
		limit = n
	}
	since := ""
	if text := q.Get("changed_since"); text != "" {
		var err error
		if since, err = sinceOf(text); err != nil {
			s.fail(w, http.StatusUnprocessableEntity, "bad_time", "changed_since is a time of RFC 3339.")
			return
		}
	}
	var after shopOrder
	if text := q.Get("after"); text != "" {
		var err error
		if after, err = cursorOf(text); err != nil {
			s.fail(w, http.StatusUnprocessableEntity, "bad_cursor", "after is not one that Slipway gave.")
			return
		}
	}
	page, more := s.page(since, after, limit)
	if more {
		q.Set("after", cursor(&page[len(page)-1]))
		w.Header().Set("Link", "<"+(&url.URL{Path: r.URL.Path, RawQuery: q.Encode()}).String()+`>; rel="next"`)
	}
	s.answer(w, map[string]any{"orders": page})
}

func sinceOf(text string) (string, error) {
	at, err := time.Parse(time.RFC3339Nano, text)
	return at.UTC().Format(micros), err
}

// cursor names the place behind an order.
func cursor(o *shopOrder) string {
	return base64.RawURLEncoding.EncodeToString(fmt.Appendf(nil, "%s %d", o.ChangedAt, o.ID))
}

func cursorOf(text string) (after shopOrder, err error) {
	b, err := base64.RawURLEncoding.DecodeString(text)
	changed, id, ok := strings.Cut(string(b), " ")
	if err == nil && ok {
		after.ChangedAt = changed
		after.ID, err = strconv.ParseInt(id, 10, 64)
	}
	if !ok {
		err = fmt.Errorf("after is not one that Slipway gave")
	}
	return after, err
}

// page returns some of the orders behind a place, and whether there are more.
func (s *Slipway) page(since string, after shopOrder, limit int) (page []shopOrder, more bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	page = []shopOrder{}
	for _, o := range s.orders {
		if o.ChangedAt < since || after.ID != 0 && (o.ChangedAt < after.ChangedAt || o.ChangedAt == after.ChangedAt &&
			o.ID <= after.ID) {
			continue
		}
		if len(page) == limit {
			return page, true
		}
		page = append(page, *o)
	}
	return page, false
}

func (s *Slipway) find(id string) (o shopOrder, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.orders, func(o *shopOrder) bool { return strconv.FormatInt(o.ID, 10) == id })
	if i >= 0 {
		o = *s.orders[i]
	}
	return o, i >= 0
}

func (s *Slipway) oneOrder(w http.ResponseWriter, r *http.Request) {
	o, ok := s.find(r.PathValue("id"))
	if !ok {
		s.fail(w, http.StatusNotFound, "not_found", "No order "+r.PathValue("id")+".")
		return
	}
	s.answer(w, o)
}

func (s *Slipway) listCustomers(w http.ResponseWriter, r *http.Request) {
	const size = 25
	page, err := strconv.Atoi(cmp.Or(r.URL.Query().Get("page"), "1"))
	if err != nil || page < 1 {
		s.fail(w, http.StatusUnprocessableEntity, "bad_page", "page is 1 or more.")
		return
	}
	from := min((page-1)*size, len(s.customers))
	s.answer(w, map[string]any{"customers": s.customers[from:min(from+size, len(s.customers))],
		"pages": (len(s.customers) + size - 1) / size})
}

func (s *Slipway) putOrder(w http.ResponseWriter, r *http.Request) {
	o := &shopOrder{}
	if err := json.NewDecoder(r.Body).Decode(o); err != nil || o.ID == 0 {
		s.fail(w, http.StatusBadRequest, "bad_order", "An order with an id is needed.")
		return
	}
	o.ChangedAt = s.now().UTC().Format(micros)
	o.sum()
	s.mu.Lock()
	if i := slices.IndexFunc(s.orders, func(old *shopOrder) bool { return old.ID == o.ID }); i >= 0 {
		s.orders[i] = o
	} else {
		s.orders = append(s.orders, o)
	}
	s.sort()
	s.mu.Unlock()
	s.tell("order.changed", o)
	s.answer(w, o)
}

// dropOrder takes an order away as if it had never been there.
func (s *Slipway) dropOrder(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.orders = slices.DeleteFunc(s.orders, func(o *shopOrder) bool {
		return strconv.FormatInt(o.ID, 10) == r.PathValue("id")
	})
	w.WriteHeader(http.StatusNoContent)
}
