package systems

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
)

func (a *app) pushSystem() *cobra.Command {
	var dry, bodies bool
	c := &cobra.Command{
		Use: "push NAME RECORD ORDER", Short: "Write an order into a system: create its record or update it",
		Args: cobra.ExactArgs(3),
		Long: `Push works out what the record should say, reads what it does say, and makes the
calls that are due: none where it is right. ORDER is an order's number, the
sender's, or its id. With --dry-run the calls are only shown.`,
		Example: "  koinos system push ledgerline sales_order SO-000123 --dry-run",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.Client().Push(c.Context(), args[0], api.NewPush{Record: args[1], Order: args[2], DryRun: dry})
			if err != nil {
				return err
			}
			done, err := a.JSON(p)
			if err != nil {
				return err
			}
			if !done {
				a.pushed(&p, bodies)
			}
			switch p.State {
			case api.PushBlocked:
				return shell.Exit(shell.ExitRefused, "")
			case api.PushAway:
				return shell.Exit(shell.ExitAway, "")
			}
			return nil
		},
	}
	c.Flags().BoolVarP(&dry, "dry-run", "n", false, "only show the calls that are due")
	c.Flags().BoolVar(&bodies, "show-bodies", false, "show what is sent")
	return c
}

// pushWords say what became of the record of a push.
var pushWords = map[string]string{api.PushPlanned: "would be made right by", api.PushDone: "is right now, by",
	api.PushBlocked: "cannot be made right:", api.PushAway: "waits, because the system does not answer:"}

// pushed reports the result of a push.
func (a *app) pushed(p *api.Push, bodies bool) {
	what := p.Record
	if p.Number != "" {
		what += " " + p.Number
	} else if p.Key != "" {
		what += " " + p.Key
	}
	if len(p.Steps) == 0 && len(p.Why) == 0 {
		fmt.Fprintf(a.Out, "%s: %s %s is right; there is nothing to do.\n", p.Order, p.System, what)
		return
	}
	if p.State == api.PushPlanned && p.Key == "" {
		what += ", which is not there yet,"
	}
	fmt.Fprintf(a.Out, "%s: %s %s %s\n", p.Order, p.System, what, pushWords[p.State])
	a.Steps(p.Steps, bodies)
	if len(p.Why) > 0 {
		fmt.Fprintf(a.Out, "  %s\n", strings.Join(p.Why, "\n  "))
	}
	if p.State == api.PushPlanned && len(p.Steps) > 0 {
		fmt.Fprintln(a.Out, "Nothing was written.")
	}
}
