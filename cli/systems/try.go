package systems

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/report"
	"koinos/core/system"
	"koinos/core/system/draft"
	"koinos/syncs"
)

func (a *app) trySystem() *cobra.Command {
	var calls, raw bool
	var n api.NewTry
	var write string
	c := &cobra.Command{
		Use: "try NAME|FILE [RECORD]", Short: "Sign in, read a page, and say what the description finds there",
		Long: `Try asks a system with a description that is kept, by its name, or with one in a
file, which needs no service: its secrets then come from the environment of this
command. With a kind of record it reads the first page of its list and shows what
the description finds in the records; with --find or --key it looks some up.
With --fields it shows what the system says of the fields of these records, if the
description says how it tells. With --write it shows the call that would make a
record; a system that can check a call without storing anything is asked whether
it would take it. Nothing is stored, no secret is shown.`,
		Example: "  koinos system try slipway\n  koinos system try systems/slipway.yaml order --show-calls\n  koinos " +
			"system try ledgerline article --find sku=00101",
		Args: cobra.RangeArgs(1, 2),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 2 {
				n.Record = args[1]
			}
			if write != "" {
				b, err := os.ReadFile(write)
				if err != nil {
					return shell.Unreadable(write, err)
				}
				if !json.Valid(b) {
					return shell.Exit(shell.ExitUsage, write+" is not JSON.")
				}
				n.Write = b
			}
			var t api.Tried
			text, err := os.ReadFile(args[0])
			if err == nil {
				n.Text = string(text)
				t, err = syncs.Try(c.Context(), n)
			} else if strings.ContainsAny(args[0], "/.") {
				return shell.Unreadable(args[0], err)
			} else {
				n.Name = args[0]
				t, err = a.Client().TrySystem(c.Context(), n)
			}
			if err != nil {
				return err
			}
			if done, err := a.JSON(t); done {
				return err
			}
			return a.tried(args[0], &t, calls, raw)
		},
	}
	c.Flags().StringVar(&n.Find, "find", "", "WAY=VALUE: show the records that this way of the description finds")
	c.Flags().StringVar(&n.Key, "key", "", "show the record of this key")
	c.Flags().BoolVar(&n.Fields, "fields", false, "show what the system says of the fields of these records")
	c.Flags().StringVar(&write, "write", "", "a file with a record in JSON: show the call that would create it")
	c.Flags().BoolVar(&calls, "show-calls", false, "show each request and the beginning of its answer")
	c.Flags().BoolVar(&raw, "json", false, "show the records as they came, too")
	return c
}

func (a *app) tried(name string, t *api.Tried, calls, raw bool) error {
	if calls {
		for _, c := range t.Calls {
			status := "no answer"
			if c.Status != 0 {
				status = shell.Num(c.Status)
			}
			fmt.Fprintf(a.Out, "%s %s\n  %s, %d bytes, %.0f ms\n", c.Method, c.URL, status, c.Bytes, c.Millis)
			if c.Answer != "" {
				fmt.Fprintf(a.Out, "  %s\n", strings.ReplaceAll(strings.TrimSpace(c.Answer), "\n", "\n  "))
			}
		}
		fmt.Fprintln(a.Out)
	}
	if len(t.Findings) > 0 {
		a.Mistakes(name, t.Findings)
		return shell.Exit(shell.ExitBad, "")
	}
	if t.Why != "" {
		return shell.Exit(cmp.Or(map[string]int{"away": shell.ExitAway, "login": shell.ExitLogin, "setup": shell.ExitBad,
			"answer": shell.ExitBad}[t.Kind],
			shell.ExitFailed), t.Why)
	}
	if t.Files != nil {
		return a.triedFiles(t, raw)
	}
	if t.Folder {
		fmt.Fprintf(a.Out, "%s in %s: the folder is there.\n", t.System, t.Address)
		return nil
	}
	fmt.Fprintf(a.Out, "%s at %s: signed in", t.System, t.Address)
	if !t.SignedUntil.IsZero() {
		fmt.Fprintf(a.Out, " until %s", t.SignedUntil.Local().Format("15:04:05"))
	}
	fmt.Fprintln(a.Out, ".")
	if t.Record == "" {
		return nil
	}
	switch {
	case t.Fields != nil:
		a.toldFields(t.Fields)
		return nil
	case t.Step != nil:
		fmt.Fprintf(a.Out, "%s %s%s\n%s\n", t.Step.Method, t.Step.Path, shell.TrialWords[t.Step.Trial], t.Step.Body)
		if t.Step.Trial == "" {
			fmt.Fprintln(a.Out, "It was not sent: the description says nothing of a trial (create: {trial: …}).")
		}
		return nil
	}
	a.showFound(t, raw)
	return nil
}

