package draft

import (
	"fmt"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
)

// finds writes the ways to find a record by a value: parameters of the list that are called
// as a member of the record is.
func (a *api) finds(r *entry, l *list) (ways []string) {
	ways = l.ways()
	if len(ways) == 0 {
		return nil
	}
	e := r.add("find", "", "parameters that are called as a field is")
	for _, w := range ways {
		e.add(norm(w), fmt.Sprintf("{parameter: %s, path: %s}", quoted(w), step("$", l.member(w))), "")
	}
	return ways
}

// ways are the parameters of a list by which one record may be found.
func (l *list) ways() (out []string) {
	for _, p := range l.query {
		n := norm(p.name)
		if slices.Contains(stateNames, n) || sinceNamed(p.name) || slices.Contains(sizeNames, n) || stamped(p.name) ||
			p.schema.is("boolean") || p.schema.format() == "date" || p.schema.format() == "date-time" ||
			strings.HasSuffix(n, "_id") || len(p.schema.enum()) > 0 {
			continue
		}
		if l.member(p.name) != "" {
			out = append(out, p.name)
		}
	}
	return out
}

// member is a plain member of the listed records that is called so; "" if there is none.
func (l *list) member(name string) string {
	for _, p := range l.each.props() {
		if norm(p.name) == norm(name) && plain(p.schema) {
			return p.name
		}
	}
	return ""
}

// reference is a member that has the key of another record.
type reference struct {
	path string
	name string
	to   *list
}

// refers finds the members that are called as another kind of record and _id.
func (a *api) refers(l *list) (out []reference) {
	full := l.each
	if l.full != nil {
		full = l.full
	}
	take := func(path string, s *schema) {
		for _, p := range s.props() {
			base, is := strings.CutSuffix(norm(p.name), "_id")
			if !is || !plain(p.schema) {
				continue
			}
			for _, to := range a.lists {
				if to != l && (base == to.record || strings.HasSuffix(base, "_"+to.record)) {
					out = append(out, reference{step(path, p.name), p.name, to})
					break
				}
			}
		}
	}
	take("$", full)
	if lines, _ := l.lines(full.props()); lines.name != "" {
		take(l.where(a, lines.name), lines.schema.items())
	}
	return out
}

func (a *api) refer(r *entry, l *list, kept []*list) {
	var e *entry
	for _, ref := range a.refers(l) {
		ways := ref.to.ways()
		if !slices.Contains(kept, ref.to) {
			continue
		}
		if len(ways) == 0 {
			r.ask("refers: %s is the key of a %s, but by which value is one found? Say find: there.", ref.path,
				ref.to.record)
			continue
		}
		if e == nil {
			e = r.add("refers", "", "")
		}
		e.add("- {path", fmt.Sprintf("%s, to: %s, by: %s}", quoted(ref.path), ref.to.record, norm(ways[0])), "")
	}
}

// writing writes how a record is made and changed.
func (a *api) writing(r *entry, l *list, lines prop, finds []string) {
	item := a.doc.Paths.Value(l.path)
	if item == nil || item.Post == nil {
		return
	}
	post := merged(item.Post, item)
	w := r.add("write", "", "POST "+l.path)
	if has(l.record, orderWords...) {
		switch {
		case len(finds) > 0:
			w.ask("mapping: which mapping writes an order as such a record? With it, say find: %s.", norm(finds[0]))
		default:
			w.ask("mapping: which mapping writes an order as such a record? It also needs find: how is one found by our number?")
		}
	}
	for _, p := range params(post, "header") {
		if has(p.name, "idempotency", "idempotent") {
			w.add("idempotency", quoted(p.name), "")
		}
	}
	body := sent(post)
	as := ""
	if props := body.props(); len(props) == 1 && props[0].schema.is("object") {
		as, body = props[0].name, props[0].schema
	}
	a.types(w, body, lines)
	create := []string{"path: " + quoted(l.path)}
	if as != "" {
		create = append(create, "as: "+quoted(as))
	}
	if answer, _ := answerOf(item.Post); answer != nil {
		if at, _ := l.wrapped(answer); at != "" {
			create = append(create, "record: "+quoted(at))
		}
	}
	sub := a.sub(l, lines.name)
	if sub != "" && body.member(lines.name) == nil {
		create = append(create, "lines: 0")
	}
	if p, ok := named(params(post, "query"), trialNames, nil); ok {
		create = append(create, "trial: "+quoted(p.name+"=true"))
	}
	w.add("create", "{"+strings.Join(create, ", ")+"}", "")
	a.change(w, l, as)
	if sub != "" {
		a.lines(w, l, lines, sub)
	}
	a.acts(w, l)
}

