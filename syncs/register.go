package syncs

import (
	"context"
	"errors"
	"net"
	"net/url"
	"path/filepath"

	"koinos/api"
	"koinos/core/plan"
	"koinos/core/system"
	"koinos/core/tree"
	"koinos/folder"
	"koinos/remote"
)

// Outside sets the address under which other applications reach this service.
func (s *Syncs) Outside(address string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.outside = address
}

// Register registers our address with a system, so that it sends its webhooks there. An address that is registered
// already is not registered again.
func (s *Syncs) Register(ctx context.Context, name string) (api.Registered, error) {
	var out api.Registered
	o, err := s.system(ctx, name, 0)
	if err != nil {
		return out, err
	}
	if o.Hooks == nil || o.Hooks.Register == nil {
		return out, asked("The description of %s does not say how our address is registered for its webhooks (hooks: "+
			"{register: …}).", name)
	}
	s.mu.Lock()
	outside := s.outside
	s.mu.Unlock()
	if outside == "" || local(outside) && !local(o.client.Base()) {
		return out, asked("%s cannot reach this service: say its address with koinos serve --outside https://….", name)
	}
	free, err := s.holdFor(ctx, "register "+name)
	if err != nil {
		return out, err
	}
	defer free()
	r := o.Hooks.Register
	out.URL = outside + "/hooks/" + name
	if out.There, err = s.registered(ctx, o, out.URL); err != nil {
		return out, err
	}
	if out.There {
		if _, err := o.client.Secret(o.Hooks.Signature.Secret); err != nil { // its answer was lost
			return out, asked("%s has %s registered already, but the secret of its messages is not here. Remove it there, and "+
				"register again.", name, out.URL)
		}
		return out, nil
	}
	names := map[string]*tree.Node{"{url}": {Kind: tree.String, Text: out.URL}}
	if r.Secret == nil {
		secret, err := o.client.Secret(o.Hooks.Signature.Secret)
		if err != nil {
			return out, err
		}
		names["{secret}"] = &tree.Node{Kind: tree.String, Text: secret}
	}
	a, err := o.client.Do(ctx, remote.Request{Method: r.Method, Address: system.Address(o.client.Base(), r.Path),
		Body: plan.Body(&r.Request, names, nil), GraphQL: r.GraphQL != ""})
	var problem *remote.Problem
	if errors.As(err, &problem) && problem.Kind == remote.Unclear && r.List != nil {
		if there, looked := s.registered(ctx, o, out.URL); looked == nil && there && r.Secret == nil {
			return out, s.store.Remember(ctx, name, out.URL, s.now())
		}
	}
	if err != nil {
		return out, err
	}
	if r.Secret != nil {
		secret := system.ValueAt(r.Secret, a.Body)
		if secret == "" {
			return out, &system.AnswerError{At: r.Secret.String(), Why: "has no secret"}
		}
		file := o.Hooks.Signature.Secret.File
		if err := place(folder.Private, filepath.Dir(file), filepath.Base(file), []byte(secret+"\n")); err != nil {
			return out, err
		}
	}
	return out, s.store.Remember(ctx, name, out.URL, s.now())
}

// registered reports whether our address is registered there: the system says so, or, if it cannot be asked, it is
// remembered here.
func (s *Syncs) registered(ctx context.Context, o *opened, ours string) (bool, error) {
	r := o.Hooks.Register
	if r.List == nil {
		return s.store.Remembered(ctx, o.Name, ours)
	}
	record := &system.Record{Name: "webhook", List: *r.List, Key: r.URL}
	address, err := record.First(o.client.Base(), "")
	for address != "" && err == nil {
		a, err := o.page(ctx, r.List, address)
		if err != nil {
			return false, err
		}
		page, err := record.Read(a)
		if err != nil {
			return false, err
		}
		for _, f := range page.Records {
			if f.Key == ours {
				return true, nil
			}
		}
		address = page.Next
	}
	return false, err
}

// local reports whether an address is on this machine.
func local(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	ip := net.ParseIP(u.Hostname())
	return u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
}
