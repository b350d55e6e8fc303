package mapping

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/list"
	"koinos/core/source"

	"github.com/expr-lang/expr/vm"
)

// someRow is row 7 of a table, whose only column reads 7.
type someRow struct{}

func (someRow) Cells() []source.Cell { return []source.Cell{{Text: "7"}, {Text: "\u00a0"}} }
func (someRow) Col(string) string    { return "7" }
func (someRow) Locale() *Locale      { return &Locale{DecimalSign: '.'} }
func (someRow) Lists() *list.Set     { return &list.Set{} }

// evaluated returns what an expression gives, or why it does not: when it is checked, or when it
// is asked.
func evaluated(text string) (value string, refused, failed error) {
	b := &builder{Mistakes: &grammar.Mistakes{}}
	e := b.compile(&grammar.Node{Text: text}, false)
	if e == nil {
		return "", b.All, nil
	}
	env := NewEnv(someRow{})
	env.Value, env.Row = "7", 7
	v, err := e.Run(&vm.VM{}, &env)
	if err != nil {
		return "", nil, err
	}
	value, _ = ValueText(v)
	return value, nil, nil
}

func TestExpressions(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		// numbers with every operator, whole ones or not
		{`row % 5`, "2"}, {`(row - 1) % 5`, "1"}, {`num(value) % 2.5`, "2.0"}, {`(0 - row) % 5`, "-2"},
		{`row / 2`, "3.5"},
		{`num(value) + row`, "14"}, {`-num(value)`, "-7"}, {`+num(value)`, "7"}, {`2 ^ 10`, "1024"},
		{`num("1.1") ** 2`, "1.21"},
		{`2 ** -1`, "0.5"}, {`row - 1 == 6`, "true"}, {`num(value) >= 6.5`, "true"}, {`num(value) in [1, 7]`, "true"},
		{`row in [2.5, 3]`, "false"}, {`num(value) in 1..9`, "true"}, {`filled() * 2`, "2"}, {`length("añb") + 1`, "4"},
		{`0.1 + 0.2`, "0.3"}, {`0.12345678901234567`, "0.12345678901234567"}, {`1_000.5`, "1000.5"},
		// and with every function that takes one
		{`shift(day("2026-03-02"), num(value) * 2)`, "2026-03-16"}, {`pad(value, row - 3)`, "0007"},
		{`cut("abcdef", 2, row - 3)`, "bcd"}, {`checked("03600029145")`, "036000291452"}, {`checked("x1") + checked("")`,
			"x1"}, {`part("a-b", "-", row - 5)`, "b"},
		{`rounded(num(value) / 3, row - 5)`, "2.33"},
		{`floor(num("7.9"))`, "7"}, {`max(row, 3, num("7.5"))`, "7.5"}, {`min(row, 3)`, "3"},
		{`minor(row * 100, "EUR")`, "7"},
		{`either(num(""), row)`, "7"}, {`either(num("0"), row)`, "0"}, {`either("", " ", value)`, "7"},
		{`either(day(""), day("2026-01-01"))`, "!day(\"\")"},
		{`day("2026-03-02") > day("2026-03-01")`, "true"}, {`length(value) == 1 ? "one" : "more"`, "one"},
		{`join(sort(split("b,a", ",")), "+")`, "a+b"}, {`value + "a//b"`, "7a//b"}, {`text()`, "7"},
		// what would fail at each row is refused
		{`"a" + row`, "?"}, {`value > 3`, "?"}, {`(true ? 1 : "x") + 1`, "?"}, {`pad(true ? value : 3, 5)`, "?"},
		{`sum([1.5, 2])`, "?"}, {`sum(split(value, ",") | map(num(#)))`, "?"}, {`sort([3, 1.5])`, "?"},
		{`[1.5, 2][0] + 1`, "?"},
		{`day("2026-03-02") == "2026-03-02"`, "?"}, {`either(value, 3)`, "?"}, {`1e3`, "?"},
		{`1.12345678901234567890`, "?"},
		{`row / 2 // half`, "?"}, {`row /* half */ / 2`, "?"}, {`now()`, "?"}, {`abs(-3)`, "?"},
		// what only the row can tell
		{`row % 0`, "!division by zero"}, {`pad(value, 2.5)`, "!2.5 is not a whole number"},
		{`row ** 0.5`, "!0.5 is not a whole number"},
		{`shift(day("2026-03-02"), row * 100000)`, "!700000 is beyond 100000"}, {`num("x")`, `!"x" is not a number`},
	} {
		got, refused, failed := evaluated(c.text)
		switch {
		case c.want == "?":
			if refused == nil {
				t.Errorf("%s is let through: %s %v", c.text, got, failed)
			}
		case strings.HasPrefix(c.want, "!"):
			if failed == nil || !strings.Contains(failed.Error(), c.want[1:]) && !strings.HasPrefix(c.want, "!day") {
				t.Errorf("%s gives %s %v %v, want %s", c.text, got, refused, failed, c.want)
			}
		case got != c.want || refused != nil || failed != nil:
			t.Errorf("%s gives %s, want %s %v %v", c.text, got, c.want, refused, failed)
		}
	}
}

