package x12

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"koinos/core/cputime"
)

// plain850 is an order as a partner sends it, with * ~ > as delimiters.
const plain850 = "ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      " +
	"*260314*0930*U*00401*000000905*0*T*>~" +
	"GS*PO*PELLOW*QUILLMERE*20260314*0930*77*X*004010~" +
	"ST*850*0001~BEG*00*SA*PM-4711**20260314~CUR*BY*EUR~REF*CT*C-2026~DTM*002*20260330~" +
	"N1*ST*Pellow Marina*92*0040~N3*Berth office~N4*Pellow Haven**12345*NO~" +
	"PO1*1*20*MR*1.45*PE*BP*R-10*VP*00113~PID*F****Braided rope 10 mm, white~PO1*2*3*EA*64.50**VP*00501~" +
	"SAC*C*D240***1850~CTT*2~AMT*TT*241~SE*15*0001~GE*1*77~IEA*1*000000905~"

// wrap returns a document of one interchange with the segments of a set.
func wrap(segments ...string) string {
	head, _, _ := strings.Cut(plain850, "ST*")
	set := append([]string{"ST*850*0001"}, segments...)
	set = append(set, fmt.Sprintf("SE*%d*0001", len(set)+1))
	return head + strings.Join(set, "~") + "~GE*1*77~IEA*1*000000905~"
}

func findings(t testing.TB, doc string) (list []string, sets int) {
	t.Helper()
	add := func(f Finding) { list = append(list, fmt.Sprintf("%s %s %s", f.Level, f.Code, f.Place)) }
	err := Read(strings.NewReader(doc), Handler{
		Set: func(s *Set) error {
			sets++
			_, found := Check(s)
			for _, f := range found {
				if f.Level == AtSegment || f.Level == AtElement || f.Level == AtSet &&
					(f.Code == "1" || f.Code == "6" || f.Code == "7") {
					add(f)
				}
			}
			return nil
		},
		Finding: func(f Finding) error { add(f); return nil },
	})
	if err != nil {
		t.Fatal(err)
	}
	return list, sets
}

