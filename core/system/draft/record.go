package draft

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
)

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func sortedPaths(doc *openapi3.T) []string { return sorted(doc.Paths.Map()) }

// records finds the list of records in an answer.
func (l *list) records() bool {
	if l.answer.objects() {
		l.at, l.each, l.whole = "$", l.answer.items(), 1
		return true
	}
	type found struct {
		at   string
		name string
		each *schema
	}
	var all []found
	var look func(s *schema, path string, deep int)
	look = func(s *schema, path string, deep int) {
		for _, p := range s.props() {
			switch {
			case p.schema.objects():
				all = append(all, found{step(path, p.name), p.name, p.schema.items()})
			case p.schema.is("object") && deep < 2:
				look(p.schema, step(path, p.name), deep+1)
			}
		}
	}
	look(l.answer, "$", 0)
	if len(all) == 0 {
		return false
	}
	segments := strings.Split(strings.Trim(l.path, "/"), "/")
	best := slices.IndexFunc(all, func(f found) bool { return singular(f.name) == singular(segments[len(segments)-1]) })
	for i := 0; best < 0 && i < len(dataNames); i++ {
		best = slices.IndexFunc(all, func(f found) bool { return norm(f.name) == dataNames[i] })
	}
	best = max(best, 0)
	l.at, l.each, l.whole = all[best].at, all[best].each, len(all)
	return true
}

// key is the member that names a record, and why.
func (l *list) key() (prop, string) {
	props := l.each.props()
	if p, ok := named(props, []string{norm(l.param)}, plain); ok && l.param != "" {
		if norm(l.param) == "id" {
			return p, ""
		}
		return p, "as the address of one names it"
	}
	table := append([]string{keyNames[0], l.record + "_id"}, keyNames[1:]...)
	if p, ok := named(props, table, plain); ok {
		return p, ""
	}
	for _, p := range props {
		if strings.HasSuffix(norm(p.name), "_id") && plain(p.schema) && strings.HasPrefix(l.record, words(p.name)[0]) {
			return p, ""
		}
	}
	return prop{name: "id"}, "what names a record for good? No field is called so"
}

// record writes what is found of a kind of record.
func (a *api) record(to *entry, l *list, kept []*list) {
	r := to.add(l.record, "", "")
	if a.graph != nil {
		r.why = "query " + l.graph.field.Name
	} else if r.why = "GET " + l.path; l.op.Summary != "" {
		r.add("about", quoted(firstSentence(l.op.Summary)), "")
	}
	props := l.each.props()
	full := props
	if l.full != nil {
		full = l.full.props()
	}
	lines, linesWhy := l.lines(full)
	listed, _ := l.lines(props)
	stamp, stamped := named(props, stampTable(props), plain)

	a.list(r, l, stamped)
	switch {
	case a.graph != nil:
		a.graph.get(r, l)
	case l.get != nil:
		get := "path: " + quoted(l.one)
		if l.within != "" {
			get += ", record: " + quoted(l.within)
		}
		why := ""
		if lines.name != "" && listed.name == "" {
			get, why = get+", whole: true", "the list does not show "+lines.name
		}
		r.add("get", "{"+get+"}", why)
	default:
		r.ask("get: how is one %s got? The document has no GET for one.", l.record)
	}
	key, why := l.key()
	r.add("key", step("$", key.name), why).open = key.schema == nil
	if p, ok := named(full, append([]string{l.record + "_number", l.record + "_no",
		words(l.record)[len(words(l.record))-1] + "_no",
		words(l.record)[len(words(l.record))-1] + "_number"}, numberNames...), plain); ok && p.name != key.name {
		r.add("number", step("$", p.name), "")
	} else if i := slices.IndexFunc(full, numbered); i >= 0 && !ok && full[i].name != key.name {
		r.add("number", step("$", full[i].name), "")
	}
	if p, ok := named(props, versionNames, plain); ok {
		r.add("version", step("$", p.name), "")
	}
	if stamped {
		r.add("stamp", step("$", stamp.name), "")
	}
	if lines.name != "" {
		r.add("lines", quoted(l.where(a, lines.name)), linesWhy)
	}
	for _, p := range props {
		if p.schema.is("integer") && has(p.name, "line", "lines", "item", "items", "position", "positions") &&
			has(p.name, "count", "total", "number") {
			r.add("lines_count", step("$", p.name), "")
			break
		}
	}
	l.gone(r, props)
	finds := a.finds(r, l)
	a.refer(r, l, kept)
	if a.graph != nil {
		if lines.name != "" {
			a.graph.rest(r, l, lines.name)
		}
		a.graph.mutations(r, l)
	} else {
		a.writing(r, l, lines, finds)
	}
	if has(l.record, orderWords...) {
		r.ask("mapping: which mapping makes orders of it? koinos system try shows records to draft one from.")
	}
}

