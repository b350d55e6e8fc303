package partners

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/finding"
	"koinos/core/partner"
	"koinos/core/report"
	"koinos/core/x12"
)

// partner are the commands for trading partners.
func (a *app) partner() *cobra.Command {
	c := &cobra.Command{Use: "partner", Short: "Manage trading partners: their ids, formats and rules"}
	c.AddCommand(a.draftPartner(), a.controlNumbers(), &cobra.Command{
		Use: "check FILE…", Short: "Check partners' files without a service",
		Example: "  koinos partner check partners/*.yaml", Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.CheckEach(args, func(text []byte) (string, error) {
				p, err := partner.Parse(text)
				if err != nil {
					return "", err
				}
				return fmt.Sprintf("%s, %s.", p.Name, ruleCount(p)), nil
			})
		},
	}, &cobra.Command{
		Use: "keep FILE…", Short: "Send partners to the service", Example: "  koinos partner keep partners/pellow.yaml",
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			for _, name := range args {
				p, err := readPartner(name)
				if err != nil {
					return err
				}
				kept, err := a.Client().KeepPartner(c.Context(), []byte(p.Text))
				if err != nil {
					return err
				}
				if done, err := a.JSON(kept); done {
					return err
				}
				fmt.Fprintf(a.Out, "%s is kept: in %s, out %s, %s.\n", kept.Name, shell.OrDash(strings.Join(kept.In, " ")),
					shell.OrDash(strings.Join(kept.Out, " ")), ruleCount(p))
			}
			return nil
		},
	}, &cobra.Command{
		Use: "list", Short: "List the service's partners", Args: cobra.NoArgs, Example: "  koinos partner list",
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.Client().Partners(c.Context())
			if err != nil {
				return err
			}
			if done, err := a.JSON(all); done {
				return err
			}
			var rows [][]string
			for _, p := range all {
				rows = append(rows, []string{p.Name, p.Kind, p.Them.Key(), p.Version, strings.Join(p.In, " "),
					strings.Join(p.Out, " "), p.About})
			}
			report.Table(a.Out, []string{"name", "kind", "their id", "version", "in", "out", "about"}, rows)
			return nil
		},
	}, &cobra.Command{
		Use: "show NAME", Short: "Print a partner's text", Args: cobra.ExactArgs(1),
		Example: "  koinos partner show PELLOW > pellow.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.Client().Partner(c.Context(), args[0])
			if err != nil {
				return err
			}
			if done, err := a.JSON(p); done {
				return err
			}
			_, err = io.WriteString(a.Out, p.Text)
			return err
		},
	})
	return c
}

func ruleCount(p *partner.Partner) string {
	n := 0
	for _, rules := range p.Rules {
		n += len(rules)
	}
	return report.Plural(n, "rule")
}

func readPartner(name string) (*partner.Partner, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, shell.Exit(shell.ExitBad, fmt.Sprintf("the partner %s cannot be read: %v", name, err))
	}
	p, err := partner.Parse(text)
	if err != nil {
		var lines []string // each finding's message names the place
		for _, f := range finding.Of(err) {
			lines = append(lines, name+": "+f.Message)
		}
		return nil, shell.Exit(shell.ExitBad, strings.Join(lines, "\n"))
	}
	return p, nil
}

// sets asks for the sets of an interchange in a state, or about an order.
func (a *app) sets(ctx context.Context, id int64, state, number string, limit int) ([]api.SetRecord, error) {
	q := url.Values{}
	for name, v := range map[string]string{"state": state, "number": number} {
		if v != "" {
			q.Set(name, v)
		}
	}
	page, err := shell.Pages(limit, q, func(q url.Values) (api.Page[api.SetRecord], error) {
		return a.Client().Sets(ctx, id, q)
	})
	return page.Items, err
}

