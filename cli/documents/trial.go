package documents

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/drafting"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/reading"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/folder"
	"koinos/load"
)

func (a *app) draftMapping() *cobra.Command {
	var name, partner, kind, of, lists, to string
	var known []string
	c := &cobra.Command{
		Use: "draft FILE", Short: "Propose a mapping for a document that has none",
		Long: `Draft looks at a document's headings, labels and values and writes a mapping for
it, without a service. Every guess says why it was made; what is not sure is
marked in the mapping with "# ?". With --lists values are looked up in lists and
crosswalks, and the headings of mappings named with --known count as words.

A document about orders that are stored already, such as a list of what
was shipped, needs --kind shipment (or receipt, return, answer, change, invoice).`,
		Example: "  koinos mapping draft week-12.xlsx --lists demo/lists > week.yaml\n  koinos mapping draft " +
			"orders.json --partner SLIPWAY --kind sales --to slipway.yaml\n  koinos mapping draft " +
			"despatched.csv --kind shipment --partner PELLOW --to despatched.yaml",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			f, size, err := shell.OpenLocal(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			set, err := shell.ReadLists(lists)
			if err != nil {
				return err
			}
			h := drafting.Hints{Name: name, Partner: partner, Lists: set, Limits: source.DefaultLimits}
			if h.Kind, h.Says, err = drafting.KindOf(kind, of); err != nil {
				return shell.Usage(err)
			}
			for _, k := range known {
				m, err := a.MappingOf(c.Context(), k)
				if err != nil {
					return err
				}
				h.Known = append(h.Known, m)
			}
			p, err := drafting.Draft(f, size, h)
			if p == nil {
				return err
			}
			if err != nil {
				fmt.Fprintln(a.Err, "koinos: "+err.Error())
			}
			if done, err := a.JSON(p); done {
				return err
			}
			if to != "" {
				if err := folder.Usual.Write(to, func(w io.Writer) error {
					_, err := io.WriteString(w, p.Text)
					return err
				}); err != nil {
					return err
				}
			} else if _, err := io.WriteString(a.Out, p.Text); err != nil {
				return err
			}
			a.showGuesses(p)
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "draft", "name of the mapping")
	c.Flags().StringVar(&partner, "partner", "", "our code of the partner, where it is known")
	c.Flags().StringVar(&kind, "kind", "", strings.Join(drafting.Kinds(), ", ")+
		"; by default sales or purchase is guessed")
	c.Flags().StringVar(&of, "of", "", "which orders a shipment and the like is of: sales or purchase")
	shell.Offers(c, "kind", drafting.Kinds()...)
	shell.Offers(c, "of", order.Kinds...)
	c.Flags().StringVar(&lists, "lists", "", "folder of lists and crosswalks to look values up in")
	c.Flags().StringArrayVar(&known, "known", nil, "mapping made before; may be given several times")
	c.Flags().Var((*shell.OutFile)(&to), "to", "file to write; by default standard output")
	return c
}

// showGuesses says, apart from the mapping, what to check in it.
func (a *app) showGuesses(p *drafting.Proposal) {
	counts := map[string]int{}
	var rows [][]string
	for _, g := range p.Guesses {
		counts[g.Sure]++
		if g.Sure != "sure" {
			second := g.Second
			if second != "" {
				second = "or " + second
			}
			rows = append(rows, []string{g.Sure, g.What, finding.Clip(g.Choice, 40), finding.Clip(g.Why, 70), second})
		}
	}
	if p.NoOrders != "" {
		fmt.Fprintf(a.Err, "\n%s\n", p.NoOrders)
		if p.As != "" {
			fmt.Fprintf(a.Err, "Draft it with --kind %s.\n", p.As)
		}
	}
	fmt.Fprintf(a.Err, "\n%d guesses are sure, %d likely, %d unsure.", counts["sure"], counts["likely"],
		counts["unsure"])
	if len(rows) > 0 {
		fmt.Fprintln(a.Err, " Look at these:")
		fmt.Fprintln(a.Err)
		report.Table(a.Err, []string{"how sure", "what", "choice", "why", "second choice"}, rows)
	} else {
		fmt.Fprintln(a.Err)
	}
	if len(p.Unbound) > 0 {
		fmt.Fprintf(a.Err, "\nNot used: %s.\n", strings.Join(p.Unbound, ", "))
	}
}

func (a *app) testMappings() *cobra.Command {
	var update bool
	var lists string
	c := &cobra.Command{
		Use: "test DIR", Short: "Run mappings over sample documents and compare with kept expected orders",
		Long: `Test runs every mapping DIR/NAME.yaml over the documents in DIR/NAME/ and
compares what comes out with DOCUMENT.expected beside each, without a service.
--update writes these files anew; review them as you review code. Lists and
crosswalks are read from DIR/lists unless --lists says otherwise.`,
		Example: "  koinos mapping test mappings\n  koinos mapping test mappings --update", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if lists == "" {
				if info, err := os.Stat(filepath.Join(args[0], "lists")); err == nil && info.IsDir() {
					lists = filepath.Join(args[0], "lists")
				}
			}
			return a.runTests(c.Context(), args[0], lists, update)
		},
	}
	c.Flags().BoolVar(&update, "update", false, "write the expected orders again")
	c.Flags().StringVar(&lists, "lists", "", "folder of lists and crosswalks; by default DIR/lists")
	return c
}

