package partners

import (
	"fmt"

	"github.com/spf13/cobra"

	"koinos/api"
)

// controlNumbers makes the command that shows the control numbers for a partner, and raises them.
func (a *app) controlNumbers() *cobra.Command {
	var last api.ControlNumbers
	c := &cobra.Command{
		Use: "numbers NAME", Short: "Show the last control numbers that a partner was sent, or continue behind those of another program",
		Long: "Numbers shows the last control numbers of interchanges (ISA13) and functional groups (GS06) that went to a partner. If\n" +
			"another program has sent interchanges to this partner before, say its last numbers: Koinos continues behind them.\n" +
			"Control numbers never go back.",
		Example: "  koinos partner numbers PELLOW\n  koinos partner numbers PELLOW --interchange 4711 --group 4711",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) (err error) {
			if last != (api.ControlNumbers{}) {
				last, err = a.Client().SetControlNumbers(c.Context(), args[0], last)
			} else {
				last, err = a.Client().ControlNumbers(c.Context(), args[0])
			}
			if err != nil {
				return err
			}
			if done, err := a.JSON(last); done {
				return err
			}
			fmt.Fprintf(a.Out, "The next interchange is %09d, the next functional group %d.\n", last.Interchange+1, last.Group+1)
			return nil
		},
	}
	c.Flags().Int64Var(&last.Interchange, "interchange", 0,
		"last control number of an interchange that the partner was sent")
	c.Flags().Int64Var(&last.Group, "group", 0, "last control number of a functional group that the partner was sent")
	return c
}
