package systems

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/finding"
	"koinos/core/report"
	"koinos/core/system"
)

// systems are the commands for other applications.
func (a *app) systems() *cobra.Command {
	c := &cobra.Command{Use: "system", Short: "Describe other applications, try them, read records out of them"}
	c.AddCommand(a.checkSystem(), a.keepSystem(), &cobra.Command{
		Use: "list", Short: "List systems", Args: cobra.NoArgs, Example: "  koinos system list",
		RunE: func(c *cobra.Command, _ []string) error { return a.listSystems(c.Context()) },
	}, &cobra.Command{
		Use: "show NAME", Short: "Print a system's description", Args: cobra.ExactArgs(1),
		Example: "  koinos system show slipway",
		RunE: func(c *cobra.Command, args []string) error {
			y, err := a.Client().System(c.Context(), args[0])
			if err != nil {
				return err
			}
			if done, err := a.JSON(y); done {
				return err
			}
			_, err = fmt.Fprint(a.Out, y.Text)
			return err
		},
	}, a.draftSystem(), a.trySystem(), a.listCalls(), a.listHooks(), a.registerHooks(), a.listFiles(), a.pullSystem(),
		a.listPulls(),
		a.listArrivals(),
		a.pushSystem())
	return c
}

func (a *app) checkSystem() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE…", Short: "Check descriptions without a service", Args: cobra.MinimumNArgs(1),
		Example: "  koinos system check systems/*.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			return a.CheckEach(args, func(text []byte) (string, error) {
				y, err := system.Parse(text)
				if err != nil {
					return "", err
				}
				at := "at " + y.Address
				if y.Folder != "" {
					at = "in " + y.Folder
				}
				return fmt.Sprintf("%s %s, with %s.", y.Name, at, strings.Join(y.RecordNames(), ", ")), nil
			})
		},
	}
}

func (a *app) keepSystem() *cobra.Command {
	return &cobra.Command{
		Use: "keep FILE…", Short: "Send descriptions to the service", Args: cobra.MinimumNArgs(1),
		Example: "  koinos system keep systems/slipway.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			return a.keepEach(args, func(text []byte) error { _, err := system.Parse(text); return err },
				func(text []byte) (any, string, error) {
					kept, err := a.Client().KeepSystem(c.Context(), text)
					return kept, fmt.Sprintf("%s version %d, with %s.", kept.Name, kept.Version,
						strings.Join(kept.Records, ", ")), err
				})
		},
	}
}

// keepEach sends files without mistakes to the service: check finds mistakes, keep sends a file and says in a sentence
// what is stored.
func (a *app) keepEach(names []string, check func([]byte) error, keep func([]byte) (any, string, error)) error {
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			return shell.Unreadable(name, err)
		}
		if err := check(text); err != nil {
			a.Mistakes(name, finding.Of(err))
			return shell.Exit(shell.ExitBad, "")
		}
		kept, says, err := keep(text)
		if err != nil {
			return err
		}
		if done, err := a.JSON(kept); done {
			if err != nil {
				return err
			}
			continue
		}
		fmt.Fprintln(a.Out, says)
	}
	return nil
}

func (a *app) listSystems(ctx context.Context) error {
	all, err := a.Client().Systems(ctx)
	if err != nil {
		return err
	}
	if done, err := a.JSON(all); done {
		return err
	}
	var rows [][]string
	for _, y := range all {
		answers := y.State.Answers
		if !y.State.AwaySince.IsZero() {
			answers = "not since " + shell.Local(y.State.AwaySince)
		}
		rows = append(rows, []string{y.Name, shell.Num(y.Version), answers, strings.Join(y.Records, ", "), y.About})
	}
	report.Table(a.Out, []string{"name", ">version", "answers", "records", "about"}, rows)
	return nil
}

func (a *app) listCalls() *cobra.Command {
	return &cobra.Command{
		Use: "calls NAME", Short: "List the last calls of a system, newest first", Args: cobra.ExactArgs(1),
		Example: "  koinos system calls slipway",
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.Client().SystemCalls(c.Context(), args[0])
			if err != nil {
				return err
			}
			if done, err := a.JSON(all); done {
				return err
			}
			var rows [][]string
			for _, v := range all {
				status := shell.Num(v.Status)
				if v.Status == 0 {
					status = "none"
				}
				rows = append(rows, []string{shell.Local(v.At), v.Method, v.URL, status, shell.Num(v.Bytes),
					strconv.FormatFloat(v.Millis, 'f', 1, 64), v.Why})
			}
			report.Table(a.Out, []string{"at", "call", "address", ">status", ">bytes", ">ms", "trouble"}, rows)
			return nil
		},
	}
}

func (a *app) listHooks() *cobra.Command {
	return &cobra.Command{
		Use: "hooks NAME", Short: "List the webhooks of a system, newest first", Args: cobra.ExactArgs(1),
		Example: "  koinos system hooks slipway",
		RunE: func(c *cobra.Command, args []string) error {
			page, err := a.Client().SystemHooks(c.Context(), args[0], url.Values{"limit": {"50"}})
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			var rows [][]string
			for _, h := range page.Items {
				rows = append(rows, []string{shell.Num64(h.ID), shell.Local(h.At), h.Event, h.State, shell.Num64(h.Pull), h.HookID})
			}
			report.Table(a.Out, []string{">webhook", "came", "event", "state", ">pull", "its id"}, rows)
			a.MoreRows(page.Next)
			return nil
		},
	}
}

