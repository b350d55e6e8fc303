package source

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/tree"
)

// Inspection describes what a document consists of, without a mapping.
type Inspection struct {
	Shape
	Fixed  bool              `json:"fixed_width,omitempty" doc:"Columns stand one below another, without a delimiter"`
	Size   int64             `json:"size"`
	Tables []Table           `json:"tables"`
	Notes  []finding.Finding `json:"notes,omitempty" doc:"What is odd about the document"`
}

// Table is one sheet, or the whole of a CSV, as it looks.
type Table struct {
	Sheet    string   `json:"sheet,omitempty"`
	Hidden   bool     `json:"hidden,omitempty" doc:"People do not see the sheet"`
	Unseen   int      `json:"hidden_rows,omitempty" doc:"Of the rows with a value: hidden or filtered out"`
	Rows     int      `json:"rows" doc:"Rows with a value"`
	LastRow  int      `json:"last_row"`
	Heading  int      `json:"heading" doc:"Row that looks like the heading; 0 is none"`
	Columns  []Column `json:"columns"`
	headings bool
	unseen   [][2]int // first and last of columns that are hidden
	byPath   map[string]int
}

// Column is one column below the heading.
type Column struct {
	Letter  string   `json:"column,omitempty" doc:"Letter of the column; JSON has none"`
	Where   string   `json:"characters,omitempty" doc:"Text of fixed width: the characters of each line that it takes"`
	Heading string   `json:"heading,omitempty" doc:"Heading of the column, or the path of the values in a JSON record"`
	Hidden  bool     `json:"hidden,omitempty" doc:"People do not see the column"`
	Looks   string   `json:"looks_like" doc:"What most of its values look like: text, code, number, date, words or blank"`
	Filled  int      `json:"filled"`
	Samples []string `json:"samples,omitempty"`
	counts  map[string]int
	seen    map[string]bool
}

const (
	headingWithin = 30
	sampleCount   = 3
	mostNotes     = 20
	distinctKept  = 50
)

// Inspect reads a whole document and describes what it consists of.
func Inspect(r io.ReaderAt, size int64, opt Options) (*Inspection, error) {
	shape, err := Sniff(r, size, opt)
	if err != nil {
		return nil, err
	}
	if opt.Sheets == nil {
		opt.Sheets = func(int, string) bool { return true }
	}
	fixed, err := FixedWidth(r, size, shape)
	if err != nil {
		return nil, err
	}
	in := &Inspection{Shape: shape, Fixed: fixed != nil, Size: size}
	if fixed != nil {
		in.Delimiter, in.Quote, opt.Positions = "", "", fixed.Columns
	}
	src, err := Open(r, size, opt)
	if err != nil {
		return nil, err
	}
	var t *Table
	var top []Record // the first rows of a table, until its heading is chosen
	for {
		rec, err := src.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			if found := finding.Of(err); len(found) > 0 {
				in.Notes = append(in.Notes, found...)
				break
			}
			return nil, err
		}
		above := fixed != nil && rec.Row < fixed.First
		if len(in.Notes) < mostNotes && !above {
			in.Notes = append(in.Notes, rec.Findings...)
		}
		if len(in.Tables) == 0 || in.Tables[len(in.Tables)-1].Sheet != rec.Sheet {
			if t != nil {
				t.settle(top)
			}
			in.Tables = append(in.Tables, Table{Sheet: rec.Sheet})
			t, top = &in.Tables[len(in.Tables)-1], nil
			if s, is := src.(interface{ seen() (bool, [][2]int) }); is {
				t.Hidden, t.unseen = s.seen()
			}
		}
		if rec.Blank() || rec.Broken {
			continue
		}
		if above {
			t.fixed(fixed)
			continue
		}
		t.Rows++
		if rec.Hidden {
			t.Unseen++
		}
		t.LastRow = max(rec.Row, rec.Last)
		if rec.Node != nil {
			t.countTree(rec.Node)
			continue
		}
		if t.headings {
			t.count(&rec)
			continue
		}
		if top = append(top, rec); len(top) == headingWithin {
			t.settle(top)
			top = nil
		}
	}
	if t != nil {
		t.settle(top)
	}
	for i := range in.Tables {
		for j := range in.Tables[i].Columns {
			c := &in.Tables[i].Columns[j]
			c.judge()
			c.Hidden = slices.ContainsFunc(in.Tables[i].unseen, func(u [2]int) bool {
				return j+1 >= u[0] && j+1 <= u[1]
			})
		}
	}
	return in, nil
}

// fixed names the columns of text of fixed width, of which it is known where they stand.
func (t *Table) fixed(f *Fixed) {
	t.headings, t.Heading = true, f.Heading
	for i, p := range f.Columns {
		c := t.column(i)
		if c.Where = fmt.Sprintf("%d-%d", p.First, p.Last); f.Heading > 0 {
			c.Heading = p.Name
		}
	}
}

