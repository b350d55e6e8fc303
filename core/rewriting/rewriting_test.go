package rewriting

import (
	"bytes"
	"fmt"
	"io"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"koinos/core/workbook/workbooktest"
)

const most = 1 << 30 // bytes that a workbook of the tests may unpack to

// How cells come into sheets as other programs write them: with prefixes, without places, with rows left out.
func TestRewriteRows(t *testing.T) {
	put := func(row, column int) map[int][]Cell {
		return map[int][]Cell{row: {{Column: column, Put: true, Text: `a<b & "c"`}}}
	}
	const is = `<is><t xml:space="preserve">a&lt;b &amp; &quot;c&quot;</t></is>`
	for _, c := range []struct {
		name, sheet, want string
		cells             map[int][]Cell
		drop              int
		widths            map[int]float64
	}{
		{name: "behind the last cell", cells: put(1, 3),
			sheet: `<worksheet><dimension ref="A1:B1"/><sheetData><row r="1" spans="1:2" ht="20"><c r="A1"><v>` +
				`1</v></c><c r="B1" s="1"><f>A1</f><v>2</v></c></row></sheetData></worksheet>`,
			want: `<worksheet><sheetData><row r="1" ht="20"><c r="A1"><v>1</v></c><c r="B1" s="1"><f>A1</f><v>` +
				`2</v></c><c r="C1" s="8" t="inlineStr">` + is + `</c></row></sheetData></worksheet>`},
		{name: "in the place of a cell", cells: put(1, 1),
			sheet: `<worksheet><sheetData><row r="1"><c r="A1" t="str"><f>B1</f><v>x</v></c><c r="B1"/></row></sheetData></worksheet>`,
			want: `<worksheet><sheetData><row r="1"><c r="A1" s="8" t="inlineStr">` + is +
				`</c><c r="B1"/></row></sheetData></worksheet>`},
		{name: "cells without places", cells: put(1, 2),
			sheet: `<worksheet><sheetData><row><c><v>1</v></c><c/><c><v>3</v></c></row></sheetData></worksheet>`,
			want: `<worksheet><sheetData><row><c r="A1"><v>1</v></c><c r="B1" s="8" t="inlineStr">` + is +
				`</c><c r="C1"><v>3</v></c></row></sheetData></worksheet>`},
		{name: "an empty row", cells: put(1, 1),
			sheet: `<worksheet><sheetData><row r="1" s="2" customFormat="1"/></sheetData></worksheet>`,
			want: `<worksheet><sheetData><row r="1" s="2" customFormat="1"><c r="A1" s="8" t="inlineStr">` + is +
				`</c></row></sheetData></worksheet>`},
		{name: "a row that is left out", cells: put(2, 1),
			sheet: `<worksheet><sheetData><row r="1"/><row r="3"/></sheetData></worksheet>`,
			want: `<worksheet><sheetData><row r="1"/><row r="2"><c r="A2" s="8" t="inlineStr">` + is +
				`</c></row><row r="3"/></sheetData></worksheet>`},
		{name: "a prefix", cells: put(1, 2),
			sheet: `<x:worksheet xmlns:x="y"><x:sheetData><x:row r="1"><x:c r="A1"/></x:row></x:sheetData></x:worksheet>`,
			want: `<x:worksheet xmlns:x="y"><x:sheetData><x:row r="1"><x:c r="A1"/><x:c r="B1" s="8" ` +
				`t="inlineStr"><x:is><x:t xml:space="preserve">a&lt;b &amp; &quot;c&quot;</x:t></x:is></x:c>` +
				`</x:row></x:sheetData></x:worksheet>`},
		{name: "a background", cells: map[int][]Cell{1: {{Column: 1, Fill: "F6C9C2"}, {Column: 2, Fill: "F6C9C2"},
			{Column: 3, Fill: "F6C9C2"}}},
			sheet: `<worksheet><cols><col min="3" max="9" style="3"/></cols><sheetData><row r="1"><c r="A1" ` +
				`s="1" t="s"><v>0</v></c><c r="B1" s="99"/></row></sheetData></worksheet>`,
			want: `<worksheet><cols><col min="3" max="9" style="3"/></cols><sheetData><row r="1"><c r="A1" ` +
				`s="8" t="s"><v>0</v></c><c r="B1" s="9"/><c r="C1" s="10"/></row></sheetData></worksheet>`},
		{name: "widths", widths: map[int]float64{4: 16, 12: 70},
			sheet: `<worksheet><cols><col min="1" max="2" width="9"/><col min="3" max="6" width="8" style="2">` +
				`</col></cols><sheetData/></worksheet>`,
			want: `<worksheet><cols><col min="1" max="2" width="9"/><col min="3" max="3" width="8" style="2"/>` +
				`<col min="4" max="4" width="16" customWidth="1"/><col min="5" max="6" width="8" style="2"/><col ` +
				`min="12" max="12" width="70" customWidth="1"/></cols><sheetData/></worksheet>`},
		{name: "a comment, in front of the tables", cells: map[int][]Cell{1: {{Column: 1, Note: "look"}}},
			sheet: `<worksheet><sheetData><row r="1"><c r="A1"/></row></sheetData><pageMargins left="1"/>` +
				`<tableParts count="0"/></worksheet>`,
			want: `<worksheet><sheetData><row r="1"><c r="A1"/></row></sheetData><pageMargins left="1"/>` +
				`<legacyDrawing ` +
				`xmlns:koinos="http://schemas.openxmlformats.org/officeDocument/2006/relationships" ` +
				`koinos:id="rIdKoinosDrawing"/><tableParts count="0"/></worksheet>`},
		{name: "a row is dropped", cells: put(3, 1), drop: 2,
			sheet: `<worksheet><sheetData><row r="1"><c r="A1"/></row><row r="2"><c r="A2"/></row><row r="3"><c ` +
				`r="B3"><f>B2</f><v>1</v></c></row></sheetData><mergeCells><mergeCell ref="A2:B3"/></mergeCells>` +
				`</worksheet>`,
			want: `<worksheet><sheetData><row r="1"><c r="A1"/></row><row r="2"><c r="A2" s="8" t="inlineStr">` + is +
				`</c><c r="B2"><v>1</v></c></row></sheetData><mergeCells><mergeCell ref="A2:B2"/></mergeCells></worksheet>`},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := workbooktest.Pack(t, map[string]string{"xl/worksheets/s1.xml": c.sheet,
				"[Content_Types].xml": `<Types></Types>`})
			var out bytes.Buffer
			err := Rewrite(&out, bytes.NewReader(b), int64(len(b)), most, Changes{
				Rows:   func(sheet string) bool { return sheet == "Orders" },
				Widths: func(string) map[int]float64 { return c.widths }, Values: c.drop > 0,
				Row: func(_ string, row int) (Row, error) {
					return Row{Drop: row == c.drop, Cells: c.cells[row]}, nil
				}})
			if err != nil {
				t.Fatal(err)
			}
			got := strings.TrimPrefix(workbooktest.Parts(t, out.Bytes())["xl/worksheets/s1.xml"],
				`<?xml version="1.0" encoding="UTF-8" standalone="yes"?>`)
			if got != c.want {
				t.Errorf("\n%s\nwant\n%s", got, c.want)
			}
		})
	}
}

