package syncs

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"koinos/api"
	"koinos/demo"
)

// books are an office with so many orders of the shop, beside the bookkeeping.
type books struct {
	*office
	desk *httptest.Server
}

// withBooks has read the orders.
func withBooks(t testing.TB, orders int) *books {
	t.Helper()
	b := besideBooks(t, orders)
	b.pull(api.NewPull{})
	return b
}

// besideBooks has read nothing yet.
func besideBooks(t testing.TB, orders int) *books {
	t.Helper()
	return booksBeside(t, shopOf(t, orders))
}

// booksBeside are the books beside any shop.
func booksBeside(t testing.TB, shop http.Handler) *books {
	t.Helper()
	ledgerline, err := demo.Ledgerline("secret", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	b := &books{begin(t, shop), httptest.NewServer(ledgerline)}
	t.Cleanup(b.desk.Close)
	for name, value := range map[string]string{"LEDGERLINE_URL": b.desk.URL, "LEDGERLINE_ID": "koinos",
		"LEDGERLINE_SECRET": "secret"} {
		t.Setenv(name, value)
	}
	ctx := context.Background()
	read := func(name string) string {
		text, err := demo.Files.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	if _, err := b.store.PutMapping(ctx, api.Mapping{Name: "ledgerline-orders",
		Text: read("mappings/ledgerline-orders.yaml")}); err != nil {
		t.Fatal(err)
	}
	description := strings.Replace(read("systems/ledgerline.yaml"), "rate: 200", "rate: 5000", 1)
	if _, err := b.Keep(ctx, description, "test"); err != nil {
		t.Fatal(err)
	}
	return b
}

func (b *books) push(order string) api.Push {
	b.t.Helper()
	p, err := b.Push(context.Background(), "ledgerline", api.NewPush{Record: "sales_order", Order: order}, "test")
	if err != nil {
		b.t.Fatal(err)
	}
	return p
}

func (b *books) ask(method, path, body string) string {
	b.t.Helper()
	req, err := http.NewRequest(method, b.desk.URL+path, strings.NewReader(body))
	if err != nil {
		b.t.Fatal(err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		b.t.Fatal(err)
	}
	defer res.Body.Close()
	out, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != http.StatusOK {
		b.t.Fatal(res.Status, string(out), err)
	}
	return string(out)
}

// state is what is in the books, without their ids and numbers.
func (b *books) state() string {
	b.t.Helper()
	var all struct {
		Orders []struct {
			OurRef   string  `json:"our_ref"`
			Customer int64   `json:"customer_id"`
			BookDate string  `json:"book_date"`
			Note     *string `json:"note"`
			State    string  `json:"state"`
			Lines    []struct {
				OurLine string      `json:"our_line"`
				Article int64       `json:"article_id"`
				Qty     json.Number `json:"qty"`
				Price   json.Number `json:"unit_price"`
			} `json:"lines"`
		} `json:"orders"`
		Customers []struct {
			ID    int64  `json:"id"`
			Email string `json:"email"`
		} `json:"customers"`
	}
	if err := json.Unmarshal([]byte(b.ask("GET", "/admin/orders", "")), &all); err != nil {
		b.t.Fatal(err)
	}
	mail := map[int64]string{}
	for _, c := range all.Customers {
		mail[c.ID] = c.Email
	}
	var out strings.Builder
	for _, o := range all.Orders {
		note := ""
		if o.Note != nil {
			note = *o.Note
		}
		fmt.Fprintf(&out, "%s %s %s %q %s", o.OurRef, mail[o.Customer], o.BookDate, note, o.State)
		for _, l := range o.Lines {
			fmt.Fprintf(&out, " %s:%d×%s@%s", l.OurLine, l.Article, l.Qty, l.Price)
		}
		out.WriteString("\n")
	}
	fmt.Fprintf(&out, "%d customers\n", len(all.Customers))
	return out.String()
}

const pushed = 8

// Whatever happens on the way, each order, line and customer is there once, as in an
// undisturbed run; a second push finds nothing to do.
func TestPushDisturbed(t *testing.T) {
	calm := withBooks(t, pushed)
	for i := range pushed {
		if p := calm.push(fmt.Sprintf("SL-%d", 1001+i)); p.State != api.PushDone || len(p.Steps) < 3 {
			t.Fatalf("%+v", p)
		}
	}
	want := calm.state()
	if n := strings.Count(want, " confirmed "); n != pushed {
		t.Fatal(want)
	}
	for name, fault := range map[string]string{
		"applied, but no answer": `{"times": 1, "lost": true, "only": "POST"}`,
		"closed before":          `{"times": 2, "reset": true}`,
		"busy":                   `{"times": 2, "status": 503}`,
		"busy while it writes":   `{"times": 1, "status": 500, "only": "POST"}`,
		"cut":                    `{"times": 1, "cut": true}`,
		"cut after writing":      `{"times": 1, "cut": true, "only": "POST"}`,
		"a page of a gateway":    `{"times": 1, "body": "<html>", "only": "POST"}`,
	} {
		t.Run(name, func(t *testing.T) {
			if testing.Short() && name != "applied, but no answer" {
				t.Skip("one of them is enough for the race detector")
			}
			b := withBooks(t, pushed)
			for i := range pushed {
				order := fmt.Sprintf("SL-%d", 1001+i)
				b.ask("POST", "/admin/faults", fault)
				if p := b.push(order); p.State != api.PushDone {
					t.Errorf("%s: %+v", order, p)
				}
				b.ask("POST", "/admin/faults", `{}`)
				if p := b.push(order); p.State != api.PushDone || len(p.Steps) > 0 {
					t.Errorf("%s again: %+v", order, p)
				}
			}
			if got := b.state(); got != want {
				t.Errorf("got\n%s\nwant\n%s", got, want)
			}
		})
	}
}

// The same where the system does not honour idempotency keys, and pushes come at once.
func TestPushWithoutKeys(t *testing.T) {
	b := withBooks(t, 2)
	text, err := demo.Files.ReadFile("systems/ledgerline.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Keep(context.Background(),
		strings.ReplaceAll(string(text), "idempotency: Idempotency-Key", ""), "test"); err != nil {
		t.Fatal(err)
	}
	b.ask("POST", "/admin/faults", `{"times": 5, "lost": true, "only": "POST"}`)
	var all sync.WaitGroup
	for i := range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			b.push(fmt.Sprintf("SL-%d", 1001+i%2))
		}()
	}
	all.Wait()
	for i := range 2 {
		if p := b.push(fmt.Sprintf("SL-%d", 1001+i)); p.State != api.PushDone || len(p.Steps) > 0 {
			t.Errorf("%+v", p)
		}
	}
	if got := b.state(); strings.Count(got, "SL-1001 ") != 1 || strings.Count(got, "SL-1002 ") != 1 ||
		strings.Count(got, " 1:") != 2 || strings.Count(got, " confirmed ") != 2 ||
		!strings.HasSuffix(got, "3 customers\n") {
		t.Error(got)
	}
}

// What keeps a push from going on is said, and nothing is left half done.
func TestPushBlocked(t *testing.T) {
	b := withBooks(t, 3)
	b.push("SL-1001")
	for _, c := range []struct{ name, was, is, why string }{
		{"an article that is not there", "path: $.sku}", "path: $.title}",
			`ledgerline has no article with the sku "00179".`},
		{"a path that is not theirs", "create: {path: /sales-orders, lines: 0,", "create: {path: /orders, lines: 0,",
			"ledgerline has no such thing (404): Nothing is at /api/v2/orders."},
		{"a value that the system's fields rule out", `choices: "$.choices[*]"`, "choices: $.type",
			`book_date is "2026-03-02", but can only be date there.`},
		{"a secret that is not set", "LEDGERLINE_SECRET", "LEDGERLINE_NOTHING",
			"The environment variable LEDGERLINE_NOTHING, which holds ledgerline's client secret, is not set."},
	} {
		text, err := demo.Files.ReadFile("systems/ledgerline.yaml")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := b.Keep(context.Background(), strings.Replace(string(text), c.was, c.is, 1), "test"); err != nil {
			t.Fatal(c.name, err)
		}
		orders := func() string { all, _, _ := strings.Cut(b.state(), "\n"); return all }
		before := orders()
		p := b.push("SL-1002")
		if p.State != api.PushBlocked || len(p.Why) == 0 || p.Why[0] != c.why {
			t.Errorf("%s: %+v", c.name, p)
		}
		if got := orders(); got != before {
			t.Errorf("%s leaves half of it there: %s", c.name, got)
		}
	}
	// What was made and is gone there is said, not made again.
	b2 := withBooks(t, 1)
	b2.push("SL-1001")
	lost, err := demo.Ledgerline("secret", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	b2.desk.Config.Handler = lost
	if p := b2.push("SL-1001"); p.State != api.PushBlocked ||
		p.Why[0] != "The record 1 (LO-1001) that the order is linked with is not in ledgerline any more." {
		t.Errorf("%+v", p)
	}
}

// A system that does not keep what it is sent is not asked without end: after some rounds a person is told what
// differs.
func TestPushUnsettled(t *testing.T) {
	b := withBooks(t, 1)
	b.push("SL-1001")
	inner := b.desk.Config.Handler
	writes := 0
	b.desk.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPatch {
			writes++
		}
		answer := httptest.NewRecorder()
		inner.ServeHTTP(answer, r)
		maps.Copy(w.Header(), answer.Header())
		w.Header().Del("Content-Length")
		w.WriteHeader(answer.Code)
		_, _ = w.Write(regexp.MustCompile(`"note":(null|"[^"]*")`).ReplaceAll(answer.Body.Bytes(),
			[]byte(`"note":"AS I LIKE"`)))
	})
	p := b.push("SL-1001")
	want := "After 6 attempts the record is still not what it should be: the system changes what it is sent, or somebody " +
		"changes it at the same time. It would still be right by: "
	if p.State != api.PushBlocked || p.Code != api.NotSettled || len(p.Why) != 2 || !strings.HasPrefix(p.Why[0], want) ||
		p.Why[1] != `Note is "AS I LIKE" there and should be blank.` || writes != 6 {
		t.Errorf("%s %s after %d writes: %q", p.State, p.Code, writes, p.Why)
	}
}

