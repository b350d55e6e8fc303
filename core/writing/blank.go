package writing

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
)

// mostChoices is the largest number of choices for which a column offers a list.
const mostChoices = 5_000

// Blank writes a workbook to be filled in: headings with the required columns marked, choices from lists, and a second
// sheet that explains each column.
func Blank(out io.Writer, m *mapping.Mapping, set *list.Set) error {
	if m.Group.By == "path" || m.Document.Format.Tree() {
		return fmt.Errorf("the mapping %s reads no sheet: there is none to fill in", m.Name)
	}
	if set == nil {
		set = &list.Set{}
	}
	pages, _, err := Layout(m, nil, set)
	if err != nil {
		return err
	}
	f := excelize.NewFile()
	defer f.Close()
	b := &blank{f: f, m: m, set: set}
	if b.head, err = f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true},
		Fill:      excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"E9E4D6"}},
		Border:    []excelize.Border{{Type: "bottom", Color: "8C8470", Style: 1}},
		Alignment: &excelize.Alignment{WrapText: true, Vertical: "top"}}); err != nil {
		return err
	}
	if b.must, err = f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true, Color: "7A2E12"},
		Fill:      excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"F3D9BE"}},
		Border:    []excelize.Border{{Type: "bottom", Color: "7A2E12", Style: 2}},
		Alignment: &excelize.Alignment{WrapText: true, Vertical: "top"}}); err != nil {
		return err
	}
	text := "@"
	if b.text, err = f.NewStyle(&excelize.Style{CustomNumFmt: &text}); err != nil {
		return err
	}
	for i := range pages {
		if err := addPage(f, i, &pages[i]); err != nil {
			return err
		}
		if err := b.dress(&pages[i]); err != nil {
			return err
		}
	}
	if err := b.explain(pages); err != nil {
		return err
	}
	f.SetActiveSheet(0)
	return f.Write(out)
}

type blank struct {
	f                *excelize.File
	m                *mapping.Mapping
	set              *list.Set
	head, must, text int
	lists            []string // sheets of choices made so far
}

const (
	explainSheet = "About the columns"
	fillRows     = 1000 // rows that are prepared for filling in
)

// dress formats the headings of a page and prepares the rows below them.
func (b *blank) dress(p *Page) error {
	for _, c := range p.Columns {
		if c.Binding == nil {
			continue
		}
		letter := origin.ColumnName(c.Number)
		at := fmt.Sprintf("%s%d", letter, max(p.Heading, 1))
		style := b.head
		if c.Binding.Need == mapping.Must {
			style = b.must
		}
		below := fmt.Sprintf("%s%d:%s%d", letter, p.Heading+1, letter, p.Heading+fillRows)
		first, last, _ := strings.Cut(below, ":")
		errs := []error{b.f.SetColWidth(p.Name, letter, letter, max(12, float64(len(c.Heading)+3)))}
		if p.Heading > 0 {
			errs = append(errs, b.f.SetCellStyle(p.Name, at, at, style),
				b.f.AddComment(p.Name, excelize.Comment{Cell: at, Author: "Koinos", Text: about(c.Binding), Width: 260,
					Height: 90}))
		}
		if t := c.Binding.Field.Type; t != order.Decimal && t != order.Percent && t != order.Day {
			errs = append(errs, b.f.SetCellStyle(p.Name, first, last, b.text)) // 00417 stays 00417
		}
		choices, err := b.choices(c.Binding)
		if choices != "" {
			v := excelize.NewDataValidation(c.Binding.Need != mapping.Must)
			v.SetSqref(below)
			v.SetSqrefDropList(choices)
			v.SetError(excelize.DataValidationErrorStyleWarning, c.Heading,
				"This is not one of the values of the list.")
			errs = append(errs, b.f.AddDataValidation(p.Name, v))
		}
		for _, err := range append(errs, err) {
			if err != nil {
				return err
			}
		}
	}
	if p.Heading > 0 {
		return b.f.SetPanes(p.Name, &excelize.Panes{Freeze: true, YSplit: p.Heading,
			TopLeftCell: fmt.Sprintf("A%d", p.Heading+1), ActivePane: "bottomLeft"})
	}
	return nil
}

