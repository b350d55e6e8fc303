package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"koinos/core/report"
)

// size writes bytes as people read them.
func size(n int64) string {
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

func num(n int) string { return strconv.Itoa(n) }

func local(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// many is a number of things, right-aligned for a list of such.
func many(n int, word string) string {
	number, things, _ := strings.Cut(report.Plural(n, word), " ")
	return fmt.Sprintf("%7s %s", number, things)
}

func (a *app) moreRows(next string) {
	if next != "" {
		fmt.Fprintln(a.out, "There are more; see --limit, or --output json for everything.")
	}
}

func orBlank(s string) string {
	if s == "" {
		return "blank"
	}
	return s
}

func when(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return local(*t)
}

func areOrders(n int) string {
	if n == 1 {
		return "1 order is"
	}
	return fmt.Sprintf("%d orders are", n)
}

func num64(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

// orDash is a dash for what is blank.
func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}
