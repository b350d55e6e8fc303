package mapping

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"koinos/core/finding"
	"koinos/core/order"
)

var update = flag.Bool("update", false, "write docs/mapping.schema.json anew")

// base is the mapping that tests change a word of; those of reading use it too.
//
//go:embed testdata/base.yaml
var base string

func parse(t testing.TB, text string) *Mapping {
	t.Helper()
	m, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func compiled(t testing.TB) *jsonschema.Schema {
	t.Helper()
	b, err := os.ReadFile("../../docs/mapping.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("schema.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestPublishedSchema(t *testing.T) {
	b, err := json.MarshalIndent(Schema(), "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	b = append(b, '\n')
	const file = "../../docs/mapping.schema.json"
	if *update {
		if err := os.WriteFile(file, b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if have, err := os.ReadFile(file); err != nil || !bytes.Equal(have, b) {
		t.Errorf("%s is not the grammar's (%v); write it with make generate", file, err)
	}
}

// The tables of fields in the documentation are those of the code.
func TestPublishedFields(t *testing.T) {
	const file = "../../docs/mapping.md"
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	was := string(text)
	from, to := strings.Index(was, "## Fields of the header\n"),
		strings.Index(was, "## Fields of parties, charges and deliveries\n")
	if from < 0 || to < from {
		t.Fatal("the documentation has no tables of fields")
	}
	var b strings.Builder
	for _, level := range []order.Level{order.Header, order.Lines} {
		fmt.Fprintf(&b, "## Fields of the %s\n\nIf only records of some kinds have a field, these kinds are in "+
			"brackets.\n\n| field | |\n|---|---|\n", level)
		seen := map[string]bool{}
		for _, f := range append(order.AllFields(level), order.Statements(level)...) {
			name, about := f.Name, f.About
			if head, tail, ok := strings.Cut(name, "."); ok { // a family, or a part of a party
				if name = head + ".…"; tail != "*" {
					about = "The party in this role: " + strings.Join(order.PartyParts(), ", ") + ", such as `" + head + ".city`"
				}
			}
			if f.Kinds != nil {
				about = "(" + strings.Join(f.Kinds, ", ") + ") " + about
			}
			if f.Type == order.Choice {
				about += ": `" + strings.Join(f.Choices, "`, `") + "`"
			}
			if !seen[name+about] {
				fmt.Fprintf(&b, "| `%s` | %s |\n", name, strings.ReplaceAll(about, "|", "\\|"))
			}
			seen[name+about] = true
		}
		b.WriteString("\n")
	}
	is := was[:from] + b.String() + was[to:]
	if *update {
		if err := os.WriteFile(file, []byte(is), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if is != was {
		t.Errorf("the tables of fields in %s are not the code's; write them with make generate", file)
	}
}

// Parser and published schema agree: the demo's mappings are right to both.
func TestDemoMappings(t *testing.T) {
	schema := compiled(t)
	files, err := filepath.Glob("../../demo/mappings/*.yaml")
	if err != nil || len(files) < 5 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	for _, file := range files {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Parse(b); err != nil {
			t.Errorf("%s: %v", file, err)
		}
		if err := schema.Validate(asJSON(t, b)); err != nil {
			t.Errorf("%s: %v", file, err)
		}
	}
}

func asJSON(t testing.TB, b []byte) any {
	t.Helper()
	j, err := yaml.YAMLToJSON(b)
	if err != nil {
		t.Fatal(err)
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(j))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// The example of the design's page is a mapping.
func TestDesignExample(t *testing.T) {
	parse(t, `
koinos: mapping/1
name: ostrand-weekly
about: Weekly order sheet of Ostrand Boatyard
document:
  format: xlsx
  sheet: "Order*"
  heading: {find: [Article, Qty]}          # or row: 4
  until: {blank_rows: 3, text: "Total*"}
  locale: {decimal: ",", dates: ["d.m.yyyy"]}
orders:
  kind: sales
  group: {by: key, columns: [PO no], blanks: continue}
header:
  sender_number: {from: PO no, need: must}
  ordered_on:    {from: Date, need: must}
  partner:       {value: OSTRAND}
  ship_to.code:  {from: Yard, crosswalk: ostrand-yards, need: must}
lines:
  item:       {from: Article, list: items, need: must}
  quantity:   {from: Qty, need: must}
  unit_price: {from: Price}
  amount:     {from: Sum, check: true}
results:                                   # written beside the rows after a load
  number: R
  message: S
`)
}

func TestMistakes(t *testing.T) {
	schema := compiled(t)
	for _, c := range []struct {
		old, new   string
		line, col  int
		says       string
		schemaSees bool // a schema cannot see everything
	}{
		{"kind: sales", "kind: sails", 6, 9, `Did you mean "sales"?`, true},
		{"  kind: sales\n", "", 6, 3, `orders needs "kind"`, true},
		{"item: {from", "itme: {from", 13, 3, `Did you mean "item"?`, true},
		{"item: {from", "item: {form", 13, 10, `Did you mean "from"?`, true},
		{"item: {from: Item}", "item: Item", 13, 9, "group of words", true},
		{"item: {from: Item}", "item: {from: Item, value: 7}", 13, 29, "both from and value", false},
		{"item: {from: Item}", "item: {need: must}", 13, 3, "needs from", false},
		{"item: {from: Item}", "item: {from: \"@9\"}", 13, 16, "not a column", false},
		{"item: {from: Item}", "item: {from: Item, need: shall}", 13, 28, "must, should, may", true},
		{"item: {from: Item}", "item: {from: Item, dates: [d.m.yyyy]}", 13, 29, "does not go with item", false},
		{"  item: {from: Item}\n", "", 13, 3, "what is ordered", false},
		{"quantity: {from: Qty}", "quantity: {from: Qty, from: Qty}", 14, 25, "already defined", false},
		{"d.m.yyyy,", "d.m,", 4, 34, "a day, a month and a year", false},
		{"decimal: \",\"", "decimal: \";\"", 4, 21, "It may be: ., ,", true},
		{"columns: [No]", "columns: []", 7, 29, "must be a list", true},
		{"columns: [No]", "columns: [No], blanks: stop", 7, 43, "continue, break", true},
		{"by: key", "by: opener, rows: anywhere", 7, 29, "by: key only", false},
		{"koinos: mapping/1", "koinos: mapping/2", 1, 9, `"mapping/2"`, true},
		{"name: test", "name: Test Map", 2, 7, "small letters", false},
		{"header:\n", "header:\n  ship_to.cty: {from: City}\n", 9, 3, `"ship_to.city"`, true},
		{"header:\n", "header:\n\tx: 1\n", 9, 1, "not readable YAML", true},
		{"partner: {value: P}", "partner: {value: }", 10, 0, "needs a value", true},
		{"orders:", "document2: {}\norders:", 5, 1, `Did you mean "document"?`, true},
		{"locale:", "heading: {row: 0}\n  locale:", 4, 18, "whole number", true},
		{"locale:", "heading: {row: 2, find: [a]}\n  locale:", 4, 13, "exactly one of", false},
	} {
		text := strings.Replace(base, c.old, c.new, 1)
		_, err := Parse([]byte(text))
		found := finding.Of(err)
		if len(found) != 1 || found[0].Place.Row != c.line || c.col > 0 && found[0].Place.Column != c.col ||
			!strings.Contains(found[0].Message+" "+found[0].Hint, c.says) {
			t.Errorf("%q: %v; want line %d column %d, %q", c.new, err, c.line, c.col, c.says)
		}
		if j, err := yaml.YAMLToJSON([]byte(text)); err == nil {
			v, err := jsonschema.UnmarshalJSON(bytes.NewReader(j))
			if err == nil {
				if bad := schema.Validate(v) != nil; bad != c.schemaSees {
					t.Errorf("%q: the schema refuses it: %v", c.new, bad)
				}
			}
		}
	}
}

// All mistakes are reported, in the order in which they stand in the text.
func TestSeveralMistakes(t *testing.T) {
	for _, c := range []struct{ group, partner, want string }{
		{"{by: keys, columns: [A]}", "partnr", "4:29 6:3"},
		{"{by: join, headers: {columns: [A]}, lines: {columns: [B]}}", "partner", "4:45 4:68"},
		{"{by: join, headers: {sheet: A, path: $.a, columns: [A]}, lines: {path: $.b, columns: [B]}}", "partner", "4:61"},
	} {
		for range 10 {
			_, err := Parse([]byte("koinos: mapping/1\nname: x\norders:\n  {kind: sales, group: " + c.group +
				"}\nheader:\n  " + c.partner + ": {value: P}\nlines: {item: {from: I}, quantity: {from: Q}}\n"))
			var at []string
			for _, f := range finding.Of(err) {
				at = append(at, fmt.Sprintf("%d:%d", f.Place.Row, f.Place.Column))
			}
			if got := strings.Join(at, " "); got != c.want {
				t.Fatalf("%s: mistakes at %s, want %s: %v", c.group, got, c.want, err)
			}
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(base))
	f.Add([]byte("koinos: mapping/1\nname: &a x\nabout: *a\norders: {kind: sales, group: {by: key, columns: A}}"))
	f.Add([]byte("a: [1, {b: c}, |\n  x\n]"))
	f.Add([]byte("? x\n: - y\n--- z\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := Parse(b)
		var all finding.All
		if err != nil && (!errors.As(err, &all) || len(all) == 0) {
			t.Fatalf("an error without findings: %v", err)
		}
		if err == nil && m.Name == "" {
			t.Fatal("a mapping without a name")
		}
	})
}

// Every mapping that the documents show is one.
func TestDocumentedMappings(t *testing.T) {
	for _, file := range []string{"../../README.md", "../../docs/findings.md"} {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		shown := strings.Split(string(b), "```yaml\n")[1:]
		if len(shown) == 0 {
			t.Errorf("%s shows no mapping", file)
		}
		for _, s := range shown {
			text, _, _ := strings.Cut(s, "```")
			if _, err := Parse([]byte(text)); err != nil {
				t.Errorf("%s: %v", file, err)
			}
		}
	}
}

// What is carried stands further up in the same table: values of JSON, and the sheets of a join, have none.
func TestCarriedNeedsATable(t *testing.T) {
	const rest = "header: {partner: {value: P}, sender_number: {from: No}}\nlines: {item: {from: I}, quantity: {from: Q}}\n"
	for _, c := range []struct{ document, group, want string }{
		{"{carried: [No, Day]}", "{by: key, columns: No}", ""},
		{"{format: json, carried: [Day]}", "{by: path, path: '$.orders[*]'}", "only tables have rows"},
		{"{carried: [Day]}", "{by: join, headers: {sheet: A, columns: [No]}, lines: {sheet: B, columns: [No]}}",
			"the sheets of a join"},
	} {
		_, err := Parse([]byte("koinos: mapping/1\nname: x\ndocument: " + c.document + "\norders: {kind: sales, group: " + c.group +
			"}\n" + rest))
		found := finding.Of(err)
		if c.want == "" && err != nil || c.want != "" && (len(found) != 1 || !strings.HasPrefix(found[0].Message, c.want)) {
			t.Errorf("%s %s: %v", c.document, c.group, err)
		}
	}
}
