package drafting

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/reading"
	"koinos/core/source"
)

// What lists, crosswalks and earlier mappings know goes into a draft.
func TestHints(t *testing.T) {
	set := &list.Set{
		Lists: map[string]*list.List{
			"items":     list.New([]list.Entry{{Code: "00101", Name: "Rope"}, {Code: "00104", Name: "Shackle"}}),
			"suppliers": list.New([]list.Entry{{Code: "EBBING", Name: "Ebbing Paints"}}),
		},
		Crosswalks: map[string]*list.Crosswalk{"ebbing-articles": list.NewCrosswalk([]list.Pair{{Theirs: "EP-1",
			Ours: "00101"}, {Theirs: "EP-2", Ours: "00104"}})},
	}
	const doc = "Ebbing Paints\nRef;X1;Wieviel\nE-1;EP-1;2\nE-1;EP-2;3\nE-2;EP-1;4\n"
	for _, c := range []struct{ known, want string }{
		{"", `item: {from: X1, crosswalk: ebbing-articles, list: items, need: must}`},
		{"", "partner: {value: EBBING, list: suppliers}"}, {"", "kind: purchase"},
		{"koinos: mapping/1\nname: before\norders: {kind: purchase, group: {by: key, columns: Ref}}\nheader: " +
			"{sender_number: {from: Ref}, partner: {value: EBBING}}\nlines: {item: {from: X1}, quantity: {from: Wieviel}}\n",
			"quantity: {from: Wieviel"},
	} {
		h := Hints{Lists: set, Limits: source.DefaultLimits}
		if c.known != "" {
			m, err := mapping.Parse([]byte(c.known))
			if err != nil {
				t.Fatal(err)
			}
			h.Known = []*mapping.Mapping{m}
		}
		p, err := Draft(strings.NewReader(doc), int64(len(doc)), h)
		if err != nil || !strings.Contains(p.Text, c.want) {
			t.Errorf("%v: no %q in\n%s", err, c.want, p.Text)
		}
	}
}

// Common words for units are drafted with the crosswalk of them, which is never
// marked sure; a word that means nothing, or nothing that the list has, is left to the person.
func TestDraftOfUnits(t *testing.T) {
	const (
		column  = "PO;Article;Qty;UoM\n1;a;3;%s\n1;b;2;%s\n2;a;1;%s\n"
		behind  = "PO;Article;Qty\n1;a;3 %s\n1;b;2 %s\n2;a;1 %s\n"
		unsure  = "its words are not codes of units: say crosswalk: and import one with them"
		heading = "   # ? likely: its heading says \"uom\"; "
	)
	for _, c := range []struct{ doc, words, units, want string }{
		{column, "pcs Box pcs", "", "unit: {from: UoM, crosswalk: unit-words}" + heading + "box is BX, pcs is EA\n"},
		{column, "pcs BX pcs", "", "unit: {from: UoM, crosswalk: unit-words, others: keep}" + heading + "pcs is EA\n"},
		{column, "EA BX EA", "", "unit: {from: UoM}\n"},
		{column, "pcs slab pcs", "", "unit: {from: UoM}   # ? unsure: its heading says \"uom\"; " + unsure + "\n"},
		{column, "pcs Box pcs", "EA", "unit: {from: UoM}   # ? unsure: its heading says \"uom\"; " + unsure + "\n"},
		{behind, "pcs boxes pcs", "", "quantity: {from: Qty, suffix: unit, crosswalk: unit-words, need: must}" +
			"   # ? likely: its heading says \"qty\"; boxes is BX, pcs is EA\n"},
	} {
		h := Hints{Limits: source.DefaultLimits, Lists: &list.Set{Lists: map[string]*list.List{}}}
		if c.units != "" {
			h.Lists.Lists["units"] = list.New([]list.Entry{{Code: c.units}})
		}
		w := strings.Fields(c.words)
		doc := fmt.Sprintf(c.doc, w[0], w[1], w[2])
		p, err := Draft(strings.NewReader(doc), int64(len(doc)), h)
		if err != nil || !strings.Contains(p.Text, "  "+c.want) {
			t.Errorf("%s %v: no %q in\n%s", c.words, err, c.want, p.Text)
			continue
		}
		if _, err := mapping.Parse([]byte(p.Text)); err != nil {
			t.Errorf("%s: %v", c.words, err)
		}
	}
}

