package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/client"
	"koinos/core/order"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/core/writing"
	"koinos/folder"
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
	calls := a.client()
	orders, err := a.numbered(ctx, number)
	if err != nil {
		return err
	}
	for i, o := range orders {
		all, err := whys(ctx, calls, o, line, field)
		if err != nil {
			return err
		}
		for k, w := range all {
			if done, err := a.json(w); done {
				if err != nil {
					return err
				}
				continue
			}
			if i+k > 0 {
				fmt.Fprintln(a.out)
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
	fmt.Fprintf(a.out, "%s: %s is %s\n\n", w.Number, what, value)
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
				cmp.Or(c.Number, c.Key), local(c.At))},
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
	rows = append(rows, []string{"brought", fmt.Sprintf("%s by %s", local(from.At), from.By)})
	for _, e := range w.Events {
		change := ""
		if len(e.Changes) == 1 {
			change = fmt.Sprintf(": was %q, is %q", e.Changes[0].Was, e.Changes[0].Is)
		}
		rows = append(rows, []string{e.Action, fmt.Sprintf("revision %d, %s, by %s%s%s", e.Revision, local(e.Origin.At),
			e.Origin.By, broughtBy(&e.Origin), change)})
	}
	if len(w.Events) == 0 && w.Terms == nil {
		rows = append(rows, []string{"since then", "nothing has changed it"})
	}
	report.Table(a.out, []string{"step", ""}, rows)
}

func (a *app) blankSheet() *cobra.Command {
	var lists, to string
	c := &cobra.Command{
		Use: "blank MAPPING --to FILE", Short: "Write a workbook to fill in: headings, required columns, choices",
		Example: "  koinos mapping blank ostrand-weekly.yaml --lists demo/lists --to blank.xlsx",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if to == "" {
				return usage{fmt.Errorf("say where with --to FILE.xlsx")}
			}
			m, err := a.mappingOf(c.Context(), args[0])
			if err != nil {
				return err
			}
			set, err := a.setFor(c.Context(), lists, m)
			if err != nil {
				return err
			}
			if err := folder.Usual.Write(to, func(w io.Writer) error { return writing.Blank(w, m, set) }); err != nil {
				return err
			}
			if done, err := a.json(written{File: to}); done {
				return err
			}
			fmt.Fprintf(a.err, "%s is ready to be filled in; columns with a dark edge are required.\n", to)
			return nil
		},
	}
	c.Flags().StringVar(&lists, "lists", "", "folder of lists and crosswalks; by default those of the service")
	c.Flags().StringVar(&to, "to", "", "workbook to write")
	return c
}

func (a *app) writeOrders() *cobra.Command {
	var mappingName, to string
	var loadID int64
	c := &cobra.Command{
		Use:   "write [NUMBER…] --mapping MAPPING --to FILE",
		Short: "Write orders as a document that a mapping reads",
		Example: "  koinos order write SO-000012 SO-000013 --mapping ostrand-weekly --to out.xlsx\n  koinos order " +
			"write --load 4 --mapping saltry-orders --to march.csv",
		RunE: func(c *cobra.Command, args []string) error {
			if mappingName == "" || to == "" || (loadID == 0) == (len(args) == 0) {
				return usage{fmt.Errorf("say which orders (numbers, or --load), --mapping and --to")}
			}
			calls := a.client()
			q := url.Values{}
			if loadID > 0 {
				q.Set("load", strconv.FormatInt(loadID, 10))
			}
			var ids []string
			for _, number := range args {
				orders, err := a.numbered(c.Context(), number)
				if err != nil {
					return err
				}
				for _, o := range orders {
					ids = append(ids, strconv.FormatInt(o.ID, 10))
				}
			}
			if ids != nil {
				q.Set("order", strings.Join(ids, ","))
			}
			name, version, _ := strings.Cut(mappingName, "@")
			if version != "" {
				q.Set("version", version)
			}
			format := strings.ToLower(strings.TrimPrefix(filepath.Ext(to), "."))
			if !slices.Contains([]string{"csv", "xlsx", "json", "ndjson"}, format) {
				format = "" // any other name has what the mapping writes
			} else {
				q.Set("format", format)
			}
			problems := 0
			err := folder.Usual.Write(to, func(w io.Writer) (err error) {
				if looksLikeFile(mappingName) {
					problems, err = a.writeLocally(c.Context(), w, mappingName, source.Format(format), loadID, ids)
				} else {
					problems, err = calls.MappingFile(c.Context(), name, "document", q, w)
				}
				return err
			})
			if err != nil {
				return err
			}
			if done, err := a.json(written{to, problems}); done {
				return err
			}
			if problems > 0 {
				fmt.Fprintf(a.err, "%d values have no place in this document: the mapping computes them, or the "+
					"partner's tables do not know them.\n", problems)
			}
			return nil
		},
	}
	c.Flags().StringVarP(&mappingName, "mapping", "m", "", "mapping: a file, or NAME or NAME@VERSION of the service")
	a.offersNames(c, "mapping", a.mappingNames)
	c.Flags().Int64Var(&loadID, "load", 0, "all orders that this load stored")
	c.Flags().StringVar(&to, "to", "", "file to write; its end says whether a table is a .csv or an .xlsx")
	return c
}

