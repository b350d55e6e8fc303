package mapping

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/vm"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
)

// Expr is an expression of a mapping. Its numbers are exact decimals.
type Expr struct {
	Text    string
	program *vm.Program
	Reads   []Source // what its col("…") name
	At      origin.Place
}

// Env is what an expression sees.
type Env struct {
	Value  string                                        `expr:"value"`
	Row    int                                           `expr:"row"`
	Sheet  string                                        `expr:"sheet"`
	Text   func() string                                 `expr:"text"`
	Filled func() int                                    `expr:"filled"`
	Col    func(string) string                           `expr:"col"`
	Num    func(any) (order.Number, error)               `expr:"num"`
	Day    func(string) (order.Date, error)              `expr:"day"`
	Walk   func(crosswalk, text string) (string, error)  `expr:"walk"`
	Look   func(name, text, give string) (string, error) `expr:"look"`
}

// exactly replaces literals with a point by exact numbers, and a minus sign by
// a subtraction, so that no float comes in; it gathers what col() names.
type exactly struct {
	columns []string
	odd     string
}

func (e *exactly) Visit(n *ast.Node) {
	switch v := (*n).(type) {
	case *ast.FloatNode:
		number, err := order.ParseNumber(strconv.FormatFloat(v.Value, 'f', -1, 64))
		if err != nil {
			e.odd = "a number has more than 19 digits"
			return
		}
		ast.Patch(n, &ast.ConstantNode{Value: number})
	case *ast.UnaryNode:
		if _, number := v.Node.(*ast.IntegerNode); v.Operator == "-" && !number {
			ast.Patch(n, &ast.BinaryNode{Operator: "-", Left: &ast.ConstantNode{Value: order.NumberOf(0)},
				Right: v.Node})
		}
	case *ast.CallNode:
		if id, ok := v.Callee.(*ast.IdentifierNode); ok && id.Value == "col" && len(v.Arguments) == 1 {
			if s, ok := v.Arguments[0].(*ast.StringNode); ok {
				e.columns = append(e.columns, s.Value)
			} else {
				e.odd = `col() takes a heading in quotation marks`
			}
		}
	}
}

var exprOptions = func() []expr.Option {
	type pair = func(order.Number, order.Number) (order.Number, error)
	options := []expr.Option{expr.Env(Env{}), expr.MaxNodes(500)}
	for _, name := range []string{"now", "float", "int", "round", "ceil", "floor", "abs", "mean", "median", "sum",
		"toJSON", "fromJSON", "toBase64", "fromBase64", "date", "duration", "timezone", "get", "first", "last"} {
		options = append(options, expr.DisableBuiltin(name))
	}
	number := func(v any) order.Number {
		switch v := v.(type) {
		case order.Number:
			return v
		case int:
			return order.NumberOf(int64(v))
		}
		return order.Number{}
	}
	n, i := new(func(order.Number, order.Number) order.Number), new(func(order.Number, int) order.Number)
	j, k := new(func(int, order.Number) order.Number), new(func(int, int) order.Number)
	for op, f := range map[string]pair{"+": order.Number.Add, "-": order.Number.Sub, "*": order.Number.Mul,
		"/": order.Number.Quo} {
		name := "number " + op
		options = append(options, expr.Operator(op, name), expr.Function(name, func(a ...any) (any, error) {
			return f(number(a[0]), number(a[1]))
		}, n, i, j, k))
	}
	nb, ib, jb := new(func(order.Number, order.Number) bool), new(func(order.Number, int) bool),
		new(func(int, order.Number) bool)
	for op, holds := range map[string]func(int) bool{
		"==": func(c int) bool { return c == 0 }, "!=": func(c int) bool { return c != 0 },
		"<": func(c int) bool { return c < 0 }, "<=": func(c int) bool { return c <= 0 },
		">": func(c int) bool { return c > 0 }, ">=": func(c int) bool { return c >= 0 },
	} {
		name := "number " + op
		options = append(options, expr.Operator(op, name), expr.Function(name, func(a ...any) (any, error) {
			return holds(number(a[0]).Cmp(number(a[1]))), nil
		}, nb, ib, jb))
	}
	for name, f := range functions {
		options = append(options, expr.Function(name, f.call, f.types...))
	}
	return options
}()