// What was written there can be read back by another office: keys become the values by
// which their records are found, and the lines that the list does not show are asked for.
func TestPullResolved(t *testing.T) {
	b := withBooks(t, 3)
	for i := range 3 {
		b.push(fmt.Sprintf("SL-%d", 1001+i))
	}
	want := b.state()
	other := begin(t, shopOf(t, 1))
	ctx := context.Background()
	text, err := demo.Files.ReadFile("systems/ledgerline.yaml")
	if err == nil {
		_, err = other.Keep(ctx, strings.Replace(string(text), "rate: 200", "rate: 5000", 1), "test")
	}
	if err != nil {
		t.Fatal(err)
	}
	m, err := demo.Files.ReadFile("mappings/ledgerline-orders.yaml")
	if err == nil {
		_, err = other.store.PutMapping(ctx, api.Mapping{Name: "ledgerline-orders", Text: string(m)})
	}
	if err != nil {
		t.Fatal(err)
	}
	p, err := other.Start(ctx, "ledgerline", api.NewPull{Record: "sales_order"}, "test")
	if err == nil {
		p, err = other.Wait(ctx, p.ID)
	}
	if err != nil || p.State != api.PullDone || p.Loaded != 3 {
		t.Fatal(figures(&p), p.Reason, err)
	}
	var got strings.Builder
	for id := range int64(3) {
		s, err := other.store.Order(ctx, id+1)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&got, "%s %s %s %q confirmed", s.SenderNumber, s.Order.Party("buyer").Email, s.OrderedOn, s.Notes)
		for _, l := range s.Lines {
			fmt.Fprintf(&got, " %s:%d×%s@%s", l.SenderLine, articleOf(t, l.Item), l.Quantity, l.UnitPrice)
		}
		got.WriteString("\n")
	}
	if want, _, _ := strings.Cut(want, "\n4 customers"); got.String() != want+"\n" {
		t.Errorf("got\n%s\nwant\n%s", got.String(), want)
	}
}

// articleOf is the bookkeeping's id of an item: its place in the list of items.
func articleOf(t *testing.T, item string) int {
	t.Helper()
	b, err := demo.Files.ReadFile("lists/items.csv")
	if err != nil {
		t.Fatal(err)
	}
	for i, line := range strings.Split(string(b), "\n") {
		if strings.HasPrefix(line, item+",") {
			return 7000 + i - 1
		}
	}
	t.Fatal(item)
	return 0
}
