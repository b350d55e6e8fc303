package orders

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/finding"
	"koinos/core/report"
)

// held lists what waits for a person, and tries it again.
func (a *app) held() *cobra.Command {
	c := &cobra.Command{Use: "held", Short: "List held work, retry it, put it aside"}
	c.AddCommand(a.listHeld(), a.heldReasons(), a.showHeld(), a.retryHeld(), a.decideHeld(), a.putAside())
	return c
}

// heldFlags choose what is held.
func heldFlags(c *cobra.Command, f *api.HeldFor) {
	c.Flags().StringVar(&f.Kind, "kind", "", "only order, set, notice, push, interchange or answer")
	c.Flags().StringVar(&f.Partner, "partner", "", "only what concerns this partner")
	c.Flags().StringVar(&f.Sync, "sync", "", "only what this sync holds")
	c.Flags().StringVar(&f.System, "system", "", "only what is for this system")
	c.Flags().StringVar(&f.Code, "code", "", "only what is held for this reason, by its code")
	c.Flags().StringVar(&f.Reason, "reason", "", "only what has this in its reason")
}

// ids reads the numbers of things that are held.
func ids(args []string) (all []int64, err error) {
	for _, arg := range args {
		id, err := strconv.ParseInt(arg, 10, 64)
		if err != nil {
			return nil, shell.Usage(fmt.Errorf("%q is not the number of something held; koinos held list shows them", arg))
		}
		all = append(all, id)
	}
	return all, nil
}

func (a *app) listHeld() *cobra.Command {
	var f api.HeldFor
	c := &cobra.Command{
		Use: "list", Short: "List what is held, the oldest first", Args: cobra.NoArgs,
		Example: "  koinos held list\n  koinos held list --partner PELLOW\n  koinos held list --sync slipway-ledgerline",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {"200"}}
			for name, value := range map[string]string{"kind": f.Kind, "partner": f.Partner, "sync": f.Sync,
				"system": f.System, "code": f.Code, "reason": f.Reason} {
				if value != "" {
					q.Set(name, value)
				}
			}
			if f.Aside {
				q.Set("put_aside", "true")
			}
			page, err := a.Client().Held(c.Context(), q)
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			if len(page.Items) == 0 {
				fmt.Fprintln(a.Out, "Nothing is held.")
				return nil
			}
			var rows [][]string
			for _, h := range page.Items {
				rows = append(rows, []string{shell.Num(int(h.ID)), h.Kind, h.Partner, h.Number, heldWhere(&h), shell.Local(h.Since),
					cmp.Or(h.Aside, h.Reason)})
			}
			report.Table(a.Out, []string{">held", "kind", "partner", "order", "where", "since", "why"}, rows)
			if page.Next != "" {
				fmt.Fprintln(a.Out, "There is more; --output json gives the cursor.")
			}
			return nil
		},
	}
	heldFlags(c, &f)
	c.Flags().BoolVar(&f.Aside, "put-aside", false, "what was put aside, instead of what waits")
	return c
}

func (a *app) heldReasons() *cobra.Command {
	return &cobra.Command{
		Use: "reasons", Short: "Count what is held by reason", Args: cobra.NoArgs, Example: "  koinos held reasons",
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.Client().HeldReasons(c.Context())
			if err != nil {
				return err
			}
			if done, err := a.JSON(all); done {
				return err
			}
			if len(all) == 0 {
				fmt.Fprintln(a.Out, "Nothing is held.")
				return nil
			}
			var rows [][]string
			for _, r := range all {
				rows = append(rows, []string{shell.Num(r.Count), r.Kind, cmp.Or(r.Sync, r.System), shell.Local(r.Since), r.Code,
					r.Reason})
			}
			report.Table(a.Out, []string{">held", "kind", "sync", "since", "code", "why"}, rows)
			return nil
		},
	}
}

// heldWhere says where something is held.
func heldWhere(h *api.HeldWork) string {
	switch {
	case h.Kind == api.HeldPush:
		return h.Sync + " → " + h.System
	case h.Kind == api.HeldAnswer:
		return "order " + h.Number
	case h.Kind == api.HeldInterchange:
		return fmt.Sprintf("interchange %d", h.Interchange)
	case h.Interchange != 0:
		return fmt.Sprintf("interchange %d set %d", h.Interchange, h.Set)
	}
	return fmt.Sprintf("load %d order %d", h.Load, h.Seq)
}

