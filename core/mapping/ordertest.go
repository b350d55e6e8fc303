package mapping

import (
	"fmt"
	"reflect"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/vm"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/order"
)

// OrderTest is a condition on an order, such as partner == "SLIPWAY" and total > 100. It can use the fields of the
// header by their names, number, kind, status, stage, revision and the sums that Koinos works out, and the lines. It
// may be used by several goroutines.
type OrderTest struct {
	Text    string
	program *vm.Program
}

// seen is one value that a test can use.
type seen struct {
	name string
	typ  reflect.Type
	of   func(*order.Order, *order.Line) any
}

var (
	textType    = reflect.TypeFor[string]()
	numberType  = reflect.TypeFor[order.Number]()
	headerSeen  = headerValues()
	lineSeen    = lineValues()
	lineStruct  = structOf(lineSeen)
	orderStruct = structOf(append(headerSeen, seen{name: "lines", typ: reflect.SliceOf(lineStruct)}))
)

// structOf makes the type that has the values as members, by their names. Expressions are checked against it.
func structOf(all []seen) reflect.Type {
	members := make([]reflect.StructField, len(all))
	for i, v := range all {
		members[i] = reflect.StructField{Name: fmt.Sprintf("V%d", i), Type: v.typ,
			Tag: reflect.StructTag(fmt.Sprintf("expr:%q", v.name))}
	}
	return reflect.StructOf(members)
}

// ofField is the value of a plain field of orders.
func ofField(f *order.Field) seen {
	lookedUp, _ := order.Lookup(f.Level, f.Name)
	name := f.Name
	if i := strings.LastIndexByte(name, '.'); i >= 0 {
		name = name[i+1:]
	}
	if f.Type == order.Decimal || f.Type == order.Percent {
		return seen{name, numberType, func(o *order.Order, l *order.Line) any {
			n, _ := order.ParseNumber(lookedUp.Value(o, l)) // blank is 0
			return n
		}}
	}
	return seen{name, textType, func(o *order.Order, l *order.Line) any { return lookedUp.Value(o, l) }}
}

func lineValues() (all []seen) {
	for _, f := range order.AllFields(order.Lines) {
		if !strings.HasSuffix(f.Name, ".*") {
			all = append(all, ofField(&f))
		}
	}
	return append(all, seen{"custom", reflect.TypeFor[map[string]string](), func(_ *order.Order, l *order.Line) any {
		return customs(l.Custom)
	}})
}

func headerValues() (all []seen) {
	own := map[string]seen{
		"kind":     {"kind", textType, func(o *order.Order, _ *order.Line) any { return string(o.Kind) }},
		"status":   {"status", textType, func(o *order.Order, _ *order.Line) any { return string(o.Status) }},
		"stage":    {"stage", textType, func(o *order.Order, _ *order.Line) any { return string(o.Stage) }},
		"revision": {"revision", reflect.TypeFor[int](), func(o *order.Order, _ *order.Line) any { return o.Revision }},
		"goods":    {"goods", numberType, func(o *order.Order, _ *order.Line) any { return o.Goods }},
		"tax":      {"tax", numberType, func(o *order.Order, _ *order.Line) any { return o.Tax }},
		"total":    {"total", numberType, func(o *order.Order, _ *order.Line) any { return o.Total }},
		"opening":  {"opening", reflect.TypeFor[bool](), func(o *order.Order, _ *order.Line) any { return o.Opening }},
		"custom": {"custom", reflect.TypeFor[map[string]string](),
			func(o *order.Order, _ *order.Line) any { return customs(o.Custom) }},
		"reference": {"reference", reflect.TypeFor[map[string]string](), func(o *order.Order, _ *order.Line) any {
			m := make(map[string]string, len(o.References))
			for _, r := range o.References {
				m[r.Qualifier] = r.Value
			}
			return m
		}},
	}
	for _, name := range []string{"kind", "status", "stage", "revision", "goods", "tax", "total", "opening", "custom",
		"reference"} {
		all = append(all, own[name])
	}
	parts := map[string][]seen{}
	for _, f := range order.AllFields(order.Header) {
		role, _, ofParty := strings.Cut(f.Name, ".")
		switch _, taken := own[f.Name]; {
		case taken || strings.HasSuffix(f.Name, ".*"):
		case ofParty:
			parts[role] = append(parts[role], ofField(&f))
		default:
			all = append(all, ofField(&f))
		}
	}
	for _, role := range order.Roles {
		members := parts[role]
		typ := structOf(members)
		all = append(all, seen{role, typ, func(o *order.Order, _ *order.Line) any {
			if o.Party(role) == nil {
				return reflect.Zero(typ).Interface()
			}
			return filled(typ, members, o, nil).Interface()
		}})
	}
	return all
}

