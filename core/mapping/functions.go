package mapping

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"regexp"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/expr-lang/expr"

	"koinos/core/order"
)

var dayType = reflect.TypeFor[order.Date]()

// disabled are functions of the engine that compute with floats, or depend on the day.
var disabled = []string{"now", "float", "int", "round", "ceil", "floor", "abs", "mean", "median", "sum", "max", "min",
	"toJSON", "fromJSON", "toBase64", "fromBase64", "date", "duration", "timezone", "get", "first", "last", "join",
	"flatten", "concat", "keys", "values", "split", "splitAfter", "replace", "repeat",
	"toPairs", "fromPairs", "groupBy", "bitand", "bitor", "bitxor", "bitnand", "bitshl", "bitshr", "bitushr", "bitnot"}

var exprOptions = func() []expr.Option {
	options := []expr.Option{expr.Env(Env{}), expr.MaxNodes(500)}
	for _, name := range disabled {
		options = append(options, expr.DisableBuiltin(name))
	}
	operator := func(op string, f func(...any) (any, error), types []any) {
		options = append(options, expr.Operator(op, "number "+op), expr.Function("number "+op, f, types...))
	}
	for op, f := range arithmetic {
		operator(op, func(a ...any) (any, error) { return f(number(a[0]), number(a[1])) }, signatures("nn n"))
	}
	for op, holds := range comparisons {
		operator(op, func(a ...any) (any, error) {
			if d, ok := a[0].(order.Date); ok { // as ISO 8601 writes them, days stand in the order of their text
				return holds(strings.Compare(string(d), string(a[1].(order.Date)))), nil
			}
			return holds(number(a[0]).Cmp(number(a[1]))), nil
		}, signatures("nn ?", "dd ?"))
	}
	operator("in", among, signatures("n# ?"))
	options = append(options, expr.Operator("+", "text +"), expr.Function("text +", bounded(func(a ...any) (any, error) {
		return a[0].(string) + a[1].(string), nil
	}), signatures("tt t")...))
	for name, f := range functions {
		options = append(options, expr.Function(name, bounded(f.call), signatures(f.types...)...))
	}
	return options
}()

// Expressions are given what strangers' cells contain, and may have been written by strangers. What they produce is
// limited, so that no value takes the memory or the time of all others.
const (
	mostMade   = 1 << 20 // bytes of a text
	mostPieces = 1000    // of a list
	mostNested = 2       // conditions within one another, such as any(…, all(…))
)

var (
	errLong = errors.New("the text becomes longer than 1 MiB")
	errMany = fmt.Errorf("the text has more than %d pieces", mostPieces)
)

// bounded refuses the result of a function if it is too long.
func bounded(f func(...any) (any, error)) func(...any) (any, error) {
	return func(a ...any) (any, error) {
		v, err := f(a...)
		if s, ok := v.(string); ok && len(s) > mostMade {
			return nil, errLong
		}
		return v, err
	}
}

// replaced is strings.ReplaceAll, unless the text would become too long.
func replaced(s, from, to string) (string, error) {
	if len(to) > len(from) && len(s)+strings.Count(s, from)*(len(to)-len(from)) > mostMade {
		return "", errLong
	}
	return strings.ReplaceAll(s, from, to), nil
}

// kinds are the letters for types in signatures: t a text, n a number, d a day, # a list, ? true or false, i a whole
// number that is passed.
var kinds = map[rune][]reflect.Type{
	't': {reflect.TypeFor[string]()},
	'n': {numberType, reflect.TypeFor[int]()},
	'd': {dayType},
	'#': {reflect.TypeFor[[]any](), reflect.TypeFor[[]string](), reflect.TypeFor[[]int]()},
	's': {reflect.TypeFor[[]string]()},
	'?': {reflect.TypeFor[bool]()},
	'i': {reflect.TypeFor[int]()},
}

// signatures are the types that a function takes and returns, such as "tn t". The engine does not convert whole
// numbers, so each n allows both. A + behind the last means that there can be several.
func signatures(words ...string) (all []any) {
	for _, word := range words {
		takes, gives, _ := strings.Cut(word, " ")
		takes, several := strings.CutSuffix(takes, "+")
		lists := [][]reflect.Type{nil}
		for i := 0; i < len(takes); i++ {
			var longer [][]reflect.Type
			for _, before := range lists {
				for _, typ := range kinds[rune(takes[i])] {
					if several && i == len(takes)-1 {
						typ = reflect.SliceOf(typ)
					}
					longer = append(longer, append(before[:len(before):len(before)], typ))
				}
			}
			lists = longer
		}
		for _, in := range lists {
			all = append(all, reflect.New(reflect.FuncOf(in, kinds[rune(gives[0])][:1], several)).Interface())
		}
	}
	return all
}

