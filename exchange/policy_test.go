package exchange

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/order"
	"koinos/demo"
)

// partner keeps PELLOW with something else in its description.
func (d *desk) partner(was, is string) {
	d.t.Helper()
	text, err := demo.Files.ReadFile("partners/pellow.yaml")
	if err != nil {
		d.t.Fatal(err)
	}
	if !strings.Contains(string(text), was) {
		d.t.Fatalf("the partner does not say %q", was)
	}
	if _, err := d.Keep(context.Background(), strings.Replace(string(text), was, is, 1), "test"); err != nil {
		d.t.Fatal(err)
	}
}

// answers are the segments of what left for PELLOW that judge something, file by file.
func (d *desk) answers() (all []string) {
	d.t.Helper()
	names, err := filepath.Glob(filepath.Join(d.dir, "PELLOW", "out", "*.edi"))
	if err != nil {
		d.t.Fatal(err)
	}
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			d.t.Fatal(err)
		}
		kind := strings.TrimSuffix(name[strings.LastIndex(name, "-")+1:], ".edi")
		all = append(all, kind+": "+only(string(text), "TA1", "AK5", "AK9"))
		if err := os.Remove(name); err != nil {
			d.t.Fatal(err)
		}
	}
	return all
}

// How much is rejected with a set or an envelope, and what the sender is told, are as the partner's description says.
func TestPolicies(t *testing.T) {
	skipRaces(t)
	good := pellow(1, "850", order4711)
	set, group := between(good, "ST*850", "GE*1"), between(good, "GS*", "IEA*")
	bad := strings.NewReplacer("*0001~", "*0002~", "PM-1", "PM-2", "BEG*00*SA", "BEG*00*").Replace(set)
	third := strings.NewReplacer("0930*1*X", "0930*2*X", "GE*1*1", "GE*1*2", "PM-1", "PM-3").Replace(group)
	// two groups, the first with a bad set
	groups := strings.NewReplacer("GE*1*", bad+"GE*2*", "IEA*1*", third+"IEA*2*").Replace(good)
	elsewhere := strings.Replace(good, "*ZZ*QUILLMERE      *", "*ZZ*QUILLMEER      *", 1)
	miscounted := strings.Replace(good, "IEA*1", "IEA*4", 1)
	for _, c := range []struct {
		name, acknowledge, doc string
		state, orders          string
		answers                string
	}{
		{"a set by itself", `{with: "997"}`, groups, api.StatePartly, "PM-1 PM-3",
			"997: AK5*A AK5*R*5 AK9*P*2*2*1 AK5*A AK9*A*1*1*1"},
		{"with its group", `{with: "997", whole: group}`, groups, api.StatePartly, "PM-3",
			"997: AK5*A AK5*R*5 AK9*R*2*2*0 AK5*A AK9*A*1*1*1"},
		{"with its interchange", `{with: "997", whole: interchange}`, groups, api.StateRejected, "",
			"997: TA1*000000001*260316*0930*R*024 AK5*A AK5*R*5 AK9*R*2*2*0 AK5*A AK9*R*1*1*0"},
		{"a fault that is noted", `{with: "997"}`, miscounted, api.StateNoted, "PM-1",
			"997: TA1*000000001*260316*0930*E*021 AK5*A AK9*A*1*1*1"},
		{"a fault that rejects", `{with: "997", reject: ["021"]}`, miscounted, api.StateRejected, "",
			"TA1: TA1*000000001*260316*0930*R*021"},
		{"for somebody else", `{with: "997"}`, elsewhere, api.StateUnknown, "", ""},
		{"for somebody else, which is told", `{with: "997", reject: ["008"]}`, elsewhere, api.StateRejected, "",
			"TA1: TA1*000000001*260316*0930*R*008"},
		{"a TA1 alone", `{with: none, ta1: always}`, good, api.StateDone, "PM-1", "TA1: TA1*000000001*260316*0930*A*000"},
		{"nothing", `{with: none}`, miscounted, api.StateNoted, "PM-1", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := open(t)
			d.partner(`acknowledge: {with: "997", within: 24h}`, "acknowledge: "+c.acknowledge)
			i := d.receive(c.doc)
			d.left()
			orders, got := d.numbers("PELLOW"), strings.Join(d.answers(), " | ")
			if i.State != c.state || orders != c.orders || got != c.answers {
				t.Errorf("%s, %s, %s\nwant %s, %s, %s\n%+v", i.State, orders, got, c.state, c.orders, c.answers, i.Findings)
			}
			for _, s := range i.Sets {
				if s.State == api.StateRejected && len(s.Findings) == 0 {
					t.Errorf("set %s is rejected, and nothing says why", s.Control)
				}
			}
		})
	}
}

// What a TA1 says of an interchange of ours stands on its page in words.
func TestTheirTA1(t *testing.T) {
	skipRaces(t)
	d := open(t)
	d.receive(pellow(1, "850", order4711))
	o := d.order(order.Sales, "PELLOW", "", "PM-1")
	for n, c := range []struct{ code, state, want string }{
		{"E*014", api.StateSent, "[The partner says that the interchange has a wrong date (TA1 014).]"},
		{"R*009", api.StateRejected, "[The partner says that the interchange has a receiver's id that is not known (TA1 009).]"},
	} {
		d.says("shipment", o.ID, map[string]string{"shipment": fmt.Sprint("LS-", n)}, map[string]string{"number": "1",
			"quantity": "1"})
		sent := d.send("PELLOW", "856")[0]
		d.receive(strings.Replace(pellow(10+n, "997", ""), "GS*", fmt.Sprintf("TA1*%09d*260316*0930*%s~GS*", sent.Control,
			c.code), 1))
		i, err := d.store.Interchange(context.Background(), sent.ID, d.at)
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		for _, f := range i.Findings {
			said = append(said, f.Message)
		}
		if i.State != c.state || fmt.Sprint(said) != c.want {
			t.Errorf("%s: %s %s", c.code, i.State, said)
		}
	}
}

