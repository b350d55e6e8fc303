package documents

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/folder"
)

// loadOptions reads the options of a load from flags.
type loadOptions struct {
	outcome.Options
	again, stage string
	defaults     []string
	accept       []string
}

func (o *loadOptions) flags(c *cobra.Command) {
	f := c.Flags()
	f.BoolVarP(&o.DryRun, "dry-run", "n", false, "say what would happen, store nothing")
	f.BoolVar(&o.AllOrNone, "all-or-none", false, "store nothing where one order fails")
	f.StringVar(&o.again, "again", "",
		"what a second arrival of a stored order means: refuse, skip, update or revise; by default what the mapping says")
	f.StringSliceVar(&o.OnlyRows, "only-rows", nil, "only these rows: 12, 20-35, 40-")
	f.StringSliceVar(&o.OnlyOrders, "only-orders", nil, "only the orders of these sender's numbers")
	f.StringSliceVar(&o.OnlySheets, "only-sheets", nil, "only these sheets, by name or number, * for any letters")
	f.StringVar(&o.stage, "stage", "", "status that new orders begin with: draft, open or confirmed")
	f.BoolVar(&o.Withdraw, "withdraw", false,
		"the document's orders are not wanted any more: cancel what is open of the stored ones")
	f.BoolVar(&o.Opening, "opening", false, "opening orders: they keep the sender's numbers and are not passed on")
	f.StringArrayVar(&o.defaults, "default", nil,
		"value for a field that the document leaves blank: currency=EUR, lines.unit=PCE")
	f.IntVar(&o.StopAfter, "stop-after", 0, "stop when so many orders have failed")
	f.StringVar(&o.Note, "note", "", "a note for people, kept with the load")
	f.StringSliceVar(&o.accept, "accept", nil, "codes of warnings that shall not hold orders this time")
}

// options checks the flags and returns what they ask for.
func (o *loadOptions) options() (outcome.Options, error) {
	out := o.Options
	switch out.Again = outcome.Again(o.again); out.Again {
	case "", outcome.Refuse, outcome.Skip, outcome.Update, outcome.Revise:
	default:
		return out, shell.Usage(fmt.Errorf("--again is refuse, skip, update or revise, not %q", o.again))
	}
	switch out.Stage = order.Status(o.stage); out.Stage {
	case "", order.Draft, order.Open, order.Confirmed:
	default:
		return out, shell.Usage(fmt.Errorf("--stage is draft, open or confirmed, not %q", o.stage))
	}
	for _, d := range o.defaults {
		name, value, ok := strings.Cut(d, "=")
		if !ok || name == "" {
			return out, shell.Usage(fmt.Errorf("--default is FIELD=VALUE, not %q", d))
		}
		if out.Defaults == nil {
			out.Defaults = map[string]string{}
		}
		out.Defaults[name] = value
	}
	for _, code := range o.accept {
		out.Accept = append(out.Accept, finding.Code(code))
	}
	return out, nil
}

// onLoad makes a command that does something to one load.
func (a *app) onLoad(use, short, long, example string, do func(ctx context.Context, calls *client.Client,
	id int64) error) *cobra.Command {
	return &cobra.Command{
		Use: use + " LOAD", Short: short, Long: long, Example: example, Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := shell.LoadID(args[0])
			if err != nil {
				return err
			}
			return do(c.Context(), a.Client(), id)
		},
	}
}

func (a *app) loadPause() *cobra.Command {
	return a.onLoad("pause", "Pause a running load; it goes on from there when it is resumed", "",
		"  koinos load pause 7",
		func(ctx context.Context, calls *client.Client, id int64) error {
			if _, err := calls.ActOnLoad(ctx, id, "pause"); err != nil {
				return err
			}
			return shell.IgnoreRefused(a.ShowLoad(ctx, calls, id))
		})
}

func (a *app) loadResume() *cobra.Command {
	return a.onLoad("resume", "Go on with a paused load", "", "  koinos load resume 7",
		func(ctx context.Context, calls *client.Client, id int64) error {
			l, err := calls.ActOnLoad(ctx, id, "resume")
			if err != nil {
				return err
			}
			return a.follow(ctx, calls, l)
		})
}

func (a *app) loadRetry() *cobra.Command {
	return a.onLoad("retry", "Load the orders that failed once more, with the mapping and lists of now",
		"Retry is for when the lists, the crosswalks or the mapping were fixed. Where the\ndocument itself was "+
			"corrected, load it again: orders that are stored are recognised.", "  koinos load retry 7",
		func(ctx context.Context, calls *client.Client, id int64) error {
			l, err := calls.ActOnLoad(ctx, id, "retry")
			if err != nil {
				return err
			}
			return a.follow(ctx, calls, l)
		})
}