// Every way of being wrong gives the standard's code at its place, and what is
// right gives nothing.
func TestFindings(t *testing.T) {
	const beg, line = "BEG*00*SA*PM-1**20260314", "PO1*1*20*MR*1.45**VP*00113"
	swap := strings.NewReplacer
	for _, c := range []struct {
		name, doc string
		sets      int
		want      []string
	}{
		{"an order", plain850, 1, nil},
		{"line ends between segments", strings.ReplaceAll(plain850, "~", "~\r\n"), 1, nil},
		{"a line end as terminator", strings.ReplaceAll(plain850, "~", "\n"), 1, nil},
		{"other delimiters", swap("*", "|", "~", "\x1c", ">", "\\").Replace(plain850), 1, nil},
		{"5010 with repetition", swap("*U*00401*", "*^*00501*", "004010", "005010").Replace(plain850), 1, nil},
		{"two interchanges", plain850 + "\r\n" + plain850, 2, nil},
		{"two groups", strings.Replace(plain850, "IEA*1", "GS*PO*A*B*20260314*0930*78*X*004010~ST*850*0009~"+beg+"~"+
			line+"~SE*4*0009~GE*1*78~IEA*2", 1), 2, nil},
		{"nothing", "", 0, nil},
		{"rubbish", "hello", 0, []string{"interchange 024 "}},
		{"rubbish in front", "hello\n" + plain850, 1, []string{"interchange 024 "}},
		{"an ISA without padding", strings.Replace(strings.Replace(plain850, "PELLOW         ", "PELLOW", 1),
			"QUILLMERE      ", "QUILLMERE", 1), 1, []string{"interchange 024 ISA 000000905"}},
		{"cut in a segment", plain850[:len(plain850)-12], 1, []string{"interchange 023 ISA 000000905",
			"interchange 023 ISA 000000905"}},
		{"cut in a set", plain850[:strings.Index(plain850, "SAC")], 1,
			[]string{"interchange 023 ISA 000000905 / ST 0001", "set 2 ISA 000000905 / ST 0001",
				"group 3 ISA 000000905 / GS 77"}},
		{"IEA01", strings.Replace(plain850, "IEA*1", "IEA*2", 1), 1, []string{"interchange 021 ISA 000000905"}},
		{"IEA02", strings.Replace(plain850, "IEA*1*000000905", "IEA*1*000000906", 1), 1,
			[]string{"interchange 001 ISA 000000905"}},
		{"GE01", strings.Replace(plain850, "GE*1", "GE*3", 1), 1, []string{"group 5 ISA 000000905 / GS 77"}},
		{"GE02", strings.Replace(plain850, "GE*1*77", "GE*1*76", 1), 1, []string{"group 4 ISA 000000905 / GS 77"}},
		{"no GE", strings.Replace(plain850, "GE*1*77~", "", 1), 1, []string{"group 3 ISA 000000905 / GS 77"}},
		{"SE01", strings.Replace(plain850, "SE*15", "SE*14", 1), 1, []string{"set 4 ISA 000000905 / ST 0001"}},
		{"SE02", strings.Replace(plain850, "SE*15*0001", "SE*15*0002", 1), 1,
			[]string{"set 3 ISA 000000905 / ST 0001"}},
		{"no SE, and its neighbour is well", strings.Replace(plain850, "SE*15*0001~GE*1",
			"ST*850*0002~"+beg+"~"+line+"~SE*4*0002~GE*2", 1), 2, []string{"set 2 ISA 000000905 / ST 0001"}},
		{"a segment outside of sets", strings.Replace(plain850, "ST*850", "REF*CT*1~ST*850", 1), 1,
			[]string{"interchange 024 ISA 000000905 / GS 77"}},
		{"an unknown set", strings.Replace(wrap(beg, line), "ST*850", "ST*123", 1), 1, []string{"set 1 "}},
		{"no BEG", wrap(line), 1, []string{"segment 3 ST 0001 / BEG"}},
		{"no line", wrap(beg), 1, []string{"segment 3 ST 0001 / PO1"}},
		{"an unknown segment", wrap(beg, "XYZ*1", line), 1, []string{"segment 1 ST 0001 / XYZ"}},
		{"a segment of another set", wrap(beg, "AK5*A", line), 1, []string{"segment 6 ST 0001 / AK5"}},
		{"out of its order", wrap(beg, line, "CUR*BY*EUR", "CTT*1", "BEG*00*SA*PM-2**20260314"), 1,
			[]string{"segment 7 ST 0001 / BEG"}},
		{"out of its order within a line, and what follows is well",
			wrap(beg, line, "DTM*002*20260401", "PID*F****rope", "N1*ST*x", line), 1,
			[]string{"segment 7 ST 0001 / PO1 / PID"}},
		{"a line behind the totals", wrap(beg, line, "CTT*1", line, "PID*F****rope", "CTT*2"), 1,
			[]string{"segment 7 ST 0001 / PO1 #2", "segment 4 ST 0001 / CTT #2"}},
		{"of another group", strings.Replace(plain850, "GS*PO", "GS*IN", 1), 1, []string{"set 6 "}},
		{"one number twice in a group", strings.Replace(plain850, "GE*1", "ST*850*0001~"+beg+"~"+line+"~SE*4*0001~GE*2",
			1), 2, []string{"set 23 ISA 000000905 / ST 0001"}},
		{"days before 004010", strings.NewReplacer("00401*", "00304*", "004010", "003040",
			"BEG*00*SA*PM-4711**20260314", "BEG*00*SA*PM-4711**260314", "DTM*002*20260330",
			"DTM*002*260330").Replace(plain850), 1, nil},
		{"ISA with a wrong day and time", strings.Replace(plain850, "260314*0930*U", "261314*0990*U", 1), 1,
			[]string{"interchange 014 ISA 000000905", "interchange 015 ISA 000000905"}},
		{"ISA with a wrong usage", strings.Replace(plain850, "*0*T*>", "*0*X*>", 1), 1,
			[]string{"interchange 020 ISA 000000905"}},
		{"a control number of letters", strings.ReplaceAll(plain850, "000000905", "00000090A"), 1,
			[]string{"interchange 018 ISA 00000090A"}},
		{"too often", wrap(beg, "CUR*BY*EUR", "CUR*SE*EUR", line), 1, []string{"segment 5 ST 0001 / CUR #2"}},
		{"a mandatory element", wrap("BEG*00**PM-1**20260314", line), 1, []string{"element 1 ST 0001 / BEG / 02"}},
		{"too many elements", wrap(beg, "CUR*BY*EUR*1.5*BY*EUR*1*002*20260101*0900*1", line), 1,
			[]string{"element 4 ST 0001 / CUR / 03", "element 7 ST 0001 / CUR / 06",
				"element 3 ST 0001 / CUR / 10"}[0:1]},
		{"too short", wrap(beg, "N1*S*x", line), 1, []string{"element 4 ST 0001 / N1 / 01"}},
		{"too long", wrap("BEG*00*SA*"+strings.Repeat("9", 23)+"**20260314", line), 1,
			[]string{"element 5 ST 0001 / BEG / 03"}},
		{"not a number", wrap(beg, "PO1*1*twenty*MR*1.45"), 1, []string{"element 6 ST 0001 / PO1 / 02"}},
		{"not a code", wrap(beg, line, "PID*Q****x"), 1, []string{"element 7 ST 0001 / PO1 / PID / 01"}},
		{"not a day", wrap("BEG*00*SA*PM-1**20260231", line), 1, []string{"element 8 ST 0001 / BEG / 05"}},
		{"not a time", wrap(beg, "DTM*002*20260330*2561", line), 1, []string{"element 9 ST 0001 / DTM / 03"}},
		{"a pair apart", wrap(beg, "N1*ST*x*92", line), 1, []string{"element 2 ST 0001 / N1 / 04"}},
		{"one of several", wrap(beg, "N1*ST", line), 1, []string{"element 2 ST 0001 / N1 / 02"}},
		{"one because of another", wrap(beg, "PO1*1*20**1.45"), 1, nil},
		{"the second line", wrap(beg, line, "PO1*2**EA*1"), 1, []string{"element 2 ST 0001 / PO1 #2 / 02"}},
		{"a price of the second line", wrap(beg, line, "PO1*2*1*EA*1,50"), 1,
			[]string{"element 6 ST 0001 / PO1 #2 / 04"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, sets := findings(t, c.doc)
			if c.name == "too many elements" {
				for _, f := range got {
					if f == "element 3 ST 0001 / CUR / 10" {
						return
					}
				}
				t.Fatal(got)
			}
			if sets != c.sets || strings.Join(got, "; ") != strings.Join(c.want, "; ") {
				t.Errorf("%d sets, %q; want %d, %q", sets, got, c.sets, c.want)
			}
		})
	}
}

