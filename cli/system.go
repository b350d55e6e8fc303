package cli

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
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
			y, err := a.client().System(c.Context(), args[0])
			if err != nil {
				return err
			}
			if done, err := a.json(y); done {
				return err
			}
			_, err = fmt.Fprint(a.out, y.Text)
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
			return a.checkEach(args, func(text []byte) (string, error) {
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
					kept, err := a.client().KeepSystem(c.Context(), text)
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
			return unreadable(name, err)
		}
		if err := check(text); err != nil {
			a.mistakes(name, finding.Of(err))
			return exit(exitBad, "")
		}
		kept, says, err := keep(text)
		if err != nil {
			return err
		}
		if done, err := a.json(kept); done {
			if err != nil {
				return err
			}
			continue
		}
		fmt.Fprintln(a.out, says)
	}
	return nil
}

func (a *app) listSystems(ctx context.Context) error {
	all, err := a.client().Systems(ctx)
	if err != nil {
		return err
	}
	if done, err := a.json(all); done {
		return err
	}
	var rows [][]string
	for _, y := range all {
		answers := y.State.Answers
		if !y.State.AwaySince.IsZero() {
			answers = "not since " + local(y.State.AwaySince)
		}
		rows = append(rows, []string{y.Name, num(y.Version), answers, strings.Join(y.Records, ", "), y.About})
	}
	report.Table(a.out, []string{"name", ">version", "answers", "records", "about"}, rows)
	return nil
}

func (a *app) listCalls() *cobra.Command {
	return &cobra.Command{
		Use: "calls NAME", Short: "List the last calls of a system, newest first", Args: cobra.ExactArgs(1),
		Example: "  koinos system calls slipway",
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().SystemCalls(c.Context(), args[0])
			if err != nil {
				return err
			}
			if done, err := a.json(all); done {
				return err
			}
			var rows [][]string
			for _, v := range all {
				status := num(v.Status)
				if v.Status == 0 {
					status = "none"
				}
				rows = append(rows, []string{local(v.At), v.Method, v.URL, status, num(v.Bytes),
					strconv.FormatFloat(v.Millis, 'f', 1, 64), v.Why})
			}
			report.Table(a.out, []string{"at", "call", "address", ">status", ">bytes", ">ms", "trouble"}, rows)
			return nil
		},
	}
}

func (a *app) listHooks() *cobra.Command {
	return &cobra.Command{
		Use: "hooks NAME", Short: "List the webhooks of a system, newest first", Args: cobra.ExactArgs(1),
		Example: "  koinos system hooks slipway",
		RunE: func(c *cobra.Command, args []string) error {
			page, err := a.client().SystemHooks(c.Context(), args[0], url.Values{"limit": {"50"}})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]string
			for _, h := range page.Items {
				rows = append(rows, []string{num64(h.ID), local(h.At), h.Event, h.State, num64(h.Pull), h.HookID})
			}
			report.Table(a.out, []string{">webhook", "came", "event", "state", ">pull", "its id"}, rows)
			a.moreRows(page.Next)
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
			r, err := a.client().RegisterHooks(c.Context(), args[0])
			if err != nil {
				return err
			}
			if done, err := a.json(r); done {
				return err
			}
			fmt.Fprintf(a.out, "%s %s %s.\n", args[0], map[bool]string{true: "knew already that it sends webhooks to",
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
			page, err := a.client().SystemFiles(c.Context(), args[0], url.Values{"limit": {"50"}})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]string
			for _, f := range page.Items {
				rows = append(rows, []string{local(f.At), f.Record, f.Name, f.FileID, f.State, num(f.Records), f.Answer,
					num64(f.Pull), f.Reason})
			}
			report.Table(a.out, []string{"came", "record", "file", "its id", "state", ">records", "answered by",
				">pull",
				"reason"}, rows)
			a.moreRows(page.Next)
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
				t, err := a.client().TryPull(c.Context(), args[0], n)
				if err != nil {
					return err
				}
				return a.dryPulled(&t)
			}
			p, err := a.client().StartPull(c.Context(), args[0], n)
			if err == nil && !noWait {
				p, err = a.client().UntilPulled(c.Context(), p.ID)
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
	done, err := a.json(p)
	if err != nil {
		return err
	}
	if !done {
		a.printPull(p)
	}
	switch {
	case p.State == api.PullAway:
		return exit(exitAway, "")
	case p.State == api.PullFailed:
		return exit(exitFailed, "")
	case p.Failed+p.Short+p.Waiting+p.Refused > 0:
		return exit(exitRefused, "")
	}
	return nil
}

func (a *app) printPull(p *api.Pull) {
	fmt.Fprintf(a.out, "Pull %d: %s %s through mapping %s, %s\n", p.ID, p.System, p.Record, p.Mapping, p.State)
	if p.Reason != "" {
		fmt.Fprintf(a.out, "  %s\n", p.Reason)
	}
	since := ""
	if p.Since != "" {
		since = ", changed since " + p.Since
	}
	on := "on " + report.Plural(p.Pages, "page")
	if p.Folder {
		on = "in " + report.Plural(p.Pages, "file")
	}
	fmt.Fprintf(a.out, "  %s %s%s\n", report.Plural(p.Records, "record"), on, since)
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
			fmt.Fprintf(a.out, "%9d %s\n", part.n, part.words)
		}
	}
	if len(p.Loads) > 0 {
		var ids []string
		for _, id := range p.Loads {
			ids = append(ids, strconv.FormatInt(id, 10))
		}
		fmt.Fprintf(a.out, "  loads %s\n", strings.Join(ids, ", "))
	}
}

