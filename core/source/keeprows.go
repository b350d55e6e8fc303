package source

import (
	"archive/zip"
	"bufio"
	"bytes"
	"io"
	"regexp"
	"slices"
	"strconv"

	"koinos/core/finding"
	"koinos/core/origin"
)

var calcChain = regexp.MustCompile(`<(?:\w+:)?(?:Override|Relationship)\s[^>]*calcChain[^>]*?(?:/>|></(?:\w+:)?(?:Override|Relationship)>)`)

// KeepRows writes a workbook again with only those rows of its sheets that
// keep lets through; they close up. It gives, for each sheet by name, which row
// each row of the copy was: rows[0] is row 1's. keep is asked of every row in
// turn, up to the sheet's last. Styles, widths, merged cells and hyperlinks
// stay; formulas, which point at rows that may be gone, become the values that
// they last had. Only the row numbers are held in memory.
func KeepRows(w io.Writer, r io.ReaderAt, size int64, limits Limits,
	keep func(sheet string, row int) (bool, error)) (rows map[string][]int, err error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, finding.Fatal(finding.DocumentBroken, origin.Place{},
			"The workbook's archive is damaged or cut short (%v).", err)
	}
	b, err := readBook(z, limits)
	if err != nil {
		return nil, err
	}
	names := map[*zip.File]string{}
	for _, s := range b.sheets {
		names[s.part] = s.name
	}
	rows = map[string][]int{}
	out := zip.NewWriter(w)
	for _, f := range z.File {
		lower := bytes.ToLower([]byte(f.Name))
		if bytes.HasSuffix(lower, []byte("calcchain.xml")) {
			continue // the order in which formulas are computed: there are none any more
		}
		to, err := out.CreateHeader(&zip.FileHeader{Name: f.Name, Method: zip.Deflate, Modified: f.Modified})
		if err != nil {
			return nil, err
		}
		part, err := b.open(f)
		if err != nil {
			return nil, b.broken(err, "The workbook", origin.Place{})
		}
		name, isSheet := names[f]
		switch {
		case isSheet:
			rows[name], err = keepRows(to, part, name, keep)
		case bytes.HasSuffix(lower, []byte(".rels")) || string(lower) == "[content_types].xml":
			var text []byte
			if text, err = io.ReadAll(part); err == nil {
				_, err = to.Write(calcChain.ReplaceAll(text, nil))
			}
		default:
			_, err = io.Copy(to, part)
		}
		part.Close()
		if err != nil {
			return nil, b.broken(err, "The workbook", origin.Place{Sheet: name})
		}
	}
	return rows, out.Close()
}

// mostSheetRows is the last row that ECMA-376 knows.
const mostSheetRows = 1 << 20

func keepRows(w io.Writer, part io.Reader, sheet string, keep func(string, int) (bool, error)) (kept []int, err error) {
	x, out := newXMLScanner(part), bufio.NewWriter(w)
	out.WriteString(`<?xml version="1.0" encoding="UTF-8" standalone="yes"?>`) // its error comes back from Flush
	// row of the original, and its number in the copy
	row, now := 0, []byte(nil)
	skip := ""      // name of the element that is left out
	inside := false // of sheetData
	for {
		t, err := x.next(true)
		if err == io.EOF {
			return kept, out.Flush()
		}
		if err != nil {
			return nil, err
		}
		name := string(t.name)
		if skip != "" {
			if !t.open && name == skip {
				skip = ""
			}
			continue
		}
		body := x.body
		switch {
		case name == "sheetData":
			inside = t.open && !t.close
		case inside && name == "row" && t.open:
			next := number(t.attr("r"), row+1)
			if next > mostSheetRows {
				return nil, tooLarge(origin.Place{Sheet: sheet, Row: next},
					"The sheet %s has a row %d; %d is the last that a sheet can have.", sheet, next, mostSheetRows)
			}
			if next <= row { // rows stand in their order; one that does not is nobody's
				if !t.close {
					skip = "row"
				}
				continue
			}
			for ; row < next; row++ {
				ok, err := keep(sheet, row+1)
				if err != nil {
					return nil, err
				}
				if ok {
					kept = append(kept, row+1)
				}
			}
			if n := len(kept); n == 0 || kept[n-1] != row {
				if !t.close {
					skip = "row"
				}
				continue
			}
			now = strconv.AppendInt(now[:0], int64(len(kept)), 10)
			body = withAttr(body, t.attr("r"), now)
		case inside && name == "c" && t.open:
			if ref := t.attr("r"); ref != nil {
				body = withAttr(body, ref, append(bytes.TrimRight(slices.Clone(ref), "0123456789"), now...))
			}
		case inside && name == "f" && t.open:
			if !t.close {
				skip = "f"
			}
			continue
		case (name == "mergeCell" || name == "hyperlink") && t.open:
			ref, ok := movedRef(string(t.attr("ref")), kept)
			if !ok {
				if !t.close {
					skip = name
				}
				continue
			}
			body = withAttr(body, t.attr("ref"), []byte(ref))
		}
		out.Write(x.text)
		out.WriteByte('<')
		out.Write(body)
		out.WriteByte('>')
	}
}

// withAttr gives the tag with an attribute's value exchanged; value is a part of body.
func withAttr(body, value, by []byte) []byte {
	if value == nil {
		return body
	}
	at := cap(body) - cap(value)
	return slices.Concat(body[:at], by, body[at+len(value):])
}

// movedRef is where a range of cells stands when only the rows kept are left;
// false where none of its rows is.
func movedRef(ref string, kept []int) (string, bool) {
	first, last, span := bytes.Cut([]byte(ref), []byte(":"))
	if !span {
		last = first
	}
	column := func(b []byte) string { return string(bytes.TrimRight(b, "0123456789")) }
	row := func(b []byte) int { n, _ := strconv.Atoi(string(b[len(column(b)):])); return n }
	from, _ := slices.BinarySearch(kept, row(first))
	to, found := slices.BinarySearch(kept, row(last))
	if found {
		to++
	}
	if from >= to || row(first) == 0 {
		return "", false
	}
	moved := column(first) + strconv.Itoa(from+1)
	if span {
		moved += ":" + column(last) + strconv.Itoa(to)
	}
	return moved, true
}
