package grammar

import "bytes"

// MostLevels is how deeply a text in YAML or JSON may be nested. It is checked before the text is parsed, because
// parsers work level by level and need more for each level, the more there are.
const MostLevels = 100

// TooDeep returns the line, counted from 1, in which a text of YAML or JSON is nested more than MostLevels deep; 0 if
// there is none. It counts the brackets that are open outside of quotes and comments, and the signs of lists and keys
// that follow each other in a line.
func TooDeep(src []byte) int {
	open, line := 0, 0
	for text := range bytes.Lines(src) {
		line++
		signs, begun := 0, false
		var quote byte
		for i := 0; i < len(text); i++ {
			c := text[i]
			next := byte('\n')
			if i+1 < len(text) {
				next = text[i+1]
			}
			switch {
			case quote != 0:
				if c == '\\' && quote == '"' {
					i++
				} else if c == quote {
					quote = 0
				}
			case (c == '"' || c == '\'') && (i == 0 || bytes.IndexByte([]byte(" \t[{,:(-"), text[i-1]) >= 0):
				quote = c
			case c == '#' && (i == 0 || text[i-1] == ' ' || text[i-1] == '\t'):
				i = len(text)
			case c == '[' || c == '{':
				open++
			case c == ']' || c == '}':
				open = max(0, open-1)
			case (c == '-' || c == '?' || c == ':') && !begun && (next == ' ' || next == '\t'):
				signs++
			case c != ' ' && c != '\t':
				begun = true
			}
			if open > MostLevels || signs > MostLevels {
				return line
			}
		}
	}
	return 0
}
