package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"koinos/api"
	"koinos/cli/running"
)

// A request that names itself is answered once and again, also by the next
// service, and its work is done once.
func TestIdempotencyKey(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := start(t, data, "serve")
	s.load(t, string(manyOrders(3)))
	rep, err := s.api().Load(context.Background(), 1)
	if err != nil {
		t.Fatal(err)
	}
	body := `{"document":"` + rep.Load.Document + `","mapping":"plain"}`
	post := func(key, body string) (int, string, string) {
		res, text := s.do("POST", "/api/v1/loads", body, "Content-Type: application/json", "Idempotency-Key: "+key)
		return res.StatusCode, text, res.Header.Get("Idempotency-Replayed")
	}
	status, first, replayed := post("k1", body)
	if status != 202 || replayed != "" {
		t.Fatalf("%d %s", status, first)
	}
	for _, restart := range []bool{false, true} {
		if restart {
			s.kill()
			s = start(t, data, "serve")
		}
		if status, again, replayed := post("k1", body); status != 202 || again != first || replayed != "true" {
			t.Errorf("after a restart %v: %d %s %q", restart, status, again, replayed)
		}
	}
	if status, text, _ := post("k1", strings.Replace(body, `"}`, `","dry_run":true}`, 1)); status != 422 ||
		!strings.Contains(text, "key_reused") {
		t.Errorf("another body: %d %s", status, text)
	}
	if status, other, _ := post("k2", body); status != 202 || other == first {
		t.Errorf("another key: %d %s", status, other)
	}
	// What fails is answered again too, and what is wrong with the request first.
	for range 2 {
		if status, text, _ := post("k3", `{"document":"00000000","mapping":"plain"}`); status != 404 {
			t.Errorf("%d %s", status, text)
		}
	}
	loads, err := s.api().Loads(context.Background(), nil)
	if err != nil || len(loads.Items) != 3 {
		t.Errorf("%d loads %v", len(loads.Items), err)
	}
	// Many at once with one key: one order, and nobody is told anything else.
	codes := make(chan string)
	for range 20 {
		go func() {
			res, text := s.do("POST", "/api/v1/orders",
				`{"kind":"sales","sender_number":"P-1","partner":"OSTRAND","lines":[{"item":"00417",`+
					`"quantity":"1","unit_price":"1"}]}`, "Content-Type: application/json", "Idempotency-Key: p1")
			codes <- fmt.Sprint(res.StatusCode, strings.Contains(text, `"outcome":"loaded"`) ||
				strings.Contains(text, "key_in_use"))
		}()
	}
	for range 20 {
		if c := <-codes; c != "201 true" && c != "409 true" {
			t.Error(c)
		}
	}
}

