package reading

import (
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
	"SDQ": "the quantities for several places", "SLN": "what the line is made of", "TXI": "a tax", "IT8": "conditions of the sale",
}

// weighed finds segments that change what an order means and that its mapping does not read.
func weighed(m *mapping.Mapping, g *Group, d *intent.Intent) {
	rec := &g.Rows[0].Record
	if rec.Node == nil || m.Document.Set != "850" && m.Document.Set != "860" {
		return
	}
	var walk func(n *tree.Node)
	walk = func(n *tree.Node) {
		for c := n.First(); c != nil; c = c.Next() {
			if c.Kind != tree.Segment {
				continue
			}
			if about := weighty[c.Name]; about != "" && !m.ReadsSegment(c.Name) {
				f := d.Find(finding.ValueUnread, source.PlaceOf(c, rec.Line), c.Name, 0, "%s (%s) says %s, and the mapping does not read it.",
					c.Name, x12.SegmentName(c.Name), about)
				f.Hint = "Put it into the order by hand, or bind it in the partner's mapping; unused: names what may be passed over."
			}
			walk(c)
		}
	}
	walk(rec.Node.Root())
}