type function struct {
	call  func(...any) (any, error)
	types []any
}

// functions are our own; value | digits() | pad(5) reads from left to right.
var functions = map[string]function{
	"digits": {func(a ...any) (any, error) { return only(a[0].(string), unicode.IsDigit), nil },
		[]any{new(func(string) string)}},
	"letters": {func(a ...any) (any, error) { return only(a[0].(string), unicode.IsLetter), nil },
		[]any{new(func(string) string)}},
	"pad": {func(a ...any) (any, error) {
		s, n := a[0].(string), min(a[1].(int), 200)
		if missing := n - len([]rune(s)); s != "" && missing > 0 {
			s = strings.Repeat("0", missing) + s
		}
		return s, nil
	}, []any{new(func(string, int) string)}},
	"cut": {func(a ...any) (any, error) {
		r := []rune(a[0].(string))
		from, to := a[1].(int), a[2].(int)
		from, to = max(from, 1), min(to, len(r))
		if from > to {
			return "", nil
		}
		return string(r[from-1 : to]), nil
	}, []any{new(func(string, int, int) string)}},
	"swap": {func(a ...any) (any, error) {
		re, err := regexp.Compile(a[1].(string))
		if err != nil {
			return nil, err
		}
		return re.ReplaceAllString(a[0].(string), a[2].(string)), nil
	}, []any{new(func(string, string, string) string)}},
	"before": {func(a ...any) (any, error) {
		s, _, _ := strings.Cut(a[0].(string), a[1].(string))
		return strings.TrimSpace(s), nil
	}, []any{new(func(string, string) string)}},
	"after": {func(a ...any) (any, error) {
		_, s, _ := strings.Cut(a[0].(string), a[1].(string))
		return strings.TrimSpace(s), nil
	}, []any{new(func(string, string) string)}},
	"part": {func(a ...any) (any, error) {
		parts := strings.Split(a[0].(string), a[1].(string))
		if n := a[2].(int); n >= 1 && n <= len(parts) {
			return strings.TrimSpace(parts[n-1]), nil
		}
		return "", nil
	}, []any{new(func(string, string, int) string)}},
	"squeeze": {func(a ...any) (any, error) { return strings.Join(strings.Fields(a[0].(string)), " "), nil },
		[]any{new(func(string) string)}},
	"either": {func(a ...any) (any, error) {
		for _, v := range a {
			if s, ok := v.(string); !ok || strings.TrimSpace(s) != "" {
				return v, nil
			}
		}
		return "", nil
	}, []any{new(func(...any) any)}},
	"rounded": {func(a ...any) (any, error) { return a[0].(order.Number).Round(order.HalfUp, a[1].(int)), nil },
		[]any{new(func(order.Number, int) order.Number)}},
	"minor": {func(a ...any) (any, error) { // minor units of ISO 4217, such as cents
		return a[0].(order.Number).Quo(order.NumberOf(int64(math.Pow10(order.CurrencyDigits(a[1].(string))))))
	}, []any{new(func(order.Number, string) order.Number)}},
	"shift": {func(a ...any) (any, error) {
		t, err := time.Parse(time.DateOnly, string(a[0].(order.Date)))
		if err != nil {
			return nil, errors.New("it is not a day")
		}
		return order.Date(t.AddDate(0, 0, a[1].(int)).Format(time.DateOnly)), nil
	}, []any{new(func(order.Date, int) order.Date)}},
}

func only(s string, keep func(rune) bool) string {
	return strings.Map(func(r rune) rune {
		if keep(r) {
			return r
		}
		return -1
	}, s)
}