// tested is the result of one sample.
type tested struct {
	Mapping  string `json:"mapping"`
	Document string `json:"document"`
	Result   string `json:"result"` // same, differs, new, written
	Changes  string `json:"changes,omitempty"`
}

func (a *app) runTests(ctx context.Context, dir, lists string, update bool) error {
	set, err := shell.ReadLists(lists)
	if err != nil {
		return err
	}
	files, err := filepath.Glob(filepath.Join(dir, "*.yaml"))
	if err != nil {
		return err
	}
	var results []tested
	bad := 0
	for _, file := range files {
		m, err := a.MappingOf(ctx, file)
		if err != nil {
			return err
		}
		if missing := m.Missing(set); len(missing) > 0 {
			return fmt.Errorf("%s: %w\nPut it into %s, or name its folder with --lists", file, missing,
				filepath.Join(dir, "lists"))
		}
		samples, err := os.ReadDir(strings.TrimSuffix(file, ".yaml"))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, s := range samples {
			if s.IsDir() || strings.HasSuffix(s.Name(), ".expected") || strings.HasPrefix(s.Name(), ".") {
				continue
			}
			r, err := a.testOne(ctx, m, set, filepath.Join(strings.TrimSuffix(file, ".yaml"), s.Name()), update)
			if err != nil {
				return err
			}
			if r.Result == "differs" || r.Result == "new" {
				bad++
			}
			results = append(results, r)
		}
	}
	if len(results) == 0 {
		return shell.Exit(shell.ExitBad,
			fmt.Sprintf("%s has no mapping NAME.yaml with a folder NAME of sample documents beside it", dir))
	}
	if done, err := a.JSON(results); done {
		if err == nil && bad > 0 {
			err = shell.Exit(shell.ExitFailed, "")
		}
		return err
	}
	for _, r := range results {
		fmt.Fprintf(a.Out, "%-8s %s  %s\n", r.Result, r.Mapping, r.Document)
		if r.Changes != "" {
			fmt.Fprintln(a.Out, r.Changes)
		}
	}
	if bad > 0 {
		return shell.Exit(shell.ExitFailed, fmt.Sprintf("%d of %s; where the new is right, say --update", bad,
			report.Plural(len(results), "sample")))
	}
	return nil
}

func (a *app) testOne(ctx context.Context, m *mapping.Mapping, set *list.Set, document string, update bool) (tested,
	error) {
	r := tested{Mapping: m.Name, Document: document}
	f, size, err := shell.OpenLocal(document)
	if err != nil {
		return r, err
	}
	defer f.Close()
	var out bytes.Buffer
	if _, err := load.Expected(ctx, &out, f, size, m, set, source.DefaultLimits); err != nil {
		return r, fmt.Errorf("%s: %w", document, err)
	}
	kept, err := os.ReadFile(document + ".expected")
	switch {
	case err == nil && bytes.Equal(kept, out.Bytes()):
		r.Result = "same"
		return r, nil
	case update:
		r.Result = "written"
		return r, folder.Usual.Write(document+".expected", func(w io.Writer) error {
			_, err := w.Write(out.Bytes())
			return err
		})
	case errors.Is(err, fs.ErrNotExist):
		r.Result, r.Changes = "new", "  nothing is kept to compare with; --update keeps what came out"
		return r, nil
	case err != nil:
		return r, err
	}
	r.Result, r.Changes = "differs", lineDiff(string(kept), out.String(), 40)
	return r, nil
}

