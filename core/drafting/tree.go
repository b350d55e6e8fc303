package drafting

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/tree"
)

// repeated is a path of objects that repeat: the elements of arrays, or the
// members of an object that are all objects.
type repeated struct {
	path  string // $.orders[*]
	nodes []*tree.Node
	score float64 // how much its values look like lines
	head  float64 // how much they look like headers
	// rows of a table: the headings of their values, which can be blank; nil is that they are no such rows
	headings []string
}

// tree drafts for JSON and NDJSON.
func (d *drafter) tree(r io.ReaderAt, size int64, opt source.Options) error {
	d.y.format = string(d.format)
	roots, err := d.roots(r, size, opt)
	if err != nil {
		return err
	}
	if sign, _, _ := decimalSign(leafTexts(roots)); sign == ',' { // otherwise nothing is unusual
		d.decimals(leafTexts(roots))
	}
	found := map[string]*repeated{}
	var paths []string
	d.keyed = map[string]bool{}
	for _, root := range roots {
		d.findKeyed(root, "$")
	}
	for _, root := range roots {
		d.collect(root, "$", found, &paths)
	}
	if d.format == source.NDJSON {
		var nodes []*tree.Node
		for _, root := range roots {
			if root.Kind == tree.Object {
				nodes = append(nodes, root)
			}
		}
		found["$"] = &repeated{path: "$", nodes: nodes}
		paths = append([]string{"$"}, paths...)
	} else if len(roots) == 1 && roots[0].Kind == tree.Object {
		found["$"] = &repeated{path: "$", nodes: roots}
		paths = append([]string{"$"}, paths...)
	}
	var lines *repeated
	for _, path := range paths {
		r := found[path]
		if r.headings != nil && calledLines(path[strings.LastIndexByte(path, '.')+1:]) {
			r.score++ // its values may have no names
		}
		for _, p := range d.leafProfiles(r) {
			for _, h := range d.hintsOf(p.heading) {
				f, ok := d.lookup(h.level, h.field)
				if !ok || p.fits(f) == 0 {
					continue
				}
				switch {
				case h.field == "quantity" && h.level == order.Lines:
					r.score += 2 * h.score
				case h.level == order.Lines && (h.field == "item" || h.field == "unit_price" || h.field == "gtin" ||
					h.field == "description"):
					r.score += h.score
				case h.level == order.Lines && d.hints.Says != "" && (h.field == "accepted" || h.field == "number"):
					r.score += h.score
				case h.level == order.Header && (h.field == "sender_number" || h.field == "ordered_on" ||
					d.hints.Says != "" && (h.field == "number" || h.field == noticeOf[d.hints.Says].number)):
					r.head += h.score
				}
				break
			}
		}
		if lines == nil || r.score > lines.score+0.01 {
			lines = r
		}
	}
	if lines == nil || len(lines.nodes) == 0 {
		return finding.Fatal(finding.DocumentEmpty, origin.Place{},
			"The document has no object that could be an order.")
	}
	// The order is what repeats around the lines.
	var orders *repeated
	for _, path := range paths {
		if path != lines.path && (strings.HasPrefix(lines.path, path+".") || strings.HasPrefix(lines.path, path+"[")) {
			if r := found[path]; orders == nil || r.head >= orders.head-0.3 {
				orders = r
			}
		}
	}
	if (orders == nil || orders.head < 0.6 && len(orders.nodes) == 1) && d.joinedTrees(lines, found, paths, roots) {
		return nil
	}
	if orders == nil {
		return d.flatTree(lines)
	}
	if orders.head < 0.6 && len(orders.nodes) == 1 && d.numberInLines(lines) {
		err := d.flatTree(lines) // what is around the lines is no order: each of them names its own
		if err == nil {
			d.treeParts(orders, lines, found, paths)
		}
		return err
	}
	each := "$" + strings.TrimPrefix(lines.path, orders.path)
	d.y.group = "by: path"
	if orders.path != "$" || d.format == source.JSON {
		d.y.group = "by: path, path: " + quote(orders.path)
	}
	sure := "sure"
	if orders.head < 0.6 || lines.score < 2 {
		sure = "unsure"
	}
	d.guess("grouping", "path "+orders.path, fmt.Sprintf("orders there: %d; lines in them, at %s: %d",
		len(orders.nodes), each, len(lines.nodes)), sure, "")
	d.y.parts = append(d.y.parts, "lines: {each: "+quote(each)+"}")
	heads := d.leafProfiles(orders)
	group := make([]int, len(orders.nodes))
	for i := range group {
		group[i] = i
	}
	candidates := d.candidates(heads, group)
	for i := range candidates { // an amount of the order as a whole is its total
		if c := &candidates[i]; c.level == order.Lines && c.name() == "amount" {
			if total, ok := d.lookup(order.Header, "total"); ok {
				c.level, c.field, c.score = order.Header, total, c.score*0.9
			}
		}
	}
	candidates = slices.DeleteFunc(candidates, func(c candidate) bool {
		return c.level == order.Lines && !slices.Contains(bothLevels, c.name())
	})
	if !slices.ContainsFunc(candidates, func(c candidate) bool { return c.name() == "sender_number" }) {
		for _, p := range heads { // the code of an order is its number
			if f, _ := order.Lookup(order.Header, "sender_number"); p.from == "code" && len(p.words) == p.filled {
				candidates = append(candidates, candidate{p, order.Header, f, 0.6, []string{"it is the order's code"}, false})
			}
		}
	}
	candidates = d.named(candidates, orders, heads, order.Header, "sender_number")
	chosen, second := assign(candidates)
	below := d.leafProfiles(lines)
	under := d.named(d.candidates(below, nil), lines, below, order.Lines, "item")
	number, around := d.orderOfLines(orders, chosen, under, each)
	if number != nil { // each line names its order: lines of one are what is said of it
		d.y.group, d.y.parts = "by: key, columns: "+flow([]string{number.column.from}), nil
		d.y.records = orders.path + strings.TrimPrefix(each, "$")
		for i := range d.out.Guesses {
			if g := &d.out.Guesses[i]; g.What == "grouping" {
				g.Choice, g.Sure = "key", "likely"
				g.Why = "each line names its order; lines of one order that stand together are one " + string(d.hints.Says)
			}
		}
	}
	for _, c := range chosen {
		if d.bind(&c, candidates, second[c.column]); number != nil {
			d.say(c.level, c.name(), "of: "+around)
		}
	}
	if number != nil {
		d.bind(number, under, nil)
		chosen = append(chosen, *number)
	}
	under = slices.DeleteFunc(under, func(c candidate) bool {
		return c.level == order.Header && !slices.Contains(bothLevels, c.name())
	})
	for i := range under { // what a line says of dates is the line's
		if under[i].level == order.Header {
			if f, ok := d.lookup(order.Lines, under[i].name()); ok {
				under[i].level, under[i].field = order.Lines, f
			}
		}
	}
	more, second := assign(under)
	for _, c := range more {
		d.bind(&c, under, second[c.column])
	}
	var unused []string
	if i := strings.LastIndexByte(orders.path, '.'); i > 1 && found[orders.path[:i]] != nil {
		unused = d.outer(found[orders.path[:i]], "parent", "it stands around what belongs together")
	}
	if len(roots) == 1 && orders.path != "$" && roots[0].Kind == tree.Object {
		unused = append(unused, d.outer(&repeated{path: "$", nodes: roots}, "document", "it stands around all orders")...)
	}
	for path, between := range found { // objects between an order and its lines, such as parcels
		inner, is := strings.CutPrefix(path, orders.path)
		if is && inner != "" && strings.HasSuffix(path, "[*]") && path != lines.path && strings.HasPrefix(lines.path, path) {
			for _, p := range d.leafProfiles(between) {
				if number != nil && d.packs(p) {
					continue
				}
				unused = append(unused, strings.TrimPrefix(inner, ".")+strings.TrimPrefix("."+p.from, ".$"))
			}
		}
	}
	d.finish(nil, append(heads, below...), append(chosen, more...), nil)
	slices.Sort(unused)
	d.out.Unbound = append(d.out.Unbound, unused...)
	d.treeParts(orders, lines, found, paths)
	d.cancelled(heads, group, chosen)
	return nil
}

