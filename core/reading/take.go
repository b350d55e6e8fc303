package reading

import (
	"fmt"
	"slices"
	"strings"

	"koinos/core/check"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/x12"
)

// taken is a value on its way into an order.
type taken struct {
	cell source.Cell
	at   where
	ok   bool
}

// sign is a currency that stood beside a figure.
type sign struct {
	means, text, field string
	line               int
	at                 where
}

// fetch finds a binding's value; false if there is none.
func (w *worker) fetch(b *bound, v view) (taken, bool) {
	if b.column > 0 && w.watch == nil { // what nearly every binding is
		c := cell(&v.row.Record, b.column)
		return taken{c, where{rec: &v.row.Record, column: b.column}, true}, b.spots[0].is(c)
	}
	if b.Result.Step != "" {
		if b.When != nil && !w.counts(b, v, "") {
			return taken{}, false
		}
		return w.result(b, v)
	}
	var t taken
	w.view, w.of, w.beside = v, b.Of, b.Beside
	for i := range b.spots {
		var ok bool
		if t.cell, t.at, ok = w.find(&b.spots[i]); ok {
			t.ok = true
			if b.spots[i].many {
				t = w.several(b, &b.spots[i], t)
			}
			break
		}
	}
	if b.When != nil && !w.counts(b, v, t.cell.Text) {
		w.of = ""
		return taken{}, false
	}
	if t.ok {
		w.step(b, t, "found")
	}
	if b.Expr == nil {
		w.of = ""
		return t, t.ok
	}
	defer func() { w.of = "" }()
	if !t.ok && len(b.spots) > 0 && len(b.reads) == 0 {
		return t, false // nothing to work on: a default may stand in
	}
	if t.cell.Kind == source.ErrorValue || t.cell.Kind == source.Unkept {
		return t, t.ok
	}
	w.loc, w.reads = b.loc, b.reads
	w.env.Value, w.env.Row, w.env.Sheet = t.cell.Text, v.row.Row, v.row.Sheet
	value, err := b.Expr.Run(&w.vm, &w.env)
	if t.at.rec == nil || t.at.column == 0 && t.at.node == nil {
		t.at = where{rec: &v.row.Record}
		if len(b.reads) > 0 {
			_, t.at, _ = w.find(&b.reads[0])
		}
	}
	if err != nil {
		w.bad(b, t, finding.ExpressionFailed, "The expression of %s at %s failed: %v.", b.Field.Name, b.Expr.At, err)
		return t, false
	}
	t.cell.Text, t.cell.Kind = mapping.ValueText(value)
	t.ok = t.cell.Text != ""
	if t.ok {
		w.step(b, t, "expr "+b.Expr.Text)
	}
	return t, t.ok
}

// counts evaluates the condition of a binding; value is what was found for it.
func (w *worker) counts(b *bound, v view, value string) bool {
	of := w.of
	w.of, w.loc = "", b.loc // a condition looks at its own row
	defer func() { w.view, w.of = v, of }()
	return w.holds(b.When, b.cond, v, value, func(err error) {
		w.bad(b, taken{at: where{rec: &v.row.Record}}, finding.ExpressionFailed,
			"The condition of %s at %s failed: %v.", b.Field.Name, b.When.At, err)
	})
}

func (w *worker) step(b *bound, t taken, what string) {
	if w.watch == nil {
		return
	}
	at := t.at.place()
	w.watch(Step{Line: w.now, Field: b.Field.Name, What: what, Text: t.cell.Text, Place: at, At: at.String()})
}

