package rewriting

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path"
	"regexp"
	"strconv"
	"strings"

	"koinos/core/origin"
	"koinos/core/workbook"
)

// notes are the comments of a sheet: the partner's own, and those that are added, which wait in a file.
type notes struct {
	x        *rewriter
	sheet    *workbook.Sheet
	links    *zip.File // relationships of the sheet; nil is none
	comments *zip.File // the partner's; nil is none
	shapes   map[string]*zip.File
	own      map[string]bool   // cells that have a comment of the partner's, as they were
	below    map[string]string // what such a comment gets, by the cell as it is now
	moved    func(ref string) (string, bool)
	file     *os.File
	out      *bufio.Writer
	count    int
	row      int // of the original that is being written
}

// notesOf finds out which comments a sheet has.
func (x *rewriter) notesOf(s *workbook.Sheet) (*notes, error) {
	n := &notes{x: x, sheet: s, shapes: map[string]*zip.File{}, own: map[string]bool{}, below: map[string]string{}}
	if n.links = x.parts[linksOf(s.Part.Name)]; n.links == nil {
		return n, nil
	}
	text, err := x.read(n.links)
	if err != nil {
		return nil, err
	}
	var doc struct {
		Relations []workbook.Relation `xml:"Relationship"`
	}
	if err := workbook.Decode(bytes.NewReader(text), &doc); err != nil {
		return nil, err
	}
	for _, rel := range doc.Relations {
		target := rel.Target
		if !strings.HasPrefix(target, "/") {
			target = path.Join(path.Dir(s.Part.Name), target)
		}
		part := x.parts[strings.ToLower(strings.TrimPrefix(target, "/"))]
		switch {
		case part == nil:
		case strings.HasSuffix(rel.Type, "/comments"):
			n.comments = part
		case strings.HasSuffix(rel.Type, "/vmlDrawing"):
			n.shapes[rel.ID] = part
		}
	}
	if n.comments == nil {
		return n, nil
	}
	part, err := x.b.Open(n.comments)
	if err != nil {
		return nil, err
	}
	defer part.Close()
	for in := workbook.NewScanner(part); ; {
		t, err := in.Next(false)
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return nil, err
		}
		if string(t.Name) == "comment" && t.Open {
			n.own[string(t.Attr("ref"))] = true
		}
	}
}

// some reports whether there are comments that the sheet did not have.
func (n *notes) some() bool { return n.count > 0 }

// add stores a comment for a cell of the copy.
func (n *notes) add(column, row int, text string) (err error) {
	if text == "" {
		return nil
	}
	if n.own[origin.ColumnName(column)+strconv.Itoa(n.row)] {
		n.below[origin.ColumnName(column)+strconv.Itoa(row)] = text
		return nil
	}
	if n.file == nil {
		if n.file, err = os.CreateTemp("", "koinos-notes-*"); err != nil {
			return err
		}
		n.out = bufio.NewWriter(n.file)
	}
	n.count++
	head := binary.AppendUvarint(binary.AppendUvarint(binary.AppendUvarint(nil, uint64(column)), uint64(row)),
		uint64(len(text)))
	_, err = n.out.Write(head)
	if err == nil {
		_, err = n.out.WriteString(text)
	}
	return err
}

func (n *notes) close() error {
	if n.file == nil {
		return nil
	}
	return errors.Join(n.file.Close(), os.Remove(n.file.Name()))
}

// each returns the comments that were kept.
func (n *notes) each(f func(column, row int, text string) error) error {
	if n.file == nil {
		return nil
	}
	if _, err := n.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	for in := bufio.NewReader(n.file); ; {
		column, err := binary.ReadUvarint(in)
		if err == io.EOF {
			return nil
		}
		row, err2 := binary.ReadUvarint(in)
		size, err3 := binary.ReadUvarint(in)
		if err := errors.Join(err, err2, err3); err != nil {
			return err
		}
		text := make([]byte, size)
		if _, err := io.ReadFull(in, text); err != nil {
			return err
		}
		if err := f(int(column), int(row), string(text)); err != nil {
			return err
		}
	}
}

