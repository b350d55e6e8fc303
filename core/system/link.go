package system

import "strings"

// linked returns the target of a relation in Link headers (RFC 8288): several links in a header, several relations in a
// link, parameters quoted or bare, in any order.
func linked(headers []string, relation string) (target string, ok bool) {
	for _, h := range headers {
		for rest := h; ; {
			at, after, found := strings.Cut(rest, "<")
			_ = at // what stands in front belongs to no link
			if !found {
				break
			}
			uri, params, closed := strings.Cut(after, ">")
			if !closed {
				break
			}
			var relations string
			relations, rest = relationsOf(params)
			for _, one := range strings.Fields(relations) {
				if strings.EqualFold(one, relation) {
					return strings.TrimSpace(uri), true
				}
			}
		}
	}
	return "", false
}

// relationsOf reads a link's parameters and returns those of the first rel, and what follows the link.
func relationsOf(s string) (relations, rest string) {
	seen := false
	for {
		s = strings.TrimLeft(s, " \t")
		if s == "" || s[0] == ',' {
			return relations, strings.TrimPrefix(s, ",")
		}
		s = strings.TrimLeft(s, "; \t")
		end := strings.IndexAny(s, "=;,")
		if end < 0 {
			return relations, ""
		}
		name := strings.TrimSpace(s[:end])
		if s[end] != '=' {
			s = s[end:]
			continue
		}
		var value string
		value, s = parameter(strings.TrimLeft(s[end+1:], " \t"))
		if strings.EqualFold(name, "rel") && !seen { // only the first counts
			relations, seen = value, true
		}
	}
}

// parameter reads a value, quoted or bare.
func parameter(s string) (value, rest string) {
	if s == "" || s[0] != '"' {
		end := strings.IndexAny(s, ";,")
		if end < 0 {
			end = len(s)
		}
		return strings.TrimSpace(s[:end]), s[end:]
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '\\' && i+1 < len(s):
			i++
			b.WriteByte(s[i])
		case s[i] == '"':
			return b.String(), s[i+1:]
		default:
			b.WriteByte(s[i])
		}
	}
	return b.String(), ""
}
