package mapping

import (
	"cmp"
	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/list"
	"koinos/core/order"
	"koinos/core/origin"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

var cellPattern = regexp.MustCompile(`^\$?([A-Za-z]{1,3})\$?([1-9][0-9]{0,6})$`)

func (b *builder) bindings(n *grammar.Node, level order.Level, doc Locale) []Binding {
	var all []Binding
	for _, e := range n.Entries {
		f, ok := order.LookupOf(string(b.m.Kind), level, e.Key)
		if !ok {
			b.Add(finding.MappingUnknownKey, e.At, e.Key, "%s is no field of kind: %s.", e.Key, b.m.Kind)
			continue
		}
		all = append(all, b.binding(e, f, doc))
	}
	return all
}

func (b *builder) binding(e grammar.Entry, f order.Field, doc Locale) Binding {
	v := e.Node
	if within := b.each; within != nil && v.Get("of") != nil && v.Str("of") != "around" {
		if b.each = nil; v.Str("of") == "order" {
			b.each = b.records
		}
		defer func() { b.each = within }()
	}
	b.around = v.Str("of") == "around"
	defer func() { b.around = false }()
	bind := Binding{
		Field: f, From: b.sources(v.List("from")), Value: v.Str("value"), Default: v.Str("default"),
		Need: Need(v.Str("need")), Of: v.Str("of"),
		Repeat: v.Str("repeat"), Separator: cmp.Or(v.Str("separator"), "\n"), Beside: v.Str("beside"),
		Expr:      b.compile(v.Get("expr"), false),
		When:      b.compile(v.Get("when"), true),
		Crosswalk: v.Str("crosswalk"), Others: v.Str("others") == "keep", List: v.Str("list"), Keys: v.Strs("by"),
		Near: v.Number("near"), Fold: v.Str("fold") == "case", Give: v.Str("give"), Suffix: v.Str("suffix"),
		Write: b.compile(v.Get("write"), false), Result: b.resultOf(v.Get("result")),
		Compare: v.Str("check") != "false", Locale: doc, At: e.At,
	}
	b.m.Computes = b.m.Computes || bind.Expr != nil || bind.When != nil || bind.Write != nil
	if bind.Of == "around" && !b.x12 {
		b.Add(finding.MappingWrongValue, v.Get("of").At, bind.Of,
			"of: around goes with X12 only; of: parent asks the object around a value of JSON.")
	}
	b.m.wide = b.m.wide || bind.Of == "parent" || bind.Of == "document"
	for _, w := range v.Strs("row") {
		bind.Rows = append(bind.Rows, list.Fold(w))
	}
	if bind.Need == "" {
		bind.Need = May
	}
	if c := v.Get("cell"); c != nil {
		m := cellPattern.FindStringSubmatch(c.Text)
		if m == nil || origin.ColumnNumber(m[1]) == 0 {
			b.Add(finding.MappingWrongValue, c.At, c.Text, "%q is not a cell; write one such as B3.", c.Text)
		} else {
			row, _ := strconv.Atoi(m[2])
			bind.From = append(bind.From, Source{Text: c.Text, Kind: ByCell, Column: origin.ColumnNumber(m[1]),
				Row: row})
			b.m.Beside = true
		}
	}
	for _, l := range v.List("label") {
		bind.From = append(bind.From, Source{Text: l.Text, Kind: ByLabel,
			Folded: strings.TrimRight(list.Fold(l.Text), ": ")})
		b.m.Beside = true
	}
	if t := v.Get("type"); t != nil {
		of := order.Type(t.Text)
		if strings.HasPrefix(e.Key, "custom.") || strings.HasPrefix(e.Key, "reference.") &&
			(of == order.Text || of == order.Code) {
			bind.Field.Type = of
		} else {
			b.Add(finding.MappingWrongValue, t.At, t.Text,
				"type goes with custom fields, and text or code with references; "+
					"%s is a %s.", e.Key, f.Type)
		}
	}
	b.locale(v, &bind.Locale)
	bind.Bounds = b.bounds(v, bind.Field.Type)
	for i := 1; i < len(bind.Locale.Dates) && bind.Field.Type == order.Day; i++ {
		if bind.Locale.Dates[i].swapped(bind.Locale.Dates[i-1]) {
			bind.Swapped, b.m.swaps = i, true
		}
	}
	value := v.Get("value")
	switch given := v.Get("from") != nil || v.Get("cell") != nil || v.Get("label") != nil || bind.Expr != nil ||
		bind.Result.Step != ""; {
	case !given && value == nil:
		b.Add(finding.MappingMissingKey, e.At, "",
			"%s needs from (a column, a path, an element), cell, label, expr or result, or value (the same for all).",
			e.Key)
	case v.Get("from") != nil && value != nil:
		b.Add(finding.MappingWrongValue, value.At, value.Text,
			"%s has both from and value; take one of them out, or say default instead of value.", e.Key)
	case given && value != nil:
		b.Add(finding.MappingWrongValue, value.At, value.Text,
			"%s has a value and something else that gives one; take one of them out.", e.Key)
	}
	for _, k := range binding.Keys {
		types, limited := bindingKeysFor[k.Name]
		if at := v.Get(k.Name); limited && at != nil && !slices.Contains(strings.Fields(types),
			string(bind.Field.Type)) {
			b.Add(finding.MappingWrongValue, at.At, at.Text, "%s does not go with %s, which is a %s.", k.Name, e.Key,
				bind.Field.Type)
		}
	}
	if k := v.Get("crosswalk"); k != nil && bind.Field.Type == order.Decimal && bind.Suffix == "unit" {
		bind.Crosswalk, bind.UnitCrosswalk = "", k.Text // of the word behind the number
	}
	if k := v.Get("others"); k != nil && v.Get("crosswalk") == nil {
		b.Add(finding.MappingWrongValue, k.At, k.Text, "others goes with crosswalk only.")
	}
	for _, key := range []string{"by", "near", "give"} {
		if k := v.Get(key); k != nil && bind.List == "" {
			b.Add(finding.MappingWrongValue, k.At, k.Text, "%s goes with list only.", key)
		}
	}
	if k := v.Get("repeat"); k != nil && f.Level != order.Header && k.Text != "join" &&
		!slices.ContainsFunc(bind.From, Source.Many) {
		b.Add(finding.MappingWrongValue, k.At, k.Text,
			"repeat goes with header fields, and with paths that lead to several values.")
	}
	if k := v.Get("separator"); k != nil && bind.Repeat != "join" {
		b.Add(finding.MappingWrongValue, k.At, k.Text, "separator goes with repeat: join only.")
	}
	if k := v.Get("check"); k != nil && !f.IsStated() {
		b.Add(finding.MappingWrongValue, k.At, k.Text,
			"check goes with amount, total, total_before_tax and tax_amount only.")
	}
	if k := v.Get("row"); k != nil && b.m.Group.By != "rowkind" {
		b.Add(finding.MappingWrongValue, k.At, k.Text, "row goes with group by rowkind only.")
	}
	for _, w := range bind.Rows {
		if b.m.Group.Kinds != nil && b.m.Group.Kinds[w] == "" {
			b.Add(finding.MappingWrongValue, v.Get("row").At, w, "orders.group.kinds has no kind %q.", w)
		}
	}
	return bind
}

// bindingKeysFor says for which types of field a word of a binding makes sense.
var bindingKeysFor = map[string]string{
	"dates":     "date",
	"zone":      "date",
	"decimal":   "decimal percent",
	"grouping":  "decimal percent",
	"suffix":    "decimal",
	"yes":       "boolean",
	"no":        "boolean",
	"list":      "text code unit currency",
	"fold":      "text code unit currency",
	"least":     "decimal percent date",
	"most":      "decimal percent date",
	"places":    "decimal percent",
	"length":    "text code unit",
	"pattern":   "text code unit",
	"crosswalk": "text code unit currency choice boolean decimal",
}
