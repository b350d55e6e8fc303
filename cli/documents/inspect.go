package documents

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"koinos/cli/shell"
	"koinos/core/report"
	"koinos/core/source"
)

func (a *app) inspect() *cobra.Command {
	return &cobra.Command{
		Use: "inspect FILE", Short: "Show what a document is made of: format, sheets, heading row, columns",
		Long:    "Inspect reads a document without a mapping and without a service.",
		Example: "  koinos inspect week-12.xlsx\n  koinos inspect orders.csv --output json", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			f, size, err := shell.OpenLocal(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			in, err := source.Inspect(f, size, source.Options{Limits: source.DefaultLimits})
			if err != nil {
				return err
			}
			if done, err := a.JSON(in); done {
				return err
			}
			a.showInspection(filepath.Base(args[0]), in)
			return nil
		},
	}
}

func (a *app) showInspection(name string, in *source.Inspection) {
	what := map[string]string{"xlsx": "workbook (.xlsx)", "ods": "workbook (.ods)", "json": "JSON", "ndjson": "NDJSON",
		"x12": "X12"}[string(in.Format)]
	if in.Fixed {
		what = fmt.Sprintf("text of fixed width, %s", in.Encoding)
	} else if in.Format == source.CSV {
		delimiter := map[string]string{"\t": "tab", ",": "comma", ";": "semicolon", "|": "bar"}[in.Delimiter]
		what = fmt.Sprintf("CSV, %s, delimiter %s, quotation mark %s", in.Encoding, delimiter, in.Quote)
	}
	if in.Marked {
		what += ", with a byte order mark"
	}
	fmt.Fprintf(a.Out, "%s: %s, %d bytes\n", name, what, in.Size)
	for i := range in.Tables {
		if in.Format.Nested() {
			a.showValues(in.Format, &in.Tables[i])
		} else {
			a.showTable(&in.Tables[i])
		}
	}
	for i := range in.Notes {
		fmt.Fprintf(a.Out, "\n%s: %s", in.Notes[i].Severity, in.Notes[i].Error())
	}
	if len(in.Notes) > 0 {
		fmt.Fprintln(a.Out)
	}
}

// showTable shows what is in a CSV or on a sheet.
func (a *app) showTable(t *source.Table) {
	title := "The table"
	if t.Sheet != "" {
		title = "Sheet " + t.Sheet
	}
	if t.Hidden {
		title += " (hidden)"
	}
	heading := "no row looks like a heading"
	if t.Heading > 0 {
		heading = fmt.Sprintf("heading in row %d", t.Heading)
	}
	fmt.Fprintf(a.Out, "\n%s: %s with values, the last is row %d; %s\n", title, report.Plural(t.Rows, "row"), t.LastRow,
		heading)
	if t.Unseen > 0 {
		fmt.Fprintf(a.Out, "Hidden or filtered out: %s. A mapping with document: {hidden: leave-out} leaves them out.\n",
			report.Plural(t.Unseen, "row"))
	}
	var rows [][]string
	heads := []string{"column", "heading", "looks like", ">filled", "samples"}
	if len(t.Columns) > 0 && t.Columns[0].Where != "" {
		heads = slices.Insert(heads, 1, "characters")
	}
	for _, c := range t.Columns {
		if c.Hidden {
			c.Letter += " (hidden)"
		}
		row := []string{c.Letter, c.Heading, c.Looks, shell.Num(c.Filled), strings.Join(c.Samples, " · ")}
		if c.Where != "" {
			row = slices.Insert(row, 1, c.Where)
		}
		rows = append(rows, row)
	}
	report.Table(a.Out, heads, rows)
}

// showValues shows what is in JSON or X12: the values by their paths, or the elements.
func (a *app) showValues(format source.Format, t *source.Table) {
	record, leaf, name := "record", "value", "path"
	if format == source.X12 {
		record, leaf, name = "transaction set", "segment", "element"
	}
	fmt.Fprintf(a.Out, "\n%s with %s\n", report.Plural(t.Rows, record), report.Plural(t.LastRow, leaf))
	var rows [][]string
	for _, c := range t.Columns {
		rows = append(rows, []string{c.Heading, c.Looks, shell.Num(c.Filled), strings.Join(c.Samples, " · ")})
	}
	if len(rows) > 0 {
		report.Table(a.Out, []string{name, "looks like", ">filled", "samples"}, rows)
	}
}