// types writes JSON types that Koinos would not guess: decimals are numbers there, and
// everything else is text.
func (a *api) types(w *entry, body *schema, lines prop) {
	types := &entry{key: "types"}
	take := func(path string, s *schema) {
		for _, p := range s.props() {
			at := quoted(step(path, p.name))
			switch {
			case p.schema.is("boolean"):
				types.add(at, "boolean", "")
			case p.schema.is("integer") || p.schema.is("number"):
				types.add(at, "number", "")
			case p.schema.is("string") && (has(p.name, "price", "amount", "total", "weight", "cost") ||
				slices.Contains(amountNames, norm(p.name))):
				types.add(at, "text", "")
			}
		}
	}
	take("$", body)
	if lines.name != "" {
		take(step("$", lines.name)+"[*]", lines.schema.items())
	}
	if len(types.under) > 0 {
		w.under = append(w.under, types)
	}
}

// change writes how a record is changed.
func (a *api) change(w *entry, l *list, as string) {
	path := strings.Replace(l.one, "{key}", "{"+l.param+"}", 1)
	item := a.doc.Paths.Value(path)
	if l.one == "" || item == nil {
		return
	}
	for _, m := range []struct {
		method string
		op     *openapi3.Operation
	}{{"PATCH", item.Patch}, {"PUT", item.Put}, {"POST", item.Post}} {
		if m.op == nil {
			continue
		}
		say := "path: " + quoted(l.one)
		if m.method != "PATCH" {
			say += ", method: " + m.method
		}
		if p := sent(m.op).props(); as != "" && len(p) == 1 && p[0].name == as {
			say += ", as: " + quoted(as)
		}
		w.add("change", "{"+say+"}", "")
		if slices.ContainsFunc(params(merged(m.op, item), "header"),
			func(p prop) bool { return norm(p.name) == "if_match" }) {
			w.add("if_match", "true", "the header is among its parameters")
		}
		return
	}
	w.ask("change: how is a %s changed? The document has no PATCH or PUT of one.", l.record)
}

// sub is the path at which lines of a record are added; "" if there is none.
func (a *api) sub(l *list, lines string) string {
	if l.one == "" || lines == "" {
		return ""
	}
	for _, path := range sortedPaths(a.doc) {
		rest, is := strings.CutPrefix(path, strings.Replace(l.one, "{key}", "{"+l.param+"}", 1)+"/")
		if is && a.doc.Paths.Value(path).Post != nil && (rest == lines || norm(rest) == norm(lines) ||
			slices.Contains(lineNames, norm(rest))) {
			return path
		}
	}
	return ""
}

// lines writes how lines are written one by one.
func (a *api) lines(w *entry, l *list, lines prop, sub string) {
	keyed := func(path string) string { return strings.Replace(path, "{"+l.param+"}", "{key}", 1) }
	e := w.add("lines", "", "")
	each := lines.schema.items().props()
	if p, ok := named(each, matchNames, plain); ok {
		e.add("match", step("$", p.name), "is this what we can set, and find again?").open = true
	} else {
		e.add("match", "$.line", "what is a line known by on both sides?").open = true
	}
	one, param := "", ""
	for _, path := range sortedPaths(a.doc) {
		if m := oneOf.FindStringSubmatch(strings.TrimPrefix(path, sub)); m != nil && strings.HasPrefix(path, sub) {
			param = m[1] + m[2]
			one = path
		}
	}
	if p, ok := named(each, append([]string{norm(param), "line_id"}, keyNames...), plain); ok {
		e.add("key", step("$", p.name), "")
	} else {
		e.add("key", "$.id", "what names a line there?").open = true
	}
	if p, ok := named(each, versionNames, plain); ok {
		e.add("version", step("$", p.name), "")
	}
	add := "path: " + quoted(keyed(sub))
	switch body := sent(a.doc.Paths.Value(sub).Post); {
	case body.objects():
		add += ", at_once: 20"
	case len(body.props()) == 1 && body.props()[0].schema.objects():
		add += ", as: " + quoted(body.props()[0].name) + ", at_once: 20"
	}
	e.add("add", "{"+add+"}", "")
	if one == "" {
		return
	}
	at := strings.Replace(keyed(one), "{"+param+"}", "{line}", 1)
	item := a.doc.Paths.Value(one)
	switch {
	case item.Patch != nil:
		e.add("change", "{path: "+quoted(at)+"}", "")
	case item.Put != nil:
		e.add("change", "{path: "+quoted(at)+", method: PUT}", "")
	}
	if item.Delete != nil {
		e.add("remove", "{path: "+quoted(at)+"}", "")
	}
}

// acts asks about what else can be done to a record: when it is due nobody can tell.
func (a *api) acts(w *entry, l *list) {
	if l.one == "" {
		return
	}
	prefix := strings.Replace(l.one, "{key}", "{"+l.param+"}", 1) + "/"
	for _, path := range sortedPaths(a.doc) {
		rest, is := strings.CutPrefix(path, prefix)
		if !is || strings.ContainsAny(rest, "/{") || a.doc.Paths.Value(path).Post == nil ||
			slices.Contains(lineNames, norm(rest)) ||
			a.doc.Paths.Value(path).Get != nil {
			continue
		}
		when := ""
		if has(rest, "cancel", "void", "close", "delete") {
			when = ", when: cancelled"
		}
		w.ask("acts: - {act: %s, path: %q%s, while: {path: …, is: […]}}. When is it due?", norm(rest),
			l.one+"/"+rest, when)
	}
}
