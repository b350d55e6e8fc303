package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"koinos/api"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"
)

// The published description is the running service's, and the service's
// answers are what it describes.
func TestPublishedAPI(t *testing.T) {
	t.Parallel()
	s := start(t, t.TempDir(), "demo")
	_, served := s.do("GET", "/api/v1/openapi.json", "")
	var doc map[string]any
	if err := json.Unmarshal([]byte(served), &doc); err != nil {
		t.Fatal(err)
	}
	doc["info"].(map[string]any)["version"] = "devel"
	b, err := json.MarshalIndent(doc, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	b = append(b, '\n')
	const name = "../docs/openapi.json"
	if *update {
		if err := os.WriteFile(name, b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if have, err := os.ReadFile(name); err != nil || !bytes.Equal(have, b) {
		t.Errorf("%s is not the service's description (%v); write it with make generate", name, err)
	}
	spec, err := openapi3.NewLoader().LoadFromData([]byte(served))
	if err != nil {
		t.Fatal(err)
	}
	// JSON Schema lets further words stand; the framework says in one what a pattern means.
	meaning := openapi3.AllowExtraSiblingFields("patternDescription")
	if err := spec.Validate(context.Background(), meaning); err != nil {
		t.Errorf("the description is not valid: %v", err)
	}
	spec.Servers = openapi3.Servers{{URL: s.address}}
	router, err := gorillamux.NewRouter(spec)
	if err != nil {
		t.Fatal(err)
	}
	kestle, err := s.api().Load(context.Background(), 5)
	if err != nil {
		t.Fatal(err)
	}
	sha := kestle.Load.Document
	checkJSON(t, s)
	called := map[string]bool{}
	for _, c := range []struct {
		method, path, body string
		status             int
	}{
		{"GET", "/documents?limit=2", "", 200}, {"GET", "/documents/" + sha, "", 200},
		{"GET", "/documents/" + sha[:12] + "/content", "", 200},
		{"GET", "/documents/" + sha + "/rows?limit=3", "", 200},
		{"GET", "/documents/00000000", "", 404}, {"POST", "/documents?name=a.csv", "a,b\n1,2\n", 201},
		{"POST", "/documents?name=a.pdf", "%PDF-1.7", 422}, {"POST", "/documents", "x", 422},
		{"GET", "/mappings", "", 200}, {"GET", "/mappings/saltry-orders", "", 200},
		{"GET", "/mappings/nothing", "", 404}, {"POST", "/mappings", csvMapping, 201},
		{"POST", "/mappings", "koinos: x", 422}, {"GET", "/mapping.schema.json", "", 200},
		{"GET", "/lists", "", 200}, {"GET", "/lists/items/entries?limit=3", "", 200},
		{"PUT", "/lists/colours", `{"entries":[{"code":"r","name":"red"}]}`, 204},
		{"PUT", "/lists/colours", `{"entries":[{"code":"r"},{"code":"r"}]}`, 422},
		{"PUT", "/lists/Colours!", `{"entries":[]}`, 422},
		{"GET", "/crosswalks", "", 200}, {"GET", "/crosswalks/ostrand-yards/pairs", "", 200},
		{"PUT", "/crosswalks/c", `{"pairs":[{"theirs":"a","ours":"b"}]}`, 204},
		{"PUT", "/crosswalks/c", `{"pairs":[{"theirs":"a","ours":"b"},{"theirs":"a","ours":"c"}]}`, 422},
		{"GET", "/loads?limit=2", "", 200}, {"GET", "/loads/5", "", 200},
		{"GET", "/loads/5/findings?severity=error&limit=4", "", 200},
		{"GET", "/loads/5/orders?outcome=refused", "", 200}, {"GET", "/loads/5/orders/2", "", 200},
		{"GET", "/loads/5/rows?from=10&limit=5", "", 200}, {"GET", "/loads/5/report?format=json", "", 200},
		{"GET", "/loads/5/progress", "", 200}, {"GET", "/loads/77", "", 404},
		{"GET", "/loads/5/findings?cursor=x", "", 422},
		{"POST", "/loads", `{"document":"` + sha + `","mapping":"saltry-orders","dry_run":true}`, 202},
		{"POST", "/loads", `{"document":"` + sha + `"}`, 422}, {"POST", "/loads", `{`, 400},
		{"POST", "/loads/5/cancel", "", 409},
		{"GET", "/orders?kind=sales&limit=3", "", 200}, {"GET", "/orders?kind=neither", "", 422},
		{"GET", "/orders/1", "", 200}, {"GET", "/orders/99999", "", 404}, {"GET", "/session", "", 200},
		{"POST", "/documents/" + sha + "/draft", `{"name":"a-draft","kind":"sales"}`, 200},
		{"POST", "/documents/" + sha + "/preview", `{"mapping":{"name":"kestle-open-orders"},"from":1,"to":40}`, 200},
		{"POST", "/documents/" + sha + "/preview", `{"mapping":{"text":"koinos: x"},"from":1,"to":40}`, 422},
		{"POST", "/documents/" + sha + "/coverage", `{"name":"kestle-open-orders"}`, 200},
		{"POST", "/documents/" + sha + "/comparison",
			`{"was":{"name":"kestle-open-orders"},"is":{"name":"kestle-open-orders","version":1}}`, 200},
		{"GET", "/orders/1/why?field=partner", "", 200}, {"GET", "/orders/1/why?field=nonsense", "", 404},
		{"GET", "/fields", "", 200}, {"GET", "/loads/5/missing", "", 200},
		{"GET", "/mappings/saltry-orders/versions", "", 200}, {"GET", "/mappings/nothing/versions", "", 404},
		{"GET", "/mappings/saltry-orders/blank", "", 200}, {"GET", "/mappings/saltry-orders/document?order=1", "", 200},
		{"GET", "/mappings/saltry-orders/document", "", 422},
		{"PUT", "/lists/colours/file?add=true", "code,name\nb,blue\n", 200},
		{"GET", "/lists/colours/file?format=xlsx", "", 200}, {"PUT", "/crosswalks/c/file", "theirs,ours\na,b\n", 200},
		{"GET", "/crosswalks/c/file", "", 200}, {"PUT", "/crosswalks/c/file", "x,y\na,b\n", 422},
		{"GET", "/today", "", 200}, {"GET", "/sequences", "", 200},
		{"POST", "/sequences", "koinos: sequence/1\nname: other\nsteps:\n  - {step: sale, mapping: drop-ship-sales}\n",
			422},
		{"POST", "/sequences", "koinos: sequence/1\nname: other\nsteps:\n  - {step: one, mapping: saltry-orders}\n",
			201}, {"GET", "/runs", "", 200}, {"GET", "/runs/1", "", 200}, {"GET", "/runs/9", "", 404},
		{"POST", "/runs", `{"again_of":1,"dry_run":true}`, 202},
		{"POST", "/runs", `{"document":"` + sha + `","sequence":"nothing"}`, 404},
		{"GET", "/loads/5/acts", "", 200}, {"POST", "/loads/5/fix",
			`{"crosswalks":{"kestle-units":[{"theirs":"pcs","ours":"EA"}]}}`, 202},
		{"POST", "/loads/5/fix", `{"dates":{"ordered_on":"yyy"}}`, 422},
		{"POST", "/loads/5/retry", "", 202}, {"POST", "/loads/5/accept", `{"codes":["dates_decided"]}`, 202},
		{"POST", "/loads/5/pause", "", 409}, {"POST", "/loads/5/resume", "", 409},
		{"POST", "/loads/4/undo?dry_run=true", "", 200},
		{"POST", "/reports/refresh?name=a.csv", "Order,Koinos order\nx,SO-000301\n", 200},
		{"POST", "/reports/refresh?name=a.csv", "a,b\n", 422}, {"GET", "/loads/5/report?format=failed", "", 200},
		{"POST", "/orders", `{"kind":"sales","sender_number":"X-1","partner":"SALTRY","lines":[{"item":"00113",` +
			`"quantity":"2","unit_price":"9.50"}]}`, 201},
		{"POST", "/orders", `{"kind":"sales","sender_number":"X-1","partner":"SALTRY","lines":[{"item":"00113",` +
			`"quantity":"2","unit_price":"9.50"}]}`, 200},
		{"POST", "/orders?again=update",
			`{"kind":"sales","sender_number":"X-1","partner":"SALTRY","lines":[{"item":"00113","quantity":"3","unit_price":"9.50"}]}`, 200},
		{"POST", "/orders/2/changes", `{"header":{"reason":"nothing"}}`, 200}, {"POST", "/orders/2/answers",
			`{"header":{"answer":"AT"}}`, 200},
		{"POST", "/orders/2/shipments", `{"header":{"reverses":"none"}}`, 422}, {"POST", "/orders/2/receipts",
			`{"lines":[{"number":"99","quantity":"1"}]}`, 422},
		{"POST", "/orders/2/returns", `{"lines":[{"number":"99","quantity":"1"}]}`, 422},
		{"POST", "/orders/2/invoices", `{"header":{"quantities":"open"}}`, 200}, {"POST", "/orders/2/withdrawals",
			`{"header":{"colour":"red"}}`, 422},
		{"GET", "/orders/export?layout=order", "", 200}, {"GET", "/orders/export?column=colour", "", 422}, {"GET",
			"/orders/export?order=1,99999", "", 404},
		{"GET", "/orders/export?since=0&format=ods&overdue=true", "", 200}, {"GET", "/orders/export?since=0&load=1", "", 422},
		{"GET", "/orders?overdue=true", "", 200},
		{"GET", "/orders/export?for=shipment&kind=purchase", "", 422},
		{"GET", "/orders/export-columns", "", 200},
		{"GET", "/orders/export-mapping?name=today&for=shipment", "", 200},
		{"GET", "/orders/export-mapping?name=today&for=change", "", 422},
		{"PUT", "/exports/weekly", `{"choice":"partner=PELLOW&open=true","position":3}`, 200},
		{"PUT", "/exports/Weekly!", `{"choice":""}`, 422}, {"PUT", "/exports/weekly", `{"choice":"%zz"}`, 422}, {"GET",
			"/exports", "", 200},
		{"GET", "/exports/weekly", "", 200}, {"GET", "/exports/none", "", 404}, {"DELETE", "/exports/weekly", "", 204},
		{"DELETE", "/exports/weekly", "", 404},
		{"POST", "/orders/99999/changes", `{}`, 404}, {"PATCH", "/orders/99999", `{}`, 404},
		{"PATCH", "/orders/2", `{"header":{"reason":"nothing"}}`, 200},
		{"POST", "/orders/2/changes", `{"lines":[{"quantity":5}]}`, 422},
		{"POST", "/orders", `{"kind":"sales","sender_number":"X-1","partner":"SALTRY","lines":[{"item":"00113",` +
			`"quantity":"2"}]}`, 422}, {"POST", "/orders", `{"kind":"sales"}`, 422},
		{"POST", "/load", "--b\r\nContent-Disposition: form-data; name=\"file\"; " +
			"filename=\"a.csv\"\r\n\r\nOrder,Item,Qty,Price\nA-1,00417,2,9.50\n\r\n--b\r\nContent-Disposition: " +
			"form-data; name=\"mapping\"\r\n\r\nplain\r\n--b--\r\n", 200},
		{"GET", "/partners", "", 200}, {"GET", "/partners/PELLOW", "", 200}, {"GET", "/partners/NOBODY", "", 404},
		{"POST", "/partners",
			"koinos: partner/1\nname: EBBING\nkind: supplier\nthem: {qualifier: ZZ, id: EBBING}\nus: {qualifier: ZZ, " +
				"id: QUILLMERE}\nsets: {\"850\": {}}\n", 201},
		{"POST", "/partners", "koinos: partner/1\nname: X\n", 422},
		{"GET", "/partners/PELLOW/numbers", "", 200}, {"PUT", "/partners/PELLOW/numbers", `{"interchange":4711,"group":4711}`,
			200},
		{"PUT", "/partners/PELLOW/numbers", `{"interchange":12}`, 422}, {"GET", "/partners/NOBODY/numbers", "", 404},
		{"POST", "/partners/VARNHOLT/send", `{"set":"850","try":true}`, 200},
		{"POST", "/partners/VARNHOLT/send", `{"set":"855"}`, 422},
		{"GET", "/interchanges?limit=3&speaking=true", "", 200}, {"GET", "/interchanges?state=held", "", 200},
		{"GET", "/interchanges?order=1", "", 200}, {"GET", "/interchanges/1", "", 200},
		{"GET", "/interchanges/999", "", 404}, {"GET", "/interchanges/1/segments?from=3&limit=9", "", 200},
		{"GET", "/interchanges/4/segments", "", 200}, {"GET", "/interchanges/1/sets/1/orders", "", 200},
		{"GET", "/interchanges/1/sets/9/orders", "", 404}, {"GET", "/interchanges/1/content", "", 200},
		{"POST", "/interchanges?name=x.edi", "ISA rubbish", 201}, {"POST", "/interchanges/1/replay?accept=price_differs", "",
			200}, {"POST", "/interchanges/1/replay?accept=order_unknown", "", 422},
		{"POST", "/interchanges/1/resend", "", 409}, {"POST", "/interchanges/2/resend", "", 200},
		{"POST", "/interchanges/1/renumber", "", 409},
		{"POST", "/interchanges/2/replay", "", 409}, {"POST", "/interchanges/1/let-in", "", 409},
		{"POST", "/interchanges/2/settle", "", 409}, {"POST", "/interchanges/1/sets/1/decision", `{"take":[1]}`, 409},
		{"POST", "/interchanges/1/sets/9/decision", `{"take":[]}`, 404},
		{"POST", "/interchanges/1/refuse", "", 409},
		{"GET", "/interchanges/1/sets?limit=1", "", 200}, {"GET", "/interchanges/999/sets", "", 404},
		{"GET", "/events?after=3&limit=2", "", 200}, {"GET", "/held", "", 200}, {"GET", "/held?kind=notice", "", 200},
		{"POST", "/held/2/retry", "", 202}, {"POST", "/held/999/retry", "", 404},
		{"GET", "/orders/1/why?field=quantity", "", 422}, {"GET", "/orders/1/why?field=total", "", 200},
		{"POST", "/loads", `{"document":"` + sha + `","mapping_text":"koinos: x","dry_run":true}`, 422},
		{"POST", "/loads", `{"document":"` + sha + `","mapping_text":"koinos: x"}`, 422},
		{"GET", "/systems", "", 200}, {"GET", "/systems/slipway", "", 200}, {"GET", "/systems/nobody", "", 404},
		{"POST", "/systems", "koinos: system/1\nname: yard\naddress: https://yard.example\nrecords:\n  slip:\n    list: " +
			"{path: /slips, records: \"$[*]\"}\n    key: $.no\n", 201},
		{"POST", "/systems", "koinos: system/1\nname: yard\n", 422}, {"GET", "/systems/slipway/calls", "", 200},
		{"GET", "/systems/slipway/hooks?limit=2", "", 200}, {"GET", "/systems/slipway/files", "", 200},
		{"GET", "/systems/nobody/files", "", 404}, {"POST", "/systems/slipway/register", "", 200},
		{"POST", "/systems/ledgerline/register", "", 422},
		{"POST", "/systems/try", `{"name":"slipway","record":"order"}`, 200},
		{"POST", "/systems/try", `{"name":"nobody"}`, 404},
		{"POST", "/systems/try", `{"name":"ledgerline","record":"sales_order","fields":true}`, 200},
		{"POST", "/systems/try", `{"name":"ledgerline","record":"sales_order","write":{"our_ref":"T-1"}}`, 200},
		{"POST", "/systems/draft?record=order", "type Query { orders: [Order!] }\ntype Order { id: ID! }", 200},
		{"POST", "/systems/draft", "koinos: system/1\n", 422},
		{"GET", "/syncs", "", 200}, {"GET", "/syncs/slipway-ledgerline", "", 200}, {"GET", "/syncs/nothing", "", 404},
		{"GET", "/syncs/slipway-ledgerline?wait=true", "", 200}, {"POST", "/syncs", "koinos: sync/1\nname: s\n", 422},
		{"POST", "/syncs", "koinos: sync/1\nname: s\npull: [{record: slipway.parcel}]\n", 201},
		{"POST", "/syncs", "koinos: sync/1\nname: t\npull: [{record: slipway.nothing}]\n", 422},
		{"POST", "/syncs/s/runs", `{"only":["slipway.parcel"]}`, 202}, {"POST", "/syncs/s/runs", `{"only":["x"]}`, 422},
		{"POST", "/syncs/nothing/runs", `{}`, 404}, {"GET", "/syncs/s/runs", "", 200},
		{"GET", "/sync-runs/1?wait=true", "", 200},
		{"GET", "/sync-runs/99", "", 404}, {"POST", "/syncs/s/pause", "", 200}, {"POST", "/syncs/s/runs", `{}`, 422},
		{"POST", "/syncs/s/resume", "", 200}, {"POST", "/syncs/slipway-ledgerline/checks", `{"kind":"reconcile"}`, 202},
		{"POST", "/syncs/slipway-ledgerline/checks", `{"kind":"dry-run","repair":true}`, 422},
		{"GET", "/syncs/slipway-ledgerline/checks", "", 200}, {"GET", "/checks/1?wait=true", "", 200},
		{"GET", "/checks/99", "", 404},
		{"GET", "/checks/1/rows?outcome=cannot", "", 200}, {"GET", "/checks/1/report?format=csv", "", 200},
		{"GET", "/checks/1/report?format=xlsx", "", 200}, {"GET", "/checks/1/report?format=json", "", 200},
		{"GET", "/syncs/slipway-ledgerline/tasks?state=held", "", 200},
		{"GET", "/pushed?sync=slipway-ledgerline&all=true", "", 200},
		{"GET", "/held/1", "", 200}, {"GET", "/held-reasons", "", 200}, {"GET", "/held/999", "", 404},
		{"GET", "/held?sync=slipway-ledgerline", "", 200},
		{"POST", "/held/1/decide", `{"take":"here"}`, 422}, {"POST", "/held/retry", `{"kind":"push"}`, 202},
		{"POST", "/held/put-aside", `{"kind":"push","why":"A test."}`, 200},
		{"POST", "/held/put-aside", `{"kind":"push","why":""}`, 200},
		{"POST", "/subscriptions", `{"name":"shed","url":"http://127.0.0.1:9/hooks"}`, 201},
		{"POST", "/subscriptions", `{"name":"shed","url":"http://127.0.0.1:9/hooks"}`, 409},
		{"POST", "/subscriptions", `{"name":"shop","url":"http://shop.example"}`, 422},
		{"GET", "/subscriptions", "", 200}, {"GET", "/subscriptions/shed", "", 200},
		{"GET", "/subscriptions/nobody", "", 404}, {"POST", "/subscriptions/shed/pause", "", 200},
		{"POST", "/subscriptions/shed/resume", "", 200}, {"GET", "/subscriptions/shed/deliveries?state=failed", "",
			200},
		{"POST", "/subscriptions/shed/resend", `{"failed":true}`, 200}, {"DELETE", "/subscriptions/shed", "", 204},
		{"POST", "/systems/slipway/pulls", `{"record":"order"}`, 202},
		{"POST", "/systems/slipway/pulls", `{"record":"nothing"}`, 422},
		{"POST", "/systems/slipway/pulls/dry-run", `{"record":"order","all":true}`, 200},
		{"GET", "/pulls?system=slipway", "", 200}, {"GET", "/pulls/1", "", 200}, {"GET", "/pulls/2?wait=true", "", 200},
		{"GET", "/pulls/99", "", 404}, {"GET", "/arrivals?limit=3&record=order", "", 200},
		{"POST", "/systems/ledgerline/pushes", `{"record":"sales_order","order":"SL-1002","dry_run":true}`, 200},
		{"POST", "/systems/ledgerline/pushes", `{"record":"sales_order","order":"nothing"}`, 404},
		{"POST", "/systems/ledgerline/pushes", `{"record":"article","order":"SL-1002"}`, 422},
		{"GET", "/arrivals/1/content", "", 200},
		{"GET", "/arrivals/99999/content", "", 404},
		{"GET", "/lists/colours/uses", "", 200}, {"GET", "/lists/nothing/uses", "", 404},
		{"POST", "/lists/colours/rename", `{"to":"paints"}`, 200}, {"DELETE", "/lists/paints", "", 204},
		{"DELETE", "/lists/paints", "", 404}, {"GET", "/crosswalks/x12-units/uses", "", 200},
		{"POST", "/crosswalks/c/rename", `{"to":"C"}`, 422}, {"POST", "/crosswalks/c/rename", `{"to":"d"}`, 200},
		{"DELETE", "/crosswalks/d", "", 204}, {"GET", "/mappings/saltry-orders/uses", "", 200},
		{"DELETE", "/mappings/saltry-orders", "", 409}, {"POST", "/mappings/saltry-orders/rename", `{"to":"plain"}`, 409},
		{"POST", "/mappings/saltry-orders/rename", `{"to":"saltry"}`, 200}, {"GET", "/sequences/other/uses", "", 200},
		{"POST", "/sequences/other/rename", `{"to":"another"}`, 200}, {"DELETE", "/sequences/another", "", 204},
		{"DELETE", "/mappings/saltry", "", 204},
		{"POST", "/tokens", `{"name":"a","scope":"read"}`, 201}, {"GET", "/tokens", "", 200},
		{"GET", "/audit?limit=2", "", 200}, {"GET", "/data-check", "", 200}, {"POST", "/data-check", "", 202},
		{"DELETE", "/tokens/1", "", 204}, {"DELETE", "/tokens/1", "", 404},
	} {
		kind := ""
		if strings.HasPrefix(c.body, "{") {
			kind = "application/json"
		} else if (strings.Contains(c.path, "/documents") || strings.Contains(c.path, "/file") ||
			strings.Contains(c.path, "/reports") || strings.Contains(c.path, "/interchanges?")) && c.body != "" {
			kind = "application/octet-stream"
		} else if strings.HasPrefix(c.body, "--b") {
			kind = "multipart/form-data; boundary=b"
		} else if c.body != "" {
			kind = "application/yaml"
		}
		res, body := s.do(c.method, "/api/v1"+c.path, c.body, "Content-Type: "+kind)
		if res.StatusCode != c.status {
			t.Errorf("%s %s: %d, want %d\n%.300s", c.method, c.path, res.StatusCode, c.status, body)
			continue
		}
		if c.status >= 400 {
			var p api.Problem
			if err := json.Unmarshal([]byte(body), &p); err != nil || p.Code == "" || p.Title == "" ||
				p.Status != c.status || !strings.HasPrefix(res.Header.Get("Content-Type"), "application/problem+json") {
				t.Errorf("%s %s is no problem: %s %s", c.method, c.path, res.Header.Get("Content-Type"), body)
			}
		}
		req, err := http.NewRequest(c.method, s.address+"/api/v1"+c.path, nil)
		if err != nil {
			t.Fatal(err)
		}
		route, params, err := router.FindRoute(req)
		if err != nil {
			t.Errorf("%s %s is not described: %v", c.method, c.path, err)
			continue
		}
		called[route.Operation.OperationID] = true
		if !strings.Contains(res.Header.Get("Content-Type"), "json") || strings.Contains(c.path, "/report") {
			continue
		}
		in := &openapi3filter.ResponseValidationInput{RequestValidationInput: &openapi3filter.RequestValidationInput{Request: req, Route: route, PathParams: params}, Status: res.StatusCode, Header: res.Header}
		in.SetBodyBytes([]byte(body))
		if err := openapi3filter.ValidateResponse(context.Background(), in); err != nil {
			t.Errorf("%s %s does not answer as described: %v", c.method, c.path, err)
		}
	}
	for path, item := range spec.Paths.Map() {
		for method, o := range item.Operations() {
			if !called[o.OperationID] {
				t.Errorf("%s %s is not called by this test", method, path)
			}
		}
	}
	res, _ := s.do("GET", "/api/v1/orders?limit=3&kind=sales", "")
	if link := res.Header.Get("Link"); !strings.Contains(link, `rel="next"`) || !strings.Contains(link, "kind=sales") {
		t.Errorf("link to the next page: %q", link)
	}
	if res, _ := s.do("GET", "/api/v1/orders/1", ""); res.Header.Get("ETag") != `"1-1"` {
		t.Errorf("ETag %q", res.Header.Get("ETag"))
	}
	for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready",
		"/metrics":       "koinos_orders_loaded_total 5",
		"/metrics?lag":   `koinos_system_lag_seconds{record="order",system="slipway"} `,
		"/metrics?twice": `koinos_system_arrivals_total{record="order",state="mapped",system="slipway"} 39`} {
		if res, body := s.do("GET", path, ""); res.StatusCode != 200 || !strings.Contains(body, want) {
			t.Errorf("%s: %d %.200s", path, res.StatusCode, body)
		}
	}
	_, events := s.do("GET", "/api/v1/loads/5/progress", "")
	if !strings.Contains(events, "data: {") || !strings.Contains(events, `"status":"done"`) {
		t.Errorf("events of an ended load: %q", events)
	}
}

// Who may do what, and under which name.
func TestAccess(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	secret, _, code := koinos(t, nil, "token", "create", "--name", "first", "--scope", "admin", "--data", data)
	if secret = strings.TrimSpace(secret); code != 0 || len(secret) < 40 {
		t.Fatalf("no first token: %q", secret)
	}
	s := start(t, data, "serve", "--require-token")
	admin := "Authorization: Bearer " + secret
	scoped := map[string]string{"admin": admin}
	for _, scope := range []string{"read", "load"} {
		out, _, code := koinos(t, []string{"KOINOS_TOKEN=" + secret, "KOINOS_ADDRESS=" + s.address}, "token", "create",
			"--name", scope, "--scope", scope)
		if code != 0 {
			t.Fatal(out)
		}
		scoped[scope] = "Authorization: Bearer " + strings.TrimSpace(out)
	}
	host := strings.TrimPrefix(s.address, "http://")
	for _, c := range []struct {
		name, method, path string
		headers            []string
		status             int
		code               string
	}{
		{"no token", "GET", "/api/v1/orders", nil, 401, "login_needed"},
		{"unknown token", "GET", "/api/v1/orders", []string{"Authorization: Bearer koinos_x"}, 401, "login_needed"},
		{"another scheme", "GET", "/api/v1/orders", []string{"Authorization: Basic eDp5"}, 401, "login_needed"},
		{"read may look", "GET", "/api/v1/orders", []string{scoped["read"]}, 200, ""},
		{"read may not send", "POST", "/api/v1/documents?name=x", []string{scoped["read"]}, 403, "not_allowed"},
		{"load may send", "POST", "/api/v1/documents?name=x", []string{scoped["load"]}, 422, "document_unreadable"},
		{"load may not change mappings", "POST", "/api/v1/mappings", []string{scoped["load"]}, 403, "not_allowed"},
		{"load may not make tokens", "GET", "/api/v1/tokens", []string{scoped["load"]}, 403, "not_allowed"},
		{"admin may", "GET", "/api/v1/tokens", []string{admin}, 200, ""},
		{"health needs none", "GET", "/healthz", nil, 200, ""},
		{"a name that is not ours", "GET", "/api/v1/orders", []string{admin, "Host: evil.example"}, 403,
			"host_refused"},
		{"a rebound name with our port", "GET", "/", []string{"Host: evil.example:8740"}, 403, "host_refused"},
		{"another site's page", "POST", "/api/v1/mappings", []string{admin, "Origin: http://evil.example"}, 403,
			"origin_refused"},
		{"a page without origin", "POST", "/api/v1/mappings", []string{admin, "Origin: null"}, 403, "origin_refused"},
		{"another site, by the browser's word", "POST", "/api/v1/loads", []string{admin, "Sec-Fetch-Site: cross-site"},
			403, "origin_refused"},
		{"our own page", "GET", "/api/v1/orders", []string{admin, "Origin: http://" + host}, 200, ""},
	} {
		res, body := s.do(c.method, c.path, "", c.headers...)
		if res.StatusCode != c.status || !strings.Contains(body, c.code) {
			t.Errorf("%s: %d %.200s; want %d %s", c.name, res.StatusCode, body, c.status, c.code)
		}
		if c.status == 401 && res.Header.Get("WWW-Authenticate") == "" {
			t.Errorf("%s: no WWW-Authenticate", c.name)
		}
	}
	if _, errOut, code := koinos(t, []string{"KOINOS_ADDRESS=" + s.address}, "load", "list"); code != 6 ||
		!strings.Contains(errOut, "Bearer") {
		t.Errorf("without a token: %d %s", code, errOut)
	}
	if _, _, code := koinos(t, []string{"KOINOS_TOKEN=" + secret, "KOINOS_ADDRESS=" + s.address}, "token", "revoke",
		"2"); code != 0 {
		t.Errorf("revoke: %d", code)
	}
	if res, _ := s.do("GET", "/api/v1/orders", "", scoped["read"]); res.StatusCode != 401 {
		t.Errorf("a revoked token: %d", res.StatusCode)
	}
	s.stop()
	if log := s.log.String(); strings.Contains(log, secret) || !strings.Contains(log, "request=") ||
		!strings.Contains(log, "status=403") {
		t.Errorf("the log holds the secret or lacks requests:\n%.500s", log)
	}
	raw, err := os.ReadFile(data + "/koinos.db")
	if err != nil || bytes.Contains(raw, []byte(secret)) {
		t.Errorf("the database holds the secret (%v)", err)
	}
}
