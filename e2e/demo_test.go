package e2e

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/demo"
)

// The demo loads its documents with the results that are written down, and
// every command works on them as its help says.
func TestDemo(t *testing.T) {
	t.Parallel()
	s := start(t, t.TempDir(), "demo")
	for i, step := range demo.Steps {
		checkExpected(t, s, int64(i+1), step.Document)
		if !strings.Contains(s.said, step.Document) {
			t.Errorf("the demo does not name %s:\n%s", step.Document, s.said)
		}
	}
	examples := filepath.Join(s.data, "examples")
	ostrand, kestle := filepath.Join(examples, "ostrand-week-12.xlsx"),
		filepath.Join(examples, "kestle-confirmations.csv")
	for _, c := range []struct {
		args string
		code int
		says []string
	}{
		{"inspect " + ostrand, 0, []string{"workbook", "heading in row 4", "Article", "code", "Phone list"}},
		{"inspect " + kestle, 0, []string{"windows-1252", "semicolon", "heading in row 4"}},
		{"mapping check ../demo/mappings/ostrand-weekly.yaml", 0, []string{"sound"}},
		{"mapping check ../demo/mappings/ostrand-weekly.yaml --document " + ostrand + " --lists ../demo/lists", 3,
			[]string{"14 orders", "12 ready", "2 refused", "00407"}},
		{"mapping check ../demo/mappings/ostrand-weekly.yaml --document " + ostrand, 4, nil},
		{"mapping list", 0, []string{"saltry-orders", "Weekly order sheet"}},
		{"mapping show saltry-orders", 0, []string{"koinos: mapping/1"}},
		{"load " + ostrand + " --mapping ostrand-weekly", 3, []string{"12 unchanged", "2 refused",
			"Nearest in the list: 00407"}},
		{"load " + kestle + " -m ../demo/mappings/kestle-open-orders.yaml --dry-run", 3,
			[]string{"unchanged", "did not"}[:1]},
		{"load " + filepath.Join(examples, "saltry-march.csv") + " -m saltry-orders --all-or-none", 0,
			[]string{"25 unchanged"}},
		{"load list", 0, []string{"ostrand-week-12.xlsx", "dry run"}},
		{"load show 5", 0, []string{"15 refused", "What keeps orders out"}},
		{"load show 5 --code unknown_code", 0, []string{"0O513"}},
		{"load show 99", 1, nil},
		{"load report 5 --format csv", 0, []string{"code,severity,place", "unknown_code"}},
		{"order list --load 4", 0, []string{"EBBING", "EB-7701", "PO-0000"}},
		{"order list --text OB-26-12", 0, []string{"OB-26-120"}},
		{"order show SO-000326", 0, []string{"OB-26-120", "'Orders week 12'!A5", "created by local"}},
		{"order show SO-9", 1, nil},
		{"list show", 0, []string{"items", "113"}},
		{"list show items --limit 5", 0, []string{"00101", "Braided rope"}},
		{"crosswalk show ostrand-yards", 0, []string{"East yard", "0040"}},
		{"list import yards ../demo/lists/locations.csv", 0, []string{"4 rows"}},
		{"list import yards ../demo/mappings/saltry-orders.yaml", 4, nil},
		{"token list", 0, []string{"None."}},
		{"x12 show ../demo/documents/pellow-orders.edi", 0, []string{"Set 0001: 850 Purchase Order",
			"02 Purchase Order Type Code SA = Stand-alone Order", "05 Amount 1850 = 18.50", "✕ ST 0002 / BEG / 05"}},
		{"x12 check ../demo/documents/pellow-orders.edi", 4, []string{"ST 0002 / PO1 #2 / 02 element 6"}},
		{"x12 acknowledge ../demo/documents/pellow-orders.edi --control 1 --group 1", 0,
			[]string{"TA1*000000905*260314*0930*A*000~", "AK9*E*2*2*2~"}},
		{"x12 acknowledge ../demo/documents/pellow-orders.edi", 2, nil},
		{"findings fix 5", 0, []string{"kestle-units:pcs="}}, {"today", 0,
			[]string{"Orders that need attention how many why which 220 orders the day of delivery is past, and nothing has moved " +
				"koinos order list --overdue", "saltry-season.csv"}},
		{"sequence show 1", 0, []string{"purchase", "sale", "sequence run --from-run 1"}},
		{"sequence list", 0, []string{"drop-ship"}}, {"load undo 4 --dry-run", 0,
			[]string{"9 orders would be removed"}},
		{"exit-codes", 0, []string{"some orders were refused"}},
		{"load", 2, nil}, {"load x.csv", 2, nil}, {"order list --limit 0", 2, nil},
		{"load " + kestle + " -m kestle-open-orders --dry-run --orders --output json", 2, nil}, {"lod", 2, nil},
		{"load show many", 2, nil},
		{"order list --kind", 2, nil}, {"--output xml load list", 2, nil},
		{"load no-such-file.csv -m saltry-orders", 4, nil},
		{"load " + kestle + " -m no-such-mapping", 1, nil},
		{"demo --listen 127.0.0.1:0 --data " + s.data, 4, nil}, // it would fill it once more
		{"completion bash", 0, []string{"__start_koinos"}},
	} {
		out, errOut, code := s.koinos(strings.Fields(c.args)...)
		if code != c.code || code != 0 && out+errOut == "" {
			t.Errorf("koinos %s ends with %d, want %d\n%s%s", c.args, code, c.code, out, errOut)
		}
		for _, want := range c.says {
			if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
				t.Errorf("koinos %s does not say %q:\n%s%s", c.args, want, out, errOut)
			}
		}
		if strings.Contains(out, "\x1b[") {
			t.Errorf("koinos %s writes colours into a pipe", c.args)
		}
	}
	for _, args := range []string{"load list", "load show 5", "order list", "order show SO-000326",
		"inspect " + ostrand, "list show", "token list", "mapping list"} {
		out, _, _ := s.koinos(append(strings.Fields(args), "--output", "json")...)
		if !json.Valid([]byte(out)) {
			t.Errorf("koinos %s --output json gives no JSON:\n%.300s", args, out)
		}
	}
	if _, errOut, code := koinos(t, []string{"KOINOS_ADDRESS=http://127.0.0.1:1"}, "load", "list"); code != 5 ||
		!strings.Contains(errOut, "no service answers") {
		t.Errorf("service away: %d %s", code, errOut)
	}
	checkPlaces(t, s)
	checkMarked(t, s)
	checkOrders(t, s)
}

