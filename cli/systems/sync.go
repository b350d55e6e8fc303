package systems

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/report"
	"koinos/core/syncing"
)

// syncs are the commands for standing instructions.
func (a *app) syncs() *cobra.Command {
	c := &cobra.Command{Use: "sync", Short: "Keep orders equal between systems"}
	c.AddCommand(a.checkSync(), a.keepSync(), a.listSyncs(), a.showSync(), a.runSync(), a.waitSync(), a.pauseSync(true),
		a.pauseSync(false), a.compareSync(api.CheckDryRun), a.compareSync(api.CheckReconcile), a.compareSync(api.CheckLink),
		a.listTasks(), a.listPushed())
	return c
}

func (a *app) checkSync() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE…", Short: "Check syncs without a service", Args: cobra.MinimumNArgs(1),
		Example: "  koinos sync check syncs/*.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			return a.CheckEach(args, func(text []byte) (string, error) {
				y, err := syncing.Parse(text)
				if err != nil {
					return "", err
				}
				when := map[bool]string{true: "when it is asked", false: "by itself"}[y.Asked]
				return fmt.Sprintf("%s works %s, with %s.", y.Name, when, strings.Join(y.Names(), ", ")), nil
			})
		},
	}
}

func (a *app) keepSync() *cobra.Command {
	return &cobra.Command{
		Use: "keep FILE…", Short: "Send syncs to the service", Args: cobra.MinimumNArgs(1),
		Long: `Keep sends syncs to the service. The systems, mappings and kinds of record that
they name must be kept already. A changed text makes a new version, which holds
for everything that is done from then on.`,
		Example: "  koinos sync keep syncs/slipway-ledgerline.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			return a.keepEach(args, func(text []byte) error { _, err := syncing.Parse(text); return err },
				func(text []byte) (any, string, error) {
					kept, err := a.Client().KeepSync(c.Context(), text)
					when := map[bool]string{true: "It works when it is asked: koinos sync run " + kept.Name,
						false: "It works by itself."}[kept.Asked]
					return kept, fmt.Sprintf("%s version %d. %s", kept.Name, kept.Version, when), err
				})
		},
	}
}

func (a *app) listSyncs() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List syncs and their state", Args: cobra.NoArgs, Example: "  koinos sync list",
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.Client().Syncs(c.Context())
			if err != nil {
				return err
			}
			if done, err := a.JSON(all); done {
				return err
			}
			if len(all) == 0 {
				fmt.Fprintln(a.Out, "There is no sync yet; koinos sync keep FILE sends one.")
				return nil
			}
			var rows [][]string
			for i := range all {
				y := &all[i]
				n := y.State.Counts
				rows = append(rows, []string{y.Name, shell.Num(y.Version), syncState(y), shell.Num(n.Created), shell.Num(n.Changed), shell.Num(n.Waiting),
					shell.Num(n.Held), y.About})
			}
			report.Table(a.Out, []string{"sync", ">version", "state", ">created", ">changed", ">waiting", ">held", "about"},
				rows)
			fmt.Fprintln(a.Out, "Created and changed are those of the last day.")
			return nil
		},
	}
}

// stateOf is the state of a sync, in a word or two.
func syncState(y *api.Sync) string {
	switch {
	case y.State.State == api.SyncPaused:
		return "paused"
	case len(y.State.Away) > 0:
		return strings.Join(y.State.Away, ", ") + " away"
	case y.State.Unanswered > 0:
		return report.Plural(y.State.Unanswered, "file") + " not answered"
	case y.State.Run != nil:
		return "running"
	case !y.State.Settled:
		return "at work"
	case y.Asked:
		return "idle, works when asked"
	}
	return "idle"
}

func (a *app) showSync() *cobra.Command {
	var text bool
	c := &cobra.Command{
		Use: "show NAME", Short: "Show the state of a sync, part by part", Args: cobra.ExactArgs(1),
		Example: "  koinos sync show slipway-ledgerline\n  koinos sync show slipway-ledgerline --text",
		RunE: func(c *cobra.Command, args []string) error {
			y, err := a.Client().Sync(c.Context(), args[0])
			if err != nil {
				return err
			}
			if done, err := a.JSON(y); done {
				return err
			}
			if text {
				_, err = fmt.Fprint(a.Out, y.Text)
				return err
			}
			a.printSync(&y)
			return nil
		},
	}
	c.Flags().BoolVar(&text, "text", false, "print its YAML instead")
	return c
}

