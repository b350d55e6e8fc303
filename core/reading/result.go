package reading

import (
	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/source"
)

// Outcomes returns what earlier steps of a sequence made of the document.
type Outcomes interface {
	// Result returns the value of a field of the order that a step made of a row. If there is none, why gives the
	// reason in a sentence, and wait reports whether the order of the row failed in that step, so that whatever needs
	// the value has to wait.
	Result(r mapping.Result, sheet string, row int) (value, why string, wait bool)
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
			"%s takes the result of the step %s, which only a run of a sequence has.", b.Field.Name,
			b.Result.Step).Field = b.Field.Name
		return t, false
	}
	value, why, wait := w.g.Outcomes.Result(b.Result, rec.Sheet, rec.Row)
	if wait {
		w.d.Waits = true
		w.d.Find(finding.StepFailed, v.row.Place(0), b.Result.Step, w.now, "%s", why).Field = b.Field.Name
		return t, false
	}
	if value == "" && b.Need == mapping.Must {
		w.d.Find(finding.ResultMissing, v.row.Place(0), b.Result.Step, w.now, "%s", why).Field = b.Field.Name
	}
	t.cell, t.ok = source.Cell{Text: value}, value != ""
	return t, t.ok
}
