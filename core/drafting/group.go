package drafting

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
)

// grouping is a guess at which rows make one order.
type grouping struct {
	by     string
	yaml   string
	ident  *profile // the column that identifies the order
	groups []int    // the order that each row belongs to
	why    string
	sure   string
	second string
}

// groupRows guesses which rows of a table belong together.
func (d *drafter) groupRows(t *table, columns []*profile, chosen []candidate) grouping {
	n := len(t.rows)
	if p := d.identity(t, columns, chosen); p != nil {
		if days := daysWithin(d.byValue(t, p), p, chosen, n); days != nil {
			return d.byTwo(t, p, days)
		}
		return d.byColumn(t, p)
	}
	if p := ofSeveral(chosen, n); p != nil {
		return d.byPartner(t, p)
	}
	// Blank rows between blocks?
	groups, blocks := make([]int, n), 1
	for i := 1; i < n; i++ {
		if t.rows[i].Row > t.rows[i-1].Row+1 {
			blocks++
		}
		groups[i] = blocks - 1
	}
	if blocks > 1 && blocks*2 <= n+1 {
		return grouping{"gap", "by: gap", nil, groups,
			fmt.Sprintf("no column identifies an order, and blank rows part the rows into %d blocks", blocks), "likely",
			""}
	}
	if len(t.above) > 0 {
		return grouping{"sheet", "by: sheet", nil, make([]int, n),
			"no column identifies an order; what stands above the table may", "unsure", "file"}
	}
	return grouping{"file", "by: file", nil, make([]int, n),
		"no column identifies an order: the whole document may be one", "unsure", "sheet"}
}

// ofSeveral is the column of partners, if it has several and one in each row; an order is of one of them.
func ofSeveral(chosen []candidate, rows int) *profile {
	for _, c := range chosen {
		if c.level == order.Header && c.name() == "partner" && c.score >= 0.5 && c.column.filled == rows && len(c.column.words) > 1 &&
			len(c.column.words) < rows {
			return c.column
		}
	}
	return nil
}

// byPartner groups by the partner, because nothing numbers the orders.
func (d *drafter) byPartner(t *table, p *profile) grouping {
	groups := d.byValue(t, p)
	runs, last := 0, -1
	for _, g := range groups {
		if g != last {
			runs, last = runs+1, g
		}
	}
	g := grouping{by: "key", yaml: "by: key, columns: " + flow([]string{p.from}), groups: groups, sure: "unsure", second: "file",
		why: "nothing numbers the orders; each is of one " + p.from}
	if runs > len(p.words) {
		g.yaml += ", rows: anywhere"
	}
	return g
}

// daysWithin finds the column of days that separates the orders of one customer or shop, if orders are not numbered.
func daysWithin(groups []int, p *profile, chosen []candidate, rows int) *profile {
	numbered := false
	for _, c := range chosen {
		numbered = numbered || c.name() == "sender_number" && c.column == p
	}
	if numbered || p.filled < rows {
		return nil
	}
	for _, name := range []string{"requested_delivery_on", "ordered_on", "requested_ship_on"} {
		for _, c := range chosen {
			if c.name() == name && c.score >= 0.5 && c.column.filled == rows && constant(c.column, groups) < 0.97 {
				return c.column
			}
		}
	}
	return nil
}

// byTwo groups by two columns together, neither of which is the order's number.
func (d *drafter) byTwo(t *table, p, days *profile) grouping {
	a, b := d.byValue(t, p), d.byValue(t, days)
	numbers := map[[2]int]int{}
	groups := make([]int, len(t.rows))
	runs := 0
	for i := range groups {
		key := [2]int{a[i], b[i]}
		if _, known := numbers[key]; !known {
			numbers[key] = len(numbers)
		}
		if groups[i] = numbers[key]; i == 0 || groups[i] != groups[i-1] {
			runs++
		}
	}
	g := grouping{by: "key", yaml: "by: key, columns: " + flow([]string{p.from, days.from}), groups: groups,
		sure:   "unsure",
		second: "key of " + p.from,
		why:    fmt.Sprintf("nothing numbers the orders; the days of %s differ within %s", days.from, p.from)}
	if runs > len(numbers) {
		g.yaml += ", rows: anywhere"
	}
	return g
}

