package workbooktest

import (
	"archive/zip"
	"bytes"
	"io"
	"testing"
)

// Pack packs parts of a minimal workbook; those given replace or add to the usual ones.
func Pack(t testing.TB, parts map[string]string) []byte {
	t.Helper()
	all := map[string]string{
		"_rels/.rels": `<Relationships><Relationship Id="r1" Type="http://x/officeDocument" ` +
			`Target="xl/workbook.xml"/></Relationships>`,
		"xl/workbook.xml": `<workbook ` +
			`xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet ` +
			`name="Old" state="hidden" r:id="r2"/><sheet name="Orders" r:id="r1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="r1" Type="http://x/worksheet" ` +
			`Target="worksheets/s1.xml"/><Relationship Id="r2" Type="http://x/worksheet" ` +
			`Target="/xl/worksheets/s2.xml"/><Relationship Id="r3" Type="http://x/styles" Target="styles.xml"/>` +
			`<Relationship Id="r4" Type="http://x/sharedStrings" Target="shared.xml"/></Relationships>`,
		"xl/worksheets/s1.xml": `<worksheet><sheetData/></worksheet>`,
		"xl/worksheets/s2.xml": `<worksheet><sheetData><row><c t="inlineStr"><is><t>hidden</t></is></c>` +
			`</row></sheetData></worksheet>`,
		"xl/shared.xml": `<sst><si><t>plain</t></si><si><r><t>rich </t></r><r><t ` +
			`xml:space="preserve">text</t></r><rPh><t>no</t></rPh></si><si><t>a&amp;b &#228;_x000A_c</t></si></sst>`,
		"xl/styles.xml": `<styleSheet><numFmts><numFmt numFmtId="164" formatCode="00000"/><numFmt ` +
			`numFmtId="165" formatCode="[$-407]d. mmm yy;@"/><numFmt numFmtId="166" formatCode="0.00&quot; ` +
			`kg&quot;"/><numFmt numFmtId="167" formatCode="0.0%"/></numFmts><cellXfs><xf numFmtId="0"/><xf ` +
			`numFmtId="14"/><xf numFmtId="164"/><xf numFmtId="165"/><xf numFmtId="166"/><xf numFmtId="9"/><xf ` +
			`numFmtId="22"/><xf numFmtId="167"/></cellXfs></styleSheet>`,
	}
	for k, v := range parts {
		all[k] = v
	}
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for name, text := range all {
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
	return b.Bytes()
}

// Sheet is the sheet of a minimal workbook with such rows.
func Sheet(rows string) map[string]string {
	return map[string]string{"xl/worksheets/s1.xml": `<?xml version="1.0"?><!-- made > by hand --><x:worksheet ` +
		`xmlns:x="y"><x:sheetData>` + rows + `</x:sheetData></x:worksheet>`}
}

// Parts are the parts of a workbook by name.
func Parts(t testing.TB, b []byte) map[string]string {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	parts := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		if _, twice := parts[f.Name]; twice {
			t.Errorf("%s stands twice in the archive", f.Name)
		}
		parts[f.Name] = string(text)
	}
	return parts
}
