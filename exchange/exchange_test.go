package exchange

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/source"
	"koinos/core/x12"
	"koinos/demo"
	"koinos/folder"
	"koinos/jobs"
	"koinos/load"
	"koinos/store"
	"koinos/store/storetest"
)

// desk is an exchange with the demo's partners and a clock of its own.
type desk struct {
	*Exchange
	t   testing.TB
	at  time.Time
	dir string
}

func open(t testing.TB) *desk {
	t.Helper()
	s := storetest.Open(t, filepath.Join(t.TempDir(), "data"))
	d := &desk{t: t, at: time.Date(2026, 3, 16, 8, 0, 0, 0, time.UTC), dir: t.TempDir()}
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	engine := load.New(s, source.DefaultLimits, d.clock, log)
	d.Exchange = New(s, engine, d.dir, folder.Usual, d.clock, log)
	kinds := engine.Kinds()
	maps.Copy(kinds, d.Kinds())
	queue := jobs.New(s, kinds, time.Now, log)
	engine.Use(queue)
	working, stop := context.WithCancel(context.Background())
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		queue.Run(working)
	}()
	t.Cleanup(func() {
		stop()
		<-stopped
		s.Close()
	})
	ctx := context.Background()
	if err := s.PutList(ctx, "customers", []list.Entry{{Code: "PELLOW"}}, d.at); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"pellow", "varnholt"} {
		text, err := demo.Files.ReadFile("partners/" + name + ".yaml")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := d.Keep(ctx, string(text), "test"); err != nil {
			t.Fatal(err)
		}
	}
	return d
}

// skipRaces leaves out, under the race detector (-short), what is about meaning and has no goroutines of its own.
func skipRaces(t *testing.T) {
	if testing.Short() {
		t.Skip("it looks for no races")
	}
}

func (d *desk) clock() time.Time { return d.at }

// from writes an interchange of one set, as a partner would.
func from(sender, receiver, version string, control int, kind, segments string) string {
	group := x12.GroupOf(kind)
	n := strings.Count(segments, "~") + 2
	q, r := "ZZ", "ZZ"
	if sender == "0417000118842" {
		q = "14"
	}
	return fmt.Sprintf("ISA*00*          *00*          "+
		"*%s*%-15s*%s*%-15s*260316*0930*%s*%s*%09d*0*P*>~GS*%s*%s*%s*20260316*0930*%d*X*%s~ST*%s*0001~%sSE*%d*0001~GE*1*%d~IEA*1*%09d~",
		q, sender, r, receiver, map[bool]string{true: "^", false: "U"}[version > "00402"], version[:5], control, group,
		sender, receiver, control, version, kind, segments, n, control, control)
}

func pellow(control int, kind, segments string) string {
	return from("PELLOW", "QUILLMERE", "004010", control, kind, segments)
}
func varnholt(control int, kind, segments string) string {
	return from("0417000118842", "QUILLMERE", "005010", control, kind, segments)
}

const order4711 = "BEG*00*SA*PM-1**20260316~CUR*BY*EUR~N1*ST*Pellow " +
	"Marina*92*0040~PO1*1*20*MR*1.33**VP*00113~PO1*2*3*BX*31.42**VP*00489~CTT*2~"

func (d *desk) receive(doc string) api.Interchange {
	d.t.Helper()
	all, err := d.Receive(context.Background(), strings.NewReader(doc), Arrival{Name: "test.edi", By: "test"})
	if err != nil || len(all) != 1 {
		d.t.Fatal(len(all), err)
	}
	return all[0]
}

func (d *desk) send(name, set string) []api.Interchange {
	d.t.Helper()
	out, err := d.Send(context.Background(), name, api.Wanted{Set: set}, "test")
	if err != nil {
		d.t.Fatal(err)
	}
	return out.Interchanges
}

func (d *desk) order(kind order.Kind, partner, number, sender string) *store.StoredOrder {
	d.t.Helper()
	ids, err := d.store.OrdersOf(context.Background(), store.Spoken{Kind: kind, Partner: partner, Number: number, Sender: sender})
	if err != nil || len(ids) != 1 {
		d.t.Fatalf("order %s%s: %d, %v", number, sender, len(ids), err)
	}
	o, err := d.store.Order(context.Background(), ids[0])
	if err != nil {
		d.t.Fatal(err)
	}
	return o
}

