package shell

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/report"
)

// Became reports what became of interchanges; held ones end with an exit code.
func (a *App) Became(all []api.Interchange) error {
	held := false
	for _, i := range all {
		held = held || i.State == api.StateHeld || i.State == api.StateUnknown || i.State == api.StateDoubtful ||
			i.State == api.StateRejected && i.Ruling == ""
	}
	if done, err := a.JSON(all); done {
		if err == nil && held {
			err = Exit(ExitRefused, "")
		}
		return err
	}
	if len(all) == 0 {
		fmt.Fprintln(a.Out, "There is nothing to say that has not been said.")
		return nil
	}
	for k := range all {
		if k > 0 {
			fmt.Fprintln(a.Out)
		}
		a.Interchange(&all[k], ShownSets(&all[k]))
	}
	if held {
		return Exit(ExitRefused, "")
	}
	return nil
}

// Interchanges lists interchanges, a row each.
func (a *App) Interchanges(all []api.Interchange) {
	var rows [][]string
	for k := range all {
		i := &all[k]
		rows = append(rows, []string{fmt.Sprint(i.ID), i.At.Local().Format("01-02 15:04"), i.Direction,
			OrDash(i.Partner), i.Kinds, controlOf(i), stateOf(i), strings.Join(i.Orders, " "), i.Name})
	}
	report.Table(a.Out, []string{">id", "when", "", "partner", "sets", ">control", "state", "orders", "file"}, rows)
}

func controlOf(i *api.Interchange) string {
	if i.Control == 0 {
		return "–"
	}
	return fmt.Sprintf("%09d", i.Control)
}

// stateWords are the words for states.
var stateWords = map[string]string{api.StateArriving: "is being read", api.StateSent: "sent, not yet acknowledged",
	api.StateAccepted: "acknowledged",
	api.StateNoted:    "acknowledged with errors noted", api.StateDuplicate: "came before",
	api.StateDoubtful: "doubtful: its control number came before", api.StateUnknown: "from an unknown sender",
	api.StateReady: "waits to leave"}

func stateOf(i *api.Interchange) string {
	if i.Overdue {
		return "OVERDUE: not acknowledged"
	}
	return stateWord(i.Direction, i.State)
}

// stateWord says the state of an interchange, or of one of its sets, and who has rejected it.
func stateWord(direction, state string) string {
	by := map[string]string{"in": "by us", "out": "by them"}[direction]
	switch state {
	case api.StateRejected:
		return "rejected " + by
	case api.StatePartly:
		return "partly rejected " + by
	}
	return cmp.Or(stateWords[state], state)
}

