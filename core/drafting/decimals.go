package drafting

import (
	"fmt"
	"iter"
	"math"
	"regexp"
	"strings"

	"koinos/core/source"
	"koinos/core/tree"
)

// leafTexts yields the values that are text.
func leafTexts(roots []*tree.Node) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, root := range roots {
			more := true
			root.Leaves(func(leaf *tree.Node) {
				if more && leaf.Kind == tree.String {
					more = yield(leaf.Text)
				}
			})
		}
	}
}

// cellTexts yields the cells of sheets that are text.
func cellTexts(sheets []*sheet) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, s := range sheets {
			for i := range s.rows {
				for _, c := range s.rows[i].Cells {
					if c.Kind == source.Text && !yield(c.Text) {
						return
					}
				}
			}
		}
	}
}

// decimalSign decides which decimal sign the document's numbers have.
func decimalSign(texts iter.Seq[string]) (sign byte, comma, point int) {
	onlyComma := regexp.MustCompile(`(^|[^0-9.,])[0-9]{1,3}(\.[0-9]{3})*,([0-9]{1,2}|[0-9]{4,})($|[^0-9.,])|[0-9]{4,},[0-9]+`)
	onlyPoint := regexp.MustCompile(`(^|[^0-9.,])[0-9]{1,3}(,[0-9]{3})*\.([0-9]{1,2}|[0-9]{4,})($|[^0-9.,])|[0-9]{4,}\.[0-9]+`)
	for text := range texts {
		if len(text) > 24 {
			continue
		}
		if onlyComma.MatchString(text) {
			comma++
		} else if onlyPoint.MatchString(text) && strings.Count(text, ".") == 1 {
			point++
		}
	}
	if comma > point && float64(comma) > math.Max(1, 0.6*float64(comma+point)) || comma > 0 && point == 0 {
		return ',', comma, point
	}
	return '.', comma, point
}

// decimals decides which sign numbers in texts have before their decimals.
func (d *drafter) decimals(texts iter.Seq[string]) {
	sign, comma, point := decimalSign(texts)
	d.decimal = sign
	if comma+point > 0 {
		sure := "sure"
		if comma > 0 && point > 0 {
			sure = "likely"
		}
		d.guess("locale.decimal", string(sign), fmt.Sprintf("%d numbers can only have a decimal comma, %d only a point",
			comma, point), sure, "")
	}
}
