package documents

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/outcome"
	"koinos/core/report"
)

func (a *app) sequence() *cobra.Command {
	c := &cobra.Command{Use: "sequence",
		Short: "Run several loads of one document, in which later ones use results of earlier ones"}
	var name string
	var again int64
	var opt loadOptions
	run := &cobra.Command{
		Use: "run FILE --sequence SEQUENCE", Short: "Run a document through a sequence",
		Long: `Run sends a document to the service and loads it once for each step of the
sequence. An order that needs the result of an earlier step is held where the
order of that step failed; the others go on. Run it again when the cause is
fixed: what is stored is recognised, and the rest goes on from there.

SEQUENCE is a sequence's file, which is sent along, or the name of one that the
service has.`,
		Example: "  koinos sequence run drop-ship.xlsx --sequence drop-ship\n  koinos sequence run --from-run 3",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			asked, err := opt.options()
			if err != nil {
				return err
			}
			if (len(args) == 1) == (again != 0) || again == 0 && name == "" {
				return shell.Usage(errors.New("name a file and, with --sequence, the sequence; or an earlier run with --from-run"))
			}
			req := api.NewRun{AgainOf: again, Sequence: name, Options: asked}
			ctx, calls := c.Context(), a.Client()
			if again == 0 {
				if shell.LooksLikeFile(name) {
					text, err := os.ReadFile(name)
					if err != nil {
						return shell.Exit(shell.ExitBad, fmt.Sprintf("the sequence %s cannot be read: %v", name,
							errors.Unwrap(err)))
					}
					kept, err := calls.KeepSequence(ctx, text)
					if err != nil {
						return err
					}
					req.Sequence = kept.Name
				}
				doc, err := a.send(ctx, calls, args[0])
				if err != nil {
					return err
				}
				req.Document = doc.SHA
			}
			r, err := calls.StartRun(ctx, req)
			if err != nil {
				return err
			}
			return a.followRun(ctx, calls, r.ID)
		},
	}
	run.Flags().StringVarP(&name, "sequence", "s", "", "sequence: a file, or a name that the service knows")
	run.Flags().Int64Var(&again, "from-run", 0, "go on from an earlier run, with its document")
	opt.flags(run)
	keep := &cobra.Command{
		Use: "keep FILE", Short: "Keep a sequence in the service", Example: "  koinos sequence keep drop-ship.yaml",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return shell.Exit(shell.ExitBad, fmt.Sprintf("%s cannot be read: %v", args[0], errors.Unwrap(err)))
			}
			kept, err := a.Client().KeepSequence(c.Context(), text)
			if err != nil {
				return err
			}
			if done, err := a.JSON(kept); done {
				return err
			}
			fmt.Fprintf(a.Out, "Sequence %s, version %d.\n", kept.Name, kept.Version)
			return nil
		},
	}
	list := &cobra.Command{
		Use: "list", Short: "List sequences", Example: "  koinos sequence list", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.Client().Sequences(c.Context())
			if err != nil {
				return err
			}
			if done, err := a.JSON(all); done {
				return err
			}
			var rows [][]string
			for _, s := range all {
				var steps []string
				for _, step := range s.Steps {
					steps = append(steps, step.Name)
				}
				rows = append(rows, []string{s.Name, strconv.Itoa(s.Version), strings.Join(steps, ", then "), s.About})
			}
			report.Table(a.Out, []string{"sequence", ">version", "steps", "about"}, rows)
			return nil
		},
	}
	runs := &cobra.Command{
		Use: "runs", Short: "List runs of sequences, newest first", Example: "  koinos sequence runs",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			page, err := a.Client().Runs(c.Context(), url.Values{})
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			var rows [][]string
			for _, r := range page.Items {
				rows = append(rows, []string{strconv.FormatInt(r.ID, 10), shell.Local(r.StartedAt), r.DocumentName,
					fmt.Sprintf("%s v%d", r.Sequence, r.Version), string(r.Status)})
			}
			report.Table(a.Out, []string{">run", "started", "document", "sequence", "status"}, rows)
			return nil
		},
	}
	show := &cobra.Command{
		Use: "show RUN", Short: "Show a run and the loads of its steps", Example: "  koinos sequence show 1",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return shell.Usage(fmt.Errorf("%q is not the number of a run; koinos sequence runs shows them", args[0]))
			}
			r, err := a.Client().Run(c.Context(), id)
			if err != nil {
				return err
			}
			return shell.IgnoreRefused(a.showRun(&r))
		},
	}
	c.AddCommand(run, keep, list, runs, show)
	c.AddCommand(a.Names("sequence", "drop-ship")...)
	return c
}

