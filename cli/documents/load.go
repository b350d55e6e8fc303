package documents

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/folder"
	"koinos/load"
)

func (a *app) load() *cobra.Command {
	var mappingName string
	var opt loadOptions
	var orders bool
	c := &cobra.Command{
		Use:   "load FILE --mapping MAPPING",
		Short: "Load a document's orders, or do a dry run",
		Long: `Load sends a document to the service, runs it through a mapping, and says what
became of its orders. Valid orders are loaded even if others fail; loading the same
document again makes no second order.

MAPPING is a mapping's file, which is sent along, or the name of one that the
service has.`,
		Example: `  koinos load week-12.xlsx --mapping ostrand-weekly --dry-run
  koinos load week-12.xlsx --mapping ostrand-weekly --dry-run --orders
  koinos load week-12.xlsx --mapping mappings/ostrand-weekly.yaml
  koinos load returns.csv --mapping saltry --all-or-none --output json
  koinos load corrected.xlsx -m ostrand-weekly --again update --note "prices of 2 March"
  koinos load stock.csv -m opening --opening --default currency=EUR --only-rows 5-400`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if mappingName == "" {
				return shell.Usage(errors.New("say which mapping with --mapping; koinos mapping list shows those of the service"))
			}
			asked, err := opt.options()
			if err != nil {
				return err
			}
			if orders && !asked.DryRun {
				return shell.Usage(errors.New("--orders goes with --dry-run; koinos order list shows the orders that were stored"))
			}
			if orders && a.Output == "json" {
				return shell.Usage(errors.New("--orders prints for people; for programs there is koinos mapping check " +
					"--document --orders --output json"))
			}
			if orders {
				if err := a.dryOrders(c.Context(), args[0], mappingName); err != nil {
					return err
				}
			}
			return a.runLoad(c.Context(), args[0], mappingName, api.NewLoad{Options: asked})
		},
	}
	c.Flags().StringVarP(&mappingName, "mapping", "m", "", "mapping: a file, or a name that the service knows")
	a.OffersNames(c, "mapping", a.MappingNames)
	opt.flags(c)
	c.Flags().BoolVar(&orders, "orders", false, "with --dry-run: print the orders of the document first")
	c.AddCommand(a.loadList(), a.loadShow(), a.loadReport(), a.loadMissing(), a.loadCancel(), a.loadPause(),
		a.loadResume(), a.loadRetry(), a.loadAccept(), a.loadUndo())
	return c
}

// dryOrders prints the orders that a document makes through a mapping, with the service's lists.
func (a *app) dryOrders(ctx context.Context, file, mappingName string) error {
	m, err := a.MappingOf(ctx, mappingName)
	if err != nil {
		return err
	}
	set, err := a.SetFor(ctx, "", m)
	if err != nil {
		return err
	}
	f, size, err := shell.OpenLocal(file)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err = load.Orders(ctx, a.Out, f, size, m, set, source.DefaultLimits); err == nil {
		fmt.Fprintln(a.Out)
	}
	return err
}

func (a *app) runLoad(ctx context.Context, file, mappingName string, req api.NewLoad) error {
	calls := a.Client()
	if _, err := os.Stat(file); err != nil {
		return shell.Exit(shell.ExitBad, fmt.Sprintf("%s cannot be read: %v", file, errors.Unwrap(err)))
	}
	if shell.LooksLikeFile(mappingName) {
		text, err := os.ReadFile(mappingName)
		if err != nil {
			return shell.Exit(shell.ExitBad, fmt.Sprintf("the mapping %s cannot be read: %v", mappingName, errors.Unwrap(err)))
		}
		if req.DryRun { // nothing is kept, the mapping no more than the orders
			req.Text, mappingName = string(text), ""
		} else {
			kept, err := calls.KeepMapping(ctx, text)
			if err != nil {
				return err
			}
			mappingName = kept.Name
		}
	}
	doc, err := a.send(ctx, calls, file)
	if err != nil {
		return err
	}
	if doc.Load != 0 && a.Output == "table" {
		fmt.Fprintf(a.Err, "This document was loaded before (load %d); orders that are stored already are recognised.\n",
			doc.Load)
	}
	req.Document, req.Mapping = doc.SHA, mappingName
	l, err := calls.StartLoad(ctx, req)
	if err != nil {
		return err
	}
	return a.follow(ctx, calls, l)
}

