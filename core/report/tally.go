package report

import (
	"cmp"
	"slices"

	"koinos/core/finding"
)

// Reason is all findings of a load that say the same of the same field.
type Reason struct {
	Code     finding.Code     `json:"code"`
	Severity finding.Severity `json:"severity" enum:"error,warning"`
	Field    string           `json:"field,omitempty"`
	Title    string           `json:"title"`
	Count    int              `json:"count"`
	Orders   int              `json:"orders" doc:"How many orders have it"`
	Values   int              `json:"values" doc:"How many different values were seen"`
	Example  finding.Finding  `json:"example"`
}

// Tally groups findings by reason as they come, holding one example of each.
type Tally struct {
	reasons map[reasonKey]*tallied
}

type reasonKey struct {
	code     finding.Code
	field    string
	severity finding.Severity
}

type tallied struct {
	Reason
	last   int // order counted last
	values map[string]bool
}

// mostValues limits how many different values a reason counts.
const mostValues = 10_000

// Add counts a finding. Findings of one order must come together.
func (t *Tally) Add(f finding.Finding) {
	if t.reasons == nil {
		t.reasons = map[reasonKey]*tallied{}
	}
	k := reasonKey{f.Code, f.Field, f.Severity}
	r := t.reasons[k]
	if r == nil {
		r = &tallied{Reason: Reason{Code: f.Code, Severity: f.Severity, Field: f.Field,
			Title: finding.Catalogue[f.Code].Title, Example: f}, last: -1, values: map[string]bool{}}
		t.reasons[k] = r
	}
	r.Count++
	if r.last != f.Order {
		r.last = f.Order
		r.Orders++
	}
	if len(r.values) < mostValues {
		r.values[f.Value] = true
	}
	r.Values = len(r.values)
}

// Reasons returns the reasons, errors first, then most first.
func (t *Tally) Reasons() []Reason {
	var list []Reason
	for _, r := range t.reasons {
		list = append(list, r.Reason)
	}
	slices.SortFunc(list, func(a, b Reason) int {
		return cmp.Or(cmp.Compare(a.Severity, b.Severity), cmp.Compare(b.Count, a.Count), cmp.Compare(a.Code, b.Code),
			cmp.Compare(a.Field, b.Field))
	})
	return list
}