// write writes the comments and their shapes. drawing is the relationship by which the sheet refers to the shapes.
func (n *notes) write(drawing string, dropped bool, kept []int) error {
	if dropped {
		n.moved = func(ref string) (string, bool) { return movedRef(ref, kept) }
	}
	if n.out != nil {
		if err := n.out.Flush(); err != nil {
			return err
		}
	}
	if !n.some() && len(n.below) == 0 && (n.moved == nil || n.comments == nil) {
		return nil
	}
	number := strings.TrimSuffix(path.Base(n.sheet.Part.Name), path.Ext(n.sheet.Part.Name))
	var links []string
	comments := "xl/koinos-comments-" + number + ".xml"
	if n.comments != nil {
		comments = n.comments.Name
		n.x.done[n.comments] = true
	} else {
		links = append(links, relationship("rIdKoinosComments", "comments", "/"+comments))
		n.x.types = append(n.x.types, override(comments, "spreadsheetml.comments+xml"))
	}
	if err := n.writeComments(comments); err != nil {
		return err
	}
	if drawing == "" { // comments without shapes, as some programs write them
		return n.link(links)
	}
	shapes := "xl/drawings/koinos-" + number + ".vml"
	part := n.shapes[drawing]
	if part != nil {
		shapes = part.Name
		n.x.done[part] = true
	} else {
		links = append(links, relationship(drawing, "vmlDrawing", "/"+shapes))
		if !n.x.vml && !n.x.knows("vml") {
			n.x.types = append(n.x.types,
				fmt.Sprintf(`<Default xmlns="http://schemas.openxmlformats.org/package/2006/content-types" `+
					`Extension="vml" ContentType="%svmlDrawing"/>`, contentNamespace))
		}
		n.x.vml = true
	}
	if err := n.writeShapes(shapes, part); err != nil {
		return err
	}
	return n.link(links)
}

// link adds relationships to the sheet's.
func (n *notes) link(links []string) error {
	if len(links) == 0 {
		return nil
	}
	if n.links != nil {
		n.x.done[n.links] = true
		return n.x.append(n.links, "</", "Relationships>", strings.Join(links, ""))
	}
	dir, file := path.Split(n.sheet.Part.Name)
	return n.x.put(dir+"_rels/"+file+".rels", []byte(`<?xml version="1.0" encoding="UTF-8" standalone="yes"?>`+
		`<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">`+strings.Join(links, "")+
		`</Relationships>`))
}

// knows reports whether the workbook defines the type of files with an ending.
func (x *rewriter) knows(ending string) bool {
	for name := range x.parts {
		if strings.HasSuffix(name, "."+ending) {
			return true // a part needs its kind said
		}
	}
	return false
}

// writeComments writes the partner's comments, at their new places and with what is added to them, and the others.
func (n *notes) writeComments(name string) error {
	to, err := n.x.out.Create(name)
	if err != nil {
		return err
	}
	out := bufio.NewWriter(to)
	author := 0
	ours := func(prefix string) error {
		return n.each(func(column, row int, text string) error {
			fmt.Fprintf(out, `<%[1]scomment ref="%[2]s%[3]d" authorId="%[4]d"><%[1]stext>%[5]s</%[1]stext></%[1]scomment>`,
				prefix,
				origin.ColumnName(column), row, author, run(prefix, text))
			return nil
		})
	}
	if n.comments == nil {
		out.WriteString(`<?xml version="1.0" encoding="UTF-8" standalone="yes"?><comments xmlns="` + mainNamespace +
			`"><authors><author>Koinos</author></authors><commentList>`)
		if err := ours(""); err != nil {
			return err
		}
		out.WriteString(`</commentList></comments>`)
		return out.Flush()
	}
	part, err := n.x.b.Open(n.comments)
	if err != nil {
		return err
	}
	defer part.Close()
	in := workbook.NewScanner(part)
	out.WriteString(`<?xml version="1.0" encoding="UTF-8" standalone="yes"?>`)
	prefix, below := "", "" // what is said below the comment that is being read
	skip, inRun := false, false
	for {
		t, err := in.Next(true)
		if err == io.EOF {
			return out.Flush()
		}
		if err != nil {
			return err
		}
		tag := string(t.Name)
		if skip {
			skip = t.Open || tag != "comment"
			continue
		}
		body := in.Body
		out.Write(in.Text)
		switch {
		case tag == "comments" && t.Open:
			prefix = string(body[:bytes.Index(body, []byte("comments"))])
		case tag == "author" && t.Open:
			author++
		case tag == "authors" && t.Close:
			if t.Open {
				fmt.Fprintf(out, "<%sauthors>", prefix)
			}
			fmt.Fprintf(out, "<%[1]sauthor>Koinos</%[1]sauthor></%[1]sauthors>", prefix)
			continue
		case tag == "comment" && t.Open:
			ref := string(t.Attr("ref"))
			if n.moved != nil {
				var stays bool
				if ref, stays = n.moved(ref); !stays {
					skip = !t.Close
					continue
				}
				body = withAttr(body, t.Attr("ref"), []byte(ref))
			}
			below = n.below[ref]
		case tag == "r":
			inRun = t.Open && !t.Close
		case tag == "t" && below != "" && !inRun && !(t.Open && t.Close): // it becomes a run, as there is one behind it
			if t.Open {
				fmt.Fprintf(out, "<%sr><%s>", prefix, body)
			} else {
				fmt.Fprintf(out, "<%s></%sr>", body, prefix)
			}
			continue
		case tag == "text" && !t.Open && below != "":
			out.WriteString(run(prefix, "\n"+below))
			below = ""
		case tag == "commentList" && t.Close:
			if t.Open {
				fmt.Fprintf(out, "<%scommentList>", prefix)
			}
			if err := ours(prefix); err != nil {
				return err
			}
			fmt.Fprintf(out, "</%scommentList>", prefix)
			continue
		}
		out.WriteByte('<')
		out.Write(body)
		out.WriteByte('>')
	}
}

