package exchange

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/intent"
	"koinos/core/order"
	"koinos/core/x12"
	"koinos/store"
)

// acknowledge has PELLOW acknowledge the group of an interchange of ours, whose kind travels under a functional
// identifier.
func (d *desk) acknowledge(control int, of api.Interchange, segments string) {
	d.t.Helper()
	i := d.receive(pellow(control, "997", fmt.Sprintf("AK1*PR*%d~%s", of.GroupControl, segments)))
	if i.State != api.StateDone {
		d.t.Fatalf("the acknowledgement is %s: %+v", i.State, foundIn(i))
	}
}

// due sends what is due, as the service does by itself, and returns how many interchanges these are.
func (d *desk) due(name, set string) int {
	d.t.Helper()
	before := len(d.outbox(name, set))
	if err := d.sendDue(d.t.Context(), name, set); err != nil {
		d.t.Fatal(err)
	}
	return len(d.outbox(name, set)) - before
}

// outbox are the interchanges with sets of a kind, or of all, that a partner was sent, newest first.
func (d *desk) outbox(name, set string) []api.Interchange {
	d.t.Helper()
	list, err := d.store.Interchanges(d.t.Context(), store.InterchangeFilter{Partner: name, Kind: set, Direction: "out",
		Speaking: true, Limit: 100}, d.at)
	if err != nil {
		d.t.Fatal(err)
	}
	return list
}

// What a partner notes about our sets is said with our segments and values, and in words.
func TestNotesInWords(t *testing.T) {
	d := open(t)
	for n, c := range []struct {
		notes string
		want  []string
	}{
		{"AK3*ACK*5*PO1*8~AK4*1*668*7*IA~AK5*R*5~AK9*R*1*1*0~", []string{
			`error ST 0001 / PO1 / ACK / 01: The partner notes about ACK at position 5, ACK01 Line Item Status ` +
				`Code, which is "IA": invalid code value (7).`}},
		{"AK3*ACK*5*PO1*8~AK4*1*668*7*XX~AK5*E*5~AK9*E*1*1*1~", []string{
			`warning ST 0001 / PO1 / ACK / 01: The partner notes about ACK at position 5, ACK01 Line Item Status ` +
				`Code, which is "IA" and was read as "XX": invalid code value (7).`}},
		{"AK3*PO1*6*PO1*8~AK4*10*234*1~AK5*R*5~AK9*R*1*1*0~", []string{
			`error ST 0001 / PO1 #2 / 10: The partner notes about PO1 at position 6, PO110 Product/Service ID ` +
				`Qualifier, which is blank: mandatory data element missing (1).`}},
		{"AK3*N1*4**3~AK5*R*5~AK9*R*1*1*0~", []string{
			`error ST 0001 / PO1: The partner notes about N1 at position 4 (our set has PO1 there): mandatory segment missing (3).`}},
		{"AK3*CTT*99**2~AK5*R*5~AK9*R*1*1*0~", []string{
			`error : The partner notes about CTT at position 99: unexpected segment (2).`}},
		{"AK5*R*4*7~AK9*R*1*1*0~", []string{
			`error : The partner notes about the set: number of included segments does not match actual count (4).`,
			`error : The partner notes about the set: missing or invalid transaction set control number (7).`}},
		{"AK5*R*5~AK9*R*1*1*0~", []string{`error : The partner notes about the set: one or more segments in error (5).`}},
		{"AK5*R*77~AK9*R*1*1*0*2~", []string{
			`error : The partner notes about the group GROUP: functional group version not supported (2).`,
			`error : The partner notes about the set: a code of their own (77).`}},
	} {
		number := fmt.Sprintf("PM-%d", n)
		d.receive(pellow(100+n, "850", strings.Replace(order4711, "PM-1", number, 1)))
		sent := d.send("PELLOW", "855")[0]
		d.acknowledge(200+n, sent, "AK2*855*0001~"+c.notes)
		i, err := d.store.Interchange(t.Context(), sent.ID, d.at)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, f := range foundIn(i) {
			group := fmt.Sprint(sent.GroupControl)
			got = append(got, fmt.Sprintf("%s %s: %s", f.Severity, f.Place, strings.Replace(f.Message, "group "+group+":",
				"group GROUP:", 1)))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s:\n got %s\nwant %s", c.notes, strings.Join(got, "\n     "), strings.Join(c.want, "\n     "))
		}
	}
}

