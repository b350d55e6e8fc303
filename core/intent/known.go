package intent

import "koinos/core/finding"

// known is the index of an intent's findings by what they are about. A copy of the intent gets an index of its own.
type known struct {
	of    *Intent
	n     int   // how many findings are in it
	last  about // what the last of them is about
	found map[about]bool
}

// about is the field of the header (line 0), or of a line, that a finding is about.
type about struct {
	line  int
	field string
}

func aboutOf(f *finding.Finding) about { return about{f.Line, f.Field} }

// few findings are looked through one by one.
const few = 16

// Has reports whether there is a finding about the field already.
func (i *Intent) Has(line int, field string) bool {
	asked := about{line, field}
	if len(i.Findings) <= few {
		for k := range i.Findings {
			if aboutOf(&i.Findings[k]) == asked {
				return true
			}
		}
		return false
	}
	k := i.known
	if k == nil || k.of != i || k.n > len(i.Findings) || aboutOf(&i.Findings[k.n-1]) != k.last { // some were taken away
		k = &known{of: i, found: map[about]bool{}}
		i.known = k
	}
	for ; k.n < len(i.Findings); k.n++ {
		k.last = aboutOf(&i.Findings[k.n])
		k.found[k.last] = true
	}
	return k.found[asked]
}