// run is a run of text in a comment.
func run(prefix, text string) string {
	return fmt.Sprintf(`<%[1]sr><%[1]srPr><%[1]ssz val="9"/><%[1]srFont val="Tahoma"/></%[1]srPr><%[1]st `+
		`xml:space="preserve">%[2]s</%[1]st></%[1]sr>`,
		prefix, escapeText(text))
}

const shapeType = `<v:shapetype id="_x0000_t202" coordsize="21600,21600" o:spt="202" path="m,l,21600r21600,l21600,xe">` +
	`<v:stroke joinstyle="miter"/><v:path gradientshapeok="t" o:connecttype="rect"/></v:shapetype>`

var (
	aShape  = regexp.MustCompile(`(?s)<v:shape\s.*?</v:shape>`)
	aRow    = regexp.MustCompile(`(<x:Row>\s*)(\d+)(\s*</x:Row>)`)
	aColumn = regexp.MustCompile(`<x:Column>\s*(\d+)\s*</x:Column>`)
	anchor  = regexp.MustCompile(`(<x:Anchor>)([^<]*)(</x:Anchor>)`)
)

// writeShapes writes the shapes of comments: existing ones at their new places, and one for each of ours.
func (n *notes) writeShapes(name string, part *zip.File) error {
	text := []byte(`<xml xmlns:v="urn:schemas-microsoft-com:vml" xmlns:o="urn:schemas-microsoft-com:office:office" ` +
		`xmlns:x="urn:schemas-microsoft-com:office:excel"><o:shapelayout v:ext="edit"><o:idmap v:ext="edit" data="1"/></o:shapelayout>` +
		shapeType + `</xml>`)
	if part != nil {
		var err error
		if text, err = n.x.read(part); err != nil {
			return err
		}
	}
	if n.moved != nil {
		text = aShape.ReplaceAllFunc(text, n.movedShape)
	}
	to, err := n.x.out.Create(name)
	if err != nil {
		return err
	}
	out := bufio.NewWriter(to)
	end := bytes.LastIndex(text, []byte("</xml>"))
	if end < 0 {
		end = len(text)
	}
	out.Write(text[:end])
	if n.some() && !bytes.Contains(text, []byte("_x0000_t202")) {
		out.WriteString(shapeType)
	}
	id := 100_000 // behind those of any other program
	if err := n.each(func(column, row int, said string) error {
		id++
		lines := math.Ceil(float64(len(said))/42) + 1
		_, err := fmt.Fprintf(out,
			`<v:shape id="_x0000_s%d" type="#_x0000_t202" style="position:absolute;margin-left:60pt;margin-top:2pt;`+
				`width:210pt;height:%.0fpt;z-index:1;visibility:hidden" fillcolor="#ffffe1" o:insetmode="auto"><v:fill color2="#ffffe1"/>`+
				`<v:shadow on="t" color="black" obscured="t"/><v:path o:connecttype="none"/><v:textbox style="mso-direction-alt:auto">`+
				`<div style="text-align:left"></div></v:textbox><x:ClientData ObjectType="Note"><x:MoveWithCells/><x:SizeWithCells/>`+
				`<x:Anchor>%d, 15, %d, 10, %d, 31, %d, 9</x:Anchor><x:AutoFill>False</x:AutoFill><x:Row>%d</x:Row><x:Column>%d</x:Column>`+
				`</x:ClientData></v:shape>`, id, 16+11*lines, column, max(row-2, 0), column+4,
			max(row-2, 0)+int(lines)+1, row-1, column-1)
		return err
	}); err != nil {
		return err
	}
	out.Write(text[end:])
	return out.Flush()
}

// movedShape is the shape of a comment at the new place of its row; empty if the row is gone.
func (n *notes) movedShape(shape []byte) []byte {
	row, column := aRow.FindSubmatch(shape), aColumn.FindSubmatch(shape)
	if row == nil || column == nil || !bytes.Contains(shape, []byte(`"Note"`)) {
		return shape
	}
	was, _ := strconv.Atoi(string(row[2]))
	ref, stays := n.moved("A" + strconv.Itoa(was+1))
	if !stays {
		return nil
	}
	now, _ := strconv.Atoi(ref[1:])
	by := now - 1 - was
	shape = aRow.ReplaceAll(shape, fmt.Appendf(nil, "${1}%d${3}", now-1))
	return anchor.ReplaceAllFunc(shape, func(text []byte) []byte {
		parts := anchor.FindSubmatch(text)
		at := strings.Split(string(parts[2]), ",")
		for _, i := range []int{2, 6} {
			if i < len(at) {
				if r, err := strconv.Atoi(strings.TrimSpace(at[i])); err == nil {
					at[i] = " " + strconv.Itoa(max(0, r+by))
				}
			}
		}
		return []byte(string(parts[1]) + strings.Join(at, ",") + string(parts[3]))
	})
}