// several combines the values of a path that leads to more than one, as repeat says. Without repeat, values that differ
// are an error.
func (w *worker) several(b *bound, s *spot, first taken) taken {
	var texts []string
	var seen map[string]bool
	var sum order.Number
	last := first
	nodes := w.nodes[:0]
	if from := w.nodeFor(s); from != w.view.row.Node {
		nodes = w.shared(s, from)
	} else {
		nodes = s.src.Path.Append(nodes, from)
		w.nodes = nodes
	}
	if len(nodes) == 1 && b.Repeat != "sum" {
		return first
	}
	for _, n := range nodes {
		var t taken
		if t.cell, t.at, t.ok = nodeCell(&w.view.row.Record, n); !t.ok {
			continue
		}
		last = t
		switch b.Repeat {
		case "join":
			if seen == nil {
				seen = map[string]bool{}
			}
			if !seen[t.cell.Text] {
				seen[t.cell.Text] = true
				texts = append(texts, t.cell.Text)
			}
		case "sum":
			one, _, err := b.loc.Number(t.cell, true)
			if err == nil {
				sum, err = sum.Add(one)
			}
			if err != nil {
				w.bad(b, t, finding.NotANumber, "%q cannot be added to %s: %v.", t.cell.Text, b.Field.Name, err)
			}
		case "", "agree":
			if t.cell.Text != first.cell.Text && !w.sameValue(b, first.cell, t.cell) {
				code := finding.SeveralValues
				// what partners send besides is no error of theirs
				if _, is := s.src.Path.(*x12.Address); is && b.Repeat == "" {
					code = finding.ValueDropped
				}
				w.bad(b, t, code, "%s leads to %q and to %q; which of them is %s?", s.src.Text, first.cell.Text,
					t.cell.Text, b.Field.Name)
				return first
			}
		}
	}
	switch b.Repeat {
	case "last":
		return last
	case "join":
		first.cell.Text = strings.Join(texts, b.Separator)
	case "sum":
		first.cell = source.Cell{Text: sum.String(), Kind: source.Exact}
	}
	return first
}

func (w *worker) bad(b *bound, t taken, code finding.Code, format string, args ...any) *finding.Finding {
	// of a matrix the heading says what is meant
	if c := w.view.column; c > 0 && t.at.column == c && w.view.row != nil {
		format, args = format+" (It stands under %q.)", append(args[:len(args):len(args)],
			cell(&w.view.row.plan.head, c).Text)
	}
	f := w.d.Find(code, t.at.place(), t.cell.Text, w.now, format, args...)
	f.Field = b.Field.Name
	return f
}

// stated takes the mapping's own value or default, or notes that there is none.
func (w *worker) stated(b *bound, l *order.Line, v view) {
	r := v.row
	text, what := b.Value, "value of the mapping"
	if text == "" {
		text, what = b.Default, "default of the mapping"
	}
	if b.When != nil && b.Value != "" && !w.counts(b, v, b.Value) {
		text = ""
	}
	if text != "" {
		t := taken{source.Cell{Text: text}, where{rec: &r.Record}, true}
		w.step(b, t, what)
		w.take(b.own, t, l)
		return
	}
	code, word := finding.MustMissing, "must"
	if b.Result.Step != "" && w.d.Has(w.now, b.Field.Name) {
		return // the earlier step's answer is said already
	}
	switch b.Need {
	case mapping.May:
		return
	case mapping.Should:
		code, word = finding.ShouldMissing, "should"
	}
	if w.d.Has(w.now, b.Field.Name) {
		return // what kept the value from being there has been said
	}
	at, named := w.blank(b, r)
	f := w.d.Find(code, at, "", w.now, "%s %s be there, but %s.", b.Field.Name, word, named)
	f.Field = b.Field.Name
	switch {
	case len(b.From) == 0:
		f.Hint = "Say in the mapping where the value comes from (from), or what it is (value)."
	case r.Node != nil:
		f.Hint = "Ask the sender for the value, or say a default in the mapping."
	}
}

// blank notes where a missing value should have stood.
func (w *worker) blank(b *bound, r *Row) (origin.Place, string) {
	at := r.Place(0)
	if len(b.From) == 0 {
		return at, "the expression gives nothing"
	}
	s := b.From[0]
	switch {
	case s.Kind == mapping.ByLabel:
		return at, fmt.Sprintf("nothing stands beside the label %q", s.Text)
	case s.Kind == mapping.ByCell:
		return origin.Place{Sheet: r.Sheet, Row: s.Row, Column: s.Column}, "the cell " + s.Text + " is blank"
	case r.Node != nil:
		return at, fmt.Sprintf("%s is not there", s.Text)
	}
	if len(b.spots) > 0 {
		column := b.spots[0].column
		if w.view.n > 0 && w.view.n <= len(b.spots[0].columns) {
			column = b.spots[0].columns[w.view.n-1]
		}
		at = r.Place(column)
		if heading := cell(&r.plan.head, column).Text; s.Number && heading != "" {
			return at, fmt.Sprintf("the cell is blank (column %q)", heading)
		}
	}
	return at, fmt.Sprintf("the cell is blank (column %q)", s.Text)
}

// plainNumbers are numbers as Koinos writes them.
var plainNumbers = &mapping.Locale{DecimalSign: '.'}

