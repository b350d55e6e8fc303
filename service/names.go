package service

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/check"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/uses"
	"koinos/store"
)

// nouns are what can be renamed and removed, and where the API has it.
var nouns = []struct {
	kind      uses.Kind
	path, tag string
}{
	{uses.Mapping, "/mappings", "Mappings"}, {uses.Sequence, "/sequences", "Sequences"},
	{uses.List, "/lists", "Lists"}, {uses.Crosswalk, "/crosswalks", "Lists"},
}

// names are the operations on the names of mappings, sequences, lists and crosswalks.
func (s *Service) names(h huma.API) {
	type byName struct {
		Name string `path:"name"`
	}
	type renaming struct {
		Name string `path:"name"`
		Body api.Rename
	}
	for _, noun := range nouns {
		word := string(noun.kind)
		handle(s, h, op(http.MethodGet, noun.path+"/{name}/uses", "get-"+word+"-uses", noun.tag, "read",
			"What uses a "+word),
			func(ctx context.Context, in *byName) (*answer[api.Page[api.Use]], error) {
				n := store.Named{Kind: noun.kind, Name: in.Name}
				if err := s.store.Exists(ctx, n); err != nil && !shipped(n) {
					return nil, err
				}
				texts, err := s.store.Texts(ctx)
				if err != nil {
					return nil, err
				}
				return &answer[api.Page[api.Use]]{api.Page[api.Use]{Items: s.users(n, texts)}}, nil
			})

		remove := op(http.MethodDelete, noun.path+"/{name}", "remove-"+word, noun.tag, "admin", "Remove a "+word)
		remove.Description = "It is refused (in_use) while something uses the " + word +
			". What was loaded with it stays as " +
			"it is, and still says from where each value came; a later one of the name goes on counting its " +
			"versions. A list " +
			"that only the checks of orders ask (kind check) can be removed: values are then not looked up any more."
		remove.DefaultStatus = http.StatusNoContent
		remove.Errors = append(remove.Errors, http.StatusNotFound, http.StatusConflict)
		handle(s, h, remove, func(ctx context.Context, in *byName) (*struct{}, error) {
			return nil, s.removeName(ctx, store.Named{Kind: noun.kind, Name: in.Name})
		})

		rename := op(http.MethodPost, noun.path+"/{name}/rename", "rename-"+word, noun.tag, "admin", "Rename a "+word)
		rename.Description = "Everything that uses the " + word +
			" names it by its new name afterwards: a new version of " +
			"each such text is kept, with only the name changed. It happens as a whole or not at all."
		rename.DefaultStatus = http.StatusOK
		rename.Errors = append(rename.Errors, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity)
		handle(s, h, rename, func(ctx context.Context, in *renaming) (*answer[api.Renamed], error) {
			visitOf(ctx).to = in.Body.To
			done, err := s.rename(ctx, store.Named{Kind: noun.kind, Name: in.Name}, in.Body.To)
			return &answer[api.Renamed]{done}, err
		})
	}
}

// users are the texts, and watched folders, that use something.
func (s *Service) users(n store.Named, texts []uses.Text) []api.Use {
	users := []api.Use{}
	for _, t := range texts {
		if t.Kind == n.Kind && t.Name == n.Name {
			continue
		}
		all, err := uses.Of(t)
		named := slices.ContainsFunc(all, func(u uses.Use) bool { return u.Kind == n.Kind && u.Name == n.Name })
		if err != nil { // of an older version of Koinos, perhaps: whether it uses it is not known
			named = strings.Contains(t.Text, n.Name)
		}
		if named {
			users = append(users, api.Use{Kind: string(t.Kind), Name: t.Name})
		}
	}
	if n.Kind == uses.Mapping || n.Kind == uses.Sequence {
		for _, f := range s.cfg.Folders {
			if f.Mapping == n.Name {
				users = append(users, api.Use{Kind: "folder", Name: f.Dir})
			}
		}
	}
	if field := check.AskedOf(n.Name); n.Kind == uses.List && field != "" {
		users = append(users, api.Use{Kind: byChecks, Name: field})
	}
	return users
}

// byChecks is the kind of use of a list that follows from its name alone: values of orders are looked up in it.
const byChecks = "check"