func (a *app) coverMapping() *cobra.Command {
	var lists string
	c := &cobra.Command{
		Use: "coverage MAPPING DOCUMENT", Short: "Show what a mapping does not use of a document, and which fields stay empty",
		Example: "  koinos mapping coverage ostrand-weekly.yaml week-12.xlsx --lists demo/lists",
		Args:    cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			m, err := a.MappingOf(c.Context(), args[0])
			if err != nil {
				return err
			}
			set, err := a.SetFor(c.Context(), lists, m)
			if err != nil {
				return err
			}
			f, size, err := shell.OpenLocal(args[1])
			if err != nil {
				return err
			}
			defer f.Close()
			cover, notes, err := load.Coverage(c.Context(), f, size, m, set, source.DefaultLimits)
			if err != nil {
				return err
			}
			if done, err := a.JSON(cover); done {
				return err
			}
			a.showCoverage(cover)
			for _, n := range notes {
				fmt.Fprintf(a.Out, "\n%s: %s\n", n.Severity, n.Error())
			}
			return nil
		},
	}
	c.Flags().StringVar(&lists, "lists", "", "folder of lists and crosswalks; by default those of the service")
	return c
}

func (a *app) showCoverage(c *reading.Coverage) {
	var rows [][]string
	for _, u := range c.Unbound {
		rows = append(rows, []string{u.Sheet, u.Column, u.Heading, shell.Num(u.Filled), u.Sample})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.Out, "These columns have values and are not used:")
		fmt.Fprintln(a.Out)
		report.Table(a.Out, []string{"sheet", "column", "heading", ">filled", "for example"}, rows)
	} else {
		fmt.Fprintln(a.Out, "Everything that has a value is used.")
	}
	fmt.Fprintln(a.Out, "\nFields:")
	fmt.Fprintln(a.Out)
	rows = nil
	for _, f := range c.Fields {
		note := ""
		if f.Filled == 0 {
			note = "always empty"
		} else if f.Filled < f.Of {
			note = fmt.Sprintf("%d without", f.Of-f.Filled)
		}
		rows = append(rows, []string{string(f.Level), f.Field, shell.Num(f.Filled), shell.Num(f.Of), note})
	}
	report.Table(a.Out, []string{"level", "field", ">filled", ">of", ""}, rows)
	if len(c.Misses) > 0 {
		fmt.Fprintln(a.Out, "\nLists and crosswalks do not know:")
		fmt.Fprintln(a.Out)
		a.ShowMisses(c.Misses)
	}
}

func (a *app) compareMappings() *cobra.Command {
	var lists string
	c := &cobra.Command{
		Use: "compare OLD NEW [DOCUMENT]", Short: "Compare two mappings as text, and by what they make of a document",
		Long: `Compare shows how two mappings differ: line by line, and, where a document is
named, which of its orders differ in which fields. OLD and NEW are files, or
NAME@VERSION of the service.`,
		Example: "  koinos mapping compare ostrand-weekly@2 ostrand-weekly@3 week-12.xlsx\n  koinos mapping compare " +
			"old.yaml new.yaml orders.csv --lists demo/lists",
		Args: cobra.RangeArgs(2, 3),
		RunE: func(c *cobra.Command, args []string) error {
			return a.runCompare(c.Context(), args, lists)
		},
	}
	c.Flags().StringVar(&lists, "lists", "", "folder of lists and crosswalks; by default those of the service")
	return c
}

