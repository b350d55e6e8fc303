package reading

import (
	"strings"
	"testing"
)

// Cells that hold a value for each line make as many lines, which the other cells of their rows share.
func TestLinesInCells(t *testing.T) {
	const head, foot = "koinos: mapping/1\nname: c\norders:\n  kind: sales\n  group: {by: key, columns: No}\n" +
		"  parts: {lines: {across: cells, columns: ",
		"}}\nheader: {sender_number: {from: No}, partner: {value: P}}\nlines: "
	const two = head + `[SKU, Qty], by: ","` + foot + "{item: {from: SKU}, quantity: {from: Qty}, notes: {from: Note}}\n"
	const one = head + `Items, by: ";"` + foot + "{item: {from: Items, expr: 'before(value, \" x \")'}, quantity: " +
		"{from: Items, expr: 'after(value, \" x \")'}}\n"
	const listed = head + "Items, by: json" + foot + "{item: {from: Items, expr: 'json(value, \"sku\")'}, " +
		"quantity: {from: Items, expr: 'json(value, \"$.n[0]\")'}}\n"
	const sorted = head + `[Pos, SKU, Qty], by: ",", sorted: number` + foot +
		"{number: {from: Pos}, item: {from: SKU}, quantity: {from: Qty}}\n"
	const plain = head + "[SKU, Qty], by: json" + foot + "{item: {from: SKU}, quantity: {from: Qty}}\n"
	for _, c := range []struct{ name, mapping, doc, want, found string }{
		{"two columns", two, "No,SKU,Qty,Note\n1,\"a, b\",\"2,3\",soon\n", "1: a×2@2 b×3@2 [2-2]", ""},
		{"one value", two, "No,SKU,Qty,Note\n1,a,2,\n", "1: a×2@2 [2-2]", ""},
		{"nothing behind the last", two, "No,SKU,Qty,Note\n1,\"a,b,\",\"2,3, \",\n", "1: a×2@2 b×3@2 [2-2]", ""},
		{"nothing between", two, "No,SKU,Qty,Note\n1,\"a,,c\",\"2,3,4\",\n", "1: a×2@2 ×3@2 c×4@2 [2-2]", ""},
		{"different numbers", two, "No,SKU,Qty,Note\n1,\"a,b\",\"2,3,4\",\n", "1: a×2@2 b×3@2 ×4@2 [2-2]",
			"error cells_differ row 2 column 3: SKU holds 2 values and Qty 3 values; which of them belong together is not known."},
		{"rows of one order", two, "No,SKU,Qty,Note\n1,\"a,b\",\"2,3\",x\n1,c,4,y\n2,d,5,\n",
			"1: a×2@2 b×3@2 c×4@3 [2-3]; 2: d×5@4 [4-4]", ""},
		{"no line", two, "No,SKU,Qty,Note\n1,,,only a note\n", "1: [2-2]", ""},
		{"taken apart", one, "No,Items\n1,a x 2; b x 3\n2,c x 4\n", "1: a×2@2 b×3@2 [2-2]; 2: c×4@3 [3-3]", ""},
		{"JSON", listed, `No,Items` + "\n" + `1,"[{""sku"":""a"",""n"":[2]},{""sku"":""b"",""n"":[3]}]"` + "\n",
			"1: a×2@2 b×3@2 [2-2]", ""},
		{"one object", listed, `No,Items` + "\n" + `1,"{""sku"":""a"",""n"":[2]}"` + "\n", "1: a×2@2 [2-2]", ""},
		{"JSON that is cut", listed, `No,Items` + "\n" + `1,"[{""sku"":""a"",""n"":[2]},{""sku"""` + "\n", "1: [2-2]",
			"error cell_unreadable row 2 column 2: The cell is no list in JSON: a colon should stand behind the name \"sku\"."},
		{"lists of plain values", plain, `No,SKU,Qty` + "\n" + `1,"[""a"", ""b""]","[2, 3.5]"` + "\n", "1: a×2@2 b×3.5@2 [2-2]", ""},
		{"sorted", sorted, "No,Pos,SKU,Qty\n1,\"20,5\",\"a,b\",\"2,3\"\n1,\"10,30\",\"c,d\",\"4,5,6\"\n",
			"1: b×3@2 c×4@3 a×2@2 d×5@3 ×6@3 [2-3]",
			"error cells_differ row 3 column 4: Pos holds 2 values and Qty 3 values; which of them belong together is not known."},
	} {
		orders, all := draft(t, parse(t, c.mapping), c.doc)
		if got := strings.Join(orders, "; "); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
		var found []string
		for _, f := range all {
			found = append(found, string(f.Severity)+" "+string(f.Code)+" "+f.Place.String()+": "+f.Message)
		}
		if got := strings.Join(found, "; "); got != c.found {
			t.Errorf("%s says %s, want %s", c.name, got, c.found)
		}
	}
}
