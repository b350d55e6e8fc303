package x12

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"
)

// set reads the only set of a document.
func onlySet(t testing.TB, doc string) *Set {
	t.Helper()
	s, _, err := NewReader(strings.NewReader(doc)).Next()
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestRules(t *testing.T) {
	doc := wrap("BEG*00*SA*PM-1**20260314", "REF*CT*C-1", "N1*ST*Pellow*92*0040", "N3*Berth", "N1*BT*Pellow",
		"PO1*1*20*MR*1.33*PE*VP*00113*EN*2004417001597", "PO4*6", "PO1*2*3*BX*31.42**BP*R-1", "DTM*002*20260330",
		"CTT*2")
	for _, c := range []struct {
		rule Rule
		want string // places and codes
	}{
		{Rule{At: "REF/02 where REF/01 = CT", Need: "must"}, ""},
		{Rule{At: "REF/02 where REF/01 = DP", Need: "must"}, "ST 0001 must"},
		{Rule{At: "REF/02 where REF/01 = DP", Need: "should"}, "ST 0001 should"},
		{Rule{At: "REF", Need: "never"}, "ST 0001 / REF never"},
		{Rule{At: "SAC", Need: "must"}, "ST 0001 must"},
		{Rule{At: "PO1/05", Need: "must"}, "ST 0001 / PO1 #2 must"},
		{Rule{At: "PO1/05", Need: "must", When: "PO1/03 = MR"}, ""},
		{Rule{At: "PO1/PO4/01", Need: "must"}, "ST 0001 / PO1 #2 must"},
		{Rule{At: "PO1/PO4/02", Need: "must", When: "PO1/PO4/01"}, "ST 0001 / PO1 / PO4 must"},
		{Rule{At: "PO1/PO4", Need: "must"}, "ST 0001 / PO1 #2 must"},
		{Rule{At: "PO1/PO4", Need: "must", When: "PO1/03 = MR"}, ""},
		{Rule{At: "PO1/PO4", Need: "never", When: "PO1/03 = MR or BX"}, "ST 0001 / PO1 / PO4 never"},
		{Rule{At: "PO1/07 where PO1/06 = VP", Need: "must"}, "ST 0001 / PO1 #2 must"},
		{Rule{At: "PO1/07 where PO1/06 = EN", Least: 14}, "ST 0001 / PO1 / 09 least"},
		{Rule{At: "PO1/03", Codes: []string{"MR", "EA"}}, "ST 0001 / PO1 #2 / 03 codes"},
		{Rule{At: "BEG/02", Is: "NE"}, "ST 0001 / BEG / 02 is"},
		{Rule{At: "N1/02", Most: 5}, "ST 0001 / N1 / 02 most; ST 0001 / N1 #2 / 02 most"},
		{Rule{At: "N1/04 where N1/01 = ST", Codes: []string{"0040"}}, ""},
		{Rule{At: "N1/N3/01 where N1/01 = BT", Need: "must"}, "ST 0001 / N1 #2 must"},
		{Rule{At: "N1/N3 where N1/01 = BT", Need: "must"}, "ST 0001 / N1 #2 must"},
		{Rule{At: "N1", Times: 1}, "ST 0001 / N1 #2 times"},
		{Rule{At: "PO1/DTM/02 where PO1/DTM/01 = 002", Need: "must", When: "PO1/03 != BX"}, "ST 0001 / PO1 must"},
		{Rule{At: "PO1/07 where PO1/06 = EN", Need: "must", When: "PO1/03 = BX"}, "ST 0001 / PO1 #2 must"},
		{Rule{At: "N1/02", Same: "N1/N3/01"}, "ST 0001 / N1 / 02 same"},
		{Rule{At: "N1/N3/01", Same: "N1/04"}, "ST 0001 / N1 / N3 / 01 same"},
		{Rule{At: "PO1/DTM/02", Same: "PO1/PO4/01"}, ""}, // its line has no PO4
		{Rule{At: "PO1/09 where PO1/08 = EN", Same: "PO1/07 where PO1/06 = VP"}, "ST 0001 / PO1 / 09 same"},
	} {
		if err := c.rule.Compile(); err != nil {
			t.Errorf("%+v: %v", c.rule, err)
			continue
		}
		s := onlySet(t, doc)
		placed, found := Check(s)
		if len(found) > 0 {
			t.Fatal(found)
		}
		var got []string
		for _, f := range CheckRules(Tree(s, placed), []Rule{c.rule}) {
			got = append(got, f.Place+" "+f.Code)
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%+v gives %q, want %q", c.rule, got, c.want)
		}
	}
	for _, r := range []Rule{{At: "PO1/02"}, {At: "PO1", Is: "x"}, {At: "PO1/99", Need: "must"},
		{At: "MEA/01-4", Need: "must"}, {At: "MEA/04-99", Need: "must"}, {At: "ZZZ/01", Need: "must"},
		{At: "PO1/02", Same: "PO1"}, {At: "PO1/02", Same: "PO1/03", Is: "x"}, {At: "PO1", Same: "PO1/02"}, {At: "PO1/02",
			Same: "PO1/99"},
		{At: "PO1/02", Need: "always"}, {At: "PO1/02", Need: "must", When: "REF/01 = CT"}, {At: "", Need: "must"}} {
		if err := r.Compile(); err == nil {
			t.Errorf("%+v is taken for a rule", r)
		}
	}
}

// What a rule fixes is written where it is needed and nothing stands: a word, or what stands elsewhere in the loop.
func TestRulesFill(t *testing.T) {
	at := func(text string) *Address {
		a, err := ParseAddress(text)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	for _, c := range []struct{ rules, want []string }{
		{nil, []string{"PO1*1*5*EA*2**VP*00113", "ACK*IQ*3*EA", "ACK*IR*2*EA", "PO1*2*4*EA*1**VP*00417", "ACK*IA*4*EA"}},
		// The tenth pair of an ACK names the item again where its quantity is another.
		{[]string{"PO1/ACK/26 where PO1/ACK/25 = VP|PO1/ACK/01 = IQ||PO1/07 where PO1/06 = VP"},
			[]string{"PO1*1*5*EA*2**VP*00113", "ACK*IQ*3*EA**********************VP*00113", "ACK*IR*2*EA",
				"PO1*2*4*EA*1**VP*00417", "ACK*IA*4*EA"}},
		{[]string{"PO1/05||PE|"},
			[]string{"PO1*1*5*EA*2*PE*VP*00113", "ACK*IQ*3*EA", "ACK*IR*2*EA", "PO1*2*4*EA*1*PE*VP*00417", "ACK*IA*4*EA"}},
		{[]string{"PO1/PID/05 where PO1/PID/01 = F|PO1/02 = 4||PO1/07 where PO1/06 = VP"},
			[]string{"PO1*1*5*EA*2**VP*00113", "ACK*IQ*3*EA", "ACK*IR*2*EA", "PO1*2*4*EA*1**VP*00417", "PID*F****00417",
				"ACK*IA*4*EA"}},
		{[]string{"REF/02 where REF/01 = DP||D-7|"},
			[]string{"REF*DP*D-7", "PO1*1*5*EA*2**VP*00113", "ACK*IQ*3*EA", "ACK*IR*2*EA", "PO1*2*4*EA*1**VP*00417",
				"ACK*IA*4*EA"}},
	} {
		w, err := NewWriting("855", &Style{Delimiters: Delimiters{Element: '*', Component: '>', Segment: '~'},
			Version: "004010"})
		if err != nil {
			t.Fatal(err)
		}
		for _, line := range [][2]string{{"1 5 EA 2 00113", "IQ 3,IR 2"}, {"2 4 EA 1 00417", "IA 4"}} {
			po1 := w.Open(w.Root(), at("PO1"))
			for i, v := range strings.Fields(line[0]) {
				w.Put(po1, at([]string{"PO1/01", "PO1/02", "PO1/03", "PO1/04", "PO1/07 where PO1/06 = VP"}[i]).Within(at("PO1")), v)
			}
			for said := range strings.SplitSeq(line[1], ",") {
				ack := w.Open(po1, at("ACK"))
				for i, v := range append(strings.Fields(said), "EA") {
					w.Put(ack, at([]string{"ACK/01", "ACK/02", "ACK/03"}[i]).Within(at("ACK")), v)
				}
			}
		}
		var rules []Rule
		for _, text := range c.rules {
			f := strings.Split(text, "|")
			r := Rule{At: f[0], When: f[1], Is: f[2], Same: f[3], Need: "must"}
			if err := r.Compile(); err != nil {
				t.Fatal(err)
			}
			rules = append(rules, r)
		}
		w.Fill(rules)
		loops, err := w.lay()
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, l := range loops {
			got = append(got, l.id+"*"+strings.Join(l.elements, "*"))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%q writes\n%q, want\n%q", c.rules, got, c.want)
		}
	}
}

// Totals are compared with what they total.
func TestTotals(t *testing.T) {
	for ctt, want := range map[string]string{"CTT*2": "", "CTT*3": "count CTT01 counts 3 lines; there are 2.",
		"CTT*2*22.5": "", "CTT*2*22.50": "",
		"CTT*2*23": "hash CTT02 states a hash total of 23; the lines' quantities add up to 22.5."} {
		s := onlySet(t, wrap("BEG*00*SA*PM-1**20260314", "PO1*1*20*MR*1", "PO1*2*2.5*MR*1", ctt))
		placed, _ := Check(s)
		got := ""
		for _, f := range CheckCount(s, placed) {
			got = f.Code + " " + f.Message
		}
		if got != want {
			t.Errorf("%s: %q, want %q", ctt, got, want)
		}
	}
}

func TestDiff(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"~", "~\r\n", ""},
		{"*1.45*", "*1.450*", ""},
		{"000000905", "000000906", ""},
		{"REF*CT*C-2026~DTM*002*20260330~", "REF*CT*C-2026~DTM*002*20260331~",
			"850 DTM[002]/02: 20260330 (2026-03-30) 20260331 (2026-03-31)"},
		{"N3*Berth office~", "N3*Berth office*Pier 4~", "850 N1[ST]/N3[Berth office]/02:  Pier 4"},
	} {
		other := strings.Replace(plain850, c.old, c.new, -1)
		list, err := Diff(strings.NewReader(plain850), strings.NewReader(other))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, d := range list {
			got = append(got, fmt.Sprintf("%s %s: %s %s", d.Set, d.Place, d.A, d.B))
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%q: %q, want %q", c.new, got, c.want)
		}
	}
}