// Comments are added to those that are there, with their formatting; what moves takes its comment and shape along.
func TestRewriteComments(t *testing.T) {
	parts := map[string]string{
		"xl/worksheets/s1.xml": `<worksheet xmlns:r="u"><sheetData><row r="1"><c r="A1"/></row><row r="2"><c ` +
			`r="A2"/></row><row r="3"><c r="A3"/></row></sheetData><legacyDrawing r:id="d1"/></worksheet>`,
		"xl/worksheets/_rels/s1.xml.rels": `<Relationships><Relationship Id="c1" Type="http://x/comments" Target="../comments1.xml"/>` +
			`<Relationship Id="d1" Type="http://x/vmlDrawing" Target="../drawings/v1.vml"/></Relationships>`,
		"xl/comments1.xml": `<comments><authors><author>Ostrand</author></authors><commentList>` +
			`<comment ref="A1" authorId="0"><text><r><rPr><b/></rPr><t>bold</t></r></text></comment>` +
			`<comment ref="A2" authorId="0"><text><t>gone</t></text></comment>` +
			`<comment ref="A3" authorId="0" uid="7"><text><t>Call first.</t></text></comment></commentList></comments>`,
		"xl/drawings/v1.vml": `<xml><v:shape id="1"><x:ClientData ObjectType="Note"><x:Anchor>1, 15, 0, 10, 3, ` +
			`31, 4, 9</x:Anchor><x:Row>0</x:Row><x:Column>0</x:Column></x:ClientData></v:shape>` +
			`<v:shape id="2"><x:ClientData ObjectType="Note"><x:Anchor>1, 15, 1, 10, 3, 31, 5, 9</x:Anchor>` +
			`<x:Row>1</x:Row><x:Column>0</x:Column></x:ClientData></v:shape>` +
			`<v:shape id="3"><x:ClientData ObjectType="Note"><x:Anchor>1, 15, 2, 10, 3, 31, 6, 9</x:Anchor>` +
			`<x:Row>2</x:Row><x:Column>0</x:Column></x:ClientData></v:shape>` +
			`<v:shape id="4"><x:ClientData ObjectType="Button"><x:Row>1</x:Row></x:ClientData></v:shape></xml>`,
		"[Content_Types].xml": `<Types><Default Extension="vml" ContentType="v"/></Types>`,
	}
	b := workbooktest.Pack(t, parts)
	var out bytes.Buffer
	if err := Rewrite(&out, bytes.NewReader(b), int64(len(b)), most, Changes{Values: true,
		Rows: func(sheet string) bool { return sheet == "Orders" },
		Row: func(_ string, row int) (Row, error) {
			return Row{Drop: row == 2, Cells: []Cell{{Column: 1, Note: fmt.Sprint("row ", row)},
				{Column: 3, Note: "C"}}}, nil
		}}); err != nil {
		t.Fatal(err)
	}
	got := workbooktest.Parts(t, out.Bytes())
	for name, want := range map[string]string{
		"xl/worksheets/s1.xml": `<worksheet xmlns:r="u"><sheetData><row r="1"><c r="A1"/><c r="C1" s="0"/></row>` +
			`<row r="2"><c r="A2"/><c r="C2" s="0"/></row></sheetData><legacyDrawing r:id="d1"/></worksheet>`,
		"xl/comments1.xml": `<comments><authors><author>Ostrand</author><author>Koinos</author></authors><commentList>` +
			`<comment ref="A1" authorId="0"><text><r><rPr><b/></rPr><t>bold</t></r>` + run("", "\nrow 1") +
			`</text></comment>` +
			`<comment ref="A2" authorId="0" uid="7"><text><r><t>Call first.</t></r>` + run("", "\nrow 3") +
			`</text></comment>` +
			`<comment ref="C1" authorId="1"><text>` + run("", "C") + `</text></comment>` +
			`<comment ref="C2" authorId="1"><text>` + run("", "C") + `</text></comment></commentList></comments>`,
		"xl/worksheets/_rels/s1.xml.rels": parts["xl/worksheets/_rels/s1.xml.rels"],
		"[Content_Types].xml":             parts["[Content_Types].xml"],
	} {
		if is := strings.TrimPrefix(got[name], `<?xml version="1.0" encoding="UTF-8" standalone="yes"?>`); is != want {
			t.Errorf("%s\n%s\nwant\n%s", name, is, want)
		}
	}
	var shapes []string
	for _, s := range aShape.FindAllString(got["xl/drawings/v1.vml"], -1) {
		at := anchor.FindStringSubmatch(s)
		if at == nil {
			at = []string{"", "", "-", ""}
		}
		shapes = append(shapes, strings.TrimSpace(at[2])+" row "+
			strings.TrimSuffix(strings.SplitAfter(s, "<x:Row>")[1], "</x:Column></x:ClientData></v:shape>"))
	}
	want := []string{"1, 15, 0, 10, 3, 31, 4, 9 row 0</x:Row><x:Column>0",
		"1, 15, 1, 10, 3, 31, 5, 9 row 1</x:Row><x:Column>0",
		"- row 1</x:Row></x:ClientData></v:shape>", "3, 15, 0, 10, 7, 31, 3, 9 row 0</x:Row><x:Column>2",
		"3, 15, 0, 10, 7, 31, 3, 9 row 1</x:Row><x:Column>2"}
	if strings.Join(shapes, "\n") != strings.Join(want, "\n") {
		t.Errorf("shapes\n%s\nwant\n%s", strings.Join(shapes, "\n"), strings.Join(want, "\n"))
	}
}