// numbered reports whether a member is called a number of the record's own.
func numbered(p prop) bool {
	w := words(p.name)
	return len(w) > 1 && slices.Contains([]string{"no", "number", "ref", "reference"}, w[len(w)-1]) &&
		plain(p.schema) &&
		!has(p.name, "phone", "fax", "line", "tax", "vat", "account", "customer", "supplier", "version", "page")
}

// stampTable are the names of members that say when a record changed.
func stampTable(props []prop) (out []string) {
	for _, p := range props {
		if stamped(p.name) {
			out = append(out, norm(p.name))
		}
	}
	return out
}

// lines finds the list of a record's lines: by what it is called, or by what is in it.
func (l *list) lines(props []prop) (prop, string) {
	amount := func(s *schema) bool {
		_, ok := named(s.items().props(), amountNames, plain)
		return ok && s.objects()
	}
	if p, ok := named(props, lineNames, amount); ok {
		return p, ""
	}
	for _, p := range props {
		if amount(p.schema) {
			q, _ := named(p.schema.items().props(), amountNames, plain)
			return p, "each has " + q.name
		}
	}
	if p, ok := named(props, lineNames, (*schema).objects); ok {
		return p, ""
	}
	return prop{}, ""
}

// gone finds what says that a record is withdrawn.
func (l *list) gone(r *entry, props []prop) {
	if p, ok := named(props, goneFlags, func(s *schema) bool { return s.is("boolean") }); ok {
		r.add("gone", fmt.Sprintf("{path: %s, is: [true]}", step("$", p.name)), "")
		return
	}
	p, ok := named(props, stateNames, plain)
	if i := slices.IndexFunc(props, func(p prop) bool {
		return slices.ContainsFunc(p.schema.enum(), func(v string) bool { return slices.Contains(goneStates, norm(v)) })
	}); !ok && i >= 0 {
		p, ok = props[i], true
	}
	if !ok {
		return
	}
	var is []string
	for _, v := range p.schema.enum() {
		if slices.Contains(goneStates, norm(v)) {
			is = append(is, quoted(v))
		}
	}
	switch {
	case len(is) > 0:
		r.add("gone", fmt.Sprintf("{path: %s, is: [%s]}", step("$", p.name), strings.Join(is, ", ")),
			"of "+strings.Join(p.schema.enum(), ", "))
	case len(p.schema.enum()) == 0:
		r.ask("gone: which values of %s say that a record is withdrawn?", step("$", p.name))
	}
}

// list writes how records are listed.
func (a *api) list(r *entry, l *list, stamped bool) {
	e := r.add("list", "", "")
	if a.graph != nil {
		a.graph.list(e, l)
		return
	}
	e.add("path", quoted(l.path), "")
	query := l.query
	size, sized := named(query, sizeNames, nil)
	goes := &entry{}
	paging := l.paging(goes, query)
	if sized {
		n, why := pageSize(size.schema)
		e.add("query", fmt.Sprintf("{%s: %s}", quoted(size.name), strconv.Quote(n)), why)
		if paging != "page" {
			e.add("size", quoted(size.name), "")
		}
	}
	at := e.add("records", quoted(l.at+"[*]"), "")
	if l.whole > 1 {
		at.why, at.open = "the answer has several lists; is it this one?", true
	}
	e.under = append(e.under, goes.under...)
	if i := slices.IndexFunc(query, func(p prop) bool { return sinceNamed(p.name) }); i >= 0 && stamped {
		p := query[i]
		since := "parameter: " + quoted(p.name)
		why := ""
		text := strings.ToLower(p.schema.one(func(v *openapi3.Schema) string { return v.Description }))
		switch {
		case p.schema.format() == "date":
			since += ", form: date"
		case p.schema.is("integer") && strings.Contains(text, "milli"):
			since += ", form: milliseconds"
		case p.schema.is("integer"):
			since += ", form: seconds"
			if !strings.Contains(text, "second") && !strings.Contains(text, "unix") {
				why = "seconds, or milliseconds?"
			}
		}
		e.add("since", "{"+since+", overlap: 5m}", why).open = why != ""
	} else if stamped {
		e.ask("since: how does one ask for what is new only? No parameter is called so.")
	}
}

