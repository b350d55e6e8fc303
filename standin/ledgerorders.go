package standin

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"
	"unicode/utf8"
)

// Sales orders of Ledgerline: what may be written, and when.

const mostLines = 20

func invalid(format string, args ...any) (int, any) {
	return http.StatusUnprocessableEntity, refusal{"invalid", fmt.Sprintf(format, args...), 0}
}

func (l *Ledgerline) order(c *call) *bookOrder {
	id, err := strconv.ParseInt(c.r.PathValue("id"), 10, 64)
	i := slices.IndexFunc(l.orders, func(o *bookOrder) bool { return o.ID == id })
	if err != nil || i < 0 {
		return nil
	}
	return l.orders[i]
}

func noOrder() (int, any) {
	return http.StatusNotFound, refusal{"not_found", "There is no such sales order.", 0}
}

// given shows an order with its ETag.
func given(c *call, status int, o *bookOrder) (int, any) {
	c.header.Set("ETag", o.etag())
	k := *o
	if k.Lines == nil {
		k.Lines = []bookLine{}
	}
	return status, k
}

func (l *Ledgerline) getOrder(c *call) (int, any) {
	o := l.order(c)
	if o == nil {
		return noOrder()
	}
	return given(c, http.StatusOK, o)
}

// head is what may be said of an order's header; absent members are nil.
type head struct {
	OurRef   *string         `json:"our_ref"`
	Customer *int64          `json:"customer_id"`
	BookDate *string         `json:"book_date"`
	Currency *string         `json:"currency"`
	Note     json.RawMessage `json:"note"`
}

// into brings what is said into an order; why is what is wrong with it.
func (h *head) into(l *Ledgerline, o *bookOrder) (why string) {
	if h.Customer != nil {
		if !slices.ContainsFunc(l.customers, func(k bookCustomer) bool { return k.ID == *h.Customer }) {
			return fmt.Sprintf("customer_id: there is no customer %d.", *h.Customer)
		}
		o.Customer = *h.Customer
	}
	if h.BookDate != nil {
		if _, err := time.Parse(time.DateOnly, *h.BookDate); err != nil {
			return fmt.Sprintf("book_date: %q is not a day.", *h.BookDate)
		}
		o.BookDate = *h.BookDate
	}
	if h.Note != nil {
		var note *string
		if err := json.Unmarshal(h.Note, &note); err != nil {
			return "note: it is a text, or null."
		}
		if note != nil && utf8.RuneCountInString(*note) > 200 {
			return "note: it may have 200 letters."
		}
		o.Note = note
	}
	return ""
}

func (l *Ledgerline) addOrder(c *call) (int, any) {
	var h head
	if err := c.into(&h); err != nil {
		return invalid("%v", err)
	}
	if h.OurRef == nil || *h.OurRef == "" || len(*h.OurRef) > 40 || h.Customer == nil || h.BookDate == nil ||
		h.Currency == nil || len(*h.Currency) != 3 {
		return invalid("our_ref, customer_id, book_date and currency are needed.")
	}
	for _, was := range l.orders {
		if was.OurRef == *h.OurRef {
			return http.StatusConflict, refusal{"duplicate", "our_ref is another order's.", was.ID}
		}
	}
	n := l.lastOrder + 1
	o := &bookOrder{ID: n, Number: fmt.Sprintf("LO-%d", 1000+n), OurRef: *h.OurRef, Currency: *h.Currency,
		State: "draft"}
	if why := h.into(l, o); why != "" {
		return invalid("%s", why)
	}
	if c.checks() {
		o.ID, o.Number = 0, ""
		return given(c, http.StatusOK, o)
	}
	l.orders, l.lastOrder = append(l.orders, o), n
	l.touch(o)
	c.header.Set("Location", "/api/v2/sales-orders/"+strconv.FormatInt(n, 10))
	return given(c, http.StatusCreated, o)
}

// matches says whether a request names the state that it changes; status 0 is yes.
func matches(c *call, tag string) (int, any) {
	switch c.r.Header.Get("If-Match") {
	case "":
		return http.StatusPreconditionRequired, refusal{"if_match_needed", "Say with If-Match which state you change.",
			0}
	case tag, `"` + tag + `"`:
		return 0, nil
	}
	return http.StatusPreconditionFailed, refusal{"changed_meanwhile", "It is another one meanwhile.", 0}
}

// changeable returns an order that may be changed; status 0 is yes.
func (l *Ledgerline) changeable(c *call) (o *bookOrder, status int, v any) {
	if o = l.order(c); o == nil {
		status, v = noOrder()
		return nil, status, v
	}
	if o.State == "void" {
		return nil, http.StatusConflict, refusal{"void", "The order is void.", 0}
	}
	return o, 0, nil
}