func (a *app) printSync(y *api.Sync) {
	fmt.Fprintf(a.Out, "%s version %d: %s\n", y.Name, y.Version, syncState(y))
	if y.About != "" {
		fmt.Fprintln(a.Out, y.About)
	}
	if y.State.Reason != "" {
		fmt.Fprintln(a.Out, y.State.Reason)
	}
	var rows [][]string
	for _, p := range y.Pulls {
		often := "when asked"
		if p.Every != "" {
			often = "every " + p.Every
		}
		last := ""
		if !p.LastAt.IsZero() {
			last = "last " + shell.Local(p.LastAt)
		}
		rows = append(rows, []string{"read", p.Name, often, last, awayText(&p)})
	}
	for _, p := range y.Pushes {
		rows = append(rows, []string{"write", p.Name, p.Which, shell.CountsText(p.Counts), awayText(&p)})
	}
	report.Table(a.Out, []string{"", "record", "when", "", "trouble"}, rows)
	a.HeldHint(y.State.Counts.Held, y.Name)
	if n := y.State.Unanswered; n > 0 {
		fmt.Fprintf(a.Out, "%s not answered: koinos sync queue %s --state unanswered lists them.\n", report.Plural(n, "file"),
			y.Name)
	}
}

func awayText(p *api.SyncPart) string {
	switch {
	case p.Away == "" && p.Unanswered > 0:
		return fmt.Sprintf("%s not answered, the oldest of %s", report.Plural(p.Unanswered, "file"), shell.Local(p.UnansweredSince))
	case p.Away == "":
		return p.Why
	}
	return "since " + shell.Local(p.Since) + ": " + p.Away
}

func (a *app) runSync() *cobra.Command {
	var n api.NewSyncRun
	var w shell.Waiting
	var noWait bool
	c := &cobra.Command{
		Use: "run NAME", Short: "Run a sync, and wait until everything is done or held", Args: cobra.ExactArgs(1),
		Long: `Run reads what is new, writes what follows, and stays until everything that came
of it is done or held. The run goes on in the service when this command is
stopped. It ends with 0 when all is done, 3 when something is held or refused,
5 when a system is away.`,
		Example: "  koinos sync run slipway-ledgerline\n  koinos sync run slipway-ledgerline --only ledgerline.sales_order --timeout 5m",
		RunE: func(c *cobra.Command, args []string) error {
			began := time.Now()
			r, err := a.Client().RunSync(c.Context(), args[0], n)
			if err == nil && !noWait {
				progress := a.progressLine()
				r, err = a.Client().UntilRun(c.Context(), r.ID, func(r api.SyncRun) bool {
					progress(shell.CountsText(r.Counts))
					return !w.Enough(r.Away, r.AwayFor, began)
				})
				progress("")
			}
			if err != nil {
				return err
			}
			return a.ran(&r, noWait)
		},
	}
	c.Flags().StringSliceVar(&n.Only, "only", nil, "only these pulls and pushes, by name")
	c.Flags().BoolVar(&noWait, "no-wait", false, "do not wait for its end")
	w.Flags(c)
	return c
}

// progressLine shows words in one line of a terminal; elsewhere it shows nothing.
func (a *app) progressLine() func(string) {
	if !a.Watched() {
		return func(string) {}
	}
	return func(words string) { fmt.Fprintf(a.Err, "\r\x1b[K%s", words) }
}

// ran reports the result of a run.
func (a *app) ran(r *api.SyncRun, noWait bool) error {
	done, err := a.JSON(r)
	if err != nil {
		return err
	}
	if !done {
		a.PrintRun(r)
	}
	refused, failed := 0, false
	for i := range r.Pulls {
		refused += r.Pulls[i].Failed + r.Pulls[i].Short + r.Pulls[i].Refused
		failed = failed || r.Pulls[i].State == api.PullFailed
	}
	switch {
	case noWait && r.State == api.SyncRunning:
		return nil
	case len(r.Away) > 0:
		return shell.Exit(shell.ExitAway, "")
	case failed:
		return shell.Exit(shell.ExitFailed, "")
	case r.State != api.SyncDone:
		return shell.Exit(shell.ExitStopped, "")
	case r.Counts.Held+refused > 0:
		return shell.Exit(shell.ExitRefused, "")
	}
	return nil
}

