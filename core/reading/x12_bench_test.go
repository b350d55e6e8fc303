package reading

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"koinos/core/check"
	"koinos/core/cputime"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/source"
	"koinos/core/x12"
)

// ordersOfX12 is an interchange of sets of lines each.
func ordersOfX12(sets, lines int) []byte {
	var b bytes.Buffer
	b.WriteString("ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      " +
		"*260314*0930*U*00401*000000905*0*P*>~GS*PO*PELLOW*QUILLMERE*20260314*0930*77*X*004010~")
	for s := range sets {
		fmt.Fprintf(&b, "ST*850*%09d~BEG*00*SA*PM-%d**20260314~CUR*BY*EUR~REF*CT*C-2026-18~ITD*01*3*****30~"+
			"DTM*002*20260330~N1*ST*Pellow Marina*92*0040~N3*Berth office~N4*Pellow Haven**44210*NO~", s+1, s)
		for l := range lines {
			fmt.Fprintf(&b, "PO1*%d*%d*EA*1.33*PE*VP*%05d*EN*2004417001597~PID*F****Braided rope 10 mm, white~", l+1,
				l%50+1, (s+l)%977)
		}
		fmt.Fprintf(&b, "CTT*%d~SE*%d*%09d~", lines, 11+2*lines, s+1)
	}
	fmt.Fprintf(&b, "GE*%d*77~IEA*1*000000905~", sets)
	return b.Bytes()
}

// BenchmarkOrdersOfX12 makes checked orders of an interchange: tokenizing,
// checking sets against the dictionary, the standard mapping, lists, and the
// checks of orders. lines/s are of processor time.
func BenchmarkOrdersOfX12(b *testing.B) {
	doc := ordersOfX12(500, 40)
	m := parse(b, strings.Replace(mapping.Standard("x12-850"), "PO1/LIN/03 where PO1/LIN/02 = VP or VN or VC]}",
		"PO1/LIN/03 where PO1/LIN/02 = VP or VN or VC], list: items}", 1))
	var items []list.Entry
	for i := range 977 {
		items = append(items, list.Entry{Code: fmt.Sprintf("%05d", i)})
	}
	set := &list.Set{Lists: map[string]*list.List{"items": list.New(items),
		"customers": list.New([]list.Entry{{Code: "PELLOW"}})}}
	run := func(b *testing.B, work func(*Group)) {
		lines := 0
		from := cputime.Used(b)
		for b.Loop() {
			src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
			if err != nil {
				b.Fatal(err)
			}
			table := NewTable(m, src, nil)
			orders := 0
			for {
				g, err := table.Next()
				if err == io.EOF {
					break
				}
				if err != nil {
					b.Fatal(err)
				}
				orders++
				work(&g)
			}
			if orders != 500 {
				b.Fatal(orders)
			}
			lines += 500 * 40
		}
		b.ReportMetric(float64(lines)/(cputime.Used(b)-from).Seconds(), "lines/s")
	}
	b.Run("cut", func(b *testing.B) { // into segments and elements: the floor
		lines := 0
		from := cputime.Used(b)
		for b.Loop() {
			s := x12.NewSegments(bytes.NewReader(doc))
			for {
				seg, err := s.Next()
				if err == io.EOF {
					break
				}
				if err != nil {
					b.Fatal(err)
				}
				if seg.ID == "PO1" {
					lines++
				}
			}
		}
		b.ReportMetric(float64(lines)/(cputime.Used(b)-from).Seconds(), "lines/s")
	})
	b.Run("read", func(b *testing.B) { run(b, func(*Group) {}) })
	b.Run("read+map+check", func(b *testing.B) {
		run(b, func(g *Group) {
			d := Read(m, g, set)
			check.Order(&d.Order, d, check.Terms{Tolerance: m.Tolerance, Rounding: m.Rounding})
			if d.Refused() || len(d.Order.Lines) != 40 {
				b.Fatal(d.Findings)
			}
		})
	})
}
