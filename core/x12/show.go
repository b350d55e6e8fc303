package x12

import (
	"bufio"
	"fmt"
	"io"
	"strings"
)

// Item is one thing of an interchange as people read it: an envelope, a set, or
// a segment in its loop.
type Item struct {
	Kind     string    `json:"kind" enum:"interchange,group,set,segment"`
	Row      int       `json:"row" doc:"Which segment of the document, counted from 1"`
	Depth    int       `json:"depth" doc:"How far it is set in: envelopes, then loops"`
	ID       string    `json:"id" doc:"ISA, GS, ST or the segment's own id"`
	Count    int       `json:"count,omitempty" doc:"Which one of its id or loop, from the second on"`
	Text     string    `json:"text" doc:"In a line: what it is"`
	Elements []Element `json:"elements,omitempty"`
	Findings []Remark  `json:"findings,omitempty"`
}

// Element is an element that is filled, with its name and what its value means.
type Element struct {
	Number int    `json:"number"`
	Name   string `json:"name"`
	Value  string `json:"value"`
	Means  string `json:"means,omitempty" doc:"A code's meaning, a date, an amount with its point"`
}

// Remark is a finding at an item.
type Remark struct {
	Level   Level  `json:"level"`
	Code    string `json:"code" doc:"The standard's code, of the list that the level names"`
	Message string `json:"message"`
	Place   string `json:"place"`
	Element int    `json:"element,omitempty" doc:"Counted from 1"`
}

func remarks(list ...Finding) (all []Remark) {
	for _, f := range list {
		all = append(all, Remark{f.Level, f.Code, printable(f.Message), f.Place, f.Element})
	}
	return all
}

// Outline returns interchanges item by item, each with what was found there.
// Findings about envelopes come as items without elements.
func Outline(r io.Reader, yield func(Item) error) error {
	return Read(r, Handler{
		Interchange: func(i *Interchange) error {
			usage := map[string]string{"P": "production", "T": "test", "I": "information"}[i.Usage]
			if usage == "" {
				usage = "usage " + printable(i.Usage)
			}
			return yield(Item{Kind: "interchange", Row: i.Segment.Row, ID: "ISA",
				Text: fmt.Sprintf("Interchange %s from %s:%s to %s:%s, %s %s, version %s, %s", printable(i.Control),
					printable(i.SenderQualifier), printable(i.Sender), printable(i.ReceiverQualifier),
					printable(i.Receiver), dated(i.Date), timed(i.Time), printable(i.Version), usage)})
		},
		Group: func(g *Group) error {
			return yield(Item{Kind: "group", Row: g.Segment.Row, Depth: 1, ID: "GS",
				Text: fmt.Sprintf("Group %s of %s (%s) from %s to %s, %s %s, version %s", printable(g.Control),
					printable(g.FunctionalID), elements["479"].codes[g.FunctionalID],
					printable(g.Sender), printable(g.Receiver), dated(g.Date), timed(g.Time), printable(g.Version))})
		},
		Set:    func(s *Set) error { return outlineSet(s, yield) },
		Answer: func(s *Segment) error { return yield(segmentItem(s, 1, 1)) },
		Finding: func(f Finding) error {
			if f.Level == AtSet {
				return nil // those are shown with their set
			}
			return yield(Item{Kind: string(f.Level), Row: f.Row, Depth: 1, Text: printable(f.Message),
				Findings: remarks(f)})
		},
	})
}

func outlineSet(set *Set, yield func(Item) error) error {
	name := SetName(set.ID)
	if name == "" {
		name = "not known"
	}
	placed, found := Check(set)
	found = append(found, CheckCount(set, placed)...)
	head := Item{Kind: "set", Row: set.Segments[0].Row, Depth: 2, ID: "ST",
		Text: fmt.Sprintf("Set %s: %s %s", printable(set.Control), printable(set.ID), name)}
	at := map[int][]Finding{} // by row
	last := set.Segments[len(set.Segments)-1].Row
	for _, f := range found {
		switch {
		case f.Level == AtSet && f.Position == 0 || f.Row < head.Row || f.Row > last:
			head.Findings = append(head.Findings, remarks(f)...)
		default:
			at[f.Row] = append(at[f.Row], f)
		}
	}
	if err := yield(head); err != nil {
		return err
	}
	for _, p := range placed {
		item := segmentItem(p.Segment, 3+p.Depth, p.Count)
		item.Findings = remarks(at[p.Segment.Row]...)
		if err := yield(item); err != nil {
			return err
		}
	}
	return nil
}

func segmentItem(s *Segment, depth, count int) Item {
	item := Item{Kind: "segment", Row: s.Row, Depth: depth, ID: printable(clip(s.ID)), Text: nameOf(s.ID)}
	if count > 1 {
		item.Count = count
	}
	for n := 1; n <= s.Len(); n++ {
		v := s.Element(n)
		if v == "" {
			continue
		}
		name, means := Meaning(s.ID, n, v)
		item.Elements = append(item.Elements, Element{n, name, printable(v), means})
	}
	return item
}

// Show prints interchanges as people read them: loops indented, every element with its name, codes spelled out, dates
// and amounts plain, findings where they are. It returns how many findings there were.
func Show(w io.Writer, r io.Reader) (findings int, err error) {
	out := bufio.NewWriter(w)
	some := false
	err = Outline(r, func(i Item) error {
		some = true
		indent := strings.Repeat("  ", i.Depth)
		count := ""
		if i.Count > 0 {
			count = fmt.Sprintf(" #%d", i.Count)
		}
		switch i.Kind {
		case "interchange", "group", "set":
			if i.ID != "" {
				fmt.Fprintf(out, "%s%s\n", indent, i.Text)
			}
		case "segment":
			fmt.Fprintf(out, "%s%s%s %s\n", indent, i.ID, count, i.Text)
		}
		for _, e := range i.Elements {
			means := ""
			if e.Means != "" {
				means = " = " + e.Means
			}
			fmt.Fprintf(out, "%s  %02d %-32s %s%s\n", indent, e.Number, e.Name, e.Value, means)
		}
		for _, f := range i.Findings {
			findings++
			fmt.Fprintf(out, "%s  ✕ %s: %s [%s %s]\n", indent, f.Place, f.Message, f.Level, f.Code)
		}
		return nil
	})
	if !some && err == nil {
		findings++
		fmt.Fprintln(out, NoInterchange)
	}
	if e := out.Flush(); err == nil {
		err = e
	}
	return findings, err
}

// NoInterchange says that there is nothing to read.
const NoInterchange = "The document holds no interchange."

func dated(v string) string {
	if d, err := day(v); err == nil {
		return d.Format("2006-01-02")
	}
	return printable(v)
}

func timed(v string) string {
	if isTime([]byte(v)) {
		return v[:2] + ":" + v[2:4]
	}
	return printable(v)
}

// printable keeps a document from steering the terminal.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 {
			return '·'
		}
		return r
	}, s)
}
