package cli

import (
	"fmt"
	"io"
	"maps"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"koinos/core/listing"
	"koinos/core/report"
	"koinos/folder"
)

// exportOrders writes orders as a table, without a mapping.
func (a *app) exportOrders() *cobra.Command {
	t := &act{app: a}
	var to, format, layout, from, until string
	var columns []string
	var open bool
	c := &cobra.Command{
		Use: "export [NUMBER…] --to FILE", Short: "Write orders as a table of columns that you choose",
		Long: "Export needs no mapping. Columns are the names of fields, those of lines behind \"lines.\"; also id, kind, status,\n" +
			"revision, lines, goods, tax, total, lines.id, lines.amount, lines.moved, lines.open and lines.invoiced. Left out, they\nare:\n\n  " +
			wrapped(listing.Usual[listing.EveryLine], 100) + "\n\nIt is written as it is read, however many orders there are; the newest come first.",
		Example: "  koinos order export --partner PELLOW --open --to open-lines.xlsx\n" +
			"  koinos order export --layout order --status open --to - --columns number,sender_number,total\n" +
			"  koinos order export SO-000012 SO-000013 --to two.csv",
		RunE: func(c *cobra.Command, args []string) error {
			if to == "" {
				return usage{fmt.Errorf("say where with --to FILE, or --to - for here")}
			}
			if format == "" {
				if format = strings.ToLower(strings.TrimPrefix(filepath.Ext(to), ".")); to == "-" {
					format = "csv"
				}
			}
			if report.Tables[format].Begin == nil {
				return usage{fmt.Errorf("%q is no form of a table: name the file .csv, .tsv, .xlsx, .json or .ndjson, or say --format", format)}
			}
			if _, err := listing.New(listing.Choice{Columns: columns, Layout: listing.Layout(layout), Open: open}); err != nil {
				return usage{err}
			}
			q := url.Values{"format": {format}, "layout": {layout}, "open": {strconv.FormatBool(open)}}
			if len(columns) > 0 {
				q.Set("column", strings.Join(columns, ","))
			}
			for name, v := range map[string]string{"from": from, "to": until} {
				if v != "" {
					q.Set(name, v)
				}
			}
			for name, v := range t.of {
				if *v != "" {
					q.Set(name, *v)
				}
			}
			if len(args) > 0 {
				for name, v := range t.of {
					if *v != "" {
						return usage{fmt.Errorf("name orders, or say which with --%s, not both", name)}
					}
				}
				orders, err := t.orders(c.Context(), args)
				if err != nil {
					return err
				}
				var ids []string
				for _, o := range orders {
					ids = append(ids, strconv.FormatInt(o.ID, 10))
				}
				q.Set("order", strings.Join(ids, ","))
			}
			write := func(w io.Writer) error { return a.client().ExportOrders(c.Context(), q, w) }
			if to == "-" {
				return write(a.out)
			}
			if err := folder.Usual.Write(to, write); err != nil {
				return err
			}
			if done, err := a.json(written{File: to}); done {
				return err
			}
			fmt.Fprintf(a.err, "%s is written.\n", to)
			return nil
		},
	}
	t.filters(c)
	f := c.Flags()
	f.StringVar(&to, "to", "", "file to write, - for here")
	f.StringVar(&format, "format", "", "csv, tsv, xlsx, json or ndjson; left out, what the file's name says")
	f.StringSliceVar(&columns, "columns", nil, "names of fields, with commas between")
	f.StringVar(&layout, "layout", string(listing.EveryLine), "every: a line a row, with the facts of its order; first: these on the first line only; order: an order a row")
	f.BoolVar(&open, "open", false, "only lines of which something is to move still")
	f.StringVar(&from, "ordered-from", "", "ordered on this day or later, yyyy-mm-dd")
	f.StringVar(&until, "ordered-to", "", "ordered on this day or earlier, yyyy-mm-dd")
	offers(c, "layout", listing.Layouts...)
	offers(c, "format", slices.Sorted(maps.Keys(report.Tables))...)
	return c
}

// wrapped is names in lines of at most so many columns.
func wrapped(names []string, width int) string {
	var b strings.Builder
	at := 0
	for i, n := range names {
		if i > 0 {
			b.WriteString(", ")
			at += 2
		}
		if at+len(n) > width {
			b.WriteString("\n  ")
			at = 0
		}
		b.WriteString(n)
		at += len(n)
	}
	return b.String()
}