// Whatever passes the check does not fail because of types.
// What an expression makes is bounded, in memory and in time, whatever cell it is given.
func TestExpressionBounds(t *testing.T) {
	letters := strings.Repeat("x", 30_000)
	for _, c := range []struct{ value, text, want, refused string }{
		{letters, `length(value + value)`, "60000", ""},
		{letters, `let a = value + value; let b = a + a; let c = b + b; let d = c + c; let e = d + d; e + e`, "", "!" +
			errLong.Error()},
		{letters, `join(map(split(value, ""), value))`, "", "!" + errMany.Error()},
		{strings.Repeat("x,", 900), `length(join(map(split(value, ","), # + ",")))`, "1801", ""},
		{strings.Repeat("x,", 900), `join(map(split(value, ","), value))`, "", "!" + errLong.Error()},
		{letters, `replace(value, "x", value)`, "", "!" + errLong.Error()},
		{letters, `length(replace(value, "x", "yz"))`, "60000", ""},
		{letters, `swap(value, "x", value)`, "", "!" + errLong.Error()},
		{letters, `swap(value, "(.*)", "$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1$1")`, "",
			"!" + errLong.Error()},
		{letters, `length(swap(value, "x", "yz"))`, "60000", ""},
		{"", `count(1..900, any(1..900, # == 900))`, "900", ""},
		{"", `any(1..1001, # > 5)`, "", "has at most 1000"}, {"", `count(1..row, # > 0)`, "", "has at most 1000"},
		{"", `count(1..9, any(1..9, any(1..9, # > 2)))`, "", "no more than 2 conditions"},
		{"", `any(1..9, # > 2) and any(1..9, # > 2) and any(1..9, # > 2)`, "true", ""},
		{"", `repeat("x", 9)`, "", "unknown name repeat"},
	} {
		b := &builder{Mistakes: &grammar.Mistakes{}}
		e := b.compile(&grammar.Node{Text: c.text}, false)
		if e == nil {
			if c.refused == "" || !strings.Contains(b.All.Error(), c.refused) {
				t.Errorf("%s: %v", c.text, b.All)
			}
			continue
		}
		env := NewEnv(someRow{})
		env.Value, env.Row = c.value, 7
		v, err := e.Run(&vm.VM{}, &env)
		said := ""
		if err != nil {
			said = "!" + err.Error()
		}
		if got, _ := ValueText(v); said != c.refused || err == nil && got != c.want {
			t.Errorf("%s: %.80q %s, wanted %q %s", c.text, got, said, c.want, c.refused)
		}
	}
	deep := strings.Repeat("any(1..2, ", 40) + "true" + strings.Repeat(")", 40)
	if b := (&builder{Mistakes: &grammar.Mistakes{}}); b.compile(&grammar.Node{Text: deep}, false) != nil {
		t.Error("forty conditions within one another are taken")
	}
}

func TestExpressionTypes(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 2))
	pick := func(words ...string) string { return words[r.IntN(len(words))] }
	var some func(deep int) string
	some = func(deep int) string {
		if deep == 0 {
			return pick("value", "row", "7", "2.5", `"a-b"`, `col("x")`, "num(value)", `day("2026-03-02")`, "filled()",
				"true", "[1, 2]",
				`["a", "7"]`, "[1, 2.5]", "nil")
		}
		x, y, z := some(r.IntN(deep)), some(r.IntN(deep)), some(r.IntN(deep))
		switch r.IntN(5) {
		case 0:
			return "(" + x + " " + pick("+", "-", "*", "/", "%", "^", "**", "==", "!=", "<", "<=", ">", ">=", "in",
				"not in", "and", "or",
				"contains", "startsWith", "endsWith", "matches", "..", "??", "|| ") + " " + y + ")"
		case 1:
			return "(" + x + " ? " + y + " : " + z + ")"
		case 2:
			return pick("digits", "squeeze", "length", "floor", "upper", "lower", "trim", "len", "string", "num", "day",
				"not ", "-", "+", "sort",
				"sum", "uniq", "reverse", "max", "min", "either", "join", "type") + "(" + x + ")"
		case 3:
			return pick("pad", "before", "after", "shift", "rounded", "minor", "min", "max", "either", "split", "join",
				"repeat", "take",
				"indexOf") + "(" + x + ", " + y + ")"
		}
		return pick("cut", "part", "swap", "replace", "either", "max", "min") + "(" + x + ", " + y + ", " + z + ")"
	}
	through := 0
	for range 2_500 {
		text := some(3)
		_, refused, failed := evaluated(text)
		if refused == nil {
			through++
		}
		if failed != nil && (strings.Contains(failed.Error(), "interface conversion") ||
			strings.Contains(failed.Error(), "invalid op") ||
			strings.Contains(failed.Error(), "cannot") || strings.Contains(failed.Error(), "reflect")) {
			t.Errorf("%s: %v", text, failed)
		}
	}
	if through < 50 {
		t.Errorf("only %d were let through", through)
	}
}

func FuzzExpression(f *testing.F) {
	f.Add(`part(value, "/", 1) + pad("7", row % 5)`)
	f.Fuzz(func(t *testing.T, text string) {
		if _, refused, _ := evaluated(text); refused != nil && len(finding.Of(refused)) == 0 {
			t.Error(fmt.Sprint(refused))
		}
	})
}