// post stores or changes an order.
func (d *desk) post(o order.Order) {
	d.t.Helper()
	body, err := json.Marshal(&o)
	if err != nil {
		d.t.Fatal(err)
	}
	if p, err := d.engine.Post(context.Background(), &o, body, outcome.Update, "test"); err != nil ||
		p.Outcome == outcome.Refused {
		d.t.Fatal(p.Findings, err)
	}
}

func purchase(n int) order.Order {
	line := func(number, item, theirs string) order.Line {
		return order.Line{Number: number, Item: item, SupplierItem: theirs, Description: "Rope",
			Quantity: order.MustNumber("100"), Unit: "MTR", UnitPrice: order.MustNumber("0.71")}
	}
	return order.Order{Kind: order.Purchase, Partner: "VARNHOLT", SenderNumber: fmt.Sprintf("REQ-%d", n),
		OrderedOn: "2026-03-16", RequestedDeliveryOn: "2026-04-06", Currency: "EUR", Stage: order.Confirmed,
		Parties: []order.Party{{Role: "ship_to", Code: "0010", Name: "Main store", Street: "12 Café Quay"}},
		Lines:   []order.Line{line("1", "00113", "BR-10-W"), line("2", "00110", "BR-08-W")}}
}

func (d *desk) text(i api.Interchange) string {
	d.t.Helper()
	r, err := d.Text(context.Background(), i.ID)
	if err != nil {
		d.t.Fatal(err)
	}
	defer r.Close()
	b, err := io.ReadAll(r)
	if err != nil {
		d.t.Fatal(err)
	}
	return string(b)
}

func foundIn(i api.Interchange) []finding.Finding {
	all := slices.Clone(i.Findings)
	for _, s := range i.Sets {
		all = append(all, s.Findings...)
	}
	return all
}

// Every finding that only the exchange makes, with the words that
// docs/findings.md shows for it.
func TestFindings(t *testing.T) {
	has := func(t *testing.T, all []finding.Finding, code finding.Code, at, message string) {
		t.Helper()
		for _, f := range all {
			if f.Code == code && f.At == at && f.Message == message {
				return
			}
		}
		t.Errorf("no %s at %q saying %q; there is %+v", code, at, message, all)
	}
	d := open(t)
	d.receive(pellow(905, "850", order4711))
	has(t, foundIn(d.receive(pellow(905, "850", order4711))), finding.X12Duplicate, "row 1",
		"The same interchange 000000905 came from PELLOW before: interchange 1. Nothing is done a second time, and its "+
			"acknowledgement is sent once more.")
	has(t, foundIn(d.receive(pellow(905, "850", strings.ReplaceAll(order4711, "PM-1", "PM-2")))), finding.ControlUsed,
		"row 1",
		"The control number 000000905 came from PELLOW before with other content, in interchange 1. Nothing is done, and "+
			"nothing is answered, until a person has looked at both.")
	has(t, foundIn(d.receive(from("STRANGER", "QUILLMERE", "004010", 1, "850", order4711))), finding.PartnerUnknown,
		"ISA 000000001", "No partner has the ids ZZ:STRANGER (theirs) and ZZ:QUILLMERE (ours).")
	has(t, foundIn(d.receive(pellow(906, "997", "AK1*PR*4711~AK9*A*1*1*1~"))), finding.NotSent, "row 3",
		"It acknowledges a group 4711, which was never sent to PELLOW.")
	empty := open(t)
	has(t, foundIn(empty.receive(pellow(7, "860", "BCH*04*SA*PM-1***20260316~POC*1*QI*30**MR*1.33**VP*00113~"))),
		finding.OrderUnknown, "ST 0001 / BCH / 03", `No sales order of PELLOW has the number "PM-1".`)
	bare := purchase(1)
	bare.Lines[1].SupplierItem = ""
	bare.Parties = append(bare.Parties, order.Party{Role: "carrier", City: "Sundry"})
	d.post(bare)
	held := d.send("VARNHOLT", "850")
	has(t, foundIn(held[0]), finding.X12Rule, "ST 0001 / PO1 #2",
		"A rule of VARNHOLT for 850: PO1/07 where PO1/06 = VP (Product/Service ID) must be there. Give the line the "+
			"supplier's own item code.")
	has(t, foundIn(held[0]), finding.FieldUnwritten, "",
		"The mapping varnholt-850 has no place in 850 for carrier.city.")
	has(t, foundIn(held[0]), finding.CharacterChanged, "N3 / 01", `Address Information was written "12 CAFE QUAY".`)
	d.post(purchase(2))
	d.send("VARNHOLT", "850")
	number := d.order(order.Purchase, "VARNHOLT", "", "REQ-2").Number
	has(t, foundIn(d.receive(varnholt(9, "855", "BAK*00*AC*"+number+
		"*20260316~PO1*1*100*MR*0.71**VP*BR-10-W~ACK*IQ*80*MR~"))), finding.AnswerDiffers, "ST 0001 / PO1 / ACK / 01",
		"Line 1 is accepted with changes (IQ): quantity 80 of 100.")
	_, err := d.Keep(context.Background(),
		"koinos: partner/1\nname: X\nthem: {qualifier: ZZ, id: X1}\nus: {qualifier: ZZ, id: US}\nsets: {\"850\": {}}\n",
		"test")
	has(t, finding.Of(err), finding.PartnerInvalid, "kind", `kind is one of customer, supplier, not "".`)
	_, err = d.Keep(context.Background(),
		"koinos: partner/1\nname: X\nkind: customer\nthem: {qualifier: ZZ, id: PELLOW}\nus: {qualifier: ZZ, id: "+
			"QUILLMERE}\nsets: {\"850\": {}}\n", "test")
	has(t, finding.Of(err), finding.PartnerInvalid, "",
		"PELLOW and X have the same ids; an interchange could be of either.")
}