// triedFiles shows the files in a folder.
func (a *app) triedFiles(t *api.Tried, raw bool) error {
	fmt.Fprintf(a.Out, "%s in %s: %s.\n", t.System, t.Address, report.Plural(len(t.Files), "file"))
	var rows [][]string
	for _, f := range t.Files {
		becomes := "would be taken"
		switch {
		case f.Waits != "":
			becomes = "waits: " + f.Waits
		case f.Wrong != "":
			becomes = "would be refused: " + f.Wrong
		}
		rows = append(rows, []string{f.Name, f.FileID, shell.Num(f.Records), becomes})
	}
	report.Table(a.Out, []string{"file", "its id", ">records", "what becomes of it"}, rows)
	a.showFound(t, raw)
	return nil
}

// showFound shows the records that a try found.
func (a *app) showFound(t *api.Tried, raw bool) {
	var rows [][]string
	for _, f := range t.Found {
		lines := shell.Num(f.Lines)
		if f.Expected > 0 && f.Expected != f.Lines {
			lines += " of " + shell.Num(f.Expected)
		}
		rows = append(rows, []string{f.Key, f.Number, f.Stamp, f.Version, lines, map[bool]string{true: "yes"}[f.Gone],
			f.Place})
	}
	report.Table(a.Out, []string{"key", "number", "stamp", "version", ">lines", "gone", "place"}, rows)
	if t.More {
		fmt.Fprintln(a.Out, "The list goes on behind these.")
	}
	if raw {
		for _, text := range t.Shown {
			fmt.Fprintln(a.Out, text)
		}
	}
}

// toldFields shows what a system says about its fields.
func (a *app) toldFields(fields []system.TheirField) {
	var rows [][]string
	for _, f := range fields {
		var notes []string
		for _, n := range []struct {
			is   bool
			word string
		}{{f.Needed, "needed"}, {f.Fixed, "only at creation"}, {f.Never, "read only"},
			{f.Longest > 0, "up to " + shell.Num(f.Longest) + " letters"},
			{len(f.Choices) > 0, "one of " + strings.Join(f.Choices, ", ")}} {
			if n.is {
				notes = append(notes, n.word)
			}
		}
		of := "record"
		if f.OfLine {
			of = "line"
		}
		rows = append(rows, []string{f.Name, of, f.Type, strings.Join(notes, "; ")})
	}
	report.Table(a.Out, []string{"field", "of", "type", "what it says"}, rows)
}

func (a *app) draftSystem() *cobra.Command {
	var records []string
	var to string
	c := &cobra.Command{
		Use: "draft FILE", Short: "Propose a description from an API's OpenAPI document or GraphQL schema",
		Long: `Draft reads a document that describes an API to programs – OpenAPI 2 or 3 in JSON or
YAML, or a GraphQL schema or the answer to its introspection – and writes a
description of the system, without a service: its address, how to sign in, the
records that it lists, how lists go on, and how records are made and changed.
Every guess says why it was made; what the document does not tell is marked "# ?".
It takes the records that have to do with orders, and those that they refer to.`,
		Example: "  koinos system draft openapi.json > systems/shop.yaml\n  koinos system draft schema.graphql " +
			"--record order --record customer --to shop.yaml",
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			src, err := os.ReadFile(args[0])
			if err != nil {
				return shell.Unreadable(args[0], err)
			}
			d, err := draft.From(src, records)
			if d == nil {
				return shell.Exit(shell.ExitBad, strings.ToUpper(err.Error()[:1])+err.Error()[1:]+".")
			}
			if err != nil {
				fmt.Fprintln(a.Err, "koinos: "+err.Error())
			}
			if done, err := a.JSON(d); done {
				return err
			}
			if to != "" {
				if err := os.WriteFile(to, []byte(d.Text), 0o644); err != nil {
					return err
				}
			} else {
				fmt.Fprint(a.Out, d.Text)
			}
			fmt.Fprintf(a.Err, "Answer what is marked with # ?: %s.\n",
				report.Plural(len(d.Open), "question"))
			if len(d.Left) > 0 {
				fmt.Fprintf(a.Err, "Not in the draft: %s. Add them with --record.\n", strings.Join(d.Left, ", "))
			}
			return nil
		},
	}
	c.Flags().StringArrayVar(&records, "record", nil,
		"take this kind of record, by the name that the draft gives it; may be repeated")
	c.Flags().Var((*shell.OutFile)(&to), "to", "file to write; by default standard output")
	return c
}
