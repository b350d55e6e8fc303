package x12

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
)

const oneSet = "ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *260316*0930*U*00401*000000041*0*P*>~" +
	"GS*PO*PELLOW*QUILLMERE*20260316*0930*41*X*004010~ST*850*0001~BEG*00*SA*PM-41**20260316~PO1*1*20*%s*1.33*%s*%s*00113~%sCTT*1~SE*%d*0001~" +
	"GE*1*41~IEA*1*000000041~"

// Codes in small letters are named where the dictionary has them in capitals, in open lists too; codes that it does not
// have are not, and segments whose elements it does not have are read and not checked.
func TestSmallLettersAndOpenSegments(t *testing.T) {
	for _, c := range []struct{ unit, basis, qualifier, more, want string }{
		{"MR", "PE", "VP", "", "[]"},
		{"mr", "PE", "VP", "", "[PO1 / 03 7 MR]"},
		{"MR", "pe", "vp", "", "[PO1 / 05 7 PE PO1 / 06 7 VP]"},
		{"MR", "zz", "VP", "", "[]"}, // an open list, and no code of it
		{"MR", "PE", "VP", "IT8*SC*1*whatever*x*20260316~", "[]"},
		{"MR", "PE", "VP", "SPI*00*ZZ*X~CB1*1*2~", "[]"},
	} {
		doc := fmt.Sprintf(oneSet, c.unit, c.basis, c.qualifier, c.more, 5+strings.Count(c.more, "~"))
		got := []string{}
		if err := Read(strings.NewReader(doc), Handler{Checked: func(_ *Set, _ []Placed, all []Finding) error {
			for _, f := range all {
				_, is, _ := strings.Cut(f.Message, "codes are written in capitals: ")
				got = append(got, strings.TrimPrefix(f.Place, "ST 0001 / ")+" "+f.Code+" "+strings.TrimSuffix(is, "."))
			}
			return nil
		}}); err != nil || fmt.Sprint(got) != c.want {
			t.Errorf("%+v: %q, %v", c, got, err)
		}
	}
}

// A document without an interchange is said to be one.
func TestShowNothing(t *testing.T) {
	for _, doc := range []string{"", "\r\n\n", "\ufeff\x1a"} {
		var out bytes.Buffer
		if n, err := Show(&out, strings.NewReader(doc)); n != 1 || err != nil || out.String() != NoInterchange+"\n" {
			t.Errorf("%q: %d, %v, %q", doc, n, err, out.String())
		}
	}
}
