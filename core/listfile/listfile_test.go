package listfile

import (
	"bytes"
	"koinos/core/list"
	"testing"
)

func TestReadWhatIsWritten(t *testing.T) {
	entries := []list.Entry{{Code: "00417", Name: "Shackle", Attributes: map[string]string{"shelf": "S1"}},
		{Code: "b", Name: "x, y"}}
	for _, workbook := range []bool{false, true} {
		var buf bytes.Buffer
		if err := Write(&buf, entries, false, workbook); err != nil {
			t.Fatal(err)
		}
		again, err := Read(bytes.NewReader(buf.Bytes()), int64(buf.Len()), false)
		if err != nil || len(again) != 2 || again[0].Code != "00417" || again[0].Attributes["shelf"] != "S1" ||
			again[1].Name != "x, y" {
			t.Errorf("workbook %v: %+v %v", workbook, again, err)
		}
	}
	merged := Merge(entries, []list.Entry{{Code: "b", Name: "new"}, {Code: "c"}})
	if len(merged) != 3 || merged[1].Name != "new" || entries[1].Name != "x, y" {
		t.Errorf("%+v", merged)
	}
}
