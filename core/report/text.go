package report

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"koinos/core/finding"
	"koinos/core/outcome"
)

// Style is how text is written: with colours, and how wide.
type Style struct {
	Color bool
	Width int // columns of the terminal; 0 is 120
}

func (s Style) paint(words string, colors ...text.Color) string {
	if !s.Color || words == "" {
		return words
	}
	return text.Colors(colors).Sprint(words)
}

// Text writes a load and its reasons for a terminal.
func Text(w io.Writer, l *outcome.Load, reasons []Reason, style Style) {
	if style.Width <= 0 {
		style.Width = 120
	}
	title := l.DocumentName
	if l.ID != 0 {
		title = fmt.Sprintf("Load %d: %s", l.ID, l.DocumentName)
	}
	version := ""
	if l.Version > 0 {
		version = fmt.Sprintf(" (version %d)", l.Version)
	}
	fmt.Fprintf(w, "%s  through mapping %s%s\n", style.paint(title, text.Bold), l.Mapping, version)
	if l.TakenAwayAt != nil {
		fmt.Fprintf(w, "  Its findings and rows are not kept any more; they were taken away on %s.\n",
			l.TakenAwayAt.Format(time.DateOnly))
	}
	if l.Note != "" {
		fmt.Fprintf(w, "  note: %s\n", clean(l.Note))
	}
	fmt.Fprintf(w, "  %s in %s, %s read\n", Plural(l.Orders, "order"), Plural(l.Lines, "line"), Plural(l.Rows, "row"))
	for _, o := range []struct {
		n     int
		color text.Color
		one   string
		many  string // where it differs
	}{
		{l.Loaded, text.FgGreen, "loaded", ""},
		{l.Changed, text.FgGreen, "changed: stored before, and brought up to date", ""},
		{l.Ready, text.FgGreen, "ready: it would be loaded", "ready: they would be loaded"},
		{l.Differs, text.FgGreen, "differs: stored before, it would be changed",
			"differ: stored before, they would be changed"},
		{l.Unchanged, text.FgHiBlack, "unchanged: stored before, the same", ""},
		{l.Withheld, text.FgYellow, "withheld: good, but all or none was asked for", ""},
		{l.Held, text.FgYellow, "held: it waits for somebody", "held: they wait for somebody"},
		{l.Refused, text.FgRed, "refused", ""}, {l.Undone, text.FgHiBlack, "taken back", ""},
		{l.LeftOut, text.FgHiBlack, "left out, as the mapping's orders.leave_out says: it is not counted above",
			"left out, as the mapping's orders.leave_out says: they are not counted above"},
		{l.RowsOut, text.FgHiBlack, "row left out, as the mapping's document.rows says",
			"rows left out, as the mapping's document.rows says"},
	} {
		if o.n == 0 {
			continue
		}
		words := o.one
		if o.n > 1 && o.many != "" {
			words = o.many
		}
		fmt.Fprintf(w, "  %s %s\n", style.paint(fmt.Sprintf("%7d", o.n), o.color), words)
	}
	switch l.Status {
	case outcome.Failed:
		fmt.Fprintf(w, "  %s\n", style.paint("The load stopped before the document's end.", text.FgRed))
	case outcome.Cancelled:
		fmt.Fprintf(w, "  %s Load the document again: orders that were loaded are recognised.\n",
			style.paint("The load was cancelled.", text.FgYellow))
	case outcome.Stopped:
		fmt.Fprintf(w, "  %s Load the document again when it is fixed: orders that were loaded are recognised.\n",
			style.paint("The load stopped: "+l.Reason+".", text.FgYellow))
	case outcome.Paused:
		fmt.Fprintf(w, "  %s koinos load resume %d goes on from here.\n",
			style.paint("The load is paused at "+fmt.Sprintf("%.0f", 100*l.Share)+" %: "+l.Reason+".", text.FgYellow),
			l.ID)
	case outcome.Waiting:
		fmt.Fprintln(w, "  waiting for other loads to end")
	case outcome.Running:
		fmt.Fprintf(w, "  still running, %.0f %% read\n", 100*l.Share)
	}
	if l.Saved > 0 {
		fmt.Fprintf(w, "  %s\n", style.paint("By hand this would have taken "+Minutes(l.Saved)+".", text.FgHiBlack))
	}
	for _, part := range []struct {
		severity finding.Severity
		title    string
		color    text.Color
	}{{finding.Error, "What keeps orders out", text.FgRed}, {finding.Warning, "What to look at", text.FgYellow}} {
		writeReasons(w, reasons, part.severity, part.title, part.color, style)
	}
}