// A sheet whose list of relationships is empty, in one tag, gets comments like any other.
func TestRewriteEmptyRelationships(t *testing.T) {
	b := workbooktest.Pack(t, map[string]string{
		"xl/worksheets/s1.xml":            `<worksheet><sheetData><row r="1"><c r="A1"/></row></sheetData></worksheet>`,
		"xl/worksheets/_rels/s1.xml.rels": `<Relationships xmlns="r"/>`,
		"[Content_Types].xml":             `<t:Types xmlns:t="t"/>`})
	var out bytes.Buffer
	if err := Rewrite(&out, bytes.NewReader(b), int64(len(b)), most, Changes{
		Rows: func(sheet string) bool { return sheet == "Orders" },
		Row: func(string, int) (Row, error) {
			return Row{Cells: []Cell{{Column: 1, Note: "look"}}}, nil
		}}); err != nil {
		t.Fatal(err)
	}
	got := workbooktest.Parts(t, out.Bytes())
	if want := `<Relationships xmlns="r">` + relationship("rIdKoinosComments", "comments",
		"/xl/koinos-comments-s1.xml") +
		relationship("rIdKoinosDrawing", "vmlDrawing", "/xl/drawings/koinos-s1.vml") +
		`</Relationships>`; got["xl/worksheets/_rels/s1.xml.rels"] != want {
		t.Errorf("%s\nwant\n%s", got["xl/worksheets/_rels/s1.xml.rels"], want)
	}
	if types := got["[Content_Types].xml"]; !strings.HasPrefix(types, `<t:Types xmlns:t="t"><Override `) ||
		!strings.HasSuffix(types, `</t:Types>`) {
		t.Error(types)
	}
}