// dryPulled shows what a pull would bring.
func (a *app) dryPulled(t *api.PullTried) error {
	done, err := a.json(t)
	if err != nil {
		return err
	}
	if !done {
		p := &t.Pull
		on := "on " + report.Plural(p.Pages, "page")
		if p.Folder {
			on = "in " + report.Plural(p.Pages, "file")
		}
		fmt.Fprintf(a.out, "%s %s: %s %s, of which %d are known already, %d passed over, %d withdrawn, %d not complete\n",
			p.System, p.Record, report.Plural(p.Records, "record"), on, p.Unchanged, p.Passed, p.Gone, p.Short)
		if p.Reason != "" {
			fmt.Fprintln(a.out, p.Reason)
		}
		if t.More {
			fmt.Fprintln(a.out, "There are more; these are the first.")
		}
		if t.Load.Orders == 0 && t.Load.Failing() == 0 {
			fmt.Fprintln(a.out, "There is nothing to map. Nothing was stored.")
			return nil
		}
		report.Text(a.out, &t.Load, t.Reasons, a.style())
		fmt.Fprintln(a.out, "\nNothing was stored.")
	}
	if t.Load.Failing() > 0 {
		return exit(exitRefused, "")
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
			page, err := a.client().Pulls(c.Context(), q)
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]string
			for _, p := range page.Items {
				rows = append(rows, []string{strconv.FormatInt(p.ID, 10), local(p.StartedAt), p.System, p.Record,
					p.State, num(p.Records),
					num(p.Unchanged), num(p.Loaded), num(p.Changed), num(p.Failed), p.Newest})
			}
			report.Table(a.out, []string{">pull", "started", "system", "record", "state", ">records", ">known",
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
				if err := a.client().ArrivalContent(c.Context(), content, a.out); err != nil {
					return err
				}
				_, err := fmt.Fprintln(a.out)
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
			page, err := a.client().Arrivals(c.Context(), q)
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]string
			for _, v := range page.Items {
				rows = append(rows, []string{strconv.FormatInt(v.ID, 10), local(v.At), v.System, v.Record, v.Key,
					v.Number, v.Stamp, v.State,
					strconv.FormatInt(v.Pull, 10), v.Place})
			}
			report.Table(a.out, []string{">arrival", "came", "system", "record", "key", "number", "stamp", "state",
				">pull", "place"}, rows)
			a.moreRows(page.Next)
			return nil
		},
	}
	c.Flags().StringVar(&record, "record", "", "only of this kind")
	c.Flags().StringVar(&key, "key", "", "only of this key or number")
	c.Flags().Int64Var(&pull, "pull", 0, "only of this pull")
	c.Flags().Int64Var(&content, "content", 0, "print the arrival of this number, byte for byte")
	return c
}
