package load

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/uses"
	"koinos/store"
)

// actValues is how many values an act lists at most.
const actValues = 500

// someForms are the forms of dates that are tried on values that were not dates.
var someForms = []string{"yyyy-mm-dd", "d.m.yyyy", "d/m/yyyy", "m/d/yyyy", "d-m-yyyy", "yyyy/m/d", "yyyy.m.d",
	"yyyymmdd", "d mmm yyyy", "d-mmm-yyyy", "mmm d yyyy", "mmm d, yyyy", "d.m.yy", "d/m/yy", "m/d/yy", "d-mmm-yy",
	"d. mmm yyyy", "yymmdd", "ddmmyyyy"}

// Acts lists what can be done about a load's findings, the most effective first.
func (e *Engine) Acts(ctx context.Context, id int64) ([]api.Act, error) {
	l, err := e.Kept(ctx, id)
	if err != nil {
		return nil, err
	}
	groups, err := e.store.ActGroups(ctx, id)
	if err != nil {
		return nil, err
	}
	set, err := e.store.Set(ctx)
	if err != nil {
		return nil, err
	}
	acts := []api.Act{}
	for _, g := range groups {
		a := api.Act{Findings: g.Findings, Orders: g.Orders}
		f := store.ValueFilter{Code: g.Code, List: g.List, Field: g.Field, Lines: g.Lines, Limit: actValues}
		switch finding.Code(g.Code) {
		case finding.CrosswalkMissing, finding.UnknownCode, finding.UnknownUnit:
			a.Kind, a.Name, a.About = "list", g.List,
				fmt.Sprintf("Map these to your codes, or add them to the list %s", g.List)
			a.Field = fieldOf(&g)
			if g.List == "" { // units, where no list of them was imported
				a.About = "Map these to your codes"
			}
			if finding.Code(g.Code) == finding.CrosswalkMissing {
				a.Kind, a.Field, a.About = "crosswalk", "",
					fmt.Sprintf("Map these to your codes, in the crosswalk %s", g.List)
			}
		case finding.NotADate:
			a.Kind, a.Name, a.Field = "dates", fieldOf(&g), fieldOf(&g)
			a.About = fmt.Sprintf("Teach the mapping %s how these dates of %s are written", l.Mapping, g.Field)
		default:
			a.Kind, a.Name, a.About = "accept", g.Code, "Accept for this load: "+
				finding.Catalogue[finding.Code(g.Code)].Title
			f.Limit = 5
		}
		values, err := e.store.Values(ctx, id, f)
		if err != nil {
			return nil, err
		}
		for _, v := range values {
			a.Values = append(a.Values, api.ActValue{Value: v.Value, Count: v.Count, Nearest: v.Nearest})
		}
		if walk := set.Crosswalks[a.Name]; a.Kind == "crosswalk" && walk != nil {
			for i, v := range a.Values { // near is what a partner may have meant; wanted is what that is with us
				a.Values[i].Nearest, _, _ = walk.Ours(v.Nearest)
			}
		}
		if a.Kind == "dates" {
			var fit int
			if a.Form, fit = formOf(a.Values); fit == 0 {
				continue // no way of writing a date: only the document can be fixed
			}
			if fit < len(a.Values) {
				a.About += fmt.Sprintf("; %d of the %d values have this form", fit, len(a.Values))
			}
		}
		acts = append(acts, a)
	}
	return acts, nil
}

// fieldOf is a field's name as Fix takes it.
func fieldOf(g *store.ActGroup) string {
	if g.Lines {
		return "lines." + g.Field
	}
	return g.Field
}

// level splits such a name.
func levelOf(field string) (order.Level, string) {
	if rest, ok := strings.CutPrefix(field, "lines."); ok {
		return order.Lines, rest
	}
	return order.Header, field
}

// formOf finds the form that most of the values have, and how many have it.
func formOf(values []api.ActValue) (form string, most int) {
	for _, f := range someForms {
		n := 0
		for _, v := range values {
			if _, ok := mapping.DayIn(f, strings.TrimSpace(v.Value)); ok {
				n++
			}
		}
		if n > most {
			form, most = f, n
		}
	}
	return form, most
}