// followRun waits for a run's end and shows it.
func (a *app) followRun(ctx context.Context, calls *client.Client, id int64) error {
	bar := a.Bar("running")
	for {
		r, err := calls.Run(ctx, id)
		if err != nil {
			return fmt.Errorf("run %d: %w; it goes on in the service: koinos sequence show %d", id, err, id)
		}
		if r.Status != outcome.Running {
			bar.Done()
			return a.showRun(&r)
		}
		if n := len(r.Loads); n > 0 {
			l := r.Loads[n-1]
			if l.Status == outcome.Paused {
				bar.Done()
				return shell.Exit(shell.ExitStopped, fmt.Sprintf("the step %s is paused: %s; koinos load resume %d goes on",
					l.Step, l.Reason, l.ID))
			}
			bar.Show(l.Share, fmt.Sprintf("step %s: %s", l.Step, report.Plural(l.Orders, "order")))
		}
		select {
		case <-ctx.Done():
			bar.Done()
			return shell.Exit(shell.ExitStopped, fmt.Sprintf("run %d goes on in the service", id))
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func (a *app) showRun(r *outcome.Run) error {
	if done, err := a.JSON(r); done {
		return errors.Join(err, runExit(r))
	}
	fmt.Fprintf(a.Out, "Run %d: %s through sequence %s (version %d), %s\n\n", r.ID, r.DocumentName, r.Sequence,
		r.Version, r.Status)
	var rows [][]string
	for _, l := range r.Loads {
		rows = append(rows, []string{l.Step, strconv.FormatInt(l.ID, 10), l.Mapping, string(l.Status), shell.Num(l.Orders),
			shell.Num(l.Loaded + l.Ready), shell.Num(l.Changed + l.Differs), shell.Num(l.Unchanged), shell.Num(l.Refused),
			shell.Num(l.Held + l.Withheld)})
	}
	report.Table(a.Out, []string{"step", ">load", "mapping", "status", ">orders", ">good", ">changed", ">unchanged",
		">refused", ">held"}, rows)
	if runFailing(r) {
		fmt.Fprintf(a.Out, "\nWhat failed: koinos load show LOAD. When it is fixed: koinos sequence run --from-run %d\n",
			r.ID)
	}
	if len(r.Loads) > 0 {
		fmt.Fprintf(a.Out, "\nEvery row with the answers of every step: koinos load report %d --format marked "+
			"--to marked%s\n", r.Loads[len(r.Loads)-1].ID, shell.CopyEnding(r.DocumentName))
	}
	return runExit(r)
}

// runFailing reports whether an order of a step did not go in.
func runFailing(r *outcome.Run) bool {
	return slices.ContainsFunc(r.Loads, func(l outcome.Load) bool { return l.Failing() > 0 })
}

// runExit returns the exit code of a run, the same for people and programs.
func runExit(r *outcome.Run) error {
	switch {
	case r.Status == outcome.Done && runFailing(r):
		return shell.Exit(shell.ExitRefused, "")
	case r.Status == outcome.Failed:
		return shell.Exit(shell.ExitBad, "")
	case r.Status == outcome.Cancelled:
		return shell.Exit(shell.ExitStopped, "")
	}
	return nil
}