// Interchange shows what became of an interchange and of some of its sets, and why.
func (a *App) Interchange(i *api.Interchange, sets []api.SetRecord) {
	way := "from"
	if i.Direction == "out" {
		way = "to"
	}
	fmt.Fprintf(a.Out, "Interchange %d  %s %s, %s, control %s: %s\n", i.ID, way, OrDash(i.Partner), i.Kinds,
		controlOf(i), stateOf(i))
	if i.Name != "" {
		fmt.Fprintf(a.Out, "  file %s", i.Name)
		if i.Answers != 0 {
			fmt.Fprintf(a.Out, ", answers interchange %d", i.Answers)
		}
		fmt.Fprintln(a.Out)
	}
	if !i.DueAt.IsZero() && i.AcknowledgedAt.IsZero() {
		fmt.Fprintf(a.Out, "  to be acknowledged by %s\n", i.DueAt.Local().Format("2006-01-02 15:04"))
	}
	if i.Ruling != "" {
		fmt.Fprintf(a.Out, "  %s by %s\n", map[string]string{api.LetIn: "let in", api.Refused: "refused",
			api.Settled: "settled"}[i.Ruling],
			i.RuledBy)
	}
	if i.AcceptedBy != "" {
		fmt.Fprintf(a.Out, "  %s: accepted by %s\n", strings.Join(i.Accept, ", "), i.AcceptedBy)
	}
	if i.CopyOf != 0 {
		fmt.Fprintf(a.Out, "  says once more what interchange %d said\n", i.CopyOf)
	}
	if len(i.Departures) > 1 {
		for _, left := range i.Departures {
			fmt.Fprintf(a.Out, "  left %s, sent by %s\n", left.At.Local().Format("2006-01-02 15:04"), left.By)
		}
	}
	for _, id := range i.Copies {
		fmt.Fprintf(a.Out, "  was sent under new numbers as interchange %d\n", id)
	}
	a.said("  ", i.Findings)
	if len(sets) < i.SetCount {
		fmt.Fprintf(a.Out, "  %s: %s; koinos exchange show %d --state, or --number, shows others\n",
			report.Plural(i.SetCount, "transaction set"), setStates(i), i.ID)
	}
	var rows [][]string
	for _, s := range sets {
		load := ""
		if s.LoadID != 0 {
			load = fmt.Sprint(s.LoadID)
		}
		var numbers []string
		for _, o := range s.Orders {
			numbers = append(numbers, o.Number)
		}
		rows = append(rows, []string{s.Kind, s.Control, stateWord(i.Direction, s.State), strings.Join(numbers, " "), load,
			fmt.Sprint(len(s.Findings))})
	}
	if len(rows) > 0 {
		report.Table(a.Out, []string{"set", "control", "state", "orders", ">load", ">findings"}, rows)
	}
	decides, waits := false, false
	for _, s := range sets {
		asks := slices.ContainsFunc(s.Findings, func(f finding.Finding) bool { return f.Code == finding.ChangeAsked })
		if s.State == api.StateHeld && i.Direction == "in" && s.Decided == nil {
			if waits = waits || !asks; asks {
				decides = true
			}
		}
		if s.Decided != nil {
			fmt.Fprintf(a.Out, "Set %s %s: %s\n", s.Kind, s.Control, decidedWords(s.Decided))
		}
		if len(s.Findings) > 0 {
			fmt.Fprintf(a.Out, "Set %s %s\n", s.Kind, s.Control)
			a.said("  ", s.Findings)
		}
	}
	if decides {
		fmt.Fprintf(a.Out, "To take what is asked for, or some of it: koinos exchange decide %d\n", i.ID)
	}
	if waits {
		fmt.Fprintf(a.Out, "When the cause is gone: koinos exchange replay %d. When it is dealt with by hand: koinos exchange settle %d\n",
			i.ID, i.ID)
	}
}

// ShownSets are the sets of an interchange that are shown: of many, those that need a person.
func ShownSets(i *api.Interchange) []api.SetRecord {
	if len(i.Sets) >= i.SetCount {
		return i.Sets
	}
	worst := slices.DeleteFunc(slices.Clone(i.Sets), func(s api.SetRecord) bool {
		return s.State != api.StateHeld && s.State != api.StateRejected
	})
	if len(worst) == 0 {
		return i.Sets
	}
	return worst
}

// setStates says how many sets of an interchange are in each state.
func setStates(i *api.Interchange) string {
	var parts []string
	for _, state := range slices.Sorted(maps.Keys(i.SetStates)) {
		parts = append(parts, fmt.Sprintf("%d %s", i.SetStates[state], stateWord(i.Direction, state)))
	}
	return strings.Join(parts, ", ")
}

// said prints findings, each with its place and what to do.
func (a *App) said(indent string, found []finding.Finding) {
	for _, f := range found {
		sign := "✕"
		if f.Severity == finding.Warning {
			sign = "!"
		}
		where := f.At
		if where != "" {
			where += ": "
		}
		fmt.Fprintf(a.Out, "%s%s %s%s\n", indent, sign, where, f.Message)
		if f.Severity == finding.Error && f.Hint != "" {
			fmt.Fprintf(a.Out, "%s  → %s\n", indent, f.Hint)
		}
	}
}

// decidedWords says what a person has decided about the changes of a set.
func decidedWords(d *api.Decided) string {
	if len(d.Taken) == 0 {
		return d.By + " refused all that it asks for."
	}
	var lines []string
	header := ""
	for _, n := range d.Taken {
		if n == 0 {
			header = "the header"
		} else {
			lines = append(lines, strconv.Itoa(n))
		}
	}
	what := map[bool]string{false: "line ", true: "lines "}[len(lines) > 1] + strings.Join(lines, ", ")
	switch {
	case len(lines) == 0:
		what = header
	case header != "":
		what = header + " and " + what
	}
	return fmt.Sprintf("%s took what it asks for in %s.", d.By, what)
}
