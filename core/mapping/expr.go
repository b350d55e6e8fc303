package mapping

import (
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/checker/nature"
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

// Env is what an expression can use.
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

// exactly replaces literals with a decimal point by exact numbers, and a minus sign by a subtraction, so that no float
// is used; it collects what col() names.
type exactly struct {
	text    []rune
	columns []string
	odd     string
}

func (e *exactly) Visit(n *ast.Node) {
	switch v := (*n).(type) {
	case *ast.FloatNode:
		at := v.Location()
		number, err := order.ParseNumber(strings.ReplaceAll(string(e.text[at.From:at.To]), "_", ""))
		if err != nil {
			e.odd = "a number is written in plain digits, at most 19"
			return
		}
		ast.Patch(n, &ast.ConstantNode{Value: number})
	case *ast.UnaryNode:
		if _, number := v.Node.(*ast.IntegerNode); !number && (v.Operator == "-" || v.Operator == "+") {
			ast.Patch(n, &ast.BinaryNode{Operator: v.Operator, Left: &ast.ConstantNode{Value: order.NumberOf(0)},
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

// untyped removes from all nodes what the engine has noted about their types, because otherwise it would not check the
// arguments of a call again. It must run after our operators have been put in.
type untyped struct{}

func (untyped) Visit(n *ast.Node)  { (*n).SetNature(nature.Nature{}) }
func (untyped) Reset()             {}
func (untyped) ShouldRepeat() bool { return false }

// typed finds operators and functions with arguments that they may not accept, which would otherwise be noticed only
// during a load.
type typed struct {
	odd    string
	nested int // conditions within one another
}

func (t *typed) Visit(n *ast.Node) {
	var given []ast.Node
	of, days := "", false // whether days can be given
	switch v := (*n).(type) {
	case *ast.BinaryNode:
		switch of, given = v.Operator, []ast.Node{v.Left, v.Right}; of {
		case "??":
			return
		case "..":
			from, isFrom := v.Left.(*ast.IntegerNode)
			to, isTo := v.Right.(*ast.IntegerNode)
			if !isFrom || !isTo || to.Value-from.Value >= mostPieces {
				t.odd = fmt.Sprintf("a range goes from one whole number to another, and has at most %d", mostPieces)
			}
		case "==", "!=", "in", "not in":
			days = true
			given = slices.DeleteFunc(given, func(g ast.Node) bool { _, is := g.(*ast.NilNode); return is })
		default:
			if v.Left.Type() == numberType || v.Right.Type() == numberType { // ours stand as calls
				t.odd = fmt.Sprintf("%s is given something else than numbers", of)
			}
		}
	case *ast.UnaryNode:
		of, given = v.Operator, []ast.Node{v.Node}
	case *ast.ConditionalNode:
		of, given = "?", []ast.Node{v.Cond}
	case *ast.SliceNode:
		of, given = "[ ]", []ast.Node{v.Node}
	case *ast.MemberNode:
		of, given = "[ ]", []ast.Node{v.Node, v.Property}
	case *ast.CallNode:
		if id, ok := v.Callee.(*ast.IdentifierNode); ok && id.Value != "num" {
			of, given, days = id.Value, v.Arguments, true // their signatures say whether
		}
	case *ast.PredicateNode:
		if t.nested <= mostNested {
			t.nested = max(t.nested, 1+nested(v.Node))
		}
		if t.nested > mostNested {
			t.odd = fmt.Sprintf("no more than %d conditions with # may stand within one another", mostNested)
		}
	case *ast.BuiltinNode:
		switch of = v.Name; of {
		case "string", "type":
			return
		case "sum", "reduce":
			t.odd = of + "() is not among the functions"
		case "sort", "sortBy":
			if list := v.Arguments[0].Type(); list == nil || list.Kind() != reflect.Slice ||
				list.Elem().Kind() == reflect.Interface {
				t.odd = of + " is given something else than a list of texts"
			}
		}
		for _, g := range v.Arguments {
			if _, closure := g.(*ast.PredicateNode); !closure {
				given = append(given, g)
			}
		}
	}
	for _, g := range given {
		switch typ := g.Type(); {
		case typ == nil || typ.Kind() == reflect.Interface:
			t.odd = fmt.Sprintf("%s is given what may be a text or a number: num(…) or string(…) says which", of)
		case typ == dayType && !days:
			t.odd = fmt.Sprintf("%s is given a day: string(…) makes a text of it", of)
		}
	}
}

// nested returns how deeply conditions are nested; it stops at the allowed depth.
func nested(n ast.Node) int {
	t := &typed{}
	ast.Walk(&n, t)
	return t.nested
}

// commented matches an expression with something that the engine takes for a comment.
var commented = regexp.MustCompile("^([^\"'`/]|\"(\\\\.|[^\"\\\\])*\"|'(\\\\.|[^'\\\\])*'|`[^`]*`|/[^/*])*/[/*]")

// understood reads an expression. If it cannot be understood, wrong says why, and at says where.
func understood(n *grammar.Node, more ...expr.Option) (program *vm.Program, columns []string, wrong string,
	at origin.Place) {
	visit, types := &exactly{text: []rune(n.Text)}, &typed{}
	options := append(append([]expr.Option{}, exprOptions...), more...)
	program, err := expr.Compile(n.Text, append(options, expr.Patch(visit), expr.Patch(untyped{}))...)
	if err == nil {
		root := program.Node()
		ast.Walk(&root, types)
	}
	at = n.At
	var where *file.Error
	switch {
	case commented.MatchString(n.Text):
		wrong = "what stands behind // would be passed over"
	case visit.odd+types.odd != "":
		wrong = cmp.Or(visit.odd, types.odd)
	case errors.As(err, &where):
		wrong = where.Message
		if where.Line == 1 && !n.Quoted {
			at.Column += where.Column
		}
	case err != nil:
		wrong = err.Error()
	}
	return program, visit.columns, wrong, at
}

// compile reads an expression of the mapping.
func (b *builder) compile(n *grammar.Node, condition bool) *Expr {
	if n == nil {
		return nil
	}
	var want []expr.Option
	if condition {
		want = append(want, expr.AsBool())
	}
	program, columns, wrong, at := understood(n, want...)
	if wrong != "" {
		f := b.Add(finding.MappingWrongValue, at, n.Text, "The expression cannot be understood: %s.", wrong)
		f.Hint = ""
		switch {
		case strings.Contains(wrong, "mismatched types"):
			f.Hint = "Text and numbers do not mix: num(…) makes a number of a text."
		case strings.Contains(wrong, "unknown name"):
			f.Hint = `A column is written col("Heading"); value is what from found. docs/mapping.md lists the functions.`
		}
		return nil
	}
	e := &Expr{Text: n.Text, program: program, At: n.At}
	for _, c := range columns {
		e.Reads = append(e.Reads, b.source(n, c))
	}
	return e
}

// ValueText is an expression's value in the form of a cell: a number or a day needs no locale.
func ValueText(v any) (text string, kind source.Kind) {
	switch v := v.(type) {
	case nil:
		return "", source.Text
	case string:
		return source.Trim(v), source.Text
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

// Run evaluates the expression.
func (x *Expr) Run(machine *vm.VM, e *Env) (v any, err error) {
	// The engine is given what strangers' cells contain. Whatever it does with that must affect one value only.
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	v, err = machine.Run(x.program, e) // a pointer: a copy would be allocated
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

// Around is what an expression can use besides the value.
type Around interface {
	Cells() []source.Cell   // of the row; nil where there is none
	Col(name string) string // value of a column or path
	Locale() *Locale        // by which num and day read
	Lists() *list.Set
}

// NewEnv is what expressions can use of what is around them; the caller sets value, row and sheet.
func NewEnv(a Around) Env {
	return Env{
		Text: func() string {
			for _, c := range a.Cells() {
				if t := source.Trim(c.Text); t != "" {
					return t
				}
			}
			return ""
		},
		Filled: func() (n int) {
			for _, c := range a.Cells() {
				if source.Trim(c.Text) != "" {
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
				if source.Trim(v) == "" {
					return order.Number{}, nil
				}
				n, _, err := a.Locale().Number(source.Cell{Text: source.Trim(v)}, true)
				if err != nil {
					err = fmt.Errorf("%q is not a number: %w", v, err)
				}
				return n, err
			}
			return order.Number{}, fmt.Errorf("%v is not a number", v)
		},
		Day: func(s string) (order.Date, error) {
			d, err := a.Locale().Date(source.Cell{Text: source.Trim(s)})
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
			ours, spelled, ok := walk.Ours(text)
			if spelled {
				return "", fmt.Errorf("the crosswalk %s has %q in another spelling", name, text)
			}
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
			if m.Spelled {
				return "", fmt.Errorf("the list %s has %q as %s", name, text, m.Entry.Code)
			}
			return m.Entry.Get(give), nil
		},
	}
}
