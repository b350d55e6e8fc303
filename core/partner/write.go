package partner

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"time"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/notice"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/reading"
	"koinos/core/source"
	"koinos/core/writing"
	"koinos/core/x12"
)

// Compose writes an order, as the seller sees it, into a transaction set as the partner wants it. It checks the result
// against the dictionary and the partner's rules, and by reading it back. A finding of severity error says why the set
// must not be sent.
func (p *Partner) Compose(m *mapping.Mapping, views []order.Order, lists *list.Set) (*x12.Writing, []finding.Finding) {
	set := m.Document.Set
	w, err := x12.NewWriting(set, &p.style)
	if err != nil {
		return nil, []finding.Finding{finding.New(finding.FieldUnwritten, origin.Place{}, set, "%v.", err)}
	}
	found := writing.Compose(m, w, views, lists, p.Hash)
	w.Fill(p.Rules[set])
	for _, n := range w.Notes {
		code := finding.CharacterChanged
		if n.Code != "" {
			code = finding.X12Rule
		}
		f := finding.New(code, origin.Place{Segment: n.Place}, n.Value, "%s", n.Message)
		found = append(found, f)
	}
	found = append(found, p.look(m, w, views, lists)...)
	if at, ok := purposes[set]; ok && len(views) > 0 && views[0].Statement != nil {
		if code := at.of(views[0].Statement); code != "" {
			w.Replace(at.segment, at.element, code) // it is read back by its usual purpose
		}
	}
	return w, found
}

// purposes are the elements that state the purpose of a notice that does not do what its kind usually does.
var purposes = map[string]struct {
	segment string
	element int
	of      func(*order.Statement) string
}{"856": {"BSN", 1, byCode}, "860": {"BCH", 1, byCode}, "810": {"BIG", 7, byCode},
	"865": {"BCA", 1, func(s *order.Statement) string {
		if s.Unasked {
			return notice.Changed
		}
		return ""
	}}}

func byCode(s *order.Statement) string { return s.Code }

// look reads back what was written.
func (p *Partner) look(m *mapping.Mapping, w *x12.Writing, views []order.Order, lists *list.Set) []finding.Finding {
	var found []finding.Finding
	bad := func(code finding.Code, at origin.Place, value, format string, args ...any) {
		found = append(found, finding.New(code, at, value, format, args...))
	}
	var b bytes.Buffer
	probe := p.Envelope(1, 1, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC))
	if err := probe.Write(&b, &p.style, []*x12.Writing{w}); err != nil {
		bad(finding.X12Rule, origin.Place{}, "", "It cannot be written: %v.", err)
		return found
	}
	sets := 0
	err := x12.Read(bytes.NewReader(b.Bytes()), x12.Handler{
		Finding: func(f x12.Finding) error {
			bad(finding.X12Rule, source.PlaceOfX12(&f), f.Value, "%s (%s %s)", f.Message, f.Level, f.Code)
			return nil
		},
		Set: func(s *x12.Set) error {
			sets++
			placed, all := x12.Check(s)
			root := x12.Tree(s, placed)
			all = append(all, x12.CheckCount(s, placed)...)
			for i := range all {
				bad(finding.X12Rule, source.PlaceOfX12(&all[i]), all[i].Value, "%s (%s %s)", all[i].Message,
					all[i].Level, all[i].Code)
			}
			found = append(found, p.broken(s.ID, x12.CheckRules(root, p.Rules[s.ID]))...)
			return nil
		},
	})
	if err != nil || sets != 1 {
		bad(finding.X12Rule, origin.Place{}, "", "What was written cannot be read back (%d transaction sets, %v).",
			sets, err)
	}
	for _, f := range found {
		if f.Severity == finding.Error {
			return found // said already; reading orders of it says it again in other words
		}
	}
	return append(found, p.readBack(m, b.Bytes(), views, lists)...)
}