// Whatever a document holds, a draft is a mapping, or the document's fault is
// said; and the mapping can be run over it.
func FuzzDraft(f *testing.F) {
	for _, s := range []string{
		"Order,Item,Qty\n1,a,2\n1,b,3\n2,c,4\n",
		"Lieferant: X;;\n;;\nBestell-Nr;Material;Menge\n1;a;1,5\n;b;2\nGesamt;;3\n",
		"H|1|20260302\nL|a|2\nH|2|20260303\nL|b|3\n",
		"H|1|20260302\nL|a|2\rH|2|20260303\nL", "a\u2028b,\"q\rz\"\n1,x\u2028y\n2,x\u2028z\n",
		`{"orders":[{"id":1,"lines":[{"sku":"a","qty":2}]},{"id":2,"lines":[]}]}`,
		"{\"no\":1,\"sku\":\"a\",\"qty\":2}\n{\"no\":1,\"sku\":\"b\",\"qty\":1}\n",
		"Order no: 1\nItem,Qty\na,2\n\nOrder no: 2\nItem,Qty\nb,3\n", "Item,S,M,L\na,1,,2\nb,,3,\n",
		"sku_1,qty_1,sku_2,qty_2,po\na,1,b,2,7\n",
		"Shipment:,S-1,\n,,\nOrder,Item,Leaves \"today\"\n1,a,2\n,b,\n2,a,1\n", "RMA;Order;Item;Reason\n1;2;a;x\n1;2;b;y\n",
		"PO,Confirmed qty,Status,Action,New price\n1,2,ok,cancel,3\n1,,nein,,\n",
		"0000000000 00", // words, and no column that says which line is meant
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 3000 {
			return
		}
		says := append([]string{""}, intent.Notices...)[len(b)%(1+len(intent.Notices))]
		p, err := Draft(bytes.NewReader(b), int64(len(b)), Hints{Says: intent.Kind(says), Limits: source.DefaultLimits})
		if err != nil {
			if len(finding.Of(err)) == 0 {
				t.Fatalf("an error without findings: %v", err)
			}
			if p != nil {
				t.Fatalf("%q is drafted as\n%s\nwhich is no mapping: %v", b, p.Text, err)
			}
			return
		}
		m, err := mapping.Parse([]byte(p.Text))
		if err != nil {
			t.Fatal(err)
		}
		runOver(m, b)
	})
}

// runOver runs a mapping over a document, which may be anything: it must not panic.
func runOver(m *mapping.Mapping, doc []byte) {
	src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), m.Options(source.DefaultLimits))
	if err != nil {
		return
	}
	table := reading.NewTable(m, src, nil)
	for range 10_000 {
		g, err := table.Next()
		if err != nil {
			return
		}
		reading.Read(m, &g, &list.Set{})
	}
}

// An interchange is drafted by what its first set is and who sent it.
func TestDraftOfX12(t *testing.T) {
	const doc = "ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      " +
		"*260314*0930*U*00401*000000905*0*P*>~GS*SH*PELLOW*QUILLMERE*20260314*0930*77*X*004010~ST*856*0001~" +
		"BSN*00*S-1*20260318*1405~HL*1**S*1~HL*2*1*O*1~PRF*PO-1~HL*3*2*I*0~LIN**VP*A~SN1**60*MR~MEA**WT*5*KG~SE*9*0001~GE*1*77~IEA*1*000000905~"
	lists := &list.Set{Lists: map[string]*list.List{"customers": list.New([]list.Entry{{Code: "PELLOW"}})}}
	p, err := Draft(strings.NewReader(doc), int64(len(doc)), Hints{Lists: lists, Limits: source.DefaultLimits})
	if err != nil || !strings.Contains(p.Text, "extends: x12-856") ||
		!strings.Contains(p.Text, "partner: {value: PELLOW}\n") ||
		strings.Join(p.Unbound, " ") != "HL/MEA/02 HL/MEA/03 HL/MEA/04-1" {
		t.Errorf("%v %+v", err, p)
	}
}

// No word speaks of two things, and every combination is of concepts that there are.
func TestConcepts(t *testing.T) {
	of := map[string]concept{}
	for c, words := range concepts {
		for w := range strings.FieldsSeq(words) {
			if was := of[w]; was != "" {
				t.Errorf("%q speaks of %s and of %s", w, was, c)
			}
			if plain := plainWords(w); len(plain) != 1 || plain[0] != w && conceptOf[plain[0]] != c {
				t.Errorf("%q is no plain word of %s: a heading says %q", w, c, plain)
			}
			of[w] = c
		}
	}
	for _, c := range combined {
		for w := range strings.FieldsSeq(c.concepts) {
			if concepts[concept(w)] == "" {
				t.Errorf("%q of %s is no concept", w, c.field)
			}
		}
		if _, ok := order.Lookup(c.level, c.field); !ok {
			t.Errorf("%s is no field of %s", c.field, c.level)
		}
	}
}
