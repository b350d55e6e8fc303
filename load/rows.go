package load

import (
	"context"
	"errors"
	"io"

	"koinos/api"
	"koinos/core/source"
)

// Rows reads up to limit rows from a row on, of a sheet, or of the first one where it has no name. Rows that the sheet
// leaves out are returned as blank rows, so that a grid shows the sheet as a spreadsheet program does.
func Rows(ctx context.Context, src source.Reader, sheet string, from, limit int) (api.Rows, error) {
	out := api.Rows{Sheet: sheet, Rows: []api.Row{}}
	for next := from; ctx.Err() == nil; {
		rec, err := src.Next()
		if errors.Is(err, io.EOF) || sheet == "" && out.Sheet != "" && rec.Sheet != out.Sheet {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		out.Sheet = rec.Sheet
		if rec.Row < from {
			continue
		}
		for ; next < rec.Row && len(out.Rows) < limit; next++ {
			out.Rows = append(out.Rows, api.Row{Row: next, Cells: []string{}})
		}
		if len(out.Rows) >= limit {
			out.More = true
			return out, nil
		}
		row := api.Row{Row: rec.Row, Cells: make([]string, len(rec.Cells))}
		for i, c := range rec.Cells {
			row.Cells[i] = c.Text
		}
		out.Rows = append(out.Rows, row)
		next = rec.Row + 1
	}
	return out, ctx.Err()
}