// readBack compares the orders that the partner will read with those that were to be written.
func (p *Partner) readBack(m *mapping.Mapping, doc []byte, views []order.Order, lists *list.Set) []finding.Finding {
	broken := func(format string, args ...any) []finding.Finding {
		return []finding.Finding{finding.New(finding.X12Rule, origin.Place{}, "", format, args...)}
	}
	opt := m.Options(source.DefaultLimits)
	opt.Encoding = p.Encoding()
	src, err := source.Open(bytes.NewReader(doc), int64(len(doc)), opt)
	if err != nil {
		return broken("What was written cannot be read back: %v.", err)
	}
	var all []finding.Finding
	written := reading.NewTable(m, src, nil)
	for i := range views {
		g, err := written.Next()
		if err != nil {
			return broken("What was written cannot be read back: %v.", err)
		}
		got := reading.Read(m, &g, lists).Order
		all = append(all, differs(&views[i], &got)...)
	}
	return all
}

// differs describes how what the partner would read differs from the order.
func differs(view, got *order.Order) (all []finding.Finding) {
	for _, c := range order.Diff(view, got) {
		numeric := c.Field == "quantity" || c.Field == "unit_price" || strings.HasPrefix(c.Field, "charge.") ||
			strings.HasPrefix(c.Field, "allowance.")
		// texts may have been transliterated
		if c.Was == "" || !numeric && c.Field != "sender_number" && c.Field != "item" && c.Field != "unit" {
			continue
		}
		f := finding.New(finding.X12Rule, origin.Place{}, c.Is,
			"The partner would read %q where the order has %q (%s).", c.Is, c.Was, c.Field)
		f.Field, f.Line = c.Field, c.Line
		all = append(all, f)
	}
	return all
}

// broken turns broken rules into findings: errors, or warnings for rules with should.
func (p *Partner) broken(set string, rules []x12.Finding) []finding.Finding {
	var all []finding.Finding
	for i := range rules {
		f := finding.New(finding.X12Rule, source.PlaceOfX12(&rules[i]), rules[i].Value, "A rule of %s for %s: %s",
			p.Name, set, rules[i].Message)
		if rules[i].Code == "should" {
			f.Severity = finding.Warning
		}
		all = append(all, f)
	}
	return all
}

// CheckSet compares a set that has come with the partner's rules.
func (p *Partner) CheckSet(s *x12.Set, placed []x12.Placed) []finding.Finding {
	var all []finding.Finding
	if rules := p.Rules[s.ID]; len(rules) > 0 { // a tree of the set costs as much as reading it
		all = p.broken(s.ID, x12.CheckRules(x12.Tree(s, placed), rules))
	}
	for _, f := range x12.CheckCount(s, placed) {
		all = append(all, finding.New(finding.X12Noted, source.PlaceOfX12(&f), f.Value, "%s", f.Message))
	}
	return all
}

// Envelope is the envelope around what we write to the partner.
func (p *Partner) Envelope(control, group int64, at time.Time) x12.Envelope {
	return x12.Envelope{
		SenderQualifier: p.Us.Qualifier, Sender: p.Us.ID, ReceiverQualifier: p.Them.Qualifier, Receiver: p.Them.ID,
		GroupSender: p.Us.Group, GroupReceiver: p.Them.Group,
		Usage: p.Usage, Acknowledge: p.Acknowledge.Ask, Control: int(control), Group: int(group), At: at,
	}
}

// Key identifies a side in interchanges, with its qualifier: ZZ:PELLOW.
func (id ID) Key() string { return id.Qualifier + ":" + id.ID }

// Write writes an interchange of sets to the partner.
func (p *Partner) Write(out io.Writer, sets []*x12.Writing, control, group int64, at time.Time) error {
	e := p.Envelope(control, group, at)
	return e.Write(out, &p.style, sets)
}

// FileName is the file name of an interchange of ours: PELLOW-000000031-855.edi. In a folder, files sort in the order
// in which they were made.
func (p *Partner) FileName(kind string, control int64) string {
	return fmt.Sprintf("%s-%09d-%s.edi", p.Name, control, kind)
}
