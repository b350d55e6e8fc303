package rewriting

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"strings"

	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/workbook"
)

// Changes says how a workbook is changed while it is written again.
type Changes struct {
	// Rows reports whether rows of a sheet may change; the others are copied as they are.
	Rows func(sheet string) bool
	// Row returns the changes of a row, counted from 1. It is called for every row in turn, up to the sheet's last,
	// sheet by sheet in the workbook's order.
	Row func(sheet string, row int) (Row, error)
	// Widths are those of columns, counted from 1, in characters; nil leaves all as they are.
	Widths func(sheet string) map[int]float64
	// Values turns formulas into the values that they last had, because rows that they refer to may be dropped.
	Values bool
}

// Row is the change of a row.
type Row struct {
	Drop  bool   // the rows below close up
	Cells []Cell // by column, each once
}

// Cell is the change of a cell.
type Cell struct {
	Column int    // counted from 1
	Put    bool   // Text takes the place of what stands there; it is never run as a formula
	Text   string // with Put
	Look   Look   // with Put
	Fill   string // RGB of the background that it gets, e.g. F6C9C2; "" leaves it
	Note   string // what a comment says, below what one says already; "" is none
}

// Look is the appearance of a text that is put into a cell: in the workbook's own typeface, indented from the left.
type Look struct {
	Bold  bool
	Color string // RGB; "" is black
	Line  string // RGB of a line below; "" is none
}

// names of OOXML (ECMA-376 part 1).
const (
	mainNamespace     = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
	relationNamespace = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
	contentNamespace  = "application/vnd.openxmlformats-officedocument."
)

// rewriter writes a workbook again, part by part.
type rewriter struct {
	Changes
	b      *workbook.Book
	z      *zip.Reader
	out    *zip.Writer
	parts  map[string]*zip.File // by their name in small letters, without / in front
	styles *styles
	types  []string // elements that [Content_Types].xml gets
	vml    bool     // there are drawings of ours
	links  []string // relationships that the workbook gets
	done   map[*zip.File]bool
}

// Rewrite writes a workbook of a size again with changes; it may unpack to most bytes, 0 being any number. It streams
// rows, comments and styles: only the styles and the partner's own comments are kept in memory.
func Rewrite(w io.Writer, r io.ReaderAt, size, most int64, changes Changes) error {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return finding.Fatal(finding.DocumentBroken, origin.Place{},
			"The workbook's archive is damaged or cut short (%v).", err)
	}
	b, err := workbook.Read(z, most)
	if err != nil {
		return err
	}
	x := &rewriter{Changes: changes, b: b, z: z, out: zip.NewWriter(w), parts: map[string]*zip.File{},
		done: map[*zip.File]bool{}}
	for _, f := range z.File {
		x.parts[strings.ToLower(strings.TrimPrefix(f.Name, "/"))] = f
	}
	if err := x.write(); err != nil {
		return b.Broken(err, "The workbook", origin.Place{})
	}
	return x.out.Close()
}

func (x *rewriter) write() (err error) {
	if x.styles, err = x.readStyles(); err != nil {
		return err
	}
	for _, s := range x.b.Sheets {
		if x.Rows == nil || x.Rows(s.Name) {
			if err := x.sheet(&s); err != nil {
				return err
			}
		}
	}
	if err := x.writeStyles(); err != nil {
		return err
	}
	contents := x.parts["[content_types].xml"]
	links := x.parts[linksOf(x.b.Main)]
	for _, f := range x.z.File {
		name := strings.ToLower(f.Name)
		switch {
		case x.done[f] || x.Values && strings.HasSuffix(name, "calcchain.xml"):
			continue // written, or the order in which formulas are computed: there are none any more
		case f == contents && len(x.types) > 0:
			err = x.append(f, "</", "Types>", strings.Join(x.types, ""))
		case f == links && len(x.links) > 0:
			err = x.append(f, "</", "Relationships>", strings.Join(x.links, ""))
		case x.Values && (f == contents || f == links):
			err = x.append(f, "", "", "")
		default:
			err = x.out.Copy(f) // as it is packed
		}
		if err != nil {
			return err
		}
	}
	return nil
}

var calcChain = regexp.MustCompile(`<(?:\w+:)?(?:Override|Relationship)\s[^>]*calcChain[^>]*?(?:/>|></(?:\w+:)?(?:Override|Relationship)>)`)

// append copies a small part with more in front of its last end tag. It removes the names for the calculation order of
// formulas.
func (x *rewriter) append(f *zip.File, before, end, more string) error {
	text, err := x.read(f)
	if err != nil {
		return err
	}
	if x.Values {
		text = calcChain.ReplaceAll(text, nil)
	}
	if at := bytes.LastIndex(text, []byte(end)); more != "" && at >= 0 {
		at = bytes.LastIndex(text[:at], []byte(before)) // there may be a prefix in between
		// Elements of another prefix say which namespace they are of.
		text = []byte(string(text[:at]) + more + string(text[at:]))
	} else if at := bytes.LastIndex(text, []byte("/>")); more != "" && at >= 0 { // a list of nothing, in one tag
		name, _, _ := strings.Cut(string(text[bytes.LastIndexByte(text[:at], '<')+1:at]), " ")
		text = []byte(string(text[:at]) + ">" + more + "</" + name + ">")
	}
	return x.put(f.Name, text)
}

// read returns a small part, unpacked.
func (x *rewriter) read(f *zip.File) ([]byte, error) {
	r, err := x.b.Open(f)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	text, err := io.ReadAll(io.LimitReader(r, mostPart+1))
	if len(text) > mostPart {
		err = errors.New("a part that describes it has more than 64 MiB")
	}
	return text, err
}

// mostPart is the largest size of the parts that are kept in memory: styles and drawings of comments.
const mostPart = 64 << 20

// put writes a part.
func (x *rewriter) put(name string, text []byte) error {
	w, err := x.out.Create(name)
	if err == nil {
		_, err = w.Write(text)
	}
	return err
}

// linksOf is the name of the part with the relationships of one.
func linksOf(part string) string {
	dir, file := path.Split(part)
	return strings.ToLower(dir + "_rels/" + file + ".rels")
}

// sheet writes a sheet, and its comments behind it.
func (x *rewriter) sheet(s *workbook.Sheet) (err error) {
	n, err := x.notesOf(s)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, n.close()) }()
	part, err := x.b.Open(s.Part)
	if err != nil {
		return err
	}
	defer part.Close()
	to, err := x.out.CreateHeader(&zip.FileHeader{Name: s.Part.Name, Method: zip.Deflate, Modified: s.Part.Modified})
	if err != nil {
		return err
	}
	x.done[s.Part] = true
	w := &sheetWriter{x: x, sheet: s.Name, in: workbook.NewScanner(part), notes: n}
	if x.Widths != nil {
		w.widths = x.Widths(s.Name)
	}
	if err := w.write(to); err != nil {
		return x.b.Broken(err, "The workbook", origin.Place{Sheet: s.Name})
	}
	return n.write(w.drawing, w.dropped, w.kept)
}

// override is an entry of [Content_Types].xml for a part.
func override(part, kind string) string {
	return fmt.Sprintf(`<Override xmlns="http://schemas.openxmlformats.org/package/2006/content-types" PartName="/%s" ContentType="%s"/>`,
		part, contentNamespace+kind)
}

// relationship is an entry of a part of relationships.
func relationship(id, kind, target string) string {
	return fmt.Sprintf(`<Relationship xmlns="http://schemas.openxmlformats.org/package/2006/relationships" Id="%s" Type="%s/%s" Target="%s"/>`,
		id, relationNamespace, kind, target)
}