func (a *app) waitSync() *cobra.Command {
	var w shell.Waiting
	c := &cobra.Command{
		Use: "wait NAME", Short: "Wait until everything that came to a sync is done or held", Args: cobra.ExactArgs(1),
		Example: "  koinos sync wait slipway-ledgerline --timeout 30s",
		RunE: func(c *cobra.Command, args []string) error {
			began := time.Now()
			y, err := a.Client().UntilSettled(c.Context(), args[0], func(y api.Sync) bool {
				return !w.Enough(y.State.Away, y.State.AwayFor, began)
			})
			if err != nil {
				return err
			}
			done, err := a.JSON(y)
			if err != nil {
				return err
			}
			if !done {
				a.printSync(&y)
			}
			switch {
			case y.State.Settled && y.State.Counts.Held > 0:
				return shell.Exit(shell.ExitRefused, "")
			case y.State.Settled:
				return nil
			case len(y.State.Away) > 0:
				return shell.Exit(shell.ExitAway, "")
			}
			return shell.Exit(shell.ExitStopped, "")
		},
	}
	w.Flags(c)
	return c
}

func (a *app) pauseSync(pause bool) *cobra.Command {
	verb := map[bool]string{true: "pause", false: "resume"}[pause]
	about := map[bool]string{true: "Pause a sync: what happens meanwhile waits", false: "Let a sync go on"}[pause]
	return &cobra.Command{
		Use: verb + " NAME", Short: about, Args: cobra.ExactArgs(1), Example: "  koinos sync " + verb + " slipway-ledgerline",
		RunE: func(c *cobra.Command, args []string) error {
			y, err := a.Client().PauseSync(c.Context(), args[0], pause)
			if err != nil {
				return err
			}
			if done, err := a.JSON(y); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s: %s\n", y.Name, syncState(&y))
			return nil
		},
	}
}

func (a *app) listTasks() *cobra.Command {
	var state string
	c := &cobra.Command{
		Use: "queue NAME", Short: "List the orders of a sync that wait", Args: cobra.ExactArgs(1),
		Example: "  koinos sync queue slipway-ledgerline",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"limit": {"200"}}
			if state != "" {
				q.Set("state", state)
			}
			page, err := a.Client().Tasks(c.Context(), args[0], q)
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			if len(page.Items) == 0 {
				fmt.Fprintln(a.Out, "Nothing waits.")
				return nil
			}
			var rows [][]string
			for _, k := range page.Items {
				due := ""
				if !k.DueAt.IsZero() {
					due = shell.Local(k.DueAt)
				}
				rows = append(rows, []string{k.Order, k.Push, k.State, shell.Local(k.MadeAt), due, shell.Num(k.Attempts), k.Why})
			}
			report.Table(a.Out, []string{"order", "push", "state", "since", "due", ">attempts", "why"}, rows)
			a.MoreRows(page.Next)
			return nil
		},
	}
	c.Flags().StringVar(&state, "state", "",
		"only waiting, after, held or aside; unanswered lists files that nobody has answered")
	return c
}

func (a *app) listPushed() *cobra.Command {
	var sync string
	var all bool
	c := &cobra.Command{
		Use: "history [ORDER]", Short: "List what was written into systems, with what stood there before",
		Args:    cobra.MaximumNArgs(1),
		Example: "  koinos sync history --sync slipway-ledgerline\n  koinos sync history SO-000123",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"limit": {"50"}}
			if sync != "" {
				q.Set("sync", sync)
			}
			if all {
				q.Set("all", "true")
			}
			if len(args) == 1 {
				q.Set("order", args[0])
			}
			page, err := a.Client().Pushed(c.Context(), q)
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			if len(page.Items) == 0 {
				fmt.Fprintln(a.Out, "Nothing was written.")
				return nil
			}
			for _, p := range page.Items {
				fmt.Fprintf(a.Out, "%s  %s  %s.%s %s: %s, by %s\n", shell.Local(p.At), p.Order, p.System, p.Record, p.Key, p.Outcome,
					p.By)
				a.Steps(p.Steps, false)
				if p.Why != "" {
					fmt.Fprintf(a.Out, "  %s\n", p.Why)
				}
			}
			a.MoreRows(page.Next)
			return nil
		},
	}
	c.Flags().StringVar(&sync, "sync", "", "only what this sync wrote")
	c.Flags().BoolVar(&all, "all", false, "also show what was right already")
	return c
}