// The dictionary hangs together: what sets name is a segment, what segments
// name is an element, and notes speak of elements that are there.
func TestDictionary(t *testing.T) {
	var walk func(set string, nodes []node)
	walk = func(set string, nodes []node) {
		for i := range nodes {
			n := &nodes[i]
			if segments[n.id] == nil || n.most < 1 || n.inner != nil && n.inner[0].id != n.id {
				t.Errorf("set %s: %s", set, n.id)
			}
			walk(set, n.inner)
		}
	}
	for id, set := range sets {
		walk(id, set.nodes)
	}
	for _, defs := range []map[string]*segmentDef{segments, composites} {
		for id, def := range defs {
			for _, use := range def.elements {
				if use.element == nil && use.composite == nil {
					t.Errorf("%s names the element %s", id, use.ref)
				}
			}
			for _, n := range def.notes {
				if !strings.ContainsRune("PRECL", rune(n.kind)) || len(n.at) < 2 {
					t.Errorf("%s: a note %c%v", id, n.kind, n.at)
				}
				for _, at := range n.at {
					if at < 1 || at > len(def.elements) {
						t.Errorf("%s: a note %c%v", id, n.kind, n.at)
					}
				}
			}
		}
	}
	for _, wrong := range []string{"set 1", "element 1 ID x 2 name", "segment A b\n  P0X", "set 1 A b\n      ST M 1",
		"word a b c", "set 1 A b\n  ST M"} {
		if _, err := readDictionary(wrong); err == nil {
			t.Errorf("%q is taken for a dictionary", wrong)
		}
	}
}