func (l *Ledgerline) patchOrder(c *call) (int, any) {
	o, status, v := l.changeable(c)
	if status == 0 {
		status, v = matches(c, o.etag())
	}
	if status != 0 {
		return status, v
	}
	var h head
	if err := c.into(&h); err != nil {
		return invalid("%v", err)
	}
	if h.OurRef != nil && *h.OurRef != o.OurRef || h.Currency != nil && *h.Currency != o.Currency {
		return invalid("our_ref and currency cannot be changed.")
	}
	is := *o
	if why := h.into(l, &is); why != "" {
		return invalid("%s", why)
	}
	if c.checks() {
		return given(c, http.StatusOK, &is)
	}
	*o = is
	l.touch(o)
	return given(c, http.StatusOK, o)
}

// said is what may be said of a line.
type said struct {
	OurLine *string      `json:"our_line"`
	Article *int64       `json:"article_id"`
	Qty     *json.Number `json:"qty"`
	Price   *json.Number `json:"unit_price"`
}

func (s *said) into(l *Ledgerline, line *bookLine) (why string) {
	if s.Article != nil {
		if !slices.ContainsFunc(l.articles, func(a bookArticle) bool { return a.ID == *s.Article }) {
			return fmt.Sprintf("article_id: there is no article %d.", *s.Article)
		}
		line.Article = *s.Article
	}
	if s.OurLine != nil {
		line.OurLine = *s.OurLine
	}
	for _, n := range []struct {
		is *json.Number
		to *json.Number
	}{{s.Qty, &line.Qty}, {s.Price, &line.Price}} {
		if n.is != nil {
			if v, err := n.is.Float64(); err != nil || v < 0 {
				return fmt.Sprintf("%q is not a number of 0 or more.", *n.is)
			}
			*n.to = *n.is
		}
	}
	return ""
}

func (l *Ledgerline) addLines(c *call) (int, any) {
	o, status, v := l.changeable(c)
	if status != 0 {
		return status, v
	}
	var body struct {
		Lines []said `json:"lines"`
	}
	if err := c.into(&body); err != nil {
		return invalid("%v", err)
	}
	if len(body.Lines) == 0 || len(body.Lines) > mostLines {
		return invalid("1 to %d lines are added at once.", mostLines)
	}
	added := make([]bookLine, len(body.Lines))
	for i := range body.Lines {
		s := &body.Lines[i]
		if s.Article == nil || s.Qty == nil {
			return invalid("line %d: article_id and qty are needed.", i+1)
		}
		added[i] = bookLine{Price: "0"}
		if why := s.into(l, &added[i]); why != "" {
			return invalid("line %d: %s", i+1, why)
		}
	}
	if c.checks() {
		return http.StatusOK, map[string]any{"lines": added}
	}
	for i := range added {
		l.lastLine++
		added[i].ID = l.lastLine
		added[i].touch()
	}
	o.Lines = append(o.Lines, added...)
	l.touch(o)
	return http.StatusCreated, map[string]any{"lines": added}
}

func (l *Ledgerline) line(c *call) (o *bookOrder, at, status int, v any) {
	if o, status, v = l.changeable(c); status != 0 {
		return nil, 0, status, v
	}
	at = slices.IndexFunc(o.Lines, func(k bookLine) bool {
		return strconv.FormatInt(k.ID,
			10) == c.r.PathValue("line")
	})
	if at < 0 {
		return nil, 0, http.StatusNotFound, refusal{"not_found", "The order has no such line.", 0}
	}
	status, v = matches(c, o.Lines[at].ETag)
	return o, at, status, v
}

func (l *Ledgerline) patchLine(c *call) (int, any) {
	o, at, status, v := l.line(c)
	if status != 0 {
		return status, v
	}
	var s said
	if err := c.into(&s); err != nil {
		return invalid("%v", err)
	}
	is := o.Lines[at]
	if why := s.into(l, &is); why != "" {
		return invalid("%s", why)
	}
	is.touch()
	o.Lines[at] = is
	l.touch(o)
	return http.StatusOK, is
}

func (l *Ledgerline) dropLine(c *call) (int, any) {
	o, at, status, v := l.line(c)
	if status != 0 {
		return status, v
	}
	o.Lines = slices.Delete(o.Lines, at, at+1)
	l.touch(o)
	return http.StatusNoContent, nil
}

