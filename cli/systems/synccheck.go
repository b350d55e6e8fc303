package systems

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/report"
)

// comparing are the commands that compare both sides of a sync.
var comparing = map[string]struct{ short, long, example, repair, repairAbout string }{
	api.CheckDryRun: {short: "Show what a run of a sync would do, without writing anything",
		long: `Dry-run reads what is new, works out what it would become here and what would
follow at every target, and writes nothing, neither here nor there. Where a
system can check a call without storing it, it is asked to.`,
		example: "  koinos sync dry-run slipway-ledgerline\n  koinos sync dry-run slipway-ledgerline --report what.xlsx"},
	api.CheckReconcile: {short: "Compare everything on both sides of a sync", repair: "repair",
		repairAbout: "make what differs right, by the sync's rules",
		long: `Reconcile reads all records of the sources and of the targets and compares them
with the orders here, field by field. It finds what sources have lost and what
targets have besides. With --repair what differs is made right; what targets
have besides is never touched.`,
		example: "  koinos sync reconcile slipway-ledgerline\n  koinos sync reconcile slipway-ledgerline --repair"},
	api.CheckLink: {short: "Link records at the targets to orders here, before the first run",
		repairAbout: "only say what would be linked",
		long: `Link looks for the record of every order that is not linked yet, by the value
that the system's description names, and links what it finds. Nothing is written
at the targets. Orders for which it finds none or several are listed.`,
		example: "  koinos sync link slipway-ledgerline --dry-run"},
}

func (a *app) compareSync(kind string) *cobra.Command {
	var n api.NewCheck
	var noWait, dry bool
	var file string
	var rows int
	words := comparing[kind]
	c := &cobra.Command{
		Use: kind + " NAME", Short: words.short, Long: words.long, Example: words.example, Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			n.Kind = kind
			if kind == api.CheckLink {
				n.Repair = !dry
			}
			calls := a.Client()
			check, err := calls.StartCheck(c.Context(), args[0], n)
			if err == nil && !noWait {
				progress := a.progressLine()
				check, err = calls.UntilChecked(c.Context(), check.ID, func(k api.SyncCheck) {
					progress(fmt.Sprintf("%s read, %s compared", report.Plural(k.Counts.Records, "record"),
						report.Plural(k.Counts.Orders, "order")))
				})
				progress("")
			}
			if err != nil {
				return err
			}
			if file != "" && check.State != api.SyncRunning {
				if err := a.saveReport(c.Context(), calls, check.ID, file); err != nil {
					return err
				}
			}
			return a.compared(c.Context(), calls, &check, rows)
		},
	}
	c.Flags().StringSliceVar(&n.Only, "only", nil, "only these pulls and pushes, by name")
	c.Flags().BoolVar(&noWait, "no-wait", false, "do not wait for its end")
	c.Flags().StringVar(&file, "report", "", "also write what was found into this file: .csv, .xlsx or .json")
	c.Flags().IntVar(&rows, "rows", 20, "how many differences to show")
	switch {
	case words.repair != "":
		c.Flags().BoolVar(&n.Repair, words.repair, false, words.repairAbout)
	case words.repairAbout != "":
		c.Flags().BoolVarP(&dry, "dry-run", "n", false, words.repairAbout)
	}
	return c
}

func (a *app) saveReport(ctx context.Context, calls *client.Client, id int64, name string) error {
	format := strings.TrimPrefix(filepath.Ext(name), ".")
	if report.Tables[format].Begin == nil {
		return shell.Usage(fmt.Errorf("%s: a report is a file that ends in .csv, .xlsx or .json", name))
	}
	f, err := os.Create(name)
	if err != nil {
		return shell.Unreadable(name, err)
	}
	if err := calls.CheckReport(ctx, id, format, f); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// compared reports what a comparison found.
func (a *app) compared(ctx context.Context, calls *client.Client, c *api.SyncCheck, most int) error {
	done, err := a.JSON(c)
	if err != nil {
		return err
	}
	if !done {
		if err := a.printCheck(ctx, calls, c, most); err != nil {
			return err
		}
	}
	n := c.Counts
	switch {
	case c.State == api.CheckFailed:
		return shell.Exit(shell.ExitFailed, "")
	case c.State == api.SyncRunning && c.Reason != "":
		return shell.Exit(shell.ExitAway, "")
	case n.Cannot+n.Refuse+n.Ambiguous > 0:
		return shell.Exit(shell.ExitRefused, "")
	case c.Kind == api.CheckReconcile && n.Load+n.Update+n.Create+n.Change+n.Lost+n.Besides > n.Repaired:
		return shell.Exit(shell.ExitRefused, "")
	}
	return nil
}

func (a *app) printCheck(ctx context.Context, calls *client.Client, c *api.SyncCheck, most int) error {
	n := c.Counts
	switch {
	case c.State == api.CheckFailed:
		fmt.Fprintf(a.Out, "%s: the comparison failed: %s\n", c.Sync, c.Reason)
	case c.State == api.SyncRunning && c.Reason != "":
		fmt.Fprintf(a.Out, "%s: the comparison waits: %s\n", c.Sync, c.Reason)
	case c.State == api.SyncRunning:
		fmt.Fprintf(a.Out, "%s: comparison %d goes on.\n", c.Sync, c.ID)
	}
	fmt.Fprintf(a.Out, "%s: %s read, %s compared.\n", c.Sync, report.Plural(n.Records, "record"),
		report.Plural(n.Orders, "order"))
	for _, w := range []struct {
		n    int
		word string
	}{{n.Load, "would become new orders here"}, {n.Update, "would change orders here"},
		{n.Refuse, "would be refused or held here"}, {n.Create, "would be created at the target"},
		{n.Change, "would be changed at the target"}, {n.Right, "are right at the target"},
		{n.Cannot, "cannot be written"}, {n.Lost, "are not at the source any more"},
		{n.Besides, "are at the target and no orders here"}, {n.Link, "are found at the target"},
		{n.Ambiguous, "may be several records at the target"}, {n.NotThere, "are not at the target"},
		{n.NotTried, "cannot be tried yet"}, {n.Repaired, "were repaired or linked"}} {
		if w.n > 0 {
			fmt.Fprintf(a.Out, "  %6d %s\n", w.n, w.word)
		}
	}
	page, err := calls.CheckRows(ctx, c.ID, url.Values{"limit": {shell.Num(max(1, min(most, 200)))}})
	if err != nil || most == 0 {
		return err
	}
	for _, r := range page.Items {
		fmt.Fprintf(a.Out, "%s %s %s %s\n", r.Part, r.Order, r.Key, r.Outcome)
		for _, ch := range r.Changes {
			fmt.Fprintf(a.Out, "       %s\n", ch.String())
		}
		a.Steps(r.Steps, false)
		if r.Why != "" {
			fmt.Fprintf(a.Out, "  %s\n", r.Why)
		}
	}
	if page.Next != "" {
		fmt.Fprintf(a.Out, "There is more: --rows shows more of it, --report writes all of it into a file.\n")
	}
	return nil
}
