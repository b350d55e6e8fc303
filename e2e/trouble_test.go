package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	_ "github.com/mattn/go-sqlite3"

	"github.com/xuri/excelize/v2"

	"koinos/api"
	"koinos/core/outcome"
	"koinos/core/workbook/workbooktest"
)

// What people send by mistake is refused with a sentence that says what it is,
// and nothing of it is loaded.
func TestBadInput(t *testing.T) {
	t.Parallel()
	s := start(t, t.TempDir(), "serve", "--max-body", "12", "--max-unpacked", "16", "--max-rows", "5000")
	mapping := file(t, "plain.yaml", []byte(csvMapping))
	good := manyOrders(2)
	bomb := workbooktest.Pack(t, map[string]string{"xl/worksheets/s1.xml": "<worksheet><sheetData>" + strings.Repeat(" ", 64<<20) +
		"<row><c><v>1</v></c></row></sheetData></worksheet>"})
	workbook, err := os.ReadFile("../demo/documents/ostrand-week-12.xlsx")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name string
		doc  []byte
		code int
		says string
	}{
		{"empty.csv", nil, 4, "no bytes at all"},
		{"invoice.pdf", []byte("%PDF-1.7\n"), 4, "This is a PDF"},
		{"page.xls", []byte("<html><table>"), 4, "a web page"},
		{"cut.xlsx", workbook[:len(workbook)/2], 4, "damaged or cut short"},
		{"bomb.xlsx", bomb, 4, "unpacks to more than 16 MiB"},
		{"zeros.csv", make([]byte, 4096), 4, "full of NUL bytes"},
		{"large.csv", bytes.Repeat([]byte("x,y\n"), 4<<20), 4, "split the document"},
		{"long.csv", manyOrders(2_000), 4, "more than 5000 rows"},
		{"other.csv", []byte("Artikel;Menge\n1;2\n"), 4, "None of the first"},
		{"heading.csv", []byte("Order,Item,Qty,Price\n"), 4, "No row below the heading"},
		{"hugecell.csv", append(append([]byte{}, good...), "A-9,\""+strings.Repeat("x", 10<<20)+"\",1,9.50\n"...), 3,
			"is the most"},
	} {
		t.Run(c.name, func(t *testing.T) {
			before, _, _ := s.koinos("order", "list", "--output", "json")
			out, errOut, code := s.koinos("load", file(t, c.name, c.doc), "--mapping", mapping)
			if code != c.code || !strings.Contains(strings.Join(strings.Fields(out+errOut), " "), c.says) {
				t.Errorf("%d, want %d and %q:\n%s%s", code, c.code, c.says, out, errOut)
			}
			if after, _, _ := s.koinos("order", "list", "--output", "json"); c.code == 4 && after != before &&
				c.name != "long.csv" {
				t.Error("something was loaded")
			}
		})
	}
	if out, errOut, code := s.koinos("load", file(t, "good.csv", good), "--mapping",
		file(t, "bad.yaml", []byte("koinos: mapping/1\nnmae: x\n"))); code != 4 ||
		!strings.Contains(errOut, `Did you mean "name"?`) {
		t.Errorf("a mapping with mistakes: %d %s%s", code, out, errOut)
	}
	// The service is well after all that.
	if out, errOut, code := s.koinos("load", file(t, "good.csv", append(good, "A-7,1,1,1\n"...)), "--mapping",
		mapping); code != 0 {
		t.Errorf("%d %s%s", code, out, errOut)
	}
}