// identity finds the column that says which order a row belongs to.
func (d *drafter) identity(t *table, columns []*profile, chosen []candidate) *profile {
	for _, c := range chosen {
		if c.name() == "sender_number" && c.score >= 0.6 && c.column.filled > 0 {
			return c.column
		}
	}
	// A column of codes whose values come in runs, or that is filled only now and then, to the left of any quantity.
	var best *profile
	bestScore := 0.45
	for i, p := range columns {
		if p.filled < 2 || p.longest > 30 || p.share(p.spaces) > 0.3 ||
			slices.ContainsFunc(chosen, func(c candidate) bool {
				return c.column == p && c.score > 0.7 && c.name() != "sender_number"
			}) {
			continue
		}
		if _, dates := p.mostlyDates(mostly); dates && p.share(p.numbers) < 0.9 {
			continue
		}
		runs, _ := d.runs(t, p)
		share := float64(len(p.words)) / float64(len(t.rows))
		score := 0.5 - 0.03*float64(i)
		named := slices.ContainsFunc(chosen, func(c candidate) bool {
			return c.column == p && c.name() == "sender_number"
		})
		if p.filled == len(t.rows) && len(p.words) == 1 && !named {
			continue
		}
		if share <= 0.7 && runs == len(p.words) {
			score += 0.2
		}
		if named {
			score += 0.3
		}
		if score > bestScore && (p.filled < len(t.rows) || share < 0.9 || named) {
			best, bestScore = p, score
		}
	}
	return best
}

// runs counts the runs of equal values, which blanks continue, and returns the run of each row.
func (d *drafter) runs(t *table, p *profile) (int, []int) {
	at := map[int]string{}
	for _, v := range p.values {
		at[v.row] = list.Fold(v.cell.Text)
	}
	groups := make([]int, len(t.rows))
	runs, now := 0, ""
	for i := range t.rows {
		if v := at[i]; v != "" && v != now {
			runs++
			now = v
		}
		groups[i] = runs
	}
	return runs, groups
}

func (d *drafter) byColumn(t *table, p *profile) grouping {
	runs, groups := d.runs(t, p)
	distinct := len(p.words)
	blank := len(t.rows) - p.filled
	name := quote(p.from)
	g := grouping{ident: p, groups: groups}
	switch {
	case blank == 0 && runs == distinct:
		g.by, g.yaml = "key", "by: key, columns: "+name
		g.why = fmt.Sprintf("%s is filled in every row, and its %d values stand together", p.from, distinct)
		g.sure = "sure"
		if distinct == len(t.rows) {
			g.why = fmt.Sprintf("each of the %d rows has a %s of its own", distinct, p.from)
			g.sure = "likely"
		}
	case blank == 0:
		g.by, g.yaml = "key anywhere", "by: key, columns: "+name+", rows: anywhere"
		g.why = fmt.Sprintf("the %d values of %s come in %d runs: rows of one order stand apart", distinct, p.from,
			runs)
		g.sure, g.second = "likely", "key, adjacent"
		g.groups = d.byValue(t, p)
	case runs > distinct:
		g.by, g.yaml = "key anywhere", "by: key, columns: "+name+", rows: anywhere"
		g.why = fmt.Sprintf("%s is blank where an order goes on, and comes again further below", p.from)
		g.sure, g.second = "likely", "opener"
		g.groups = d.byValue(t, p)
	case p.filled == runs:
		g.by, g.yaml = "opener", "by: opener, columns: "+name
		g.why = fmt.Sprintf("%s is filled in the first row of each of %d orders and blank below", p.from, runs)
		g.sure, g.second = "sure", "key, blanks continue"
	default:
		g.by, g.yaml = "key", "by: key, columns: "+name
		g.why = fmt.Sprintf("%s has %d values; a blank one goes on with the row above", p.from, distinct)
		g.sure, g.second = "likely", "opener"
	}
	return g
}

func (d *drafter) byValue(t *table, p *profile) []int {
	at := map[int]string{}
	for _, v := range p.values {
		at[v.row] = list.Fold(v.cell.Text)
	}
	numbers := map[string]int{}
	groups := make([]int, len(t.rows))
	now := 0
	for i := range t.rows {
		if v := at[i]; v != "" {
			if _, ok := numbers[v]; !ok {
				numbers[v] = len(numbers)
			}
			now = numbers[v]
		}
		groups[i] = now
	}
	return groups
}

var numberAtEnd = regexp.MustCompile(`^(.*?)[ _\-.]?([0-9]{1,3})([ _\-.].*)?$`)