func (a *app) runCompare(ctx context.Context, args []string, lists string) error {
	was, err := a.MappingOf(ctx, args[0])
	if err != nil {
		return err
	}
	is, err := a.MappingOf(ctx, args[1])
	if err != nil {
		return err
	}
	text := lineDiff(was.Text, is.Text, 1000)
	var effect *api.Comparison
	if len(args) == 3 {
		set, err := a.SetFor(ctx, lists, was, is)
		if err != nil {
			return err
		}
		f, size, err := shell.OpenLocal(args[2])
		if err != nil {
			return err
		}
		defer f.Close()
		if effect, err = load.Compare(ctx, f, size, was, is, set, source.DefaultLimits); err != nil {
			return err
		}
	}
	if done, err := a.JSON(map[string]any{"text": text, "effect": effect}); done {
		return err
	}
	if text == "" {
		text = "  The texts are the same."
	}
	fmt.Fprintln(a.Out, text)
	if effect == nil {
		return nil
	}
	fmt.Fprintf(a.Out, "\nOf %s %d are the same, %d differ.\n", report.Plural(effect.Orders, "order"), effect.Same,
		len(effect.Effects))
	var rows [][]string
	for _, e := range effect.Effects {
		word := e.Is
		switch {
		case e.Was == "":
			word = "new, " + e.Is
		case e.Is == "":
			word = "gone, was " + e.Was
		case e.Was != e.Is:
			word = e.Was + " → " + e.Is
		}
		first := []string{e.Order, word}
		for i, ch := range e.Changes {
			if i == 12 {
				rows = append(rows, []string{"", "", fmt.Sprintf("and %d more", len(e.Changes)-i), "", ""})
				break
			}
			field := ch.Field
			if ch.Line > 0 {
				field = fmt.Sprintf("line %d %s", ch.Line, ch.Field)
			}
			rows = append(rows, append(slices.Clone(first), field, ch.Was, ch.Is))
			first = []string{"", ""}
		}
		if len(e.Changes) == 0 {
			rows = append(rows, append(first, "", "", ""))
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.Out)
		report.Table(a.Out, []string{"order", "outcome", "field", "was", "is"}, rows)
	}
	return nil
}

// lineDiff shows the differing lines of two texts with - and +, up to a number of them; "" if the texts are equal.
func lineDiff(a, b string, most int) string {
	x, y := strings.Split(strings.TrimSuffix(a, "\n"), "\n"), strings.Split(strings.TrimSuffix(b, "\n"), "\n")
	// What is equal at both ends need not be compared.
	head := 0
	for head < len(x) && head < len(y) && x[head] == y[head] {
		head++
	}
	tail := 0
	for tail < len(x)-head && tail < len(y)-head && x[len(x)-1-tail] == y[len(y)-1-tail] {
		tail++
	}
	x, y = x[head:len(x)-tail], y[head:len(y)-tail]
	if len(x) == 0 && len(y) == 0 {
		return ""
	}
	var lines []string
	if len(x)*len(y) > 4_000_000 {
		return fmt.Sprintf("  %d lines became %d", len(x), len(y))
	}
	common := make([][]int, len(x)+1) // longest common run of lines from here on
	for i := range common {
		common[i] = make([]int, len(y)+1)
	}
	for i := len(x) - 1; i >= 0; i-- {
		for j := len(y) - 1; j >= 0; j-- {
			if x[i] == y[j] {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	i, j := 0, 0
	for i < len(x) || j < len(y) {
		switch {
		case i < len(x) && j < len(y) && x[i] == y[j]:
			i, j = i+1, j+1
			continue
		case j >= len(y) || i < len(x) && common[i+1][j] >= common[i][j+1]:
			lines = append(lines, "  - "+x[i])
			i++
		default:
			lines = append(lines, "  + "+y[j])
			j++
		}
		if len(lines) == most {
			return strings.Join(append(lines, "  …"), "\n")
		}
	}
	return strings.Join(lines, "\n")
}

func (a *app) mappingVersions() *cobra.Command {
	return &cobra.Command{
		Use: "versions NAME", Short: "List the versions of a mapping", Args: cobra.ExactArgs(1),
		Example: "  koinos mapping versions ostrand-weekly",
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.Client().MappingVersions(c.Context(), args[0])
			if err != nil {
				return err
			}
			if done, err := a.JSON(all); done {
				return err
			}
			var rows [][]string
			for i, m := range all {
				changed := ""
				if i+1 < len(all) {
					diff := lineDiff(all[i+1].Text, m.Text, 1000)
					changed = fmt.Sprintf("%s out, %d in", report.Plural(strings.Count(diff, "  - "), "line"),
						strings.Count(diff, "  + "))
				}
				rows = append(rows, []string{shell.Num(m.Version), shell.Local(m.StoredAt), m.StoredBy, changed})
			}
			report.Table(a.Out, []string{">version", "kept", "by", "against the one before"}, rows)
			return nil
		},
	}
}
