package listfile

import (
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/source"
)

// Columns are the headings of the columns that a list is read from. Blank ones are code and name for a list, theirs and
// ours for a crosswalk.
type Columns struct{ Code, Name string }

// Read reads a list from a CSV or workbook whose first row is its heading: code and name for a list, theirs and ours
// for a crosswalk (which become the entries' code and name). Further columns become attributes.
func Read(r io.ReaderAt, size int64, crosswalk bool) ([]list.Entry, error) {
	return ReadBy(r, size, crosswalk, Columns{})
}

// ReadBy is Read for a table with other headings.
func ReadBy(r io.ReaderAt, size int64, crosswalk bool, columns Columns) ([]list.Entry, error) {
	src, err := source.Open(r, size, source.Options{Limits: source.DefaultLimits})
	if err != nil {
		return nil, err
	}
	key, value := "code", "name"
	if crosswalk {
		key, value = "theirs", "ours"
	}
	key, value = cmp.Or(list.Fold(columns.Code), key), cmp.Or(list.Fold(columns.Name), value)
	head, err := src.Next()
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	names := make([]string, len(head.Cells))
	for i, c := range head.Cells {
		names[i] = list.Fold(c.Text)
	}
	if !slices.Contains(names, key) || crosswalk && !slices.Contains(names, value) {
		f := finding.Fatal(finding.HeadingMissing, head.Place(0),
			"The first row must be the heading, with a column %q%s.", key,
			map[bool]string{true: fmt.Sprintf(" and a column %q", value)}[crosswalk])
		f.Hint = "Its cells are: " + strings.Join(names, ", ") + "."
		return nil, f
	}
	var entries []list.Entry
	seen := map[string]int{}
	for {
		rec, err := src.Next()
		if errors.Is(err, io.EOF) {
			return entries, nil
		}
		if err != nil {
			return nil, err
		}
		if rec.Blank() {
			continue
		}
		e := list.Entry{}
		for i, c := range rec.Cells {
			text := strings.TrimSpace(c.Text)
			if i >= len(names) || text == "" {
				continue
			}
			switch names[i] {
			case key:
				e.Code = text
			case value:
				e.Name = text
			case "":
			default:
				if e.Attributes == nil {
					e.Attributes = map[string]string{}
				}
				e.Attributes[names[i]] = text
			}
		}
		if e.Code == "" || crosswalk && e.Name == "" {
			return nil, finding.Fatal(finding.MustMissing, rec.Place(0), "Row %d has no %s.", rec.Row,
				map[bool]string{true: key, false: value}[e.Code == ""])
		}
		if before, twice := seen[e.Code]; twice {
			f := finding.New(finding.IdentityRepeated, rec.Place(0), e.Code, "%q stands in row %d and again in row %d.",
				e.Code, before, rec.Row)
			f.Hint = "Take one of them out: which one counts would be a guess."
			return nil, &f
		}
		seen[e.Code] = rec.Row
		entries = append(entries, e)
	}
}

// Pairs turns entries that were read as a crosswalk into pairs.
func Pairs(entries []list.Entry) []list.Pair {
	pairs := make([]list.Pair, len(entries))
	for i, e := range entries {
		pairs[i] = list.Pair{Theirs: e.Code, Ours: e.Name}
	}
	return pairs
}

// Write writes a list, or a crosswalk as its entries, as a CSV or a workbook that Read reads.
func Write(out io.Writer, entries []list.Entry, crosswalk, workbook bool) error {
	head := []string{"code", "name"}
	if crosswalk {
		head = []string{"theirs", "ours"}
	}
	var extra []string
	for _, e := range entries {
		for k := range e.Attributes {
			if !slices.Contains(extra, k) {
				extra = append(extra, k)
			}
		}
	}
	slices.Sort(extra)
	rows := [][]string{append(head, extra...)}
	for _, e := range entries {
		row := []string{e.Code, e.Name}
		for _, k := range extra {
			row = append(row, e.Attributes[k])
		}
		rows = append(rows, row)
	}
	if !workbook {
		w := csv.NewWriter(out)
		for _, row := range rows {
			for i := range row {
				row[i] = source.Guard(row[i])
			}
			if err := w.Write(row); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	}
	f := excelize.NewFile()
	defer f.Close()
	for r, row := range rows {
		for c, text := range row {
			at, err := excelize.CoordinatesToCellName(c+1, r+1)
			if err == nil {
				err = f.SetCellStr(f.GetSheetName(0), at, text) // text stays text: a code keeps its zeros
			}
			if err != nil {
				return err
			}
		}
	}
	return f.Write(out)
}

// Merge returns entries with those of more, which replace entries with the same code or are added at the end.
func Merge(entries, more []list.Entry) []list.Entry {
	at := map[string]int{}
	for i, e := range entries {
		at[e.Code] = i
	}
	entries = slices.Clone(entries)
	for _, e := range more {
		if i, ok := at[e.Code]; ok {
			entries[i] = e
			continue
		}
		at[e.Code] = len(entries)
		entries = append(entries, e)
	}
	return entries
}
