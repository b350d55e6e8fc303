package orders

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/outcome"
	"koinos/core/report"
)

func (a *app) today() *cobra.Command {
	return &cobra.Command{
		Use: "today", Short: "Show what is running, what needs attention, and the last days",
		Example: "  koinos today", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			t, err := a.Client().Today(c.Context())
			if err != nil {
				return err
			}
			if done, err := a.JSON(t); done {
				return err
			}
			a.showToday(t)
			return nil
		},
	}
}

func (a *app) showToday(t api.Today) {
	loads := func(title string, list []outcome.Load, what func(*outcome.Load) string) {
		if len(list) == 0 {
			return
		}
		fmt.Fprintf(a.Out, "%s\n", title)
		var rows [][]string
		for i := range list {
			l := &list[i]
			rows = append(rows, []string{fmt.Sprint(l.ID), shell.Local(l.StartedAt), l.DocumentName, l.Mapping, what(l)})
		}
		report.Table(a.Out, []string{">load", "started", "document", "mapping", "what"}, rows)
		fmt.Fprintln(a.Out)
	}
	loads("Running", t.Running, func(l *outcome.Load) string {
		if l.Reason != "" {
			return fmt.Sprintf("%s at %.0f %%: %s", l.Status, 100*l.Share, l.Reason)
		}
		return fmt.Sprintf("%s, %.0f %%", l.Status, 100*l.Share)
	})
	a.showSubjects(t)
	if len(t.Interchanges) > 0 {
		fmt.Fprintln(a.Out, "Interchanges that need attention (koinos exchange show ID says why)")
		a.Interchanges(t.Interchanges)
		fmt.Fprintln(a.Out)
	}
	loads("Loads that need attention (koinos load show ID says why)", t.Failing, func(l *outcome.Load) string {
		var parts []string
		for _, p := range []struct {
			n    int
			word string
		}{{l.Refused, "refused"}, {l.Held, "held"}, {l.Withheld, "withheld"}} {
			if p.n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", p.n, p.word))
			}
		}
		if len(parts) == 0 {
			return string(l.Status)
		}
		return strings.Join(parts, ", ") + " of " + report.Plural(l.Orders, "order")
	})
	var rows [][]string
	for _, d := range t.Days {
		if d.Loads > 0 {
			rows = append(rows, []string{d.Day, shell.Num(d.Loads), shell.Num(d.Loaded), shell.Num(d.Changed), shell.Num(d.Failed),
				report.Minutes(d.Saved)})
		}
	}
	if len(rows) > 0 {
		report.Table(a.Out, []string{"day", ">loads", ">loaded", ">changed", ">failed", ">by hand"}, rows)
		fmt.Fprintln(a.Out)
	}
	fmt.Fprintf(a.Out, "%s stored. By hand all loads would have taken %s.\n", report.Plural(t.Orders, "order"),
		report.Minutes(t.Saved))
}

// subjects are what partners say of orders that a person has to look at, by the code for which they are held.
var subjects = []struct{ code, says string }{
	{"change_asked", "a partner asks for a change"},
	{"change_out_of_turn", "a change comes after a later one"},
	{"answer_differs", "the supplier's answer is not what was ordered"},
	{"invoice_differs", "the supplier's invoice is not what was ordered and came"},
	{"price_differs", "the supplier's invoice has other prices than the order"},
	{"over_invoiced", "the supplier's invoice is for more than came"},
}

// showSubjects shows what needs attention of orders, each with the command that lists it.
func (a *app) showSubjects(t api.Today) {
	var rows [][]string
	add := func(n int, says, command string) {
		if n > 0 {
			rows = append(rows, []string{report.Plural(n, "order"), says, command})
		}
	}
	add(t.Overdue, "the day of delivery is past, and nothing has moved", "koinos order list --overdue")
	for _, s := range subjects {
		add(t.Held[s.code], s.says, "koinos held list --code "+s.code)
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.Out, "Orders that need attention")
		report.Table(a.Out, []string{"how many", "why", "which"}, rows)
		fmt.Fprintln(a.Out)
	}
}
