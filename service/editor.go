package service

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/drafting"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/reading"
	"koinos/core/source"
	"koinos/core/writing"
	"koinos/load"
	"koinos/store"
)

// on is a document that was opened for one answer, with the lists that mappings use.
type on struct {
	api.Document
	io.ReaderAt
	io.Closer
	set *list.Set
}

func (s *Service) on(ctx context.Context, document string) (*on, error) {
	d, f, err := s.openDocument(ctx, document)
	if err != nil {
		return nil, err
	}
	set, err := s.store.Set(ctx)
	if err != nil {
		f.Close()
		return nil, err
	}
	return &on{d, f, f, set}, nil
}

// meant returns the mapping that a request means: its own text, or a stored version.
func (s *Service) meant(ctx context.Context, ref api.MappingRef) (*mapping.Mapping, error) {
	text := ref.Text
	if text == "" {
		kept, err := s.store.Mapping(ctx, ref.Name, ref.Version)
		if err != nil {
			return nil, err
		}
		text = kept.Text
	}
	return mapping.Parse([]byte(text))
}

// asked is a question about a document.
type asked[Q any] struct {
	Document string `path:"document" doc:"SHA-256 of a document, or its first letters"`
	Body     Q
}

// ask answers a question about a document; nothing is stored.
func ask[Q, A any](s *Service, h huma.API, path, id, about string,
	reply func(context.Context, *on, *Q) (*A, error)) {
	o := op(http.MethodPost, "/documents/{document}/"+path, id, "Mapping editor", "read", about)
	o.DefaultStatus = http.StatusOK
	o.Errors = append(o.Errors, http.StatusNotFound, http.StatusUnprocessableEntity)
	handle(s, h, o, func(ctx context.Context, in *asked[Q]) (*answer[A], error) {
		d, err := s.on(ctx, in.Document)
		if err != nil {
			return nil, err
		}
		defer d.Close()
		v, err := reply(ctx, d, &in.Body)
		if err != nil {
			return nil, err
		}
		return &answer[A]{*v}, nil
	})
}

func (s *Service) editor(h huma.API) {
	const tag = "Mapping editor"
	ask(s, h, "draft", "draft-mapping", "Propose a mapping for a document",
		func(ctx context.Context, d *on, q *api.NewDraft) (*drafting.Proposal, error) {
			known, err := s.known(ctx)
			if err != nil {
				return nil, err
			}
			kind, says, err := drafting.KindOf(q.Kind, q.Of)
			if err != nil {
				return nil, problem("invalid_request", finding.Capital(err.Error())+".")
			}
			p, err := drafting.Draft(d, d.Size, drafting.Hints{Name: q.Name, Partner: q.Partner, Kind: kind, Says: says,
				Lists: d.set, Known: known, Limits: s.cfg.Limits})
			if p != nil {
				return p, nil // one that needs a hand is still a beginning: its mistakes show in the editor
			}
			return nil, err
		})
	ask(s, h, "preview", "preview-mapping", "What a mapping makes of the part of a document that is looked at",
		func(ctx context.Context, d *on, q *api.NewPreview) (*api.Preview, error) {
			m, err := s.meant(ctx, q.Mapping)
			if err != nil {
				return nil, err
			}
			return load.Look(ctx, d, d.Size, m, d.set, s.cfg.Limits,
				load.View{Sheet: q.Sheet, From: q.From, To: q.To, Row: q.Row, Seq: q.Seq})
		})
	ask(s, h, "coverage", "cover-document", "What of a document a mapping does not use, and what lists do not know",
		func(ctx context.Context, d *on, q *api.MappingRef) (*reading.Coverage, error) {
			m, err := s.meant(ctx, *q)
			if err != nil {
				return nil, err
			}
			c, _, err := load.Coverage(ctx, d, d.Size, m, d.set, s.cfg.Limits)
			return c, err
		})
	ask(s, h, "comparison", "compare-mappings", "How the orders of a document differ between two mappings",
		func(ctx context.Context, d *on, q *api.NewComparison) (*api.Comparison, error) {
			was, err := s.meant(ctx, q.Was)
			if err != nil {
				return nil, err
			}
			is, err := s.meant(ctx, q.Is)
			if err != nil {
				return nil, err
			}
			return load.Compare(ctx, d, d.Size, was, is, d.set, s.cfg.Limits)
		})

	handle(s, h, op(http.MethodGet, "/fields", "list-fields", tag, "read",
		"The fields of an order that a mapping can bind"),
		func(context.Context, *none) (*answer[api.Page[api.Field]], error) {
			page := api.Page[api.Field]{}
			for _, level := range order.Levels {
				for _, f := range order.AllFields(level) {
					field := api.Field{Level: level, Name: f.Name, Type: f.Type, About: f.About, Choices: f.Choices,
						Needed: []string{}}
					if mapping.Needs(intent.Order, f) {
						field.Needed = append(field.Needed, order.Kinds...)
					}
					for _, kind := range intent.Notices {
						if mapping.Needs(intent.Kind(kind), f) {
							field.Needed = append(field.Needed, kind)
						}
					}
					page.Items = append(page.Items, field)
				}
			}
			return &answer[api.Page[api.Field]]{page}, nil
		})

	s.trust(h)
}

