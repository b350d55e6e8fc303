package documents

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/list"
	"koinos/core/listfile"
	"koinos/core/report"
	"koinos/folder"
)

// lists makes the commands for reference lists or for crosswalks.
func (a *app) lists(crosswalk bool) *cobra.Command {
	noun, example := "list", "items lists/items.csv"
	about := "Import, show, rename and remove reference lists: items, customers, units …"
	columns := "The first row names the columns: code, name, and any further ones."
	if crosswalk {
		noun, example = "crosswalk", "ostrand-yards crosswalks/ostrand-yards.csv"
		about = "Import, show, rename and remove crosswalks between partners' codes and ours"
		columns = "The first row names the columns: theirs and ours."
	}
	c := &cobra.Command{Use: noun, Short: about}
	var add bool
	var named listfile.Columns
	imports := &cobra.Command{
		Use: "import NAME FILE", Short: "Replace a " + noun + " from a CSV or workbook, or add to it", Long: columns,
		Example: "  koinos " + noun + " import " + example, Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			f, size, err := shell.OpenLocal(args[1])
			if err != nil {
				return err
			}
			defer f.Close()
			entries, err := listfile.ReadBy(f, size, crosswalk, named)
			if err != nil {
				return err
			}
			calls := a.Client()
			if add {
				before, err := calls.AllEntries(c.Context(), args[0], crosswalk)
				if err != nil {
					return err
				}
				entries = listfile.Merge(before, entries)
			}
			if crosswalk {
				err = calls.PutCrosswalk(c.Context(), args[0], listfile.Pairs(entries))
			} else {
				err = calls.PutList(c.Context(), args[0], entries)
			}
			if err != nil {
				return err
			}
			if done, err := a.JSON(map[string]any{"name": args[0], "entries": len(entries)}); done {
				return err
			}
			words := report.Plural(len(entries), "row")
			fmt.Fprintf(a.Out, "The %s %s has %s.\n", noun, args[0], words)
			return nil
		},
	}
	if crosswalk {
		imports.Flags().StringVar(&named.Code, "theirs", "",
			"heading of the column with the partner's codes; by default theirs")
		imports.Flags().StringVar(&named.Name, "ours", "", "heading of the column with our codes; by default ours")
	} else {
		imports.Flags().StringVar(&named.Code, "code", "", "heading of the column with the codes; by default code")
		imports.Flags().StringVar(&named.Name, "name", "", "heading of the column with the names; by default name")
	}
	imports.Flags().BoolVar(&add, "add", false, "keep what the "+noun+" has; rows of a known code replace it")
	var to string
	exports := &cobra.Command{
		Use: "export NAME", Short: "Write a " + noun + " as a CSV or workbook",
		Example: "  koinos " + noun + " export " + strings.Fields(example)[0] + " --to out.xlsx",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			entries, err := a.Client().AllEntries(c.Context(), args[0], crosswalk)
			if err != nil {
				return err
			}
			if done, err := a.JSON(entries); done {
				return err
			}
			if to == "" {
				return listfile.Write(a.Out, entries, crosswalk, false)
			}
			return folder.Usual.Write(to, func(w io.Writer) error {
				return listfile.Write(w, entries, crosswalk, strings.EqualFold(filepath.Ext(to), ".xlsx"))
			})
		},
	}
	exports.Flags().Var((*shell.OutFile)(&to), "to", "file to write, .csv or .xlsx; by default CSV on standard output")
	c.AddCommand(imports, exports)
	var limit int
	show := &cobra.Command{
		Use: "show [NAME]", Short: "Show a " + noun + ", or list them all",
		Example: "  koinos " + noun + " show\n  koinos " + noun + " show " + strings.Fields(example)[0],
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.showLists(c.Context(), noun, crosswalk)
			}
			return a.showEntries(c.Context(), args[0], crosswalk, limit)
		},
	}
	show.Flags().IntVar(&limit, "limit", 1000, "how many entries")
	c.AddCommand(show)
	c.AddCommand(a.Names(client.Noun(noun), strings.Fields(example)[0])...)
	return c
}

func (a *app) showLists(ctx context.Context, noun string, crosswalk bool) error {
	infos, err := a.Client().Lists(ctx, crosswalk)
	if err != nil {
		return err
	}
	if done, err := a.JSON(infos); done {
		return err
	}
	var rows [][]string
	for _, i := range infos {
		when := "ships with Koinos"
		if i.ImportedAt != nil {
			when = shell.Local(*i.ImportedAt)
		}
		rows = append(rows, []string{i.Name, shell.Num(i.Entries), when})
	}
	report.Table(a.Out, []string{noun, ">entries", "imported"}, rows)
	return nil
}

func (a *app) showEntries(ctx context.Context, name string, crosswalk bool, limit int) error {
	q := url.Values{}
	if crosswalk {
		page, err := shell.Pages(limit, q, func(q url.Values) (api.Page[list.Pair],
			error) {
			return a.Client().Pairs(ctx, name, q)
		})
		if err != nil {
			return err
		}
		if done, err := a.JSON(page); done {
			return err
		}
		var rows [][]string
		for _, p := range page.Items {
			rows = append(rows, []string{p.Theirs, p.Ours})
		}
		report.Table(a.Out, []string{"theirs", "ours"}, rows)
		a.MoreRows(page.Next)
		return nil
	}
	page, err := shell.Pages(limit, q, func(q url.Values) (api.Page[list.Entry],
		error) {
		return a.Client().Entries(ctx, name, q)
	})
	if err != nil {
		return err
	}
	if done, err := a.JSON(page); done {
		return err
	}
	var extra []string
	for _, e := range page.Items {
		for k := range e.Attributes {
			if !slices.Contains(extra, k) {
				extra = append(extra, k)
			}
		}
	}
	slices.Sort(extra)
	var rows [][]string
	for _, e := range page.Items {
		row := []string{e.Code, e.Name}
		for _, k := range extra {
			row = append(row, e.Attributes[k])
		}
		rows = append(rows, row)
	}
	report.Table(a.Out, append([]string{"code", "name"}, extra...), rows)
	a.MoreRows(page.Next)
	return nil
}
