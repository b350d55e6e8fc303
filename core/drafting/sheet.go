package drafting

import (
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/origin"
	"koinos/core/source"
)

// sheet is the beginning of one sheet, or of a CSV.
type sheet struct {
	hidden int // rows with values that people do not see
	name   string
	rows   []source.Record // blank rows left out
	above  []source.Record // of a table of fixed width, what stands above it
}

// table is where on a sheet the rows of orders stand.
type table struct {
	sheet    *sheet
	headAt   int // index of the heading's first row; -1 is none
	headRows int
	head     []string        // headings, by column
	rows     []source.Record // between the heading and the end
	above    []source.Record
	below    []source.Record
	until    string // text of the first row behind the end
	leaveOut string // condition of rows of sums inside
	repeats  bool   // the heading stands again on each page, with what stands above it
	columns  []*profile
	score    float64
}

const (
	sampleRows  = 3000
	fewRows     = 20
	sampleCells = 1_000_000 // of all sheets: wide ones show in fewer rows what they are
	headWithin  = 60
	mostScored  = 500   // columns of a row that tell whether it is a heading
	mostTexts   = 3_000 // different texts of a sheet that are looked up for that
)

func readSheets(r io.ReaderAt, size int64, opt source.Options) ([]*sheet, []finding.Finding, error) {
	src, err := source.Open(r, size, opt)
	if err != nil {
		return nil, nil, err
	}
	var sheets []*sheet
	var s *sheet
	cells := 0
	for {
		rec, err := src.Next()
		if err == io.EOF {
			return sheets, nil, nil
		}
		if err != nil {
			if found := finding.Of(err); len(found) > 0 && s != nil {
				return sheets, found, nil
			}
			return nil, nil, err
		}
		if s == nil || rec.Sheet != s.name {
			s = &sheet{name: rec.Sheet}
			sheets = append(sheets, s)
		}
		if rec.Hidden && !rec.Blank() {
			s.hidden++
			continue // what people do not see is left out
		}
		if rec.Blank() || len(s.rows) >= sampleRows || cells > sampleCells && len(s.rows) >= fewRows {
			continue
		}
		cells += len(rec.Cells)
		s.rows = append(s.rows, rec)
	}
}

func text(rec *source.Record, column int) string {
	if column < len(rec.Cells) {
		return strings.Join(strings.Fields(rec.Cells[column].Text), " ")
	}
	return ""
}

func filledCells(rec *source.Record) (n int) {
	for i := range rec.Cells {
		if text(rec, i) != "" {
			n++
		}
	}
	return n
}

func firstText(rec *source.Record) string {
	for i := range rec.Cells {
		if t := text(rec, i); t != "" {
			return t
		}
	}
	return ""
}

var someNumber = regexp.MustCompile(`^[^A-Za-z]*[0-9][^A-Za-z]*$`)

// wordy reports whether a cell can be a heading.
func wordy(c source.Cell) bool {
	return c.Kind == source.Text && !someNumber.MatchString(c.Text)
}

func isDay(c source.Cell) bool {
	if c.Kind == source.Day {
		return true
	}
	for _, form := range append([]string{"yyyy-mm-dd"}, dateForms...) {
		if _, ok := mapping.DayIn(form, c.Text); ok {
			return true
		}
	}
	return false
}

// headings joins the texts of one or two rows.
func headings(rows []source.Record) []string {
	width := 0
	for i := range rows {
		width = max(width, len(rows[i].Cells))
	}
	head := make([]string, width)
	for i := range rows {
		above := ""
		for c := range width {
			t := text(&rows[i], c)
			if t != "" {
				above = t
			} else if i+1 < len(rows) && text(&rows[len(rows)-1], c) != "" {
				t = above
			}
			head[c] = strings.TrimSpace(head[c] + " " + t)
		}
	}
	return head
}

// scoreHead says how much a row looks like the heading of orders.
func (d *drafter) scoreHead(head []string) (score float64, known int) {
	used := map[string]bool{}
	for _, h := range head[:min(len(head), mostScored)] {
		if _, known := d.cache[h]; !known {
			d.scored++
		}
		if h == "" || d.scored > mostTexts { // a heading stands above most of them
			continue
		}
		best := 0.0
		for _, x := range d.hintsOf(h) {
			if !used[string(x.level)+x.field] {
				best = x.score
				used[string(x.level)+x.field] = true
				break
			}
		}
		if best >= 0.55 {
			known++
		}
		score += best
	}
	return score, known
}

