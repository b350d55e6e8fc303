package source

import "testing"

// A number that stands for a code reads as the sheet shows it; one that is a quantity does not.
func TestCodeFormats(t *testing.T) {
	for _, c := range []struct {
		format, value, text string
		kind                Kind
	}{
		{`000-000`, "123456", "123-456", Text}, {`000\-000`, "7", "000-007", Text},
		{`000-000`, "1234567", "1234-567", Text},
		{`"PO-"00000`, "417", "PO-00417", Text}, {`"№ 0"000`, "12", "№ 0012", Text}, {`"PO-"0`, "417", "PO-417", Text},
		{`(000) 000-00`, "12345678", "(123) 456-78", Text},
		{`00000`, "417", "00417", Text}, {`00000`, "123456", "123456", Number}, {`\A\000`, "7", "A007", Text},
		{`000-000`, "1.5", "1.5", Number}, {`000-000`, "-12", "-12", Number},
		{`0`, "5", "5", Number}, {`0.00`, "5", "5", Number}, {`0" kg"`, "5", "5", Number}, {`"€ "0`, "5", "5", Number},
		{`"EUR "0.00`, "5", "5", Number},
		{`€0`, "5", "5", Number}, {`#,##0.00`, "1234.5", "1234.5", Number}, {`# ?/?`, "0.5", "0.5", Number},
		{`0%`, "0.25", "25%", Number},
		{`0;-0`, "5", "5", Number}, {`General`, "5", "5", Number}, {`yyyy\-mm\-dd`, "46083", "2026-03-02", Day},
	} {
		if got := parseFormat(c.format).show(c.value, false); got.Text != c.text || got.Kind != c.kind {
			t.Errorf("%s shows %s as %q (%d), want %q (%d)", c.format, c.value, got.Text, got.Kind, c.text, c.kind)
		}
	}
}
