package partners

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/finding"
	"koinos/core/report"
)

// decide lists the changes that a partner asks for in an interchange, and takes some of them.
func (a *app) decide() *cobra.Command {
	var seq int
	var take []string
	c := &cobra.Command{Use: "decide ID", Short: "Take some of the changes that a partner asks for, and refuse the others",
		Long: "Without --take, decide lists the changes that wait for a decision, by the line of the transaction set that asks\n" +
			"for them. With --take, the changes of these lines are made and all others are refused; the answer to the set\n" +
			"says so for each line. The lines are numbers, header, all or none.",
		Example: "  koinos exchange decide 41\n  koinos exchange decide 41 --take 1,3\n  koinos exchange decide 41 --set 2 --take none",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := interchangeID(args[0])
			if err != nil {
				return err
			}
			sets, err := a.sets(c.Context(), id, api.StateHeld, "", math.MaxInt)
			if err != nil {
				return err
			}
			sets = slices.DeleteFunc(sets, func(s api.SetRecord) bool {
				return len(askedOf(&s)) == 0 || seq > 0 && s.Seq != seq
			})
			switch {
			case len(sets) == 0:
				return shell.Exit(shell.ExitFailed, fmt.Sprintf("no change that interchange %d asks for waits for a decision", id))
			case len(take) == 0:
				return a.asked(id, sets)
			case len(sets) > 1:
				return shell.Usage(fmt.Errorf("several sets of interchange %d ask for changes; say which with --set", id))
			}
			lines, err := linesOf(take, askedOf(&sets[0]))
			if err != nil {
				return err
			}
			i, err := a.Client().Decide(c.Context(), id, sets[0].Seq, lines)
			if err != nil {
				return err
			}
			return a.Became([]api.Interchange{i})
		}}
	c.Flags().IntVar(&seq, "set", 0, "number of the transaction set in the interchange, where several ask for changes")
	c.Flags().StringSliceVar(&take, "take", nil, "lines of the set whose changes are taken: numbers, header, all or none; repeatable")
	shell.Offers(c, "take", "all", "none", "header")
	return c
}

// askedOf are the changes that a set asks for, as findings.
func askedOf(s *api.SetRecord) []finding.Finding {
	return slices.DeleteFunc(slices.Clone(s.Findings), func(f finding.Finding) bool { return f.Code != finding.ChangeAsked })
}

// linesOf are the lines that --take names, of those that ask for something.
func linesOf(take []string, asked []finding.Finding) (lines []int, err error) {
	for _, word := range take {
		switch word = strings.ToLower(strings.TrimSpace(word)); word {
		case "none":
		case "header":
			lines = append(lines, 0)
		case "all":
			for _, f := range asked {
				lines = append(lines, f.Line)
			}
		default:
			n, err := strconv.Atoi(word)
			if err != nil || n < 1 {
				return nil, shell.Usage(fmt.Errorf("--take has the numbers of lines, header, all or none, not %q", word))
			}
			lines = append(lines, n)
		}
	}
	if len(lines) > 0 && slices.ContainsFunc(take, func(w string) bool { return strings.EqualFold(strings.TrimSpace(w), "none") }) {
		return nil, shell.Usage(fmt.Errorf("--take none stands alone"))
	}
	return lines, nil
}

// asked lists the changes that wait for a decision.
func (a *app) asked(id int64, sets []api.SetRecord) error {
	if done, err := a.JSON(sets); done {
		return err
	}
	for k := range sets {
		s := &sets[k]
		fmt.Fprintf(a.Out, "Set %d: %s %s about %s\n", s.Seq, s.Kind, s.Control, shell.OrDash(s.First().Number))
		var rows [][]string
		for _, f := range askedOf(s) {
			line := "header"
			if f.Line > 0 {
				line = strconv.Itoa(f.Line)
			}
			rows = append(rows, []string{line, f.At, strings.TrimSuffix(strings.TrimPrefix(f.Message, "Asked for: "), ".")})
		}
		report.Table(a.Out, []string{">take", "at", "asked for"}, rows)
		fmt.Fprintln(a.Out)
	}
	of := ""
	if len(sets) > 1 {
		of = " --set " + strconv.Itoa(sets[0].Seq)
	}
	fmt.Fprintf(a.Out, "To take some and refuse the others: koinos exchange decide %d%s --take LINES, or all, or none\n", id, of)
	return nil
}