func (a *app) registerHooks() *cobra.Command {
	return &cobra.Command{
		Use: "register NAME", Short: "Register our address for a system's webhooks", Args: cobra.ExactArgs(1),
		Long: `Register makes the address /hooks/NAME of the service known to a system, as its
description says. One that is registered already is not registered again. The
service's own address is what koinos serve --outside says.`,
		Example: "  koinos system register slipway",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.Client().RegisterHooks(c.Context(), args[0])
			if err != nil {
				return err
			}
			if done, err := a.JSON(r); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s %s %s.\n", args[0], map[bool]string{true: "knew already that it sends webhooks to",
				false: "sends its webhooks to"}[r.There], r.URL)
			return nil
		},
	}
}

func (a *app) listFiles() *cobra.Command {
	return &cobra.Command{
		Use: "files NAME", Short: "List the files that came into a system's folders, newest first",
		Args:    cobra.ExactArgs(1),
		Example: "  koinos system files east-yard",
		RunE: func(c *cobra.Command, args []string) error {
			page, err := a.Client().SystemFiles(c.Context(), args[0], url.Values{"limit": {"50"}})
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			var rows [][]string
			for _, f := range page.Items {
				rows = append(rows, []string{shell.Local(f.At), f.Record, f.Name, f.FileID, f.State, shell.Num(f.Records), f.Answer,
					shell.Num64(f.Pull), f.Reason})
			}
			report.Table(a.Out, []string{"came", "record", "file", "its id", "state", ">records", "answered by",
				">pull",
				"reason"}, rows)
			a.MoreRows(page.Next)
			return nil
		},
	}
}

func (a *app) pullSystem() *cobra.Command {
	var n api.NewPull
	var dry, noWait bool
	c := &cobra.Command{
		Use: "pull NAME RECORD", Short: "Load what is new in a system",
		Long: `Pull reads the records that are new since the last pull, keeps each as an arrival,
and gives them to the mapping: records that are known as they are bring nothing.
It goes on in the service when this command is stopped.`,
		Example: "  koinos system pull slipway order --mapping slipway-orders\n  koinos system pull slipway order " +
			"--since 2026-03-01 --dry-run",
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			n.Record = args[1]
			if dry {
				t, err := a.Client().TryPull(c.Context(), args[0], n)
				if err != nil {
					return err
				}
				return a.dryPulled(&t)
			}
			p, err := a.Client().StartPull(c.Context(), args[0], n)
			if err == nil && !noWait {
				p, err = a.Client().UntilPulled(c.Context(), p.ID)
			}
			if err != nil {
				return err
			}
			return a.pulled(&p)
		},
	}
	c.Flags().StringVarP(&n.Mapping, "mapping", "m", "",
		"the mapping that makes orders of the records; by default the description's")
	c.Flags().StringVar(&n.Since, "since", "",
		"a stamp as the system writes it, or a day; by default from where the last pull ended")
	c.Flags().BoolVar(&n.All, "all", false, "everything, whenever it changed")
	c.Flags().StringVar(&n.Key, "key", "", "only the record of this key, known or not")
	c.Flags().StringSliceVar(&n.Also, "also", nil,
		"mappings through which the same records go besides, such as one for shipments within them")
	c.Flags().BoolVarP(&dry, "dry-run", "n", false, "say what would come, store nothing")
	c.Flags().BoolVar(&noWait, "no-wait", false, "do not wait for its end")
	return c
}

// pulled shows a pull.
func (a *app) pulled(p *api.Pull) error {
	done, err := a.JSON(p)
	if err != nil {
		return err
	}
	if !done {
		a.printPull(p)
	}
	switch {
	case p.State == api.PullAway:
		return shell.Exit(shell.ExitAway, "")
	case p.State == api.PullFailed:
		return shell.Exit(shell.ExitFailed, "")
	case p.Failed+p.Short+p.Waiting+p.Refused > 0:
		return shell.Exit(shell.ExitRefused, "")
	}
	return nil
}

