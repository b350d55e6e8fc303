package documents

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/core/writing"
	"koinos/folder"
	"koinos/load"
)

func (a *app) mapping() *cobra.Command {
	c := &cobra.Command{Use: "mapping", Short: "Draft, check, test, keep, show, rename and remove mappings"}
	var file, lists string
	var orders bool
	check := &cobra.Command{
		Use: "check MAPPING", Short: "Check a mapping's file, and try it on a document, without a service",
		Long: `Check reads a mapping and names every mistake with its line and column. With
--document it runs a document through it as a dry run would, without a service:
lists and crosswalks are then read from --lists, a folder of NAME.csv and
crosswalks/NAME.csv. With --orders it prints the orders that the document makes,
each with what was found beside its lines.`,
		Example: `  koinos mapping check ostrand-weekly.yaml
  koinos mapping check ostrand-weekly.yaml --document week-12.xlsx --lists demo/lists
  koinos mapping check ostrand-weekly.yaml --document week-12.xlsx --lists demo/lists --orders`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if orders && file == "" {
				return shell.Usage(errors.New("--orders goes with --document: which orders should be shown?"))
			}
			return a.checkMapping(c.Context(), args[0], file, lists, orders)
		},
	}
	check.Flags().StringVar(&file, "document", "", "document to try the mapping on")
	check.Flags().StringVar(&lists, "lists", "", "folder of lists and crosswalks")
	check.Flags().BoolVar(&orders, "orders", false, "print the orders of the document")

	keep := &cobra.Command{
		Use: "keep FILE...", Short: "Send mappings to the service; changed text makes a new version",
		Example: "  koinos mapping keep mappings/*.yaml", Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			all := []api.MappingDetail{}
			for _, name := range args {
				text, err := os.ReadFile(name)
				if err != nil {
					return err
				}
				m, err := a.Client().KeepMapping(c.Context(), text)
				if err != nil {
					return fmt.Errorf("%s: %w", name, err)
				}
				if all = append(all, m); a.Output != "json" {
					fmt.Fprintf(a.Out, "%s version %d: %s\n", m.Name, m.Version, m.Describe)
				}
			}
			_, err := a.JSON(all)
			return err
		},
	}
	ls := &cobra.Command{
		Use: "list", Short: "List the service's mappings", Args: cobra.NoArgs, Example: "  koinos mapping list",
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.Client().Mappings(c.Context())
			if err != nil {
				return err
			}
			if done, err := a.JSON(all); done {
				return err
			}
			var rows [][]string
			for _, m := range all {
				rows = append(rows, []string{m.Name, shell.Num(m.Version), shell.Local(m.StoredAt), m.About})
			}
			report.Table(a.Out, []string{"mapping", ">version", "kept", "about"}, rows)
			return nil
		},
	}
	var version int
	show := &cobra.Command{
		Use: "show NAME", Short: "Print a mapping's text", Args: cobra.ExactArgs(1),
		Example: "  koinos mapping show ostrand-weekly > ostrand-weekly.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			m, err := a.Client().Mapping(c.Context(), args[0], version)
			if err != nil {
				return err
			}
			if done, err := a.JSON(m); done {
				return err
			}
			_, err = io.WriteString(a.Out, m.Text)
			return err
		},
	}
	show.Flags().IntVar(&version, "version", 0, "version; by default the newest")
	c.AddCommand(a.draftMapping(), check, a.testMappings(), a.coverMapping(), a.compareMappings(), keep, ls,
		a.mappingVersions(), show, a.blankSheet(), a.standardMappings())
	c.AddCommand(a.Names("mapping", "ostrand-weekly")...)
	return c
}

