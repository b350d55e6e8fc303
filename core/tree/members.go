package tree

import (
	"bytes"
	"encoding/json"
	"strings"
)

// Members is a JSON object that is being written; it keeps the order in which its members were set.
type Members struct {
	names  []string
	values map[string]any
}

func (o *Members) at(name string) *Members {
	if o.values == nil {
		o.values = map[string]any{}
	}
	if c, ok := o.values[name].(*Members); ok {
		return c
	}
	c := &Members{}
	o.set(name, c)
	return c
}

func (o *Members) set(name string, v any) {
	if o.values == nil {
		o.values = map[string]any{}
	}
	if _, ok := o.values[name]; !ok {
		o.names = append(o.names, name)
	}
	o.values[name] = v
}

// MarshalJSON writes the members in the order in which they were set.
func (o *Members) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, n := range o.names {
		if i > 0 {
			b.WriteByte(',')
		}
		name, err := json.Marshal(n)
		if err != nil {
			return nil, err
		}
		value, err := json.Marshal(o.values[n])
		if err != nil {
			return nil, err
		}
		b.Write(name)
		b.WriteByte(':')
		b.Write(value)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// Put sets a value at a JSON Pointer (RFC 6901) without positions in lists.
func (o *Members) Put(pointer string, v any) {
	names := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for i := range names {
		names[i] = Name(names[i])
	}
	for _, n := range names[:len(names)-1] {
		o = o.at(n)
	}
	o.set(names[len(names)-1], v)
}

// Has reports whether a value was set at a JSON Pointer.
func (o *Members) Has(pointer string) bool {
	names := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for i, n := range names {
		v, ok := o.values[Name(n)]
		if !ok || i == len(names)-1 {
			return ok
		}
		if o, ok = v.(*Members); !ok {
			return true
		}
	}
	return false
}
