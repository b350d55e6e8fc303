package orders

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/report"
)

func (a *app) why() *cobra.Command {
	var line int
	c := &cobra.Command{
		Use: "why ORDER FIELD", Short: "Explain where a value of an order came from: document, cell, and every step",
		Long: `Why answers where a value of a stored order came from: the document and the place
in it, the text that stands there, everything the mapping did to it, the load,
and what changed it later. A field of lines is named with --line; without it every line
answers. Of a value that Koinos computed it says what it was made of.`,
		Example: "  koinos why SO-000012 ordered_on\n  koinos why SO-000012 quantity --line 2",
		Args:    cobra.ExactArgs(2),
		RunE:    func(c *cobra.Command, args []string) error { return a.runWhy(c.Context(), args[0], args[1], line) },
	}
	c.Flags().IntVar(&line, "line", 0, "which line, counted from 1; by default the header")
	return c
}

func (a *app) runWhy(ctx context.Context, number, field string, line int) error {
	calls := a.Client()
	orders, err := a.Numbered(ctx, number)
	if err != nil {
		return err
	}
	for i, o := range orders {
		all, err := whys(ctx, calls, o, line, field)
		if err != nil {
			return err
		}
		for k, w := range all {
			if done, err := a.JSON(w); done {
				if err != nil {
					return err
				}
				continue
			}
			if i+k > 0 {
				fmt.Fprintln(a.Out)
			}
			a.showWhy(&w)
		}
	}
	return nil
}

// whys asks why. A field of lines is asked for each line if none is named.
func whys(ctx context.Context, calls *client.Client, o api.OrderSummary, line int, field string) ([]api.Why, error) {
	w, err := calls.Why(ctx, o.ID, line, field)
	var p *api.Problem
	if !errors.As(err, &p) || p.Code != "line_needed" {
		return []api.Why{w}, err
	}
	var all []api.Why
	for n := 1; n <= o.Lines; n++ {
		if w, err = calls.Why(ctx, o.ID, n, field); err != nil {
			return nil, err
		}
		all = append(all, w)
	}
	return all, nil
}

func (a *app) showWhy(w *api.Why) {
	what := w.Field
	if w.Line > 0 {
		what = fmt.Sprintf("%s of line %d", w.Field, w.Line)
	}
	value := strconv.Quote(w.Value)
	if w.Value == "" {
		value = "empty"
	}
	fmt.Fprintf(a.Out, "%s: %s is %s\n\n", w.Number, what, value)
	var rows [][]string
	from := &w.Origin
	if w.Terms != nil {
		rows = append(rows, []string{"computed", "by Koinos, from the following"})
		for _, t := range w.Terms {
			rows = append(rows, []string{t.What, strings.TrimSpace(t.Sign + " " + t.Text)})
		}
	} else if from.Document == "" {
		rows = append(rows, []string{"document", "none"})
	} else {
		where := w.At
		if where == "" {
			where = "nowhere in it: the mapping, or Koinos, gave the value"
		}
		rows = append(rows, []string{"document", from.DocumentName + " (" + from.Document[:12] + ")"},
			[]string{"place", where})
		if c := w.Came; c != nil {
			rows = append(rows, []string{"came from", fmt.Sprintf("%s, %s %s, on %s", c.System, c.Record,
				cmp.Or(c.Number, c.Key), shell.Local(c.At))},
				[]string{"asked", c.Request + ", at " + cmp.Or(c.Place, "the answer itself")},
				[]string{"as it came", fmt.Sprintf("koinos system arrivals --content %d", c.ID)})
		}
		for _, s := range w.Steps {
			rows = append(rows, []string{s.What, strconv.Quote(s.Text)})
		}
	}
	if w.Gone != "" {
		rows = append(rows, []string{"not kept", w.Gone})
	}
	if from.Load != 0 {
		rows = append(rows, []string{"mapping", fmt.Sprintf("%s version %d", from.Mapping, from.Version)},
			[]string{"load", fmt.Sprint(from.Load)})
	}
	if from.Interchange != 0 {
		rows = append(rows, []string{"interchange", fmt.Sprintf("%d, set %d", from.Interchange, from.Set)})
	}
	rows = append(rows, []string{"brought", fmt.Sprintf("%s by %s", shell.Local(from.At), from.By)})
	for _, e := range w.Events {
		change := ""
		if len(e.Changes) == 1 {
			change = fmt.Sprintf(": was %q, is %q", e.Changes[0].Was, e.Changes[0].Is)
		}
		rows = append(rows, []string{e.Action, fmt.Sprintf("revision %d, %s, by %s%s%s", e.Revision, shell.Local(e.Origin.At),
			e.Origin.By, broughtBy(&e.Origin), change)})
	}
	if len(w.Events) == 0 && w.Terms == nil {
		rows = append(rows, []string{"since then", "nothing has changed it"})
	}
	report.Table(a.Out, []string{"step", ""}, rows)
}