// number is a value that signatures accept as a number.
func number(v any) order.Number {
	switch v := v.(type) {
	case order.Number:
		return v
	case int:
		return order.NumberOf(int64(v))
	}
	return order.Number{}
}

// whole is a number that must be a whole one, and not greater than most.
func whole(v any, most int) (int, error) {
	n := number(v)
	if n.Cmp(order.NumberOf(int64(most))) > 0 || n.Cmp(order.NumberOf(-int64(most))) < 0 {
		return 0, fmt.Errorf("%s is beyond %d", n, most)
	}
	i, ok := n.Whole()
	if !ok {
		return 0, fmt.Errorf("%s is not a whole number", n)
	}
	return int(i), nil
}

var arithmetic = map[string]func(a, b order.Number) (order.Number, error){
	"+": order.Number.Add, "-": order.Number.Sub, "*": order.Number.Mul, "/": order.Number.Quo, "%": order.Number.Rem,
	"^": power, "**": power,
}

var comparisons = map[string]func(int) bool{
	"==": func(c int) bool { return c == 0 }, "!=": func(c int) bool { return c != 0 },
	"<": func(c int) bool { return c < 0 }, "<=": func(c int) bool { return c <= 0 },
	">": func(c int) bool { return c > 0 }, ">=": func(c int) bool { return c >= 0 },
}

// power multiplies a number with itself; for a negative exponent it is the reciprocal.
func power(a, b order.Number) (order.Number, error) {
	times, err := whole(b, 100)
	out := order.NumberOf(1)
	for i := 0; i < max(times, -times) && err == nil; i++ {
		out, err = out.Mul(a)
	}
	if err == nil && times < 0 {
		return order.NumberOf(1).Quo(out)
	}
	return out, err
}

// among reports whether a number is one of a list.
func among(a ...any) (any, error) {
	is := func(v any) bool {
		switch v.(type) {
		case int, order.Number:
			return number(v).Cmp(number(a[0])) == 0
		}
		return false
	}
	switch all := a[1].(type) {
	case []int:
		for _, v := range all {
			if is(v) {
				return true, nil
			}
		}
	case []any:
		for _, v := range all {
			if is(v) {
				return true, nil
			}
		}
	}
	return false, nil
}

// function is one that expressions can call.
type function struct {
	call  func(...any) (any, error)
	types []string // for signatures
}

