package documents

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/listfile"
	"koinos/core/report"
	"koinos/core/source"
)

// findings are the commands that fix what loads found.
func (a *app) findings() *cobra.Command {
	c := &cobra.Command{Use: "findings", Short: "Explain findings, and fix what many of a load have in common"}
	var pairs, means, entries, dates, accept []string
	var tables string
	var nearest bool
	fix := &cobra.Command{
		Use: "fix LOAD", Short: "Show what would fix many findings at once, or do it and load the failed orders again",
		Long: `Fix without flags lists the acts that would fix most: values that a crosswalk or a
list does not have, dates in a form that the mapping does not know, warnings that
hold orders. With flags it does what they say and loads the orders that failed
once more, and only those.

Many values are easiest said in tables: koinos load missing LOAD --to FOLDER
writes one for each list and crosswalk. Fill them in and name the folder with
--tables: in the column "ours" your code for a value, or in the column "name" the
name of a code that is to be added to a list.`,
		Example: `  koinos findings fix 4
  koinos findings fix 4 --pair "ostrand-yards:Nord yard=0042"
  koinos findings fix 4 --means "lines.unit:Mtr.=MTR"
  koinos findings fix 4 --entry items:00519 --dates lines.requested_delivery_on=d/m/yyyy
  koinos findings fix 4 --tables missing/
  koinos findings fix 4 --take-nearest`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := shell.LoadID(args[0])
			if err != nil {
				return err
			}
			calls := a.Client()
			acts, err := calls.Acts(c.Context(), id)
			if err != nil {
				return err
			}
			if len(pairs)+len(means)+len(entries)+len(dates)+len(accept) == 0 && tables == "" && !nearest {
				if done, err := a.JSON(acts); done {
					return err
				}
				a.showActs(id, acts)
				return nil
			}
			f := api.Fix{Means: map[string][]list.Pair{}, Crosswalks: map[string][]list.Pair{},
				Lists: map[string][]list.Entry{}, Dates: map[string]string{}}
			if nearest {
				takeNearest(&f, acts)
			}
			if tables != "" {
				if err := fromTables(&f, acts, tables); err != nil {
					return err
				}
			}
			if err := fromFlags(&f, pairs, means, entries, dates); err != nil {
				return err
			}
			for _, code := range accept {
				f.Accept = append(f.Accept, finding.Code(code))
			}
			l, err := calls.Fix(c.Context(), id, f)
			if err != nil {
				return err
			}
			a.showFix(&f)
			return a.follow(c.Context(), calls, l)
		},
	}
	flags := fix.Flags()
	flags.StringArrayVar(&pairs, "pair", nil, "CROSSWALK:THEIRS=OURS to add to a crosswalk")
	flags.StringArrayVar(&means, "means", nil,
		"FIELD:THEIRS=OURS: what a value of a field is with us; makes the field a crosswalk where it has none")
	flags.StringArrayVar(&entries, "entry", nil, "LIST:CODE or LIST:CODE=NAME to add to a list")
	flags.StringArrayVar(&dates, "dates", nil, "FIELD=FORM: one more form of a date for the mapping")
	flags.StringSliceVar(&accept, "accept", nil, "codes of warnings that shall not hold orders this time")
	flags.StringVar(&tables, "tables", "", "folder of tables that koinos load missing wrote, filled in")
	flags.BoolVar(&nearest, "take-nearest", false, "take what is nearest for each value that has one")
	c.AddCommand(fix, a.explain())
	return c
}

// showFix names what was changed.
func (a *app) showFix(f *api.Fix) {
	if a.Output == "json" {
		return
	}
	pairs := func(what string, all map[string][]list.Pair) {
		for _, name := range slices.Sorted(maps.Keys(all)) {
			for _, p := range all[name] {
				fmt.Fprintf(a.Out, "%s %s: %q is our %s\n", what, name, p.Theirs, p.Ours)
			}
		}
	}
	pairs("Crosswalk", f.Crosswalks)
	pairs("Crosswalk of", f.Means)
	for _, name := range slices.Sorted(maps.Keys(f.Lists)) {
		for _, e := range f.Lists[name] {
			fmt.Fprintf(a.Out, "List %s: %s\n", name, strings.TrimSpace(e.Code+" "+e.Name))
		}
	}
	for _, field := range slices.Sorted(maps.Keys(f.Dates)) {
		fmt.Fprintf(a.Out, "Mapping: %s may be written %s\n", field, f.Dates[field])
	}
	for _, code := range f.Accept {
		fmt.Fprintf(a.Out, "Accepted this time: %s\n", code)
	}
}

