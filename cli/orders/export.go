package orders

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/intent"
	"koinos/core/listing"
	"koinos/core/report"
	"koinos/folder"
)

// exporting is an export of orders as it was requested.
type exporting struct {
	*act
	to, format, layout string
	columns            []string
	open, sums         bool
	said               func(flag string) bool // on the command line
	// what the table is filled in for, and where the mapping goes that takes it in
	fill, mapping string
	numbers       string // file of numbers
	save, saved   string
	fresh         bool
}

// exportOrders writes orders as a table, without a mapping.
func (a *app) exportOrders() *cobra.Command {
	x := &exporting{act: &act{app: a}}
	c := &cobra.Command{
		Use: "export [NUMBER…] --to FILE", Short: "Write orders as a table of columns that you choose",
		Long: "Export needs no mapping. Columns are the names of fields, those of lines behind \"lines.\"; also id, kind, status,\n" +
			"revision, lines, goods, tax, total, lines.id, lines.amount, lines.moved, lines.open, lines.returned and lines.invoiced.\n" +
			"Where a row is an order (--layout order), lines.1.item is the item of its first line; the column " +
			"\"further lines\" says how\n" +
			"many lines have no columns.\n" +
			"By default they are:\n\n  " + wrapped(listing.Usual[listing.EveryLine], 100) + "\n\n" +
			"It is written as it is read, however many orders there are; the newest come first.\n\n" +
			"With --for the table can be filled in and loaded: \"--for shipment\" adds a column for what is " +
			"shipped now, \"--for change\"\n" +
			"is loaded again after cells were changed. --with-mapping writes the mapping that takes it in.\n\n" +
			"--save NAME keeps the choice of orders, columns and layout; --saved NAME uses it, and with --new " +
			"writes only the orders that\n" +
			"are new or have changed since the last time.",
		Example: "  koinos order export --partner PELLOW --open --to open-lines.xlsx\n" +
			"  koinos order export --layout order --status open --to - --columns number,sender_number,total\n" +
			"  koinos order export --layout apart --partner PELLOW --sums --to pellow.xlsx\n" +
			"  koinos order export --numbers-from numbers.txt --to chosen.csv\n" +
			"  koinos order export --partner PELLOW --open --for shipment --to today.xlsx --with-mapping today.yaml\n" +
			"  koinos order export --partner PELLOW --save pellow --to pellow.csv\n" +
			"  koinos order export --saved pellow --new --to pellow-new.csv",
		RunE: func(c *cobra.Command, args []string) error {
			x.said = c.Flags().Changed
			return x.run(c.Context(), args)
		},
	}
	x.of.flags(c)
	f := c.Flags()
	f.StringVar(&x.to, "to", "", "file to write, - for here")
	f.StringVar(&x.format, "format", "", "csv, tsv, xlsx, ods, json or ndjson; by default what the file's name says")
	f.StringSliceVar(&x.columns, "columns", nil, "names of fields, with commas between")
	f.StringVar(&x.layout, "layout", string(listing.EveryLine),
		"every: a line a row, with the facts of its order; first: these on the first line only;\n"+
			"order: an order a row; apart: two sheets of a workbook, or JSON with a list of lines in each order")
	f.BoolVar(&x.sums, "sums", false, "counts and sums under the table")
	f.BoolVar(&x.open, "open", false, "only lines of which something is to move still")
	f.StringVar(&x.fill, "for", "", "what the table is filled in for: change, shipment, receipt, return or invoice")
	f.StringVar(&x.mapping, "with-mapping", "",
		"file to write the mapping into that takes the table in; its name is the mapping's")
	f.StringVar(&x.numbers, "numbers-from", "", "file with numbers of orders, one a line; - for the input")
	f.StringVar(&x.save, "save", "", "keep what was chosen under this name")
	f.StringVar(&x.saved, "saved", "", "what was chosen and kept under this name")
	f.BoolVar(&x.fresh, "new", false, "with --save or --saved: only orders that are new or have changed since the last time")
	shell.Offers(c, "layout", listing.Layouts...)
	shell.Offers(c, "for", listing.Kinds...)
	shell.Offers(c, "format", slices.Sorted(maps.Keys(report.Tables))...)
	return c
}

func (x *exporting) run(ctx context.Context, args []string) error {
	q, err := x.query(ctx, args)
	if err != nil {
		return err
	}
	calls := x.app.Client()
	name := x.saved
	if x.save != "" {
		kept := maps.Clone(q)
		for _, once := range []string{"order", "since"} {
			kept.Del(once)
		}
		if _, err := calls.KeepExport(ctx, x.save, api.KeepExport{Choice: kept.Encode()}); err != nil {
			return err
		}
		name = x.save
	}
	if x.fresh {
		if name == "" {
			return shell.Usage(errors.New("--new goes with --save or --saved: the name says since when"))
		}
		e, err := calls.Export(ctx, name)
		if err != nil {
			return err
		}
		q.Set("since", strconv.FormatInt(e.Position, 10))
	} else if name != "" {
		q.Set("since", "0") // everything, with the position for the next time
		if q.Has("order") || q.Has("load") || q.Has("changed_since") {
			q.Del("since")
		}
	}
	if x.mapping != "" {
		if err := x.writeMapping(ctx, q); err != nil {
			return err
		}
	}
	var position int64
	write := func(w io.Writer) (err error) {
		position, err = calls.ExportOrders(ctx, q, w)
		return err
	}
	if x.to == "-" {
		err = write(x.app.Out)
	} else {
		err = folder.Usual.Write(x.to, func(w io.Writer) error {
			out := &growing{w: w}
			defer out.watch(x.app.Bar("Writing " + filepath.Base(x.to)))()
			return write(out)
		})
	}
	if err == nil && position > 0 { // it is written whole: the next time begins behind it
		e, getErr := calls.Export(ctx, name)
		if getErr != nil {
			return getErr
		}
		_, err = calls.KeepExport(ctx, name, api.KeepExport{Choice: e.Choice, Position: position})
	}
	if err != nil || x.to == "-" {
		return err
	}
	if done, err := x.app.JSON(shell.Written{File: x.to}); done {
		return err
	}
	fmt.Fprintf(x.app.Err, "%s is written.\n", x.to)
	if x.mapping != "" {
		fmt.Fprintf(x.app.Err, "%s takes it in: koinos load %s --mapping %s\n", x.mapping, x.to, x.mapping)
	}
	return nil
}