// compile reads an expression of the mapping; want says what it must give.
func (b *builder) compile(n *grammar.Node, condition bool) *Expr {
	if n == nil {
		return nil
	}
	visit := &exactly{}
	options := append(append([]expr.Option{}, exprOptions...), expr.Patch(visit))
	if condition {
		options = append(options, expr.AsBool())
	}
	program, err := expr.Compile(n.Text, options...)
	if err != nil || visit.odd != "" {
		message, at := visit.odd, n.At
		var where *file.Error
		if errors.As(err, &where) {
			message = where.Message
			if where.Line == 1 && !n.Quoted {
				at.Column += where.Column
			}
		} else if err != nil {
			message = err.Error()
		}
		f := b.Add(finding.MappingWrongValue, at, n.Text, "The expression cannot be understood: %s.", message)
		switch {
		case strings.Contains(message, "mismatched types"):
			f.Hint = "Text and numbers do not mix: num(…) makes a number of a text."
		case strings.Contains(message, "unknown name"):
			f.Hint = `A column is written col("Heading"); value is what from found. docs/mapping.md lists the functions.`
		}
		return nil
	}
	e := &Expr{Text: n.Text, program: program, At: n.At}
	for _, c := range visit.columns {
		e.Reads = append(e.Reads, b.source(n, c))
	}
	return e
}

// ValueText is an expression's value in the form of a cell: what it is a number
// or a day of needs no locale.
func ValueText(v any) (text string, kind source.Kind) {
	switch v := v.(type) {
	case nil:
		return "", source.Text
	case string:
		return Trim(v), source.Text
	case order.Number:
		return v.String(), source.Exact
	case order.Date:
		return string(v), source.Day
	case bool:
		return strconv.FormatBool(v), source.Text
	case int:
		return strconv.Itoa(v), source.Exact
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), source.Exact
	case []string:
		return strings.Join(v, " "), source.Text
	case []any:
		words := make([]string, len(v))
		for i := range v {
			words[i], _ = ValueText(v[i])
		}
		return strings.Join(words, " "), source.Text
	}
	return fmt.Sprint(v), source.Text
}

// Run evaluates the expression in what it sees.
func (x *Expr) Run(machine *vm.VM, e *Env) (v any, err error) {
	// The engine is given what strangers' cells hold; whatever it makes of that
	// concerns one value only.
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	v, err = machine.Run(x.program, *e)
	var where *file.Error
	if errors.As(err, &where) {
		if where.Prev != nil {
			err = where.Prev
		} else {
			err = errors.New(where.Message)
		}
	}
	return v, err
}

// Around is what an expression can ask beside the value.
type Around interface {
	Cells() []source.Cell   // of the row; nil where there is none
	Col(name string) string // value of a column or path
	Locale() *Locale        // by which num and day read
	Lists() *list.Set
}

// NewEnv is what expressions see of what is around them; value, row and sheet
// are the caller's to set.
func NewEnv(a Around) Env {
	return Env{
		Text: func() string {
			for _, c := range a.Cells() {
				if t := Trim(c.Text); t != "" {
					return t
				}
			}
			return ""
		},
		Filled: func() (n int) {
			for _, c := range a.Cells() {
				if Trim(c.Text) != "" {
					n++
				}
			}
			return n
		},
		Col: a.Col,
		Num: func(v any) (order.Number, error) {
			switch v := v.(type) {
			case order.Number:
				return v, nil
			case int:
				return order.NumberOf(int64(v)), nil
			case string:
				if Trim(v) == "" {
					return order.Number{}, nil
				}
				n, _, err := a.Locale().Number(source.Cell{Text: Trim(v)}, true)
				if err != nil {
					err = fmt.Errorf("%q is not a number: %w", v, err)
				}
				return n, err
			}
			return order.Number{}, fmt.Errorf("%v is not a number", v)
		},
		Day: func(s string) (order.Date, error) {
			d, err := a.Locale().Date(source.Cell{Text: Trim(s)})
			if err != nil {
				err = fmt.Errorf("%q is not a day: %w", s, err)
			}
			return d, err
		},
		Walk: func(name, text string) (string, error) {
			walk := a.Lists().Crosswalk(name)
			if walk == nil {
				return "", fmt.Errorf("there is no crosswalk %q", name)
			}
			ours, ok := walk.Ours(text)
			if !ok {
				return "", fmt.Errorf("%q is not in the crosswalk %s", text, name)
			}
			return ours, nil
		},
		Look: func(name, text, give string) (string, error) {
			l := a.Lists().Lists[name]
			if l == nil {
				return "", fmt.Errorf("there is no list %q", name)
			}
			m := l.Look(text, nil, 0)
			if m.Entry == nil {
				return "", fmt.Errorf("%q is not in the list %s", text, name)
			}
			return m.Entry.Get(give), nil
		},
	}
}
