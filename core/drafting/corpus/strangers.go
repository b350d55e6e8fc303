package corpus

import (
	"bytes"
	"context"
	"embed"
	"fmt"
	"slices"
	"strings"

	"koinos/core/drafting"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/reading"
	"koinos/core/source"
)

// The strangers' documents were written by other programs and habits than those that
// the drafter was tuned on. Beside each, in NAME.wants, stands what a person would draft:
//
//	kind plain rows              the kind of layout; "no orders" is no document of orders
//	orders 3 lines 4             what the draft makes of the document
//	refused 2                    orders that it must refuse, for a unit that says nothing, say
//	ordered_on: Date cde         a field and its heading, the end of its path, or "label" and a label
//
//go:embed strangers
var strangers embed.FS

// Stranger is how well a stranger's document was drafted.
type Stranger struct {
	Name, Kind string
	Grouping   bool // as many orders and lines as there are, as many of them refused
	Fields     int
	Right      int
	Wrong      []string
	Text       string
}

// Strangers drafts for all of the strangers' documents.
func Strangers() ([]Stranger, error) {
	files, err := strangers.ReadDir("strangers")
	if err != nil {
		return nil, err
	}
	var all []Stranger
	for _, f := range files {
		name, isWants := strings.CutSuffix(f.Name(), ".wants")
		if !isWants {
			continue
		}
		doc, err := strangers.ReadFile("strangers/" + name)
		if err != nil {
			return nil, err
		}
		wants, err := strangers.ReadFile("strangers/" + f.Name())
		if err != nil {
			return nil, err
		}
		s, err := meet(name, doc, strings.Split(strings.TrimSpace(string(wants)), "\n"))
		if err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, nil
}

func meet(name string, doc []byte, wants []string) (Stranger, error) {
	s := Stranger{Name: name, Kind: strings.TrimPrefix(wants[0], "kind ")}
	p, err := drafting.Draft(bytes.NewReader(doc), int64(len(doc)), drafting.Hints{Limits: source.DefaultLimits})
	if err != nil {
		return s, fmt.Errorf("%s: %w", name, err)
	}
	s.Text = p.Text
	if s.Kind == "no orders" {
		if s.Grouping = p.NoOrders != ""; !s.Grouping {
			s.Wrong = append(s.Wrong, "it is not said to be no document of orders")
		}
		return s, nil
	}
	if p.NoOrders != "" {
		s.Wrong = append(s.Wrong, p.NoOrders)
	}
	m, err := mapping.Parse([]byte(p.Text))
	if err != nil {
		return s, fmt.Errorf("%s: %w", name, err)
	}
	sure := map[string]bool{}
	for _, g := range p.Guesses {
		sure[g.What] = g.Sure == "sure"
	}
	made := ""
	for _, want := range wants[1:] {
		field, from, ok := strings.Cut(want, ": ")
		if !ok {
			made += want + "\n"
			continue
		}
		s.Fields++
		level, bound := bindingOf(m, field)
		switch {
		case bound == from || strings.HasSuffix(bound, "."+from), strings.HasSuffix(bound, "['"+from+"']"):
			s.Right++
		case sure[string(level)+"."+field]:
			s.Wrong = append(s.Wrong, fmt.Sprintf("SURE: %s from %q, not %q", field, bound, from))
		default:
			s.Wrong = append(s.Wrong, fmt.Sprintf("%s from %q, not %q", field, bound, from))
		}
	}
	got := run(m, doc)
	if s.Grouping = got == made; !s.Grouping {
		s.Wrong = append(s.Wrong, fmt.Sprintf("%q, not %q", got, made))
	}
	slices.Sort(s.Wrong)
	return s, nil
}

// bindingOf returns the level of a field and what feeds it in the mapping.
func bindingOf(m *mapping.Mapping, field string) (order.Level, string) {
	for _, level := range order.Levels {
		for _, b := range m.Bindings[level] {
			if b.Field.Name != field {
				continue
			}
			if len(b.From) == 0 {
				return level, ""
			}
			if b.From[0].Kind == mapping.ByLabel {
				return level, "label " + b.From[0].Text
			}
			return level, b.From[0].Text
		}
	}
	return "", ""
}

// run says what a mapping makes of a document, in the words of a wants file.
// That nobody says who the partner is refuses no order here.
func run(m *mapping.Mapping, doc []byte) string {
	src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
	if err != nil {
		return err.Error()
	}
	orders, lines, refused := 0, 0, 0
	for g, err := range reading.NewTable(m, src, nil).Groups(context.Background()) {
		if err != nil {
			return err.Error()
		}
		d := reading.Read(m, g, &list.Set{})
		orders++
		lines += len(d.Order.Lines)
		if slices.ContainsFunc(d.Findings, func(f finding.Finding) bool {
			return f.Severity == finding.Error && f.Field != "partner"
		}) {
			refused++
		}
	}
	s := fmt.Sprintf("orders %d lines %d\n", orders, lines)
	if refused > 0 {
		s += fmt.Sprintf("refused %d\n", refused)
	}
	return s
}