// Fix carries out a decision about a load's findings. Then it checks the orders that failed once more, and only those:
// it returns the new load.
func (e *Engine) Fix(ctx context.Context, id int64, f api.Fix, by, name string) (outcome.Load, error) {
	l, err := e.ended(ctx, id)
	if err != nil {
		return l, err
	}
	if l.Mapping, err = e.store.Became(ctx, store.Named{Kind: uses.Mapping, Name: l.Mapping}); err != nil {
		return l, err
	}
	kept, err := e.store.Mapping(ctx, l.Mapping, 0)
	if err != nil {
		return l, err
	}
	text := kept.Text
	for field, form := range f.Dates {
		level, plain := levelOf(field)
		if text, err = mapping.AddDateForm(text, level, plain, form); err != nil {
			return l, finding.All{finding.New(finding.MappingWrongValue, origin.Place{}, form, "%v.", err)}
		}
	}
	walks := map[string][]list.Pair{}
	maps.Copy(walks, f.Crosswalks)
	for field, pairs := range f.Means {
		level, plain := levelOf(field)
		name := l.Mapping + "-" + strings.NewReplacer(".", "-", "_", "-").Replace(plain)
		if text, name, err = mapping.AddCrosswalk(text, level, plain, name); err != nil {
			return l, finding.All{finding.New(finding.MappingWrongValue, origin.Place{}, field, "%v.", err)}
		}
		walks[name] = append(walks[name], pairs...)
	}
	if err := e.sensible(ctx, text, f.Lists, walks); err != nil {
		return l, err
	}
	if err := e.store.AddEntries(ctx, f.Lists, walks, e.now()); err != nil {
		return l, err
	}
	if text != kept.Text {
		if _, err := e.store.PutMapping(ctx, api.Mapping{Name: kept.Name, Text: text, StoredAt: e.now(),
			StoredBy: by}); err != nil {
			return l, err
		}
	}
	return e.Retry(ctx, id, f.Accept, by, name)
}

// sensible checks whether what is to be added would fix anything: the mapping uses the crosswalk, our side of its pairs
// is in the field's list, and the list is in use.
func (e *Engine) sensible(ctx context.Context, text string, lists map[string][]list.Entry,
	walks map[string][]list.Pair) error {
	m, err := mapping.Parse([]byte(text))
	if err != nil {
		return err
	}
	set, err := e.store.Set(ctx)
	if err != nil {
		return err
	}
	var all finding.All
	bad := func(value, format string, args ...any) {
		f := finding.New(finding.MappingWrongValue, origin.Place{}, value, format, args...)
		f.Hint = ""
		all = append(all, f)
	}
	used, asked := map[string]bool{}, map[string]bool{"units": true}
	for _, level := range m.Levels {
		for i := range level {
			b := &level[i]
			name := b.List
			if name == "" && (b.Field.Type == order.Unit || b.UnitCrosswalk != "") {
				name = "units"
			}
			walk := cmp.Or(b.Crosswalk, b.UnitCrosswalk)
			asked[name], used[walk] = true, true
			if known := set.Lists[name]; known != nil {
				for _, p := range walks[walk] {
					if known.Look(p.Ours, b.Keys, 0).Entry == nil && !slices.ContainsFunc(lists[name],
						func(n list.Entry) bool { return n.Code == p.Ours }) {
						bad(p.Ours, "%q is not in the list %s, which %s asks: nothing was changed. Add it to the "+
							"list too, or correct it.", p.Ours, name,
							b.Field.Name)
					}
				}
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(walks)) {
		if !used[name] && set.Crosswalks[name] == nil { // expressions may ask one that is there
			bad(name, "Nothing in the mapping %s uses the crosswalk %s: nothing was changed.", m.Name, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(lists)) {
		if !asked[name] && set.Lists[name] == nil {
			bad(name, "Nothing uses the list %s, and it does not exist: nothing was changed.", name)
		}
	}
	if len(all) > 0 {
		return all
	}
	return nil
}

// Retry loads the orders of a load that failed once more, with the present mapping and lists. accept adds warnings that
// will not hold them.
func (e *Engine) Retry(ctx context.Context, id int64, accept []finding.Code, by, name string) (outcome.Load, error) {
	l, err := e.ended(ctx, id)
	if err != nil {
		return l, err
	}
	if l.Mapping, err = e.store.Became(ctx, store.Named{Kind: uses.Mapping, Name: l.Mapping}); err != nil {
		return l, err
	}
	opt := l.Options
	opt.Retry, opt.StopAfter = id, 0
	opt.Accept = append(append([]finding.Code{}, opt.Accept...), accept...)
	if len(accept) > 0 {
		var names []string
		for _, c := range accept {
			names = append(names, string(c))
		}
		opt.Note = strings.TrimSpace(opt.Note + "\n" + by + " accepted " + strings.Join(names, ", "))
	}
	return e.Start(ctx, Request{Document: l.Document, Mapping: l.Mapping, Options: opt, By: by, Name: name, Run: l.Run,
		Step: l.Step})
}
