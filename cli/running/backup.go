package running

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/backup"
	"koinos/cli/shell"
	"koinos/core/report"
)

func (a *app) backup() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use: "backup DIR", Short: "Back up a data folder, even while a service is using it", Args: cobra.ExactArgs(1),
		Long: `Backup copies the database as it is at one moment, and every document that it
names, into a folder. Give the same folder again: then only documents that came
since are copied, and the newer database takes the place of the older one. Each
document is compared with its SHA-256 on the way. Secrets of other systems that
come from the environment are not in it.`,
		Example: "  koinos backup /backup/koinos --data /srv/koinos",
		RunE: func(c *cobra.Command, args []string) error {
			m, err := backup.Make(c.Context(), data, args[0], shell.Version(), a.counting("documents"))
			if err != nil {
				return err
			}
			if done, err := a.JSON(m); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s of %s, of which %d were copied now, and the database as of %s.\n",
				report.Plural(m.Documents, "document"), shell.Size(m.Bytes), m.Copied, shell.Local(m.Made))
			return a.damaged(m, "Document %s is damaged, and not in the backup.\n")
		},
	}
	c.Flags().StringVar(&data, "data", defaultData(), "data folder; $KOINOS_DATA")
	return c
}

func (a *app) restore() *cobra.Command {
	var data string
	var skip int64
	c := &cobra.Command{
		Use: "restore DIR --data NEW", Short: "Restore a backup into a new data folder", Args: cobra.ExactArgs(1),
		Long: `Restore brings a backup back into a folder that is empty or not there yet. What
was numbered after the backup was made is not in it: order numbers, ids and the
control numbers of each trading partner go on --skip further, so that none is
used twice. Compare the numbers that it prints with the last ones that your
partners have seen; if they have seen more, give a larger --skip.`,
		Example: "  koinos restore /backup/koinos --data /srv/koinos-new\n  koinos restore /backup/koinos --data " +
			"/srv/koinos-new --skip 50000",
		RunE: func(c *cobra.Command, args []string) error {
			if skip < 0 {
				return shell.Usage(fmt.Errorf("--skip is how far numbers go on, not %d", skip))
			}
			m, numbers, err := backup.Restore(c.Context(), args[0], data, skip, a.counting("documents"))
			if err != nil {
				return err
			}
			if done, err := a.JSON(map[string]any{"backup": m, "numbers": numbers}); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s is as it was on %s, with %s.\n", data, shell.Local(m.Made),
				report.Plural(m.Documents, "document"))
			var rows [][]string
			for _, n := range numbers {
				of := n.Partner
				if of == "" {
					of = "orders"
				}
				rows = append(rows, []string{of, n.What, strconv.FormatInt(n.Last, 10), strconv.FormatInt(n.Now+1, 10)})
			}
			fmt.Fprintln(a.Out, "\nNumbers that were given, and how they go on:")
			report.Table(a.Out, []string{"of", "number", ">last in the backup", ">next"}, rows)
			return a.damaged(m, "Document %s is damaged in the backup, and was not brought back: send the same file "+
				"once more.\n")
		},
	}
	c.Flags().StringVar(&data, "data", "", "new data folder")
	c.Flags().Int64Var(&skip, "skip", 1000, "by how much every number is raised")
	if err := c.MarkFlagRequired("data"); err != nil {
		panic(err)
	}
	return c
}

// damaged names the documents that a backup does not contain.
func (a *app) damaged(m backup.Manifest, format string) error {
	if len(m.Damaged) == 0 {
		return nil
	}
	for _, sha := range m.Damaged {
		fmt.Fprintf(a.Err, format, sha[:12])
	}
	return shell.Exit(shell.ExitBad, "")
}

func (a *app) check() *cobra.Command {
	c := &cobra.Command{Use: "check", Short: "Check whether the stored data is undamaged"}
	var data string
	check := &cobra.Command{
		Use: "data", Short: "Check documents against their SHA-256, and the database", Args: cobra.NoArgs,
		Long: `Data looks whether everything that was kept is whole: the database, what its
rows refer to, the numbers that were given, and every document by its size and
SHA-256. It asks the service, which does so by itself once a day; with --data it
reads a data folder, whether a service works in it or not.`,
		Example: "  koinos check data\n  koinos check data --data /srv/koinos",
		RunE: func(c *cobra.Command, _ []string) error {
			state, err := a.checkData(c.Context(), data)
			if err != nil {
				return err
			}
			done, err := a.JSON(state)
			if err != nil {
				return err
			}
			if !done && len(state.Troubles) == 0 {
				fmt.Fprintf(a.Out, "The data is whole: the database, and %s.\n",
					report.Plural(state.Documents, "document"))
			} else if !done {
				var rows [][]string
				for _, t := range state.Troubles {
					rows = append(rows, []string{t.What, t.Document[:min(12, len(t.Document))], t.Message})
				}
				report.Table(a.Out, []string{"what", "document", "message"}, rows)
			}
			if len(state.Troubles) > 0 {
				return shell.Exit(shell.ExitBad, "")
			}
			return nil
		},
	}
	check.Flags().StringVar(&data, "data", "", "data folder to check without asking the service")
	c.AddCommand(check)
	return c
}

func (a *app) checkData(ctx context.Context, data string) (state api.DataCheck, err error) {
	tell := a.counting("documents")
	if data != "" {
		state.Troubles, err = backup.Check(ctx, data, func(done, of int) { state.Documents = of; tell(done, of) })
		return state, err
	}
	calls := a.Client()
	if state, err = calls.StartDataCheck(ctx); err != nil {
		return state, err
	}
	for state.Running {
		select {
		case <-ctx.Done():
			return state, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
		if state, err = calls.DataCheck(ctx); err != nil {
			return state, err
		}
		tell(state.Checked, state.Documents)
	}
	if state.Failed != "" {
		return state, fmt.Errorf("the check could not end: %s", state.Failed)
	}
	return state, nil
}

// counting shows how many of something are done, if a person watches.
func (a *app) counting(things string) func(done, of int) {
	bar := a.Bar(things)
	return func(done, of int) {
		if done == of {
			bar.Done()
		} else {
			bar.Show(float64(done)/float64(of), fmt.Sprintf("%d of %d", done, of))
		}
	}
}