// A customer's order goes its whole way: ordered, answered, changed, answered
// again, shipped in parts, invoiced, each said once only.
func TestCustomer(t *testing.T) {
	d := open(t)
	if i := d.receive(strings.Replace(pellow(904, "850", order4711), "~GE*1*", "~GE*2*",
		1)); i.State != api.StateRejected || i.Sets[0].First().OrderID != 0 {
		t.Fatalf("a group that lost a set: %+v", i)
	}
	two := strings.Replace(strings.Replace(pellow(903, "850", order4711), "~GE*1*",
		"~ST*850*0002~BEG*00**PM-2**20260316~PO1*1*1*EA*1~SE*4*0002~GE*2*", 1), "PM-1*", "PM-0*", 1)
	if i := d.receive(two); i.State != api.StatePartly || i.Sets[0].State != api.StateDone ||
		i.Sets[1].State != api.StateRejected {
		t.Fatalf("one of two sets is rejected: %+v", i)
	}
	if left, err := d.store.Waiting(context.Background(), d.at); err != nil || len(left) != 0 {
		t.Errorf("what the sender must fix waits for us: %+v %v", left, err)
	}
	if i := d.receive(pellow(905, "850", order4711)); i.State != api.StateDone || i.Sets[0].First().OrderID == 0 {
		t.Fatalf("%+v", i)
	}
	answer := d.send("PELLOW", "855")
	if len(answer) != 1 || answer[0].State != api.StateSent || !strings.Contains(d.text(answer[0]), "ACK*IA*20*MR~") {
		t.Fatalf("%+v %s", answer, d.text(answer[0]))
	}
	if again := d.send("PELLOW", "855"); len(again) != 0 {
		t.Errorf("it is answered twice: %+v", again)
	}
	if i := d.receive(pellow(906, "860",
		"BCH*04*SA*PM-1***20260317~POC*1*QI*30**MR*1.33**VP*00113~POC*2*DI*0**BX*31.42**VP*00489~"+
			"POC*3*AI*5**MR*1.21**VP*00110~CTT*3~")); i.State != api.StateDone {
		t.Fatalf("%+v", i.Sets[0].Findings)
	}
	o := d.order(order.Sales, "PELLOW", "", "PM-1")
	if o.Lines[0].Quantity.String() != "30" || o.Lines[1].Cancelled.String() != "3" || len(o.Lines) != 3 ||
		o.Events[1].Changes[0].At == "" {
		t.Fatalf("%+v %+v", o.Lines, o.Events[1])
	}
	if text := d.text(d.send("PELLOW", "865")[0]); !strings.Contains(text, "POC*1*QI*30**MR") ||
		!strings.Contains(text, "POC*2*DI*") || !strings.Contains(text, "ACK*ID*0*BX~") {
		t.Error(text)
	}
	ship := func(first, third string) {
		o := d.order(order.Sales, "PELLOW", "", "PM-1").Order
		o.Lines[0].Shipped, o.Lines[2].Shipped = order.MustNumber(first), order.MustNumber(third)
		d.post(o)
	}
	ship("20", "5")
	// 20 × 1.33 + 5 × 1.21
	for _, c := range []struct{ set, want string }{{"856", "SN1**20*MR*20~"}, {"810", "TDS*3265~"}} {
		text := d.text(d.send("PELLOW", c.set)[0])
		if !strings.Contains(text, c.want) {
			t.Errorf("%s lacks %s: %s", c.set, c.want, text)
		}
		if again := d.send("PELLOW", c.set); len(again) != 0 {
			t.Errorf("%s is said twice", c.set)
		}
	}
	ship("30", "5")
	for _, c := range []struct{ set, want string }{{"856", "SN1**10*MR*30~"}, {"810", "TDS*1330~"}} {
		if text := d.text(d.send("PELLOW", c.set)[0]); !strings.Contains(text, c.want) {
			t.Errorf("the second %s lacks %s: %s", c.set, c.want, text)
		}
	}
}

