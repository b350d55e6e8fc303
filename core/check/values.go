package check

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/order"
)

// Values checks what a mapping's types ensure for an order that is read from a document: days that exist, currencies,
// allowed words, and mandatory fields. Then it looks codes up in the lists. It trims the outer space of texts.
func Values(o *order.Order, s Subject, lists *list.Set) {
	if !slices.Contains(order.Kinds, string(o.Kind)) {
		s.Add(finding.MustMissing, 0, "kind", string(o.Kind), "kind must be sales or purchase.")
	}
	if !slices.Contains(append([]string{""}, order.Stages...), string(o.Stage)) {
		choice(s, 0, "stage", string(o.Stage), order.Stages)
	}
	level(o, nil, 0, s)
	for i := range o.Lines {
		level(o, &o.Lines[i], i+1, s)
	}
	if o.Currency != "" && !order.KnownCurrency(o.Currency) {
		s.Add(finding.UnknownCurrency, 0, "currency", o.Currency, "%q is not a currency of ISO 4217.", o.Currency)
	}
	seen := map[string]bool{}
	for i := range o.Parties {
		o.Parties[i].Trim()
		role := o.Parties[i].Role
		if !slices.Contains(order.Roles, role) {
			s.Add(finding.UnknownChoice, 0, role+".role", role, "The role of a party cannot be %q.",
				role).Hint = mayBe(order.Roles)
		} else if seen[role] {
			s.Add(finding.HeaderDisagrees, 0, role, role, "The order has a second party in the role %s.", role)
		}
		seen[role] = true
	}
	Lists(o, s, lists)
}

var headerFields, lineFields = order.PlainFields(order.Header), order.PlainFields(order.Lines)

func level(o *order.Order, l *order.Line, line int, s Subject) {
	fields := headerFields
	if l != nil {
		fields = lineFields
	}
	for i := range fields {
		f := &fields[i]
		f.Trim(o, l)
		v := f.Value(o, l)
		switch {
		case v == "" && f.Must:
			s.Add(finding.MustMissing, line, f.Name, "", "%s is missing.", f.Name)
		case v == "":
		case f.Type == order.Day:
			if _, err := time.Parse(time.DateOnly, v); err != nil {
				s.Add(finding.NotADate, line, f.Name, v, "%q is not a date for %s.", v,
					f.Name).Hint = "Write the day as yyyy-mm-dd."
			}
		case f.Type == order.Choice && !slices.Contains(f.Choices, v):
			choice(s, line, f.Name, v, f.Choices)
		}
	}
}

func choice(s Subject, line int, field, value string, may []string) {
	s.Add(finding.UnknownChoice, line, field, value, "%s cannot be %q.", field, value).Hint = mayBe(may)
}

func mayBe(words []string) string { return "It may be: " + strings.Join(words, ", ") + "." }

// lists are the fields that must agree with the reference list of that name, if one was imported.
var lists = []struct {
	level order.Level
	field *order.Field
	list  func(*order.Order) string
	code  finding.Code
}{
	{order.Header, field(order.Header, "partner"), func(o *order.Order) string {
		return map[order.Kind]string{order.Sales: "customers", order.Purchase: "suppliers"}[o.Kind]
	}, finding.UnknownCode},
	{order.Header, field(order.Header, "price_level"), named("price-levels"), finding.UnknownCode},
	{order.Header, field(order.Header, "payment_terms"), named("terms"), finding.UnknownCode},
	{order.Lines, field(order.Lines, "item"), named("items"), finding.UnknownCode},
	{order.Lines, field(order.Lines, "location"), named("locations"), finding.UnknownCode},
	{order.Lines, field(order.Lines, "unit"), named("units"), finding.UnknownUnit},
}

// AskedOf is the field that is looked up in a list of this name for every order, whatever its origin; "" if there is
// none.
func AskedOf(list string) string {
	for _, rule := range lists {
		for _, kind := range []order.Kind{order.Sales, order.Purchase} {
			if rule.list(&order.Order{Kind: kind}) == list {
				return rule.field.Name
			}
		}
	}
	return ""
}

func field(level order.Level, name string) *order.Field {
	f, _ := order.Lookup(level, name)
	return &f
}

func named(name string) func(*order.Order) string { return func(*order.Order) string { return name } }

// Lists looks partner, items, units and the like up in the reference lists, as far as these exist. A code that differs
// only in letter case or space becomes the list's.
func Lists(o *order.Order, s Subject, set *list.Set) {
	for _, rule := range lists {
		f, name := rule.field, rule.list(o)
		if rule.level == order.Header {
			listed(o, nil, 0, f, name, rule.code, s, set)
			continue
		}
		for i := range o.Lines {
			listed(o, &o.Lines[i], i+1, f, name, rule.code, s, set)
		}
	}
}

func listed(o *order.Order, l *order.Line, line int, f *order.Field, name string, code finding.Code, s Subject,
	set *list.Set) {
	v := f.Value(o, l)
	if v == "" || s.Has(line, f.Name) {
		return
	}
	var known *list.List
	if set != nil {
		known = set.Lists[name]
	}
	if known == nil {
		if upper := strings.ToUpper(v); code == finding.UnknownUnit {
			if !order.KnownUnit(upper) {
				Unknown(s.Add(code, line, f.Name, v, "%q is not a unit of measure.", v), nil, name)
			}
			if upper != v && order.KnownUnit(upper) {
				spelled(s, line, f.Name, v, upper)
			}
			f.SetText(o, l, upper)
		}
		return
	}
	if m := known.Look(v, nil, 0); m.Entry != nil {
		if m.Spelled {
			spelled(s, line, f.Name, v, m.Entry.Code)
		}
		f.SetText(o, l, m.Entry.Code)
		return
	}
	Unknown(s.Add(code, line, f.Name, v, "%q is not in the list %s.", v, name), known, name)
}

// mostSuggested is up to which line of an order a suggestion is looked for: in a list of a hundred thousand entries,
// that takes milliseconds for each.
const mostSuggested = 1_000

// Unknown suggests in a finding what may have been meant by a code that a list does not have: the code that a common
// word for a unit stands for, or else the nearest entry. A nil list is that of the common units.
func Unknown(f *finding.Finding, known *list.List, name string) {
	has := order.KnownUnit
	if known != nil {
		f.List = name
		has = func(code string) bool { return known.Look(code, nil, 0).Entry != nil }
	}
	if f.Code == finding.UnknownUnit {
		if unit, usual, ok := list.UnitOf(f.Value, has); ok {
			f.Nearest = unit
			if !usual {
				f.Hint = fmt.Sprintf("It means the same as %s, which the list has.", unit)
				return
			}
			f.Hint = fmt.Sprintf("As a common word it means %s. To take such words, say crosswalk: %s "+
				"in the binding that gives the unit.", unit, list.UnitWords)
			return
		}
	}
	if known == nil {
		return
	}
	if f.Line > mostSuggested {
		f.Hint = fmt.Sprintf("Add it to the list %s, or correct the value.", name)
		return
	}
	f.Hint = fmt.Sprintf("Nothing in the list is near it. Add it to the list %s, or correct the value.", name)
	if near, ok := known.Nearest(f.Value); ok {
		f.Nearest = near.Code
		f.Hint = fmt.Sprintf("Nearest in the list: %s.", near.Code)
		if near.Name != "" {
			f.Hint = fmt.Sprintf("Nearest in the list: %s (%s).", near.Code, near.Name)
		}
	}
}

func spelled(s Subject, line int, field, text, as string) {
	s.Add(finding.SpellingDiffers, line, field, text, "%q was taken for %s.", text, as)
}