// take brings one value into its field: crosswalk, type, list.
func (w *worker) take(b *bound, t taken, l *order.Line) {
	o, f := &w.d.Order, &b.Field
	c := t.cell
	switch {
	case c.Kind == source.ErrorValue && t.at.node != nil:
		w.bad(b, t, finding.CellError, "%s is not a single value here but %s.", f.Name,
			c.Text).Hint = "Name the path of a value within it."
		return
	case c.Kind == source.ErrorValue:
		w.bad(b, t, finding.CellError, "The cell for %s holds the spreadsheet error %s.", f.Name, c.Text)
		return
	case c.Kind == source.Unkept:
		w.bad(b, t, finding.FormulaUnkept, "The cell for %s holds a formula whose result was not saved.", f.Name)
		return
	}
	text := c.Text
	if b.Crosswalk != "" {
		walk := w.set.Crosswalk(b.Crosswalk)
		if walk == nil {
			return // Missing has said so before the load began
		}
		ours, spelled, ok := walk.Ours(text)
		if spelled {
			w.spelled(b, t, text, ours)
		}
		if !ok && b.Others {
			ours = text
		} else if !ok {
			found := w.bad(b, t, finding.CrosswalkMissing, "%q is not in the crosswalk %s.", text, b.Crosswalk)
			found.List = b.Crosswalk
			if near, ok := walk.Nearest(text); ok {
				found.Nearest, found.Hint = near, fmt.Sprintf("Did the partner mean %q? %s", near, found.Hint)
			}
			return
		}
		text = ours
		w.step(b, taken{source.Cell{Text: text}, t.at, true}, "crosswalk "+b.Crosswalk)
	}
	switch f.Type {
	case order.Decimal, order.Percent:
		loc := b.loc
		if b.Crosswalk != "" { // its numbers are written as Koinos writes them
			c, loc = source.Cell{Text: text}, plainNumbers
		}
		n, word, err := loc.Number(c, f.Type == order.Percent)
		if err != nil {
			w.bad(b, t, finding.NotANumber, "%q is not a number for %s: %v.", c.Text, f.Name, err)
			return
		}
		if word != "" && !w.suffix(b, t, word, l) {
			return
		}
		w.within(b, t, b.Bounds.Number(n))
		f.SetNumber(o, l, n)
		if f.IsStated() && b.Compare {
			w.d.State(w.now, f.Name)
		}
		if w.watch != nil {
			w.settled(b, t, n.String())
		}
		return
	case order.Day:
		day, err := w.day(b.loc, c)
		if err != nil {
			w.bad(b, t, finding.NotADate, "%q is not a date for %s: %v.", c.Text, f.Name, err)
			return
		}
		if w.unsure(b, c) {
			w.bad(b, t, finding.DateAmbiguous, "%q is read as %s, but day and month could be exchanged.", c.Text, day)
		}
		w.within(b, t, b.Bounds.Day(day))
		f.SetDate(o, l, day)
		if w.watch != nil {
			w.settled(b, t, string(day))
		}
		return
	case order.Parts:
		if _, err := order.ParseSchedule(text); err != nil {
			w.bad(b, t, finding.NotASchedule, "%q says no deliveries: %v.", text, err)
			return
		}
	case order.Boolean:
		is, ok := b.loc.Boolean(text)
		if !ok {
			w.bad(b, t, finding.NotABoolean, "%q is neither true nor false for %s.", c.Text, f.Name)
			return
		}
		text = fmt.Sprint(is)
	case order.Currency:
		means, as := mapping.CurrencyOf(text), text
		text = strings.ToUpper(text)
		if len(means) == 3 {
			text = means
		}
		if !order.KnownCurrency(text) {
			w.bad(b, t, finding.UnknownCurrency, "%q is not a currency.", c.Text)
			return
		}
		if text != as {
			w.spelled(b, t, as, text)
		}
	case order.Choice:
		near, ok := list.Nearest(text, f.Choices)
		if !ok || list.Fold(near) != list.Fold(text) {
			w.bad(b, t, finding.UnknownChoice, "%s cannot be %q.", f.Name, text).Hint = "It may be: " +
				strings.Join(f.Choices, ", ") + "."
			return
		}
		text = near
	case order.Code, order.Text:
		if mapping.Mangled(c) {
			w.bad(b, t, finding.NumberMangled, "%q was a longer code; a spreadsheet has rounded it.", c.Text)
			return
		}
	}
	text, ok := w.listed(b, t, text)
	if !ok {
		return
	}
	w.within(b, t, b.Bounds.Text(text))
	f.SetText(o, l, text)
	if w.watch != nil {
		w.settled(b, t, text)
	}
}