func (s *Service) trust(h huma.API) {
	type whyOf struct {
		ID    int64  `path:"id" doc:"The order's id"`
		Field string `query:"field" required:"true" doc:"Field of the order, e.g. ship_to.code"`
		Line  int    `query:"line" minimum:"0" doc:"Which line, counted from 1; 0 is the header"`
	}
	handle(s, h, op(http.MethodGet, "/orders/{id}/why", "explain-value", "Orders", "read",
		"Why an order says what it says: the place, and every step on the way"),
		func(ctx context.Context, in *whyOf) (*answer[api.Why], error) {
			w, err := s.engine.Why(ctx, in.ID, in.Line, in.Field)
			if err != nil {
				return nil, err
			}
			return &answer[api.Why]{*w}, nil
		})

	type missingOf struct {
		ID int64 `path:"id" doc:"The load's id"`
	}
	handle(s, h, op(http.MethodGet, "/loads/{id}/missing", "list-missing", "Loads", "read",
		"What lists and crosswalks did not know during a load"),
		func(ctx context.Context, in *missingOf) (*answer[api.Page[reading.Miss]], error) {
			if _, err := s.engine.Kept(ctx, in.ID); err != nil {
				return nil, err
			}
			misses, err := s.store.Misses(ctx, in.ID)
			return &answer[api.Page[reading.Miss]]{api.Page[reading.Miss]{Items: misses}}, err
		})

	type named struct {
		Name string `path:"name" doc:"Name of the mapping"`
	}
	handle(s, h, op(http.MethodGet, "/mappings/{name}/versions", "list-mapping-versions", "Mappings", "read",
		"Versions of a mapping, newest first"),
		func(ctx context.Context, in *named) (*answer[api.Page[api.Mapping]], error) {
			versions, err := s.store.MappingVersions(ctx, in.Name)
			return &answer[api.Page[api.Mapping]]{api.Page[api.Mapping]{Items: versions}}, err
		})

	blank := op(http.MethodGet, "/mappings/{name}/blank", "get-blank-sheet", "Mappings", "read",
		"A workbook to fill in, for a mapping of rows")
	blank.Responses = file("The workbook", xlsxType)
	blank.Errors = append(blank.Errors, http.StatusUnprocessableEntity)
	handle(s, h, blank, func(ctx context.Context, in *ByMapping) (*huma.StreamResponse, error) {
		m, err := s.parsed(ctx, in.Name, in.Version)
		if err != nil {
			return nil, err
		}
		set, err := s.store.Set(ctx)
		if err != nil {
			return nil, err
		}
		var buf bytes.Buffer
		if err := writing.Blank(&buf, m, set); err != nil {
			return nil, problem("invalid_request", err.Error())
		}
		return stream(xlsxType, m.Name+"-blank.xlsx", func(w io.Writer) error {
			_, err := buf.WriteTo(w)
			return err
		}, s), nil
	})

	type written struct {
		ByMapping
		Load   int64   `query:"load" doc:"Orders that this load stored"`
		Order  []int64 `query:"order" doc:"Ids of orders"`
		Format string  `query:"format" enum:"csv,xlsx,json,ndjson" doc:"Format of the document; by default that of the mapping. A table can be csv or xlsx"`
	}
	write := op(http.MethodGet, "/mappings/{name}/document", "write-document", "Mappings", "read",
		"Stored orders as a document that the mapping reads")
	write.Description = "The header Koinos-Problems says how many values the document has no way to say."
	write.Responses = file("The document", "text/csv", xlsxType, "application/json", "application/x-ndjson")
	write.Errors = append(write.Errors, http.StatusUnprocessableEntity)
	handle(s, h, write, func(ctx context.Context, in *written) (*huma.StreamResponse, error) {
		m, err := s.parsed(ctx, in.Name, in.Version)
		if err != nil {
			return nil, err
		}
		if m, err = writing.In(m, source.Format(in.Format)); err != nil {
			return nil, problem("invalid_request", finding.Capital(err.Error())+".")
		}
		set, err := s.store.Set(ctx)
		if err != nil {
			return nil, err
		}
		orders, err := s.ordersOf(ctx, in.Load, in.Order)
		if err != nil {
			return nil, err
		}
		var buf bytes.Buffer
		problems, err := writing.Write(&buf, m, orders, set)
		if err != nil {
			return nil, problem("invalid_request", err.Error())
		}
		kind := map[string]string{"csv": "text/csv", "xlsx": xlsxType, "json": "application/json",
			"ndjson": "application/x-ndjson"}[string(writing.Format(m))]
		return &huma.StreamResponse{Body: func(c huma.Context) {
			c.SetHeader("Koinos-Problems", strconv.Itoa(len(problems)))
			stream(kind, m.Name+"."+string(writing.Format(m)), func(w io.Writer) error {
				_, err := buf.WriteTo(w)
				return err
			}, s).Body(c)
		}}, nil
	})
}

