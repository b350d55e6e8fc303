package load

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"koinos/api"
	"koinos/book"
	"koinos/core/check"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/jsondoc"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/core/tree"
	"koinos/store"
)

// Telling is what somebody says about a stored order, besides the notice itself.
type Telling struct {
	Kind   intent.Kind
	Order  int64
	Seen   int            // revision that the order must still have; 0 is whichever
	Accept []finding.Code // warnings that do not hold it
	Body   []byte         // the notice as it came: it is kept as a document
	By     string
}

// Tell carries out what somebody says about a stored order: a change, an answer, goods that moved, an invoice, or a
// cancellation. The fields are those of a mapping for such records, and the same book takes it. A warning for a
// document holds a telling: nothing is done then, and the outcome is Held. ErrNotFound says that there is no such
// order.
func (e *Engine) Tell(ctx context.Context, t Telling, n *api.Notice) (api.Posted, error) {
	out, w, err := e.telling(ctx, &t, n)
	if err != nil || w.entry.Refused() {
		return out, err
	}
	d := api.Document{SHA: w.sha, Name: string(t.Kind) + ".json", Shape: source.Shape{Format: source.JSON},
		ReceivedAt: e.now(), ReceivedBy: t.By}
	r, err := e.counter.Take(ctx, w.session, &w.entry, store.Body{Document: d, Bytes: t.Body, Posted: true})
	if err != nil {
		return out, err
	}
	out.Outcome, out.Changes, out.Findings = r.Outcome, r.Changes, append(out.Findings, forBody(w.entry.Findings)...)
	if r.Revision != 0 {
		out.Revision = r.Revision
	}
	if out.Outcome == outcome.Changed {
		out.Document = w.sha
	}
	return out, nil
}

// ImagineTold returns the order as it would be if that were said about it, and stores nothing. If it would be refused
// or held, it returns the order as it is.
func (e *Engine) ImagineTold(ctx context.Context, t Telling, n *api.Notice) (*store.StoredOrder, error) {
	_, w, err := e.telling(ctx, &t, n)
	if err != nil {
		return nil, err
	}
	out, err := e.imagine(ctx, w.session, []book.Entry{w.entry})
	if err != nil || out[0].Order == nil {
		return e.store.Order(ctx, t.Order)
	}
	return out[0].Order, nil
}

// word is a telling on its way into the book.
type word struct {
	entry   book.Entry
	session *book.Session
	sha     string // of the document that it is kept as
}

// telling makes an entry of what is said about a stored order. Findings that do not depend on the store are in out.
func (e *Engine) telling(ctx context.Context, t *Telling, n *api.Notice) (out api.Posted, w word, err error) {
	out = api.Posted{Outcome: outcome.Refused, OrderID: t.Order, Findings: []finding.Finding{}}
	set, err := e.store.Set(ctx)
	if err != nil {
		return out, w, err
	}
	stored, err := e.store.Head(ctx, t.Order)
	if err != nil {
		return out, w, err
	}
	out.Number, out.Revision = stored.Number, stored.Revision
	i := &intent.Intent{Kind: t.Kind, Target: t.Order, Seen: t.Seen}
	o := &i.Order
	o.Kind, o.Number, o.Currency = stored.Kind, stored.Number, stored.Currency
	o.Statement = &order.Statement{}
	if fieldsOf(n) > check.MostParts {
		i.Add(finding.OrderTooWide, 0, "", "", "What is said names more than %d different fields.", check.MostParts)
	} else {
		fillAll(i, n, t.Body)
		check.Lists(o, i, set)
	}
	o.Partner = stored.Partner // who need not be in today's list
	sum := sha256.Sum256(t.Body)
	w.sha = hex.EncodeToString(sum[:])
	if w.entry = book.NewEntry(i, w.sha, true); i.Refused() {
		out.Findings = i.Findings
		return out, w, nil
	}
	same := order.Order{Kind: stored.Kind, Partner: stored.Partner, SenderNumber: stored.SenderNumber}
	w.entry.Identity = same.Identity() // nothing else of the order is taken together with it
	w.session = book.Begin(book.Rules{Rounding: order.HalfUp, Lists: set, Real: true, Now: e.now,
		Source: store.Source{Document: w.sha, By: t.By},
		Holds: func(f *finding.Finding) bool {
			// a supplier's answer is a fact; that it differs waits for a buyer elsewhere
			return f.Severity == finding.Warning && f.Code != finding.AnswerDiffers && !slices.Contains(t.Accept, f.Code)
		}})
	return out, w, nil
}