// A workbook of many rows, each marked and commented upon, goes through in little memory.
func TestRewriteMemory(t *testing.T) {
	var rows strings.Builder
	const n = 30_000
	for i := 1; i <= n; i++ {
		fmt.Fprintf(&rows, `<x:row r="%d">`, i)
		for c := range 12 {
			fmt.Fprintf(&rows, `<x:c r="%c%d" t="inlineStr"><x:is><x:t>text %d</x:t></x:is></x:c>`, 'A'+c, i, i*c)
		}
		rows.WriteString(`</x:row>`)
	}
	b := workbooktest.Pack(t, workbooktest.Sheet(rows.String()))
	rows.Reset()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	before, peak, end := m.HeapAlloc, atomic.Uint64{}, make(chan struct{})
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		for {
			select {
			case <-end:
				return
			case <-time.After(20 * time.Millisecond):
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				peak.Store(max(peak.Load(), m.HeapAlloc))
			}
		}
	}()
	asked := 0
	err := Rewrite(io.Discard, bytes.NewReader(b), int64(len(b)), most, Changes{
		Row: func(_ string, row int) (Row, error) {
			asked++
			return Row{Cells: []Cell{{Column: 3, Fill: "F6C9C2", Note: "This is not what it should be."},
				{Column: 14, Put: true, Text: "refused", Look: Look{Bold: true}}}}, nil
		}})
	close(end)
	<-watched
	if err != nil || asked < n {
		t.Fatal(asked, err)
	}
	if most := uint64(16 << 20); peak.Load() > before+most {
		t.Errorf("it took %d MiB for a workbook of %d rows", (peak.Load()-before)>>20, n)
	}
}
