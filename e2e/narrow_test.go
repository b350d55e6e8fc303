package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"koinos/api"
	"koinos/client"
	"koinos/core/outcome"
)

// A token that is narrowed reaches what it is for and nothing else: neither by asking for it, nor by a document
// whose rows are of somebody else, nor by an operation that nobody thought of.
func TestNarrowedTokens(t *testing.T) {
	t.Parallel()
	ctx, data := context.Background(), t.TempDir()
	s := start(t, data, "serve")
	token := func(args ...string) (*client.Client, string) {
		out, said, code := s.koinos(append([]string{"token", "create", "--scope", "load"}, args...)...)
		if code != 0 {
			t.Fatal(said)
		}
		secret := strings.TrimSpace(out)
		return client.New(s.address, secret), "Authorization: Bearer " + secret
	}
	_, shop := token("--name", "shop", "--partner", "PELLOW", "--partner", "saltry")
	mapper, mapped := token("--name", "sheets", "--mapping", "plain")
	both, _ := token("--name", "both", "--mapping", "by-partner", "--partner", "PELLOW")
	if _, said, code := s.koinos("token", "create", "--name", "x", "--scope", "admin", "--partner", "PELLOW"); code != 2 {
		t.Errorf("an admin can be narrowed: %s", said)
	}
	out, _, _ := s.koinos("token", "list")
	for _, want := range []string{"PELLOW, saltry", "by-partner"} {
		if !strings.Contains(out, want) {
			t.Errorf("the list of tokens does not say %s:\n%s", want, out)
		}
	}

	post := func(header, partner, number string) (int, string) {
		res, said := s.do("POST", "/api/v1/orders", fmt.Sprintf(`{"kind": "sales", "sender_number": %q, "partner": %q,
		  "currency": "EUR", "lines": [{"item": "1", "quantity": "5", "unit_price": "9.50"}]}`, number, partner),
			"Content-Type: application/json", header)
		return res.StatusCode, said
	}
	for _, c := range []struct {
		header, partner, number string
		want                    int
	}{{shop, "PELLOW", "P-1", 201}, {shop, "SALTRY", "S-1", 201}, {shop, "OSTRAND", "O-1", 422}, {shop, "", "O-2", 422},
		{mapped, "PELLOW", "P-2", 403}, {"X: y", "OSTRAND", "O-1", 201}} {
		if got, said := post(c.header, c.partner, c.number); got != c.want {
			t.Errorf("an order of %q: %d, not %d: %s", c.partner, got, c.want, said)
		}
	}
	if _, said := post(shop, "OSTRAND", "O-1"); !strings.Contains(said, `"partner_not_allowed"`) ||
		!strings.Contains(said, `This token is only for orders of PELLOW, saltry.`) {
		t.Error(said)
	}
	partners := func(query string) (all []string) {
		_, text := s.do("GET", "/api/v1/orders?"+query, "", shop)
		var page api.Page[api.OrderSummary]
		if err := json.Unmarshal([]byte(text), &page); err != nil {
			t.Fatal(text, err)
		}
		for _, o := range page.Items {
			all = append(all, o.Partner)
		}
		return all
	}
	for query, want := range map[string]string{"": "200 partner\nSALTRY\nPELLOW\n", "&order=1": "200 partner\nPELLOW\n",
		"&order=3":   "404",
		"&order=3,1": "404"} {
		res, got := s.do("GET", "/api/v1/orders/export?column=partner&layout=order"+query, "", shop)
		if got = fmt.Sprint(res.StatusCode, " ", got); got != want && (want != "404" || !strings.HasPrefix(got, "404 ") ||
			!strings.Contains(got, "no order 3")) {
			t.Errorf("an export %s: %q, not %q", query, got, want)
		}
	}
	for query, want := range map[string][]string{"": {"SALTRY", "PELLOW"}, "partner=PELLOW": {"PELLOW"},
		"partner=OSTRAND": nil,
		"text=O":          nil} {
		if got := partners(query); !slices.Equal(got, want) {
			t.Errorf("orders?%s are of %q, not %q", query, got, want)
		}
	}

	// Documents: with rows of others, through other mappings.
	byPartner := strings.NewReplacer("name: plain", "name: by-partner", "{value: OSTRAND}",
		"{from: Partner}").Replace(csvMapping)
	for _, m := range []string{csvMapping, byPartner} {
		if _, err := s.api().KeepMapping(ctx, []byte(m)); err != nil {
			t.Fatal(err)
		}
	}
	load := func(calls *client.Client, mapping string) string {
		d, err := calls.SendDocument(ctx, "two.csv",
			strings.NewReader("Order,Item,Qty,Price,Partner\nD-1,1,1,1,PELLOW\nD-2,1,1,1,OSTRAND\n"))
		if err != nil {
			return err.Error()
		}
		l, err := calls.StartLoad(ctx, api.NewLoad{Document: d.SHA, Mapping: mapping})
		if err != nil {
			return err.Error()
		}
		if l, err = calls.WatchLoad(ctx, l.ID, func(outcome.Load) {}); err != nil {
			return err.Error()
		}
		rep, err := calls.Load(ctx, l.ID)
		if err != nil {
			return err.Error()
		}
		said := fmt.Sprintf("load %d: %d loaded", l.ID, l.Loaded)
		for _, r := range rep.Reasons {
			said += ", " + string(r.Code) + " " + r.Example.At
		}
		return said
	}
	for _, c := range []struct {
		name, got, want string
	}{
		{"one partner, its mapping", load(both, "by-partner"), "load 1: 1 loaded, partner_not_allowed row 3 column 5"},
		{"one partner, another mapping", load(both, "plain"),
			"This token is only for orders of PELLOW, and for loads through by-partner."},
		{"every partner, its mapping", load(mapper, "plain"), "load 2: 2 loaded"},
		{"every partner, another mapping", load(mapper, "by-partner"),
			"This token is only for loads through plain."},
	} {
		if c.got != c.want {
			t.Errorf("%s: %s\nnot %s", c.name, c.got, c.want)
		}
	}
	if _, err := mapper.Load(ctx, 1); err == nil {
		t.Error("the load of another mapping can be read")
	}

	// Every operation there is, with ids of what the token is not for.
	spec, err := os.ReadFile("../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var described struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	if err := json.NewDecoder(bytes.NewReader(spec)).Decode(&described); err != nil {
		t.Fatal(err)
	}
	names := regexp.MustCompile(`\{[a-z]+\}`)
	reached := map[string][]string{}
	for path, methods := range described.Paths {
		for method, o := range methods {
			for who, header := range map[string]string{"shop": shop, "sheets": mapped} {
				id := map[string]string{"shop": "3", "sheets": "1"}[who] // O-1, by-partner
				if who == "shop" && strings.Contains(path, "/loads/") {
					id = "2" // of every partner
				}
				to := names.ReplaceAllString(path, id)
				res, _ := s.do(strings.ToUpper(method), to+"?"+url.Values{"field": {"number"}}.Encode(), "{}", header,
					"Content-Type: application/json")
				if res.StatusCode != 403 {
					reached[who] = append(reached[who], o.OperationID)
				}
			}
		}
	}
	for who, want := range map[string][]string{
		"shop":   {"export-orders", "get-session", "list-orders", "post-order", "receive-document", "start-load"},
		"sheets": {"get-session", "receive-document", "start-load"},
	} {
		slices.Sort(reached[who])
		if !slices.Equal(reached[who], want) {
			t.Errorf("%s reaches %q, not %q", who, reached[who], want)
		}
	}
	// A token goes on for a mapping that is renamed, and sees what was loaded under the earlier name.
	if _, said, code := s.koinos("mapping", "rename", "plain", "sheets"); code != 0 {
		t.Fatal(said)
	}
	if got := load(mapper, "sheets"); !strings.HasSuffix(got, ": 0 loaded") {
		t.Errorf("through the renamed mapping: %s", got)
	}
	if l, err := mapper.Load(ctx, 2); err != nil || l.Load.Mapping != "plain" {
		t.Errorf("what was loaded before: %+v %v", l.Load, err)
	}
	if res, _ := s.do("GET", "/metrics", "", shop); res.StatusCode != 403 {
		t.Errorf("it reads the figures of all: %s", res.Status)
	}
}
