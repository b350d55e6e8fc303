package reading

import (
	"fmt"
	"slices"

	"koinos/core/finding"
	"koinos/core/intent"
	"koinos/core/source"
	"koinos/core/tree"
	"koinos/core/x12"
)

// purposes are the elements by which a transaction set says what it is for
// (elements 353 and 640 of X12), with the codes whose sense is that of the set
// itself: an original, one more copy of it, its confirmation, a change. Others
// (a cancellation, a replacement, a credit) ask for something else.
var purposes = map[string][]struct {
	segment string
	element int
	carried []string
}{
	"810": {{"BIG", 7, []string{"DI", "DR", "PR"}}, {"BIG", 8, []string{"00", "07"}}},
	"850": {{"BEG", 1, []string{"00", "06", "07"}}},
	"855": {{"BAK", 1, []string{"00", "04", "06", "07"}}},
	"856": {{"BSN", 1, []string{"00", "06", "07"}}},
	"860": {{"BCH", 1, []string{"00", "04", "07"}}},
	"865": {{"BCA", 1, []string{"00", "04", "06", "07"}}},
}

// purpose finds that a set asks for something else than is done with its kind:
// it must not be taken for an original.
func purpose(kind string, g *Group, d *intent.Intent) {
	rec := &g.Rows[0].Record
	if rec.Node == nil {
		return
	}
	root := rec.Node.Root()
	for _, p := range purposes[kind] {
		for n := root.First(); n != nil; n = n.Next() {
			if n.Kind != tree.Segment || n.Name != p.segment {
				continue
			}
			for e := n.First(); e != nil; e = e.Next() {
				if e.Kind == tree.Segment || e.Name != fmt.Sprintf("%02d", p.element) || e.Text == "" ||
					slices.Contains(p.carried, e.Text) {
					continue
				}
				name, means := x12.Meaning(p.segment, p.element, e.Text)
				if means == "" {
					means = "another purpose"
				}
				f := d.Find(finding.UnknownChoice, source.PlaceOf(e, rec.Line), e.Text, 0,
					"%s is %s (%s), which is not done with a set %s.", name, e.Text, means, kind)
				f.Hint = "Do what the partner wants by hand, then settle it with them."
			}
		}
	}
}