// functions are our own; value | digits() | pad(5) reads from left to right.
var functions = map[string]function{
	"digits":  {ofText(func(s string) any { return only(s, unicode.IsDigit) }), []string{"t t"}},
	"letters": {ofText(func(s string) any { return only(s, unicode.IsLetter) }), []string{"t t"}},
	"squeeze": {ofText(func(s string) any { return strings.Join(strings.Fields(s), " ") }), []string{"t t"}},
	"length":  {ofText(func(s string) any { return utf8.RuneCountInString(s) }), []string{"t i"}},
	"checked": {ofText(func(s string) any {
		for digit := '0'; order.IsDigits(s) && digit <= '9'; digit++ {
			if code := s + string(digit); order.CheckDigit(code) {
				return code
			}
		}
		return s
	}), []string{"t t"}},
	"pad": {func(a ...any) (any, error) {
		s := a[0].(string)
		n, err := whole(a[1], 200)
		if missing := n - utf8.RuneCountInString(s); s != "" && missing > 0 {
			s = strings.Repeat("0", missing) + s
		}
		return s, err
	}, []string{"tn t"}},
	"cut": {func(a ...any) (any, error) {
		r := []rune(a[0].(string))
		from, err := whole(a[1], math.MaxInt32)
		to, err2 := whole(a[2], math.MaxInt32)
		from, to = max(from, 1), min(to, len(r))
		if from > to {
			return "", errors.Join(err, err2)
		}
		return string(r[from-1 : to]), errors.Join(err, err2)
	}, []string{"tnn t"}},
	"swap": {func(a ...any) (any, error) {
		re, err := regexp.Compile(a[1].(string))
		if err != nil {
			return nil, err
		}
		if s, to := a[0].(string), a[2].(string); len(s)+(len(s)+1)*len(to) > mostMade {
			// what a pattern fits is not known before, but each letter at most
			if n := len(re.FindAllStringIndex(s, mostMade/(len(to)+1)+1)); n*(len(to)+len(s)*strings.Count(to, "$")) > mostMade {
				return nil, errLong
			}
		}
		return re.ReplaceAllString(a[0].(string), a[2].(string)), nil
	}, []string{"ttt t"}},
	"replace": {func(a ...any) (any, error) { return replaced(a[0].(string), a[1].(string), a[2].(string)) },
		[]string{"ttt t"}},
	"split": {func(a ...any) (any, error) {
		if strings.Count(a[0].(string), a[1].(string)) >= mostPieces {
			return nil, errMany
		}
		return strings.Split(a[0].(string), a[1].(string)), nil
	}, []string{"tt s"}},
	"json": {func(a ...any) (any, error) { return member(a[0].(string), a[1].(string)) }, []string{"tt t"}},
	"before": {func(a ...any) (any, error) {
		s, _, _ := strings.Cut(a[0].(string), a[1].(string))
		return strings.TrimSpace(s), nil
	}, []string{"tt t"}},
	"after": {func(a ...any) (any, error) {
		_, s, _ := strings.Cut(a[0].(string), a[1].(string))
		return strings.TrimSpace(s), nil
	}, []string{"tt t"}},
	"part": {func(a ...any) (any, error) {
		parts := strings.Split(a[0].(string), a[1].(string))
		n, err := whole(a[2], math.MaxInt32)
		if n >= 1 && n <= len(parts) {
			return strings.TrimSpace(parts[n-1]), err
		}
		return "", err
	}, []string{"ttn t"}},
	"either": {func(a ...any) (any, error) {
		for _, v := range a {
			if n, ok := v.(order.Number); ok && !n.IsZero() || !ok && strings.TrimSpace(fmt.Sprint(v)) != "" {
				return v, nil
			}
		}
		return a[len(a)-1], nil
	}, []string{"t+ t", "d+ d", "nn n", "nnn n"}},
	"join": {func(a ...any) (any, error) {
		var words []string
		made, between := 0, append(a[1:], "")[0].(string)
		for v := range reflect.ValueOf(a[0]).Seq2() {
			word, _ := ValueText(reflect.ValueOf(a[0]).Index(int(v.Int())).Interface())
			if made += len(word) + len(between); made > mostMade {
				return nil, errLong
			}
			words = append(words, word)
		}
		return strings.Join(words, append(a[1:], "")[0].(string)), nil
	}, []string{"# t", "#t t"}},
	"min":   {least(1), []string{"nn n", "nnn n", "nnnn n"}},
	"max":   {least(-1), []string{"nn n", "nnn n", "nnnn n"}},
	"floor": {func(a ...any) (any, error) { return number(a[0]).Floor(), nil }, []string{"n n"}},
	"rounded": {func(a ...any) (any, error) {
		digits, err := whole(a[1], 19)
		return number(a[0]).Round(order.HalfUp, digits), err
	}, []string{"nn n"}},
	"minor": {func(a ...any) (any, error) { // minor units of ISO 4217, such as cents
		return number(a[0]).Quo(order.NumberOf(int64(math.Pow10(order.CurrencyDigits(a[1].(string))))))
	}, []string{"nt n"}},
	"shift": {func(a ...any) (any, error) {
		t, err := time.Parse(time.DateOnly, string(a[0].(order.Date)))
		if err != nil {
			return nil, errors.New("it is not a day")
		}
		days, err := whole(a[1], 100_000)
		return order.Date(t.AddDate(0, 0, days).Format(time.DateOnly)), err
	}, []string{"dn d"}},
}

func ofText(f func(string) any) func(...any) (any, error) {
	return func(a ...any) (any, error) { return f(a[0].(string)), nil }
}

// least returns the number that compares so with all others.
func least(sign int) func(...any) (any, error) {
	return func(a ...any) (any, error) {
		out := number(a[0])
		for _, v := range a[1:] {
			if n := number(v); out.Cmp(n)*sign > 0 {
				out = n
			}
		}
		return out, nil
	}
}

func only(s string, keep func(rune) bool) string {
	return strings.Map(func(r rune) rune {
		if keep(r) {
			return r
		}
		return -1
	}, s)
}