// numberInLines reports whether lines name orders, of which there are several.
func (d *drafter) numberInLines(lines *repeated) bool {
	return slices.ContainsFunc(d.candidates(d.leafProfiles(lines), nil), func(c candidate) bool {
		return c.level == order.Header && c.name() == "sender_number" && c.score >= 0.6 && len(c.column.words) > 1
	})
}

// orderOfLines is the number of the order that each line of a notice names, if the object around the lines does not
// name it, and what that object is to a line; nil if there is none. Packages may stand between the two, if the object
// is the document.
func (d *drafter) orderOfLines(orders *repeated, chosen, under []candidate, each string) (number *candidate,
	around string) {
	names := func(c candidate) bool {
		return c.level == order.Header && (c.name() == "number" || c.name() == "sender_number") && c.score >= 0.6
	}
	switch lists := strings.Count(each, "[*]"); {
	case d.hints.Says == "" || slices.ContainsFunc(chosen, names):
		return nil, ""
	case lists == 1:
		around = "parent"
	case lists == 2 && orders.path == "$" && d.format == source.JSON:
		around = "document"
	default:
		return nil, ""
	}
	if i := slices.IndexFunc(under, names); i >= 0 {
		return &under[i], around
	}
	return nil, ""
}

// packs binds the mark of a package that stands around what is in it, and reports whether it has.
func (d *drafter) packs(p *profile) bool {
	f, ok := d.lookup(order.Lines, "package")
	if !ok || d.bound(order.Lines, "package") || p.fits(f) == 0 || !slices.ContainsFunc(d.hintsOf(p.heading),
		func(h hint) bool { return h.field == "package" && h.score >= 0.9 }) {
		return false
	}
	d.add(binding{level: order.Lines, field: "package", from: p.from, words: []string{"of: parent"}, sure: "likely",
		why: "it stands around what is in the package"})
	return true
}