func TestCharacters(t *testing.T) {
	d := Delimiters{Element: '*', Component: '>', Segment: '~', Repetition: '^'}
	for _, c := range []struct {
		style         Style
		text, want    string
		changed, fail bool
	}{
		{Style{Characters: "extended"}, "Rope 10 mm", "Rope 10 mm", false, false},
		{Style{Characters: "basic"}, "Rope 10 mm", "ROPE 10 MM", false, false},
		{Style{Characters: "basic"}, "12 Café Quay", "12 CAFE QUAY", true, false},
		{Style{Characters: "extended"}, "Straße – Ærø", "Strasse - AEro", true, false},
		{Style{Characters: "latin-1"}, "Straße – Ærø", "Straße - Ærø", true, false},
		{Style{Characters: "utf-8"}, "Łódź", "Łódź", false, false},
		{Style{Characters: "extended", Others: "refuse"}, "Café", "Caf", true, true},
		{Style{Characters: "extended"}, "船", "", true, true},
		{Style{Characters: "extended"}, "5*6 ~ 30", "5 6   30", true, false},
		{Style{Characters: "extended", Delimiter: "refuse"}, "5*6", "5", true, true},
		{Style{Characters: "extended"}, "two\nlines", "two lines", true, false},
	} {
		c.style.Delimiters = d
		got, changed, refused := c.style.plain(c.text)
		if got != c.want || changed != c.changed || (refused != "") != c.fail {
			t.Errorf("%+v: %q is %q (%v, refused %q), want %q", c.style, c.text, got, changed, refused, c.want)
		}
	}
}