// settle chooses the heading among the first rows and counts those below it.
func (t *Table) settle(top []Record) {
	if t.headings {
		return
	}
	t.headings = true
	widest := 0
	for i := range top {
		widest = max(widest, filled(&top[i], nil))
	}
	head := -1
	for i := range top {
		words := filled(&top[i], func(c Cell) bool {
			return c.Kind == Text && looks(c) != "number" && looks(c) != "date"
		})
		if words > 1 && words*10 >= widest*6 && words == filled(&top[i], nil) && i+1 < len(top) {
			head = i
			break
		}
	}
	if head >= 0 {
		t.Heading = top[head].Row
		for i, c := range top[head].Cells {
			t.column(i).Heading = strings.Join(strings.Fields(c.Text), " ")
		}
	}
	for i := head + 1; i < len(top); i++ {
		t.count(&top[i])
	}
}

func filled(rec *Record, like func(Cell) bool) int {
	n := 0
	for _, c := range rec.Cells {
		if !c.Blank() && (like == nil || like(c)) {
			n++
		}
	}
	return n
}

func (t *Table) column(i int) *Column {
	for len(t.Columns) <= i {
		t.Columns = append(t.Columns, Column{Letter: origin.ColumnName(len(t.Columns) + 1), counts: map[string]int{},
			seen: map[string]bool{}})
	}
	return &t.Columns[i]
}

func (t *Table) count(rec *Record) {
	for i, c := range rec.Cells {
		if c.Blank() {
			continue
		}
		t.column(i).count(c)
	}
}

func (col *Column) count(c Cell) {
	col.Filled++
	col.counts[looks(c)]++
	if len(col.seen) < distinctKept && !col.seen[c.Text] {
		col.seen[c.Text] = true
		if len(col.Samples) < sampleCount {
			col.Samples = append(col.Samples, finding.Clip(strings.TrimSpace(c.Text), 40))
		}
	}
}

// mostPaths is how many paths of a JSON document are distinguished.
const mostPaths = 1000

// countTree counts a JSON record's values by their path, in which [*] stands
// for any element.
func (t *Table) countTree(n *tree.Node) {
	t.headings = true
	if t.byPath == nil {
		t.byPath = map[string]int{}
	}
	n.Leaves(func(leaf *tree.Node) {
		if !leaf.Scalar() || leaf.Kind == tree.Null {
			return
		}
		path := PathOf(leaf, n)
		i, ok := t.byPath[path]
		if !ok {
			if len(t.Columns) >= mostPaths {
				return
			}
			i = len(t.Columns)
			t.byPath[path] = i
			t.column(i).Heading, t.Columns[i].Letter = path, ""
		}
		kind := Text
		if leaf.Kind == tree.Number {
			kind = Exact
		}
		t.Columns[i].count(Cell{Text: leaf.Text, Kind: kind})
	})
}

// PathOf is the path of a value within an outer one, with [*] for any element:
// $.lines[*].sku.
func PathOf(n, outer *tree.Node) string {
	if n == outer || n.Parent == nil {
		return "$"
	}
	if n.InSegment() { // as an address of X12 is written
		if n.Parent.Parent == nil {
			return n.Name
		}
		up := PathOf(n.Parent, n.Root())
		if n.Name == "HL" && strings.HasSuffix(up, "HL") {
			return up // HL loops stand within each other; addresses name the loop once
		}
		return up + "/" + n.Name
	}
	up := PathOf(n.Parent, outer)
	if n.Parent.Kind == tree.Array {
		return up + "[*]"
	}
	for i, r := range n.Name {
		if !(r == '_' || r|0x20 >= 'a' && r|0x20 <= 'z' || r >= 0x80 || i > 0 && r >= '0' && r <= '9') {
			return up + "['" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(n.Name) + "']"
		}
	}
	if n.Name == "" {
		return up + "['']"
	}
	return up + "." + n.Name
}

// judge says what most of the column's values look like.
func (c *Column) judge() {
	c.Looks = "blank"
	most := 0
	for _, kind := range []string{"number", "date", "code", "text"} {
		if n := c.counts[kind]; n > most {
			c.Looks, most = kind, n
		}
	}
	// One code with a leading zero makes a column of numbers a column of codes.
	if c.Looks == "number" && c.counts["code"] > 0 {
		c.Looks = "code"
	}
	if c.Looks == "text" && len(c.seen) < 12 && c.Filled > 3*len(c.seen) {
		c.Looks = "words"
	}
}

// looks says what a single value looks like.
func looks(c Cell) string {
	switch c.Kind {
	case Number, Exact:
		return "number"
	case Day:
		return "date"
	}
	s := strings.TrimSpace(c.Text)
	digits, signs, letters := 0, 0, 0
	for _, r := range s {
		switch {
		case r >= '0' && r <= '9':
			digits++
		case strings.ContainsRune(".,-/+%: \u00a0", r):
			signs++
		default:
			letters++
		}
	}
	switch {
	case digits == 0:
		return "text"
	case letters > 0 && letters+digits <= 16 && !strings.Contains(s, " "):
		return "code"
	case letters > 0:
		return "text"
	case strings.Count(s, ".") == 2 || strings.Count(s, "/") == 2 || strings.Count(s, "-") == 2:
		return "date"
	case digits > 1 && s[0] == '0' && signs == 0, digits > 11:
		return "code"
	case strings.ContainsAny(s, "/:"), strings.LastIndexByte(s, '-') > 0:
		return "text"
	}
	return "number"
}
