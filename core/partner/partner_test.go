package partner

import (
	"strings"
	"testing"

	"koinos/core/finding"
)

const plain = `koinos: partner/1
name: PELLOW
kind: customer
them: {qualifier: ZZ, id: PELLOW}
us: {qualifier: ZZ, id: QUILLMERE}
sets:
  "850": {}
  "855": {send: due}
`

func TestParse(t *testing.T) {
	p, err := Parse([]byte(plain))
	if err != nil {
		t.Fatal(err)
	}
	if p.Outgoing("850") || !p.Outgoing("855") || p.Sets["850"].Mapping != "pellow-850" || p.Them.Group != "PELLOW" ||
		p.Version != "004010" || p.Acknowledge.With != "997" || p.FileName("855", 31) != "PELLOW-000000031-855.edi" {
		t.Errorf("%+v", p)
	}
	for _, c := range []struct{ old, new, says string }{
		{"kind: customer", "kind: friend", `kind is one of customer, supplier, not "friend"`},
		{"koinos: partner/1", "koinos: partner/2", "begins with koinos: partner/1"},
		{"name: PELLOW", "name: Pellow Marina", "letters, digits"},
		{"id: PELLOW}", "id: PELLOW-MARINA-OF-PELLOW-HAVEN}", "at most 15"},
		{"id: PELLOW}", "id: PELLOW, gruop: x}", "unknown field"},
		{"sets:", "version: newest\nsets:", "six digits"},
		{"sets:", "delimiters: {element: \"*\", segment: \"*\"}\nsets:", "is the same as"},
		{"sets:", "delimiters: {element: \"a\"}\nsets:", "no letter"},
		{"sets:", "characters: {set: ebcdic}\nsets:", "characters.set is one of"},
		{"sets:", "acknowledge: {within: soon}\nsets:", `"soon" is no time`},
		{"sets:", "acknowledge: {with: \"996\"}\nsets:", "acknowledge.with is one of"},
		{`"850": {}`, `"820": {}`, "exchanges no 820"},
		{`{send: due}`, `{send: soon}`, "asked, due"},
		{`{send: due}`, `{send: due, unasked: false}`, "Only an 865 to a customer"},
		{"sets:", "rules:\n  \"850\":\n    - {at: PO1/77, need: must}\nsets:", "rules.850, rule 1"},
		{"sets:", "rules:\n  \"123\": []\nsets:", "no transaction set 123"},
		{"sets:\n  \"850\": {}\n  \"855\": {send: due}\n", "", "needs sets"},
		{"koinos", "\t", ""},
	} {
		_, err := Parse([]byte(strings.Replace(plain, c.old, c.new, 1)))
		found := finding.Of(err)
		if len(found) == 0 || found[0].Code != finding.PartnerInvalid || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%q: %v", c.new, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(plain))
	f.Add([]byte(plain + "rules:\n  \"850\":\n    - {at: PO1/07 where PO1/06 = VP, need: must, when: PO1/03 = BX, say: x}\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := Parse(text)
		if (p == nil) == (err == nil) {
			t.Fatal(p, err)
		}
		if err != nil && len(finding.Of(err)) == 0 {
			t.Fatalf("%v carries no finding", err)
		}
	})
}