// within reports a value that its binding does not allow.
func (w *worker) within(b *bound, t taken, why string) {
	if why != "" {
		w.bad(b, t, finding.RuleBroken, "%s cannot be %q: %s.", b.Field.Name, t.cell.Text, why).Hint = ""
	}
}

func (w *worker) settled(b *bound, t taken, text string) {
	w.step(b, taken{source.Cell{Text: text}, t.at, true}, "read as "+string(b.Field.Type))
}

// day reads a date. Most lines of an order have the same date as the line above.
func (w *worker) day(loc *mapping.Locale, c source.Cell) (order.Date, error) {
	if w.days.loc == loc && w.days.cell == c {
		return w.days.is, nil
	}
	day, err := loc.Date(c)
	if err == nil {
		w.days.loc, w.days.cell, w.days.is = loc, c, day
	}
	return day, err
}

// listed looks a value up in the binding's list, and a unit in the list of units.
func (w *worker) listed(b *bound, t taken, text string) (string, bool) {
	name, code, unit := b.List, finding.UnknownCode, b.Field.Type == order.Unit
	if unit {
		code = finding.UnknownUnit
		if name == "" {
			name = "units"
		}
	}
	if name == "" {
		return text, true
	}
	known := w.set.Lists[name]
	if known == nil {
		if unit {
			upper := strings.ToUpper(text)
			if !order.KnownUnit(upper) {
				check.Unknown(w.bad(b, t, code, "%q is not a unit of measure.", text), nil, name)
				return "", false
			}
			if upper != text {
				w.spelled(b, t, text, upper)
			}
			return upper, true
		}
		return text, true
	}
	m := known.Look(text, b.Keys, b.Near)
	switch {
	case m.Several:
		f := w.bad(b, t, finding.ListAmbiguous, "%q fits several entries of the list %s by %s.", text, name, m.Key)
		f.List = name
		return "", false
	case m.Entry == nil:
		check.Unknown(w.bad(b, t, code, "%q is not in the list %s.", text, name), known, name)
		return "", false
	}
	got := m.Entry.Code
	if b.Give != "" {
		got = m.Entry.Get(b.Give)
	}
	if m.Spelled {
		w.spelled(b, t, text, m.Entry.Get(m.Key))
	}
	if m.Near {
		w.bad(b, t, finding.NearMatch, "%q was taken for %s (%s) of the list %s.", text, m.Entry.Get(m.Key),
			m.Entry.Code, name)
	}
	if got == "" {
		f := w.bad(b, t, code, "The entry %s of the list %s has no %s.", m.Entry.Code, name, b.Give)
		f.List = name
		return "", false
	}
	if w.watch != nil {
		w.step(b, taken{source.Cell{Text: got}, t.at, true}, "list "+name+" by "+m.Key)
	}
	return got, true
}

// spelled notes that a value was accepted although it is spelled differently from what it stands for.
func (w *worker) spelled(b *bound, t taken, text, as string) {
	if !b.Fold {
		w.bad(b, t, finding.SpellingDiffers, "%q was taken for %s.", text, as)
	}
}

// suffix interprets a word that stands beside a number.
func (w *worker) suffix(b *bound, t taken, word string, l *order.Line) bool {
	if means := mapping.CurrencyOf(word); means != "" && b.Field.IsMoney() {
		w.signs = append(w.signs, sign{means, word, b.Field.Name, w.now, t.at})
		return true
	}
	switch b.Suffix {
	case "drop":
		return true
	case "unit":
		if l == nil {
			return true
		}
		w.take(&bound{Binding: w.m.UnitBehind(b.Binding), loc: b.loc}, taken{source.Cell{Text: word}, t.at, true}, l)
		return true
	}
	f := w.bad(b, t, finding.NotANumber, "%q is not a number for %s: %q stands beside it.", t.cell.Text, b.Field.Name,
		word)
	f.Hint = "If it is a unit, say suffix: unit in the binding; suffix: drop leaves it out."
	return false
}

// compareCurrencies checks whether figures name the order's currency.
func (w *worker) compareCurrencies() {
	currency := w.d.Order.Currency
	for _, s := range w.signs {
		if currency == "" || slices.Contains(strings.Fields(s.means), currency) {
			continue
		}
		f := w.d.Find(finding.CurrencyDiffers, s.at.place(), s.text, s.line, "%s is in %q, but the order is in %s.",
			s.field, s.text, currency)
		f.Field = s.field
	}
}