// A watched folder takes in what has stopped growing, and says beside it what
// became of it.
func TestFolder(t *testing.T) {
	t.Parallel()
	in := filepath.Join(t.TempDir(), "in")
	data := t.TempDir()
	s := start(t, data, "serve")
	s.load(t, string(manyOrders(1)))
	s.stop()
	_, said, code := koinos(t, nil, "serve", "--listen", "127.0.0.1:0", "--data", data, "--folder", in+"=nothing")
	if want := "koinos: the watched folder " + in +
		" goes through nothing, and there is no mapping or sequence of that name"; code == 0 ||
		!strings.HasPrefix(said, want) {
		t.Errorf("exit %d: %s", code, said)
	}
	s = start(t, data, "serve", "--folder", in+"=plain")
	put := func(name string, b []byte, flag int) {
		t.Helper()
		f, err := os.OpenFile(filepath.Join(in, name), os.O_CREATE|os.O_WRONLY|flag, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		_, err = f.Write(b)
		f.Close()
		if err != nil {
			t.Fatal(err)
		}
	}
	exists := func(pattern string) bool {
		found, err := filepath.Glob(filepath.Join(in, pattern))
		return err == nil && len(found) == 1
	}
	waitFor(t, "the folder", func() bool { _, err := os.Stat(filepath.Join(in, "done")); return err == nil })
	doc := bytes.ReplaceAll(manyOrders(40), []byte("A-"), []byte("F-"))
	half := len(doc) / 2
	put("half.csv", doc[:half], 0)
	put("note.tmp", doc, 0)
	for i := half; i < len(doc); i += 200 { // somebody writes slowly
		put("half.csv", doc[i:min(i+200, len(doc))], os.O_APPEND)
		time.Sleep(300 * time.Millisecond)
	}
	put("bad.csv", []byte("Order,Item,Qty,Price\nG-1,00417,2,9.50\nG-2,,x,9.50\n"), 0)
	put("other.csv", []byte("nothing,of,this\n1,2,3\n"), 0)
	put("page.pdf", []byte("%PDF-1.7\n"), 0)
	waitFor(t, "the files", func() bool {
		return exists("done/half.csv") && exists("failed/bad.csv") && exists("failed/other.csv") &&
			exists("failed/page.pdf")
	})
	if !exists("done/half-load-*.csv") || !exists("failed/bad-load-*.csv") || !exists("failed/page.txt") ||
		!exists("note.tmp") {
		found, _ := filepath.Glob(filepath.Join(in, "*", "*"))
		t.Errorf("there are %v", found)
	}
	marked, _ := filepath.Glob(filepath.Join(in, "failed/bad-load-*.csv"))
	if b, err := os.ReadFile(marked[0]); err != nil || !strings.Contains(string(b), "G-1,00417,2,9.50,loaded,SO-") ||
		!strings.Contains(string(b), "G-2,,x,9.50,refused") {
		t.Errorf("%s %v", b, err)
	}
	loads, err := s.api().Loads(context.Background(), nil)
	if err != nil {
		t.Fatal(err)
	}
	total := 0
	for _, l := range loads.Items {
		if l.DocumentName == "half.csv" {
			total += l.Loaded
		}
	}
	if total != 40 {
		t.Errorf("%d orders of the file that grew", total)
	}
}

// Only what failed comes back in the partner's own layout, can be fixed there
// and loaded again; the marked copy is brought up to date afterwards.
func TestMendAndLoadAgain(t *testing.T) {
	t.Parallel()
	s := startDemo(t)
	dir := t.TempDir()
	failed, marked := filepath.Join(dir, "failed.xlsx"), filepath.Join(dir, "marked.xlsx")
	for format, to := range map[string]string{"failed": failed, "marked": marked} {
		if out, errOut, code := s.koinos("load", "report", "3", "--format", format, "--to", to); code != 0 {
			t.Fatal(out, errOut)
		}
	}
	f, err := excelize.OpenFile(failed)
	if err != nil {
		t.Fatal(err)
	}
	rows, err := f.GetRows("Orders week 12")
	if err != nil || len(rows) != 9 {
		t.Fatalf("%d rows %v: %v", len(rows), err, rows)
	}
	for _, row := range rows[4:] { // the document's 50 rows hold two failed orders of five
		if len(row) < 11 || row[10] != "refused" {
			t.Errorf("%v", row)
		}
	}
	if f.GetSheetList()[1] != "Phone list" {
		t.Errorf("sheets %v", f.GetSheetList())
	}
	for cell, v := range map[string]any{"D6": "00407", "J8": 89.14} {
		if err := f.SetCellValue("Orders week 12", cell, v); err != nil {
			t.Fatal(err)
		}
	}
	if err := f.Save(); err != nil {
		t.Fatal(err)
	}
	out, errOut, code := s.koinos("load", failed, "-m", "ostrand-weekly", "--output", "json")
	if code != 0 || !strings.Contains(out, `"loaded": 2`) || !strings.Contains(out, `"unchanged": 0`) {
		t.Errorf("%d %.400s %s", code, out, errOut)
	}
	// JSON comes back as JSON.
	drop := func(doc, want string) {
		rep := s.loadAs(t, "drop.json", doc, strings.Replace(csvMapping, "name: plain", "name: js", 1))
		out, errOut, _ := s.koinos("load", "report", fmt.Sprint(rep.Load.ID), "--format", "failed")
		if strings.Join(strings.Fields(out), "") != want {
			t.Errorf("%s %s\nwant %s", out, errOut, want)
		}
	}
	drop(`[{"Order":"J-1","Item":"00417","Qty":1,"Price":2},{"Order":"J-2","Qty":"x"},{"Order":"J-3",`+
		`"Item":"00417","Qty":3.50}]`, `[{"Order":"J-2","Qty":"x"}]`)
	drop("{\"Order\":\"N-1\",\"Item\":\"00417\",\"Qty\":1}\n{\"Order\":\"N-2\",\"Qty\":0.10}\n",
		`{"Order":"N-2","Qty":0.10}`)

	// The order of a row changes; the copy says so after it is refreshed.
	csv := file(t, "m.csv", nil)
	if _, errOut, code := s.koinos("load", "report", "2", "--format", "marked", "--to", csv); code != 0 {
		t.Fatal(errOut)
	}
	if _, errOut, code := s.koinos("load", "undo", "2"); code != 0 {
		t.Fatal(errOut)
	}
	if out, errOut, code := s.koinos("report", "refresh", csv); code != 0 ||
		!strings.Contains(out, "whose order is not there any more") {
		t.Errorf("%d %s %s", code, out, errOut)
	}
	if b, err := os.ReadFile(csv); err != nil || !strings.Contains(string(b), "Koinos status") ||
		!strings.Contains(string(b), ",gone\r\n") {
		t.Errorf("%.600s %v", b, err)
	}
	if out, errOut, code := s.koinos("report", "refresh", marked); code != 0 ||
		!strings.Contains(out, "brought up to date") || strings.Contains(out, "not there") {
		t.Errorf("%d %s %s", code, out, errOut)
	}
	g, err := excelize.OpenFile(marked)
	if err != nil {
		t.Fatal(err)
	}
	if at, err := g.SearchSheet("Orders week 12", "Koinos status"); err != nil || len(at) != 1 {
		t.Errorf("%v %v", at, err)
	}
	if got, err := g.SearchSheet("Orders week 12", "open"); err != nil || len(got) < 30 {
		t.Errorf("%d rows are open: %v", len(got), err)
	}
	if out, _, code := s.koinos("load", "undo", "2", "--output", "json"); code != 0 {
		t.Error(out)
	} else {
		var u struct{ Removed, Kept int }
		if err := json.Unmarshal([]byte(out), &u); err != nil || u.Removed != 0 || u.Kept != 0 {
			t.Errorf("taken back twice: %s", out)
		}
	}
}

// loadAs loads a document through a mapping and waits for the end.
func (s *service) loadAs(t *testing.T, name, doc, mapping string) api.LoadReport {
	t.Helper()
	ctx := context.Background()
	kept, err := s.api().KeepMapping(ctx, []byte(mapping))
	if err != nil {
		t.Fatal(err)
	}
	rep, err := running.LoadDocument(ctx, s.api(), name, strings.NewReader(doc), api.NewLoad{Mapping: kept.Name})
	if err != nil {
		t.Fatal(err)
	}
	return rep
}

// A dry run through a mapping file keeps nothing: no version of the mapping, no
// order, and the next load goes through what was kept before.
func TestDryRunKeepsNothing(t *testing.T) {
	s := start(t, t.TempDir(), "serve")
	s.load(t, string(manyOrders(3)))
	orders, _, _ := s.koinos("order", "list", "--output", "json")
	mappings, _, _ := s.koinos("mapping", "list", "--output", "json")
	other := file(t, "other.yaml", []byte(strings.Replace(csvMapping, "value: EUR", "value: USD", 1)))
	out, errOut, code := s.koinos("load", file(t, "new.csv", []byte("Order,Item,Qty,Price\nZ-1,00100,2,9.50\n")),
		"--mapping", other, "--dry-run")
	if code != 0 {
		t.Fatalf("%d\n%s%s", code, out, errOut)
	}
	if after, _, _ := s.koinos("mapping", "list", "--output", "json"); after != mappings {
		t.Errorf("mappings before:\n%s\nafter:\n%s", mappings, after)
	}
	if after, _, _ := s.koinos("order", "list", "--output", "json"); after != orders {
		t.Errorf("orders before:\n%s\nafter:\n%s", orders, after)
	}
	// The load of the dry run still says what it went through.
	l, err := s.api().Load(context.Background(), 2)
	if err != nil || !l.Load.DryRun || l.Load.Ready != 1 {
		t.Errorf("%+v %v", l.Load, err)
	}
	if out, errOut, code = s.koinos("load", file(t, "new.csv", []byte("Order,Item,Qty,Price\nZ-1,00100,2,9.50\n")),
		"--mapping", "plain"); code != 0 {
		t.Fatalf("%d\n%s%s", code, out, errOut)
	}
	if o, err := s.api().Order(context.Background(), 4); err != nil || o.Currency != "EUR" {
		t.Errorf("%+v %v", o, err)
	}
}

// The whole load in one call is answered from memory the second time, though
// the boundary of a multipart body is another one each time.
func TestMultipartAgain(t *testing.T) {
	s := start(t, t.TempDir(), "serve")
	s.load(t, string(manyOrders(1)))
	send := func(key, boundary, doc string) (int, string, string) {
		body := strings.NewReplacer("BOUNDARY", boundary, "DOC", doc, "\n", "\r\n").Replace(`--BOUNDARY
Content-Disposition: form-data; name="mapping"

plain
--BOUNDARY
Content-Disposition: form-data; name="file"; filename="one.csv"
Content-Type: text/csv

DOC
--BOUNDARY--
`)
		res, text := s.do("POST", "/api/v1/load", body, "Content-Type: multipart/form-data; boundary="+boundary,
			"Idempotency-Key: "+key)
		return res.StatusCode, text, res.Header.Get("Idempotency-Replayed")
	}
	doc := "Order,Item,Qty,Price\nM-1,00100,2,9.50"
	status, first, _ := send("m1", "one", doc)
	if status != 200 || !strings.Contains(first, `"loaded":1`) {
		t.Fatal(status, first)
	}
	if status, again, replayed := send("m1", "another", doc); status != 200 || again != first || replayed != "true" {
		t.Errorf("%d %q %s", status, replayed, again)
	}
	if status, text, _ := send("m1", "another", strings.Replace(doc, "9.50", "8.50", 1)); status != 422 ||
		!strings.Contains(text, "key_reused") {
		t.Errorf("another document: %d %s", status, text)
	}
}

// A run of a sequence in which orders failed ends with the same exit code,
// whatever form its answer has.
func TestSequenceExitCode(t *testing.T) {
	s := start(t, t.TempDir(), "serve")
	if _, err := s.api().KeepMapping(context.Background(), []byte(csvMapping)); err != nil {
		t.Fatal(err)
	}
	sequence := file(t, "one.yaml", []byte("koinos: sequence/1\nname: one\nsteps:\n  - {step: only, mapping: plain}\n"))
	if out, errOut, code := s.koinos("sequence", "keep", sequence); code != 0 {
		t.Fatal(out, errOut)
	}
	for _, c := range []struct {
		doc  string
		code int
	}{{"Order,Item,Qty,Price\nQ-1,1,2,9.50\nQ-2,1,x,9.50\n", 3}, {"Order,Item,Qty,Price\nQ-3,1,2,9.50\n", 0}} {
		for _, form := range []string{"table", "json"} {
			out, errOut, code := s.koinos("sequence", "run", file(t, "q.csv", []byte(c.doc)), "--sequence", "one",
				"--output", form)
			if code != c.code || form == "json" && !json.Valid([]byte(out)) {
				t.Errorf("%s: %d, want %d\n%s%s", form, code, c.code, out, errOut)
			}
		}
	}
}

// A key whose answer is not kept any more still starts no load twice, and nothing else either.
func TestIdempotencyKeyForgotten(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := start(t, data, "serve")
	if _, err := s.api().KeepMapping(context.Background(), []byte(csvMapping)); err != nil {
		t.Fatal(err)
	}
	sent := func(doc []byte) string {
		d, err := s.api().SendDocument(context.Background(), "a.csv", bytes.NewReader(doc))
		if err != nil {
			t.Fatal(err)
		}
		return d.SHA
	}
	first, second := sent(manyOrders(2)), sent(manyOrders(3))
	ask := func(sha, more string) (status int, body string) {
		res, body := s.do("POST", "/api/v1/loads", fmt.Sprintf(`{"document": %q, "mapping": "plain"%s}`, sha, more),
			"Content-Type: application/json", "Idempotency-Key: monday")
		return res.StatusCode, body
	}
	status, answer := ask(first, "")
	if status != http.StatusAccepted || !strings.Contains(answer, `"id":1,`) {
		t.Fatal(status, answer)
	}
	for name, c := range map[string]struct {
		sha, more string
		status    int
		says      string
	}{
		"the same":           {first, "", http.StatusAccepted, `"id":1,`},
		"another document":   {second, "", http.StatusUnprocessableEntity, `"code":"key_reused"`},
		"the same, dry only": {first, `, "dry_run": true`, http.StatusUnprocessableEntity, `"code":"key_reused"`},
	} {
		s.stop()
		db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, "koinos.db"))
		if err != nil {
			t.Fatal(err)
		}
		_, err = db.Exec(`DELETE FROM requests`)
		if err := errors.Join(err, db.Close()); err != nil {
			t.Fatal(err)
		}
		s = start(t, data, "serve")
		if status, answer := ask(c.sha, c.more); status != c.status || !strings.Contains(answer, c.says) {
			t.Errorf("%s: %d %s", name, status, answer)
		}
	}
}