// No address makes a reading fail, and what is read is in the set.
func FuzzAddress(f *testing.F) {
	for _, text := range []string{"BEG/03", "N1/N3/01 where N1/01 = ST",
		"PO1/07 where PO1/06 = VP or VN and PO1/02 != 3", "MEA/04-1", "MEA/1-4", "REF where REF/01", "ISA/06", "ISS/ISA/06",
		"HL/LIN/03 where HL/03 = I"} {
		f.Add(text)
	}
	s := onlySet(f, plain850)
	placed, _ := Check(s)
	root := Tree(s, placed)
	f.Fuzz(func(t *testing.T, text string) {
		a, err := ParseAddress(text)
		if err != nil {
			return
		}
		all := a.All(root)
		if first := a.First(root); (first == nil) != (len(all) == 0) || first != nil && first != all[0] {
			t.Errorf("%q: the first is not the first of all", text)
		}
		for _, n := range all {
			if n.Root() != root {
				t.Errorf("%q finds what is not in the set", text)
			}
		}
		w, err := NewWriting("850", &Style{Delimiters: s.Interchange.Delimiters, Version: "004010"})
		if err != nil {
			t.Fatal(err)
		}
		if a.IsElement() {
			w.Put(w.Root(), a, "1")
			e := Envelope{SenderQualifier: "ZZ", Sender: "A", ReceiverQualifier: "ZZ", Receiver: "B", GroupSender: "AA",
				GroupReceiver: "BB", Usage: "T", Control: 1, Group: 1}
			_ = e.Write(&bytes.Buffer{}, w.style, []*Writing{w}) // it may have no place in an 850
		}
	})
}