func TestShow(t *testing.T) {
	var b bytes.Buffer
	n, err := Show(&b, strings.NewReader(strings.Replace(plain850, "*20260330~", "*20261330~", 1)))
	if err != nil || n != 1 {
		t.Fatal(n, err)
	}
	flat := strings.Join(strings.Fields(b.String()), " ")
	for _, want := range []string{"Interchange 000000905 from ZZ:PELLOW to ZZ:QUILLMERE, 2026-03-14 09:30, " +
		"version 00401, test", "Set 0001: 850 Purchase Order", "BEG Beginning Segment for Purchase Order",
		"02 Purchase Order Type Code SA = Stand-alone Order", "05 Date 20260314 = 2026-03-14",
		"03 Unit or Basis for Measurement Code MR = Meter", "05 Amount 1850 = 18.50", "PO1 #2 Baseline Item Data",
		`✕ ST 0001 / DTM / 02: "20261330" is not a day written CCYYMMDD (Date). [element 8]`} {
		if !strings.Contains(flat, want) {
			t.Errorf("it does not say %q:\n%s", want, &b)
		}
	}
}

func TestAcknowledge(t *testing.T) {
	at := time.Date(2026, 3, 15, 8, 5, 0, 0, time.UTC)
	const head = "ISA*00*          *00*          *ZZ*QUILLMERE      *ZZ*PELLOW         " +
		"*260315*0805*U*00401*000000031*0*T*>~"
	group := func(body string) string {
		n := strings.Count(body, "~") + 2
		return "GS*FA*QUILLMERE*PELLOW*20260315*0805*12*X*004010~ST*997*0001~" +
			body + fmt.Sprintf("SE*%d*0001~GE*1*12~", n)
	}
	second := "ST*850*0002~BEG*00**PM-1**20260314~PO1*1*x*MR~SE*4*0002~GE*2"
	const ta1 = "TA1*000000905*260314*0930*"
	one := group("AK1*PO*77~AK2*850*0001~AK5*A~AK9*A*1*1*1~") + "IEA*1*000000031~"
	two := strings.Replace(plain850, "GE*1", second, 1)
	whole := group("AK1*PO*77~AK2*850*0001~AK5*A~AK2*850*0002~AK3*BEG*2**8~AK4*2*92*1~AK3*PO1*3**8~AK4*2*330*6*x~AK5*R*5~AK9*R*2*2*0~") +
		"IEA*1*000000031~"
	for _, c := range []struct {
		name, doc, want string
		policy          Policy
	}{
		{"accepted", plain850, head + group("AK1*PO*77~AK2*850*0001~AK5*A~AK9*A*1*1*1~") + "IEA*1*000000031~", Policy{}},
		{"noted", strings.Replace(plain850, "*20260330~", "*20261330~", 1),
			head + group("AK1*PO*77~AK2*850*0001~AK3*DTM*5**8~AK4*2*373*8*20261330~AK5*E*5~AK9*E*1*1*1~") +
				"IEA*1*000000031~", Policy{}},
		{"one of two rejected", strings.Replace(plain850, "GE*1", second, 1),
			head + group("AK1*PO*77~AK2*850*0001~AK5*A~AK2*850*0002~AK3*BEG*2**8~AK4*2*92*1~AK3*PO1*3**8~"+
				"AK4*2*330*6*x~AK5*R*5~AK9*P*2*2*1~") + "IEA*1*000000031~", Policy{}},
		{"miscounted", strings.Replace(plain850, "SE*15", "SE*16", 1),
			head + group("AK1*PO*77~AK2*850*0001~AK5*R*4~AK9*R*1*1*0~") + "IEA*1*000000031~", Policy{}},
		{"a wrong count of sets", strings.Replace(plain850, "GE*1", "GE*2", 1),
			head + group("AK1*PO*77~AK2*850*0001~AK5*A~AK9*R*2*1*0*5~") + "IEA*1*000000031~", Policy{}},
		{"no id of a set", strings.Replace(plain850, "ST*850", "ST*", 1),
			head + group("AK1*PO*77~AK2*000*0001~AK5*R*6~AK9*R*1*1*0~") + "IEA*1*000000031~", Policy{}},
		{"asked for a TA1", strings.Replace(plain850, "*0*T*>", "*1*T*>", 1),
			head + "TA1*000000905*260314*0930*A*000~" + group("AK1*PO*77~AK2*850*0001~AK5*A~AK9*A*1*1*1~") +
				"IEA*1*000000031~", Policy{}},
		{"a wrong envelope", strings.Replace(plain850, "IEA*1", "IEA*4", 1),
			head + "TA1*000000905*260314*0930*E*021~" + group("AK1*PO*77~AK2*850*0001~AK5*A~AK9*A*1*1*1~") +
				"IEA*1*000000031~", Policy{}},
		{"a TA1 always", plain850, head + ta1 + "A*000~" + one, Policy{TA1: TA1Always}},
		{"a TA1 never, though asked for", strings.Replace(plain850, "*0*T*>", "*1*T*>", 1), head + one,
			Policy{TA1: TA1Never}},
		{"only what is asked for", strings.Replace(plain850, "IEA*1", "IEA*4", 1), head + one, Policy{TA1: TA1Asked}},
		{"a TA1 alone", plain850, head + ta1 + "A*000~IEA*0*000000031~", Policy{TA1: TA1Always, NoGroups: true}},
		{"a fault that rejects all", strings.Replace(plain850, "IEA*1", "IEA*4", 1), head + ta1 + "R*021~IEA*0*000000031~",
			Policy{Reject: []string{"014", "021"}}},
		{"another fault", strings.Replace(plain850, "IEA*1", "IEA*4", 1), head + ta1 + "E*021~" + one,
			Policy{Reject: []string{"014"}}},
		{"a set rejects its group", two, head + whole, Policy{Whole: WholeGroup}},
		{"a set rejects the interchange", two, head + ta1 + "R*024~" + whole, Policy{Whole: WholeInterchange}},
		{"nothing to reject it for", plain850, head + one, Policy{Whole: WholeInterchange}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var b bytes.Buffer
			if err := Acknowledge(&b, strings.NewReader(c.doc), c.policy, func(int) (Answer,
				error) {
				return Answer{Interchange: 31, Group: 12, At: at}, nil
			}); err != nil || b.String() != c.want {
				t.Errorf("%v\n%s\nwant\n%s", err, strings.ReplaceAll(b.String(), "~", "~\n"),
					strings.ReplaceAll(c.want, "~", "~\n"))
			}
			if found, _ := findings(t, b.String()); len(found) > 0 {
				t.Errorf("the answer is wrong itself: %q", found)
			}
			var newer bytes.Buffer
			err := Acknowledge(&newer, strings.NewReader(c.doc), c.policy, func(int) (Answer, error) {
				return Answer{Interchange: 31, Group: 12, At: at, Implementation: true}, nil
			})
			want := strings.NewReplacer("ST*997", "ST*999", "AK1*PO*77", "AK1*PO*77*004010", "AK3*", "IK3*", "AK4*",
				"IK4*", "AK5*", "IK5*").Replace(c.want)
			if err != nil || newer.String() != want {
				t.Errorf("%v\n%s\nwant\n%s", err, &newer, want)
			}
			if found, _ := findings(t, newer.String()); len(found) > 0 {
				t.Errorf("the 999 is wrong itself: %q", found)
			}
			// An acknowledgement is not acknowledged.
			var again bytes.Buffer
			if err := Acknowledge(&again, &b, Policy{}, func(int) (Answer, error) {
				return Answer{Interchange: 1, Group: 1, At: at}, nil
			}); err != nil || again.Len() > 0 {
				t.Errorf("%v %s", err, &again)
			}
		})
	}
}

