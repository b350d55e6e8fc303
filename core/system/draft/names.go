package draft

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// What things are usually called, in small letters with _ between words. Of several that
// are there the first of a table is taken.
var (
	dataNames = []string{"data", "items", "results", "records", "value", "values", "content", "list", "entries",
		"rows"}
	keyNames    = []string{"id", "uuid", "guid", "key", "_id"}
	numberNames = []string{"number", "no", "document_number", "document_no", "doc_no", "reference", "ref", "code",
		"sku", "email", "name", "title"}
	versionNames = []string{"version", "revision", "rev", "row_version", "lock_version", "etag"}
	lineNames    = []string{"lines", "line_items", "order_lines", "items", "order_items", "positions", "rows",
		"entries", "details"}
	amountNames = []string{"quantity", "qty", "ordered_qty", "ordered_quantity", "quantity_ordered", "count", "pieces",
		"units"}
	matchNames = []string{"line_number", "line_no", "line", "position", "pos", "sequence", "external_id", "reference",
		"ref"}
	goneStates = []string{"cancelled", "canceled", "void", "voided", "deleted", "withdrawn", "archived", "removed"}
	goneFlags  = []string{"deleted", "is_deleted", "cancelled", "canceled", "is_cancelled", "archived", "is_archived",
		"removed"}
	stateNames  = []string{"status", "state", "order_status", "order_state"}
	sizeNames   = []string{"limit", "per_page", "page_size", "pagesize", "size", "top", "max_results", "first"}
	pageNames   = []string{"page", "page_number", "page_no", "pagenumber", "p"}
	pagesNames  = []string{"total_pages", "page_count", "pages", "last_page", "pages_total"}
	offsetNames = []string{"offset", "skip", "start", "start_index"}
	totalNames  = []string{"total", "total_count", "count", "odata_count", "total_records", "total_results",
		"total_items"}
	moreNames = []string{"has_more", "has_next", "has_next_page", "more", "more_results"}
	nextNames = []string{"next", "next_url", "next_link", "next_page_url", "next_href", "odata_next_link",
		"next_page", "next_href"}
	cursorNames = []string{"cursor", "page_token", "after", "starting_after", "continuation", "continuation_token",
		"next_token", "marker", "page_cursor", "token"}
	trialNames = []string{"dry_run", "validate_only", "check_only", "test_only", "simulate", "preview"}
	orderWords = []string{"order", "purchase", "sale", "shipment", "delivery", "receipt", "invoice"}
)

// norm writes a name in small letters with _ between its words.
func norm(name string) string {
	var b strings.Builder
	runes := []rune(name)
	for i, r := range runes {
		switch {
		case unicode.IsUpper(r):
			if i > 0 && (unicode.IsLower(runes[i-1]) || unicode.IsDigit(runes[i-1]) ||
				unicode.IsUpper(runes[i-1]) && i+1 < len(runes) && unicode.IsLower(runes[i+1])) {
				b.WriteByte('_')
			}
			b.WriteRune(unicode.ToLower(r))
		case unicode.IsLetter(r) || unicode.IsDigit(r):
			b.WriteRune(r)
		default:
			b.WriteByte('_')
		}
	}
	text := b.String()
	for strings.Contains(text, "__") {
		text = strings.ReplaceAll(text, "__", "_")
	}
	return strings.Trim(text, "_")
}

// singular is the name of one of them.
func singular(name string) string {
	name = strings.TrimSuffix(strings.TrimSuffix(norm(name), "_list"), "_collection")
	switch {
	case strings.HasSuffix(name, "ies") && len(name) > 4:
		return strings.TrimSuffix(name, "ies") + "y"
	case strings.HasSuffix(name, "sses") || strings.HasSuffix(name, "xes") || strings.HasSuffix(name, "ches"):
		return strings.TrimSuffix(name, "es")
	case strings.HasSuffix(name, "s") && !strings.HasSuffix(name, "ss") && !strings.HasSuffix(name, "us"):
		return strings.TrimSuffix(name, "s")
	}
	return name
}

// words are the words of a name.
func words(name string) []string { return strings.Split(norm(name), "_") }

// has reports whether a name has one of some words.
func has(name string, some ...string) bool {
	return slices.ContainsFunc(words(name), func(w string) bool { return slices.Contains(some, w) })
}

// stamped reports whether a name says when something changed last.
func stamped(name string) bool {
	return has(name, "updated", "modified", "changed", "modification", "update", "change") &&
		!has(name, "by", "user", "reason", "count", "number", "no")
}

// sinceNamed reports whether a parameter asks for what is new.
func sinceNamed(name string) bool {
	n := norm(name)
	return n == "since" || stamped(name) && has(name, "since", "after", "min", "from", "gte", "gt", "start") ||
		n == "if_modified_since"
}

var simpleName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// step is a path with one name more (RFC 9535).
func step(path, name string) string {
	if simpleName.MatchString(name) {
		return path + "." + name
	}
	return path + "['" + strings.ReplaceAll(strings.ReplaceAll(name, `\`, `\\`), "'", `\'`) + "']"
}

var plainValue = regexp.MustCompile(`^[A-Za-z/$][A-Za-z0-9_./$-]*( [A-Za-z0-9_./$-]+)*$`)

// quoted is a value as YAML takes it, whatever is in it.
func quoted(v string) string {
	switch strings.ToLower(v) {
	case "true", "false", "null", "yes", "no", "on", "off":
		return strconv.Quote(v)
	}
	if plainValue.MatchString(v) {
		return v
	}
	return strconv.Quote(v)
}