// growing counts what has been written.
type growing struct {
	w io.Writer
	n atomic.Int64
}

func (g *growing) Write(p []byte) (int, error) {
	n, err := g.w.Write(p)
	g.n.Add(int64(n))
	return n, err
}

// watch shows how much that is until it is stopped. A workbook comes all at once, after a while.
func (g *growing) watch(shown *shell.Bar) (stop func()) {
	end, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for tick := time.NewTicker(200 * time.Millisecond); ; {
			select {
			case <-tick.C:
				shown.Show(-1, shell.Size(g.n.Load()))
			case <-end:
				tick.Stop()
				shown.Done()
				return
			}
		}
	}()
	return func() { close(end); <-ended }
}

// query is the call's query: what is stored under a name, combined with the flags.
func (x *exporting) query(ctx context.Context, args []string) (url.Values, error) {
	if x.to == "" {
		return nil, shell.Usage(errors.New("say where with --to FILE, or --to - for here"))
	}
	here := url.Values{"layout": {x.layout}, "open": {strconv.FormatBool(x.open)}, "sums": {strconv.FormatBool(x.sums)}}
	q := here
	if x.saved != "" {
		e, err := x.app.Client().Export(ctx, x.saved)
		if err != nil {
			return nil, err
		}
		if q, err = url.ParseQuery(e.Choice); err != nil {
			return nil, err
		}
		for flag, value := range here { // what is said here counts more than what was kept
			if x.said(flag) {
				q[flag] = value
			}
		}
	}
	form := x.format
	if form == "" {
		if form = strings.ToLower(strings.TrimPrefix(filepath.Ext(x.to), ".")); x.to == "-" {
			form = "csv"
		}
	}
	if report.Tables[form].Begin == nil {
		return nil, shell.Usage(fmt.Errorf("%q is no form of a table: name the file .csv, .tsv, .xlsx, .ods, .json or "+
			".ndjson, or say --format", form))
	}
	q.Set("format", form)
	for name, v := range map[string]string{"for": x.fill, "column": strings.Join(x.columns, ",")} {
		if v != "" {
			q.Set(name, v)
		}
	}
	of, err := x.of.query()
	if err != nil {
		return nil, err
	}
	maps.Copy(q, of)
	if x.saved == "" {
		if _, err := listing.New(listing.Choice{Columns: x.columns, Layout: listing.Layout(x.layout), Open: x.open,
			For:  intent.Kind(x.fill),
			Sums: x.sums}); err != nil {
			return nil, shell.Usage(err)
		}
	}
	if x.mapping != "" && !q.Has("for") {
		return nil, shell.Usage(errors.New("--with-mapping goes with --for, which says what the table is filled in for"))
	}
	names, err := x.named(args)
	if err != nil || len(names) == 0 {
		return q, err
	}
	if len(of) > 0 {
		return nil, shell.Usage(errors.New("name orders, or say of which, not both"))
	}
	orders, err := x.orders(ctx, names)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, o := range orders {
		ids = append(ids, strconv.FormatInt(o.ID, 10))
		if o.Kind != orders[0].Kind && x.fill != "" {
			return nil, shell.Usage(errors.New("some of these are sales orders and some purchase orders; fill in one table for each"))
		}
	}
	q.Set("order", strings.Join(ids, ","))
	if x.fill != "" {
		q.Set("kind", string(orders[0].Kind))
	}
	return q, nil
}

// named are the numbers in the arguments, and those of a file.
func (x *exporting) named(args []string) ([]string, error) {
	if x.numbers == "" {
		return args, nil
	}
	in := x.app.In
	if x.numbers != "-" {
		f, err := os.Open(x.numbers)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	}
	names := slices.Clone(args)
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		for _, n := range strings.FieldsFunc(lines.Text(), func(r rune) bool { return r == ',' || r == ';' || r == '\t' }) {
			if n = strings.TrimSpace(n); n != "" {
				names = append(names, n)
			}
		}
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	if len(names) == 0 {
		return nil, shell.Usage(fmt.Errorf("%s has no number", x.numbers))
	}
	return names, nil
}

// writeMapping writes the mapping with which the table can be loaded.
func (x *exporting) writeMapping(ctx context.Context, q url.Values) error {
	name := strings.TrimSuffix(filepath.Base(x.mapping), filepath.Ext(x.mapping))
	want := url.Values{"name": {name}, "for": q["for"]}
	for _, same := range []string{"column", "kind"} {
		if q.Has(same) {
			want[same] = q[same]
		}
	}
	m, err := x.app.Client().ExportMapping(ctx, want)
	if err != nil {
		return err
	}
	return folder.Usual.Write(x.mapping, func(w io.Writer) error {
		_, err := io.WriteString(w, m.Text)
		return err
	})
}

// wrapped is names in lines of a limited width.
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
