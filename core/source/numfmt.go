package source

import (
	"koinos/core/order"
	"koinos/core/workbook"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// cellFormat is the part of a number format that matters to an order: whether the number is a date, a percentage, or a
// code with leading zeros. The number of decimal places does not matter, because the value is what was entered.
type cellFormat struct {
	day     bool
	percent bool
	zeros   int    // pad to so many digits
	code    string // a code is shown so: 0 stands for a digit, and the rest for itself
}

// builtinDates are the number formats for dates that every workbook has without defining them (ECMA-376 18.8.30,
// including East Asian ones).
func builtinDate(id int) bool {
	return id >= 14 && id <= 22 || id >= 27 && id <= 36 || id >= 45 && id <= 47 || id >= 50 && id <= 58
}

func readFormats(b *workbook.Book) ([]cellFormat, error) {
	if b.Styles == nil {
		return nil, nil
	}
	r, err := b.Open(b.Styles)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var doc struct {
		Formats []struct {
			ID   int    `xml:"numFmtId,attr"`
			Code string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		Cells []struct {
			Format int `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if err := workbook.Decode(r, &doc); err != nil {
		return nil, err
	}
	own := map[int]cellFormat{9: {percent: true}, 10: {percent: true}}
	for _, f := range doc.Formats {
		own[f.ID] = parseFormat(f.Code)
	}
	formats := make([]cellFormat, len(doc.Cells))
	for i, c := range doc.Cells {
		f, ok := own[c.Format]
		if !ok {
			f.day = builtinDate(c.Format)
		}
		formats[i] = f
	}
	return formats, nil
}

// parseFormat reads the first section of a number format code.
func parseFormat(code string) cellFormat {
	var plain, shown strings.Builder // the code without literals, colours and conditions; and with its literals
	for i := 0; i < len(code); i++ {
		switch c := code[i]; c {
		case '"':
			if end := strings.IndexByte(code[i+1:], '"'); end >= 0 {
				shown.WriteString(strings.ReplaceAll(code[i+1:i+1+end], "0", literalZero))
				i += end + 1
			}
		case '[':
			end := strings.IndexByte(code[i:], ']')
			if end < 0 {
				continue
			}
			if inner := strings.ToLower(code[i+1 : i+end]); strings.Trim(inner, "hms") == "" {
				plain.WriteString(inner) // elapsed time: [h]:mm
			}
			i += end
		case '\\':
			if i++; i < len(code) && code[i] == '0' {
				shown.WriteString(literalZero)
			} else if i < len(code) {
				shown.WriteByte(code[i])
			}
		case '_', '*':
			i++
		case ';':
			i = len(code)
		default:
			plain.WriteByte(c)
			shown.WriteByte(c)
		}
	}
	p := strings.ToLower(plain.String())
	if p == "general" || p == "@" {
		return cellFormat{}
	}
	f := cellFormat{percent: strings.Contains(p, "%")}
	f.day = strings.ContainsAny(p, "dmyhs") && !strings.ContainsAny(p, "0#?")
	if strings.ContainsAny(p, "dy") || strings.Contains(p, "mm") {
		f.day = true // ss.000 shows fractions of a second
	}
	if digits := strings.Trim(p, " -/()"); !f.day && len(digits) > 1 && strings.Trim(digits, "0") == "" {
		f.zeros = len(digits)
	}
	if digits := strings.Trim(p, "0 -/()."); !f.day && !f.percent && digits == "" && isCode(shown.String()) {
		f.code = shown.String()
	}
	return f
}

// literalZero stands for a 0 that is shown as it is.
const literalZero = "\x00"

// isCode reports whether a format can only be one for codes: it has signs between its digits, as in 000-000, or a word
// directly before them, as in PO-00000. A unit behind the digits, a currency before them and a decimal point mean a
// quantity.
func isCode(shown string) bool {
	first, last := strings.IndexByte(shown, '0'), strings.LastIndexByte(shown, '0')
	if first < 0 {
		return false
	}
	between := strings.Trim(shown[first:last+1], "0")
	if strings.Trim(between, ".") != "" {
		return true
	}
	before, _ := utf8.DecodeLastRuneInString(shown[:first])
	return between == "" && first > 0 && before != ' ' && before != '\u00a0' && before != '(' && before != '+' &&
		!unicode.Is(unicode.Sc, before) &&
		!order.KnownCurrency(strings.ToUpper(strings.TrimSpace(shown[:first])))
}

// written returns the digits of a code as its format shows them; further digits stand in front.
func (f cellFormat) written(digits string) string {
	var out []rune
	signs := []rune(f.code)
	for i, c := range slices.Backward(signs) {
		switch {
		case c == rune(literalZero[0]):
			out = append(out, '0')
		case c != '0':
			out = append(out, c)
		case digits == "":
			out = append(out, '0')
		default:
			out, digits = append(out, rune(digits[len(digits)-1])), digits[:len(digits)-1]
			if !slices.Contains(signs[:i], '0') { // the first of the format takes what is left
				for ; digits != ""; digits = digits[:len(digits)-1] {
					out = append(out, rune(digits[len(digits)-1]))
				}
			}
		}
	}
	slices.Reverse(out)
	return string(out)
}

// show returns a stored number as the cell states it.
func (f cellFormat) show(value string, date1904 bool) Cell {
	n, err := strconv.ParseFloat(value, 64)
	if err != nil || math.IsInf(n, 0) {
		return Cell{Text: value}
	}
	if f.day {
		if text, ok := serialDay(n, date1904); ok {
			return Cell{Text: text, Kind: Day}
		}
	}
	if f.percent {
		return Cell{Text: plainDigits(value, n, 2) + "%", Kind: Number}
	}
	text := plainDigits(value, n, 0)
	if f.code != "" && !strings.ContainsAny(text, ".-") {
		return Cell{Text: f.written(text)}
	}
	if f.zeros > len(text) && !strings.ContainsAny(text, ".-") {
		// Zero-padded, it is a code, not a quantity.
		return Cell{Text: strings.Repeat("0", f.zeros-len(text)) + text}
	}
	return Cell{Text: text, Kind: Number}
}

// plainDigits writes a stored number without an exponent. Programs store 0.1+0.2 as 0.30000000000000004; fifteen digits
// are what a sheet means and shows.
func plainDigits(value string, n float64, shift int) string {
	if shift == 0 && len(value) <= 15 && !strings.ContainsAny(value, "eE+") && !strings.HasPrefix(value, ".") {
		return value
	}
	digits := strconv.FormatFloat(n, 'e', 14, 64)
	mantissa, exponent, _ := strings.Cut(digits, "e")
	exp, _ := strconv.Atoi(exponent)
	sign := ""
	if strings.HasPrefix(mantissa, "-") {
		sign, mantissa = "-", mantissa[1:]
	}
	all := strings.Replace(mantissa, ".", "", 1)
	point := 1 + exp + shift
	switch {
	case strings.Trim(all, "0") == "":
		return "0"
	case point <= 0:
		all = "0." + strings.Repeat("0", min(-point, 400)) + all
	case point >= len(all):
		return sign + all + strings.Repeat("0", min(point-len(all), 400))
	default:
		all = all[:point] + "." + all[point:]
	}
	return sign + strings.TrimRight(strings.TrimRight(all, "0"), ".")
}

// serialDay turns a date serial into ISO 8601; false if it is not a date.
func serialDay(n float64, date1904 bool) (string, bool) {
	if n < 0 || n >= 2_958_466 { // 10000-01-01
		return "", false
	}
	if n < 1 { // a time of day alone
		return time.Unix(0, 0).UTC().Add(time.Duration(math.Round(n*86_400)) * time.Second).Format("15:04:05"), true
	}
	epoch := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	if date1904 {
		epoch = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	} else if n < 60 {
		epoch = epoch.AddDate(0, 0, 1) // the 1900 system believes in 1900-02-29
	}
	days := math.Floor(n)
	seconds := math.Round((n - days) * 86_400)
	t := epoch.AddDate(0, 0, int(days)).Add(time.Duration(seconds) * time.Second)
	if seconds == 0 {
		return t.Format("2006-01-02"), true
	}
	return t.Format("2006-01-02T15:04:05"), true
}
