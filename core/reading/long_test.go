package reading

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/order"
)

// A path that leads to more lines than an order holds is said once, and no more are read.
func TestMoreLinesThanAnOrderHolds(t *testing.T) {
	m := parse(t, `koinos: mapping/1
name: many
document: {format: json}
orders: {kind: sales, group: {by: path, path: "$"}, parts: {lines: {each: "$.a.*.b.*"}}}
header: {sender_number: {from: $.no}, partner: {value: P}}
lines: {item: {from: $}, quantity: {value: "1"}}
`)
	doc := `{"no": "1", "a": [` + strings.TrimSuffix(strings.Repeat(`{"b": ["x", "y", "z"]},`, MostRows/2), ",") + "]}"
	d := firstOf(t, m, []byte(doc))
	if len(d.Order.Lines) != MostRows || len(d.Findings) != 1 || d.Findings[0].Code != finding.OrderTooLong ||
		d.Findings[0].At != fmt.Sprintf("/a/%d/b/2", MostRows/3) {
		t.Errorf("%d lines, %+v", len(d.Order.Lines), d.Findings)
	}
}

// HL loops that stand within each other thousands of times are read as if the deepest stood side by side, and each item
// finds the order around it.
func TestDeepLevels(t *testing.T) {
	const items = 3_000
	var b bytes.Buffer
	b.WriteString("ISA*00*          *00*          *ZZ*VARNHOLT       *ZZ*QUILLMERE      *260316*0805*U*00401*000000001*0*P*>~" +
		"GS*SH*VARNHOLT*QUILLMERE*20260316*0805*1*X*004010~ST*856*0001~BSN*00*V-9*20260316*0930~HL*1**S~HL*2*1*O~PRF*PO-1~" +
		"HL*3*2*P~MAN*GM*00340417000000000010~")
	for i := range items {
		fmt.Fprintf(&b, "HL*%d*%d*I~LIN*%d*VP*A%d~SN1*1*5*EA~", i+4, i+3, i+1, i)
	}
	fmt.Fprintf(&b, "CTT*%d~SE*%d*0001~GE*1*1~IEA*1*000000001~", items+3, 3*items+9)
	m := parse(t, strings.Replace(mapping.Standard("x12-856"), "list: suppliers, ", "", 1))
	d := firstOf(t, m, b.Bytes())
	packed := 0
	for _, l := range d.Order.Lines {
		if l.Statement != nil && l.Statement.Package == "00340417000000000010" {
			packed++
		}
	}
	if f := d.Findings; len(f) != 1 || f[0].Code != finding.X12Noted || f[0].At != "ST 0001 / HL #21 / 02" {
		t.Errorf("%+v", f)
	}
	if len(d.Order.Lines) != items || packed != items {
		t.Errorf("%d lines, %d of them in the package; %+v", len(d.Order.Lines), packed, d.Findings)
	}
}

// A line has as many statements and deliveries as people read; what is more is said, and not read.
func TestMostOfALine(t *testing.T) {
	for _, c := range []struct {
		set, segments, more string
		times               int
		read                func(o *order.Order) int
		want                int
		says                string
	}{
		{"855", "BAK*00*AC*P-1*20260316~PO1*1*600*EA*2**VP*A1~", "ACK*IA*1*EA~", 501,
			func(o *order.Order) int { return len(o.Lines) }, 500,
			"The line has more than 500 statements of its own, or too many of them beside all else that it says."},
		{"855", "BAK*00*AC*P-1*20260316~PO1*1*600*EA*2**VP*A1~" + strings.Repeat("PID*F****x~", 9_999), "ACK*IA*1*EA~", 500,
			func(o *order.Order) int { return len(o.Lines) }, 100,
			"The line has more than 100 statements of its own, or too many of them beside all else that it says."},
		{"855", "BAK*00*AC*P-1*20260316~PO1*1*600*EA*2**VP*A1~", "ACK*IA*1*EA~", 500,
			func(o *order.Order) int { return len(o.Lines) }, 500, ""},
		{"850", "BEG*00*SA*Q-1**20260316~PO1*1*20002*EA*2**VP*A1~", "SDQ*EA*92*S1*1*S2*1~", 5_001,
			func(o *order.Order) int { return len(o.Lines[0].Deliveries) }, 10_000,
			"The line has more than 10000 deliveries, or too many of them beside all else that it says."},
		{"850", "BEG*00*SA*Q-1**20260316~PO1*1*10000*EA*2**VP*A1~" + strings.Repeat("PID*F****x~", 1_999), "SCH*1*EA***002*20260401~", 6_000,
			func(o *order.Order) int { return len(o.Lines[0].Deliveries) }, 499,
			"The line has more than 499 deliveries, or too many of them beside all else that it says."},
	} {
		doc := "ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *260314*0930*U*00401*000000905*0*P*>~" +
			"GS*PO*PELLOW*QUILLMERE*20260314*0930*77*X*004010~ST*" + c.set + "*0001~" + c.segments + strings.Repeat(c.more, c.times) +
			"CTT*1~SE*9*0001~GE*1*77~IEA*1*000000905~"
		d := firstOf(t, parse(t, mapping.Standard("x12-"+c.set)), []byte(doc))
		says := ""
		for _, f := range d.Findings {
			if f.Code == finding.OrderTooLong {
				says = f.Message
			}
		}
		if n := c.read(&d.Order); n != c.want || says != c.says {
			t.Errorf("%d × %s: %d are read, want %d; %q", c.times, c.more, n, c.want, says)
		}
	}
}
