package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"koinos/core/report"
	"koinos/core/x12"
	"koinos/folder"
)

// x12 are the commands that read X12 interchanges without a service.
func (a *app) x12() *cobra.Command {
	c := &cobra.Command{Use: "x12", Short: "Show, check and acknowledge X12 interchanges"}
	show := &cobra.Command{
		Use: "show FILE", Short: "Print an interchange as people read it",
		Long:    "Show indents loops, names every element, spells codes out, and puts findings where\nthey are. What the dictionary does not have is shown as it stands.",
		Example: "  koinos x12 show order.edi", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			f, _, err := openLocal(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			_, err = x12.Show(a.out, io.NewSectionReader(f, 0, 1<<62))
			return err
		},
	}
	check := &cobra.Command{
		Use: "check FILE", Short: "Say what is wrong with an interchange: envelope, segments, elements",
		Long: `Check compares envelopes with their trailers, and transaction sets with the
dictionary (850, 997 and 999 so far): order and repeats of segments and loops, needs,
types, lengths, codes and the standard's own conditions between elements. Each
finding has the standard's error code.`,
		Example: "  koinos x12 check order.edi\n  koinos x12 check order.edi --output json", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			f, _, err := openLocal(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			found, sets := []x12.Finding{}, 0
			err = x12.Read(io.NewSectionReader(f, 0, 1<<62), x12.Handler{
				Set: func(s *x12.Set) error {
					sets++
					_, list := x12.Check(s)
					found = append(found, list[len(s.Findings):]...)
					return nil
				},
				Finding: func(f x12.Finding) error { found = append(found, f); return nil },
			})
			if err != nil {
				return err
			}
			if done, err := a.json(found); done {
				if err == nil && len(found) > 0 {
					err = &exit{code: exitBad}
				}
				return err
			}
			if len(found) == 0 {
				fmt.Fprintf(a.out, "%s: sound, %s.\n", args[0], report.Plural(sets, "transaction set"))
				return nil
			}
			var rows [][]string
			for _, f := range found {
				rows = append(rows, []string{f.Place, string(f.Level), f.Code, f.Message})
			}
			report.Table(a.out, []string{"place", "level", "code", "what"}, rows)
			return &exit{code: exitBad}
		},
	}
	var to, kind string
	var control, group int
	answer := &cobra.Command{
		Use: "acknowledge FILE", Short: "Write the TA1 and 997 or 999 that answer an interchange",
		Long: `Acknowledge answers each interchange of the file in its own delimiters and
version. A transaction set is rejected where its envelope is wrong, where it is
not known, or where something mandatory is missing; other errors are noted.
Control numbers must be new ones: say the first of each.`,
		Example: "  koinos x12 acknowledge order.edi --control 31 --group 12 --to answer.edi", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if control < 1 || group < 1 {
				return usage{fmt.Errorf("say the control numbers of the answer with --control and --group; none may be used twice")}
			}
			if kind != "997" && kind != "999" {
				return usage{fmt.Errorf("--set is 997 or 999, not %q", kind)}
			}
			f, _, err := openLocal(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			now := time.Now()
			write := func(w io.Writer) error {
				return x12.Acknowledge(w, io.NewSectionReader(f, 0, 1<<62), func(groups int) (x12.Answer, error) {
					answer := x12.Answer{Interchange: control, Group: group, At: now, Implementation: kind == "999"}
					control, group = control+1, group+groups
					return answer, nil
				})
			}
			if to == "" {
				return write(a.out)
			}
			return folder.WriteWhole(to, write)
		},
	}
	answer.Flags().StringVar(&to, "to", "", "file to write; left out, standard output")
	answer.Flags().StringVar(&kind, "set", "997", "transaction set of the answer: 997 or 999")
	answer.Flags().IntVar(&control, "control", 0, "control number of the answering interchange; each further one is one higher")
	answer.Flags().IntVar(&group, "group", 0, "control number of its first functional group")
	c.AddCommand(show, check, answer)
	return c
}
