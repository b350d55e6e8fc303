package report

import (
	"archive/zip"
	"bytes"
	"io"
	"path"
	"strings"
)

// plainStyles is the least that a styles part holds (ECMA-376 part 1, 18.8).
const plainStyles = `<?xml version="1.0" encoding="UTF-8" standalone="yes"?>
<styleSheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><fonts count="1"><font><sz val="11"/><name val="Calibri"/></font></fonts><fills count="2"><fill><patternFill patternType="none"/></fill><fill><patternFill patternType="gray125"/></fill></fills><borders count="1"><border><left/><right/><top/><bottom/><diagonal/></border></borders><cellStyleXfs count="1"><xf numFmtId="0" fontId="0" fillId="0" borderId="0"/></cellStyleXfs><cellXfs count="1"><xf numFmtId="0" fontId="0" fillId="0" borderId="0" xfId="0"/></cellXfs><cellStyles count="1"><cellStyle name="Normal" xfId="0" builtinId="0"/></cellStyles></styleSheet>`

const (
	styleType    = "application/vnd.openxmlformats-officedocument.spreadsheetml.styles+xml"
	styleRelates = "http://schemas.openxmlformats.org/officeDocument/2006/relationships/styles"
)

// withStyles gives a workbook that has a styles part: some programs write none,
// and the package that marks the copy cannot do without. A workbook that has one,
// or that is no archive, is given as it is.
func withStyles(r io.ReaderAt, size int64) (io.Reader, error) {
	whole := io.NewSectionReader(r, 0, size)
	z, err := zip.NewReader(r, size)
	if err != nil {
		return whole, nil
	}
	relations := ""
	for _, f := range z.File {
		switch base := strings.ToLower(path.Base(f.Name)); {
		case base == "styles.xml":
			return whole, nil
		case base == "workbook.xml.rels":
			relations = f.Name
		}
	}
	if relations == "" {
		return whole, nil
	}
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range z.File {
		if f.Name != "[Content_Types].xml" && f.Name != relations {
			if err := w.Copy(f); err != nil {
				return nil, err
			}
			continue
		}
		end, more := "</Types>", `<Override PartName="/xl/styles.xml" ContentType="`+styleType+`"/>`
		if f.Name == relations {
			end, more = "</Relationships>", `<Relationship Id="rIdKoinosStyles" Type="`+styleRelates+
				`" Target="/xl/styles.xml"/>`
		}
		if err := insertBefore(w, f, end, more); err != nil {
			return nil, err
		}
	}
	part, err := w.Create("xl/styles.xml")
	if err == nil {
		_, err = io.WriteString(part, plainStyles)
	}
	if err == nil {
		err = w.Close()
	}
	return &b, err
}

// insertBefore copies a part with more in front of its end.
func insertBefore(w *zip.Writer, f *zip.File, end, more string) error {
	in, err := f.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	text, err := io.ReadAll(in)
	if err != nil {
		return err
	}
	out, err := w.Create(f.Name)
	if err != nil {
		return err
	}
	at := bytes.LastIndex(text, []byte(end))
	if at < 0 {
		at, more = len(text), ""
	}
	_, err = io.WriteString(out, string(text[:at])+more+string(text[at:]))
	return err
}