func (a *app) checkMapping(ctx context.Context, name, document, lists string, orders bool) error {
	text, err := os.ReadFile(name)
	if err != nil {
		return shell.Exit(shell.ExitBad, fmt.Sprintf("the mapping %s cannot be read: %v", name, errors.Unwrap(err)))
	}
	m, err := mapping.Parse(text)
	if err != nil {
		found := finding.Of(err)
		if done, err := a.JSON(map[string]any{"mapping": name, "findings": found}); done {
			return joinCode(err, shell.ExitBad)
		}
		for _, f := range found {
			fmt.Fprintf(a.Out, "%s:%d:%d: %s %s\n", name, f.Place.Row, f.Place.Column, f.Message, f.Hint)
		}
		return shell.Exit(shell.ExitBad, report.Plural(len(found), "mistake")+" in "+name)
	}
	if document == "" {
		if done, err := a.JSON(map[string]any{"mapping": m.Name, "describe": m.Describe(),
			"findings": []finding.Finding{}}); done {
			return err
		}
		fmt.Fprintf(a.Out, "%s is sound: %s.\n", m.Name, m.Describe())
		return nil
	}
	set, err := shell.ReadLists(lists)
	if err != nil {
		return err
	}
	if missing := m.Missing(set); len(missing) > 0 {
		return fmt.Errorf("%w\nPoint --lists at a folder that has them", missing)
	}
	f, size, err := shell.OpenLocal(document)
	if err != nil {
		return err
	}
	defer f.Close()
	// One document, and then the program ends: memory is returned later than usual, but within what a small machine
	// has.
	if os.Getenv("GOGC") == "" && os.Getenv("GOMEMLIMIT") == "" {
		debug.SetGCPercent(400)
		debug.SetMemoryLimit(160 << 20)
	}
	if orders {
		return a.showOrders(ctx, f, size, m, set)
	}
	var tally report.Tally
	l, err := load.Try(ctx, f, size, m, set, source.DefaultLimits, nil, tally.Add)
	if err != nil {
		return err
	}
	l.DocumentName = filepath.Base(document)
	if done, err := a.JSON(map[string]any{"load": l, "reasons": tally.Reasons()}); done {
		return shell.JoinExit(err, &l)
	}
	report.Text(a.Out, &l, tally.Reasons(), a.Style())
	return shell.JoinExit(nil, &l)
}

// showOrders prints the orders that a document makes through a mapping.
func (a *app) showOrders(ctx context.Context, f io.ReaderAt, size int64, m *mapping.Mapping, set *list.Set) error {
	if a.Output == "json" {
		found := []any{}
		l, err := load.Try(ctx, f, size, m, set, source.DefaultLimits, func(d *intent.Intent) {
			findings := d.Findings
			if findings == nil {
				findings = []finding.Finding{}
			}
			found = append(found, map[string]any{"order": d.Order, "refused": d.Refused(), "findings": findings})
		}, nil)
		if err == nil {
			_, err = a.JSON(map[string]any{"load": l, "orders": found})
		}
		return shell.JoinExit(err, &l)
	}
	l, err := load.Orders(ctx, a.Out, f, size, m, set, source.DefaultLimits)
	return shell.JoinExit(err, &l)
}

func joinCode(err error, code int) error {
	if err != nil {
		return err
	}
	return shell.Exit(code, "")
}

// standardMappings prints what ships with Koinos.
func (a *app) standardMappings() *cobra.Command {
	return &cobra.Command{
		Use: "standard [NAME]", Short: "List the mappings that ship with Koinos, or print one",
		Long: "A mapping of your own that says extends: x12-850 takes what it does not say itself\nfrom the " +
			"standard one: header and line bindings one by one.",
		Example: "  koinos mapping standard\n  koinos mapping standard x12-850", Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				text := mapping.Standard(args[0])
				if text == "" {
					return shell.Usage(fmt.Errorf("there is no standard mapping %q; there are %s", args[0],
						strings.Join(mapping.StandardNames(), ", ")))
				}
				if done, err := a.JSON(api.Mapping{Name: args[0], Text: text}); done {
					return err
				}
				_, err := io.WriteString(a.Out, text)
				return err
			}
			var rows [][]string
			all := []api.MappingDetail{}
			for _, name := range mapping.StandardNames() {
				m, err := mapping.Parse([]byte(mapping.Standard(name)))
				if err != nil {
					return err
				}
				rows = append(rows, []string{name, m.About})
				all = append(all, api.MappingDetail{Mapping: api.Mapping{Name: name}, About: m.About, Describe: m.Describe()})
			}
			if done, err := a.JSON(all); done {
				return err
			}
			report.Table(a.Out, []string{"name", "about"}, rows)
			return nil
		},
	}
}

func (a *app) blankSheet() *cobra.Command {
	var lists, to string
	c := &cobra.Command{
		Use: "blank MAPPING --to FILE", Short: "Write a workbook to fill in: headings, required columns, choices",
		Example: "  koinos mapping blank ostrand-weekly.yaml --lists demo/lists --to blank.xlsx",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if to == "" {
				return shell.Usage(fmt.Errorf("say where with --to FILE.xlsx"))
			}
			m, err := a.MappingOf(c.Context(), args[0])
			if err != nil {
				return err
			}
			set, err := a.SetFor(c.Context(), lists, m)
			if err != nil {
				return err
			}
			if err := folder.Usual.Write(to, func(w io.Writer) error { return writing.Blank(w, m, set) }); err != nil {
				return err
			}
			if done, err := a.JSON(shell.Written{File: to}); done {
				return err
			}
			fmt.Fprintf(a.Err, "%s is ready to be filled in; columns with a dark edge are required.\n", to)
			return nil
		},
	}
	c.Flags().StringVar(&lists, "lists", "", "folder of lists and crosswalks; by default those of the service")
	c.Flags().StringVar(&to, "to", "", "workbook to write")
	return c
}
