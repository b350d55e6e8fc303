package mapping

import (
	"reflect"
	"slices"
	"strings"

	"github.com/expr-lang/expr/vm"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/origin"
)

// Rule is a rule of the user's own: it is reported if its condition holds.
type Rule struct {
	Of       string // order, line or document
	Severity finding.Severity
	Text     string
	Field    string // that it speaks of; "" is none
	when     string
	program  *vm.Program
}

// ruleWords is what may stand in a rule.
var ruleWords = grammar.Group("A rule",
	grammar.Must("when", grammar.Some("Condition of an order that breaks the rule. It sees the fields of the order "+
		"by their names, "+
		"total, goods and tax, and lines; of a line those of the line, and order. Blank figures are 0")),
	grammar.May("refuse", grammar.Some("What is said of it: the order is refused")),
	grammar.May("warn", grammar.Some("What is said of it: the order goes in")),
	grammar.May("of", grammar.OneOf("What is judged: the order (the default), each line, or the document, of which the "+
		"condition sees "+
		"orders, lines, rows, quantity, goods and total", "order", "line", "document")),
	grammar.May("field", grammar.Some("The field of which it speaks, whose cell is named")))

// seenOfLine is what the condition of a rule for lines can use, and seenOfDocument that of one for documents.
var (
	orderSeen      = seen{name: "order", typ: orderStruct}
	seenOfLine     = structOf(append(slices.Clone(lineSeen), orderSeen))
	seenOfDocument = structOf(documentSeen())
)

func documentSeen() (all []seen) {
	for _, name := range TotalNames {
		all = append(all, seen{name: name, typ: numberType})
	}
	return all
}

func (b *builder) rules(n *grammar.Node) (all []Rule) {
	if n == nil {
		return nil
	}
	for _, item := range n.Items {
		r := Rule{Of: item.Str("of"), Field: item.Str("field"), when: item.Str("when"), Severity: finding.Error,
			Text: item.Str("refuse")}
		if r.Of == "" {
			r.Of = "order"
		}
		if warn := item.Get("warn"); warn != nil {
			r.Severity, r.Text = finding.Warning, warn.Text
		}
		if (item.Get("refuse") == nil) == (item.Get("warn") == nil) {
			b.Add(finding.MappingWrongValue, item.At, r.when,
				"a rule says either refuse or warn, and with which words.").Hint = ""
		}
		sees, level := orderStruct, order.Header
		switch r.Of {
		case "line":
			sees, level = seenOfLine, order.Lines
		case "document":
			sees = seenOfDocument
		}
		if f := item.Get("field"); f != nil {
			if _, known := order.Lookup(level, f.Text); !known || r.Of == "document" {
				b.Add(finding.MappingWrongValue, f.At, f.Text, "%q is no field of the %s.", f.Text, r.Of)
			}
		}
		if r.program = ofOrder(item.Get("when"), sees, b.Mistakes); r.program != nil {
			all = append(all, r)
		}
	}
	return all
}

// Judge adds what the mapping's own rules find in an order whose sums are worked out.
func (m *Mapping) Judge(d *intent.Intent) {
	if len(m.Rules) == 0 {
		return
	}
	env := seenOf(&d.Order, slices.ContainsFunc(m.Rules, func(r Rule) bool {
		return strings.Contains(r.when,
			"lines")
	}))
	for i := range m.Rules {
		r := &m.Rules[i]
		switch r.Of {
		case "order":
			r.judge(d, 0, env)
		case "line":
			for n := range d.Order.Lines {
				l := d.Order.Lines[n]
				one := reflect.New(seenOfLine).Elem()
				for k := range lineSeen {
					one.Field(k).Set(reflect.ValueOf(lineSeen[k].of(&d.Order, &l)))
				}
				one.Field(len(lineSeen)).Set(env)
				r.judge(d, n+1, one)
			}
		}
	}
}

func (r *Rule) judge(d *intent.Intent, line int, env reflect.Value) {
	is, err := holds(r.when, r.program, env.Interface())
	switch {
	case err != nil:
		d.Add(finding.ExpressionFailed, line, r.Field, "", "%v.", err)
	case is:
		level, l := order.Header, (*order.Line)(nil)
		if line > 0 {
			level, l = order.Lines, &d.Order.Lines[line-1]
		}
		value := ""
		if f, known := order.Lookup(level, r.Field); known {
			value = f.Value(&d.Order, l)
		}
		d.Add(finding.RuleBroken, line, r.Field, value, "%s", r.Text).Severity = r.Severity
	}
}

// JudgeDocument returns what the rules for documents find in its counts and sums.
func (m *Mapping) JudgeDocument(count func(name string) order.Number) (found []finding.Finding) {
	for i := range m.Rules {
		r := &m.Rules[i]
		if r.Of != "document" {
			continue
		}
		env := reflect.New(seenOfDocument).Elem()
		for k, name := range TotalNames {
			env.Field(k).Set(reflect.ValueOf(count(name)))
		}
		is, err := holds(r.when, r.program, env.Interface())
		switch {
		case err != nil:
			found = append(found, finding.New(finding.ExpressionFailed, origin.Place{}, "", "%v.", err))
		case is:
			f := finding.New(finding.RuleBroken, origin.Place{}, "", "%s", r.Text)
			f.Severity = r.Severity
			found = append(found, f)
		}
	}
	return found
}
