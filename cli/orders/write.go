package orders

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/core/writing"
	"koinos/folder"
)

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
				return shell.Usage(fmt.Errorf("say which orders (numbers, or --load), --mapping and --to"))
			}
			calls := a.Client()
			q := url.Values{}
			if loadID > 0 {
				q.Set("load", strconv.FormatInt(loadID, 10))
			}
			var ids []string
			for _, number := range args {
				orders, err := a.Numbered(c.Context(), number)
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
			write := func(w io.Writer) (err error) {
				if shell.LooksLikeFile(mappingName) {
					problems, err = a.writeLocally(c.Context(), w, mappingName, source.Format(format), loadID, ids)
				} else {
					problems, err = calls.MappingFile(c.Context(), name, "document", q, w)
				}
				return err
			}
			var err error
			if done := false; to == "-" {
				err = write(a.Out)
			} else if err = folder.Usual.Write(to, write); err == nil {
				if done, err = a.JSON(shell.Written{File: to, Problems: problems}); done {
					return err
				}
			}
			if err != nil {
				return err
			}
			if problems > 0 {
				fmt.Fprintf(a.Err, "%d values have no place in this document: the mapping computes them, or the "+
					"partner's tables do not know them.\n", problems)
			}
			return nil
		},
	}
	c.Flags().StringVarP(&mappingName, "mapping", "m", "", "mapping: a file, or NAME or NAME@VERSION of the service")
	a.OffersNames(c, "mapping", a.MappingNames)
	c.Flags().Int64Var(&loadID, "load", 0, "all orders that this load stored")
	c.Flags().StringVar(&to, "to", "", "file to write, - for here; its end says whether a table is a .csv or an .xlsx")
	return c
}

// mostWritten is how many orders one document is written from, as in the service, because they are in memory.
const mostWritten = 10_000

// writeLocally writes orders of the service through a mapping's file.
func (a *app) writeLocally(ctx context.Context, w io.Writer, file string, format source.Format, loadID int64,
	ids []string) (problems int, err error) {
	m, err := a.MappingOf(ctx, file)
	if err == nil {
		m, err = writing.In(m, format)
	}
	if err != nil {
		return 0, err
	}
	set, err := a.SetFor(ctx, "", m)
	if err != nil {
		return 0, err
	}
	calls := a.Client()
	if loadID > 0 {
		page, err := shell.Pages(mostWritten, url.Values{"load": {strconv.FormatInt(loadID, 10)}},
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
