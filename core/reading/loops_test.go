package reading

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"koinos/core/check"
	"koinos/core/cputime"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/source"
)

// However often a segment stands in a set, and whatever stands between, the work grows with their number, not with its
// square: nobody stops a service with a file of some megabytes. With a square the worst takes some 100 times as long as
// a set with as many lines; now it takes 4 times as long.
func TestSegmentsWithoutEnd(t *testing.T) {
	if testing.Short() {
		t.Skip("it looks for no races")
	}
	// What segments say; a number is put where %d stands.
	says := map[string]string{"ACK": "IA*10*EA*067*20260401", "REF": "PO*%d", "N1": "ST*Store %d*92*%[1]d", "SAC": "A*C310***%d",
		"TXI": "ST*%d*0.1", "DTM": "002*20260401", "SDQ": "EA*92*%d*5", "SCH": "5*EA***002*20260401", "PID": "F****Text %d",
		"HL": "%d*1*I", "LIN": "%d*VP*A%[1]d", "SLN": "%d**I*5*EA", "N9": "ZZ*%d", "ITD": "01*3*%d", "ADV": "%d"}
	begins := map[string]string{"850": "BEG*00*SA*Q-1**20260316~PO1*1*5*EA*2**VP*A1~", "855": "BAK*00*AC*P-1*20260316~PO1*1*5*EA*2**VP*A1~",
		"860": "BCH*04*SA*Q-1***20260316~POC*1*QI*5*5*EA*2**VP*A1~", "865": "BCA*00*AC*P-1***20260316~POC*1*QI*5*5*EA*2**VP*A1~",
		"856": "BSN*00*S-1*20260316*0900~HL*1**S~HL*2*1*O~PRF*P-1~HL*3*2*I~LIN*1*VP*A1~SN1**5*EA~",
		"810": "BIG*20260316*I-1*****DI~IT1*1*5*EA*2**VP*A1~"}
	const n = 6_000
	for set, begin := range begins {
		m := parse(t, mapping.Standard("x12-"+set))
		read := func(segment, format, between string) time.Duration {
			var b strings.Builder
			fmt.Fprintf(&b, "ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *260314*0930*U*00401*000000905*0*P*>~"+
				"GS*PO*PELLOW*QUILLMERE*20260314*0930*77*X*004010~ST*%s*0001~%s", set, begin)
			for i := range n {
				b.WriteString(segment + "*" + strings.NewReplacer("%d", fmt.Sprint(i+4), "%[1]d", fmt.Sprint(i+4)).Replace(format) + "~" + between)
			}
			b.WriteString("SE*9*0001~GE*1*77~IEA*1*000000905~")
			doc := b.String()
			began := cputime.Used(t)
			src, err := source.Open(strings.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
			if err != nil {
				t.Fatal(err)
			}
			for table := NewTable(m, src, nil); ; {
				g, err := table.Next()
				if err == io.EOF {
					return cputime.Used(t) - began
				}
				if err != nil {
					t.Fatalf("%s in %s: %v", segment, set, err)
				}
				d := Read(m, &g, &list.Set{})
				check.Order(&d.Order, d, check.Terms{Tolerance: m.Tolerance, Rounding: m.Rounding})
			}
		}
		line := map[string]string{"850": "PO1*%d*5*EA*2**VP*A%d", "855": "PO1*%d*5*EA*2**VP*A%d", "860": "POC*%d*QI*5*5*EA*2**VP*A%d",
			"865": "POC*%d*QI*5*5*EA*2**VP*A%d", "810": "IT1*%d*5*EA*2**VP*A%d", "856": "HL*%d*2*I~LIN**VP*A%d"}[set]
		id, format, _ := strings.Cut(line, "*")
		floor := max(read(id, format, ""), 20*time.Millisecond)
		for segment, format := range says {
			for _, between := range []string{"", "PID*F****x~"} {
				if took := read(segment, format, between); took > 25*floor {
					t.Errorf("%d %s in %s, with %q between them, take %s; as many lines take %s", n, segment, set, between, took, floor)
				}
			}
		}
	}
}