// A supplier's acknowledgements, answers and mistakes come home to what we sent.
func TestSupplier(t *testing.T) {
	d := open(t)
	ctx := context.Background()
	d.post(purchase(1))
	out := d.send("VARNHOLT", "850")
	if len(out) != 1 || out[0].State != api.StateSent || out[0].GroupControl == 0 {
		t.Fatalf("%+v", out)
	}
	number := out[0].Orders[0]
	d.at = d.at.Add(25 * time.Hour)
	if late, err := d.store.Waiting(ctx, d.at); err != nil || len(late) != 1 || !late[0].Overdue {
		t.Errorf("what is not acknowledged in time is not shown: %+v %v", late, err)
	}
	for _, c := range []struct{ doc, state string }{
		{varnholt(1, "999", fmt.Sprintf("AK1*PO*%d~AK2*850*0001~IK3*PO1*8**8~IK4*4*212*6*x~IK5*R*5~AK9*R*1*1*0~",
			out[0].GroupControl)), api.StateRejected},
		{varnholt(2, "997", fmt.Sprintf("AK1*PO*%d~AK2*850*0001~AK5*E*5~AK9*E*1*1*1~", out[0].GroupControl)),
			api.StateNoted},
		{varnholt(3, "997", fmt.Sprintf("AK1*PO*%d~AK9*A*1*1*1~", out[0].GroupControl)), api.StateAccepted},
	} {
		if i := d.receive(c.doc); i.State != api.StateDone {
			t.Errorf("%+v", i)
		}
		got, err := d.store.Interchange(ctx, out[0].ID, d.at)
		if err != nil || got.State != c.state || got.Sets[0].State != c.state {
			t.Errorf("%s, want %s (%v)", got.State, c.state, err)
		}
	}
	d.receive(varnholt(4, "856", "BSN*00*VS-1*20260318*1405~HL*1**S*1~HL*2*1*O*1~PRF*"+number+
		"~HL*3*2*I*0~LIN*1*VP*BR-10-W~SN1**60*MR~"))
	d.receive(varnholt(5, "856", "BSN*00*VS-2*20260319*1405~HL*1**S*1~HL*2*1*O*1~PRF*"+number+
		"~HL*3*2*P*1~HL*4*3*I*0~LIN**VP*BR-10-W~SN1**40*MR~"))
	o := d.order(order.Purchase, "VARNHOLT", number, "")
	if o.Lines[0].Shipped.String() != "100" || o.Lines[1].Shipped.Sign() != 0 {
		t.Errorf("shipped %s and %s", o.Lines[0].Shipped, o.Lines[1].Shipped)
	}
	bill := d.receive(varnholt(6, "810", "BIG*20260320*VI-1**"+number+"~IT1*1*100*MR*0.75**VP*BR-10-W~TDS*7600~"))
	said := ""
	for _, f := range bill.Sets[0].Findings {
		said += "\n" + f.At + ": " + f.Message
	}
	if want := `
ST 0001 / IT1 / 04: Line 1 is invoiced at 0.75; the order says 0.71: 4.00 EUR more.
ST 0001 / TDS / 01: The invoice states a total of 76.00; its lines, charges and tax make 75.00.
ST 0001 / BIG / 02: The invoice differs from the order by 4.00 EUR more.`; said != want || bill.State != api.StateHeld {
		t.Errorf("%s: %s", bill.State, said)
	}
	if bill, err := d.Replay(ctx, bill.ID, []string{"price_differs", "invoice_differs"}, "test"); err != nil ||
		bill.State != api.StateDone {
		t.Errorf("%s, %v", bill.State, err)
	}
	if o := d.order(order.Purchase, "VARNHOLT", number, ""); o.Lines[0].Invoiced.String() != "100" {
		t.Errorf("invoiced %s", o.Lines[0].Invoiced)
	}
	if i := d.receive(varnholt(7, "850", order4711)); i.State != api.StateHeld {
		t.Errorf("a supplier orders from us: %s", i.State)
	}
	// What changes after it was ordered is a change, said once.
	o = d.order(order.Purchase, "VARNHOLT", number, "")
	o.Lines[1].Quantity = order.MustNumber("250")
	d.post(o.Order)
	if text := d.text(d.send("VARNHOLT", "860")[0]); !strings.Contains(text, "POC|2|QI|250||MR|0.71") ||
		strings.Contains(text, "POC|1") {
		t.Error(text)
	}
	if again := d.send("VARNHOLT", "860"); len(again) != 0 {
		t.Errorf("a change is said twice")
	}
}

