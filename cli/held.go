package cli

import (
	"fmt"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/core/report"
)

// held lists what waits for a person, and tries it again.
func (a *app) held() *cobra.Command {
	c := &cobra.Command{Use: "held", Short: "List what waits for a person, and try it again"}
	var kind, partner string
	list := &cobra.Command{
		Use: "list", Short: "List what is held, the oldest first", Args: cobra.NoArgs,
		Example: "  koinos held list\n  koinos held list --partner PELLOW",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {"200"}}
			if kind != "" {
				q.Set("kind", kind)
			}
			if partner != "" {
				q.Set("partner", partner)
			}
			page, err := a.client().Held(c.Context(), q)
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if len(page.Items) == 0 {
				fmt.Fprintln(a.out, "Nothing is held.")
				return nil
			}
			var rows [][]string
			for _, h := range page.Items {
				where := fmt.Sprintf("load %d order %d", h.Load, h.Seq)
				if h.Interchange != 0 {
					where = fmt.Sprintf("interchange %d set %d", h.Interchange, h.Set)
				}
				rows = append(rows, []string{num(int(h.ID)), h.Kind, h.Partner, h.Number, where, local(h.Since),
					h.Reason})
			}
			report.Table(a.out, []string{">held", "kind", "partner", "order", "where", "since", "why"}, rows)
			if page.Next != "" {
				fmt.Fprintln(a.out, "There is more; --output json gives the cursor.")
			}
			return nil
		},
	}
	list.Flags().StringVar(&kind, "kind", "", "only order, set or notice")
	list.Flags().StringVar(&partner, "partner", "", "only what concerns this partner")
	retry := &cobra.Command{
		Use: "retry HELD", Short: "Try what is held once more, after its cause was mended", Args: cobra.ExactArgs(1),
		Example: "  koinos held retry 3",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage{fmt.Errorf("%q is not the number of something held; koinos held list shows them", args[0])}
			}
			calls := a.client()
			out, err := calls.RetryHeld(c.Context(), id)
			if err != nil {
				return err
			}
			if out.Load != 0 {
				l, err := calls.WatchLoad(c.Context(), out.Load, nil)
				if err != nil {
					return err
				}
				return a.showLoad(c.Context(), calls, l.ID)
			}
			if done, err := a.json(out); done {
				return err
			}
			i, err := calls.Interchange(c.Context(), out.Interchange)
			if err != nil {
				return err
			}
			return a.became([]api.Interchange{i})
		},
	}
	c.AddCommand(list, retry)
	return c
}
