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
	}
	line, key := ref.Line.Of(to, p.whose, n.Text, "")
	if line == nil {
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
			for _, n := range ref.Path.All(f.Node) {
				if !n.Scalar() || n.Kind == tree.Null || n.Text == "" || lines && of == "" {
					continue
				}
				value, err := s.valueOf(ctx, o, ref, of, n.Text)
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

// valueOf returns the value by which a record with a key can be found, or by which a line with a key is known in the
// record with the key of; blank if there is none.
func (s *Syncs) valueOf(ctx context.Context, o *opened, ref *system.Refer, of, key string) (v tree.Node, err error) {
	to := o.Records[ref.To]
	name := strings.Join([]string{o.Name, ref.To, ref.By, "key", of, key}, "\x00")
	s.mu.Lock()
	known, is := s.looked[name]
	s.mu.Unlock()
	if is && s.now().Before(known.until) {
		return known.is, nil
	}
	record, path := key, (*jsondoc.Path)(nil)
	if ref.Line != nil {
		record, path = of, ref.Line.Match
	} else {
		path = to.Finds[ref.By].Path
	}
	at, err := o.whole(ctx, to, record)
	if missing(err) {
		return v, nil
	}
	if err != nil {
		return v, err
	}
	if ref.Line != nil {
		if at, _ = ref.Line.Of(to, at, "", key); at == nil {
			return v, nil
		}
	}
	if n := path.First(at); n != nil && n.Scalar() && n.Kind != tree.Null {
		v = tree.Node{Kind: n.Kind, Text: n.Text}
		s.remember(name, v)
	}
	return v, nil
}