// A set that breaks a rule of its partner is held and nothing is done with it, while others of its interchange are
// taken. It is taken when somebody accepts that, or when the rule is another one.
func TestRulesHoldWhatComes(t *testing.T) {
	skipRaces(t)
	rules := func(d *desk, need string) {
		d.t.Helper()
		text, err := demo.Files.ReadFile("partners/pellow.yaml")
		if err != nil {
			d.t.Fatal(err)
		}
		own, others, _ := strings.Cut(string(text), "\nrules:\n")
		if _, err := d.Keep(context.Background(), own+"\nrules:\n  \"850\": [{at: PO1/05, need: "+need+"}]\n"+
			others[strings.Index(others, `  "855"`):], "test"); err != nil {
			d.t.Fatal(err)
		}
	}
	good := pellow(1, "850", strings.ReplaceAll(order4711, "**VP", "*PE*VP"))
	set := good[strings.Index(good, "ST*850"):strings.Index(good, "GE*1")]
	bad := strings.NewReplacer("*0001~", "*0002~", "PM-1", "PM-2", "*PE*VP", "**VP").Replace(set)
	// noted, and not said less for being looked at again
	bad = strings.Replace(bad, "Pellow Marina", strings.Repeat("Pellow ", 10)+"Marina", 1)
	doc := strings.Replace(good, "GE*1*", bad+"GE*2*", 1)
	for _, c := range []struct {
		name   string
		do     func(d *desk)
		accept []string
		state  string
		orders string
		found  string // of the set that was held
	}{
		{"nothing is done about it", func(*desk) {}, nil, api.StateHeld, "PM-1",
			"[x12_noted warning x12_rule error x12_rule error]"},
		{"another code is accepted", func(*desk) {}, []string{"price_differs"}, api.StateHeld, "PM-1",
			"[x12_noted warning x12_rule error x12_rule error]"},
		{"it is accepted", func(*desk) {}, []string{"x12_rule"}, api.StateDone, "PM-1 PM-2",
			"[x12_noted warning x12_rule error x12_rule error]"},
		{"the rule is corrected", func(d *desk) { rules(d, "should") }, nil, api.StateDone, "PM-1 PM-2",
			"[x12_noted warning x12_rule warning x12_rule warning]"},
	} {
		d := open(t)
		rules(d, "must")
		i := d.receive(doc)
		c.do(d)
		if i.State != api.StateHeld || d.numbers("PELLOW") != "PM-1" {
			t.Errorf("%s: %s, %s, %+v", c.name, i.State, d.numbers("PELLOW"), i.Sets[1].Findings)
		}
		i, err := d.Replay(context.Background(), i.ID, c.accept, "test")
		if err != nil {
			t.Fatal(err)
		}
		var found []string
		for _, f := range i.Sets[1].Findings {
			found = append(found, fmt.Sprint(f.Code, " ", f.Severity))
		}
		if i.State != c.state || d.numbers("PELLOW") != c.orders || fmt.Sprint(found) != c.found {
			t.Errorf("%s: %s, %s, %s", c.name, i.State, d.numbers("PELLOW"), found)
		}
	}
}

// Where a partner's groups are each to come once, one whose number came before is rejected, whatever its interchange's
// number is, unless it was rejected then, or a person let its interchange in.
func TestGroupsOnce(t *testing.T) {
	skipRaces(t)
	group := func(control int, group, number string) string {
		return strings.NewReplacer(fmt.Sprintf("0930*%d*X", control), "0930*"+group+"*X", fmt.Sprintf("GE*1*%d", control),
			"GE*1*"+group, "PM-1", number).Replace(pellow(control, "850", order4711))
	}
	twice := strings.Replace(group(3, "8", "PM-3"), "IEA*1*", between(group(3, "08", "PM-4"), "GS*", "IEA*")+"IEA*2*", 1)
	for _, c := range []struct {
		groups string
		want   []string
	}{
		{"any", []string{"done [] 997: AK5*A AK9*A*1*1*1", "done [] 997: AK5*A AK9*A*1*1*1",
			"done [] 997: AK5*A AK9*A*1*1*1 AK5*A AK9*A*1*1*1", "done [] 997: AK5*A AK9*A*1*1*1"}},
		{"once", []string{"done [] 997: AK5*A AK9*A*1*1*1",
			"rejected [The control number 007 of the group came before, in interchange 1. (group 6)] 997: AK5*A AK9*R*1*1*0*6",
			"partly [The control number 08 of the group came before, in the same interchange. (group 6)] 997: AK5*A AK9*A*1*1*1 AK5*A AK9*R*1*1*0*6",
			"rejected [The control number 8 of the group came before, in interchange 5. (group 6)] 997: AK5*A AK9*R*1*1*0*6"}},
	} {
		d := open(t)
		d.partner(`acknowledge: {`, "acknowledge: {groups: "+c.groups+", ")
		for n, doc := range []string{group(1, "7", "PM-1"), group(2, "007", "PM-2"), twice, group(4, "8", "PM-5")} {
			i := d.receive(doc)
			var said []string
			for _, f := range i.Findings {
				said = append(said, f.Message)
			}
			d.left()
			if got := fmt.Sprintf("%s %s %s", i.State, said, strings.Join(d.answers(), " ")); got != c.want[n] {
				t.Errorf("%s, document %d:\n got %s\nwant %s", c.groups, n+1, got, c.want[n])
			}
		}
	}
}

// between is the part of a text from one word to another.
func between(text, from, to string) string {
	return text[strings.Index(text, from):strings.Index(text, to)]
}
