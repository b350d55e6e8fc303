package service

import (
	"context"
	"fmt"
	"koinos/api"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// answer is an operation's body.
type answer[T any] struct{ Body T }

// paged is a page of a list with its link to the next one (RFC 8288).
type paged[T any] struct {
	Link string `header:"Link"`
	Body api.Page[T]
}

// none is the input of operations without input.
type none struct{}

// pageOf returns the items of one page. One more than limit was fetched to see whether there is a next page.
func pageOf[T any](ctx context.Context, items []T, limit int, cursor func(T) string) *paged[T] {
	next := ""
	if len(items) > limit {
		items, next = items[:limit], cursor(items[limit-1])
	}
	return page(ctx, items, next)
}

// page is items with the cursor of what follows; "" means that nothing does.
func page[T any](ctx context.Context, items []T, next string) *paged[T] {
	p := &paged[T]{Body: api.Page[T]{Items: items, Next: next}}
	if items == nil {
		p.Body.Items = []T{}
	}
	if u, ok := ctx.Value(urlKey).(url.URL); ok && next != "" {
		q := u.Query()
		q.Set("cursor", next)
		p.Link = fmt.Sprintf("<%s?%s>; rel=\"next\"", u.Path, q.Encode())
	}
	return p
}

const urlKey contextKey = "url"

// Paging is the input (exported because the framework fills embedded structs only then) of operations that give pages.
type Paging struct {
	Cursor string `query:"cursor" doc:"The next field of the page before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"Items a page"`
}

// number reads a cursor that is a number.
func (p *Paging) number() (int64, error) {
	if p.Cursor == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(p.Cursor, 10, 64)
	if err != nil {
		return 0, badCursor(p.Cursor)
	}
	return n, nil
}

func badCursor(cursor string) error {
	problem := problem("invalid_request", "The cursor is not one that this service gave.")
	problem.Invalid = []api.Invalid{{Where: "query.cursor", Message: cursor}}
	return problem
}

// op describes an operation: its name, its path, and who may call it.
func op(method, path, id, tag, scope, summary string) huma.Operation {
	o := huma.Operation{
		OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary, Tags: []string{tag},
		Security: []map[string][]string{{"token": {scope}}}, Errors: []int{http.StatusUnauthorized,
			http.StatusForbidden},
	}
	if method == http.MethodPost {
		o.DefaultStatus = http.StatusCreated
	}
	for _, kept := range []string{"/loads/{id}/", "/documents/{document}/", "/interchanges/{id}/"} {
		if strings.HasPrefix(path, kept) { // for a time only
			o.Errors = append(o.Errors, http.StatusGone)
		}
	}
	return o
}

// handle registers an operation whose errors become problems.
func handle[I, O any](s *Service, h huma.API, o huma.Operation, f func(context.Context, *I) (*O, error)) {
	huma.Register(h, o, func(ctx context.Context, in *I) (*O, error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, s.fail(ctx, err)
		}
		return out, nil
	})
}

func (s *Service) register(h huma.API) {
	h.UseMiddleware(func(ctx huma.Context, next func(huma.Context)) {
		next(huma.WithValue(ctx, urlKey, ctx.URL()))
	})
	s.documents(h)
	s.mappings(h)
	s.lists(h)
	s.listFiles(h)
	s.names(h)
	s.loads(h)
	s.acts(h)
	s.loadAtOnce(h)
	s.sequences(h)
	s.today(h)
	s.partners(h)
	s.interchanges(h)
	s.orders(h)
	s.notices(h)
	s.export(h)
	s.events(h)
	s.held(h)
	s.standing(h)
	s.systems(h)
	s.subscriptions(h)
	s.editor(h)
	s.access(h)
	s.dataCheck(h)
}
