package reading

import (
	"encoding/binary"
	"encoding/json"
	"io"
	"os"

	"koinos/core/finding"
	"koinos/core/jsondoc"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/source"
)

// gather keeps rows by their key until the document ends: in memory while there are few, then in a file. A few words
// for each key stay in memory.
type gather struct {
	chains []*chain
	byKey  map[string]*chain
	plans  []*plan
	store  spill
	given  int
}

// chain is the rows of one key, the last one first.
type chain struct {
	group Group
	last  int64 // where its last row stands; -1 is none
	rows  int
}

func newGather() *gather { return &gather{byKey: map[string]*chain{}} }

// open returns the group of a key that has occurred before.
func (g *gather) open(key string) *Group {
	if c := g.byKey[key]; c != nil {
		return &c.group
	}
	return nil
}

func (g *gather) begin(key string, group *Group) {
	c := &chain{group: *group, last: -1}
	g.byKey[key] = c
	g.chains = append(g.chains, c)
}

func (g *gather) add(key string, r Row) error {
	c := g.byKey[key]
	if c.rows >= MostRows {
		c.group.Long = true
		return nil
	}
	at, err := g.store.append(g.encode(nil, &r, c.last))
	if err != nil {
		return finding.Fatal(finding.StorageFailed, r.Place(0), "The rows of the document could not be put aside: %v.",
			err)
	}
	c.last = at
	c.rows++
	return nil
}

// next returns the groups after the document has ended, in the order of their first rows.
func (g *gather) next() (Group, error) {
	if g == nil || g.given >= len(g.chains) {
		return Group{}, io.EOF
	}
	c := g.chains[g.given]
	g.chains[g.given], g.byKey = nil, nil // what was given is nobody's here any more
	g.given++
	c.group.Rows = make([]Row, c.rows)
	at := c.last
	for i := c.rows - 1; i >= 0; i-- {
		b, err := g.store.at(at)
		if err == nil {
			at, err = g.decode(b, &c.group.Rows[i])
		}
		if err != nil {
			return Group{}, finding.Fatal(finding.StorageFailed, origin.Place{},
				"Rows that were put aside could not be read again: %v.", err)
		}
	}
	if j := c.group.Rows[0].plan.m.Group; j.By == "join" {
		joined := false
		for i := range c.group.Rows {
			joined = joined || len(c.group.Rows[i].plan.bound[mapping.InHeader]) > 0
		}
		c.group.Orphan = !joined
	}
	return c.group, nil
}

func (g *gather) encode(b []byte, r *Row, before int64) []byte {
	text := func(s string) {
		b = binary.AppendUvarint(b, uint64(len(s)))
		b = append(b, s...)
	}
	b = binary.AppendVarint(b, before)
	number := -1
	for i, p := range g.plans {
		if p == r.plan {
			number = i
		}
	}
	if number < 0 {
		number = len(g.plans)
		g.plans = append(g.plans, r.plan)
	}
	for _, n := range []int{number, r.Row, r.Line, r.Last} {
		b = binary.AppendVarint(b, int64(n))
	}
	text(r.Sheet)
	if r.Node != nil {
		b = append(b, 1)
		text(r.Node.Pointer())
		text(string(r.Node.AppendJSON(nil)))
	} else {
		b = append(b, 0)
		b = binary.AppendUvarint(b, uint64(len(r.Cells)))
		for _, c := range r.Cells {
			b = append(b, byte(c.Kind))
			text(c.Text)
		}
	}
	found := []byte(nil)
	if len(r.Findings) > 0 {
		found, _ = json.Marshal(r.Findings) // plain values always marshal
	}
	text(string(found))
	return b
}

func (g *gather) decode(b []byte, r *Row) (before int64, err error) {
	bad := io.ErrUnexpectedEOF
	number := func() int64 {
		v, n := binary.Varint(b)
		if n <= 0 {
			err = bad
			return 0
		}
		b = b[n:]
		return v
	}
	text := func() string {
		v, n := binary.Uvarint(b)
		if n <= 0 || uint64(len(b)-n) < v {
			err = bad
			return ""
		}
		s := string(b[n : n+int(v)])
		b = b[n+int(v):]
		return s
	}
	before = number()
	plan := number()
	r.Row, r.Line, r.Last = int(number()), int(number()), int(number())
	if err != nil || int(plan) >= len(g.plans) {
		return 0, bad
	}
	r.plan = g.plans[plan]
	r.Sheet = text()
	if len(b) == 0 {
		return 0, bad
	}
	tree := b[0] == 1
	b = b[1:]
	if tree {
		base := text()
		node, _, problem := jsondoc.Parse([]byte(text()), r.Row-1)
		if problem != nil {
			return 0, problem
		}
		r.Node = node.At(base)
	} else {
		n, size := binary.Uvarint(b)
		if size <= 0 || n > uint64(len(b)) {
			return 0, bad
		}
		b = b[size:]
		r.Cells = make([]source.Cell, n)
		for i := range r.Cells {
			if len(b) == 0 {
				return 0, bad
			}
			r.Cells[i].Kind = source.Kind(b[0])
			b = b[1:]
			r.Cells[i].Text = text()
		}
	}
	if found := text(); found != "" && err == nil {
		err = json.Unmarshal([]byte(found), &r.Findings)
	}
	return before, err
}

// spillAt is how many bytes of rows stay in memory.
const spillAt = 32 << 20

// spill is a sequence of byte strings, in memory and then in a file that nobody else sees and that is gone when the
// process ends.
type spill struct {
	held  []byte
	file  *os.File
	size  int64 // of the file
	wrote []byte
	head  []byte // the bytes read last
}

func (s *spill) append(b []byte) (int64, error) {
	b = append(binary.AppendUvarint(nil, uint64(len(b))), b...)
	if s.file == nil && len(s.held)+len(b) <= spillAt {
		s.held = append(s.held, b...)
		return int64(len(s.held) - len(b)), nil
	}
	if s.file == nil {
		f, err := os.CreateTemp("", "koinos-rows-")
		if err != nil {
			return 0, err
		}
		if err := os.Remove(f.Name()); err != nil {
			return 0, err
		}
		s.file = f
	}
	at := spillAt + s.size + int64(len(s.wrote))
	s.wrote = append(s.wrote, b...)
	if len(s.wrote) >= 1<<20 {
		return at, s.flush()
	}
	return at, nil
}

func (s *spill) flush() error {
	_, err := s.file.WriteAt(s.wrote, s.size)
	s.size += int64(len(s.wrote))
	s.wrote = s.wrote[:0]
	return err
}

func (s *spill) at(at int64) ([]byte, error) {
	if at < spillAt {
		n, size := binary.Uvarint(s.held[at:])
		return s.held[at+int64(size) : at+int64(size)+int64(n)], nil
	}
	if len(s.wrote) > 0 {
		if err := s.flush(); err != nil {
			return nil, err
		}
	}
	at -= spillAt
	if s.head == nil {
		s.head = make([]byte, 4096)
	}
	head := s.head // decode copies what it keeps
	n, err := s.file.ReadAt(head, at)
	if n == 0 {
		return nil, err
	}
	length, size := binary.Uvarint(head[:n])
	if size <= 0 {
		return nil, io.ErrUnexpectedEOF
	}
	if int(length) <= n-size {
		return head[size : size+int(length)], nil
	}
	b := make([]byte, length)
	_, err = s.file.ReadAt(b, at+int64(size))
	return b, err
}