func customs(list []order.Custom) map[string]string {
	m := make(map[string]string, len(list))
	for _, c := range list {
		m[c.Name] = c.Value
	}
	return m
}

func filled(typ reflect.Type, all []seen, o *order.Order, l *order.Line) reflect.Value {
	v := reflect.New(typ).Elem()
	for i := range all {
		v.Field(i).Set(reflect.ValueOf(all[i].of(o, l)))
	}
	return v
}

// ParseOrderTest reads a condition; nil if it has mistakes, or if there is none.
func ParseOrderTest(n *grammar.Node, m *grammar.Mistakes) *OrderTest {
	if n == nil {
		return nil
	}
	if program := ofOrder(n, orderStruct, m); program != nil {
		return &OrderTest{n.Text, program}
	}
	return nil
}

// ofOrder reads a condition that can use the members of a type; nil if it has mistakes.
func ofOrder(n *grammar.Node, sees reflect.Type, m *grammar.Mistakes) *vm.Program {
	program, _, message, at := understood(n, expr.Env(reflect.Zero(sees).Interface()), expr.AsBool())
	if message == "" {
		return program
	}
	if _, field, of := strings.Cut(message, "has no field "); of { // the type is of our making
		message = "there is no field " + field
	}
	f := m.Add(finding.MappingWrongValue, at, n.Text, "The condition cannot be understood: %s.", message)
	f.Hint = ""
	if strings.Contains(message, "unknown name") || strings.Contains(message, "no field") {
		f.Hint = `It sees the fields of an order by their names, such as partner, status, total, ship_to.country, ` +
			`reference["contract"], and lines: any(lines, .location == "EAST").`
	}
	return nil
}

// seenOf is what a condition can use of an order, with its lines if they are needed.
func seenOf(o *order.Order, lines bool) reflect.Value {
	copied := *o // looking at a party that is not there adds it
	env := filled(orderStruct, headerSeen, &copied, nil)
	if lines {
		all := reflect.MakeSlice(reflect.SliceOf(lineStruct), len(o.Lines), len(o.Lines))
		for i := range o.Lines {
			l := o.Lines[i]
			all.Index(i).Set(filled(lineStruct, lineSeen, &copied, &l))
		}
		env.Field(len(headerSeen)).Set(all)
	}
	return env
}

// holds evaluates a condition. What strangers' documents contain must not stop more than that.
func holds(text string, program *vm.Program, env any) (is bool, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the condition %s cannot be worked out: %v", text, r)
		}
	}()
	v, err := expr.Run(program, env)
	if err != nil {
		return false, fmt.Errorf("the condition %s cannot be worked out: %w", text, err)
	}
	is, _ = v.(bool)
	return is, nil
}

// Holds reports whether an order meets the condition; a nil condition is met by any order.
func (t *OrderTest) Holds(o *order.Order) (bool, error) {
	if t == nil {
		return true, nil
	}
	return holds(t.Text, t.program, seenOf(o, strings.Contains(t.Text, "lines")).Interface())
}