// choices writes what a column may contain on a hidden sheet and returns its range.
func (b *blank) choices(bind *mapping.Binding) (string, error) {
	name, words := "", []string(nil)
	switch {
	case bind.Crosswalk != "" && b.set.Crosswalks[bind.Crosswalk] != nil:
		name = "choices " + bind.Crosswalk
		for _, p := range b.set.Crosswalks[bind.Crosswalk].Pairs() {
			words = append(words, p.Theirs)
		}
	case bind.List != "" && b.set.Lists[bind.List] != nil:
		key := "code"
		if len(bind.Keys) > 0 {
			key = bind.Keys[0]
		}
		name = "choices " + bind.List + " " + key
		for _, e := range b.set.Lists[bind.List].Entries() {
			if w := e.Get(key); w != "" {
				words = append(words, w)
			}
		}
	case bind.Field.Type == order.Choice:
		name, words = "choices "+bind.Field.Name, bind.Field.Choices
	}
	if len(words) == 0 || len(words) > mostChoices {
		return "", nil
	}
	if len(name) > 31 { // the most that a sheet's name may have
		name = name[:31]
	}
	where := fmt.Sprintf("'%s'!$A$1:$A$%d", name, len(words))
	if slices.Contains(b.lists, name) {
		return where, nil
	}
	b.lists = append(b.lists, name)
	if _, err := b.f.NewSheet(name); err != nil {
		return "", err
	}
	for i, w := range words {
		if err := b.f.SetCellStr(name, fmt.Sprintf("A%d", i+1), w); err != nil {
			return "", err
		}
	}
	return where, b.f.SetSheetVisible(name, false)
}

// about explains a column to the person who fills it in.
func about(b *mapping.Binding) string {
	s := strings.TrimSuffix(b.Field.About, ".") + "."
	switch b.Need {
	case mapping.Must:
		s = "Required. " + s
	case mapping.Should:
		s = "Please fill in if it is known. " + s
	}
	switch b.Field.Type {
	case order.Day:
		s += " A date, written " + strings.Join(b.Forms(), " or ") + "."
	case order.Decimal, order.Percent:
		s += fmt.Sprintf(" A number with the decimal sign %q.", b.Decimal())
	case order.Choice:
		s += " One of: " + strings.Join(b.Field.Choices, ", ") + "."
	case order.Boolean:
		s += " yes or no."
	}
	if b.List != "" {
		s += " From the list " + b.List + "."
	}
	if b.Default != "" {
		s += fmt.Sprintf(" Left blank, %q counts.", b.Default)
	}
	return s
}

// explain adds the sheet that explains each column.
func (b *blank) explain(pages []Page) error {
	if _, err := b.f.NewSheet(explainSheet); err != nil {
		return err
	}
	rows := [][]string{{"Sheet", "Column", "Heading", "Needed", "What it is"}}
	for _, p := range pages {
		for _, c := range p.Columns {
			if c.Binding == nil {
				continue
			}
			needed := map[mapping.Need]string{mapping.Must: "required", mapping.Should: "wanted",
				mapping.May: ""}[c.Binding.Need]
			rows = append(rows, []string{p.Name, origin.ColumnName(c.Number), c.Heading, needed, about(c.Binding)})
		}
	}
	for i, row := range rows {
		for k, text := range row {
			at, err := excelize.CoordinatesToCellName(k+1, i+1)
			if err == nil {
				err = b.f.SetCellStr(explainSheet, at, text)
			}
			if err != nil {
				return err
			}
		}
	}
	for letter, width := range map[string]float64{"A": 16, "B": 8, "C": 22, "D": 10, "E": 90} {
		if err := b.f.SetColWidth(explainSheet, letter, letter, width); err != nil {
			return err
		}
	}
	return b.f.SetCellStyle(explainSheet, "A1", "E1", b.head)
}