// follow watches a load to its end and shows it. Ctrl-C cancels it.
func (a *app) follow(ctx context.Context, calls *client.Client, l outcome.Load) error {
	bar := a.Bar("loading")
	last, err := calls.WatchLoad(ctx, l.ID, func(l outcome.Load) {
		words := fmt.Sprintf("%s, %d refused", report.Plural(l.Orders, "order"), l.Refused)
		if l.Status == outcome.Waiting {
			words = "waiting for other loads to end"
		} else if l.RowsASecond > 0 {
			words += fmt.Sprintf(", %d rows a second, %s left", l.RowsASecond,
				(time.Duration(l.SecondsLeft) * time.Second).String())
		}
		bar.Show(l.Share, words)
	})
	bar.Done()
	if ctx.Err() != nil { // a person pressed Ctrl-C
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if _, err := calls.CancelLoad(stop, l.ID); err != nil {
			return fmt.Errorf("load %d goes on in the service: %w", l.ID, err)
		}
		return a.ShowLoad(stop, calls, l.ID)
	}
	if err != nil || !last.Status.Ended() {
		if err == nil {
			err = client.ErrAway
		}
		return fmt.Errorf("load %d: %w; it goes on by itself when the service is back: koinos load show %d", l.ID, err,
			l.ID)
	}
	return a.ShowLoad(ctx, calls, l.ID)
}

// send uploads a file, with progress if it is large.
func (a *app) send(ctx context.Context, calls *client.Client, file string) (api.Received, error) {
	f, err := os.Open(file)
	if err != nil {
		return api.Received{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return api.Received{}, err
	}
	if info.IsDir() {
		return api.Received{}, shell.Exit(shell.ExitBad, file+" is a folder")
	}
	bar := a.Bar("sending")
	defer bar.Done()
	return calls.SendDocument(ctx, filepath.Base(file), &counted{f, info.Size(), 0, bar})
}

// counted is a file whose reading moves a bar.
type counted struct {
	file    io.ReadSeeker
	size, n int64
	bar     *shell.Bar
}

// Seek goes to the beginning, for a file that is sent once more.
func (c *counted) Seek(offset int64, whence int) (n int64, err error) {
	c.n, err = c.file.Seek(offset, whence)
	return c.n, err
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.file.Read(p)
	c.n += int64(n)
	if c.size > 0 {
		c.bar.Show(float64(c.n)/float64(c.size), "")
	}
	return n, err
}

func (a *app) loadList() *cobra.Command {
	var limit int
	var of string
	c := &cobra.Command{
		Use: "list", Short: "List loads, newest first", Args: cobra.NoArgs,
		Example: "  koinos load list --limit 5\n  koinos load list --of documents",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{}
			if of != "" {
				q.Set("of", of)
			}
			page, err := shell.Pages(limit, q, func(q url.Values) (api.Page[outcome.Load],
				error) {
				return a.Client().Loads(c.Context(), q)
			})
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			var rows [][]string
			for _, l := range page.Items {
				kind := "load"
				if l.DryRun {
					kind = "dry run"
				}
				rows = append(rows, []string{strconv.FormatInt(l.ID, 10), shell.Local(l.StartedAt), kind, l.DocumentName,
					versioned(l.Mapping, l.Version), string(l.Status),
					shell.Num(l.Orders), shell.Num(l.Loaded + l.Ready), shell.Num(l.Changed + l.Differs), shell.Num(l.Unchanged),
					shell.Num(l.Failing())})
			}
			report.Table(a.Out, []string{">load", "started", "kind", "document", "mapping", "status", ">orders",
				">good", ">changed", ">unchanged", ">failed"}, rows)
			a.MoreRows(page.Next)
			return nil
		},
	}
	c.Flags().IntVar(&limit, "limit", 20, "how many")
	c.Flags().StringVar(&of, "of", "",
		"only those of documents that were sent, or of records of systems: documents or records")
	return c
}

// versioned names a mapping with its version; one that was only tried has none.
func versioned(name string, version int) string {
	if version < 1 {
		return name + " (not kept)"
	}
	return fmt.Sprintf("%s v%d", name, version)
}