// showActs lists acts with the command for each.
func (a *app) showActs(id int64, acts []api.Act) {
	if len(acts) == 0 {
		fmt.Fprintf(a.Out, "Nothing that one act would fix. koinos load show %d has the reasons.\n", id)
		return
	}
	const named = 5
	for i, act := range acts {
		if i > 0 {
			fmt.Fprintln(a.Out)
		}
		fmt.Fprintf(a.Out, "%s (%s, %s)\n", act.About, report.Plural(act.Orders, "order"),
			report.Plural(act.Findings, "finding"))
		if act.Kind == "accept" {
			fmt.Fprintf(a.Out, "  koinos findings fix %d --accept %s\n", id, act.Name)
			continue
		}
		rows := [][]string{}
		for _, v := range act.Values[:min(named, len(act.Values))] {
			rows = append(rows, []string{"  " + shell.Num(v.Count) + " ×", v.Value, v.Nearest})
		}
		report.Table(a.Out, []string{"  times", "value", "nearest"}, rows)
		if more := len(act.Values) - named; more > 0 {
			fmt.Fprintf(a.Out, "  and %s\n", report.Plural(more, "more value"))
		}
		first := act.Values[0]
		switch act.Kind {
		case "crosswalk":
			fmt.Fprintf(a.Out, "  koinos findings fix %d --pair %q\n", id,
				act.Name+":"+first.Value+"="+orWord(first.Nearest, "OURS"))
		case "list":
			fmt.Fprintf(a.Out, "  koinos findings fix %d --means %q\n", id,
				act.Field+":"+first.Value+"="+orWord(first.Nearest, "OURS"))
			if act.Name != "" {
				fmt.Fprintf(a.Out, "  koinos findings fix %d --entry %q\n", id, act.Name+":"+first.Value)
			}
		case "dates":
			fmt.Fprintf(a.Out, "  koinos findings fix %d --dates %s=%s\n", id, act.Name, orWord(act.Form, "FORM"))
		}
	}
	if !slices.ContainsFunc(acts, func(act api.Act) bool {
		return (act.Kind == "list" || act.Kind == "crosswalk") && act.Name != ""
	}) {
		return // no table has them
	}
	fmt.Fprintf(a.Out, "\nMany values: koinos load missing %d --to missing/, fill the tables in, koinos findings fix "+
		"%d --tables missing/\n", id, id)
}

func orWord(s, word string) string {
	if s == "" {
		return word
	}
	return s
}

func takeNearest(f *api.Fix, acts []api.Act) {
	for _, act := range acts {
		for _, v := range act.Values {
			pair := list.Pair{Theirs: v.Value, Ours: v.Nearest}
			switch {
			case v.Nearest == "":
			case act.Kind == "crosswalk":
				f.Crosswalks[act.Name] = append(f.Crosswalks[act.Name], pair)
			case act.Kind == "list":
				f.Means[act.Field] = append(f.Means[act.Field], pair)
			}
		}
	}
}