// pageSize is how many records a page should have.
func pageSize(s *schema) (string, string) {
	for _, v := range s.all {
		if v.Max != nil {
			return strconv.Itoa(int(min(*v.Max, 1000))), "the most that it may be"
		}
	}
	for _, v := range s.all {
		if n, ok := v.Default.(float64); ok {
			return strconv.Itoa(int(n)), "its default"
		}
	}
	return "100", ""
}

// paging writes how a list goes on, and says by which kind.
func (l *list) paging(e *entry, query []prop) string {
	envelope := slices.DeleteFunc(deepProps(l.answer, "$", 0),
		func(p prop) bool { return strings.HasPrefix(p.name, l.at) })
	find := func(table []string, fits func(*schema) bool) (prop, bool) { // by the last name of a path, or the last two
		for _, name := range table {
			for _, p := range envelope {
				n := norm(p.name)
				if (n == name || strings.HasSuffix(n, "_"+name)) && fits(p.schema) {
					return p, true
				}
			}
		}
		return prop{}, false
	}
	texts := func(s *schema) bool { return s.is("string") || len(s.all) > 0 && !s.is("boolean") && !s.is("integer") }
	numbers := func(s *schema) bool { return s.is("integer") || s.is("number") }
	flags := func(s *schema) bool { return s.is("boolean") }
	more, hasMore := find(moreNames, flags)
	cursor, byCursor := named(query, cursorNames, nil)
	page, byPage := named(query, pageNames, nil)
	offset, byOffset := named(query, offsetNames, nil)
	next, hasNext := find(nextNames, texts)
	given := slices.IndexFunc(envelope, func(p prop) bool {
		return texts(p.schema) && has(p.name, "cursor", "token", "after", "marker", "continuation") &&
			!has(p.name, "prev", "previous", "before")
	})
	parts := func(kind string, parts ...string) string {
		if hasMore && kind != "" {
			parts = append(parts, "more: "+quoted(more.name))
		}
		return fmt.Sprintf("{%s: {%s}}", kind, strings.Join(parts, ", "))
	}
	switch {
	case l.headers["Link"] != nil:
		e.add("paging", "{link: next}", "the answer has a Link header")
		return "link"
	case byCursor && given >= 0:
		e.add("paging", parts("cursor", "parameter: "+quoted(cursor.name), "from: "+quoted(envelope[given].name)), "")
		return "cursor"
	case byCursor && hasNext && next.schema.format() == "":
		e.add("paging", parts("cursor", "parameter: "+quoted(cursor.name), "from: "+quoted(next.name)), "")
		return "cursor"
	case hasNext:
		e.add("paging", fmt.Sprintf("{next: %s}", quoted(next.name)), "")
		return "next"
	case byPage:
		say := []string{"parameter: " + quoted(page.name)}
		for _, v := range page.schema.all {
			if n, ok := v.Default.(float64); ok && n == 0 {
				say = append(say, "first: 0")
			}
		}
		if pages, ok := find(pagesNames, numbers); ok {
			say = append(say, "pages: "+quoted(pages.name))
		}
		e.add("paging", parts("page", say...), "")
		return "page"
	case byOffset:
		say := []string{"parameter: " + quoted(offset.name)}
		if total, ok := find(totalNames, numbers); ok {
			say = append(say, "total: "+quoted(total.name))
		}
		e.add("paging", parts("offset", say...), "")
		return "offset"
	case byCursor:
		e.ask("paging: the parameter %s goes on, but the answer names no cursor. Where does it come from?", cursor.name)
	default:
		e.ask("paging: how does the list go on? The document names no parameter. Without it, only the first page is read.")
	}
	return ""
}
