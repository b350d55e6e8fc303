package x12

import "koinos/core/tree"

// mostLevels is how deep HL loops stand within each other. What is deeper is read as if it stood beside the deepest,
// and is noted: the levels that the standard knows (shipment, order, tare, pack, item) are fewer, and each line looks
// through those around it.
const mostLevels = 20

// depth is how many levels a loop and those around it are, as far as that matters.
func depth(n *tree.Node) (levels int) {
	for ; n.Parent != nil && levels <= mostLevels; n = n.Parent {
		levels++
	}
	return levels
}

// level notes an HL that stands deeper than others are read.
func (c *checker) level(s *Segment, say func(code string, n, component int, value, format string, args ...any)) {
	if c.levels == nil {
		c.levels = map[string]int{}
	}
	at := 1
	if up := s.Element(2); up != "" {
		at += c.levels[up]
	}
	c.levels[s.Element(1)] = at
	if at == mostLevels+1 { // once, and not for each below it
		say("7", 2, 0, s.Element(2), "HL02 puts this loop deeper than %d levels; from here on, loops are read as if they stood beside it.",
			mostLevels)
	}
}

// rounds is how many loops of a kind were placed in a loop so far. Each placed segment is looked at once, however often
// this is asked.
func (c *checker) rounds(parent int, id string) int {
	if c.counts == nil {
		c.counts = map[loopKey]int{}
	}
	for ; c.counted < len(c.placed); c.counted++ {
		p := &c.placed[c.counted]
		c.counts[loopKey{p.Parent, p.Segment.ID}] = p.Count
	}
	return c.counts[loopKey{parent, id}]
}

// loopKey names loops of a kind within a loop.
type loopKey struct {
	parent int
	id     string
}
