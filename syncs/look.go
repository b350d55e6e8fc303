package syncs

import (
	"context"
	"fmt"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/jsondoc"
	"koinos/core/system"
	"koinos/core/tree"
)

// lookedUp is how long a result is used; a value that was not found is asked for again.
const lookedUp = 10 * time.Minute

// lookup is a remembered look-up: a key by a value, or a value by a key.
type lookup struct {
	is    tree.Node // as it stands in the record
	until time.Time
}

// look returns the key of a record of kind to with a value; ok is false if there is none.
func (p *push) look(ctx context.Context, ref *system.Refer, value string) (key tree.Node, ok bool, err error) {
	s, to := p.s, p.o.Records[ref.To]
	name := strings.Join([]string{p.o.Name, ref.To, ref.By, value}, "\x00")
	p.looked = append(p.looked, name)
	s.mu.Lock()
	known, is := s.looked[name]
	s.mu.Unlock()
	if is && s.now().Before(known.until) {
		return known.is, true, nil
	}
	all, err := p.o.like(ctx, to, to.Finds[ref.By], value)
	switch {
	case err != nil || len(all) == 0:
		return key, false, err
	case len(all) > 1:
		return key, false, blocked(api.TargetAmbiguous,
			"%s has %d records %s with the %s %q; it is not clear which one is meant.", p.o.Name,
			len(all),
			ref.To, ref.By, value)
	}
	key = keyOf(to, all[0].Node)
	s.remember(name, key)
	return key, true, nil
}

func keyOf(r *system.Record, n *tree.Node) tree.Node {
	k := r.Key.First(n)
	return tree.Node{Kind: k.Kind, Text: k.Text}
}

// mostLooked is how many look-ups are remembered.
const mostLooked = 10_000

func (s *Syncs) remember(name string, key tree.Node) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.looked) >= mostLooked {
		clear(s.looked)
	}
	s.looked[name] = lookup{key, s.now().Add(lookedUp)}
}

// forget forgets look-ups, and what a system said about a kind of record.
func (s *Syncs) forget(o *opened, r *system.Record, names []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(o.fields, r.Name)
	for _, name := range names {
		delete(s.looked, name)
	}
}

// forgetAll forgets everything that was looked up in systems, and what they said about their fields, because somebody
// has fixed something.
func (s *Syncs) forgetAll(systems []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, name := range systems {
		if o := s.open[name]; o != nil {
			clear(o.fields)
		}
		for looked := range s.looked {
			if strings.HasPrefix(looked, name+"\x00") {
				delete(s.looked, looked)
			}
		}
	}
}

// whole returns a record with all of its lines.
func (o *opened) whole(ctx context.Context, r *system.Record, key string) (*tree.Node, error) {
	a, err := o.client.One(ctx, r, key)
	if err != nil {
		return nil, err
	}
	f, err := r.Alone(a)
	if err == nil {
		err = o.rest(ctx, r, &f, true)
	}
	return f.Node, err
}

// referLine puts the key of a line where the wanted record has the value that the line is known by.
func (p *push) referLine(ctx context.Context, ref *system.Refer, n *tree.Node) (why []string, err error) {
	to := p.o.Records[ref.To]
	switch {
	case !n.Scalar() || n.Kind == tree.Null || n.Text == "":
		return nil, nil
	case p.parent == "":
		return []string{fmt.Sprintf("It is not known to which %s it belongs, and so not which line %q is.", ref.To, n.Text)},
			nil
	case p.whose == nil:
		if p.whose, err = p.o.whole(ctx, to, p.parent); err != nil {
			return nil, err
		}
		p.lines = map[*system.Refer]*system.LineIndex{}
	}
	if p.lines[ref] == nil {
		p.lines[ref] = ref.Line.Of(to, p.whose)
	}
	key, is := p.lines[ref].Key(n.Text)
	if !is {
		return []string{fmt.Sprintf("The %s %s of %s has no line %q.", ref.To, p.parent, p.o.Name, n.Text)}, nil
	}
	n.Kind, n.Text = key.Kind, key.Text
	return nil, nil
}

// resolved returns a record as a mapping reads it: in place of keys it has the values by which the records can be found
// that it refers to. Unknown keys stay.
func (s *Syncs) resolved(ctx context.Context, o *opened, r *system.Record, f *system.Found) ([]byte, error) {
	for _, lines := range []bool{true, false} { // lines first: then the key of their record still stands there
		for i := range r.Refers {
			ref := &r.Refers[i]
			if (ref.Line != nil) != lines || o.Records[ref.To].Get == "" {
				continue
			}
			var of string // the record whose lines are meant
			if lines {
				if ref.Line.In == nil {
					continue
				}
				if n := ref.Line.In.First(f.Node); n != nil && n.Scalar() {
					of = n.Text
				}
			}
			at := referred{s: s, o: o, ref: ref, of: of}
			for _, n := range ref.Path.All(f.Node) {
				if !n.Scalar() || n.Kind == tree.Null || n.Text == "" || lines && of == "" {
					continue
				}
				value, err := at.value(ctx, n.Text)
				if err != nil {
					return nil, err
				}
				if value.Text != "" {
					n.Kind, n.Text = value.Kind, value.Text
				}
			}
		}
	}
	return f.Node.AppendJSON(nil), nil
}

// referred is what a reference leads to: records, or the lines of the record with the key of.
type referred struct {
	s     *Syncs
	o     *opened
	ref   *system.Refer
	of    string
	lines *system.LineIndex // once they were read; nil if there is no such record
	read  bool
}

// value returns the value by which a record, or a line, with a key can be found; blank if there is none.
func (r *referred) value(ctx context.Context, key string) (v tree.Node, err error) {
	name := strings.Join([]string{r.o.Name, r.ref.To, r.ref.By, "key", r.of, key}, "\x00")
	r.s.mu.Lock()
	known, is := r.s.looked[name]
	r.s.mu.Unlock()
	if is && r.s.now().Before(known.until) {
		return known.is, nil
	}
	at, path, err := r.at(ctx, key)
	if err != nil || at == nil {
		return v, err
	}
	if n := path.First(at); n != nil && n.Scalar() && n.Kind != tree.Null {
		v = tree.Node{Kind: n.Kind, Text: n.Text}
		r.s.remember(name, v)
	}
	return v, nil
}

// at returns the record or line with a key, and where in it the value stands by which it can be found; nil is that
// there is none.
func (r *referred) at(ctx context.Context, key string) (*tree.Node, *jsondoc.Path, error) {
	to := r.o.Records[r.ref.To]
	if r.ref.Line == nil {
		at, err := r.o.whole(ctx, to, key)
		if missing(err) {
			return nil, nil, nil
		}
		return at, to.Finds[r.ref.By].Path, err
	}
	if !r.read {
		at, err := r.o.whole(ctx, to, r.of)
		if err != nil && !missing(err) {
			return nil, nil, err
		}
		if r.read = true; err == nil {
			r.lines = r.ref.Line.Of(to, at)
		}
	}
	if r.lines == nil {
		return nil, nil, nil
	}
	return r.lines.Line(key), r.ref.Line.Match, nil
}
