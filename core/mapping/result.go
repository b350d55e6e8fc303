package mapping

import (
	"regexp"

	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/source"
)

// Result names a value that an earlier step of a sequence gave: the step, and
// the field of the order that it made of the same row.
type Result struct {
	Step  string
	Field string // order.ResultValue knows its names
}

// Outcomes gives what earlier steps of a sequence made of the document.
type Outcomes interface {
	// Result is the value of a field of the order that a step made of a row.
	// Where there is none, why says so in a sentence, and wait whether the order
	// of the row failed in that step: whoever needs it has to wait for it.
	Result(r Result, sheet string, row int) (value, why string, wait bool)
}

var resultPattern = regexp.MustCompile(`^([a-z0-9][a-z0-9-]{0,63})\.(.+)$`)

func (b *builder) resultOf(n *node) Result {
	if n == nil {
		return Result{}
	}
	m := resultPattern.FindStringSubmatch(n.text)
	if m == nil || !order.IsResult(m[2]) {
		b.add(finding.MappingWrongValue, n.at, n.text, "%q is not a result; write step.field, such as purchase.number.", n.text)
		return Result{Step: n.text}
	}
	b.m.Needs = append(b.m.Needs, m[1])
	return Result{m[1], m[2]}
}

// result asks an earlier step for a binding's value.
func (w *worker) result(b *bound, v view) (t taken, ok bool) {
	rec := &v.row.Record
	t.at = where{rec: rec}
	if w.d.Has(w.now, b.Field.Name) {
		return t, false // said of an earlier row of the order
	}
	if w.g.Outcomes == nil {
		w.d.Find(finding.ResultMissing, v.row.Place(0), b.Result.Step, w.now,
			"%s takes the result of the step %s, which only a run of a sequence has.", b.Field.Name, b.Result.Step).Field = b.Field.Name
		return t, false
	}
	value, why, wait := w.g.Outcomes.Result(b.Result, rec.Sheet, rec.Row)
	if wait {
		w.d.Waits = true
		w.d.Find(finding.StepFailed, v.row.Place(0), b.Result.Step, w.now, "%s", why).Field = b.Field.Name
		return t, false
	}
	if value == "" && b.Need == Must {
		w.d.Find(finding.ResultMissing, v.row.Place(0), b.Result.Step, w.now, "%s", why).Field = b.Field.Name
	}
	t.cell, t.ok = source.Cell{Text: value}, value != ""
	return t, t.ok
}