func (a *app) printPull(p *api.Pull) {
	fmt.Fprintf(a.Out, "Pull %d: %s %s through mapping %s, %s\n", p.ID, p.System, p.Record, p.Mapping, p.State)
	if p.Reason != "" {
		fmt.Fprintf(a.Out, "  %s\n", p.Reason)
	}
	since := ""
	if p.Since != "" {
		since = ", changed since " + p.Since
	}
	on := "on " + report.Plural(p.Pages, "page")
	if p.Folder {
		on = "in " + report.Plural(p.Pages, "file")
	}
	fmt.Fprintf(a.Out, "  %s %s%s\n", report.Plural(p.Records, "record"), on, since)
	for _, part := range []struct {
		n     int
		words string
	}{{p.Waiting, "of the files not complete yet: read again by the next pull"},
		{p.Refused, "of the files refused: koinos system files " + p.System},
		{p.Unchanged, "known already, as they are"}, {p.Passed, "passed over"}, {p.Gone, "withdrawn there"},
		{p.Short, "not complete (fewer lines than they say, or no number): read again by the next pull"},
		{p.Loaded, "loaded"},
		{p.Changed, "changed"},
		{p.Failed, "refused or held: koinos load show LOAD"}} {
		if part.n > 0 {
			fmt.Fprintf(a.Out, "%9d %s\n", part.n, part.words)
		}
	}
	if len(p.Loads) > 0 {
		var ids []string
		for _, id := range p.Loads {
			ids = append(ids, strconv.FormatInt(id, 10))
		}
		fmt.Fprintf(a.Out, "  loads %s\n", strings.Join(ids, ", "))
	}
}

// dryPulled shows what a pull would bring.
func (a *app) dryPulled(t *api.PullTried) error {
	done, err := a.JSON(t)
	if err != nil {
		return err
	}
	if !done {
		p := &t.Pull
		on := "on " + report.Plural(p.Pages, "page")
		if p.Folder {
			on = "in " + report.Plural(p.Pages, "file")
		}
		fmt.Fprintf(a.Out, "%s %s: %s %s, of which %d are known already, %d passed over, %d withdrawn, %d not complete\n",
			p.System, p.Record, report.Plural(p.Records, "record"), on, p.Unchanged, p.Passed, p.Gone, p.Short)
		if p.Reason != "" {
			fmt.Fprintln(a.Out, p.Reason)
		}
		if t.More {
			fmt.Fprintln(a.Out, "There are more; these are the first.")
		}
		if t.Load.Orders == 0 && t.Load.Failing() == 0 {
			fmt.Fprintln(a.Out, "There is nothing to map. Nothing was stored.")
			return nil
		}
		report.Text(a.Out, &t.Load, t.Reasons, a.Style())
		fmt.Fprintln(a.Out, "\nNothing was stored.")
	}
	if t.Load.Failing() > 0 {
		return shell.Exit(shell.ExitRefused, "")
	}
	return nil
}

func (a *app) listPulls() *cobra.Command {
	return &cobra.Command{
		Use: "pulls [NAME]", Short: "List pulls, newest first", Args: cobra.MaximumNArgs(1),
		Example: "  koinos system pulls slipway",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"limit": {"20"}}
			if len(args) == 1 {
				q.Set("system", args[0])
			}
			page, err := a.Client().Pulls(c.Context(), q)
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			var rows [][]string
			for _, p := range page.Items {
				rows = append(rows, []string{strconv.FormatInt(p.ID, 10), shell.Local(p.StartedAt), p.System, p.Record,
					p.State, shell.Num(p.Records),
					shell.Num(p.Unchanged), shell.Num(p.Loaded), shell.Num(p.Changed), shell.Num(p.Failed), p.Newest})
			}
			report.Table(a.Out, []string{">pull", "started", "system", "record", "state", ">records", ">known",
				">loaded", ">changed",
				">failed", "newest"}, rows)
			return nil
		},
	}
}

func (a *app) listArrivals() *cobra.Command {
	var q = url.Values{}
	var record, key string
	var pull, content int64
	c := &cobra.Command{
		Use: "arrivals [NAME]", Short: "List what came from systems, or print one as it came",
		Args:    cobra.MaximumNArgs(1),
		Example: "  koinos system arrivals slipway --key SL-1002\n  koinos system arrivals --content 7",
		RunE: func(c *cobra.Command, args []string) error {
			if content != 0 {
				if err := a.Client().ArrivalContent(c.Context(), content, a.Out); err != nil {
					return err
				}
				_, err := fmt.Fprintln(a.Out)
				return err
			}
			q.Set("limit", "50")
			for name, value := range map[string]string{"record": record, "key": key} {
				if value != "" {
					q.Set(name, value)
				}
			}
			if len(args) == 1 {
				q.Set("system", args[0])
			}
			if pull != 0 {
				q.Set("pull", strconv.FormatInt(pull, 10))
			}
			page, err := a.Client().Arrivals(c.Context(), q)
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			var rows [][]string
			for _, v := range page.Items {
				rows = append(rows, []string{strconv.FormatInt(v.ID, 10), shell.Local(v.At), v.System, v.Record, v.Key,
					v.Number, v.Stamp, v.State,
					strconv.FormatInt(v.Pull, 10), v.Place})
			}
			report.Table(a.Out, []string{">arrival", "came", "system", "record", "key", "number", "stamp", "state",
				">pull", "place"}, rows)
			a.MoreRows(page.Next)
			return nil
		},
	}
	c.Flags().StringVar(&record, "record", "", "only of this kind")
	c.Flags().StringVar(&key, "key", "", "only of this key or number")
	c.Flags().Int64Var(&pull, "pull", 0, "only of this pull")
	c.Flags().Int64Var(&content, "content", 0, "print the arrival of this number, byte for byte")
	return c
}
