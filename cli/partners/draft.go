package partners

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"koinos/cli/shell"
	"koinos/core/partner/draft"
	"koinos/core/report"
	"koinos/folder"
)

// draftedPartner is what partner draft gives as JSON.
type draftedPartner struct {
	Text         string         `json:"text"`
	Interchanges int            `json:"interchanges"`
	Sets         map[string]int `json:"sets"`
}

func (a *app) draftPartner() *cobra.Command {
	var h draft.Hints
	var to string
	c := &cobra.Command{
		Use: "draft FILE…", Short: "Propose a partner from its sample interchanges, without a service",
		Long: "Draft reads sample interchanges of a partner and proposes its description: ids, delimiters, version, characters, which sets\n" +
			"are exchanged, and which segments, elements, qualifiers and codes they always have. Behind each line stands what it was\n" +
			"seen in. What holds only sometimes, or was seen less than three times, is a remark. Look at what is marked with a question\n" +
			"mark, then \"koinos partner keep\" it.",
		Example: "  koinos partner draft samples/*.edi --us QUILLMERE --name BRACKEN --to bracken.yaml",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			var samples []io.Reader
			for _, name := range args {
				f, size, err := shell.OpenLocal(name)
				if err != nil {
					return err
				}
				defer f.Close()
				samples = append(samples, io.NewSectionReader(f, 0, size))
			}
			d, err := draft.From(h, samples...)
			if d == nil {
				return err
			}
			if err != nil {
				return errors.Join(fmt.Errorf("the draft needs a hand"), err)
			}
			write := func(w io.Writer) error {
				_, err := io.WriteString(w, d.Text)
				return err
			}
			if to != "" && to != "-" {
				if err := folder.Usual.Write(to, write); err != nil {
					return err
				}
			}
			if done, err := a.JSON(draftedPartner{d.Text, d.Interchanges, d.Sets}); done {
				return err
			}
			if to == "" || to == "-" {
				return write(a.Out)
			}
			fmt.Fprintf(a.Err, "%s is written, from %s. %s\n", to, report.Plural(d.Interchanges, "interchange"),
				report.Plural(strings.Count(d.Text, "# ?"), "line")+" to look at.")
			return nil
		},
	}
	c.Flags().StringVar(&h.Us, "us", "", "your own id in the interchanges (ISA06 or ISA08)")
	c.Flags().StringVar(&h.Name, "name", "", "your code of the partner")
	c.Flags().StringVar(&to, "to", "", "file to write; by default a name in this folder")
	return c
}