// Whatever comes: no panic, every byte is read, and the answer to it is right.
func FuzzRead(f *testing.F) {
	f.Add([]byte(plain850))
	f.Add([]byte(strings.ReplaceAll(plain850, "~", "~\r\n")[:300]))
	f.Add([]byte("ISA*ISA*00~ST*850~SE~GE~IEA"))
	f.Add([]byte(wrap("PO1*1", "PO1", "CTT", "BEG", "SE")))
	f.Fuzz(func(t *testing.T, doc []byte) {
		r := &countReader{r: bytes.NewReader(doc)}
		e := 0
		if err := Read(r, Handler{Finding: func(f Finding) error {
			if e++; f.Offset < 0 || f.Offset > int64(len(doc)) || f.Message == "" || f.Code == "" {
				t.Errorf("%+v", f)
			}
			return nil
		}, Set: func(s *Set) error {
			placed, _ := Check(s)
			if len(placed) != len(s.Segments) {
				t.Errorf("%d segments of %d are placed", len(placed), len(s.Segments))
			}
			return nil
		}}); err != nil {
			t.Fatal(err)
		}
		if r.n != int64(len(doc)) {
			t.Errorf("%d bytes of %d were read", r.n, len(doc))
		}
		if len(bytes.TrimSpace(doc)) > 0 && !bytes.Contains(doc, []byte("ISA")) && e == 0 {
			t.Error("nothing was said of what is no interchange")
		}
		if _, err := Show(io.Discard, bytes.NewReader(doc)); err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		if err := Acknowledge(&b, bytes.NewReader(doc), Policy{}, func(int) (Answer, error) {
			return Answer{Interchange: 1, Group: 1, At: time.Unix(0, 0).UTC(), Implementation: true}, nil
		}); err != nil {
			t.Fatal(err)
		}
		if err := Read(&b, Handler{Set: func(s *Set) error {
			if _, found := Check(s); len(found) > 0 && s.Group != nil && s.Group.FunctionalID == "FA" {
				t.Errorf("the answer is wrong itself: %+v", found[0])
			}
			return nil
		}}); err != nil {
			t.Fatal(err)
		}
	})
}

