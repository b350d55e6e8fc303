package drafting

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/reading"
	"koinos/core/source"
	"koinos/core/x12"
)

// interchange drafts for X12: the standard mapping of the first set that has one, for the partner that the envelope
// names.
func (d *drafter) interchange(r io.ReaderAt, size int64) error {
	in := x12.NewReader(io.NewSectionReader(r, 0, size))
	var set *x12.Set
	for set == nil {
		s, _, err := in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if slices.Contains(mapping.StandardNames(), "x12-"+s.ID) {
			set = s
		}
	}
	kind, sender := "850", ""
	if set == nil {
		d.guess("extends", "x12-850", "the document holds no transaction set that Koinos maps", "unsure", "")
	} else {
		kind, sender = set.ID, set.Interchange.Sender
		d.guess("extends", "x12-"+kind, fmt.Sprintf("the first transaction set is %s: %s", kind, x12.SetName(kind)),
			"sure", "")
	}
	partner, sure := d.hints.Partner, "sure"
	if partner == "" {
		partner, sure = "", "unsure"
		if customers := d.hints.Lists.Lists["customers"]; customers != nil && sender != "" {
			if near, ok := customers.Nearest(sender); ok {
				partner, sure = near.Code, "likely"
			}
			if m := customers.Look(sender, []string{"code"}, 0); m.Entry != nil {
				partner, sure = m.Entry.Code, "sure"
			}
		}
		d.guess("header.partner", cmp.Or(partner, "not said"), "the sender of the interchange is "+sender, sure, "")
	}
	mark := ""
	if sure != "sure" {
		mark = unsureNote(sure, "the interchange is from "+sender, "")
	}
	binding := "value: " + quote(partner)
	if partner == "" {
		binding = strings.Join(unsaid, ", ")
	}
	d.out.Text = fmt.Sprintf("koinos: mapping/1\nname: %s\nextends: x12-%s\nabout: Drafted from a sample; what the "+
		"standard mapping says holds where nothing is said here\nheader:\n  partner: {%s}%s\n", d.hints.Name,
		kind, binding, mark)
	m, err := mapping.Parse([]byte(d.out.Text))
	if err != nil {
		return fmt.Errorf("the draft needs a hand: %w", err)
	}
	src, err := source.Open(r, size, m.Options(d.hints.Limits))
	if err != nil {
		return err
	}
	table, c := reading.NewTable(m, src, nil), reading.NewCoverage(m)
	for range 20 {
		g, err := table.Next()
		if err != nil {
			break // what is wrong with the document is not the draft's to say
		}
		if !g.Broken {
			c.Add(&g, reading.Explain(m, &g, &list.Set{}, c.Watch))
		}
	}
	c.Done()
	for _, u := range c.Unbound {
		d.out.Unbound = append(d.out.Unbound, u.Heading)
	}
	return nil
}
