package mapping

import "sync"

// mostKept is how many mappings ParseKept remembers.
const mostKept = 64

var kept struct {
	sync.Mutex
	of map[string]*Mapping // by the text
}

// ParseKept is Parse for the text of a mapping that is used repeatedly: it remembers the last ones. Parsing takes
// several milliseconds, which is most of what loading a small document takes.
func ParseKept(text string) (*Mapping, error) {
	kept.Lock()
	m := kept.of[text]
	kept.Unlock()
	if m != nil {
		return m, nil
	}
	m, err := Parse([]byte(text))
	if err != nil {
		return nil, err
	}
	kept.Lock()
	defer kept.Unlock()
	if kept.of == nil || len(kept.of) >= mostKept {
		kept.of = map[string]*Mapping{}
	}
	kept.of[text] = m
	return m, nil
}