// find finds the table on a sheet, or returns nil.
func (d *drafter) find(s *sheet) *table {
	best := &table{sheet: s, headAt: -1}
	d.scored = 0
	for i := range s.rows {
		if i >= headWithin {
			break
		}
		words, days, filled := 0, 0, filledCells(&s.rows[i])
		for _, c := range s.rows[i].Cells {
			if strings.TrimSpace(c.Text) != "" && wordy(c) {
				words++
			} else if isDay(c) {
				days++
			}
		}
		if words >= 2 { // a matrix has days as headings
			words += days
		}
		if filled < 2 || words*10 < filled*7 || i+1 >= len(s.rows) {
			continue
		}
		// The rows below decide: headings stand above values.
		below := filledCells(&s.rows[i+1])
		for rows := 1; rows <= 2 && i+rows < len(s.rows); rows++ {
			if rows == 2 {
				second := &s.rows[i+1]
				plain := true
				for _, c := range second.Cells {
					plain = plain && (strings.TrimSpace(c.Text) == "" || wordy(c))
				}
				if !plain || second.Row != s.rows[i].Row+1 {
					break
				}
			}
			head := headings(s.rows[i : i+rows])
			score, known := d.scoreHead(head)
			score += 0.1*float64(min(filled, below)) - 0.3*float64(rows-1)
			if known == 0 {
				score = 0
			}
			if score > best.score+1e-9 {
				*best = table{sheet: s, headAt: i, headRows: rows, head: head, score: score}
			}
		}
	}
	if best.headAt < 0 || best.score < 1.2 {
		if h := d.plainHead(s); h >= 0 {
			*best = table{sheet: s, headAt: h, headRows: 1, head: headings(s.rows[h : h+1]), score: 0.5}
		} else {
			*best = table{sheet: s, headAt: -1}
		}
	}
	d.cut(best)
	return best
}

// plainHead finds a heading in a language that is not in the vocabulary: the first row of words above rows that are
// not.
func (d *drafter) plainHead(s *sheet) int {
	for i := range s.rows {
		if i >= 20 || i+1 >= len(s.rows) {
			break
		}
		filled := filledCells(&s.rows[i])
		if filled < 3 {
			continue
		}
		words, under := 0, 0
		for c := range s.rows[i].Cells {
			if t := s.rows[i].Cells[c]; !t.Blank() && wordy(t) {
				words++
				if u := text(&s.rows[i+1], c); u != "" && someNumber.MatchString(u) {
					under++
				}
			}
		}
		if words == filled && under >= 1 {
			return i
		}
	}
	return -1
}

// bareSum is the condition of a row that is a number and nothing else.
const bareSum = `filled() == 1 and text() matches "^[-0-9., ]+$"`

// isRule reports whether a row is drawn with dashes, not written.
func isRule(r source.Record) bool {
	dashes := 0
	for i := range r.Cells {
		t := strings.TrimSpace(r.Cells[i].Text)
		if strings.Trim(t, "-=_ ") != "" {
			return false
		}
		dashes += len(t)
	}
	return dashes > 2
}