// checkPlaces follows every value of every loaded order to the cell that it is
// said to come from, and compares.
func checkPlaces(t *testing.T, s *service) {
	ctx := context.Background()
	cells := map[string]map[int][]string{} // by document, by row
	followed := 0
	for id := int64(1); id <= 355; id++ {
		o, err := s.api().Order(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		if cells[o.Document] == nil {
			cells[o.Document] = map[int][]string{}
			for from := 1; ; from += 1000 {
				var page api.Rows
				_, body := s.do("GET", fmt.Sprintf("/api/v1/documents/%s/rows?limit=1000&from=%d&sheet=%s", o.Document,
					from, url.QueryEscape(sheetOf(o))), "")
				if err := json.Unmarshal([]byte(body), &page); err != nil {
					t.Fatal(err)
				}
				for _, r := range page.Rows {
					cells[o.Document][r.Row] = r.Cells
				}
				if !page.More {
					break
				}
			}
		}
		crossed := map[string]bool{"ship_to.code": true, "unit": true} // a crosswalk makes them ours
		places := map[string]origin.Place{}
		for _, p := range o.Places {
			places[fmt.Sprintf("%d %s", p.Line, p.Field)] = p.Place
		}
		o.Each(func(line int, field, value string) {
			at := places[fmt.Sprintf("%d %s", line, field)]
			if at.Row == 0 || crossed[field] || field == "item" && o.Partner == "EBBING" {
				return
			}
			followed++
			row := cells[o.Document][at.Row]
			if at.Column > len(row) || !means(row[at.Column-1], value) {
				t.Errorf("order %s: %s of line %d is %q, but its place %s holds %q", o.Number, field, line, value, at,
					row)
			}
		})
	}
	if followed < 8_000 {
		t.Errorf("only %d values were followed", followed)
	}
}

// sheetOf is the sheet that an order stands in.
func sheetOf(o *api.StoredOrder) string {
	if len(o.Places) == 0 {
		return ""
	}
	return o.Places[0].Place.Sheet
}

// means reports whether a cell's text is a way to write the value.
func means(cell, value string) bool {
	if cell == value || strings.Contains(cell, value) {
		return true
	}
	plain := strings.NewReplacer(",", ".", " ", "", "%", "").Replace(cell)
	if n, err := order.ParseNumber(plain); err == nil {
		if v, err := order.ParseNumber(value); err == nil {
			return n.Cmp(v) == 0
		}
	}
	var y, m, d int
	for _, form := range []string{"%d/%d/%d", "%d.%d.%d"} {
		if n, _ := fmt.Sscanf(cell, form, &d, &m, &y); n == 3 {
			return fmt.Sprintf("%04d-%02d-%02d", y, m, d) == value
		}
	}
	return false
}

func checkExpected(t *testing.T, s *service, id int64, document string) {
	t.Helper()
	rep, err := s.api().Load(context.Background(), id)
	if err != nil {
		t.Fatal(err)
	}
	l := rep.Load
	got := demo.Expected{Orders: l.Orders, Lines: l.Lines, Loaded: l.Loaded, Refused: l.Refused,
		Codes: map[string]int{}}
	for _, r := range rep.Reasons {
		got.Codes[string(r.Code)] += r.Count
	}
	if *update {
		b, err := json.MarshalIndent(got, "", "  ")
		if err == nil {
			err = os.WriteFile("../demo/expected/"+strings.TrimSuffix(document, filepath.Ext(document))+".json",
				append(b, '\n'), 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := demo.Expect(document)
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%s: %+v, want %+v", document, got, want)
	}
}

// checkMarked opens the marked-up copies as their readers would.
func checkMarked(t *testing.T, s *service) {
	to := filepath.Join(t.TempDir(), "marked.xlsx")
	if out, errOut, code := s.koinos("load", "report", "3", "--format", "marked", "--to", to); code != 0 {
		t.Fatalf("%d %s%s", code, out, errOut)
	}
	f, err := excelize.OpenFile(to)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	const sheet = "Orders week 12"
	for cell, want := range map[string]string{
		"A1": "Ostrand Boatyard – weekly order", "K4": "Koinos outcome", "L4": "Koinos order", "K5": "loaded",
		"L5": "SO-000326", "K29": "refused", "L29": "", "D29": "004O7",
		"M28": "Another row of this order keeps it out.",
	} {
		if got, err := f.GetCellValue(sheet, cell); err != nil || got != want {
			t.Errorf("%s is %q %v, want %q", cell, got, err, want)
		}
	}
	original, err := excelize.OpenFile(filepath.Join(s.data, "examples", "ostrand-week-12.xlsx"))
	if err != nil {
		t.Fatal(err)
	}
	defer original.Close()
	was, err := original.GetRows(sheet)
	if err != nil {
		t.Fatal(err)
	}
	is, err := f.GetRows(sheet)
	if err != nil {
		t.Fatal(err)
	}
	for i, row := range was {
		for j, want := range row {
			if is[i][j] != want {
				t.Errorf("the partner's %s%d was %q, is %q", origin.ColumnName(j+1), i+1, want, is[i][j])
			}
		}
	}
	if got, _ := f.GetCellFormula(sheet, "J57"); got != "SUM(J5:J56)" {
		t.Errorf("the partner's formula is %q", got)
	}
	if merged, _ := f.GetMergeCells(sheet); len(merged) < 10 {
		t.Errorf("%d merged ranges are left", len(merged))
	}
	if got, _ := f.GetCellValue("Phone list", "B1"); got != "0049 000 1234" {
		t.Errorf("another sheet holds %q", got)
	}
	comments, err := f.GetComments(sheet)
	if err != nil || len(comments) != 2 || comments[0].Cell != "D29" ||
		!strings.Contains(comments[0].Text+comments[0].Paragraph[0].Text, "00407") {
		t.Errorf("comments %+v %v", comments, err)
	}
	id, _ := f.GetCellStyle(sheet, "D29")
	style, err := f.GetStyle(id)
	if err != nil || len(style.Fill.Color) == 0 || style.CustomNumFmt == nil || *style.CustomNumFmt != "00000" {
		t.Errorf("the marked cell's style is %+v %v", style, err)
	}

	// A CSV whose cells would run as formulas.
	doc := "Order,Item,Qty,Price,Note\nA-1,=cmd|' /C calc'!A0,2,9.50,+49 123\nA-2,00417,-3,9.50,@x\n"
	rep := s.load(t, doc)
	var b bytes.Buffer
	if err := s.api().Report(context.Background(), rep.Load.ID, "marked", &b); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(b.Bytes(), []byte("\ufeff")))).ReadAll()
	if err != nil || len(rows) != 3 {
		t.Fatalf("%v %v", rows, err)
	}
	for i, want := range [][]string{
		{"Order", "Item", "Qty", "Price", "Note", "Koinos outcome", "Koinos order", "Koinos message"},
		{"A-1", "'=cmd|' /C calc'!A0", "2", "9.50", "'+49 123", "loaded"},
		{"A-2", "00417", "-3", "9.50", "'@x", "refused"},
	} {
		if got := rows[i][:len(want)]; !reflect.DeepEqual(got, want) {
			t.Errorf("row %d is %q, want %q", i+1, got, want)
		}
	}
	b.Reset()
	if err := s.api().Report(context.Background(), 5, "json", &b); err != nil {
		t.Fatal(err)
	}
	var full api.FullReport
	if err := json.Unmarshal(b.Bytes(), &full); err != nil || len(full.Orders) != full.Load.Orders ||
		len(full.Findings) != full.Load.Errors+full.Load.Warnings {
		t.Errorf("the JSON report holds %d orders, %d findings, %v", len(full.Orders), len(full.Findings), err)
	}
}

func (s *service) load(t *testing.T, doc string) api.LoadReport {
	t.Helper()
	l := s.begin([]byte(doc))
	ctx := context.Background()
	if _, err := s.api().WatchLoad(ctx, l.ID, func(outcome.Load) {}); err != nil {
		t.Fatal(err)
	}
	rep, err := s.api().Load(ctx, l.ID)
	if err != nil {
		t.Fatal(err)
	}
	return rep
}

// checkOrders pages through everything and finds every loaded order once.
func checkOrders(t *testing.T, s *service) {
	ctx, q := context.Background(), url.Values{"limit": {"70"}}
	seen := map[int64]api.OrderSummary{}
	for {
		page, err := s.api().Orders(ctx, q)
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range page.Items {
			seen[o.ID] = o
		}
		if page.Next == "" {
			break
		}
		q.Set("cursor", page.Next)
	}
	if len(seen) < 355 {
		t.Errorf("%d orders are listed", len(seen))
	}
	o, err := s.api().Order(ctx, 326)
	if err != nil || o.Total.String() != seen[326].Total || len(o.Lines) != seen[326].Lines ||
		o.Party("ship_to") == nil {
		t.Errorf("order 326: %+v %v", o, err)
	}
	found, err := s.api().Findings(ctx, 5, url.Values{"severity": {"warning"}})
	if err != nil || len(found.Items) != 2 || found.Items[0].Severity != finding.Warning {
		t.Errorf("warnings %+v %v", found, err)
	}
}
