package load

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"koinos/core/intent"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/source"
	"koinos/core/writing"
)

var inGuide = regexp.MustCompile("(?s)```yaml example\n(.*?)```\n((?:```(?:csv|json|ndjson|x12|sheet " +
	"[^\n]*)\n.*?```\n)+)```orders\n(.*?)```\n")
var block = regexp.MustCompile("(?s)```(csv|json|ndjson|x12|sheet ([^\n]*))\n(.*?)```\n")

// Every example of the guide is run, and says what comes out.
func TestGuide(t *testing.T) {
	const file = "../docs/mapping.md"
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	count := 0
	now := inGuide.ReplaceAllStringFunc(string(text), func(all string) string {
		m := inGuide.FindStringSubmatch(all)
		count++
		out := runExample(t, m[1], m[2])
		if m[3] != out && !*update {
			t.Errorf("the example\n%s%sgives\n%s", m[1], m[2], out)
		}
		return "```yaml example\n" + m[1] + "```\n" + m[2] + "```orders\n" + out + "```\n"
	})
	if count < 20 || strings.Count(string(text), "yaml example") != count {
		t.Errorf("%d examples were found", count)
	}
	if *update {
		if err := os.WriteFile(file, []byte(now), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

func runExample(t *testing.T, text, blocks string) string {
	m, err := mapping.Parse([]byte("koinos: mapping/1\nname: example\n" + text))
	if err != nil {
		t.Fatalf("%s\n%v", text, err)
	}
	doc := []byte(nil)
	var book *excelize.File
	for _, b := range block.FindAllStringSubmatch(blocks, -1) {
		if b[2] == "" {
			doc = []byte(b[3])
			continue
		}
		if book == nil {
			book = excelize.NewFile()
			book.SetSheetName("Sheet1", b[2])
		} else if _, err := book.NewSheet(b[2]); err != nil {
			t.Fatal(err)
		}
		r := csv.NewReader(strings.NewReader(b[3]))
		r.FieldsPerRecord = -1
		rows, err := r.ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		for i, row := range rows {
			for j, cell := range row {
				if err := book.SetCellStr(b[2], fmt.Sprintf("%c%d", 'A'+j, i+1), cell); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	if book != nil {
		var buf bytes.Buffer
		if err := book.Write(&buf); err != nil {
			t.Fatal(err)
		}
		doc = buf.Bytes()
	}
	var out strings.Builder
	set := &list.Set{Lists: map[string]*list.List{}, Crosswalks: map[string]*list.Crosswalk{}}
	if _, err := Expected(context.Background(), &out, bytes.NewReader(doc), int64(len(doc)), m, set,
		source.DefaultLimits); err != nil {
		t.Errorf("%s\n%v", text, err)
	}
	onlyRead := strings.Contains(text, ":]") || m.Document.Positions != nil && strings.Contains(text, "label:")
	if m.Document.Set == "" && !onlyRead { // X12 is written by the exchange
		roundTrip(t, m, doc, set)
	}
	return out.String()
}

// ordersOf maps a document and returns its sound orders.
func ordersOf(t *testing.T, m *mapping.Mapping, doc []byte, set *list.Set) (orders []order.Order, refused string) {
	keep := func(d *intent.Intent) {
		if d.Refused() {
			refused += fmt.Sprint(d.Findings)
			return
		}
		orders = append(orders, d.Order)
	}
	if _, err := Try(context.Background(), bytes.NewReader(doc), int64(len(doc)), m, set, source.DefaultLimits, keep,
		nil); err != nil {
		t.Fatal(err)
	}
	return orders, refused
}

// What a mapping reads it writes, and reads again the same, in all the ways in
// which rows become orders.
func roundTrip(t *testing.T, m *mapping.Mapping, doc []byte, set *list.Set) {
	orders, _ := ordersOf(t, m, doc, set)
	if m.Group.By == "file" && len(orders) > 1 {
		orders = orders[:1]
	}
	var buf bytes.Buffer
	problems, err := writing.Write(&buf, m, orders, set)
	if err != nil {
		t.Errorf("%s\ncannot be written: %v", m.Text, err)
		return
	}
	var unsaid []string // what the mapping computes cannot be written without write
	for _, p := range problems {
		if !strings.Contains(p.Why, "no write") {
			t.Errorf("%s\n%+v", m.Text, p)
		}
		unsaid = append(unsaid, p.Field)
	}
	again, refused := ordersOf(t, m, buf.Bytes(), set)
	if len(unsaid) > 0 {
		return
	}
	if refused != "" || len(again) != len(orders) {
		t.Errorf("%s\nis written as\n%s\nwhich reads as %d orders, not %d %s", m.Text, buf.String(), len(again),
			len(orders), refused)
		return
	}
	for i := range orders {
		changes := slices.DeleteFunc(order.Diff(&orders[i], &again[i]), func(c order.Change) bool {
			return slices.ContainsFunc(m.Levels[mapping.InHeader], func(b mapping.Binding) bool { // it is only read
				return b.Field.Name == c.Field && b.Repeat != "" && b.From[0].Many()
			})
		})
		if len(changes) > 0 {
			t.Errorf("%s\nis written as\n%s\nwhich reads with %+v", m.Text, buf.String(), changes)
		}
	}
}
