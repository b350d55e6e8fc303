package listfile

import (
	"bytes"
	"reflect"
	"strings"
	"testing"

	"koinos/core/list"
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

// A table with other headings is read by those that are named; the rest become attributes, and the
// guard against formulas goes out and comes back.
func TestReadBy(t *testing.T) {
	doc := "SKU;Title;Shelf\n'=00417;Shackle;S1\n"
	got, err := ReadBy(strings.NewReader(doc), int64(len(doc)), false, Columns{Code: "sku", Name: "Title"})
	if err != nil || len(got) != 1 || got[0].Code != "=00417" || got[0].Name != "Shackle" ||
		got[0].Attributes["shelf"] != "S1" {
		t.Fatalf("%+v %v", got, err)
	}
	var buf bytes.Buffer
	if err := Write(&buf, got, false, false); err != nil || buf.String() != "code,name,shelf\n'=00417,Shackle,S1\n" {
		t.Errorf("%q %v", buf.String(), err)
	}
	if _, err := ReadBy(strings.NewReader(doc), int64(len(doc)), true,
		Columns{Code: "SKU", Name: "Ours"}); err == nil ||
		!strings.Contains(err.Error(), `with a column "sku" and a column "ours"`) {
		t.Error(err)
	}
}

// Whatever is read as a list is written so that it is read the same.
func FuzzRead(f *testing.F) {
	for _, seed := range []string{"code,name\n00417,Shackle\n", "code;name;per BX\nA;\"x; y\";12\n",
		"\ufeffcode\tname\nb\t'=1+1\n",
		"theirs,ours\nx,1\nx,2\n", "code,code\na,b\n", "name,code,name\n1,2,3\n", "code\n\"a\nb\"\n"} {
		f.Add(seed, false)
		f.Add(seed, true)
	}
	f.Fuzz(func(t *testing.T, doc string, crosswalk bool) {
		first, err := Read(strings.NewReader(doc), int64(len(doc)), crosswalk)
		if err != nil {
			return
		}
		var b bytes.Buffer
		if err := Write(&b, first, crosswalk, false); err != nil {
			t.Fatal(err)
		}
		again, err := Read(bytes.NewReader(b.Bytes()), int64(b.Len()), crosswalk)
		if err != nil {
			t.Fatalf("%q is written as %q, which is not read: %v", doc, b.String(), err)
		}
		if !reflect.DeepEqual(again, first) {
			t.Errorf("%q is written as %q:\n got %+v\nwant %+v", doc, b.String(), again, first)
		}
	})
}