// A full disk stops a load with a sentence; what was accepted stays.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	if err := syscall.Mount("tmpfs", data, "tmpfs", 0, "size=12m"); err != nil {
		t.Skipf("a small disk cannot be made here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(data, syscall.MNT_DETACH) })
	s := start(t, data, "serve")
	small := s.load(t, string(manyOrders(50)))
	if small.Load.Loaded != 50 {
		t.Fatalf("%+v", small.Load)
	}
	l := s.begin(manyOrders(40_000))
	last, err := s.api().WatchLoad(context.Background(), l.ID, func(outcome.Load) {})
	if err != nil {
		t.Fatal(err)
	}
	if last.Status != outcome.Paused || last.Orders >= 40_000 || !strings.Contains(last.Reason, "disk is full") {
		t.Errorf("on a full disk: %+v", last)
	}
	if _, err := s.api().SendDocument(context.Background(), "big.csv",
		bytes.NewReader(manyOrders(400_000))); err == nil {
		t.Error("a document was accepted that the disk cannot hold")
	} else if p, ok := err.(*api.Problem); !ok || p.Code != "storage_failed" {
		t.Errorf("a document on a full disk: %v", err)
	}
	if res, text := s.do("GET", "/readyz", ""); res.StatusCode != 503 ||
		text != "the disk is full or cannot be written\n" {
		t.Errorf("ready on a full disk: %s %s", res.Status, text)
	}
	if o, err := s.api().Order(context.Background(), 50); err != nil || len(o.Lines) != 3 {
		t.Errorf("what was loaded before: %v", err)
	}
	// There is room again: the load goes on to its end, and every order is whole.
	if err := syscall.Mount("tmpfs", data, "tmpfs", syscall.MS_REMOUNT, "size=512m"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.api().ActOnLoad(context.Background(), l.ID, "resume"); err != nil &&
		!strings.Contains(err.Error(), "Only a paused load") {
		t.Fatal(err) // one that could not even note its pause goes on by itself
	}
	last, err = s.api().WatchLoad(context.Background(), l.ID, func(outcome.Load) {})
	if err != nil || last.Status != outcome.Done || last.Loaded != 40_000-50 || last.Unchanged != 50 {
		t.Errorf("with room again: %+v %v", last, err)
	}
	if res, text := s.do("GET", "/readyz", ""); res.StatusCode != 200 {
		t.Errorf("it does not say that it is well: %s %s", res.Status, text)
	}
	s.stop()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, "koinos.db")+"?mode=ro")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var orders, halves int
	err = db.QueryRow(`SELECT count(*), count(CASE WHEN line_count <> 3 OR (SELECT count(*) FROM lines WHERE `+
		`order_id = orders.id) <> 3 THEN 1 END) FROM orders`).Scan(&orders, &halves)
	if err != nil || orders != 40_000 || halves != 0 {
		t.Errorf("%d orders, %d of them not whole, %v", orders, halves, err)
	}
}

// A workbook of a program that writes no styles loads, and its marked copy
// opens, with what was found at its cells.
func TestWorkbookWithoutStyles(t *testing.T) {
	s := start(t, t.TempDir(), "serve")
	doc, err := os.ReadFile("testdata/no-styles.xlsx")
	if err != nil {
		t.Fatal(err)
	}
	// zero
	mapping := strings.Replace(csvMapping, "{from: Qty, need: must}",
		"{from: Price, need: must, expr: 'num(value) - 9.5'}", 1)
	rep := s.loadAs(t, "no-styles.xlsx", string(doc), mapping)
	if rep.Load.Orders != 2 || rep.Load.Loaded != 2 || rep.Load.Warnings != 2 {
		t.Errorf("%+v", rep.Load.Counts)
	}
	_, copied := s.do("GET", fmt.Sprintf("/api/v1/loads/%d/report?format=marked", rep.Load.ID), "")
	book, err := excelize.OpenReader(strings.NewReader(copied))
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	rows, err := book.GetRows(book.GetSheetName(0))
	if err != nil {
		t.Fatal(err)
	}
	const says = "Warning: The quantity is zero. Leave the line out if nothing is wanted."
	want := [][]string{{"Order", "Date", "Item", "Qty", "Price", "Koinos outcome", "Koinos order", "Koinos message"},
		{"A-1", "2026-03-02", "00113x", "2", "9.5", "loaded", "SO-000001", says},
		{"A-2", "2026-03-02", "x99", "2", "9.5", "loaded", "SO-000002", says}}
	if !slices.EqualFunc(rows, want, slices.Equal) {
		t.Errorf("%q", rows)
	}
}
