package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/partner"
	"koinos/core/x12"
	"koinos/exchange"
	"koinos/store"
)

func (s *Service) partners(h huma.API) {
	const tag = "Exchange"
	type body struct{ RawBody []byte }
	put := op(http.MethodPost, "/partners", "keep-partner", tag, "admin", "Keep a trading partner")
	put.Description = "The body is the partner's YAML. It takes the place of one of the same name. Mappings that it " +
		"names and that are not here are made: the standard ones, for orders of this partner."
	put.RequestBody = &huma.RequestBody{Required: true,
		Content: map[string]*huma.MediaType{"application/yaml": {Schema: &huma.Schema{Type: "string"}}}}
	put.Errors = append(put.Errors, http.StatusUnprocessableEntity)
	handle(s, h, put, func(ctx context.Context, in *body) (*answer[api.PartnerDetail], error) {
		p, err := s.exchange.Keep(ctx, string(in.RawBody), callerOf(ctx).name)
		if err != nil {
			return nil, err
		}
		return &answer[api.PartnerDetail]{partnerDetail(p)}, nil
	})
	handle(s, h, op(http.MethodGet, "/partners", "list-partners", tag, "read", "List trading partners"),
		func(ctx context.Context, _ *none) (*answer[api.Page[api.PartnerDetail]], error) {
			kept, err := s.store.Partners(ctx)
			page := api.Page[api.PartnerDetail]{Items: []api.PartnerDetail{}}
			for _, k := range kept {
				p, err := partner.Parse([]byte(k.Text))
				if err != nil {
					return nil, err
				}
				page.Items = append(page.Items, partnerDetail(p))
			}
			return &answer[api.Page[api.PartnerDetail]]{page}, err
		})
	type named struct {
		Name string `path:"name"`
	}
	handle(s, h, op(http.MethodGet, "/partners/{name}", "get-partner", tag, "read", "A trading partner with its text"),
		func(ctx context.Context, in *named) (*answer[api.PartnerDetail], error) {
			p, err := s.exchange.Partner(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return &answer[api.PartnerDetail]{partnerDetail(p)}, nil
		})
	handle(s, h, op(http.MethodGet, "/partners/{name}/numbers", "get-control-numbers", tag, "read",
		"The last control numbers of what went to a partner"),
		func(ctx context.Context, in *named) (*answer[api.ControlNumbers], error) {
			p, err := s.exchange.Partner(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			n, err := s.store.ControlNumbers(ctx, p.Name)
			return &answer[api.ControlNumbers]{n}, err
		})
	type numbers struct {
		Name string `path:"name"`
		Body api.ControlNumbers
	}
	set := op(http.MethodPut, "/partners/{name}/numbers", "put-control-numbers", tag, "admin",
		"Let the control numbers for a partner go on behind others")
	set.Description = "For a partner that another program has sent interchanges to. What is left out, or 0, stays; numbers never go back."
	set.DefaultStatus = http.StatusOK
	set.Errors = append(set.Errors, http.StatusUnprocessableEntity)
	handle(s, h, set, func(ctx context.Context, in *numbers) (*answer[api.ControlNumbers], error) {
		p, err := s.exchange.Partner(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		err = s.store.Write(ctx, func(t *store.Tx) error {
			for _, n := range []struct {
				what string
				last int64
			}{{"interchange", in.Body.Interchange}, {"group", in.Body.Group}} {
				what, last := n.what, n.last
				if last == 0 {
					continue
				}
				if err := t.RaiseNumber(p.Name, what, last); errors.Is(err, store.ErrGivenAgain) {
					return problem("invalid_request", fmt.Sprintf("Control numbers of %ss to %s are beyond %d "+
						"already; numbers never go back.",
						what, p.Name, last))
				} else if err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		n, err := s.store.ControlNumbers(ctx, p.Name)
		return &answer[api.ControlNumbers]{n}, err
	})
	type send struct {
		Name string `path:"name"`
		Body api.Wanted
	}
	out := op(http.MethodPost, "/partners/{name}/send", "send-due", tag, "load", "Tell a partner what is to be said")
	out.Description = "Writes one interchange of all that has not been said yet: 850 of confirmed purchase orders, " +
		"860 of their changes; 855 and 865 as answers, 856 of what has been shipped, 810 of what was not invoiced. " +
		"What breaks the partner's rules is held with the reasons."
	out.DefaultStatus = http.StatusOK
	handle(s, h, out, func(ctx context.Context, in *send) (*answer[api.Sending], error) {
		done, err := s.exchange.Send(ctx, in.Name, in.Body, callerOf(ctx).name)
		return &answer[api.Sending]{done}, err
	})
}

func partnerDetail(p *partner.Partner) api.PartnerDetail {
	d := api.PartnerDetail{Partner: *p, Text: p.Text, In: []string{}, Out: []string{}}
	for _, set := range x12.Sets() {
		if _, ok := p.Sets[set]; !ok {
			continue
		}
		if p.Outgoing(set) {
			d.Out = append(d.Out, set)
		} else {
			d.In = append(d.In, set)
		}
	}
	return d
}

func (s *Service) interchanges(h huma.API) {
	const tag = "Exchange"
	type list struct {
		Paging
		Partner   string `query:"partner"`
		Direction string `query:"direction" enum:"in,out"`
		State     string `query:"state" enum:"received,done,held,rejected,duplicate,doubtful,unknown,ready,sent,accepted,noted,partly,overdue"`
		Kind      string `query:"kind" doc:"Holding a transaction set of this kind, e.g. 855"`
		Order     int64  `query:"order" doc:"Speaking of the order of this id"`
		Speaking  bool   `query:"speaking" doc:"Only those about orders: no acknowledgements"`
	}
	handle(s, h, op(http.MethodGet, "/interchanges", "list-interchanges", tag, "read",
		"List interchanges, newest first"),
		func(ctx context.Context, in *list) (*paged[api.Interchange], error) {
			before, err := in.Paging.number()
			if err != nil {
				return nil, err
			}
			all, err := s.store.Interchanges(ctx, store.InterchangeFilter{Partner: in.Partner, Direction: in.Direction,
				State: in.State, Kind: in.Kind, Order: in.Order, Speaking: in.Speaking, Before: before,
				Limit: in.Limit + 1}, s.now())
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, all, in.Limit, func(i api.Interchange) string { return strconv.FormatInt(i.ID, 10) }),
				nil
		})
	type one struct {
		ID int64 `path:"id" doc:"The interchange's id"`
	}
	handle(s, h, op(http.MethodGet, "/interchanges/{id}", "get-interchange", tag, "read",
		"An interchange with its sets and what became of each"),
		func(ctx context.Context, in *one) (*answer[api.Interchange], error) {
			i, err := s.store.Interchange(ctx, in.ID, s.now())
			return &answer[api.Interchange]{i}, err
		})
	type ofSets struct {
		Paging
		ID     int64  `path:"id" doc:"The interchange's id"`
		State  string `query:"state" enum:"received,done,held,rejected,duplicate,doubtful,ready,sent,accepted,noted"`
		Number string `query:"number" doc:"Its control number, or the number of an order of which it speaks: ours or as it has it"`
	}
	handle(s, h, op(http.MethodGet, "/interchanges/{id}/sets", "list-sets", tag, "read",
		"The transaction sets of an interchange, and what became of each"),
		func(ctx context.Context, in *ofSets) (*paged[api.SetRecord], error) {
			after, err := in.number()
			if err != nil {
				return nil, err
			}
			if _, err := s.store.Interchange(ctx, in.ID, s.now()); err != nil {
				return nil, err
			}
			sets, err := s.store.Sets(ctx, in.ID, store.SetFilter{State: in.State, Number: in.Number,
				After: int(after), Limit: in.Limit + 1})
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, sets, in.Limit, func(r api.SetRecord) string { return strconv.Itoa(r.Seq) }), nil
		})

	type stretch struct {
		ID    int64 `path:"id" doc:"The interchange's id"`
		From  int   `query:"from" minimum:"1" default:"1" doc:"First segment, counted from 1"`
		Limit int   `query:"limit" minimum:"1" maximum:"2000" default:"500"`
	}
	handle(s, h, op(http.MethodGet, "/interchanges/{id}/segments", "get-segments", tag, "read",
		"An interchange as people read it, segment by segment"),
		func(ctx context.Context, in *stretch) (*answer[api.Page[x12.Item]], error) {
			page, err := s.segments(ctx, in.ID, in.From, in.Limit)
			return &answer[api.Page[x12.Item]]{page}, err
		})

	type bySet struct {
		ID  int64 `path:"id" doc:"The interchange's id"`
		Seq int   `path:"seq" minimum:"1" doc:"Which of its transaction sets, counted from 1"`
	}
	handle(s, h, op(http.MethodGet, "/interchanges/{id}/sets/{seq}/orders", "get-set-orders", tag, "read",
		"The orders that a transaction set is about, with the segment and element of each value"),
		func(ctx context.Context, in *bySet) (*answer[api.Page[api.SetOrder]], error) {
			papers, err := s.exchange.SetOrders(ctx, in.ID, in.Seq)
			return &answer[api.Page[api.SetOrder]]{api.Page[api.SetOrder]{Items: papers}}, err
		})
	handle(s, h, op(http.MethodGet, "/interchanges/{id}/content", "get-interchange-content", tag, "read",
		"An interchange's bytes, to be sent by other means"),
		func(ctx context.Context, in *one) (*huma.StreamResponse, error) {
			i, err := s.store.Interchange(ctx, in.ID, s.now())
			if err != nil {
				return nil, err
			}
			f, err := s.exchange.Text(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return stream("application/edi-x12", cmp.Or(i.Name, fmt.Sprintf("interchange-%d.edi", i.ID)),
				func(w io.Writer) error {
					defer f.Close()
					_, err := io.Copy(w, f)
					return err
				}, s), nil
		})

	type came struct {
		streamed
		Name string `query:"name" doc:"What to call it; by default interchange.edi"`
	}
	receive := op(http.MethodPost, "/interchanges", "receive-interchange", tag, "load", "Take in what a partner sent")
	receive.Description = "The body is the bytes as they came, one interchange or several. Each is kept, " +
		"acknowledged, and " +
		"brought into orders before the answer comes. Send the same bytes again where the answer was lost: nothing is " +
		"done twice, and the acknowledgement leaves again. A control number that came before with other content is " +
		"doubtful: a person lets the interchange in, or refuses it."
	receive.BodyReadTimeout = -1 // a large file over a slow line
	receive.RequestBody = &huma.RequestBody{Required: true,
		Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string",
			Format: "binary"}}}}
	handle(s, h, receive, func(ctx context.Context, in *came) (*answer[api.Page[api.Interchange]], error) {
		name := path.Base(strings.ReplaceAll(in.Name, `\`, "/"))
		if in.Name == "" {
			name = "interchange.edi"
		}
		all, err := s.exchange.Receive(ctx, in.body, exchange.Arrival{Name: name, By: callerOf(ctx).name,
			Once: requestName(ctx)})
		return &answer[api.Page[api.Interchange]]{api.Page[api.Interchange]{Items: all}}, notNow(err)
	})
	act := func(verb, id, summary, description string, do func(context.Context, int64) (api.Interchange, error)) {
		o := op(http.MethodPost, "/interchanges/{id}/"+verb, id, tag, "load", summary)
		o.Description = description
		o.DefaultStatus = http.StatusOK
		handle(s, h, o, func(ctx context.Context, in *one) (*answer[api.Interchange], error) {
			i, err := do(ctx, in.ID)
			return &answer[api.Interchange]{i}, notNow(err)
		})
	}
	act("resend", "resend-interchange", "Send an interchange of ours once more",
		"The same bytes under the same control number.",
		func(ctx context.Context, id int64) (api.Interchange, error) {
			return s.exchange.Resend(ctx, id, callerOf(ctx).name)
		})
	act("renumber", "renumber-interchange", "Send what an interchange of ours says once more, under new control numbers",
		"For a partner whose program passes over numbers that it has seen. The answer is the new interchange, a copy of the old one, "+
			"which nobody has to acknowledge any more.",
		func(ctx context.Context, id int64) (api.Interchange, error) {
			return s.exchange.Renumber(ctx, id, callerOf(ctx).name)
		})
	type replaying struct {
		ID     int64    `path:"id" doc:"The interchange's id"`
		Accept []string `query:"accept" maxItems:"20" doc:"Codes of warnings that do not hold what it asks for, also when it is replayed again; x12_rule for broken rules of the partner"`
	}
	replay := op(http.MethodPost, "/interchanges/{id}/replay", "replay-interchange", tag, "load",
		"Do once more what an interchange that came asks for")
	replay.Description = "As far as it has not been done: after the cause of what is held was fixed, or accepted."
	replay.DefaultStatus = http.StatusOK
	handle(s, h, replay, func(ctx context.Context, in *replaying) (*answer[api.Interchange], error) {
		for _, code := range in.Accept {
			if finding.Catalogue[finding.Code(code)].Severity != finding.Warning {
				return nil, problem("invalid_request", fmt.Sprintf("%q is not the code of a warning.", code))
			}
		}
		i, err := s.exchange.Replay(ctx, in.ID, in.Accept, callerOf(ctx).name)
		return &answer[api.Interchange]{i}, notNow(err)
	})
	act("let-in", "let-in-interchange", "Let in an interchange whose control number came before with other content",
		"It is read, acknowledged and done like any other.", func(ctx context.Context, id int64) (api.Interchange,
			error) {
			return s.exchange.Rule(ctx, id, api.LetIn, callerOf(ctx).name)
		})
	act("settle", "settle-interchange", "Say that you have dealt with an interchange",
		"Held sets of one that came count as done as they are, and they are answered from the orders as these are now. "+
			"An interchange of ours that its partner has rejected needs no attention any more.",
		func(ctx context.Context, id int64) (api.Interchange, error) {
			return s.exchange.Settle(ctx, id, callerOf(ctx).name)
		})
	type deciding struct {
		ID   int64 `path:"id" doc:"The interchange's id"`
		Seq  int   `path:"seq" doc:"The set's number in the interchange"`
		Body api.SetDecision
	}
	decide := op(http.MethodPost, "/interchanges/{id}/sets/{seq}/decision", "decide-set", tag, "load",
		"Take some of the changes that a transaction set asks for, and refuse the others")
	decide.Description = "Each finding change_asked of the set names the line of the set that asks for it; the answer to the " +
		"set (865) then says for each line whether it was taken. An empty list refuses all, and the order stays as it is."
	decide.DefaultStatus = http.StatusOK
	handle(s, h, decide, func(ctx context.Context, in *deciding) (*answer[api.Interchange], error) {
		i, err := s.exchange.Decide(ctx, in.ID, in.Seq, in.Body.Take, callerOf(ctx).name)
		if cannot := (*exchange.Undecidable)(nil); errors.As(err, &cannot) {
			err = problem("invalid_request", cannot.Message)
		}
		return &answer[api.Interchange]{i}, notNow(err)
	})
	act("refuse", "refuse-interchange", "Refuse an interchange whose control number came before with other content",
		"Nothing that it asks for is done, and a TA1 tells the sender so (R, 025).",
		func(ctx context.Context, id int64) (api.Interchange, error) {
			return s.exchange.Rule(ctx, id, api.Refused, callerOf(ctx).name)
		})
}

func notNow(err error) error {
	if errors.Is(err, exchange.ErrNotNow) {
		return problem("not_now", strings.TrimPrefix(err.Error(), exchange.ErrNotNow.Error()+": ")+".")
	}
	return err
}

// errEnough ends a reading that has all it wants.
var errEnough = errors.New("enough")

// outside are the envelopes of which an item is a part.
func outside(envelopes []x12.Item, item x12.Item) []x12.Item {
	return slices.DeleteFunc(envelopes, func(e x12.Item) bool { return e.Depth >= item.Depth })
}

func (s *Service) segments(ctx context.Context, id int64, from, limit int) (api.Page[x12.Item], error) {
	page := api.Page[x12.Item]{Items: []x12.Item{}}
	f, err := s.exchange.Text(ctx, id)
	if err != nil {
		return page, err
	}
	defer f.Close()
	var around []x12.Item // the envelopes in which the first segment stands
	err = x12.Outline(f, func(item x12.Item) error {
		if item.Row < from {
			if item.Kind != "segment" {
				around = append(outside(around, item), item)
			}
			return nil
		}
		if len(page.Items) == 0 {
			page.Items = append(page.Items, outside(around, item)...)
		}
		if len(page.Items) >= limit {
			page.Next = fmt.Sprint(item.Row)
			return errEnough
		}
		page.Items = append(page.Items, item)
		return nil
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return page, err
}
