package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	graphql "github.com/graph-gophers/graphql-go"
)

// Slipway's orders by GraphQL, for points.

const shopSchema = `
schema { query: Query }
type Query {
	orders(first: Int!, after: String, changedSince: String): OrderPage!
	order(id: ID!): Order
}
type OrderPage { nodes: [Order!] pageInfo: PageInfo! }
type LinePage { nodes: [Line!] pageInfo: PageInfo! }
type PageInfo { hasNextPage: Boolean! endCursor: String }
type Order {
	id: ID! reference: String! state: String! placedAt: String! changedAt: String! currency: String! remarks: String
	lineCount: Int! total: String! buyer: Buyer! deliverTo: Address!
	lines(first: Int!, after: String): LinePage!
}
type Buyer { name: String! mail: String! }
type Address { name: String! street: String! town: String! zip: String! country: String! }
type Line { line: Int! sku: String! title: String! count: Int! each: String! }
`

const (
	mostPoints  = 1000
	pointsASec  = 100
	mostGraph   = 50 // orders of a page
	mostOfLines = 3  // lines of a page
)

// points are what asking costs: they come back in time.
type points struct {
	mu   sync.Mutex
	left float64
	at   time.Time
}

// spend takes points and returns what is left; where that is less than nothing, how long one has to wait until nothing
// is owed.
func (p *points) spend(n float64, now time.Time) (left float64, wait time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.at.IsZero() {
		p.left = mostPoints
	} else {
		p.left = min(mostPoints, p.left+now.Sub(p.at).Seconds()*pointsASec)
	}
	p.at = now
	if p.left < 0 {
		return p.left, time.Duration(-p.left / pointsASec * float64(time.Second))
	}
	p.left -= n
	return p.left, 0
}

type costKey struct{}

func spend(ctx context.Context, n int) {
	if c, ok := ctx.Value(costKey{}).(*atomic.Int64); ok { // parts of an answer are made side by side
		c.Add(int64(n))
	}
}

func (s *Slipway) graph(schema *graphql.Schema) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var asked struct {
			Query     string         `json:"query"`
			Variables map[string]any `json:"variables"`
		}
		if err := json.NewDecoder(r.Body).Decode(&asked); err != nil {
			s.fail(w, http.StatusBadRequest, "bad_query", err.Error())
			return
		}
		told := func(left float64, wait time.Duration) map[string]any {
			return map[string]any{"points": map[string]any{"left": int(left), "restoredPerSecond": pointsASec,
				"waitMilliseconds": wait.Milliseconds()}}
		}
		if left, wait := s.points.spend(1, s.now()); s.limited && wait > 0 {
			answer(w, http.StatusOK, "application/json", map[string]any{"data": nil, "extensions": told(left, wait),
				"errors": []any{map[string]any{"message": "There are no points left."}}})
			return
		}
		var cost atomic.Int64
		res := schema.Exec(context.WithValue(r.Context(), costKey{}, &cost), asked.Query, "", asked.Variables)
		left, _ := s.points.spend(float64(cost.Load()), s.now())
		out := map[string]any{"extensions": told(left, 0)}
		if len(res.Data) > 0 {
			out["data"] = res.Data
		}
		if len(res.Errors) > 0 {
			out["errors"] = res.Errors
		}
		answer(w, http.StatusOK, "application/json", out)
	}
}

type graphRoot struct{ s *Slipway }

type pageInfo struct {
	HasNextPage bool
	EndCursor   *string
}

type orderPage struct {
	Nodes    *[]*graphOrder
	PageInfo pageInfo
}

type linePage struct {
	Nodes    *[]graphLine
	PageInfo pageInfo
}

type graphLine struct {
	Line       int32
	SKU, Title string
	Count      int32
	Each       string
}

type graphOrder struct {
	o         shopOrder
	ID        graphql.ID
	Reference string
	State     string
	PlacedAt  string
	ChangedAt string
	Currency  string
	Remarks   *string
	LineCount int32
	Total     string
	Buyer     graphBuyer
	DeliverTo shopAddress
}

type graphBuyer struct{ Name, Mail string }

func graphed(o *shopOrder) *graphOrder {
	return &graphOrder{o: *o, ID: graphql.ID(strconv.FormatInt(o.ID, 10)), Reference: o.Reference, State: o.State,
		PlacedAt: o.PlacedAt, ChangedAt: o.ChangedAt, Currency: o.Currency, Remarks: o.Remarks,
		LineCount: int32(o.LineCount), Total: o.Total, Buyer: graphBuyer{o.Buyer.Name, o.Buyer.Mail},
		DeliverTo: o.DeliverTo}
}

// within says whether so many may be asked for at once.
func within(first int32, most int) error {
	if first < 1 || int(first) > most {
		return fmt.Errorf("first is 1 to %d", most)
	}
	return nil
}

// Orders returns a page of orders, those that changed longest ago first.
func (g *graphRoot) Orders(ctx context.Context, a struct {
	First        int32
	After        *string
	ChangedSince *string
}) (*orderPage, error) {
	if err := within(a.First, mostGraph); err != nil {
		return nil, err
	}
	spend(ctx, int(a.First))
	since, after := "", shopOrder{}
	var err error
	if a.ChangedSince != nil {
		if since, err = sinceOf(*a.ChangedSince); err != nil {
			return nil, err
		}
	}
	if a.After != nil {
		if after, err = cursorOf(*a.After); err != nil {
			return nil, err
		}
	}
	page, more := g.s.page(since, after, int(a.First))
	out := &orderPage{Nodes: &[]*graphOrder{}, PageInfo: pageInfo{HasNextPage: more}}
	for i := range page {
		*out.Nodes = append(*out.Nodes, graphed(&page[i]))
	}
	if len(page) > 0 {
		end := cursor(&page[len(page)-1])
		out.PageInfo.EndCursor = &end
	}
	return out, nil
}

// Order returns one order.
func (g *graphRoot) Order(ctx context.Context, a struct{ ID graphql.ID }) *graphOrder {
	spend(ctx, 1)
	if o, ok := g.s.find(string(a.ID)); ok {
		return graphed(&o)
	}
	return nil
}

// Lines returns a page of the order's lines.
func (o *graphOrder) Lines(ctx context.Context, a struct {
	First int32
	After *string
}) (*linePage, error) {
	if err := within(a.First, mostOfLines); err != nil {
		return nil, err
	}
	spend(ctx, int(a.First))
	from := 0
	if a.After != nil {
		n, err := strconv.Atoi(*a.After)
		if err != nil || n < 0 || n > len(o.o.Lines) {
			return nil, fmt.Errorf("after is not one that Slipway gave")
		}
		from = n
	}
	to := min(from+int(a.First), len(o.o.Lines))
	out := &linePage{Nodes: &[]graphLine{}, PageInfo: pageInfo{HasNextPage: to < len(o.o.Lines)}}
	for _, l := range o.o.Lines[from:to] {
		*out.Nodes = append(*out.Nodes, graphLine{int32(l.Line), l.SKU, l.Title, int32(l.Count), l.Each})
	}
	end := strconv.Itoa(to)
	out.PageInfo.EndCursor = &end
	return out, nil
}