// A partner may acknowledge the sets of a group apart, in one interchange or in several. A set is what the last
// acknowledgement says that names it, and the interchange what its sets make it.
func TestAcknowledgedApart(t *testing.T) {
	skipRaces(t)
	const first, second = "AK2*855*0001~", "AK2*855*0002~"
	const yes, no, good, bad, some = "AK5*A~", "AK5*R*5~", "AK9*A*2*2*2~", "AK9*R*2*2*0~", "AK9*P*2*2*1~"
	for n, c := range []struct {
		name  string
		heard []string // interchanges of acknowledgements, divided by |
		want  string
	}{
		{"both at once", []string{first + yes + second + no + some}, "partly: accepted rejected"},
		{"only the one that is wrong", []string{second + no + some}, "partly: accepted rejected"},
		{"none named", []string{good}, "accepted: accepted accepted"},
		{"one after the other", []string{first + no + bad + "|" + second + yes + good}, "partly: rejected accepted"},
		{"the other way round", []string{second + yes + good + "|" + first + no + bad}, "rejected: rejected accepted"},
		{"in two interchanges", []string{first + no + bad, second + yes + good}, "partly: rejected accepted"},
		{"another opinion", []string{first + no + second + no + bad, first + yes + second + yes + good}, "accepted: accepted accepted"},
		{"another opinion of all", []string{first + no + some, good}, "accepted: accepted accepted"},
		{"another opinion of one", []string{bad, second + yes + some}, "partly: rejected accepted"},
	} {
		d := open(t)
		for k := range 2 {
			d.receive(pellow(100+k, "850", strings.Replace(order4711, "PM-1", fmt.Sprint("PM-", k+1), 1)))
		}
		sent := d.send("PELLOW", "855")[0]
		for k, heard := range c.heard {
			var sets string
			for i, one := range strings.Split(heard, "|") {
				said := fmt.Sprintf("AK1*PR*%d~%s", sent.GroupControl, one)
				sets += fmt.Sprintf("ST*997*%04d~%sSE*%d*%04[1]d~", i+1, said, strings.Count(said, "~")+2)
			}
			one := pellow(200+10*n+k, "997", "@")
			from, to := strings.Index(one, "ST*997"), strings.Index(one, "GE*1*")
			count := strings.Count(sets, "ST*997")
			d.receive(one[:from] + sets + strings.Replace(one[to:], "GE*1*", fmt.Sprintf("GE*%d*", count), 1))
		}
		i, err := d.store.Interchange(t.Context(), sent.ID, d.at)
		if err != nil {
			t.Fatal(err)
		}
		got := i.State + ":"
		for _, s := range i.Sets {
			got += " " + s.State
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// However much a partner notes, and however often, as much of it is stored as somebody can look at, and the rest is
// counted.
func TestManyNotes(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	sent := d.send("PELLOW", "855")[0]
	var notes string
	for n := range 1_000 {
		notes += fmt.Sprintf("AK3*PO1*%d**2~", n+10)
	}
	last := func(control int, says string) string {
		d.acknowledge(control, sent, "AK2*855*0001~"+says+"AK5*R*5~AK9*R*1*1*0~")
		i, err := d.store.Interchange(t.Context(), sent.ID, d.at)
		if err != nil {
			t.Fatal(err)
		}
		all := i.Sets[0].Findings
		return fmt.Sprintf("%d: %s", len(all), all[len(all)-1].Message)
	}
	for k, c := range []struct{ name, says, want string }{
		{"200 of 1,000", notes, "201: The partner notes 800 further errors, which are not listed here."},
		{"the same again", notes, "201: The partner notes 800 further errors, which are not listed here."},
		{"another one", "AK3*CTT*9**2~", "202: There are further notes, which are not listed here."},
		{"still another one", "AK3*CTT*8**2~", "202: There are further notes, which are not listed here."},
	} {
		if got := last(k+2, c.says); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	var all string
	for n := range 1_000 { // of which there are no more codes
		all += fmt.Sprintf("TA1*%09d*260316*0930*E*%03d~", sent.Control, n%26)
	}
	for n := range 500 {
		all += fmt.Sprintf("TA1*%09d*260316*0930*E*001~", 900_000+n)
	}
	doc := pellow(77, "997", "@")
	i := d.receive(doc[:strings.Index(doc, "GS*")] + all + "IEA*0*000000077~")
	ours, err := d.store.Interchange(t.Context(), sent.ID, d.at)
	if err != nil || len(ours.Findings) != 25 {
		t.Errorf("%d notes about the interchange, %v", len(ours.Findings), err)
	}
	if n := len(i.Findings); n != 201 || i.Findings[n-1].Message != "Its TA1 is about an interchange 000900200, which was never sent to PELLOW." {
		t.Errorf("%d findings, the last: %s", n, i.Findings[n-1].Message)
	}
}

// What a partner has rejected is not sent once more by itself, which would only be rejected again, for ever. It needs
// attention until a person sends it, or says that it is settled. What else is due is sent.
func TestRejectedIsNotRepeated(t *testing.T) {
	d := open(t)
	waiting := func() (all []string) {
		list, err := d.store.Waiting(t.Context(), d.at)
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range list {
			all = append(all, i.Kinds+" "+i.State)
		}
		return all
	}
	expect := func(step string, due int, set string, wait ...string) {
		t.Helper()
		for look := range 2 {
			if got := d.due("PELLOW", set); got != due*(1-look) {
				t.Errorf("%s: look %d sends %d interchanges, want %d", step, look+1, got, due*(1-look))
			}
		}
		if got := waiting(); !slices.Equal(got, wait) {
			t.Errorf("%s: %q needs attention, want %q", step, got, wait)
		}
	}
	reject := func(control int) {
		t.Helper()
		list := d.outbox("PELLOW", "")
		d.acknowledge(control, list[0], "AK2*"+list[0].Kinds+"*0001~AK5*R*5~AK9*R*1*1*0~")
	}
	d.receive(pellow(1, "850", order4711))
	id := d.order(order.Sales, "PELLOW", "", "PM-1").ID
	expect("the answer", 1, "855")
	reject(2)
	expect("the answer, rejected", 0, "855", "855 rejected")
	expect("a change meanwhile", 0, "865", "855 rejected")
	if n := len(d.send("PELLOW", "855")); n != 1 {
		t.Errorf("a person sends %d interchanges", n)
	}
	expect("sent by a person", 0, "855")
	reject(3)
	expect("rejected again", 0, "855", "855 rejected")
	list := d.outbox("PELLOW", "855")
	if _, err := d.Settle(t.Context(), list[0].ID, "test"); err != nil {
		t.Fatal(err)
	}
	expect("settled", 0, "855")
	ship := func(number string) {
		d.says(intent.Shipment, id, map[string]string{"shipment": number}, map[string]string{"number": "1", "quantity": "8"})
	}
	ship("LS-1")
	expect("a shipment", 1, "856")
	reject(4)
	expect("the shipment, rejected", 0, "856", "856 rejected")
	ship("LS-2")
	expect("a further shipment", 1, "856", "856 rejected")
	if n := len(d.send("PELLOW", "856")); n != 1 {
		t.Errorf("a person sends %d interchanges of shipments", n)
	}
	expect("the shipment, sent by a person", 0, "856")
	expect("its invoice", 1, "810")
	if _, err := d.Settle(t.Context(), list[1].ID, "test"); err != nil {
		t.Errorf("the earlier one cannot be settled: %v", err)
	}
}

// An order about which nothing need be told is not read again at each look until something happens to it.
func TestExaminedOnce(t *testing.T) {
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	id := d.order(order.Sales, "PELLOW", "", "PM-1").ID
	looks := func() (sets []string) {
		for _, set := range []string{"855", "865", "856", "810"} {
			list, err := d.store.Speaking(t.Context(), "sales", "PELLOW", set, true)
			if err != nil {
				t.Fatal(err)
			}
			if len(list) > 0 {
				sets = append(sets, set)
			}
			if err := d.sendDue(t.Context(), "PELLOW", set); err != nil {
				t.Fatal(err)
			}
		}
		return sets
	}
	for _, step := range []struct {
		name string
		do   func()
		want string
	}{
		{"it came", func() {}, "855 865"},
		{"nothing", func() {}, ""},
		{"a note", func() { d.says(intent.Change, id, map[string]string{"notes": "by hand"}) }, "865"},
		{"it leaves", func() {
			d.says(intent.Shipment, id, map[string]string{"shipment": "LS-1"}, map[string]string{"number": "1", "quantity": "8"})
		}, "865 856 810"},
		{"its invoice is told", func() {}, "865 856"}, // billing it was an event
		{"all is told", func() {}, ""},
	} {
		step.do()
		if got := strings.Join(looks(), " "); got != step.want {
			t.Errorf("%s: %q are read, want %q", step.name, got, step.want)
		}
	}
}

// Whatever a partner writes into an acknowledgement is read without harm, and says something about each note.
func FuzzReadAnswer(f *testing.F) {
	for _, seed := range []string{"AK1*PR*3~AK2*855*0001~AK3*ACK*5*PO1*8~AK4*1*668*7*IA~AK5*R*5~AK9*R*1*1*0",
		"AK1*PR*3~AK2*855*0001*004010~IK3*PO1*-4**I4~IK4*2>9>1*C001*I10*x~IK5*R*I5*5~AK9*P*2*2*1*5*9",
		"AK1*PR*999999999999999999999~AK9*A", "AK3*PO1*1*~AK4*99>>*1~AK1*X*1~AK9*R*0*0*0*1*2*3*4*5"} {
		f.Add(seed)
	}
	ours := ourSetOf(readSets(f, pellow(1, "850", order4711))[0])
	f.Fuzz(func(t *testing.T, segments string) {
		doc := pellow(1, "997", strings.Trim(segments, "~")+"~")
		for _, set := range readSets(t, doc) {
			a := readAnswer(set)
			if a == nil {
				continue
			}
			for _, notes := range a.notes {
				for _, n := range notes {
					for _, of := range []*ourSet{nil, ours} {
						if found := n.finding(of); found.Message == "" || found.Code == "" {
							t.Errorf("%+v: %+v", n, found)
						}
					}
				}
			}
		}
	})
}

// readSets reads the sets of a document.
func readSets(t testing.TB, doc string) (all []*x12.Set) {
	t.Helper()
	sets := x12.NewReader(strings.NewReader(doc))
	for {
		set, _, err := sets.Next()
		if errors.Is(err, io.EOF) {
			return all
		}
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, set)
	}
}
