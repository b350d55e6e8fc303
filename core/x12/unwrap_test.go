package x12

import (
	"fmt"
	"io"
	"strings"
	"testing"
)

func lined(text string, length int, end string) string {
	var b strings.Builder
	for ; len(text) > length; text = text[length:] {
		b.WriteString(text[:length] + end)
	}
	return b.String() + text
}

// However a document is broken into lines, and whatever old systems put around it, its segments are the same, and each
// says where it stands in the document.
func TestBrokenIntoLines(t *testing.T) {
	var two string
	for _, control := range []string{"000000041", "000000042"} {
		two += strings.ReplaceAll("ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *260316*0930*U*00401*NNN*0*P*>~"+
			"GS*PO*PELLOW*QUILLMERE*20260316*0930*41*X*004010~ST*850*0001~BEG*00*SA*PM-41**20260316~CUR*BY*EUR~"+
			"N1*ST*Pellow Marina*92*0040~"+
			"PO1*1*20*MR*1.33**VP*00113~CTT*1~SE*7*0001~GE*1*41~IEA*1*NNN~", "NNN", control)
	}
	first := two[:len(two)/2]
	type doc struct{ name, text, want string }
	docs := []doc{{"a line a segment", strings.ReplaceAll(two, "~", "~\r\n"), two}, {"a byte order mark and Ctrl-Z",
		"\ufeff" + first + "\r\n\x1a", first},
		{"blank lines between", "\r\n\n" + first + "\n\n\n" + two[len(first):] + "\n\x1a\x1a", two},
		{"two documents with marks", "\ufeff" + first + "\x1a\ufeff" + two[len(first):], two}}
	for _, length := range []int{35, 80, 105, 106, 107, 128, 200} {
		for _, end := range []string{"\n", "\r\n"} {
			whole := lined(two, length, end)
			docs = append(docs, doc{fmt.Sprintf("lines of %d ending with %q", length, end), whole, two},
				doc{"and one more line end", whole + end, two}, doc{"with a mark", "\ufeff" + whole, two})
			// An interchange within such a document begins within a line.
			at := len(first) + len(first)/length*len(end)
			docs = append(docs, doc{fmt.Sprintf("the second of lines of %d ending with %q", length, end), whole[at:],
				two[len(first):]})
		}
	}
	for _, d := range docs {
		var got strings.Builder
		var found []string
		err := Read(strings.NewReader(d.text), Handler{Finding: func(f Finding) error {
			found = append(found, f.Message)
			return nil
		}})
		if err != nil || len(found) > 0 {
			t.Errorf("%s: %q, %v", d.name, found, err)
		}
		s := NewSegments(strings.NewReader(d.text))
		for {
			seg, err := s.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatal(d.name, err)
			}
			got.WriteString(seg.String() + "~")
			stands := strings.NewReplacer("\r", "", "\n", "").Replace(d.text[seg.Offset:])
			if first := d.text[seg.Offset]; !strings.HasPrefix(stands, seg.String()) || first == '\n' || first == '\r' {
				t.Errorf("%s: %s is said to stand at %d, where %q stands", d.name, seg.ID, seg.Offset, d.text[seg.Offset:][:10])
			}
		}
		if got.String() != d.want {
			t.Errorf("%s:\n got %s\nwant %s", d.name, got.String(), d.want)
		}
	}
}

// Line ends within elements stay wrong where the lines are not of one length.
func TestLineEndWithinElement(t *testing.T) {
	doc := "ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *260316*0930*U*00401*000000041*0*P*>~\n" +
		"GS*PO*PELLOW*QUILLMERE*20260316*0930*41*X*004010~\nST*850*0001~\nBEG*00*SA*PM-\n41**20260316~\n" +
		"PO1*1*20*MR*1.33**VP*00113~\nSE*4*0001~\n" +
		"GE*1*41~\nIEA*1*000000041~\n"
	var found []string
	if err := Read(strings.NewReader(doc), Handler{Checked: func(_ *Set, _ []Placed, all []Finding) error {
		for _, f := range all {
			found = append(found, f.Place+": "+f.Code)
		}
		return nil
	}}); err != nil || fmt.Sprint(found) != "[ST 0001 / BEG / 03: 6]" {
		t.Errorf("%q, %v", found, err)
	}
}