// inUse is the problem that something is used.
func inUse(n store.Named, by []string, what string) *api.Problem {
	const shown = 5
	words := strings.Join(by[:min(shown, len(by))], ", ")
	if len(by) > shown {
		words += ", …"
	}
	return problem("in_use", "The "+string(n.Kind)+" "+n.Name+" is used by "+words+". "+what)
}

func words(users []api.Use) []string {
	list := make([]string, len(users))
	for i, u := range users {
		list[i] = "the " + u.Kind + " " + u.Name
	}
	return list
}

// unmoved does something with the texts as they are, and once more if they changed in between.
func (s *Service) unmoved(ctx context.Context, n store.Named, do func([]uses.Text) error) error {
	if err := s.store.Exists(ctx, n); err != nil {
		if shipped(n) {
			return problem("in_use",
				"The crosswalk "+n.Name+" ships with Koinos: it cannot be removed or renamed. One that is "+
					"imported under its name takes its place.")
		}
		return err
	}
	for {
		texts, err := s.store.Texts(ctx)
		if err != nil {
			return err
		}
		err = do(texts)
		var busy *store.ErrBusy
		if errors.As(err, &busy) {
			return inUse(n, busy.With, "Wait for the end, or cancel it.")
		}
		if !errors.Is(err, store.ErrMoved) {
			return err
		}
	}
}

func shipped(n store.Named) bool { return n.Kind == uses.Crosswalk && len(list.Shipped(n.Name)) > 0 }

func (s *Service) removeName(ctx context.Context, n store.Named) error {
	return s.unmoved(ctx, n, func(texts []uses.Text) error {
		users := slices.DeleteFunc(s.users(n, texts), func(u api.Use) bool { return u.Kind == byChecks })
		if len(users) > 0 {
			return inUse(n, words(users), "Change what uses it first.")
		}
		return s.store.Remove(ctx, n, texts, callerOf(ctx).name, s.now())
	})
}

func (s *Service) rename(ctx context.Context, n store.Named, to string) (done api.Renamed, err error) {
	if err := checkName(to); err != nil {
		return done, err
	}
	if (n.Kind == uses.Mapping || n.Kind == uses.Sequence) && !mapping.IsName(to) { // lists may have a _ too
		p := problem("invalid_request", "A "+string(n.Kind)+"'s name is of small letters, digits and -, at most 64.")
		p.Invalid = []api.Invalid{{Where: "body.to", Message: to}}
		return done, p
	}
	err = s.unmoved(ctx, n, func(texts []uses.Text) error {
		done = api.Renamed{Name: to, Changed: s.users(n, texts)}
		var edits []uses.Text
		for _, u := range done.Changed {
			switch u.Kind {
			case byChecks:
				return problem("in_use", "The field "+u.Name+" of every order is looked up in the list that is called "+
					n.Name+": by another name it would not be found. Import it by the other name too, if a mapping "+
					"shall ask that one.")
			case "folder":
				return inUse(n, words([]api.Use{u}), "Start the service without it, rename the "+string(n.Kind)+
					", and watch the folder with its new name.")
			}
		}
		for _, t := range texts {
			was := t.Text
			if t.Kind == n.Kind && t.Name == n.Name { // its own text
				if t.Text, err = uses.Called(t, to); err != nil {
					return notByItself(n, err)
				}
				t.Name = to
			} else if slices.Contains(done.Changed, api.Use{Kind: string(t.Kind), Name: t.Name}) {
				if t.Text, _, err = uses.Renamed(t, n.Kind, n.Name, to); err != nil {
					return notByItself(n, err)
				}
			}
			if t.Text != was {
				edits = append(edits, t)
			}
		}
		return s.store.Rename(ctx, n, to, edits, texts, callerOf(ctx).name, s.now())
	})
	if errors.Is(err, store.ErrTaken) {
		err = problem("name_taken", "There is a "+string(n.Kind)+" "+to+" already.")
	}
	return done, err
}

func notByItself(n store.Named, err error) error {
	return problem("in_use", "The "+string(n.Kind)+" "+n.Name+" was not renamed: "+err.Error()+".")
}