func writeReasons(w io.Writer, reasons []Reason, severity finding.Severity, title string, color text.Color,
	style Style) {
	t := table.NewWriter()
	t.SetStyle(plainTable)
	const reasonWidth, placeWidth = 34, 20
	exampleWidth := max(30, style.Width-reasonWidth-placeWidth-24)
	t.SetColumnConfigs([]table.ColumnConfig{
		{Number: 1, Align: text.AlignRight, AlignHeader: text.AlignRight},
		{Number: 2, Align: text.AlignRight, AlignHeader: text.AlignRight},
	})
	t.AppendHeader(table.Row{"  times", "orders", "reason", "first at", "what it says there"})
	n := 0
	for _, r := range reasons {
		if r.Severity != severity {
			continue
		}
		n++
		reason := r.Title
		if r.Field != "" {
			reason = r.Field + ": " + reason
		}
		if r.Values > 1 && r.Count > 1 {
			reason += fmt.Sprintf(" (%d values)", r.Values)
		}
		example := clean(r.Example.Message)
		if r.Example.Hint != "" {
			example += " → " + clean(r.Example.Hint)
		}
		t.AppendRow(table.Row{style.paint(fmt.Sprint(r.Count), color), orDash(r.Orders),
			text.WrapSoft(reason, reasonWidth), text.WrapSoft(clean(r.Example.At), placeWidth),
			text.WrapSoft(example, exampleWidth)})
	}
	if n == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s\n%s\n", style.paint(title, text.Bold), trimLines(t.Render()))
}

func orDash(n int) string {
	if n == 0 {
		return "–"
	}
	return fmt.Sprint(n)
}

// plainTable is columns with air between them and no lines.
var plainTable = table.Style{
	Name:    "plain",
	Box:     table.BoxStyle{PaddingRight: "  ", MiddleVertical: "", UnfinishedRow: ""},
	Format:  table.FormatOptions{Header: text.FormatDefault},
	Options: table.Options{},
}

// Table writes rows as aligned columns for a terminal. Columns whose heading
// begins with > are numbers and stand at the right.
func Table(w io.Writer, headings []string, rows [][]string) {
	if len(rows) == 0 {
		fmt.Fprintln(w, "None.")
		return
	}
	t := table.NewWriter()
	t.SetStyle(plainTable)
	var configs []table.ColumnConfig
	head := make(table.Row, len(headings))
	for i, h := range headings {
		name, right := strings.CutPrefix(h, ">")
		head[i] = name
		if right {
			configs = append(configs, table.ColumnConfig{Number: i + 1, Align: text.AlignRight,
				AlignHeader: text.AlignRight})
		}
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(head)
	for _, r := range rows {
		row := make(table.Row, len(r))
		for i, cell := range r {
			row[i] = clean(cell)
		}
		t.AppendRow(row)
	}
	fmt.Fprintln(w, trimLines(t.Render()))
}

// clean keeps a document's text from steering the terminal.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\r' || r == '\t' {
			return ' '
		}
		if r < ' ' || r >= 0x7f && r < 0xa0 {
			return '·'
		}
		return r
	}, s)
}

func trimLines(s string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n")
}

// Plural returns "1 order", "2 orders".
func Plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// Minutes returns a stretch of time as people say it: "25 min", "3 h 10 min".
func Minutes(seconds int) string {
	m := (seconds + 30) / 60
	if m < 60 {
		return fmt.Sprintf("%d min", m)
	}
	if m%60 == 0 {
		return fmt.Sprintf("%d h", m/60)
	}
	return fmt.Sprintf("%d h %d min", m/60, m%60)
}