// outer binds values that stand in objects around the orders: around some, of: parent, or all of them, of: document.
// Several notices, but not several orders, can have the number of one order around them. An amount around several is of
// none of them. It returns what it does not bind.
func (d *drafter) outer(around *repeated, of, why string) (unused []string) {
	names := d.hints.Says != "" && !d.bound(order.Header, "number") && !d.bound(order.Header, "sender_number")
	columns := d.leafProfiles(around)
	bound := map[*profile]bool{}
	for _, c := range d.candidates(columns, nil) {
		number := c.name() == "sender_number" || c.name() == "number"
		if c.level == order.Header && (c.score >= 0.8 || number && c.score >= 0.6) && !d.bound(order.Header, c.name()) &&
			(!number || names) && c.field.Type != order.Decimal {
			b := binding{level: order.Header, field: c.name(), from: c.column.from, words: []string{"of: " + of},
				sure: "likely", why: why + "; " + strings.Join(unique(c.why), "; ")}
			names = names && !number
			d.values(&b, &c)
			d.add(b)
			bound[c.column] = true
		}
	}
	for _, p := range columns {
		if p.filled > 0 && !bound[p] {
			unused = append(unused, p.from)
		}
	}
	return unused
}

// joinedTrees drafts for a document with a list of headers beside the list of lines that name them.
func (d *drafter) joinedTrees(lines *repeated, found map[string]*repeated, paths []string, roots []*tree.Node) bool {
	below := d.tableOf(lines)
	for _, path := range paths {
		if !strings.HasSuffix(path, "[*]") || strings.HasPrefix(path, lines.path) || strings.HasPrefix(lines.path, path) {
			continue
		}
		heads := d.tableOf(found[path])
		key, ref := d.joins(heads, below)
		if ref == nil {
			continue
		}
		d.join(side{heads, "path", path, key}, side{below, "path", lines.path, ref})
		if len(roots) == 1 && roots[0].Kind == tree.Object {
			d.out.Unbound = append(d.out.Unbound, d.outer(&repeated{path: "$", nodes: roots}, "document",
				"it stands around all orders")...)
		}
		return true
	}
	return false
}

// tableOf is a list of objects as a table, with a column for each of their values.
func (d *drafter) tableOf(r *repeated) *table {
	t := &table{sheet: &sheet{}, columns: d.leafProfiles(r)}
	for i := range r.nodes {
		t.rows = append(t.rows, source.Record{Row: i + 1})
	}
	return t
}