// mostWritten is how many orders one document is written from, because they are in memory.
const mostWritten = 10_000

func (s *Service) ordersOf(ctx context.Context, loadID int64, ids []int64) ([]order.Order, error) {
	if loadID > 0 {
		found, _, err := s.store.Orders(ctx, store.OrderFilter{Load: loadID, Limit: mostWritten + 1})
		if err != nil {
			return nil, err
		}
		for i := len(found) - 1; i >= 0; i-- { // oldest first, as they stood in their document
			ids = append(ids, found[i].ID)
		}
	}
	if len(ids) == 0 || len(ids) > mostWritten {
		p := problem("invalid_request", "Name a load, or orders, of up to "+strconv.Itoa(mostWritten)+" orders.")
		p.Invalid = []api.Invalid{{Where: "query.order", Message: strconv.Itoa(len(ids)) + " orders"}}
		return nil, p
	}
	orders := make([]order.Order, len(ids))
	for i, id := range ids {
		o, err := s.store.Order(ctx, id)
		if err != nil {
			return nil, err
		}
		orders[i] = o.Order
	}
	return orders, nil
}

// known returns every stored mapping, whose headings are words for drafts.
func (s *Service) known(ctx context.Context) ([]*mapping.Mapping, error) {
	kept, err := s.store.Mappings(ctx)
	var all []*mapping.Mapping
	for _, k := range kept {
		if m, err := mapping.ParseKept(k.Text); err == nil {
			all = append(all, m)
		}
	}
	return all, err
}
