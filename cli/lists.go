package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/report"
	"koinos/core/source"
)

// ReadEntries reads a list from a CSV or workbook whose first row is its
// heading: code and name of a list, theirs and ours of a crosswalk (which then
// are the entries' code and name). Further columns become attributes.
func ReadEntries(r io.ReaderAt, size int64, crosswalk bool) ([]list.Entry, error) {
	src, err := source.Open(r, size, source.Options{Limits: source.DefaultLimits})
	if err != nil {
		return nil, err
	}
	key, value := "code", "name"
	if crosswalk {
		key, value = "theirs", "ours"
	}
	head, err := src.Next()
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	names := make([]string, len(head.Cells))
	for i, c := range head.Cells {
		names[i] = list.Fold(c.Text)
	}
	if !slices.Contains(names, key) || crosswalk && !slices.Contains(names, value) {
		f := finding.Fatal(finding.HeadingMissing, head.Place(0), "The first row must be the heading, with a column %q%s.", key, map[bool]string{true: " and a column \"ours\""}[crosswalk])
		f.Hint = "Its cells are: " + strings.Join(names, ", ") + "."
		return nil, f
	}
	var entries []list.Entry
	seen := map[string]int{}
	for {
		rec, err := src.Next()
		if errors.Is(err, io.EOF) {
			return entries, nil
		}
		if err != nil {
			return nil, err
		}
		if rec.Blank() {
			continue
		}
		e := list.Entry{}
		for i, c := range rec.Cells {
			text := strings.TrimSpace(c.Text)
			if i >= len(names) || text == "" {
				continue
			}
			switch names[i] {
			case key:
				e.Code = text
			case value:
				e.Name = text
			case "":
			default:
				if e.Attributes == nil {
					e.Attributes = map[string]string{}
				}
				e.Attributes[names[i]] = text
			}
		}
		if e.Code == "" || crosswalk && e.Name == "" {
			return nil, finding.Fatal(finding.MustMissing, rec.Place(0), "Row %d has no %s.", rec.Row, map[bool]string{true: key, false: value}[e.Code == ""])
		}
		if before, twice := seen[e.Code]; twice {
			return nil, finding.Fatal(finding.IdentityRepeated, rec.Place(0), "%q stands in row %d and again in row %d.", e.Code, before, rec.Row)
		}
		seen[e.Code] = rec.Row
		entries = append(entries, e)
	}
}

// Pairs turns entries read as a crosswalk into pairs.
func Pairs(entries []list.Entry) []list.Pair {
	pairs := make([]list.Pair, len(entries))
	for i, e := range entries {
		pairs[i] = list.Pair{Theirs: e.Code, Ours: e.Name}
	}
	return pairs
}

// lists makes the commands for reference lists or for crosswalks.
func (a *app) lists(crosswalk bool) *cobra.Command {
	noun, example := "list", "items lists/items.csv"
	about := "Import and show reference lists: items, customers, units …"
	columns := "The first row names the columns: code, name, and any further ones."
	if crosswalk {
		noun, example = "crosswalk", "ostrand-yards crosswalks/ostrand-yards.csv"
		about = "Import and show crosswalks between partners' codes and ours"
		columns = "The first row names the columns: theirs and ours."
	}
	c := &cobra.Command{Use: noun, Short: about}
	c.AddCommand(&cobra.Command{
		Use: "import NAME FILE", Short: "Replace a " + noun + " from a CSV or workbook", Long: columns, Example: "  koinos " + noun + " import " + example, Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			f, size, err := openLocal(args[1])
			if err != nil {
				return err
			}
			defer f.Close()
			entries, err := ReadEntries(f, size, crosswalk)
			if err != nil {
				return err
			}
			if crosswalk {
				err = a.client().PutCrosswalk(c.Context(), args[0], Pairs(entries))
			} else {
				err = a.client().PutList(c.Context(), args[0], entries)
			}
			if err != nil {
				return err
			}
			if done, err := a.json(map[string]any{"name": args[0], "entries": len(entries)}); done {
				return err
			}
			words := report.Plural(len(entries), "row")
			fmt.Fprintf(a.out, "The %s %s has %s.\n", noun, args[0], words)
			return nil
		},
	})
	var limit int
	show := &cobra.Command{
		Use: "show [NAME]", Short: "Show a " + noun + ", or which there are", Example: "  koinos " + noun + " show\n  koinos " + noun + " show " + strings.Fields(example)[0], Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.showLists(c.Context(), noun, crosswalk)
			}
			return a.showEntries(c.Context(), args[0], crosswalk, limit)
		},
	}
	show.Flags().IntVar(&limit, "limit", 1000, "how many entries, up to 1000")
	c.AddCommand(show)
	return c
}

func (a *app) showLists(ctx context.Context, noun string, crosswalk bool) error {
	infos, err := a.client().Lists(ctx, crosswalk)
	if err != nil {
		return err
	}
	if done, err := a.json(infos); done {
		return err
	}
	var rows [][]string
	for _, i := range infos {
		rows = append(rows, []string{i.Name, num(i.Entries), local(i.ImportedAt)})
	}
	report.Table(a.out, []string{noun, ">entries", "imported"}, rows)
	return nil
}

func (a *app) showEntries(ctx context.Context, name string, crosswalk bool, limit int) error {
	q := url.Values{"limit": {strconv.Itoa(limit)}}
	if crosswalk {
		page, err := a.client().Pairs(ctx, name, q)
		if err != nil {
			return err
		}
		if done, err := a.json(page); done {
			return err
		}
		var rows [][]string
		for _, p := range page.Items {
			rows = append(rows, []string{p.Theirs, p.Ours})
		}
		report.Table(a.out, []string{"theirs", "ours"}, rows)
		a.moreRows(page.Next)
		return nil
	}
	page, err := a.client().Entries(ctx, name, q)
	if err != nil {
		return err
	}
	if done, err := a.json(page); done {
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
	report.Table(a.out, append([]string{"code", "name"}, extra...), rows)
	a.moreRows(page.Next)
	return nil
}