func fromFlags(f *api.Fix, pairs, means, entries, dates []string) error {
	cut := func(text, form string) (name, key, value string, err error) {
		name, rest, ok := strings.Cut(text, ":")
		key, value, _ = strings.Cut(rest, "=")
		if !ok || name == "" || key == "" {
			err = shell.Usage(fmt.Errorf("%q is not %s", text, form))
		}
		return name, key, value, err
	}
	for _, text := range pairs {
		name, theirs, ours, err := cut(text, "CROSSWALK:THEIRS=OURS")
		if err != nil {
			return err
		}
		if ours == "" {
			return shell.Usage(fmt.Errorf("%q does not say what %q is with us", text, theirs))
		}
		f.Crosswalks[name] = append(f.Crosswalks[name], list.Pair{Theirs: theirs, Ours: ours})
	}
	for _, text := range means {
		field, theirs, ours, err := cut(text, "FIELD:THEIRS=OURS")
		if err != nil {
			return err
		}
		f.Means[field] = append(f.Means[field], list.Pair{Theirs: theirs, Ours: ours})
	}
	for _, text := range entries {
		name, code, about, err := cut(text, "LIST:CODE=NAME")
		if err != nil {
			return err
		}
		f.Lists[name] = append(f.Lists[name], list.Entry{Code: code, Name: about})
	}
	for _, text := range dates {
		field, form, ok := strings.Cut(text, "=")
		if !ok {
			return shell.Usage(fmt.Errorf("%q is not FIELD=FORM", text))
		}
		f.Dates[field] = form
	}
	return nil
}

// fromTables reads the tables that load missing wrote. Rows that are still blank are skipped. The code that a value is
// with us goes into the crosswalk of the field that acts name.
func fromTables(f *api.Fix, acts []api.Act, folder string) error {
	files, err := filepath.Glob(filepath.Join(folder, "*.csv"))
	if err != nil {
		return err
	}
	filled := 0
	for _, file := range files {
		base := strings.TrimSuffix(filepath.Base(file), ".csv")
		name, crosswalk := strings.CutSuffix(base, "-crosswalk")
		name, isList := strings.CutSuffix(name, "-list")
		if !crosswalk && !isList {
			continue
		}
		err := eachFilled(file, crosswalk, func(theirs, ours, about string) error {
			filled++
			switch {
			case crosswalk:
				f.Crosswalks[name] = append(f.Crosswalks[name], list.Pair{Theirs: theirs, Ours: ours})
			case ours == "":
				f.Lists[name] = append(f.Lists[name], list.Entry{Code: theirs, Name: about})
			case about != "":
				return fmt.Errorf("%s says of %q what it is with us and a name for it: it is either one of our codes or a new one",
					file, theirs)
			default:
				field := fieldOf(acts, name, theirs)
				if field == "" {
					return fmt.Errorf("%s: no field of the load has the unknown value %q", file, theirs)
				}
				f.Means[field] = append(f.Means[field], list.Pair{Theirs: theirs, Ours: ours})
			}
			return nil
		})
		if err != nil {
			return shell.Exit(shell.ExitBad, err.Error())
		}
	}
	if filled == 0 {
		return shell.Exit(shell.ExitBad,
			fmt.Sprintf("no table in %s is filled in; koinos load missing LOAD --to FOLDER writes them", folder))
	}
	return nil
}

// eachFilled yields the rows of a table in which something is filled in.
func eachFilled(file string, crosswalk bool, yield func(theirs, ours, about string) error) error {
	r, size, err := shell.OpenLocal(file)
	if err != nil {
		return err
	}
	defer r.Close()
	columns := listfile.Columns{Code: "code", Name: "name"}
	if crosswalk {
		columns = listfile.Columns{Code: "theirs", Name: "ours"}
	}
	rows, err := listfile.ReadBy(r, size, false, columns)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	for _, e := range rows {
		ours, about := e.Attributes["ours"], e.Name
		if crosswalk {
			ours, about = e.Name, ""
		}
		if ours+about != "" {
			if err := yield(source.Unguard(e.Code), source.Unguard(ours), about); err != nil {
				return err
			}
		}
	}
	return nil
}

// fieldOf is the field of which a list lacks a value. Where it lacks values of several fields, the value decides.
func fieldOf(acts []api.Act, name, value string) (field string) {
	for _, a := range acts {
		if a.Kind != "list" || a.Name != name {
			continue
		}
		if field == "" || slices.ContainsFunc(a.Values, func(v api.ActValue) bool { return v.Value == value }) {
			field = a.Field
		}
	}
	return field
}