func (a *app) loadShow() *cobra.Command {
	var findings, code string
	c := &cobra.Command{
		Use: "show LOAD", Short: "Show a load: its figures, its reasons and, on request, its findings",
		Long: "Show prints a load's figures and its findings by reason. With --findings or --code it\nlists " +
			"single findings; --output json then writes one a line (NDJSON).",
		Example: "  koinos load show 4\n  koinos load show 4 --findings error\n  koinos load show 4 --code unknown_code",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := shell.LoadID(args[0])
			if err != nil {
				return err
			}
			if findings != "" || code != "" {
				return a.showFindings(c.Context(), id, findings, code)
			}
			return shell.IgnoreRefused(a.ShowLoad(c.Context(), a.Client(), id))
		},
	}
	c.Flags().StringVar(&findings, "findings", "", "list findings of a severity: error, warning or all")
	c.Flags().StringVar(&code, "code", "", "list findings of this code")
	return c
}

func (a *app) showFindings(ctx context.Context, id int64, severity, code string) error {
	q := url.Values{"limit": {"1000"}}
	if severity != "all" && severity != "" {
		q.Set("severity", severity)
	}
	if code != "" {
		q.Set("code", code)
	}
	calls, lines := a.Client(), json.NewEncoder(a.Out)
	var rows [][]string
	for {
		page, err := calls.Findings(ctx, id, q)
		if err != nil {
			return err
		}
		for _, f := range page.Items {
			if a.Output == "json" { // one a line (NDJSON): there may be very many
				if err := lines.Encode(f); err != nil {
					return err
				}
				continue
			}
			order := "–"
			if f.Order > 0 {
				order = strings.TrimSpace(fmt.Sprintf("%s (%d)", f.Number, f.Order))
			}
			rows = append(rows, []string{f.At, string(f.Severity), order, f.Field, string(f.Code), f.Message})
		}
		if page.Next == "" {
			break
		}
		q.Set("cursor", page.Next)
	}
	if a.Output != "json" {
		report.Table(a.Out, []string{"place", "severity", "order", "field", "code", "what"}, rows)
	}
	return nil
}

func (a *app) loadReport() *cobra.Command {
	var format, to string
	c := &cobra.Command{
		Use: "report LOAD", Short: "Write a load's report as a file",
		Long: `Report writes what a load has to say:

  json    figures, reasons, every order's outcome, every finding
  csv     every finding, one a row
  marked  the document itself: cells coloured, with comments, where something
          was found, and outcome, order number and message beside every row
  failed  the same of only those orders that did not go in, whole, in the
          document's own layout: fix it and load it again`,
		Example: "  koinos load report 4 --format marked --to week-12-marked.xlsx\n  koinos load report 4 --format " +
			"csv > findings.csv",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := shell.LoadID(args[0])
			if err != nil {
				return err
			}
			if format != "json" && format != "csv" && format != "marked" && format != "failed" {
				return shell.Usage(fmt.Errorf("--format is json, csv, marked or failed, not %q", format))
			}
			if to == "" {
				if f, ok := a.Out.(*os.File); ok && (format == "marked" || format == "failed") && a.Style().Color {
					return shell.Usage(fmt.Errorf("a marked copy is not for %s; say where with --to FILE", f.Name()))
				}
				return a.Client().Report(c.Context(), id, format, a.Out)
			}
			err = folder.Usual.Write(to, func(w io.Writer) error {
				return a.Client().Report(c.Context(), id, format, w)
			})
			if err == nil {
				_, err = a.JSON(shell.Written{File: to})
			}
			return err
		},
	}
	c.Flags().StringVarP(&format, "format", "f", "json", "json, csv, marked or failed")
	c.Flags().Var((*shell.OutFile)(&to), "to", "file to write; by default standard output")
	return c
}

func (a *app) loadCancel() *cobra.Command {
	return &cobra.Command{
		Use: "cancel LOAD", Short: "Stop a running load; orders that are stored stay", Example: "  koinos load cancel 7",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := shell.LoadID(args[0])
			if err != nil {
				return err
			}
			if _, err := a.Client().CancelLoad(c.Context(), id); err != nil {
				return err
			}
			return shell.IgnoreRefused(a.ShowLoad(c.Context(), a.Client(), id))
		},
	}
}