// mostWritten is how many orders one document is written from, as in the service, because they are in memory.
const mostWritten = 10_000

// writeLocally writes orders of the service through a mapping's file.
func (a *app) writeLocally(ctx context.Context, w io.Writer, file string, format source.Format, loadID int64,
	ids []string) (problems int, err error) {
	m, err := a.mappingOf(ctx, file)
	if err == nil {
		m, err = writing.In(m, format)
	}
	if err != nil {
		return 0, err
	}
	set, err := a.setFor(ctx, "", m)
	if err != nil {
		return 0, err
	}
	calls := a.client()
	if loadID > 0 {
		page, err := pages(mostWritten, url.Values{"load": {strconv.FormatInt(loadID, 10)}},
			func(q url.Values) (api.Page[api.OrderSummary], error) { return calls.Orders(ctx, q) })
		if err == nil && page.Next != "" {
			err = fmt.Errorf("load %d stored more than %d orders, which is the most that a document is written of",
				loadID, mostWritten)
		}
		if err != nil {
			return 0, err
		}
		for _, o := range slices.Backward(page.Items) { // oldest first, as they stood in their document
			ids = append(ids, strconv.FormatInt(o.ID, 10))
		}
	}
	var orders []order.Order
	for _, id := range ids {
		n, err := strconv.ParseInt(id, 10, 64)
		if err != nil {
			return 0, err
		}
		o, err := calls.Order(ctx, n)
		if err != nil {
			return 0, err
		}
		orders = append(orders, o.Order)
	}
	found, err := writing.Write(w, m, orders, set)
	return len(found), err
}

var badName = regexp.MustCompile(`[^a-z0-9_-]`)

func (a *app) loadMissing() *cobra.Command {
	var to string
	c := &cobra.Command{
		Use: "missing LOAD", Short: "List unknown codes of a load as tables to fill in",
		Long: `Missing lists the values that a load's lists and crosswalks did not know. With
--to DIR it writes a table for each. Fill in the column "ours" with your code for
a value, or in the table of a list the column "name" to add the code to the list.
Then "koinos findings fix LOAD --tables DIR" adds what you filled in and loads the
failed orders again.`,
		Example: "  koinos load missing 4\n  koinos load missing 4 --to missing/", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := loadID(args[0])
			if err != nil {
				return err
			}
			all, err := a.client().Missing(c.Context(), id)
			if err != nil {
				return err
			}
			if done, err := a.json(all); done {
				return err
			}
			if len(all) == 0 {
				fmt.Fprintln(a.out, "Lists and crosswalks knew everything.")
				return nil
			}
			if to == "" {
				a.showMisses(all)
				return nil
			}
			if err := os.MkdirAll(to, 0o755); err != nil {
				return err
			}
			tables := map[string][][]string{}
			for _, m := range all {
				file, head := m.List+"-list.csv", []string{"code", "ours", "name", "nearest", "times"}
				if m.Crosswalk {
					file, head = m.List+"-crosswalk.csv", []string{"theirs", "ours", "nearest", "times"}
				}
				file = badName.ReplaceAllString(strings.TrimSuffix(file, ".csv"), "_") + ".csv"
				if tables[file] == nil {
					tables[file] = [][]string{head}
				}
				row := make([]string, len(head))
				row[0], row[len(row)-2], row[len(row)-1] = source.Guard(m.Value), source.Guard(m.Nearest), num(m.Count)
				tables[file] = append(tables[file], row)
			}
			for _, file := range slices.Sorted(maps.Keys(tables)) {
				rows := tables[file]
				if err := folder.Usual.Write(to+string(os.PathSeparator)+file,
					func(w io.Writer) error { return csv.NewWriter(w).WriteAll(rows) }); err != nil {
					return err
				}
				fmt.Fprintf(a.out, "%s%c%s: %s to fill in\n", strings.TrimRight(to, "/"), os.PathSeparator, file,
					report.Plural(len(rows)-1, "value"))
			}
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "folder for the tables to fill in")
	return c
}
