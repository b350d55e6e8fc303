package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"os"
	"strings"
	"syscall"
	"testing"

	_ "github.com/mattn/go-sqlite3"

	"koinos/api"
	"koinos/core/report"
)

// What people send by mistake is refused with a sentence that says what it is,
// and nothing of it is loaded.
func TestBadInput(t *testing.T) {
	s := start(t, t.TempDir(), "serve", "--max-body", "12", "--max-unpacked", "16", "--max-rows", "5000")
	mapping := file(t, "plain.yaml", []byte(csvMapping))
	good := manyOrders(2)
	var bomb bytes.Buffer
	w := zip.NewWriter(&bomb)
	for name, text := range map[string]string{
		"_rels/.rels":                `<Relationships><Relationship Id="r1" Type="http://x/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
		"xl/workbook.xml":            `<workbook xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="Orders" r:id="r1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="r1" Type="http://x/worksheet" Target="worksheets/s1.xml"/></Relationships>`,
		"xl/worksheets/s1.xml":       "<worksheet><sheetData>" + strings.Repeat(" ", 64<<20) + "<row><c><v>1</v></c></row></sheetData></worksheet>",
	} {
		f, err := w.Create(name)
		if err == nil {
			_, err = io.WriteString(f, text)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
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
		{"bomb.xlsx", bomb.Bytes(), 4, "unpacks to more than 16 MiB"},
		{"zeros.csv", make([]byte, 4096), 4, "full of NUL bytes"},
		{"large.csv", bytes.Repeat([]byte("x,y\n"), 4<<20), 4, "split the document"},
		{"long.csv", manyOrders(2_000), 4, "more than 5000 rows"},
		{"other.csv", []byte("Artikel;Menge\n1;2\n"), 4, "None of the first"},
		{"heading.csv", []byte("Order,Item,Qty,Price\n"), 4, "No row below the heading"},
		{"hugecell.csv", append(append([]byte{}, good...), "A-9,\""+strings.Repeat("x", 10<<20)+"\",1,9.50\n"...), 3, "is the most"},
	} {
		t.Run(c.name, func(t *testing.T) {
			before, _, _ := s.koinos("order", "list", "--output", "json")
			out, errOut, code := s.koinos("load", file(t, c.name, c.doc), "--mapping", mapping)
			if code != c.code || !strings.Contains(strings.Join(strings.Fields(out+errOut), " "), c.says) {
				t.Errorf("%d, want %d and %q:\n%s%s", code, c.code, c.says, out, errOut)
			}
			if after, _, _ := s.koinos("order", "list", "--output", "json"); c.code == 4 && after != before && c.name != "long.csv" {
				t.Error("something was loaded")
			}
		})
	}
	if out, errOut, code := s.koinos("load", file(t, "good.csv", good), "--mapping", file(t, "bad.yaml", []byte("koinos: mapping/1\nnmae: x\n"))); code != 4 || !strings.Contains(errOut, `Did you mean "name"?`) {
		t.Errorf("a mapping with mistakes: %d %s%s", code, out, errOut)
	}
	// The service is well after all that.
	if out, errOut, code := s.koinos("load", file(t, "good.csv", append(good, "A-7,1,1,1\n"...)), "--mapping", mapping); code != 0 {
		t.Errorf("%d %s%s", code, out, errOut)
	}
}

// A full disk stops a load with a sentence; what was accepted stays.
func TestFullDisk(t *testing.T) {
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
	last, err := s.api().WatchLoad(context.Background(), l.ID, func(report.Load) {})
	if err != nil {
		t.Fatal(err)
	}
	if last.Status != report.Paused || last.Orders >= 40_000 || !strings.Contains(last.Reason, "disk is full") {
		t.Errorf("on a full disk: %+v", last)
	}
	if _, err := s.api().SendDocument(context.Background(), "big.csv", bytes.NewReader(manyOrders(400_000))); err == nil {
		t.Error("a document was accepted that the disk cannot hold")
	} else if p, ok := err.(*api.Problem); !ok || p.Code != "storage_failed" {
		t.Errorf("a document on a full disk: %v", err)
	}
	if o, err := s.api().Order(context.Background(), 50); err != nil || len(o.Lines) != 3 {
		t.Errorf("what was loaded before: %v", err)
	}
	s.stop()
}
