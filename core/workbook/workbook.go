package workbook

import (
	"archive/zip"
	"errors"
	"io"
	"path"
	"strconv"
	"strings"

	"koinos/core/finding"
	"koinos/core/origin"
)

var errTooLong = errors.New("a tag or a text is longer than 8 MiB")

// Book is what must be known of a workbook before its rows.
type Book struct {
	Sheets   []Sheet
	Date1904 bool      // days are counted from 1904
	Strings  *zip.File // texts that cells share; nil is none
	Styles   *zip.File // nil is none
	Main     string    // name of the part that lists the sheets
	Unpacked int64     // bytes so far
	Most     int64     // bytes that it may unpack to; 0 is any number
}

// Sheet is a sheet with rows.
type Sheet struct {
	Name   string
	Hidden bool
	Part   *zip.File
}

var errUnpacked = errors.New("the workbook unpacks to more than the limit")

// Open reads a part, and counts what it unpacks to against the limit, because the sizes that an archive declares cannot
// be trusted.
func (b *Book) Open(f *zip.File) (io.ReadCloser, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	return &meter{r, b}, nil
}

type meter struct {
	io.ReadCloser
	b *Book
}

func (m *meter) Read(p []byte) (int, error) {
	n, err := m.ReadCloser.Read(p)
	m.b.Unpacked += int64(n)
	if m.b.Most > 0 && m.b.Unpacked > m.b.Most {
		return n, errUnpacked
	}
	return n, err
}

// Broken turns an error in a part into a finding.
func (b *Book) Broken(err error, what string, at origin.Place) error {
	var f *finding.Finding
	switch {
	case err == nil || err == io.EOF || errors.As(err, &f):
		return err
	case errors.Is(err, errUnpacked):
		return finding.Fatal(finding.DocumentTooLarge, at,
			"The workbook unpacks to more than %d MiB; it may be made to fill the disk.", b.Most>>20)
	}
	return finding.Fatal(finding.DocumentBroken, at, "%s is damaged or cut short (%v).", what, err)
}

// Relation is a link from one part to another.
type Relation struct {
	ID     string `xml:"Id,attr"`
	Type   string `xml:"Type,attr"`
	Target string `xml:"Target,attr"`
}

// Read reads the list of sheets, and where the parts stand that all of them share. The workbook may unpack to most
// bytes; 0 is any number.
func Read(z *zip.Reader, most int64) (*Book, error) {
	b := &Book{Most: most}
	parts := map[string]*zip.File{}
	for _, f := range z.File {
		parts[strings.ToLower(strings.TrimPrefix(f.Name, "/"))] = f
	}
	relations := func(of string) ([]Relation, error) {
		dir, file := path.Split(of)
		f := parts[strings.ToLower(dir+"_rels/"+file+".rels")]
		if f == nil {
			return nil, nil
		}
		r, err := b.Open(f)
		if err != nil {
			return nil, err
		}
		defer r.Close()
		var doc struct {
			Relations []Relation `xml:"Relationship"`
		}
		err = Decode(r, &doc)
		for i, rel := range doc.Relations {
			if !strings.HasPrefix(rel.Target, "/") {
				rel.Target = path.Join(dir, rel.Target)
			}
			doc.Relations[i].Target = strings.ToLower(strings.TrimPrefix(rel.Target, "/"))
		}
		return doc.Relations, err
	}
	top, err := relations("")
	if err != nil {
		return nil, b.Broken(err, "The workbook's table of contents", origin.Place{})
	}
	main := "xl/workbook.xml"
	for _, rel := range top {
		if strings.HasSuffix(rel.Type, "/officeDocument") {
			main = rel.Target
		}
	}
	if parts[main] == nil {
		return nil, finding.Fatal(finding.FormatUnknown, origin.Place{},
			"This is a ZIP archive, but no workbook (.xlsx or .ods).")
	}
	if strings.HasSuffix(main, ".bin") {
		return nil, finding.Fatal(finding.FormatUnknown, origin.Place{},
			"This is a binary workbook (.xlsb); save it as .xlsx.")
	}
	r, err := b.Open(parts[main])
	if err != nil {
		return nil, b.Broken(err, "The workbook", origin.Place{})
	}
	defer r.Close()
	var doc struct {
		Properties struct {
			Date1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
		Sheets []struct {
			Name  string `xml:"name,attr"`
			State string `xml:"state,attr"`
			ID    string `xml:"http://schemas.openxmlformats.org/officeDocument/2006/relationships id,attr"`
			ID2   string `xml:"http://purl.oclc.org/ooxml/officeDocument/relationships id,attr"`
		} `xml:"sheets>sheet"`
	}
	if err := Decode(r, &doc); err != nil {
		return nil, b.Broken(err, "The workbook", origin.Place{})
	}
	rels, err := relations(main)
	if err != nil {
		return nil, b.Broken(err, "The workbook's table of contents", origin.Place{})
	}
	byID := map[string]Relation{}
	for _, rel := range rels {
		byID[rel.ID] = rel
		switch {
		case strings.HasSuffix(rel.Type, "/sharedStrings"):
			b.Strings = parts[rel.Target]
		case strings.HasSuffix(rel.Type, "/styles"):
			b.Styles = parts[rel.Target]
		}
	}
	b.Main = main
	b.Date1904 = doc.Properties.Date1904 == "1" || doc.Properties.Date1904 == "true"
	for _, s := range doc.Sheets {
		rel := byID[s.ID+s.ID2]
		part := parts[rel.Target]
		if part == nil || !strings.HasSuffix(rel.Type, "/worksheet") {
			continue // a chart sheet has no rows
		}
		b.Sheets = append(b.Sheets, Sheet{s.Name, s.State == "hidden" || s.State == "veryHidden", part})
	}
	if len(b.Sheets) == 0 {
		return nil, finding.Fatal(finding.DocumentEmpty, origin.Place{}, "The workbook has no sheet with rows.")
	}
	return b, nil
}

// Number reads a number of a row, of a column, or of how many; otherwise is what is taken for one that cannot be.
func Number(b []byte, otherwise int) int {
	n, err := strconv.Atoi(string(b))
	if err != nil || n < 1 || n > 1<<24 { // sixteen times the rows of a sheet
		return otherwise
	}
	return n
}

// ColumnOf is the column of a reference such as C7, counted from 1; otherwise is what is taken for one without letters.
func ColumnOf(ref []byte, otherwise int) int {
	n := 0
	for _, c := range ref {
		if c < 'A' || c > 'Z' {
			break
		}
		n = n*26 + int(c-'A') + 1
		if n > 1<<20 {
			return n
		}
	}
	if n == 0 {
		return otherwise
	}
	return n
}
