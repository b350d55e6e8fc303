package report

import (
	"encoding/json"
	"io"
	"strings"
)

// jsonTable writes each row of the first sheet as an object. Those of the second are a list in the object of the row
// before them, under the sheet's name; they leave out the key columns, and the sheet's name before their own.
type jsonTable struct {
	w      io.Writer
	sheets []Sheet
	lines  bool           // NDJSON
	row    map[string]any // that is not written yet
	within []map[string]any
	some   bool // one is written
}

func beginJSON(w io.Writer, sheets ...Sheet) (TableWriter, error) {
	return &jsonTable{w: w, sheets: sheets}, nil
}

func beginNDJSON(w io.Writer, sheets ...Sheet) (TableWriter, error) {
	return &jsonTable{w: w, sheets: sheets, lines: true}, nil
}

func (t *jsonTable) Add(sheet int, cells []string) error {
	s := &t.sheets[sheet]
	row := make(map[string]any, len(cells)+1)
	for i, c := range cells {
		if i >= s.Keys && c != "" {
			row[strings.TrimPrefix(s.Headings[i], s.Name+".")] = c
		}
	}
	if sheet > 0 {
		t.within = append(t.within, row)
		return nil
	}
	err := t.write()
	t.row, t.within = row, []map[string]any{}
	return err
}

// write writes the row that waits.
func (t *jsonTable) write() error {
	if t.row == nil {
		return nil
	}
	if len(t.sheets) > 1 {
		t.row[t.sheets[1].Name] = t.within
	}
	b, err := json.Marshal(t.row)
	switch {
	case err != nil:
		return err
	case t.lines:
		b = append(b, '\n')
	case t.some:
		b = append([]byte(",\n"), b...)
	default:
		b = append([]byte("[\n"), b...)
	}
	t.some = true
	_, err = t.w.Write(b)
	return err
}

func (t *jsonTable) Close(err error) error {
	if err == nil {
		err = t.write()
	}
	if err != nil || t.lines {
		return err
	}
	end := "\n]\n"
	if !t.some {
		end = "[]\n"
	}
	_, err = io.WriteString(t.w, end)
	return err
}
