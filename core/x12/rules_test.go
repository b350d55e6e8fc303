package x12

import (
	"bytes"
	"fmt"
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
		{At: "PO1/02", Need: "always"}, {At: "PO1/02", Need: "must", When: "REF/01 = CT"}, {At: "", Need: "must"}} {
		if err := r.Compile(); err == nil {
			t.Errorf("%+v is taken for a rule", r)
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
