package shell

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"koinos/core/report"
)

// Size writes bytes as people read them.
func Size(n int64) string {
	const units = "KMGT"
	if n < 1024 {
		return report.Plural(int(n), "byte")
	}
	v, unit := float64(n)/1024, 0
	for v >= 1024 && unit < len(units)-1 {
		v, unit = v/1024, unit+1
	}
	return fmt.Sprintf("%.1f %ciB", v, units[unit])
}

// Num is a number as a cell of a table.
func Num(n int) string { return strconv.Itoa(n) }

// Local is a time as people here write it.
func Local(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// Many is a number of things, right-aligned for a list of such.
func Many(n int, word string) string {
	number, things, _ := strings.Cut(report.Plural(n, word), " ")
	return fmt.Sprintf("%7s %s", number, things)
}

// MoreRows says that a list goes on, if it does.
func (a *App) MoreRows(next string) {
	if next != "" {
		fmt.Fprintln(a.Out, "There are more; see --limit, or --output json for everything.")
	}
}

// OrBlank is a value as a change shows it; an empty one says that it is blank.
func OrBlank(s string) string {
	if s == "" {
		return "blank"
	}
	return s
}

// When is a time, or a dash if there is none.
func When(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return Local(*t)
}

// AreOrders begins a sentence about a number of orders.
func AreOrders(n int) string {
	if n == 1 {
		return "1 order is"
	}
	return fmt.Sprintf("%d orders are", n)
}

// Num64 is a number as a cell of a table, which stays empty for none.
func Num64(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

// OrDash is a dash for what is blank.
func OrDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}
