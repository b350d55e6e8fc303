package drafting

import (
	"strings"
	"testing"

	"koinos/core/list"
	"koinos/core/source"
)

// A name of several words that is written as one says what it is, and stops nobody.
func TestDraftOfJoinedNames(t *testing.T) {
	for _, doc := range []string{
		`[{"orderNumber": "A-1", "lines": [{"sku": "00417", "quantity": 2, "priceAmount": 9.5}]}, ` +
			`{"orderNumber": "A-2", "lines": [{"sku": "00501", "quantity": 1, "priceAmount": 64.5}]}]`,
		`[{"id": "A-1", "netAmount": 19, "items": [{"code": "a", "qty": 2, "unitPriceValue": 9.5, "totalGross": 19}]}]`,
		`[{"AmountNet": 1, "Value": 2, "Gross": 3}]`,
	} {
		p, err := Draft(strings.NewReader(doc), int64(len(doc)),
			Hints{Name: "joined", Lists: &list.Set{}, Limits: source.DefaultLimits})
		if err != nil || p.Text == "" {
			t.Errorf("%s: %v", doc, err)
		}
		if strings.Contains(doc, "priceAmount") && !strings.Contains(p.Text, "priceAmount") {
			t.Errorf("priceAmount feeds nothing:\n%s", p.Text)
		}
	}
}
