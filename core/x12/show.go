package x12

import (
	"bufio"
	"fmt"
	"io"
	"strings"
)

// Show prints interchanges as people read them: loops indented, every element
// with its name, codes spelled out, dates and amounts plain, findings where
// they are. It gives how many findings there were.
func Show(w io.Writer, r io.Reader) (findings int, err error) {
	out := bufio.NewWriter(w)
	say := func(indent int, f *Finding) {
		findings++
		fmt.Fprintf(out, "%s✕ %s: %s [%s %s]\n", strings.Repeat(" ", indent), f.Place, printable(f.Message), f.Level, f.Code)
	}
	err = Read(r, Handler{
		Interchange: func(i *Interchange) error {
			fmt.Fprintf(out, "Interchange %s from %s:%s to %s:%s, %s %s, version %s, %s\n", printable(i.Control), i.SenderQualifier, printable(i.Sender), i.ReceiverQualifier, printable(i.Receiver), dated(i.Date), timed(i.Time), printable(i.Version), map[string]string{"P": "production", "T": "test", "I": "information"}[i.Usage])
			return nil
		},
		Group: func(g *Group) error {
			fmt.Fprintf(out, "  Group %s of %s (%s) from %s to %s, %s %s, version %s\n", printable(g.Control), g.FunctionalID, elements["479"].codes[g.FunctionalID], printable(g.Sender), printable(g.Receiver), dated(g.Date), timed(g.Time), printable(g.Version))
			return nil
		},
		Set: func(set *Set) error {
			name := "not known"
			if d := sets[set.ID]; d != nil {
				name = d.name
			}
			fmt.Fprintf(out, "    Set %s: %s %s\n", printable(set.Control), printable(set.ID), name)
			placed, found := Check(set)
			at := map[int64][]Finding{}
			for _, f := range found {
				if f.Level == AtSegment || f.Level == AtElement || f.Level == AtSet && f.Position > 0 {
					at[f.Offset] = append(at[f.Offset], f)
				}
			}
			for _, p := range placed {
				indent := 6 + 2*p.Depth
				number := ""
				if p.Count > 1 {
					number = fmt.Sprintf(" #%d", p.Count)
				}
				fmt.Fprintf(out, "%s%s%s %s\n", strings.Repeat(" ", indent), printable(p.Segment.ID), number, nameOf(p.Segment.ID))
				for n := 1; n <= p.Segment.Len(); n++ {
					v := p.Segment.Element(n)
					if v == "" {
						continue
					}
					name, means := Meaning(p.Segment.ID, n, v)
					if means != "" {
						means = " = " + means
					}
					fmt.Fprintf(out, "%s%02d %-32s %s%s\n", strings.Repeat(" ", indent+2), n, name, printable(v), means)
				}
				for i := range at[p.Segment.Offset] {
					say(indent+2, &at[p.Segment.Offset][i])
				}
				delete(at, p.Segment.Offset)
			}
			for _, f := range found { // about segments that are not there
				if rest := at[f.Offset]; len(rest) > 0 {
					for i := range rest {
						say(6, &rest[i])
					}
					delete(at, f.Offset)
				}
			}
			return nil
		},
		Finding: func(f Finding) error {
			if f.Level != AtSet || f.Position == 0 { // those are shown at their segment
				say(2, &f)
			}
			return nil
		},
	})
	if e := out.Flush(); err == nil {
		err = e
	}
	return findings, err
}

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