// Control numbers rise by one, are never used twice, and a resend is the same
// bytes; what is held goes out when its cause is fixed.
func TestNumbers(t *testing.T) {
	d := open(t)
	ctx := context.Background()
	var seen []int64
	for n := range 5 {
		d.post(purchase(10 + n))
		for _, i := range d.send("VARNHOLT", "850") {
			seen = append(seen, i.Control)
		}
	}
	if fmt.Sprint(seen) != "[1 2 3 4 5]" {
		t.Errorf("control numbers %v", seen)
	}
	var files []string
	for end := time.Now().Add(10 * time.Second); len(files) != 5; time.Sleep(5 * time.Millisecond) {
		var err error // a file gets its name when it has been noted that it leaves
		if files, err = filepath.Glob(filepath.Join(d.dir, "VARNHOLT", "out", "*.edi")); err != nil || time.Now().After(end) {
			t.Fatal(len(files), err)
		}
	}
	name := files[0]
	first, err := os.ReadFile(name)
	if err != nil || os.Remove(name) != nil {
		t.Fatal(err)
	}
	if _, err := d.Resend(ctx, 1, "eva"); err != nil {
		t.Fatal(err)
	}
	if again, err := os.ReadFile(name); err != nil || !bytes.Equal(first, again) {
		t.Errorf("a resend is not the same bytes: %v", err)
	}
	bare := purchase(20)
	bare.Lines[0].SupplierItem = ""
	d.post(bare)
	held := d.send("VARNHOLT", "850")
	if len(held) != 1 || held[0].State != api.StateHeld || held[0].Control != 0 {
		t.Fatalf("%+v", held)
	}
	if _, err := d.Resend(ctx, held[0].ID, "eva"); err == nil {
		t.Error("what never left is sent once more")
	}
	o := d.order(order.Purchase, "VARNHOLT", "", "REQ-20").Order
	o.Lines[0].SupplierItem = "BR-10-W"
	d.post(o)
	if out := d.send("VARNHOLT", "850"); len(out) != 1 || out[0].Control != 6 {
		t.Errorf("%+v", out)
	}
	if _, err := d.store.Interchange(ctx, held[0].ID, d.at); err == nil {
		t.Error("it is held still, although it went out")
	}
	// An order that is held for want of an entry goes on when it is there.
	i := d.receive(pellow(50, "860", "BCH*04*SA*PM-1***20260317~POC*1*QI*30**MR*1.33**VP*00113~"))
	d.receive(pellow(51, "850", order4711))
	if i, err = d.Replay(ctx, i.ID, nil, "test"); err != nil || i.State != api.StateDone {
		t.Errorf("%s %v %+v", i.State, err, i.Sets[0].Findings)
	}
	if _, err = d.Replay(ctx, i.ID, nil, "test"); err == nil {
		t.Error("what is done is done again")
	}
}

