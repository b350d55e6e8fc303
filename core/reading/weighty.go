package reading

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/mapping"
	"koinos/core/source"
	"koinos/core/tree"
	"koinos/core/x12"
)

// weighty are the segments of orders and their changes without which an order means something else: where one stands and
// no binding reads it, that is said.
var weighty = map[string]string{
	"SDQ": "the quantities for several places", "SLN": "what the line is made of", "IT8": "conditions of the sale",
}

// weighed finds segments that change what an order means and that its mapping does not read.
func weighed(m *mapping.Mapping, g *Group, d *intent.Intent) {
	rec := &g.Rows[0].Record
	if rec.Node == nil || m.Document.Set != "850" && m.Document.Set != "860" {
		return
	}
	read := map[string]bool{} // by the way to a segment, with its code
	reads := func(way []string, element int, code string) bool {
		key := strings.Join(way, "/") + " " + code
		is, known := read[key]
		if !known {
			for a := range m.Addresses {
				is = is || a.Finds(way, element, code)
			}
			read[key] = is
		}
		return is
	}
	say := func(c *tree.Node, value, format string, args ...any) {
		f := d.Find(finding.ValueUnread, source.PlaceOf(c, rec.Line), value, 0, format, args...)
		f.Hint = "Put it into the order by hand, or bind it in the partner's mapping; unused: names what may be passed over."
	}
	allowances := sync.OnceValue(func() bool { return m.ReadsSegment("SAC") })
	shares := sync.OnceValue(func() bool { return readsShare(m) })
	var walk func(n *tree.Node)
	walk = func(n *tree.Node) {
		for c := n.First(); c != nil; c = c.Next() {
			if c.Kind != tree.Segment {
				continue
			}
			if about := weighty[c.Name]; about != "" && !m.ReadsSegment(c.Name) {
				say(c, c.Name, "%s (%s) says %s, and the mapping does not read it.", c.Name, x12.SegmentName(c.Name), about)
			}
			if about := taxOf(c, func(element int) bool {
				code := elementOf(c, "TXI", 1)
				return code != nil && readsElement(m, wayTo(c), element, code.Text)
			}); about != "" {
				say(c, c.Name, "TXI (%s) says %s, and the mapping does not read it.", x12.SegmentName("TXI"), about)
			}
			if code := elementOf(c, "DTM", 1); code != nil && slices.Contains(days, code.Text) && !reads(wayTo(c), 1, code.Text) {
				if day := elementOf(c, "DTM", 2); day != nil {
					_, means := x12.Meaning("DTM", 1, code.Text)
					say(day, day.Text, "DTM says the day %s (%s %s), and the mapping does not read it.", day.Text, code.Text, means)
				}
			}
			if is := elementOf(c, "SAC", 1); is != nil && (is.Text == "A" || is.Text == "C") && !allowances() {
				say(c, c.Name, "SAC says an allowance or a charge, and the mapping does not read it.")
			} else if share := shareOf(c); share != nil && !shares() {
				say(share, share.Text, "SAC says an allowance or a charge as a share or a rate, %s, and the mapping reads only amounts.", share.Text)
			}
			walk(c)
		}
	}
	walk(rec.Node.Root())
}

// taxOf is what a TXI says that is not read: an amount (02) or a share (03), of which one is enough, or that no tax is due (06, in
// whose list, element 441, 2 is that it is).
func taxOf(c *tree.Node, read func(element int) bool) string {
	if c.Name != "TXI" {
		return ""
	}
	amount, share, exempt := elementOf(c, "TXI", 2), elementOf(c, "TXI", 3), elementOf(c, "TXI", 6)
	switch {
	case amount != nil && read(2) || share != nil && read(3):
	case amount != nil:
		return "a tax of " + amount.Text
	case share != nil:
		return "a tax at the rate " + share.Text
	}
	if exempt != nil && exempt.Text != "2" && !read(6) {
		return fmt.Sprintf("with the code %s that no tax is due", exempt.Text)
	}
	return ""
}

// readsElement reports whether a mapping reads an element of a segment, on the way to it, whose first element is a code, or passes
// over the segment on purpose.
func readsElement(m *mapping.Mapping, way []string, element int, code string) bool {
	for a := range m.Addresses {
		if segment := way[len(way)-1]; (a.OfElement(segment, element) || a.OfElement(segment, 0)) && a.Finds(way, 1, code) {
			return true
		}
	}
	return false
}

// wayTo are the segments on the way from the set to one within it, itself the last.
func wayTo(c *tree.Node) (way []string) {
	for ; c.Parent != nil; c = c.Parent {
		way = append(way, c.Name)
	}
	slices.Reverse(way)
	return way
}

// days are the qualifiers (element 374) of the days between which goods are wanted.
var days = []string{"001", "002", "010", "037", "038", "061", "063", "064", "069", "071", "074", "077", "106", "118", "175", "177"}

// shareOf is the share (element 332) or the rate (118) of an allowance or charge that has no amount; nil is that it has one.
func shareOf(c *tree.Node) *tree.Node {
	if is := elementOf(c, "SAC", 1); is == nil || is.Text != "A" && is.Text != "C" || elementOf(c, "SAC", 5) != nil {
		return nil
	}
	return cmp.Or(elementOf(c, "SAC", 7), elementOf(c, "SAC", 8))
}

// readsShare reports whether a mapping reads shares or rates of allowances.
func readsShare(m *mapping.Mapping) bool {
	for a := range m.Addresses {
		if a.OfElement("SAC", 7) || a.OfElement("SAC", 8) {
			return true
		}
	}
	return false
}