// exchange are the commands for interchanges.
func (a *app) exchange() *cobra.Command {
	c := &cobra.Command{Use: "exchange", Short: "Receive, send, list and replay interchanges with trading partners"}
	var partnerName, direction, state, kind, number string
	var speaking bool
	var limit int
	list := &cobra.Command{
		Use: "list", Short: "List interchanges, newest first",
		Example: "  koinos exchange list\n  koinos exchange list --partner PELLOW --state held", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{}
			for name, v := range map[string]string{"partner": partnerName, "direction": direction, "state": state,
				"kind": kind} {
				if v != "" {
					q.Set(name, v)
				}
			}
			if speaking {
				q.Set("speaking", "true")
			}
			if number != "" {
				orders, err := a.Numbered(c.Context(), number)
				if err != nil {
					return err
				}
				q.Set("order", strconv.FormatInt(orders[0].ID, 10))
			}
			page, err := shell.Pages(limit, q, func(q url.Values) (api.Page[api.Interchange],
				error) {
				return a.Client().Interchanges(c.Context(), q)
			})
			if err != nil {
				return err
			}
			if done, err := a.JSON(page.Items); done {
				return err
			}
			a.Interchanges(page.Items)
			if page.Next != "" {
				fmt.Fprintf(a.Out, "There are more; --limit shows them.\n")
			}
			return nil
		},
	}
	list.Flags().StringVar(&partnerName, "partner", "", "only with this partner")
	list.Flags().StringVar(&direction, "direction", "", "in or out")
	list.Flags().StringVar(&state, "state", "",
		"received, done, held, rejected, duplicate, unknown, ready, sent, accepted, noted, partly, overdue")
	list.Flags().StringVar(&kind, "set", "", "only those with this transaction set, e.g. 855")
	list.Flags().StringVar(&number, "order", "", "only those about the order with this number")
	list.Flags().BoolVar(&speaking, "speaking", false, "only those about orders: no acknowledgements")
	list.Flags().IntVar(&limit, "limit", 50, "how many at most")
	shell.Offers(list, "direction", "in", "out")
	shell.Offers(list, "state", "received", "done", "held", "rejected", "duplicate", "doubtful", "unknown", "ready", "sent",
		"accepted",
		"noted", "partly", "overdue")
	shell.Offers(list, "set", x12.Sets()...)
	a.OffersNames(list, "partner", func(c *cobra.Command) (names []string, err error) {
		all, err := a.Client().Partners(c.Context())
		for _, p := range all {
			names = append(names, p.Name)
		}
		return names, err
	})

	show := &cobra.Command{
		Use: "show ID", Short: "Show an interchange, what became of its sets, and why",
		Long: "Of an interchange with more than 200 transaction sets, show has those that need a person; the flags choose\n" +
			"others.",
		Example: "  koinos exchange show 3\n  koinos exchange show 3 --state held\n  koinos exchange show 3 --number PM-4711",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := interchangeID(args[0])
			if err != nil {
				return err
			}
			i, err := a.Client().Interchange(c.Context(), id)
			if err != nil {
				return err
			}
			sets := shell.ShownSets(&i)
			if f := c.Flags(); f.Changed("state") || f.Changed("number") || f.Changed("limit") {
				if sets, err = a.sets(c.Context(), id, state, number, limit); err != nil {
					return err
				}
				i.Sets = sets
			}
			if done, err := a.JSON(i); done {
				return err
			}
			a.Interchange(&i, sets)
			return nil
		},
	}
	show.Flags().StringVar(&state, "state", "", "only sets in this state: received, done, held, rejected, …")
	show.Flags().StringVar(&number, "number", "", "only sets about the order with this number, or with this control number")
	show.Flags().IntVar(&limit, "limit", 200, "how many sets at most")
	shell.Offers(show, "state", "received", "done", "held", "rejected", "duplicate", "doubtful", "ready", "sent", "accepted",
		"noted")
	receive := &cobra.Command{
		Use: "receive FILE…", Short: "Process what a partner sent",
		Long: "Receive keeps each interchange of the files, recognises what has come before,\nacknowledges it, and " +
			"brings it into orders.", Example: "  koinos exchange receive pellow-orders.edi",
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			var all []api.Interchange
			for _, name := range args {
				f, _, err := shell.OpenLocal(name)
				if err != nil {
					return err
				}
				came, err := a.Client().ReceiveInterchange(c.Context(), filepath.Base(name), f)
				f.Close()
				if err != nil {
					return err
				}
				all = append(all, came...)
			}
			return a.Became(all)
		},
	}
	var want api.Wanted
	send := &cobra.Command{
		Use: "send PARTNER SET", Short: "Send a partner the transaction sets that are due",
		Long: `Send writes one interchange of all that has not been said yet: to a supplier the
850 of confirmed purchase orders and the 860 of their changes; to a customer the
855 and 865 that answer, the 856 of what has been shipped, and the 810 of what
was not invoiced. What breaks the partner's rules is held with the reasons.`,
		Example: "  koinos exchange send VARNHOLT 850\n  koinos exchange send PELLOW 855 --order SO-000012 --try",
		Args:    cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			want.Set = args[1]
			done, err := a.Client().SendDue(c.Context(), args[0], want)
			if err != nil {
				return err
			}
			if want.Try && a.Output != "json" && len(done.Interchanges) > 0 {
				fmt.Fprintln(a.Out, "Nothing was sent or kept. What would go out:")
				if done.Text != "" {
					if _, err := x12.Show(a.Out, strings.NewReader(done.Text)); err != nil {
						return err
					}
				}
			}
			return a.Became(done.Interchanges)
		},
	}
	send.Flags().StringSliceVar(&want.Orders, "order", nil, "only of orders of these numbers")
	send.Flags().StringSliceVar(&want.Status, "status", nil, "850: statuses of the orders; by default confirmed")
	send.Flags().StringVar(&want.From, "from", "", "850: ordered on this day or later")
	send.Flags().StringVar(&want.To, "to", "", "850: ordered on this day or earlier")
	send.Flags().BoolVar(&want.Try, "try", false, "only show what would go out, and what keeps it from going")
	c.AddCommand(list, show, receive, send, a.replay(), a.decide(), a.resendInterchange())
	for _, one := range []struct {
		use, short string
		do         func(*client.Client, context.Context, int64) (api.Interchange, error)
	}{
		{"settle", "Say that you have dealt with what is held of an interchange, or with what the partner has rejected of ours",
			(*client.Client).Settle},
		{"let-in", "Let in an interchange whose control number came before with other content", (*client.Client).LetIn},
		{"refuse", "Refuse an interchange whose control number came before with other content, and tell its sender",
			(*client.Client).Refuse},
	} {
		c.AddCommand(&cobra.Command{Use: one.use + " ID", Short: one.short, Args: cobra.ExactArgs(1),
			Example: "  koinos exchange " + one.use + " 41",
			RunE: func(c *cobra.Command, args []string) error {
				id, err := interchangeID(args[0])
				if err != nil {
					return err
				}
				i, err := one.do(a.Client(), c.Context(), id)
				if err != nil {
					return err
				}
				return a.Became([]api.Interchange{i})
			}})
	}
	return c
}

