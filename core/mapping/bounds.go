package mapping

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/order"
)

// Bounds are the limits that a binding sets for its value.
type Bounds struct {
	least, most   string // of numbers and days
	numbers       [2]order.Number
	places        int // -1 is any
	shortest      int
	longest       int // 0 is any
	pattern       *regexp.Regexp
	patternAsSaid string
}

var lengthPattern = regexp.MustCompile(`^(?:([0-9]{1,6})-)?([0-9]{1,6})$`)

// boundKeys are the words of bounds.
var boundKeys = []string{"least", "most", "places", "length", "pattern"}

func (b *builder) bounds(v *grammar.Node, typ order.Type) *Bounds {
	out := &Bounds{least: v.Str("least"), most: v.Str("most"), places: -1}
	said := false
	for _, key := range boundKeys {
		said = said || v.Get(key) != nil
	}
	if !said {
		return nil
	}
	for i, key := range []string{"least", "most"} {
		n := v.Get(key)
		if n == nil {
			continue
		}
		var err error
		if typ == order.Day {
			if _, ok := ISOForm.Parse(n.Text); !ok {
				err = fmt.Errorf("it is no day written yyyy-mm-dd")
			}
		} else {
			out.numbers[i], err = order.ParseNumber(n.Text)
		}
		if err != nil {
			b.Add(finding.MappingWrongValue, n.At, n.Text, "%s is a number, or of dates a day: %v.", key, err).Hint = ""
		}
	}
	if n := v.Get("places"); n != nil {
		out.places, _ = strconv.Atoi(n.Text)
	}
	if n := v.Get("length"); n != nil {
		part := lengthPattern.FindStringSubmatch(n.Text)
		if part == nil {
			b.Add(finding.MappingWrongValue, n.At, n.Text, "write length as 10, or 3-10.").Hint = ""
		} else {
			out.shortest, _ = strconv.Atoi(part[1])
			out.longest, _ = strconv.Atoi(part[2])
		}
	}
	if n := v.Get("pattern"); n != nil {
		var err error
		if out.pattern, err = regexp.Compile(`^(?:` + n.Text + `)$`); err != nil {
			b.Add(finding.MappingWrongValue, n.At, n.Text, "the pattern is no regular expression: %v.", err).Hint = ""
		}
		out.patternAsSaid = n.Text
	}
	return out
}

// Number says why a number is not allowed; "" if it is.
func (c *Bounds) Number(n order.Number) string {
	switch {
	case c == nil:
		return ""
	case c.least != "" && n.Cmp(c.numbers[0]) < 0:
		return "at least " + c.least + " is allowed"
	case c.most != "" && n.Cmp(c.numbers[1]) > 0:
		return "at most " + c.most + " is allowed"
	}
	if _, fraction, _ := strings.Cut(n.Plain(), "."); c.places >= 0 && len(fraction) > c.places {
		return fmt.Sprintf("at most %d digits may stand behind the point", c.places)
	}
	return ""
}

// Day says why a day is not allowed.
func (c *Bounds) Day(d order.Date) string {
	switch {
	case c == nil:
		return ""
	case c.least != "" && string(d) < c.least:
		return "no day before " + c.least + " is allowed"
	case c.most != "" && string(d) > c.most:
		return "no day after " + c.most + " is allowed"
	}
	return ""
}

// Text says why a text is not allowed.
func (c *Bounds) Text(s string) string {
	if c == nil {
		return ""
	}
	switch n := utf8.RuneCountInString(s); {
	case c.longest > 0 && n > c.longest:
		return fmt.Sprintf("it has %d letters, at most %d are allowed", n, c.longest)
	case n < c.shortest:
		return fmt.Sprintf("it has %d letters, at least %d are needed", n, c.shortest)
	case c.pattern != nil && !c.pattern.MatchString(s):
		return "it does not fit " + c.patternAsSaid
	}
	return ""
}
