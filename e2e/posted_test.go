package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"koinos/api"
	"koinos/core/list"
)

// A posted order passes every check that a row of a sheet passes. Each finding
// points at the value in the body, says what is wrong, and nothing is stored.
func TestPostedOrder(t *testing.T) {
	s := start(t, t.TempDir(), "serve")
	for name, entries := range map[string][]list.Entry{
		"customers": {{Code: "OSTRAND"}}, "items": {{Code: "00417", Name: "Shackle"}, {Code: "M6.5-SHK"}},
		"units": {{Code: "EA", Name: "piece"}},
	} {
		if err := s.api().PutList(t.Context(), name, entries); err != nil {
			t.Fatal(err)
		}
	}
	const good = `{"kind": "sales", "sender_number": "P-1", "partner": "OSTRAND", "ordered_on": "2026-03-02", "currency": "EUR",
 "lines": [{"item": "00417", "quantity": "5", "unit": "EA", "unit_price": "9.50", "shipped": "0"}]}`
	for _, c := range []struct{ name, old, new, code, at, message, hint string }{
		{"an unknown partner", `"OSTRAND"`, `"OSTRANT"`, "unknown_code", "/partner",
			`"OSTRANT" is not in the list customers.`, "Nearest in the list: OSTRAND."},
		{"an unknown item", `"00417"`, `"M6.5-SHX"`, "unknown_code", "/lines/0/item",
			`"M6.5-SHX" is not in the list items.`, "Nearest in the list: M6.5-SHK."},
		{"an item in other letters", `"00417"`, `"O0417"`, "unknown_code", "/lines/0/item",
			`"O0417" is not in the list items.`, "Nearest in the list: 00417 (Shackle)."},
		{"a date in words", `"2026-03-02"`, `"next week"`, "not_a_date", "/ordered_on",
			`"next week" is not a date for ordered_on.`, "Write the day as yyyy-mm-dd."},
		{"a day that is not there", `"2026-03-02"`, `"2026-02-31"`, "not_a_date", "/ordered_on",
			`"2026-02-31" is not a date for ordered_on.`, "Write the day as yyyy-mm-dd."},
		{"an unknown unit", `"EA"`, `"FURLONG"`, "unknown_unit", "/lines/0/unit", `"FURLONG" is not in the list units.`,
			"Nothing in the list is near it. Add it to the list units, or correct the value."},
		{"an unknown currency", `"EUR"`, `"EUX"`, "unknown_currency", "/currency",
			`"EUX" is not a currency of ISO 4217.`, "Send the three-letter code of ISO 4217, for example EUR."},
		{"an unknown role", `"currency"`, `"parties": [{"role": "landlord", "name": "X"}], "currency"`,
			"unknown_choice", "/parties/0/role", `The role of a party cannot be "landlord".`,
			"It may be: ship_to, bill_to, buyer, supplier, carrier."},
		{"a discount of 150", `"unit_price"`, `"discount_percent": "150", "unit_price"`, "out_of_range",
			"/lines/0/discount_percent", "discount_percent is 150.",
			"Correct the figure; discounts and taxes are per cent from 0 to 100, quantities that moved are not below zero."},
		{"shipped less than nothing", `"shipped": "0"`, `"shipped": "-9"`, "out_of_range", "/lines/0/shipped",
			"shipped is -9.", "Correct the figure; discounts and taxes are per cent from 0 to 100, quantities that " +
				"moved are not below zero."},
		{"ordered less than nothing", `"5"`, `"-5"`, "quantity_negative", "/lines/0/quantity", "The quantity is -5.",
			"An order line cannot take goods back: leave the line out or send a return."},
		{"no item", `"item": "00417", `, ``, "line_without_item", "/lines/0/item",
			"The line names no item and has no description.", "Send an item code or a description."},
		{"another sum", `"unit_price"`, `"amount_stated": "47.00", "unit_price"`, "amount_differs",
			"/lines/0/amount_stated", "The document says 47.00, but 5 × 9.50 is 47.50.",
			"Correct the figure that is wrong, or leave amount_stated out."},
		{"no number of its sender", `"sender_number": "P-1", `, ``, "must_missing", "",
			"sender_number is missing; without it the order could not be known again.", "Send the value."},
		{"a blank number of its sender", `"P-1"`, `"  "`, "must_missing", "/sender_number",
			"sender_number is missing; without it the order could not be known again.", "Send the value."},
	} {
		t.Run(c.name, func(t *testing.T) {
			body := strings.Replace(good, c.old, c.new, 1)
			if body == good {
				t.Fatal("nothing is wrong with it")
			}
			res, text := s.do("POST", "/api/v1/orders", body, "Content-Type: application/json")
			var p api.Problem
			if err := json.Unmarshal([]byte(text), &p); err != nil || res.StatusCode != http.StatusUnprocessableEntity {
				t.Fatal(res.Status, text)
			}
			if f := p.Findings[0]; len(p.Findings) != 1 || string(f.Code) != c.code || f.At != c.at ||
				f.Message != c.message || f.Hint != c.hint {
				t.Errorf("%+v", p.Findings)
			}
		})
	}
	res, text := s.do("GET", "/api/v1/orders", "")
	if res.StatusCode != http.StatusOK || strings.Contains(text, `"id"`) {
		t.Errorf("%s %s", res.Status, text)
	}
	// The good one is stored, its body is a document, and why shows into it.
	res, text = s.do("POST", "/api/v1/orders", good, "Content-Type: application/json")
	var p api.Posted
	if err := json.Unmarshal([]byte(text), &p); err != nil || res.StatusCode != http.StatusCreated || p.Document == "" {
		t.Fatal(res.Status, text)
	}
	if _, kept := s.do("GET", "/api/v1/documents/"+p.Document+"/content", ""); kept != good {
		t.Errorf("the document is %q", kept)
	}
	for _, c := range []struct{ query, value, at string }{
		{"line=1&field=unit_price", "9.5", "/lines/0/unit_price"}, {"field=partner", "OSTRAND", "/partner"},
		{"line=1&field=quantity", "5", "/lines/0/quantity"},
	} {
		_, text := s.do("GET", fmt.Sprintf("/api/v1/orders/%d/why?%s", p.OrderID, c.query), "")
		var w api.Why
		if err := json.Unmarshal([]byte(text), &w); err != nil || w.Value != c.value || w.At != c.at {
			t.Errorf("why %s: %s", c.query, text)
		}
	}
	if _, text := s.do("GET", fmt.Sprintf("/api/v1/orders/%d/why?field=quantity", p.OrderID),
		""); !strings.Contains(text, `"code":"line_needed"`) {
		t.Error(text)
	}
}