// cut finds the end of the table, and rows of sums in it.
func (d *drafter) cut(t *table) {
	s := t.sheet
	begin := 0
	t.above = s.above
	if t.headAt >= 0 {
		begin = t.headAt + t.headRows
		t.above = append(slices.Clip(s.above), s.rows[:t.headAt]...)
	}
	var leaveOut []string
	rows := slices.Clone(s.rows[begin:])
	if drawn := len(rows); drawn > 0 {
		rows = slices.DeleteFunc(rows, isRule)
		if len(rows) < drawn {
			leaveOut = append(leaveOut, `text() matches "^[-=_]{2,}$"`)
		}
	}
	width := len(t.head)
	typical := typicalFill(rows)
	end := len(rows)
	if i := d.another(rows, t.head); i > 0 {
		t.below, t.until = rows[i:], pattern(firstText(&rows[i]))
		rows = rows[:i]
		end = i
	}
	odd := func(i int) bool {
		r := &rows[i]
		first := firstText(r)
		n := filledCells(r)
		return (isTotal(first) || isSumOf(first)) && n <= max(typical-1, 3)
	}
	// The tail: rows that are not followed by any row of the table.
	for end > 0 {
		r := &rows[end-1]
		n := filledCells(r)
		lonely := n == 1 && typical >= 3 && !d.oneFilledIsData(rows, r)
		if !odd(end-1) && !lonely && !(n <= 2 && typical >= 4 && (isLabelled(r) || isChargeRow(r))) {
			break
		}
		end--
	}
	if end < len(rows) && end > 0 {
		t.below = append(slices.Clone(rows[end:]), t.below...)
		rows = rows[:end]
		// Sums inside the table may begin like those at its foot. Then these are left out one by one, and the end is
		// the first row that is different.
		sumWords := map[string]bool{}
		for i := range rows {
			if odd(i) {
				sumWords[firstText(&rows[i])] = true
			}
		}
		for i := range t.below {
			first := firstText(&t.below[i])
			if filledCells(&t.below[i]) == 1 && someNumber.MatchString(first) { // a sum, another one next time
				if !slices.Contains(leaveOut, bareSum) {
					leaveOut = append(leaveOut, bareSum)
				}
				continue
			}
			p := pattern(first)
			inside := false
			for w := range sumWords {
				inside = inside || matches(p, w)
			}
			if !inside {
				t.until = p
				break
			}
		}
	}
	sums := map[string]bool{}
	kept := rows[:0:0]
	for i := range rows {
		if odd(i) {
			word := strings.ToLower(strings.Fields(firstText(&rows[i]))[0])
			sums[word] = true
			continue
		}
		kept = append(kept, rows[i])
	}
	for _, w := range sortedKeys(sums) {
		leaveOut = append(leaveOut, `lower(text()) startsWith "`+strings.ReplaceAll(w, `"`, "")+`"`)
	}
	t.leaveOut = strings.Join(leaveOut, " or ")
	// The heading again, as on printed sheets.
	paged := pageHeads(t.above)
	for i, r := range kept {
		if i+1 < len(kept) && paged[withoutDigits(firstText(&r))] && sameRow(&kept[i+1], &s.rows[max(t.headAt, 0)]) {
			t.repeats = true
			continue
		}
		same := 0
		for c := range width {
			if t.head[c] != "" && list.Fold(text(&r, c)) == list.Fold(t.head[c]) {
				same++
			}
		}
		if same < 2 {
			t.rows = append(t.rows, r)
		}
	}
	heads := headCounts(t.head)
	for c := range max(width, widest(t.rows)) {
		heading := ""
		if c < width {
			heading = t.head[c]
		}
		var values []value
		for i := range t.rows {
			if c < len(t.rows[i].Cells) && strings.TrimSpace(t.rows[i].Cells[c].Text) != "" {
				values = append(values, value{i, t.rows[i].Cells[c]})
			}
		}
		from := heading
		if !plainName(heading) || heads[list.Fold(heading)] > 1 {
			from = "@" + origin.ColumnName(c+1)
		}
		t.columns = append(t.columns, d.profile(heading, from, c+1, values))
	}
}

// isChargeRow reports whether a row at the foot of a table is a charge or an allowance: its name and its amount.
func isChargeRow(r *source.Record) bool {
	first, last := firstText(r), ""
	for c := range r.Cells {
		if t := strings.TrimSpace(r.Cells[c].Text); t != "" {
			last = t
		}
	}
	return last != first && !someNumber.MatchString(first) && someNumber.MatchString(last) && partField(first) != ""
}

// another finds where another table begins below a blank row: with headings above columns that contained numbers, which
// are not those of the table.
func (d *drafter) another(rows []source.Record, head []string) int {
	numbers, heads := map[int]int{}, headCounts(head)
	for i := range rows {
		r := &rows[i]
		words, over, filled := 0, 0, 0
		for c := range r.Cells {
			if r.Cells[c].Blank() {
				continue
			}
			filled++
			if wordy(r.Cells[c]) {
				words++
				if numbers[c]*10 >= i*8 && i > 0 {
					over++
				}
			} else {
				numbers[c]++
			}
		}
		if i < 2 || i+1 >= len(rows) || r.Row < rows[i-1].Row+2 || words < 2 || words != filled ||
			isTotal(firstText(r)) || over == 0 && !d.ofItsOwn(rows[i:], typicalFill(rows[:i])) {
			continue
		}
		known := 0
		for c := range r.Cells {
			if t := text(r, c); t != "" && heads[list.Fold(t)] > 0 {
				known++
			}
		}
		first := pattern(firstText(r))
		if known < words && !slices.ContainsFunc(rows[:i], func(o source.Record) bool {
			return matches(first, firstText(&o))
		}) {
			return i
		}
	}
	return 0
}

