package partners

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"koinos/cli/shell"
	"koinos/core/partner"
	"koinos/core/report"
	"koinos/core/x12"
	"koinos/folder"
)

// x12 are the commands that read X12 interchanges without a service.
func (a *app) x12() *cobra.Command {
	c := &cobra.Command{Use: "x12", Short: "Show, check, compare and acknowledge X12 interchanges without a service"}
	show := &cobra.Command{
		Use: "show FILE", Short: "Print an interchange as people read it",
		Long: "Show indents loops, names every element, spells codes out, and puts findings where\nthey are. What " +
			"the dictionary does not have is shown as it stands.",
		Example: "  koinos x12 show order.edi", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if a.Output == "json" {
				return shell.Usage(errors.New("show is for people; koinos x12 check has what is wrong as JSON"))
			}
			f, _, err := shell.OpenLocal(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			_, err = x12.Show(a.Out, io.NewSectionReader(f, 0, 1<<62))
			return err
		},
	}
	var rules string
	check := &cobra.Command{
		Use: "check FILE…", Short: "Check interchanges: envelope, segments, elements, a partner's rules",
		Long: `Check compares envelopes with their trailers, and transaction sets with the
dictionary (` + strings.Join(x12.Sets(), ", ") + `): order and repeats of segments and
loops, needs, types, lengths, codes, the standard's own conditions between
elements, and the count of lines. Each finding has the standard's error code.
With --partner the rules of a partner's file are checked too.`,
		Example: "  koinos x12 check order.edi\n  koinos x12 check --partner partners/pellow.yaml samples/*.edi\n  " +
			"koinos x12 check order.edi --output json", Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			var p *partner.Partner
			if rules != "" {
				var err error
				if p, err = readPartner(rules); err != nil {
					return err
				}
			}
			all, bad := []x12.Finding{}, 0
			for _, name := range args {
				found, sets, err := checkFile(name, p)
				if err != nil {
					return err
				}
				all = append(all, found...)
				if a.Output == "json" {
					continue
				}
				if len(found) == 0 {
					fmt.Fprintf(a.Out, "%s: sound, %s.\n", name, report.Plural(sets, "transaction set"))
					continue
				}
				if bad++; len(args) > 1 {
					fmt.Fprintf(a.Out, "%s: %s\n", name, report.Plural(len(found), "finding"))
				}
				var rows [][]string
				for _, f := range found {
					rows = append(rows, []string{f.Place, string(f.Level), f.Code, f.Message})
				}
				report.Table(a.Out, []string{"place", "level", "code", "what"}, rows)
			}
			if done, err := a.JSON(all); done && err != nil {
				return err
			}
			if len(all) > 0 {
				return shell.Exit(shell.ExitBad, "")
			}
			return nil
		},
	}
	check.Flags().StringVar(&rules, "partner", "", "partner's file whose rules are checked too")
	diff := &cobra.Command{
		Use: "diff A B", Short: "Show how two interchanges differ in meaning",
		Long: "Diff compares what the transaction sets say. Delimiters, line ends, envelopes,\ncontrol numbers " +
			"and the order of like segments do not matter; 1.50 is 1.5. It ends\nwith code 4 where something differs.",
		Example: "  koinos x12 diff sent.edi expected.edi", Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			var files [2]io.Reader
			for i, name := range args {
				f, _, err := shell.OpenLocal(name)
				if err != nil {
					return err
				}
				defer f.Close()
				files[i] = io.NewSectionReader(f, 0, 1<<62)
			}
			list, err := x12.Diff(files[0], files[1])
			if err != nil {
				return err
			}
			done, err := a.JSON(list)
			if err != nil {
				return err
			}
			if len(list) > 0 && !done {
				var rows [][]string
				for _, d := range list {
					rows = append(rows, []string{d.Set, d.Place, d.Name, shell.OrDash(d.A), shell.OrDash(d.B)})
				}
				report.Table(a.Out, []string{"set", "place", "what", "first", "second"}, rows)
			}
			if len(list) > 0 {
				return shell.Exit(shell.ExitBad, "")
			}
			if !done {
				fmt.Fprintln(a.Out, "They say the same.")
			}
			return nil
		},
	}
	var to, kind, of string
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
				return shell.Usage(fmt.Errorf("say the control numbers of the answer with --control and --group; none may " +
					"be used twice"))
			}
			if kind != "997" && kind != "999" {
				return shell.Usage(fmt.Errorf("--set is 997 or 999, not %q", kind))
			}
			var policy x12.Policy
			if of != "" {
				p, err := readPartner(of)
				if err != nil {
					return err
				}
				if policy = p.Policy(); p.Acknowledge.With != "none" {
					kind = p.Acknowledge.With
				}
			}
			f, _, err := shell.OpenLocal(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			now := time.Now()
			write := func(w io.Writer) error {
				return x12.Acknowledge(w, io.NewSectionReader(f, 0, 1<<62), policy, func(groups int) (x12.Answer, error) {
					answer := x12.Answer{Interchange: control, Group: group, At: now, Implementation: kind == "999"}
					control, group = control+1, group+groups
					return answer, nil
				})
			}
			if to == "" {
				return write(a.Out)
			}
			return folder.Usual.Write(to, write)
		},
	}
	answer.Flags().Var((*shell.OutFile)(&to), "to", "file to write; by default standard output")
	answer.Flags().StringVar(&kind, "set", "997", "transaction set of the answer: 997 or 999")
	answer.Flags().StringVar(&of, "partner", "", "file of the partner, whose acknowledge says how it is answered")
	answer.Flags().IntVar(&control, "control", 0,
		"control number of the answering interchange; each further one is one higher")
	answer.Flags().IntVar(&group, "group", 0, "control number of its first functional group")
	c.AddCommand(show, check, diff, answer)
	return c
}

// checkFile returns what is wrong with a file's interchanges.
func checkFile(name string, p *partner.Partner) (found []x12.Finding, sets int, err error) {
	f, _, err := shell.OpenLocal(name)
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	some := false
	err = x12.Read(io.NewSectionReader(f, 0, 1<<62), x12.Handler{
		Interchange: func(*x12.Interchange) error { some = true; return nil },
		Set: func(s *x12.Set) error {
			sets++
			placed, list := x12.Check(s)
			found = append(found, list[len(s.Findings):]...)
			root := x12.Tree(s, placed)
			found = append(found, x12.CheckCount(s, placed)...)
			if p != nil {
				found = append(found, x12.CheckRules(root, p.Rules[s.ID])...)
			}
			return nil
		},
		Finding: func(f x12.Finding) error { found = append(found, f); return nil },
	})
	if !some && len(found) == 0 && err == nil {
		found = append(found, x12.Finding{Level: x12.AtInterchange, Code: "024", Message: x12.NoInterchange})
	}
	return found, sets, err
}