// fieldsOf is how many different fields a notice names.
func fieldsOf(n *api.Notice) int {
	names := map[string]bool{}
	for _, line := range n.Lines {
		for name := range line {
			names[name] = true
		}
	}
	return len(n.Header) + len(names)
}

// fillAll puts all that a notice says into what is said about an order, with its places in the body.
func fillAll(i *intent.Intent, n *api.Notice, body []byte) {
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil {
		root = nil // whoever decoded it has read another form of JSON; there are no places then
	}
	fill(i, order.Header, 0, n.Header, root.Member("header"))
	i.Order.Lines = make([]order.Line, len(n.Lines))
	i.Trace.Paths = noticePaths
	at := root.Member("lines").First()
	for k, line := range n.Lines {
		fill(i, order.Lines, k+1, line, at)
		if at != nil {
			i.Trace.Rows, i.Trace.Records = append(i.Trace.Rows, at.Leaf), append(i.Trace.Records, at.Pointer())
			at = at.Next()
		}
	}
}

// noticePaths is where the fields of a line of a notice stand within it: under their own names.
var noticePaths = func() map[string]string {
	paths := map[string]string{}
	for _, name := range order.FieldNames(order.Lines) {
		paths[name] = "/" + name
	}
	return paths
}()

// unset are fields of orders that no change can set.
var unset = []string{"partner", "sender_number", "total", "tax_amount", "total_before_tax", "amount", "shipped",
	"received", "cancelled", "backordered"}

// fill puts fields, by their names, into what is said about an order or about its line n; in is where they stand.
func fill(i *intent.Intent, level order.Level, n int, values map[string]string, in *tree.Node) {
	o := &i.Order
	var l *order.Line
	if n > 0 {
		l = &o.Lines[n-1]
	}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		value := strings.TrimSpace(values[name])
		var at origin.Place
		if node := in.Member(name); node != nil {
			at = source.PlaceOf(node, 0)
		}
		refuse := func(code finding.Code, hint, format string, args ...any) {
			f := i.Find(code, at, value, n, format, args...)
			f.Field, f.Hint = name, hint
		}
		if name == "id" && l != nil {
			id, err := strconv.Atoi(value)
			if l.ID = id; err != nil || id < 1 {
				refuse(finding.NotANumber, "Send the id of a line as the order has it.", "%q is not the id of a line.", value)
			}
			continue
		}
		if l == nil {
			i.Trace.Add(name, at)
		}
		f, known := order.LookupOf(string(i.Kind), level, name)
		if !known {
			refuse(finding.UnknownChoice, "docs/mapping.md lists the fields of a record of this kind.",
				"A %s has no field %q.", i.Kind, name)
			continue
		}
		if i.Kind == intent.Change {
			of := map[bool]string{true: "an order that is stored", false: "a line that is stored"}[l == nil]
			switch {
			case slices.Contains(unset, name) || l == nil && name == "number":
				refuse(finding.UpdateConflict, "Leave it out; what it is stays as it is.", "A change does not set %s of %s.", name,
					of)
				continue
			case value == "" && !intent.CanBeBlank(name):
				refuse(finding.MustMissing, "Send the value, or leave it out.", "%s cannot be blank.", name)
				continue
			case value == "" && f.Kinds == nil:
				i.Clears = append(i.Clears, intent.Cleared{Line: n, Field: f})
				continue
			}
		}
		switch f.Type {
		case order.Day:
			if _, err := time.Parse(time.DateOnly, value); err != nil && value != "" {
				refuse(finding.NotADate, "Write the day as yyyy-mm-dd.", "%q is not a date for %s.", value, name)
				continue
			}
			f.SetDate(o, l, order.Date(value))
		case order.Decimal, order.Percent:
			number, err := order.ParseNumber(value)
			if err != nil {
				refuse(finding.NotANumber, "Write it with digits and a point, such as 12.5.", "%q is not a number for %s.", value,
					name)
				continue
			}
			f.SetNumber(o, l, number)
		case order.Parts:
			if _, err := order.ParseSchedule(value); err != nil {
				refuse(finding.NotASchedule, "", "%q says no deliveries: %v.", value, err)
				continue
			}
			f.SetText(o, l, value)
		default:
			if f.Type == order.Choice && !slices.Contains(f.Choices, value) {
				refuse(finding.UnknownChoice, "It may be: "+strings.Join(f.Choices, ", ")+".", "%s cannot be %q.", name, value)
				continue
			}
			f.SetText(o, l, value)
		}
	}
}