// ofItsOwn reports whether rows are a heading and its values, in as many columns, which are not those of the rows
// above.
func (d *drafter) ofItsOwn(rows []source.Record, above int) bool {
	width, numbers := filledCells(&rows[0]), 0
	for i := range rows[1:] {
		if r := &rows[i+1]; filledCells(r) == width {
			for _, c := range r.Cells {
				if !c.Blank() && !wordy(c) {
					numbers++
				}
			}
		} else {
			return false
		}
	}
	return width != above && numbers > 0
}

// pageHeads are the rows above a heading, ignoring digits, that may stand again at the head of each page.
func pageHeads(above []source.Record) map[string]bool {
	all := map[string]bool{}
	for i := range above {
		if filledCells(&above[i]) == 1 {
			all[withoutDigits(firstText(&above[i]))] = true
		}
	}
	return all
}

func withoutDigits(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) {
			return -1
		}
		return r
	}, s)
}

// plainName reports whether a heading can be named as it is: it is not blank, and contains nothing that has another
// meaning in a mapping.
func plainName(s string) bool {
	return s != "" && len(s) < 200 && !strings.ContainsAny(s[:1], "@${") && !strings.Contains(s, "{n}") &&
		utf8.ValidString(s) && strings.IndexFunc(s, unicode.IsControl) < 0
}

// oneFilledIsData reports whether rows with one filled cell in that column are usual in the table.
func (d *drafter) oneFilledIsData(rows []source.Record, r *source.Record) bool {
	n := 0
	for i := range rows {
		if filledCells(&rows[i]) == 1 {
			n++
		}
	}
	return n > 3 && n*4 > len(rows)
}

// isLabelled reports whether a row is a label and, perhaps, its value.
func isLabelled(r *source.Record) bool {
	first := firstText(r)
	return strings.HasSuffix(first, ":") || isTotal(first) || netOrGross[strings.Join(plainWords(first), " ")]
}

// netOrGross are what stands alone before a sum of all lines without or with the tax.
var netOrGross = words("netto|brutto|net|gross|ht|ttc|hors taxe|hors taxes|toutes taxes comprises|neto|bruto|lordo|imponibile|" +
	"ex vat|excl vat|incl vat|zzgl|inkl")

func typicalFill(rows []source.Record) int {
	counts := map[int]int{}
	best := 0
	for i := range rows {
		if len(rows) > 12 || !isLabelled(&rows[i]) && !isSumOf(firstText(&rows[i])) && !isChargeRow(&rows[i]) {
			counts[filledCells(&rows[i])]++ // in a short table its foot would count as much as its lines
		}
	}
	for n, c := range counts {
		if c > counts[best] || c == counts[best] && n > best {
			best = n
		}
	}
	return best
}

func matches(pattern, text string) bool {
	return strings.HasPrefix(list.Fold(text), list.Fold(strings.TrimSuffix(pattern, "*")))
}

// pattern turns a text of the foot into a pattern: its letters up to the first digit.
func pattern(s string) string {
	cut := strings.IndexFunc(s, func(r rune) bool { return r >= '0' && r <= '9' || r == ':' })
	if cut > 2 {
		s = s[:cut]
	}
	if len(s) > 30 {
		s = finding.Clip(s, 30)
		s = strings.TrimSuffix(s, "…")
	}
	return strings.TrimSpace(s) + "*"
}

func widest(rows []source.Record) int {
	n := 0
	for i := range rows {
		for c := len(rows[i].Cells); c > n; c-- {
			if strings.TrimSpace(rows[i].Cells[c-1].Text) != "" {
				n = c
			}
		}
	}
	return n
}

// headCounts counts headings, folded.
func headCounts(all []string) map[string]int {
	n := make(map[string]int, len(all))
	for _, s := range all {
		n[list.Fold(s)]++
	}
	return n
}
