package shell

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/core/report"
)

// Steps shows calls, and the values that they change.
func (a *App) Steps(all []api.PushStep, bodies bool) {
	for i, s := range all {
		call := ""
		if s.Method != "" {
			call = fmt.Sprintf("  (%s %s)", s.Method, s.Path)
		}
		fmt.Fprintf(a.Out, "  %d. %s%s%s\n", i+1, s.Does, call, TrialWords[s.Trial])
		for _, ch := range s.Changes {
			field := ch.Field
			if ch.Line != "" {
				field = "line " + ch.Line + " " + ch.Field
			}
			fmt.Fprintf(a.Out, "       %s: %s → %s\n", field, OrBlank(ch.Was), OrBlank(ch.Is))
		}
		for _, w := range s.Warnings {
			fmt.Fprintf(a.Out, "       The system warns: %s\n", w)
		}
		if bodies && len(s.Body) > 0 {
			fmt.Fprintf(a.Out, "       %s\n", s.Body)
		}
	}
}

// Waiting is how long a command waits.
type Waiting struct{ timeout, patience time.Duration }

// Flags adds the options that say how long.
func (w *Waiting) Flags(c *cobra.Command) {
	c.Flags().DurationVar(&w.timeout, "timeout", 0, "wait no longer than this; by default as long as there is progress")
	c.Flags().DurationVar(&w.patience, "patience", time.Minute,
		"wait so long for a system that is away when nothing else is left to do")
}

// Enough returns a function that says whether the command has waited long enough.
func (w *Waiting) Enough(away []string, awayFor float64, began time.Time) bool {
	return w.timeout > 0 && time.Since(began) >= w.timeout || len(away) > 0 && awayFor >= w.patience.Seconds()
}

// PrintRun says what became of a run of a sync.
func (a *App) PrintRun(r *api.SyncRun) {
	switch {
	case r.State == api.SyncDone:
		fmt.Fprintf(a.Out, "%s: done in %s.\n", r.Sync, r.EndedAt.Sub(r.StartedAt).Round(10*time.Millisecond))
	case r.State == api.SyncStopped:
		fmt.Fprintf(a.Out, "%s: stopped. %s\n", r.Sync, r.Reason)
	case len(r.Away) > 0:
		fmt.Fprintf(a.Out, "%s: %s does not answer. The run goes on by itself when it is back.\n", r.Sync,
			strings.Join(r.Away, ", "))
	default:
		fmt.Fprintf(a.Out, "%s: run %d goes on; koinos sync wait %s waits for its end.\n", r.Sync, r.ID, r.Sync)
	}
	for i := range r.Pulls {
		p := &r.Pulls[i]
		fmt.Fprintf(a.Out, "  read   %s.%s: %s\n", p.System, p.Record, pullText(p))
	}
	fmt.Fprintf(a.Out, "  write  %s\n", CountsText(r.Counts))
	a.HeldHint(r.Counts.Held, r.Sync)
}

// TrialWords say what a system said about a call of a dry run.
var TrialWords = map[string]string{"good": " – the system would do it", "refused": " – the system refuses it",
	"unknown": " – the system cannot be asked yet"}

// CountsText says what became of orders.
func CountsText(n api.PushCounts) string {
	var words []string
	for _, w := range []struct {
		n    int
		word string
	}{{n.Created, "created"}, {n.Changed, "changed"}, {n.Right, "right already"}, {n.Waiting, "waiting"}, {n.Held, "held"},
		{n.Aside, "put aside"}} {
		if w.n > 0 {
			words = append(words, fmt.Sprintf("%d %s", w.n, w.word))
		}
	}
	if len(words) == 0 {
		return "nothing to do"
	}
	return strings.Join(words, ", ")
}

// HeldHint says what to do about what a sync holds.
func (a *App) HeldHint(n int, sync string) {
	if n > 0 {
		fmt.Fprintf(a.Out, "%s held. See why: koinos held list --sync %s. Try again: koinos held retry --sync %s\n",
			AreOrders(n), sync, sync)
	}
}

// pullText is the result of a pull in a line.
func pullText(p *api.Pull) string {
	text := fmt.Sprintf("%s, %d new, %d changed", report.Plural(p.Records, "record"), p.Loaded, p.Changed)
	for _, w := range []struct {
		n    int
		word string
	}{{p.Gone, "withdrawn"}, {p.Short, "incomplete"}, {p.Failed, "refused or held"}, {p.Waiting, "not complete yet"},
		{p.Refused, "files refused"}} {
		if w.n > 0 {
			text += fmt.Sprintf(", %d %s", w.n, w.word)
		}
	}
	if p.State == api.PullFailed || p.State == api.PullAway {
		text = p.State + ": " + p.Reason
	}
	return text
}