type countReader struct {
	r io.Reader
	n int64
}

func (c *countReader) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// BenchmarkTokenize cuts an interchange into segments and elements, and in turn
// only looks for its segment terminators.
func BenchmarkTokenize(b *testing.B) {
	head, rest, _ := strings.Cut(plain850, "ST*850")
	set := "ST*850" + rest[:strings.Index(rest, "GE*")]
	doc := []byte(head + strings.Repeat(set, 40_000) + "GE*40000*77~IEA*1*000000905~")
	var floor, ours time.Duration
	for b.Loop() {
		at := cputime.Used(b)
		r := bytes.NewReader(doc)
		buf := make([]byte, 256<<10)
		n := 0
		for {
			k, err := r.Read(buf)
			for rest := buf[:k]; ; n++ {
				i := bytes.IndexByte(rest, '~')
				if i < 0 {
					break
				}
				rest = rest[i+1:]
			}
			if err != nil {
				break
			}
		}
		floor += cputime.Used(b) - at
		at = cputime.Used(b)
		s := newScanner(bytes.NewReader(doc))
		if _, _, err := s.isa(); err != nil {
			b.Fatal(err)
		}
		elements := 0
		for {
			seg, err := s.next()
			if err != nil {
				break
			}
			elements += seg.Len()
		}
		ours += cputime.Used(b) - at
		if n == 0 || elements == 0 {
			b.Fatal("nothing was read")
		}
	}
	b.SetBytes(int64(len(doc)))
	b.ReportMetric(floor.Seconds()/ours.Seconds(), "×floor-speed")
}