func (a *app) resendInterchange() *cobra.Command {
	var anew bool
	c := &cobra.Command{Use: "resend ID", Short: "Send one of our interchanges again",
		Long: "Resend sends the same bytes under the same control number, for a partner who has not got them. With\n" +
			"--new-numbers it sends a copy under new control numbers, for a partner whose program passes over\n" +
			"numbers that it has seen.",
		Example: "  koinos exchange resend 41\n  koinos exchange resend 41 --new-numbers", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := interchangeID(args[0])
			if err != nil {
				return err
			}
			do := a.Client().Resend
			if anew {
				do = a.Client().Renumber
			}
			i, err := do(c.Context(), id)
			if err != nil {
				return err
			}
			return a.Became([]api.Interchange{i})
		}}
	c.Flags().BoolVar(&anew, "new-numbers", false, "send a copy under new control numbers")
	return c
}

func (a *app) replay() *cobra.Command {
	var accept []string
	c := &cobra.Command{Use: "replay ID", Short: "Process an interchange again after the cause was fixed or accepted",
		Example: "  koinos exchange replay 41\n  koinos exchange replay 41 --accept price_differs,invoice_differs",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := interchangeID(args[0])
			if err != nil {
				return err
			}
			i, err := a.Client().Replay(c.Context(), id, accept...)
			if err != nil {
				return err
			}
			return a.Became([]api.Interchange{i})
		}}
	c.Flags().StringSliceVar(&accept, "accept", nil,
		"code of a warning that does not hold it, or x12_rule for broken rules of the partner; repeatable")
	return c
}

func interchangeID(s string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id < 1 {
		return 0, shell.Usage(fmt.Errorf("an interchange is named by its id, a number; koinos exchange list shows them: %q",
			s))
	}
	return id, nil
}
