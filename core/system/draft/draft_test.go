package draft

import (
	"encoding/json"
	"flag"
	"koinos/core/system"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/graph-gophers/graphql-go"
)

var update = flag.Bool("update", false, "write what is got as what is wanted")

// Documents of APIs with different habits, and the drafts of them. Each draft is a
// description that can be kept as it is.
func TestFromOpenAPI(t *testing.T) {
	for _, name := range []string{"harbour.json", "kiln.yaml", "tern.json", "plain.yaml", "old.yaml"} {
		src, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			t.Fatal(err)
		}
		d, err := FromOpenAPI(src, nil)
		if err != nil {
			if d != nil {
				t.Log(d.Text)
			}
			t.Errorf("%s: %v", name, err)
			continue
		}
		same(t, strings.TrimSuffix(name, filepath.Ext(name))+".draft", d)
	}
}

// A GraphQL schema gives a description whose queries the schema takes.
func TestFromGraphQL(t *testing.T) {
	src, err := os.ReadFile("testdata/depot.graphql")
	if err != nil {
		t.Fatal(err)
	}
	d, err := FromGraphQL(src, nil)
	if err != nil {
		t.Fatalf("%v\n%+v", err, d)
	}
	same(t, "depot.draft", d)
	schema := graphql.MustParseSchema(string(src), nil)
	s, err := system.Parse([]byte(d.Text))
	if err != nil {
		t.Fatal(err)
	}
	for name, r := range s.Records {
		for _, query := range []string{r.GraphQL, r.GetQuery, rest(r)} {
			values := map[string]any{"key": "1", "limit": 50}
			if wrong := schema.ValidateWithVariables(query, values); query != "" && len(wrong) > 0 {
				t.Errorf("%s: %v in %s", name, wrong, query)
			}
		}
	}
	whole, err := schema.ToJSON()
	if err != nil {
		t.Fatal(err)
	}
	again, err := FromGraphQL(whole, nil)
	if err != nil || again.Text != d.Text {
		t.Errorf("the introspection gives another draft than the text: %v", err)
	}
	for src, want := range map[string]string{
		`{"data": {}}`:                 "the document is not readable as a GraphQL schema: it has no __schema",
		"type Query { ping: Boolean }": ErrNoLists.Error(),
	} {
		if _, err := FromGraphQL([]byte(src), nil); err == nil || err.Error() != want {
			t.Errorf("%s: %v", src, err)
		}
	}
}

func rest(r *system.Record) string {
	if r.Rest == nil {
		return ""
	}
	return r.Rest[0].GraphQL
}

// same compares a draft with the one that is kept.
func same(t *testing.T, name string, d *Draft) {
	t.Helper()
	got := d.Text + "---\nopen: " + strings.Join(d.Open, "\nopen: ") + "\nleft: " + strings.Join(d.Left, ", ") + "\n"
	file := filepath.Join("testdata", name)
	if *update {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil || got != string(want) {
		t.Errorf("%s is another draft now: %v\n%s", file, err, got)
	}
}

func TestFromOpenAPIWrong(t *testing.T) {
	harbour, err := os.ReadFile("testdata/harbour.json")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		src  string
		only []string
		want string
	}{
		{"{", nil, "the document is not readable as OpenAPI: "},
		{`{"swagger": "2.0", "info": {"title": "x", "version": "1"}}`, nil,
			"the document is not OpenAPI: it has no openapi: or swagger:, or no paths"},
		{`{"title": "x"}`, nil, "the document is not OpenAPI: it has no openapi: or swagger:, or no paths"},
		{`{"openapi": "3.0.0", "info": {"title": "x", "version": "1"}, "paths": {}}`, nil, ErrNoLists.Error()},
		{string(harbour), []string{"boat"}, `the document has no list of "boat"; it has customer, order`},
	} {
		if _, err := FromOpenAPI([]byte(c.src), c.only); err == nil || !strings.HasPrefix(err.Error(), c.want) {
			t.Errorf("%.40s: %v", c.src, err)
		}
	}
	d, err := FromOpenAPI(harbour, []string{"customer"})
	if err != nil || !slices.Equal(d.Left, []string{"order"}) {
		t.Errorf("%+v, %v", d, err)
	}
}

// FuzzFromOpenAPI: whatever stands in a document, its draft is a description that can be
// kept. A part of the names and texts of a document is replaced.
func FuzzFromOpenAPI(f *testing.F) {
	src, err := os.ReadFile("testdata/harbour.json")
	if err != nil {
		f.Fatal(err)
	}
	for i, odd := range []string{"", "a: b # c", `"'`, "\n- x", "{key}", "éß/~", "$[*]", "true", "0", "order", "status",
		"a\x00b", "../.."} {
		f.Add(uint64(i), odd)
	}
	f.Fuzz(func(t *testing.T, seed uint64, odd string) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		text := textOf.ReplaceAllStringFunc(string(src), func(s string) string {
			if rnd.IntN(40) > 0 {
				return s
			}
			b, _ := json.Marshal(odd)
			return string(b)
		})
		if d, err := FromOpenAPI([]byte(text), nil); d != nil && err != nil {
			t.Errorf("the draft is no description: %v\n%s", err, d.Text)
		}
	})
}

var textOf = regexp.MustCompile(`"[^"\\]*"`)

func TestNorm(t *testing.T) {
	for in, want := range map[string]string{"orderNo": "order_no", "LastModifiedDateTime": "last_modified_date_time",
		"@odata.nextLink": "odata_next_link", "SKU": "sku", "line-items": "line_items", "HTTPCode": "http_code",
		"$top":         "top",
		"Plain & Sons": "plain_sons"} {
		if got := norm(in); got != want {
			t.Errorf("%s becomes %s", in, got)
		}
	}
	for in, want := range map[string]string{"orders": "order", "addresses": "address", "deliveries": "delivery",
		"salesOrders": "sales_order",
		"status":      "status", "boxes": "box", "order-list": "order"} {
		if got := singular(in); got != want {
			t.Errorf("one of %s is %s", in, got)
		}
	}
}