// What a partner passes over because it knows the numbers goes out once more under new ones: the same sets, group by
// group, and only the new ones have to be acknowledged. Each time that something left stands in its history.
func TestRenumber(t *testing.T) {
	d := open(t)
	ctx := context.Background()
	for n := range 2 {
		d.post(purchase(n))
	}
	first := d.send("VARNHOLT", "850")[0]
	d.at = d.at.Add(90 * time.Minute)
	if _, err := d.Resend(ctx, first.ID, "eva"); err != nil {
		t.Fatal(err)
	}
	copied, err := d.Renumber(ctx, first.ID, "ida")
	if err != nil {
		t.Fatal(err)
	}
	was, err := d.store.Interchange(ctx, first.ID, d.at)
	if err != nil {
		t.Fatal(err)
	}
	var left []string
	for _, i := range []api.Interchange{was, copied} {
		for _, p := range i.Departures {
			left = append(left, fmt.Sprint(i.Control, " ", p.At.Format("1504"), " ", p.By))
		}
	}
	if want := "[1 0800 test 1 0930 eva 2 0930 ida]"; fmt.Sprint(left) != want {
		t.Errorf("left %v, want %s", left, want)
	}
	if copied.CopyOf != was.ID || fmt.Sprint(was.Copies) != fmt.Sprint([]int64{copied.ID}) ||
		copied.State != api.StateSent ||
		copied.DueAt.IsZero() || !was.DueAt.IsZero() || fmt.Sprint(copied.Orders) != fmt.Sprint(was.Orders) ||
		copied.SetCount != 2 {
		t.Errorf("copy %+v\nof %+v", copied, was)
	}
	// Nothing but the numbers and the moment is another.
	want := strings.NewReplacer("260316|0800|^|00501|000000001", "260316|0930|^|00501|000000002", "|20260316|0800|1|X|",
		"|20260316|0930|2|X|",
		"GE|2|1~", "GE|2|2~", "IEA|1|000000001~", "IEA|1|000000002~").Replace(d.text(was))
	if got := d.text(copied); got != want || got == d.text(was) {
		t.Errorf("%s\nwant %s", got, want)
	}
	// They acknowledge the copy; what it says is said.
	d.receive(varnholt(1, "999", "AK1*PO*2*005010~AK2*850*0001~IK5*A~AK2*850*0002~IK5*A~AK9*A*2*2*2~"))
	if copied, err = d.store.Interchange(ctx, copied.ID, d.at); err != nil || copied.State != api.StateAccepted {
		t.Errorf("%s %v", copied.State, err)
	}
	if out := d.send("VARNHOLT", "850"); len(out) != 0 {
		t.Errorf("it is said once more: %+v", out)
	}
	// What they rejected does not wait for a person any more once it went out anew.
	d.post(purchase(7))
	rejected := d.send("VARNHOLT", "850")[0]
	d.receive(varnholt(2, "999", "AK1*PO*3*005010~AK2*850*0001~IK5*R*7~AK9*R*1*1*0~"))
	waiting := func() (ids []int64) {
		all, err := d.store.Waiting(ctx, d.at)
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range all {
			ids = append(ids, i.ID)
		}
		return ids
	}
	before := waiting()
	if _, err := d.Renumber(ctx, rejected.ID, "ida"); err != nil {
		t.Fatal(err)
	}
	if after := waiting(); fmt.Sprint(before) != fmt.Sprint([]int64{rejected.ID}) || len(after) != 0 {
		t.Errorf("waiting before %v, after %v", before, after)
	}
}