// numbered finds headings that are numbered (sku_1, qty_1, sku_2 …) or repeated, and returns the columns with each of
// them once.
func (d *drafter) numbered(t *table) []*profile {
	type family struct {
		from    string
		columns []int
	}
	families := map[string]*family{}
	var order []string
	for c, h := range t.head {
		m := numberAtEnd.FindStringSubmatch(h)
		if !plainName(h) || m == nil || m[1] == "" && m[3] == "" {
			continue
		}
		at := len(m[1])
		from := h[:at] + strings.Replace(h[at:], m[2], "{n}", 1)
		key := strings.ToLower(from)
		if families[key] == nil {
			families[key] = &family{from: from}
			order = append(order, key)
		}
		families[key].columns = append(families[key].columns, c)
	}
	several := 0
	for _, key := range order {
		if len(families[key].columns) > 1 {
			several++
		}
	}
	if several < 2 { // the same heading several times?
		families, order = map[string]*family{}, nil
		heads := headCounts(t.head)
		for c, h := range t.head {
			if !plainName(h) || heads[list.Fold(h)] < 2 {
				continue
			}
			key := list.Fold(h)
			if families[key] == nil {
				families[key] = &family{from: h}
				order = append(order, key)
			}
			families[key].columns = append(families[key].columns, c)
		}
		if len(order) < 2 {
			return nil
		}
	}
	grouped := map[int]bool{}
	var columns []*profile
	for _, key := range order {
		f := families[key]
		if len(f.columns) < 2 {
			continue
		}
		var values []value
		for _, c := range f.columns {
			grouped[c] = true
			values = append(values, t.columns[c].values...)
		}
		p := d.profile(strings.TrimSpace(strings.Trim(strings.ReplaceAll(f.from, "{n}", ""), "_-. ")), f.from,
			f.columns[0]+1, values)
		columns = append(columns, p)
	}
	if !slices.ContainsFunc(columns, func(p *profile) bool { // two discounts, and a text in two columns, are no lines
		return max(d.looksLike(p, "quantity"), d.looksLike(p, "item"), d.looksLike(p, "gtin")) > 0.4
	}) {
		return nil
	}
	if len(columns) < 2 {
		return nil
	}
	var all []*profile
	for c, p := range t.columns {
		if !grouped[c] {
			all = append(all, p)
		}
	}
	d.y.parts = append(d.y.parts, "lines: {across: numbered}")
	d.guess("lines", "across: numbered", fmt.Sprintf("headings come %d times, numbered or repeated",
		len(families[order[0]].columns)), "sure", "")
	return append(all, columns...)
}

var sizeWord = regexp.MustCompile(`(?i)^(x{0,3}s|m|x{0,4}l|[2-6]xl|one size|[0-9]{1,3}([.,]5)?)$`)

// matrix finds columns of numbers whose headings are sizes, days or places, in a table without a quantity. It returns
// them, and what the other columns may be then.
func (d *drafter) matrix(t *table, candidates []candidate) ([]*profile, []candidate) {
	matrix := d.sideBySide(t, candidates)
	if matrix == nil {
		return nil, candidates
	}
	return matrix, slices.DeleteFunc(candidates, func(c candidate) bool {
		return slices.Contains(matrix, c.column) || c.name() == "quantity" || c.name() == "amount" && sumsUp(c.column, matrix)
	})
}

func (d *drafter) sideBySide(t *table, candidates []candidate) []*profile {
	seen := map[*profile]bool{}
	for _, c := range candidates { // the best of each column comes first
		if c.name() == "quantity" && c.score > 0.6 && !seen[c.column] {
			return nil
		}
		seen[c.column] = true
	}
	var run, best []*profile
	end := func() {
		if len(run) > len(best) {
			best = run
		}
		run = nil
	}
	for _, p := range t.columns {
		strong := slices.ContainsFunc(candidates, func(c candidate) bool { return c.column == p && c.score > 0.75 })
		sized := sizeWord.MatchString(strings.TrimSpace(p.heading))
		if p.heading == "" || p.filled > 0 && p.share(p.numbers) < 0.9 || strong && !sized || isTotal(p.heading) {
			end()
			continue
		}
		run = append(run, p)
	}
	end()
	if len(best) < 3 {
		return nil
	}
	filled, whole := 0, 0
	for _, p := range best {
		filled, whole = filled+p.filled, whole+p.whole
	}
	if filled == 0 || whole*10 < filled*7 { // prices and sums, not quantities
		return nil
	}
	return best
}