func (a *app) showHeld() *cobra.Command {
	return &cobra.Command{
		Use: "show HELD", Short: "Show why something is held, and what was tried", Args: cobra.ExactArgs(1),
		Example: "  koinos held show 3",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := ids(args)
			if err != nil {
				return err
			}
			h, err := a.Client().HeldOne(c.Context(), id[0])
			if err != nil {
				return err
			}
			if done, err := a.JSON(h); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s %s of %s is held since %s, at %s.\n%s (%s)\n", finding.Capital(h.Kind), h.Number,
				h.Partner,
				shell.Local(h.Since), heldWhere(&h.HeldWork), h.Reason, h.Code)
			if h.Aside != "" {
				fmt.Fprintf(a.Out, "It was put aside: %s\n", h.Aside)
			}
			var rows [][]string
			for i := range h.Clashes {
				k := &h.Clashes[i]
				rows = append(rows, []string{k.Name(), k.Agreed, k.Here, k.There})
			}
			if len(rows) > 0 {
				report.Table(a.Out, []string{"value", "agreed last", "here", "in " + h.System}, rows)
				fmt.Fprintf(a.Out, "Decide: koinos held decide %d --take here, or there, or --field %q\n", h.ID,
					h.Clashes[0].Name()+"=there")
			}
			for _, p := range h.Tried {
				fmt.Fprintf(a.Out, "%s  %s.%s: %s, by %s\n", shell.Local(p.At), p.System, p.Record, p.Outcome, p.By)
				a.Steps(p.Steps, false)
			}
			fmt.Fprintf(a.Out, "When its cause is fixed: koinos held retry %d\n", h.ID)
			return nil
		},
	}
}

func (a *app) retryHeld() *cobra.Command {
	var f api.HeldFor
	var all, noWait bool
	var w shell.Waiting
	c := &cobra.Command{
		Use: "retry [HELD…]", Short: "Retry held work after its cause was fixed",
		Long: `Retry takes numbers of what is held, a filter, or --all, tries it once more with
the newest mappings, lists, descriptions and syncs, and waits for what comes of
it. It ends with 3 when something is still held.`,
		Example: "  koinos held retry 3\n  koinos held retry --sync slipway-ledgerline\n  koinos held retry --all",
		RunE: func(c *cobra.Command, args []string) error {
			var err error
			if f.IDs, err = ids(args); err != nil {
				return err
			}
			if chosen := f; !all && len(f.IDs) == 0 && chosen.Kind+chosen.Partner+chosen.Sync+chosen.System+chosen.Code+
				chosen.Reason == "" {
				return shell.Usage(fmt.Errorf("say what: numbers of what is held, a filter such as --sync, or --all"))
			}
			calls := a.Client()
			out, err := calls.RetryHeldMany(c.Context(), f)
			if err != nil {
				return err
			}
			if out.Count == 0 && len(f.IDs) > 0 {
				return shell.Exit(shell.ExitFailed, "Nothing of that is held any more.")
			}
			return a.retried(c.Context(), calls, &out, &w, noWait)
		},
	}
	heldFlags(c, &f)
	c.Flags().BoolVar(&all, "all", false, "everything that is held")
	c.Flags().BoolVar(&noWait, "no-wait", false, "do not wait for what comes of it")
	w.Flags(c)
	return c
}