func (a *app) loadAccept() *cobra.Command {
	return &cobra.Command{
		Use: "accept LOAD CODE...", Short: "Accept warnings that hold orders of a load, by their codes",
		Long: "Accept is for mappings that hold orders for a warning (orders.hold). The held orders\nare loaded " +
			"once more; the new load keeps who accepted what.",
		Example: "  koinos load accept 7 dates_decided", Args: cobra.MinimumNArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := shell.LoadID(args[0])
			if err != nil {
				return err
			}
			var codes []finding.Code
			for _, code := range args[1:] {
				if about, ok := finding.Catalogue[finding.Code(code)]; !ok || about.Severity != finding.Warning {
					return shell.Usage(fmt.Errorf("%q is not the code of a warning", code))
				}
				codes = append(codes, finding.Code(code))
			}
			calls := a.Client()
			l, err := calls.AcceptWarnings(c.Context(), id, codes)
			if err != nil {
				return err
			}
			return a.follow(c.Context(), calls, l)
		},
	}
}

func (a *app) loadUndo() *cobra.Command {
	var dry bool
	c := a.onLoad("undo", "Take back what a load did, where nothing has happened to its orders since",
		"Undo removes the orders that a load stored and gives those that it changed their\ncontent from before. "+
			"Orders to which something has happened since stay; they are\nnamed with the reason.",
		"  koinos load undo 7 --dry-run\n  koinos load undo 7",
		func(ctx context.Context, calls *client.Client, id int64) error {
			u, err := calls.UndoLoad(ctx, id, dry)
			if err != nil {
				return err
			}
			if done, err := a.JSON(u); done {
				return err
			}
			would := ""
			if dry {
				would = "would be "
			}
			fmt.Fprintf(a.Out, "%s %sremoved: the load had stored them\n%s %sas before: the load had changed them\n"+
				"%s %s\n", shell.Many(u.Removed, "order"), would, shell.Many(u.Changed, "order"), would, shell.Many(u.Kept, "order"),
				map[bool]string{true: "stays", false: "stay"}[u.Kept == 1])
			if len(u.Why) > 0 {
				rows := [][]string{}
				for _, k := range u.Why {
					rows = append(rows, []string{shell.Num(k.Seq), k.Number, k.Why})
				}
				fmt.Fprintln(a.Out)
				report.Table(a.Out, []string{">order", "number", "why it stays"}, rows)
			}
			if dry {
				fmt.Fprintf(a.Out, "\nNothing was done. To do it: koinos load undo %d\n", id)
			}
			if u.Kept > 0 && !dry {
				return shell.Exit(shell.ExitRefused, "")
			}
			return nil
		})
	c.Flags().BoolVarP(&dry, "dry-run", "n", false, "only say what would happen")
	return c
}

func (a *app) report() *cobra.Command {
	c := &cobra.Command{Use: "report", Short: "Update marked copies"}
	var to string
	refresh := &cobra.Command{
		Use: "refresh FILE", Short: "Update a marked workbook or CSV with the present state of its orders",
		Long: `Refresh reads the order numbers that a marked copy has in its column "Koinos
order" and writes today's status, and today's values of the fields that the
mapping's results name, beside them. Everything else in the file stays as it is,
also what people have written into it.`,
		Example: "  koinos report refresh week-12-marked.xlsx\n  koinos report refresh marked.csv --to today.csv",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return shell.Exit(shell.ExitBad, fmt.Sprintf("%s cannot be read: %v", args[0], errors.Unwrap(err)))
			}
			defer f.Close()
			if to == "" {
				to = args[0]
			}
			var count report.Refreshed
			err = folder.Usual.Write(to, func(w io.Writer) error {
				count, err = a.Client().RefreshReport(c.Context(), filepath.Base(args[0]), f, w)
				return err
			})
			if err != nil {
				return err
			}
			if done, err := a.JSON(count); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s: %s with an order, %s brought up to date", to, report.Plural(count.Rows, "row"),
				report.Plural(count.Cells, "cell"))
			if count.Absent > 0 {
				fmt.Fprintf(a.Out, ", %s whose order is not there any more", report.Plural(count.Absent, "row"))
			}
			fmt.Fprintln(a.Out, ".")
			return nil
		},
	}
	refresh.Flags().StringVar(&to, "to", "", "file to write; by default the file itself")
	c.AddCommand(refresh)
	return c
}

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
			id, err := shell.LoadID(args[0])
			if err != nil {
				return err
			}
			all, err := a.Client().Missing(c.Context(), id)
			if err != nil {
				return err
			}
			if done, err := a.JSON(all); done {
				return err
			}
			if len(all) == 0 {
				fmt.Fprintln(a.Out, "Lists and crosswalks knew everything.")
				return nil
			}
			if to == "" {
				a.ShowMisses(all)
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
				row[0], row[len(row)-2], row[len(row)-1] = source.Guard(m.Value), source.Guard(m.Nearest), shell.Num(m.Count)
				tables[file] = append(tables[file], row)
			}
			for _, file := range slices.Sorted(maps.Keys(tables)) {
				rows := tables[file]
				if err := folder.Usual.Write(to+string(os.PathSeparator)+file,
					func(w io.Writer) error { return csv.NewWriter(w).WriteAll(rows) }); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "%s%c%s: %s to fill in\n", strings.TrimRight(to, "/"), os.PathSeparator, file,
					report.Plural(len(rows)-1, "value"))
			}
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "folder for the tables to fill in")
	return c
}

var badName = regexp.MustCompile(`[^a-z0-9_-]`)