func (l *Ledgerline) confirm(c *call) (int, any) {
	o, status, v := l.changeable(c)
	switch {
	case status != 0:
		return status, v
	case o.State != "draft":
		return http.StatusConflict, refusal{"not_a_draft", "The order is confirmed already.", 0}
	case len(o.Lines) == 0:
		return http.StatusConflict, refusal{"no_lines", "An order without lines cannot be confirmed.", 0}
	}
	o.State = "confirmed"
	l.touch(o)
	return given(c, http.StatusOK, o)
}

func (l *Ledgerline) void(c *call) (int, any) {
	o, status, v := l.changeable(c)
	if status != 0 {
		return status, v
	}
	o.State = "void"
	l.touch(o)
	return given(c, http.StatusOK, o)
}

func (l *Ledgerline) meta(*call) (int, any) {
	field := func(name, kind, writable string, required bool, more map[string]any) map[string]any {
		f := map[string]any{"name": name, "type": kind, "writable": writable, "required": required}
		for k, v := range more {
			f[k] = v
		}
		return f
	}
	return http.StatusOK, map[string]any{"fields": []any{
		field("our_ref", "text", "create", true, map[string]any{"max_length": 40}),
		field("customer_id", "number", "always", true, nil), field("book_date", "date", "always", true, nil),
		field("currency", "text", "create", true, map[string]any{"max_length": 3}),
		field("note", "text", "always", false, map[string]any{"max_length": 200}),
		field("state", "choice", "never", false, map[string]any{"choices": []string{"draft", "confirmed", "void"}}),
	}}
}

// byHand changes an order as a person at the program would.
func (l *Ledgerline) byHand(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Note *string                `json:"note"`
		Drop int64                  `json:"drop_line"`
		Qty  map[string]json.Number `json:"qty"`
		Gone bool                   `json:"gone"`
	}
	d := json.NewDecoder(r.Body)
	d.UseNumber()
	if err := d.Decode(&asked); err != nil {
		l.fail(w, http.StatusBadRequest, "bad_body", err.Error())
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	o := l.order(&call{r: r})
	if o == nil {
		l.fail(w, http.StatusNotFound, "not_found", "There is no such sales order.")
		return
	}
	if asked.Gone {
		l.orders = slices.DeleteFunc(l.orders, func(other *bookOrder) bool { return other == o })
		l.changes = append(l.changes, bookChange{Seq: len(l.changes) + 1, Kind: "sales-order", ID: o.ID, Gone: true})
		answer(w, http.StatusOK, "application/json", o)
		return
	}
	if asked.Note != nil {
		o.Note = asked.Note
	}
	o.Lines = slices.DeleteFunc(o.Lines, func(k bookLine) bool { return k.ID == asked.Drop })
	for i := range o.Lines {
		if n, ok := asked.Qty[strconv.FormatInt(o.Lines[i].ID, 10)]; ok {
			o.Lines[i].Qty = n
			o.Lines[i].touch()
		}
	}
	l.touch(o)
	answer(w, http.StatusOK, "application/json", o)
}

// putArticle adds an article as a person would, or takes one away.
func (l *Ledgerline) putArticle(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		SKU, Title string
		Gone       bool
	}
	if err := json.NewDecoder(r.Body).Decode(&asked); err != nil || asked.SKU == "" {
		l.fail(w, http.StatusBadRequest, "bad_body", "An article with a sku is needed.")
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	is := func(a bookArticle) bool { return a.SKU == asked.SKU }
	switch there := slices.ContainsFunc(l.articles, is); {
	case asked.Gone:
		l.articles = slices.DeleteFunc(l.articles, is)
	case !there:
		last := int64(6999)
		for _, a := range l.articles {
			last = max(last, a.ID)
		}
		l.articles = append(l.articles, bookArticle{last + 1, asked.SKU, asked.Title})
	}
	answer(w, http.StatusOK, "application/json", asked)
}

// typeIn makes an order as a person would who works with the program alone.
func (l *Ledgerline) typeIn(w http.ResponseWriter, r *http.Request) {
	o := &bookOrder{State: "draft", Customer: l.customers[0].ID, Currency: "EUR", BookDate: "2026-03-02",
		Lines: []bookLine{}}
	if err := json.NewDecoder(r.Body).Decode(o); err != nil || o.OurRef == "" {
		l.fail(w, http.StatusBadRequest, "bad_body", "An order with an our_ref is needed.")
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.lastOrder++
	o.ID, o.Number = l.lastOrder, fmt.Sprintf("LO-%d", 1000+l.lastOrder)
	l.orders = append(l.orders, o)
	l.touch(o)
	answer(w, http.StatusOK, "application/json", o)
}
