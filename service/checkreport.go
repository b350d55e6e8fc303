package service

import (
	"strconv"

	"koinos/api"
)

// checkHeadings are the columns of a comparison's report.
var checkHeadings = []string{"outcome", "part", "order", "record", "what", "line", "field", "is", "should_be", "why",
	"changed_by", "repaired"}

// checkCells are the rows of a report for one result of a comparison: one for each value that differs, otherwise one
// for each call, otherwise one.
func checkCells(r *api.CheckRow) (rows [][]string) {
	base := func(what, line, field, is, should string) {
		repaired := ""
		if r.Repaired {
			repaired = "yes"
		}
		rows = append(rows, []string{r.Outcome, r.Part, r.Order, r.Key, what, line, field, is, should, r.Why,
			r.ChangedBy,
			repaired})
	}
	for i := range r.Changes {
		c := &r.Changes[i]
		line := ""
		if c.Line > 0 {
			line = strconv.Itoa(c.Line)
		}
		base("the order here", line, c.Field, c.Was, c.Is)
	}
	for i := range r.Steps {
		s := &r.Steps[i]
		for _, d := range s.Changes {
			base(s.Does, d.Line, d.Field, d.Was, d.Is)
		}
		if len(s.Changes) == 0 {
			base(s.Does, "", "", "", "")
		}
	}
	if len(rows) == 0 {
		base("", "", "", "", "")
	}
	return rows
}