// sumsUp reports whether a column contains the sums of other columns.
func sumsUp(p *profile, others []*profile) bool {
	sums := map[int]order.Number{}
	for _, o := range others {
		for _, v := range o.values {
			if n, err := order.ParseNumber(strings.TrimSpace(v.cell.Text)); err == nil {
				if sum, err := sums[v.row].Add(n); err == nil {
					sums[v.row] = sum
				}
			}
		}
	}
	same := 0
	for _, v := range p.values {
		if n, err := order.ParseNumber(strings.TrimSpace(v.cell.Text)); err == nil && n.Cmp(sums[v.row]) == 0 {
			same++
		}
	}
	return same > 0 && same*10 >= len(p.values)*8
}

// weekWord is a heading that names a week of the calendar.
var weekWord = regexp.MustCompile(`(?i)^(kw|wk|week|woche|semaine|sem|semana|settimana|uge|uke|vecka|v)[ .]*[0-9]{1,2}([ /-]+[0-9]{2,4})?$`)

// placeWord is a heading that names a place: Store 12, Filiale Nord.
func placeWord(heading string) bool {
	word, rest, _ := strings.Cut(list.Fold(heading), " ")
	return rest != "" && whose[word]
}

var colourWords = words("colour|color|colour name|color name|farbe|couleur|kleur|colore|farve|farge|farg|kolor|cor")

// bindMatrix binds what columns side by side say; columns is nil if there are none. It returns them, with those that
// say more of the same lines.
func (d *drafter) bindMatrix(t *table, columns []*profile) []*profile {
	if columns == nil {
		return nil
	}
	used := columns
	first, last := columns[0].letter, columns[len(columns)-1].letter
	d.y.parts = append(d.y.parts, fmt.Sprintf(`lines: {across: matrix, columns: "@%s-@%s"}`, origin.ColumnName(first),
		origin.ColumnName(last)))
	var heads []string
	sizes, dates, places, stores, weeks := 0, map[string]int{}, 0, 0, 0
	for _, p := range columns {
		heads = append(heads, p.heading)
		if weekWord.MatchString(strings.TrimSpace(p.heading)) {
			weeks++
		}
		if sizeWord.MatchString(strings.TrimSpace(p.heading)) {
			sizes++
		}
		for _, form := range append([]string{"yyyy-mm-dd"}, dateForms...) {
			if _, ok := mapping.DayIn(form, p.heading); ok {
				dates[form]++
			}
		}
		if l := d.hints.Lists.Lists["locations"]; l != nil && l.Look(p.heading, []string{"code", "name"},
			0).Entry != nil {
			places++
		}
		if placeWord(p.heading) {
			stores++
		}
	}
	d.guess("lines", "across: matrix", "no column is a quantity, and these hold numbers under "+
		finding.Clip(strings.Join(heads, ", "), 80), "likely", "")
	d.add(binding{level: order.Lines, field: "quantity", from: "{cell}", sure: "likely",
		why: "each filled cell is a quantity"})
	day := ""
	for _, form := range append([]string{"yyyy-mm-dd"}, dateForms...) {
		if dates[form] == len(columns) && day == "" {
			day = form
		}
	}
	switch {
	case places == len(columns):
		d.add(binding{level: order.Lines, field: "location", from: "{heading}",
			words: []string{"list: locations", "by: [code, name]"}, sure: "likely",
			why: "the headings stand in the list locations"})
	case stores == len(columns):
		d.add(binding{level: order.Lines, field: "location", from: "{heading}", sure: "likely",
			why: "the headings name places; map them to your codes with a crosswalk"})
	case day != "":
		b := binding{level: order.Lines, field: "requested_delivery_on", from: "{heading}", sure: "likely",
			why: "the headings are dates", second: "lines.requested_ship_on"}
		if day != "yyyy-mm-dd" {
			b.words = []string{"dates: " + quote(day)}
		}
		d.add(b)
	case weeks == len(columns):
		d.add(binding{level: order.Lines, field: "custom.week", from: "{heading}", sure: "likely",
			why: "the headings are weeks"})
	case sizes*2 > len(columns):
		d.add(binding{level: order.Lines, field: "custom.size", from: "{heading}", sure: "likely",
			why: "the headings are sizes"})
		for _, p := range t.columns { // articles of one style differ in it
			if colourWords[strings.Join(plainWords(p.heading), " ")] && !d.bound(order.Lines, "custom.colour") {
				d.add(binding{level: order.Lines, field: "custom.colour", from: p.from, sure: "likely",
					why: "its heading says colour"})
				used = append(slices.Clone(columns), p)
			}
		}
	default:
		d.add(binding{level: order.Lines, field: "custom.column", from: "{heading}", sure: "unsure",
			why: "what the headings are is not known"})
	}
	return used
}