// flatTree drafts for records each of which is a line with its order's facts.
func (d *drafter) flatTree(lines *repeated) error {
	t := d.tableOf(lines)
	if lines.path != "$" && lines.path != "$[*]" {
		d.y.records = lines.path
	}
	chosen, _ := assign(d.candidates(t.columns, nil))
	g := d.grouped(t, t.columns, chosen)
	candidates := d.candidates(t.columns, g.groups)
	if g.ident != nil {
		candidates = settle(candidates, g.ident, "sender_number")
	}
	chosen, second := assign(candidates)
	for _, c := range chosen {
		d.bind(&c, candidates, second[c.column])
	}
	d.y.group = g.yaml
	d.guess("grouping", g.by, g.why, g.sure, g.second)
	d.finish(nil, t.columns, chosen, nil)
	d.cancelled(t.columns, g.groups, chosen)
	return nil
}

// collect gathers the paths of objects that repeat.
func (d *drafter) collect(n *tree.Node, path string, found map[string]*repeated, paths *[]string) {
	add := func(path string, c *tree.Node) {
		if found[path] == nil {
			found[path] = &repeated{path: path}
			*paths = append(*paths, path)
		}
		if len(found[path].nodes) < sampleRows {
			found[path].nodes = append(found[path].nodes, c)
		}
	}
	switch n.Kind {
	case tree.Array:
		if t, ok := d.rows(n); ok {
			at, i := t.path(path), 0
			for c := n.First(); c != nil; c = c.Next() {
				if i++; i > t.behind {
					add(at, c)
				}
			}
			if found[at].headings == nil || len(found[at].headings) < len(t.headings) {
				found[at].headings = t.headings
			}
			return
		}
		for c := n.First(); c != nil; c = c.Next() {
			inner, at := c, path+"[*]"
			if c.Kind == tree.Object {
				if only := c.Member("node"); only != nil && only.Kind == tree.Object && c.Len() <= 2 {
					inner, at = only, at+".node" // an edge around its node
				}
				add(at, inner)
			}
			d.collect(inner, at, found, paths)
		}
	case tree.Object:
		if d.keyed[path] {
			for c := n.First(); c != nil; c = c.Next() {
				add(path+".*", c)
				d.collect(c, path+".*", found, paths)
			}
			return
		}
		for c := n.First(); c != nil; c = c.Next() {
			if !c.Scalar() {
				d.collect(c, path+member(c.Name), found, paths)
			}
		}
	}
}

// findKeyed notes the paths of objects whose members are objects of one kind, each with a name of its own. One of them
// shows it for all at the same path, some of which may have a single member.
func (d *drafter) findKeyed(n *tree.Node, path string) {
	is := n.Kind == tree.Object && (keyed(n) || d.byCode(n))
	if is {
		d.keyed[path] = true
	}
	for c := n.First(); c != nil; c = c.Next() {
		switch {
		case n.Kind == tree.Array:
			d.findKeyed(c, path+"[*]")
		case is || d.keyed[path]:
			d.findKeyed(c, path+".*")
		case !c.Scalar():
			d.findKeyed(c, path+member(c.Name))
		}
	}
}

// keyed reports whether an object's members are objects of the same kind, each with its own key.
func keyed(n *tree.Node) bool {
	if n.Len() < 2 || n.First().Kind != tree.Object {
		return false
	}
	first := n.First()
	for c := first.Next(); c != nil; c = c.Next() {
		if c.Kind != tree.Object {
			return false
		}
		same := 0
		for m := first.First(); m != nil; m = m.Next() {
			if c.Member(m.Name) != nil {
				same++
			}
		}
		if same == 0 || same*10 < first.Len()*6 {
			return false
		}
	}
	digits := strings.ContainsAny(first.Name, "0123456789")
	return digits || n.Len() > 5
}

func member(name string) string {
	for i, r := range name {
		if !(r == '_' || r|0x20 >= 'a' && r|0x20 <= 'z' || i > 0 && r >= '0' && r <= '9') {
			return "['" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(name) + "']"
		}
	}
	if name == "" {
		return "['']"
	}
	return "." + name
}

// itself are names of members that hold the value of the object that they are in, as programs write them that make JSON
// of XML.
var itself = []string{"#text", "_text", "$t", "_", "$", "__text", "#", "content", "$value"}

