package order

import "strings"

// Values that Koinos works out for an order, besides the fields that documents give.
var results = map[string]func(*Order) string{
	"status": func(o *Order) string { return string(o.Status) },
	"goods":  func(o *Order) string { return o.Goods.String() },
	"tax":    func(o *Order) string { return o.Tax.String() },
	"total":  func(o *Order) string { return o.Total.String() },
	"number": func(o *Order) string { return o.Number },
}

// IsResult reports whether ResultValue knows the name.
func IsResult(name string) bool {
	if _, ok := results[name]; ok {
		return true
	}
	level := Header
	if rest, ok := strings.CutPrefix(name, "lines."); ok {
		level, name = Lines, rest
	}
	_, ok := Lookup(level, name)
	return ok
}

// ResultValue returns a value of a stored order by name: status, total, ordered_on, ship_to.code, or lines.amount of a
// line, counted from 1. Amounts and totals are Koinos's own. "" is none.
func (o *Order) ResultValue(name string, line int) string {
	field, ofLine := strings.CutPrefix(name, "lines.")
	if !ofLine {
		if f := results[name]; f != nil {
			return f(o)
		}
		line = 0
	} else {
		if line < 1 || line > len(o.Lines) {
			return ""
		}
		if field == "amount" {
			return o.Lines[line-1].Amount.String()
		}
	}
	value := ""
	o.Each(func(n int, f, v string) {
		if n == line && f == field {
			value = v
		}
	})
	return value
}
