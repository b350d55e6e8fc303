package orders

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
)

// statement is LINE=WORD[:QUANTITY[UNIT]][@DAY].
var statement = regexp.MustCompile(`^([^=]+)=([A-Za-z-]+)(?::([0-9.]+)([A-Za-z]*))?(?:@(\d{4}-\d{2}-\d{2}))?$`)

// answerOrder makes the command that answers an order line by line.
func (a *app) answerOrder() *cobra.Command {
	t := &act{app: a, what: "answers"}
	var reason, day string
	c := &cobra.Command{
		Use:   "answer ORDER LINE=WORD[:QUANTITY][@DAY]…",
		Short: "Answer an order line by line, or as a whole: accepted, changed, back-ordered, pending, refused",
		Long: "Answer keeps what the seller says to each line of an order: what you promise a customer, or what a supplier told you\n" +
			"on the phone. A line may have several statements; all=WORD[@DAY] answers the order as a whole. What you say to a\n" +
			"customer goes out in the next 855 or 865; what a supplier says is compared with the order.",
		Example: "  koinos order answer SO-000331 1=accepted 2=refused --reason \"out of range\"\n" +
			"  koinos order answer SO-000331 1=accepted:30@2026-03-24 1=back-ordered:10@2026-04-03\n" +
			"  koinos order answer PO-000004 1=changed@2026-04-20\n" +
			"  koinos order answer PO-000004 all=accepted@2026-04-20",
		Args: cobra.MinimumNArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			n := api.Notice{Header: map[string]string{}}
			if day != "" {
				n.Header["answered_on"] = day
			}
			for _, arg := range args[1:] {
				m := statement.FindStringSubmatch(arg)
				if m == nil {
					return shell.Usage(fmt.Errorf("%q is no LINE=WORD[:QUANTITY][@DAY], such as 1=accepted or 1=back-ordered:10@2026-04-03",
						arg))
				}
				if m[1] == "all" {
					if len(args) > 2 || m[3] != "" {
						return shell.Usage(errors.New("all=WORD[@DAY] answers the order as a whole: it stands alone, without a quantity"))
					}
					n.Header["answer"] = strings.ToLower(m[2])
					if m[5] != "" {
						n.Header["due_on"] = m[5]
					}
					break
				}
				l := map[string]string{"number": m[1], "answer": strings.ToLower(m[2])}
				for name, v := range map[string]string{"accepted": m[3], "accepted_unit": strings.ToUpper(m[4]), "due_on": m[5]} {
					if v != "" {
						l[name] = v
					}
				}
				if reason != "" && l["answer"] != "accepted" {
					l["reason"] = reason
				}
				n.Lines = append(n.Lines, l)
			}
			orders, err := t.orders(c.Context(), args[:1])
			if err != nil {
				return err
			}
			return t.say(c.Context(), orders, n)
		},
	}
	t.flags(c, false)
	c.Flags().StringVar(&reason, "reason", "", "why, in words: of the lines that are not accepted as they are")
	c.Flags().StringVar(&day, "on", "", "day of the answer, yyyy-mm-dd")
	return c
}
