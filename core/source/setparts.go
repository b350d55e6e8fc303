package source

import (
	"strings"
	"sync"

	"koinos/core/finding"
	"koinos/core/tree"
	"koinos/core/x12"
)

// SetParts says how a transaction set is divided among the orders that its lines name, such as an invoice of several.
// Each order gets the set with its lines only.
type SetParts struct {
	Lines *x12.Address   // the lines of the set
	Names []*x12.Address // of a line: what names its order; the first that is filled counts
	// of a line: its number. If no two lines have the same one, it counts the lines of the set and not those of the
	// orders.
	Number *x12.Address
	Unless []*x12.Address // of the set: what names the order of all of it; then it is not divided
	First  []string       // segments beside the lines that the first order gets alone, because nobody divides them
	None   []string       // segments that none gets: what they say of all of them is compared with the whole
}

// Every part has what stands beside the lines once more. A set that would take more than this is not divided: that its
// lines name several orders holds it.
const (
	mostVisited = 4_000_000
	mostCopied  = 200_000
)

// of returns the parts of a set; nil if it is of one order.
func (p *SetParts) of(rec *Record) (parts []Record) {
	for _, a := range p.Unless {
		if a.First(rec.Node) != nil {
			return nil
		}
	}
	var names []string
	lines := map[string]map[*tree.Node]bool{}
	named := map[*tree.Node]bool{}
	numbers, counted := map[string]bool{}, p.Number != nil
	for _, n := range p.Lines.All(rec.Node) {
		if counted {
			v := p.Number.First(n)
			if counted = v != nil && !numbers[v.Text]; counted {
				numbers[v.Text] = true
			}
		}
		name := ""
		for _, a := range p.Names {
			if v := a.First(n); v != nil && name == "" {
				name = strings.ToLower(strings.TrimSpace(v.Text)) // as numbers of orders are compared
			}
		}
		if lines[name] == nil {
			lines[name], names = map[*tree.Node]bool{}, append(names, name)
		}
		lines[name][n], named[n] = true, true
	}
	if len(names) < 2 || len(names)*rec.Node.Len() > mostVisited || len(names)*(rec.Node.Len()-len(named)) > mostCopied {
		return nil
	}
	for i, name := range names {
		part := Record{Last: rec.Row}
		part.Node = rec.Node.Pick(func(c *tree.Node) *tree.Node {
			switch {
			case named[c] && !lines[name][c], contains(p.None, c), i > 0 && contains(p.First, c):
				return nil
			case named[c]:
				if part.Row == 0 {
					part.Row = c.Leaf
				}
				part.Last = max(part.Last, c.LastLeaf())
				if counted {
					number := p.Number.First(c)
					return c.Pick(func(e *tree.Node) *tree.Node {
						if e == number {
							return nil
						}
						return e
					})
				}
			}
			return c
		})
		parts = append(parts, part)
	}
	for whole, i := (&Whole{Node: rec.Node}), 0; i < len(parts); i++ {
		parts[i].Whole = whole
	}
	parts[0].Findings = append(rec.Findings, p.together(rec, len(names))...)
	return parts
}

// Whole is a set that was divided.
type Whole struct {
	Node  *tree.Node
	once  sync.Once
	found []finding.Finding
}

// Found returns what is found of the whole set, which is looked for once, whichever of its parts asks first.
func (w *Whole) Found(look func() []finding.Finding) []finding.Finding {
	w.once.Do(func() { w.found = look() })
	return w.found
}

func contains(names []string, n *tree.Node) bool {
	for _, name := range names {
		if n.Kind == tree.Segment && n.Name == name {
			return true
		}
	}
	return false
}

// together says what a set charges all its orders together, which is not divided.
func (p *SetParts) together(rec *Record, orders int) (all []finding.Finding) {
	said := map[string]bool{}
	for n := rec.Node.First(); n != nil; n = n.Next() {
		if said[n.Name] || !contains(p.First, n) {
			continue
		}
		said[n.Name] = true
		f := finding.New(finding.ValueUnread, PlaceOf(n, rec.Line), n.Name,
			"The set is of %d orders; what it says of all of them together counts for the first.", orders)
		f.Hint = "Compare it by hand, or ask the sender for a set for each order."
		all = append(all, f)
	}
	return all
}
