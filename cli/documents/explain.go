package documents

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"koinos/cli/shell"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/report"
	"koinos/docs"
)

// explained is what findings explain says as JSON.
type explained struct {
	Code     finding.Code     `json:"code"`
	Severity finding.Severity `json:"severity"`
	Title    string           `json:"title"`
	Advice   string           `json:"advice"`
}

func (a *app) explain() *cobra.Command {
	codes := slices.Sorted(maps.Keys(finding.Catalogue))
	return &cobra.Command{
		Use: "explain [CODE]", Short: "Explain a finding by its code, or list all codes",
		Long: `Explain says what a code of a finding means, whether it keeps an order out, what to
do about it, and shows an example. Without a code it lists all of them. It needs no
service.`,
		Example: `  koinos findings explain identity_repeated
  koinos findings explain`,
		Args: cobra.MaximumNArgs(1),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return texts(codes), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.listCodes(codes)
			}
			code := finding.Code(strings.ToLower(args[0]))
			about, known := finding.Catalogue[code]
			if !known {
				err := fmt.Errorf("no finding has the code %q; koinos findings explain lists them", args[0])
				if near, ok := list.Nearest(string(code), texts(codes)); ok {
					err = fmt.Errorf("no finding has the code %q; did you mean %s?", args[0], near)
				}
				return shell.Usage(err)
			}
			if done, err := a.JSON(explained{code, about.Severity, about.Title, about.Advice}); done {
				return err
			}
			fmt.Fprintln(a.Out, plain(docs.Finding(string(code))))
			return nil
		},
	}
}

func texts(codes []finding.Code) []string {
	out := make([]string, len(codes))
	for i, c := range codes {
		out[i] = string(c)
	}
	return out
}

func (a *app) listCodes(codes []finding.Code) error {
	all := make([]explained, len(codes))
	for i, c := range codes {
		about := finding.Catalogue[c]
		all[i] = explained{c, about.Severity, about.Title, about.Advice}
	}
	if done, err := a.JSON(all); done {
		return err
	}
	rows := make([][]string, len(all))
	for i, e := range all {
		rows[i] = []string{string(e.Code), string(e.Severity), e.Title}
	}
	report.Table(a.Out, []string{"code", "severity", "what it means"}, rows)
	return nil
}

// plain is Markdown as a terminal shows it: blocks of code are indented, and marks of emphasis are gone.
func plain(text string) string {
	var out []string
	code := false
	for line := range strings.SplitSeq(text, "\n") {
		switch {
		case strings.HasPrefix(line, "```"):
			code = !code
			continue
		case code:
			line = "    " + line
		default:
			line = strings.ReplaceAll(strings.TrimPrefix(line, "> "), "**", "")
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}
