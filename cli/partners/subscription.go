package partners

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/report"
)

// subscriptions are the commands for those who are told what happens to orders.
func (a *app) subscriptions() *cobra.Command {
	c := &cobra.Command{Use: "subscription", Short: "Tell other programs what happens to orders, by webhooks"}
	c.AddCommand(a.addSubscription(), a.listSubscriptions(), a.setSubscription("pause",
		"Tell a subscriber nothing for now", false),
		a.setSubscription("resume", "Send what waits to a subscriber, and go on", true), a.removeSubscription(),
		a.listDeliveries(), a.resend())
	return c
}

func (a *app) addSubscription() *cobra.Command {
	var n api.NewSubscription
	c := &cobra.Command{
		Use: "add NAME URL", Short: "Tell a program what happens to orders from now on",
		Long: `Add has each event posted to an address, signed as Standard Webhooks has it. The
secret is shown once, unless it is in an environment variable of the service.
A message that is not answered with 2xx is sent again for a day, with the same
webhook-id. The types of events are ` + strings.Join(api.EventTypes, ", ") + ".",
		Example: "  koinos subscription add warehouse https://warehouse.example/hooks --event order.created --event " +
			"order.changed",
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			n.Name, n.URL = args[0], args[1]
			made, err := a.Client().AddSubscription(c.Context(), n)
			if err != nil {
				return err
			}
			if done, err := a.JSON(made); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s is told of %s from event %d on.\n", made.Name, typesOf(&made.Subscription),
				made.Position+1)
			if made.Secret != "" {
				fmt.Fprintf(a.Out, "%s\nThis is the secret that messages are signed with. It is not shown again.\n",
					made.Secret)
			}
			return nil
		},
	}
	c.Flags().StringArrayVar(&n.Events, "event", nil, "type of event; may be repeated; by default every type")
	c.Flags().StringVar(&n.Partner, "partner", "", "only orders of this partner")
	c.Flags().StringVar(&n.SecretEnv, "secret-env", "", "environment variable of the service that holds the secret")
	return c
}

func typesOf(y *api.Subscription) string {
	what := "every event"
	if len(y.Events) > 0 {
		what = strings.Join(y.Events, ", ")
	}
	if y.Partner != "" {
		what += " of " + y.Partner
	}
	return what
}

func (a *app) listSubscriptions() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List subscriptions, and how many messages wait", Args: cobra.NoArgs,
		Example: "  koinos subscription list",
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.Client().Subscriptions(c.Context())
			if err != nil {
				return err
			}
			if done, err := a.JSON(all); done {
				return err
			}
			var rows [][]string
			for i := range all {
				y := &all[i]
				rows = append(rows, []string{y.Name, y.State, shell.Num(y.Counts.Waiting), shell.Num(y.Counts.Delivered),
					shell.Num(y.Counts.Failed),
					typesOf(y), y.URL, y.Reason})
			}
			report.Table(a.Out, []string{"name", "state", ">waiting", ">delivered", ">failed", "told of", "address",
				"reason"}, rows)
			return nil
		},
	}
}

func (a *app) setSubscription(verb, short string, active bool) *cobra.Command {
	return &cobra.Command{
		Use: verb + " NAME", Short: short, Args: cobra.ExactArgs(1),
		Example: "  koinos subscription " + verb + " warehouse",
		RunE: func(c *cobra.Command, args []string) error {
			y, err := a.Client().SetSubscription(c.Context(), args[0], active)
			if err != nil {
				return err
			}
			if done, err := a.JSON(y); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s is %s; %s.\n", y.Name, y.State, report.Plural(y.Counts.Waiting, "waiting message"))
			return nil
		},
	}
}

func (a *app) removeSubscription() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove a subscription with its messages", Args: cobra.ExactArgs(1),
		Example: "  koinos subscription remove warehouse",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.Client().RemoveSubscription(c.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s is not told any more.\n", args[0])
			return nil
		},
	}
}

func (a *app) listDeliveries() *cobra.Command {
	var state string
	var limit int
	c := &cobra.Command{
		Use: "deliveries NAME", Short: "List the messages to a subscriber, newest first", Args: cobra.ExactArgs(1),
		Example: "  koinos subscription deliveries warehouse --state failed",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{}
			if state != "" {
				q.Set("state", state)
			}
			page, err := shell.Pages(limit, q, func(q url.Values) (api.Page[api.Delivery], error) {
				return a.Client().Deliveries(c.Context(), args[0], q)
			})
			if err != nil {
				return err
			}
			if done, err := a.JSON(page); done {
				return err
			}
			var rows [][]string
			for _, d := range page.Items {
				next := ""
				if d.State == api.DeliveryWaiting {
					next = shell.Local(d.DueAt)
				}
				rows = append(rows, []string{shell.Num64(d.ID), shell.Num64(d.Event), d.Type, d.State, shell.Num(d.Attempts),
					shell.When(d.LastAt), next, d.Why})
			}
			report.Table(a.Out, []string{">delivery", ">event", "type", "state", ">attempts", "last", "next", "why"},
				rows)
			a.MoreRows(page.Next)
			return nil
		},
	}
	c.Flags().StringVar(&state, "state", "", "waiting, delivered or failed")
	c.Flags().IntVar(&limit, "limit", 50, "how many")
	return c
}

func (a *app) resend() *cobra.Command {
	var r api.Resend
	c := &cobra.Command{
		Use: "resend NAME [DELIVERY…]", Short: "Send messages to a subscriber again, with the ids that they had",
		Example: "  koinos subscription resend warehouse 17 18\n  koinos subscription resend warehouse --failed",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			for _, text := range args[1:] {
				id, err := strconv.ParseInt(text, 10, 64)
				if err != nil {
					return shell.Usage(fmt.Errorf("%q is no delivery; koinos subscription deliveries %s lists them", text,
						args[0]))
				}
				r.IDs = append(r.IDs, id)
			}
			if !r.Failed && len(r.IDs) == 0 {
				return shell.Usage(fmt.Errorf("say which deliveries, or --failed"))
			}
			n, err := a.Client().ResendDeliveries(c.Context(), args[0], r)
			if err != nil {
				return err
			}
			if done, err := a.JSON(n); done {
				return err
			}
			fmt.Fprintf(a.Out, "%s sent again.\n", isAre(n.Count, "message"))
			return nil
		},
	}
	c.Flags().BoolVar(&r.Failed, "failed", false, "all failed messages")
	return c
}

func isAre(n int, word string) string {
	return report.Plural(n, word) + map[bool]string{true: " is", false: " are"}[n == 1]
}
