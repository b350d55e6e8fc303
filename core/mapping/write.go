package mapping

import (
	"errors"
	"fmt"
	"strings"

	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/source"

	"github.com/expr-lang/expr/vm"
)

// ErrOneWay says that a binding computes its value and does not say how the
// value is written back.
var ErrOneWay = errors.New("its expression has no write that turns the value back")

// nothing is around a value that is written back, except its binding's locale and the lists.
type nothing struct {
	locale *Locale
	set    *list.Set
}

func (nothing) Cells() []source.Cell { return nil }
func (nothing) Col(string) string    { return "" }
func (n nothing) Locale() *Locale    { return n.locale }
func (n nothing) Lists() *list.Set   { return n.set }

// Written returns the text that a document of this mapping has for a field's value (as order.Each gives it): the way
// back through list, crosswalk, expression and locale. The error says why there is none.
func (b *Binding) Written(value string, set *list.Set) (string, error) {
	if value == "" {
		return "", nil
	}
	if b.Expr != nil && b.Write == nil {
		return "", ErrOneWay
	}
	if b.List != "" && (len(b.Keys) > 0 && b.Keys[0] != "code" || b.Give != "") {
		l := set.Lists[b.List]
		if l == nil {
			return "", fmt.Errorf("there is no list %q", b.List)
		}
		m := l.Look(value, []string{either(b.Give, "code")}, 0)
		if m.Entry == nil {
			return "", fmt.Errorf("%q is not in the list %s", value, b.List)
		}
		key := "code"
		if len(b.Keys) > 0 {
			key = b.Keys[0]
		}
		if text := m.Entry.Get(key); text != "" {
			value = text
		} else {
			value = m.Entry.Code
		}
	}
	if b.Crosswalk != "" {
		walk := set.Crosswalk(b.Crosswalk)
		if walk == nil {
			return "", fmt.Errorf("there is no crosswalk %q", b.Crosswalk)
		}
		theirs, ok := walk.Theirs(value)
		if !ok && b.Others {
			theirs = value
		} else if !ok {
			return "", fmt.Errorf("the crosswalk %s has nothing for our %q", b.Crosswalk, value)
		}
		value = theirs
	}
	if b.Write != nil {
		env := NewEnv(nothing{&b.Locale, set})
		env.Value = value
		v, err := b.Write.Run(&vm.VM{}, &env)
		if err != nil {
			return "", err
		}
		text, kind := ValueText(v)
		if kind == source.Exact {
			return b.Locale.written(text), nil
		}
		return text, nil
	}
	switch b.Field.Type {
	case order.Decimal, order.Percent:
		return b.Locale.written(value), nil
	case order.Day:
		return b.Locale.writtenDay(value), nil
	case order.Boolean:
		if value == "true" && len(b.Locale.yes) > 0 {
			return b.Locale.yes[0], nil
		}
		if value == "false" && len(b.Locale.no) > 0 {
			return b.Locale.no[0], nil
		}
	}
	return value, nil
}

func either(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func (l *Locale) written(number string) string {
	if l.DecimalSign == ',' {
		return strings.Replace(number, ".", ",", 1)
	}
	return number
}

// Forms are the forms of a date that the binding reads.
func (b *Binding) Forms() []string {
	forms := []string{}
	for _, f := range b.Locale.Dates {
		forms = append(forms, f.Text)
	}
	return append(forms, "yyyy-mm-dd")
}

// Decimal is the decimal sign that the binding reads.
func (b *Binding) Decimal() string { return string(b.Locale.DecimalSign) }

// Pointer is the pointer, from its record, of the JSON value that the source names; "" if it is not always the same.
func (s *Source) Pointer() string {
	if s.Path == nil {
		return ""
	}
	return s.Path.Pointer()
}

// Numbered reports whether {n} in the heading counts repetitions.
func (s *Source) Numbered() bool { return s.Number }
