package source

import (
	"archive/zip"
	"errors"
	"io"
	"path"
	"strings"

	"koinos/core/finding"
	"koinos/core/origin"
)

var errTooLong = errors.New("a tag or a text is longer than 8 MiB")

// book is what must be known of a workbook before its rows.
type book struct {
	sheets   []bookSheet
	date1904 bool
	strings  *zip.File
	styles   *zip.File
	limits   Limits
	main     string // name of the part that lists the sheets
	unpacked int64
}

type bookSheet struct {
	name   string
	hidden bool
	part   *zip.File
}

var errUnpacked = errors.New("the workbook unpacks to more than the limit")

// open reads a part, and counts what it unpacks to against the limit, because the sizes that an archive declares cannot
// be trusted.
func (b *book) open(f *zip.File) (io.ReadCloser, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	return &meter{r, b}, nil
}

type meter struct {
	io.ReadCloser
	b *book
}

func (m *meter) Read(p []byte) (int, error) {
	n, err := m.ReadCloser.Read(p)
	m.b.unpacked += int64(n)
	if m.b.limits.Unpacked > 0 && m.b.unpacked > m.b.limits.Unpacked {
		return n, errUnpacked
	}
	return n, err
}

// broken turns an error in a part into a finding.
func (b *book) broken(err error, what string, at origin.Place) error {
	var f *finding.Finding
	switch {
	case err == nil || err == io.EOF || errors.As(err, &f):
		return err
	case errors.Is(err, errUnpacked):
		return tooLarge(at, "The workbook unpacks to more than %d MiB; it may be made to fill the disk.",
			b.limits.Unpacked>>20)
	}
	return finding.Fatal(finding.DocumentBroken, at, "%s is damaged or cut short (%v).", what, err)
}

// tidy returns a cell of a workbook as it is read, and notes what cannot be used as it is. lost says that something was
// not a character; most is how long a cell may be.
func (r *Record) tidy(cell Cell, column int, lost string, most int) Cell {
	note := func(code finding.Code, format string, args ...any) {
		r.Findings = append(r.Findings, finding.New(code, r.Place(column), cell.Text, format, args...))
	}
	if lost != "" {
		note(finding.CharacterInvalid, "%s is no character: what stood there is lost.", lost)
	}
	if most > 0 && len(cell.Text) > most {
		note(finding.CellTooLong, "The cell has more than %d bytes.", most)
		cell.Text = finding.Clip(cell.Text, most-3)
	}
	if strings.IndexByte(cell.Text, 0) >= 0 {
		cell.Text = strings.ReplaceAll(cell.Text, "\x00", "")
		note(finding.ControlCharacter, "The cell has NUL characters inside its value.")
	}
	return cell
}

type relation struct {
	ID     string `xml:"Id,attr"`
	Type   string `xml:"Type,attr"`
	Target string `xml:"Target,attr"`
}

func readBook(z *zip.Reader, limits Limits) (*book, error) {
	b := &book{limits: limits}
	parts := map[string]*zip.File{}
	for _, f := range z.File {
		parts[strings.ToLower(strings.TrimPrefix(f.Name, "/"))] = f
	}
	relations := func(of string) ([]relation, error) {
		dir, file := path.Split(of)
		f := parts[strings.ToLower(dir+"_rels/"+file+".rels")]
		if f == nil {
			return nil, nil
		}
		r, err := b.open(f)
		if err != nil {
			return nil, err
		}
		defer r.Close()
		var doc struct {
			Relations []relation `xml:"Relationship"`
		}
		err = decodeXML(r, &doc)
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
		return nil, b.broken(err, "The workbook's table of contents", origin.Place{})
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
	r, err := b.open(parts[main])
	if err != nil {
		return nil, b.broken(err, "The workbook", origin.Place{})
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
	if err := decodeXML(r, &doc); err != nil {
		return nil, b.broken(err, "The workbook", origin.Place{})
	}
	rels, err := relations(main)
	if err != nil {
		return nil, b.broken(err, "The workbook's table of contents", origin.Place{})
	}
	byID := map[string]relation{}
	for _, rel := range rels {
		byID[rel.ID] = rel
		switch {
		case strings.HasSuffix(rel.Type, "/sharedStrings"):
			b.strings = parts[rel.Target]
		case strings.HasSuffix(rel.Type, "/styles"):
			b.styles = parts[rel.Target]
		}
	}
	b.main = main
	b.date1904 = doc.Properties.Date1904 == "1" || doc.Properties.Date1904 == "true"
	for _, s := range doc.Sheets {
		rel := byID[s.ID+s.ID2]
		part := parts[rel.Target]
		if part == nil || !strings.HasSuffix(rel.Type, "/worksheet") {
			continue // a chart sheet has no rows
		}
		b.sheets = append(b.sheets, bookSheet{s.Name, s.State == "hidden" || s.State == "veryHidden", part})
	}
	if len(b.sheets) == 0 {
		return nil, finding.Fatal(finding.DocumentEmpty, origin.Place{}, "The workbook has no sheet with rows.")
	}
	return b, nil
}