// retried waits for the result of a retry, and reports it.
func (a *app) retried(ctx context.Context, calls *client.Client, out *api.Retried, w *shell.Waiting,
	noWait bool) error {
	if noWait {
		if done, err := a.JSON(out); done {
			return err
		}
		fmt.Fprintf(a.Out, "%s tried again.\n", report.Plural(out.Count, "thing"))
		return nil
	}
	if len(out.Loads) == 1 && len(out.Runs) == 0 {
		l, err := calls.WatchLoad(ctx, out.Load, nil)
		if err != nil {
			return err
		}
		return a.ShowLoad(ctx, calls, l.ID)
	}
	for _, id := range out.Loads {
		if _, err := calls.WatchLoad(ctx, id, nil); err != nil {
			return err
		}
	}
	began := time.Now()
	var runs []api.SyncRun
	var worst error
	for _, id := range out.Runs {
		r, err := calls.UntilRun(ctx, id, func(r api.SyncRun) bool { return !w.Enough(r.Away, r.AwayFor, began) })
		if err != nil {
			return err
		}
		runs = append(runs, r)
	}
	if done, err := a.JSON(struct {
		*api.Retried
		Ended []api.SyncRun `json:"ended_runs,omitempty"`
	}{out, runs}); done {
		if err != nil {
			return err
		}
	} else if len(out.Runs) == 0 && out.Count == 0 {
		fmt.Fprintln(a.Out, "Nothing is held that this chooses.")
	}
	for i := range runs {
		if a.Output != "json" {
			a.PrintRun(&runs[i])
		}
		switch {
		case len(runs[i].Away) > 0:
			worst = shell.Exit(shell.ExitAway, "")
		case runs[i].Counts.Held > 0 && worst == nil:
			worst = shell.Exit(shell.ExitRefused, "")
		}
	}
	if worst != nil || out.Interchange == 0 || a.Output == "json" {
		return worst
	}
	i, err := calls.Interchange(ctx, out.Interchange)
	if err != nil {
		return err
	}
	return a.Became([]api.Interchange{i})
}

func (a *app) decideHeld() *cobra.Command {
	var d api.Decision
	var w shell.Waiting
	c := &cobra.Command{
		Use: "decide HELD", Short: "Decide whose values count if both sides changed them", Args: cobra.ExactArgs(1),
		Long: `Decide settles an order of which both sides changed the same value: --take here
writes what the order says into the system, --take there takes what the system
says into the order, and --field says it of one value.`,
		Example: "  koinos held decide 3 --take there\n  koinos held decide 3 --take here --field note=there",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := ids(args)
			if err != nil {
				return err
			}
			if d.Take == "" && len(d.Fields) == 0 {
				return shell.Usage(fmt.Errorf("say whose values count: --take here or --take there, or --field VALUE=SIDE"))
			}
			calls := a.Client()
			out, err := calls.DecideHeld(c.Context(), id[0], d)
			if err != nil {
				return err
			}
			return a.retried(c.Context(), calls, &out, &w, false)
		},
	}
	c.Flags().StringVar(&d.Take, "take", "", "here or there: for all values that --field does not name")
	c.Flags().StringToStringVar(&d.Fields, "field", nil, "of one value: here or there")
	w.Flags(c)
	return c
}

func (a *app) putAside() *cobra.Command {
	var n api.PutAside
	var back bool
	c := &cobra.Command{
		Use: "put-aside [HELD…]", Short: "Put what is held aside, with a reason, or let it wait again",
		Long: `Put-aside takes numbers of what is held or a filter. What was put aside leaves the
list of what waits; an order that was put aside is tried again only when it
changes, or when somebody tries it again.`,
		Example: "  koinos held put-aside 3 --why \"A test order.\"\n  koinos held put-aside 3 --back",
		RunE: func(c *cobra.Command, args []string) error {
			var err error
			if n.IDs, err = ids(args); err != nil {
				return err
			}
			if n.Why == "" && !back {
				return shell.Usage(fmt.Errorf("say why it is put aside: --why"))
			}
			if len(n.IDs) == 0 && n.Kind+n.Partner+n.Sync+n.System+n.Code+n.Reason == "" {
				return shell.Usage(fmt.Errorf("say what: numbers of what is held, or a filter such as --sync"))
			}
			if back {
				n.Why = ""
			}
			out, err := a.Client().PutAside(c.Context(), n)
			if err != nil {
				return err
			}
			if done, err := a.JSON(out); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s %s.\n", report.Plural(out.Count, "thing"), map[bool]string{false: "put aside",
				true: "waiting again"}[back])
			return nil
		},
	}
	heldFlags(c, &n.HeldFor)
	c.Flags().StringVar(&n.Why, "why", "", "why, for those who look later")
	c.Flags().BoolVar(&back, "back", false, "let it wait again")
	return c
}
