package drafting

import (
	"fmt"
	"strings"
	"unicode"

	"koinos/core/order"
	"koinos/core/source"
)

// yaml gathers what the drafted mapping says.
type yaml struct {
	format   string
	sheet    string // several are separated by NUL
	records  string
	headRow  int
	headRows int
	repeats  bool
	until    string
	carried  []string // columns that are written only where they change
	blank    int
	leaveOut string
	pass     string // condition of orders that are left out
	hidden   bool
	fixed    *source.Fixed
	first    int // row with which the orders begin; 0 is not said
	kind     string
	of       string   // of a document about orders: which orders these are
	group    string   // inside of the braces
	parts    []string // lines: {…}
	bindings []binding
}

func (y *yaml) text(d *drafter) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("koinos: mapping/1")
	line("name: %s", d.hints.Name)
	line("about: Drafted from a sample; look at what is marked with a question mark")
	line("document:")
	line("  format: %s", y.format)
	if y.sheet != "" {
		var names []string
		for _, s := range strings.Split(y.sheet, "\x00") {
			names = append(names, `"`+strings.ReplaceAll(strings.ReplaceAll(s, `\`, `\\`), `"`, `\"`)+`"`)
		}
		if len(names) == 1 {
			line("  sheet: %s", names[0])
		} else {
			line("  sheet: [%s]", strings.Join(names, ", "))
		}
	}
	if y.records != "" {
		line("  records: %s", quote(y.records))
	}
	if y.headRow > 0 {
		rows := ""
		if y.headRows > 1 {
			rows = fmt.Sprintf(", rows: %d", y.headRows)
		}
		if y.repeats {
			rows += ", repeats: true"
		}
		line("  heading: {row: %d%s}", y.headRow, rows)
	}
	if y.until != "" {
		line("  until: {text: %s}", quote(y.until))
	} else if y.blank > 0 {
		line("  until: {blank_rows: %d}", y.blank)
	}
	if len(y.carried) > 0 {
		line("  carried: %s%s", flow(y.carried), d.mark("carried"))
	}
	if y.hidden {
		line("  hidden: leave-out   # ? unsure: some rows are hidden or filtered out; or read")
	}
	var rows []string
	if y.fixed != nil {
		line("  positions:%s", d.mark("positions"))
		for _, p := range y.fixed.Columns {
			line("    %s: %d-%d", quote(p.Name), p.First, p.Last)
		}
	}
	if y.first > 1 {
		rows = append(rows, fmt.Sprintf("first: %d", y.first))
	}
	if y.leaveOut != "" {
		rows = append(rows, fmt.Sprintf("leave_out: '%s'", strings.ReplaceAll(y.leaveOut, "'", "''")))
	}
	if len(rows) > 0 {
		line("  rows: {%s}", strings.Join(rows, ", "))
	}
	if d.decimal == ',' {
		line("  locale: {decimal: \",\"}")
	}
	if y.fixed != nil {
		line("findings: {row_too_wide: error}   # a value that does not fit in its column is not loaded in part")
	}
	line("orders:")
	line("  kind: %s%s", y.kind, d.mark("kind"))
	if y.of != "" {
		line("  of: %s%s", y.of, d.mark("of"))
	}
	if y.pass != "" {
		line("  leave_out: '%s'%s", strings.ReplaceAll(y.pass, "'", "''"), d.mark("orders.leave_out"))
	}
	line("  group: {%s}%s", y.group, d.mark("grouping"))
	if len(y.parts) > 0 {
		line("  parts:")
		for _, p := range y.parts {
			line("    %s", p)
		}
	}
	for _, level := range order.Levels {
		first := true
		for i := range y.bindings {
			o := &y.bindings[i]
			if o.level != level {
				continue
			}
			if first {
				line("%s:", level)
				first = false
			}
			var words []string
			if o.from != "" {
				words = append(words, "from: "+quote(o.from))
			}
			words = append(words, o.words...)
			note := ""
			if o.sure != "sure" {
				note = unsureNote(o.sure, o.why, o.second)
			}
			line("  %s: {%s}%s", o.field, strings.Join(words, ", "), note)
		}
	}
	if len(d.out.Unbound) > 0 {
		line("# Not used: %s", oneLine(strings.Join(d.out.Unbound, ", ")))
	}
	return b.String()
}

// unsureNote is the comment behind what is not sure: how sure, why, and what else it may be.
func unsureNote(sure, why, second string) string {
	if second != "" {
		why += "; or " + second
	}
	return "   # ? " + sure + ": " + oneLine(why)
}

// oneLine keeps what a document says within a comment: whatever YAML or an
// editor takes as the end of a line (or refuses) is a blank.
func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}, s)
}

// mark is the comment on a guess that is not sure.
func (d *drafter) mark(what string) string {
	for _, g := range d.out.Guesses {
		if g.What == what && g.Sure != "sure" {
			return unsureNote(g.Sure, g.Why, g.Second)
		}
	}
	return ""
}