// leafProfiles returns the values of objects by their path within them, without arrays. Their heading is made of the
// path's names. What the objects themselves are called comes last, without a heading.
func (d *drafter) leafProfiles(r *repeated) []*profile {
	if r.headings != nil {
		return d.cellProfiles(r)
	}
	values := map[string][]value{}
	var paths []string
	headings := map[string]string{}
	var walk func(n *tree.Node, path, heading string, row int)
	walk = func(n *tree.Node, path, heading string, row int) {
		for c := n.First(); c != nil; c = c.Next() {
			p := path + member(c.Name)
			h := strings.TrimSpace(heading + " " + c.Name)
			switch c.Kind {
			case tree.Object:
				if !d.keyed[r.path+strings.TrimPrefix(p, "$")] {
					walk(c, p, h, row)
				}
			case tree.Array, tree.Null:
			default:
				if _, ok := values[p]; !ok {
					paths = append(paths, p)
					headings[p] = h
				}
				values[p] = append(values[p], value{row, scalarCell(c)})
			}
		}
	}
	var names []value
	for i, n := range r.nodes {
		if walk(n, "$", "", i); n.Kind == tree.Number { // the quantity of what it is called
			if values["$"] == nil {
				paths, headings["$"] = append(paths, "$"), "quantity"
			}
			values["$"] = append(values["$"], value{i, scalarCell(n)})
		}
		names = append(names, value{i, source.Cell{Text: n.Name}})
	}
	var all []*profile
	for i, p := range paths {
		from := p
		if simple := strings.TrimPrefix(p, "$."); !strings.ContainsAny(simple, ".['*") {
			from = simple
		}
		heading := headings[p]
		// The last name alone often says more: price.amount, buyer.order.number.
		// blank where one word says several, as priceAmount does
		before := heading[:max(strings.LastIndexByte(heading, ' '), 0)]
		last := heading[strings.LastIndexByte(heading, ' ')+1:]
		if before != "" && slices.Contains(itself, last) {
			heading = before
			last = heading[strings.LastIndexByte(heading, ' ')+1:]
			before = heading[:max(strings.LastIndexByte(heading, ' '), 0)]
		}
		if two := before[strings.LastIndexByte(before, ' ')+1:] + " " + last; before != "" && strings.Contains(before, " ") &&
			best(d.hintsOf(two)) > 0.95 {
			heading = two // totals.net says more than what is around it
		} else if words := plainWords(last); len(words) == 1 && before != "" &&
			slices.Contains([]string{"amount", "value", "net", "gross"}, words[0]) && best(d.hintsOf(before)) > 0.9 {
			heading = before // price.amount is a price
		} else if last != heading &&
			best(d.hintsOf(last)) > best(d.hintsOf(heading)) && !ofAParty(heading) {
			heading = last
		} else if first := heading[:strings.IndexByte(heading+" ", ' ')]; first != heading &&
			best(d.hintsOf(heading)) == 0 {
			if f := d.hintsOf(first); best(f) > 0.9 {
				heading = first
			}
		}
		profile := d.profile(heading, from, 0, values[p])
		profile.letter = i + 1
		all = append(all, profile)
	}
	if strings.HasSuffix(r.path, ".*") {
		profile := d.profile("", "{name}", 0, names)
		profile.letter = len(all) + 1
		all = append(all, profile)
	}
	return all
}

// named makes what objects are called a candidate for a field, unless something else is likely to be it. Names of lines
// that count them, or that stand beside codes of items, are their numbers.
func (d *drafter) named(all []candidate, r *repeated, columns []*profile, level order.Level, field string) []candidate {
	likely := func(field string) bool {
		return slices.ContainsFunc(all, func(c candidate) bool {
			return c.level == level && c.name() == field && c.score >= 0.7
		})
	}
	for _, p := range columns {
		if p.from != "{name}" {
			continue
		}
		if level == order.Lines && (counting(r.nodes) || likely("item") && p.share(p.whole) == 1) {
			field = "number"
		}
		if f, ok := d.lookup(level, field); ok && !likely(field) {
			return append(all, candidate{p, level, f, 0.7, []string{"each is a member of that name"}, false})
		}
	}
	return all
}

func best(all []hint) float64 {
	if len(all) == 0 {
		return 0
	}
	return all[0].score
}

// ofAParty reports whether names lead into a party, whose name, city and code are not the order's.
func ofAParty(heading string) bool {
	words := " " + strings.Join(plainWords(heading), " ") + " "
	for _, role := range roleWords {
		for _, w := range strings.Split(role, "|") {
			if strings.Contains(words, " "+w+" ") {
				return true
			}
		}
	}
	return false
}
