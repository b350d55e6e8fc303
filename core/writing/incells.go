package writing

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"koinos/core/list"
	"koinos/core/mapping"
)

// inCells makes one row of those of an order's lines: its cells hold a value for each line.
func (w *writer) inCells(v values, rows [][]string, part *mapping.Part) (row []string) {
	var divided []int
	for i := range part.Matrix {
		divided = append(divided, w.at[list.Fold(part.Matrix[i].Text)])
	}
	width := 0
	for _, r := range rows {
		width = max(width, len(r))
	}
	at := func(k, c int) string {
		if c < len(rows[k]) {
			return rows[k][c]
		}
		return ""
	}
	for c := range width {
		if slices.Contains(divided, c+1) {
			texts := make([]string, len(rows))
			for k := range rows {
				texts[k] = at(k, c)
			}
			row = append(row, w.oneCell(v, texts, part.By))
			continue
		}
		for k := range rows {
			if is := at(k, c); is != at(0, c) {
				w.problem(v, k+1, "", fmt.Sprintf("%q and %q stand in one row, and lines share the cell", at(0, c), is))
			}
		}
		row = append(row, at(0, c))
	}
	return row
}

// oneCell is what a cell with a value for each line holds.
func (w *writer) oneCell(v values, texts []string, by string) string {
	if !slices.ContainsFunc(texts, func(t string) bool { return t != "" }) {
		return ""
	}
	if by == mapping.ByJSON {
		text, err := json.Marshal(texts)
		if err != nil {
			w.problem(v, 0, "", err.Error())
		}
		return string(text)
	}
	for k, t := range texts {
		if strings.Contains(t, by) {
			w.problem(v, k+1, "", fmt.Sprintf("%q holds %q, which stands between the lines", t, by))
		}
	}
	return strings.Join(texts, by)
}
