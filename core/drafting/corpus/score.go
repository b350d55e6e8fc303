package corpus

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"koinos/core/drafting"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/reading"
	"koinos/core/source"
)

// Score is how good a drafted mapping is.
type Score struct {
	Name      string
	Grouping  bool // every order has exactly its lines
	Range     bool // exactly the rows that are lines were read as lines
	Fields    int  // fields that should be bound
	Right     int  // of them bound as they should be
	SureWrong int  // bindings marked sure that are wrong
	Wrong     []string
	Text      string
}

// Draft drafts a mapping for a sample and scores it.
func Draft(s Sample) (Score, error) {
	out := Score{Name: s.Name, Fields: len(s.Fields)}
	p, err := drafting.Draft(bytes.NewReader(s.Bytes), int64(len(s.Bytes)),
		drafting.Hints{Limits: source.DefaultLimits})
	if p != nil {
		out.Text = p.Text
	}
	if err != nil {
		return out, fmt.Errorf("%s: %w", s.Name, err)
	}
	m, err := mapping.Parse([]byte(p.Text))
	if err != nil {
		return out, fmt.Errorf("%s: %w", s.Name, err)
	}
	bound := map[string]string{}
	for level, bindings := range m.Bindings {
		for _, b := range bindings {
			from := ""
			if len(b.From) > 0 {
				from = b.From[0].Text
			}
			bound[string(level)+"."+b.Field.Name] = from
		}
	}
	for field, want := range s.Fields {
		if strings.EqualFold(bound[field], want) {
			out.Right++
		} else {
			out.Wrong = append(out.Wrong, fmt.Sprintf("%s from %q, not %q", field, bound[field], want))
		}
	}
	for _, g := range p.Guesses {
		from, isBound := bound[g.What]
		if g.Sure != "sure" || !isBound || from == "" {
			continue
		}
		if want, known := s.Fields[g.What]; !known || !strings.EqualFold(from, want) {
			out.SureWrong++
			out.Wrong = append(out.Wrong, "SURE: "+g.What+" from "+from)
		}
	}
	slices.Sort(out.Wrong)
	have := orders(m, s.Bytes)
	out.Grouping = same(have, s.Orders)
	out.Range = same([][]string{slices.Concat(have...)}, [][]string{slices.Concat(s.Orders...)})
	if !out.Grouping {
		out.Wrong = append(out.Wrong, fmt.Sprintf("grouping: %d orders, not %d: %.200q", len(have), len(s.Orders),
			fmt.Sprint(have)))
	}
	return out, nil
}

// orders runs the mapping and returns the places of each order's lines.
func orders(m *mapping.Mapping, doc []byte) [][]string {
	src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
	if err != nil {
		return nil
	}
	var all [][]string
	for g, err := range reading.NewTable(m, src, nil).Groups(context.Background()) {
		if err != nil {
			return append(all, []string{err.Error()})
		}
		d := reading.Read(m, g, &list.Set{})
		var places []string
		for n := range d.Order.Lines {
			at := d.Trace.Place(n+1, "quantity")
			if at.Row == 0 {
				at = d.Trace.Line(n + 1)
			}
			switch {
			case at.Pointer != "" || at.Line > 0 || strings.HasPrefix(m.Group.By, "path"):
				places = append(places, "line")
			case at.Sheet != "":
				places = append(places, fmt.Sprintf("%s!%d", at.Sheet, at.Row))
			default:
				places = append(places, fmt.Sprint(at.Row))
			}
		}
		all = append(all, places)
	}
	return all
}

// same compares orders whatever their order, and lines whatever theirs.
func same(a, b [][]string) bool {
	flat := func(all [][]string) []string {
		var list []string
		for _, o := range all {
			o = slices.Clone(o)
			slices.Sort(o)
			list = append(list, strings.Join(o, " "))
		}
		slices.Sort(list)
		return list
	}
	return slices.Equal(flat(a), flat(b))
}
