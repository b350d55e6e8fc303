package service

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/core/list"
	"koinos/core/listfile"
	"koinos/store"
)

var listName = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,63}$`)

// How long an imported list may be, in bytes of JSON, and how long it may take to arrive.
const (
	mostListBody = 256 << 20
	listReadTime = 5 * time.Minute
)

func (s *Service) lists(h huma.API) {
	const tag = "Lists"
	type ByName struct {
		Name string `path:"name" doc:"Small letters, digits, _ and -"`
	}
	type entriesOf struct {
		ByName
		Paging
	}
	for _, kind := range []struct {
		path, id, word string
		crosswalk      bool
	}{{"/lists", "list", "list", false}, {"/crosswalks", "crosswalk", "crosswalk", true}} {
		handle(s, h, op(http.MethodGet, kind.path, "list-"+kind.id+"s", tag, "read", "List "+kind.word+"s"),
			func(ctx context.Context, _ *none) (*answer[api.Page[api.ListInfo]], error) {
				infos, err := s.store.Lists(ctx, kind.crosswalk)
				return &answer[api.Page[api.ListInfo]]{api.Page[api.ListInfo]{Items: infos}}, err
			})
	}

	type putList struct {
		ByName
		Body api.Entries
	}
	put := op(http.MethodPut, "/lists/{name}", "import-list", tag, "admin", "Replace a reference list")
	put.MaxBodyBytes, put.BodyReadTimeout, put.DefaultStatus = mostListBody, listReadTime, http.StatusNoContent
	handle(s, h, put, func(ctx context.Context, in *putList) (*struct{}, error) {
		if err := checkName(in.Name); err != nil {
			return nil, err
		}
		if err := once("code", in.Body.Entries, func(e list.Entry) string { return e.Code }); err != nil {
			return nil, err
		}
		return nil, s.store.PutList(ctx, in.Name, in.Body.Entries, s.now())
	})

	type putWalk struct {
		ByName
		Body api.Pairs
	}
	walk := op(http.MethodPut, "/crosswalks/{name}", "import-crosswalk", tag, "admin", "Replace a crosswalk")
	walk.MaxBodyBytes, walk.BodyReadTimeout, walk.DefaultStatus = mostListBody, listReadTime, http.StatusNoContent
	handle(s, h, walk, func(ctx context.Context, in *putWalk) (*struct{}, error) {
		if err := checkName(in.Name); err != nil {
			return nil, err
		}
		if err := once("code of theirs", in.Body.Pairs, func(p list.Pair) string { return p.Theirs }); err != nil {
			return nil, err
		}
		return nil, s.store.PutCrosswalk(ctx, in.Name, in.Body.Pairs, s.now())
	})

	handle(s, h, op(http.MethodGet, "/lists/{name}/entries", "get-list-entries", tag, "read",
		"Entries of a reference list by code"),
		func(ctx context.Context, in *entriesOf) (*paged[list.Entry], error) {
			entries, err := s.store.Entries(ctx, in.Name, false, in.Cursor, in.Limit+1)
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, entries, in.Limit, func(e list.Entry) string { return e.Code }), nil
		})

	handle(s, h, op(http.MethodGet, "/crosswalks/{name}/pairs", "get-crosswalk-pairs", tag, "read",
		"Pairs of a crosswalk by the partner's code"),
		func(ctx context.Context, in *entriesOf) (*paged[list.Pair], error) {
			entries, err := s.store.Entries(ctx, in.Name, true, in.Cursor, in.Limit+1)
			if err != nil {
				return nil, err
			}
			pairs := make([]list.Pair, len(entries))
			for i, e := range entries {
				pairs[i] = list.Pair{Theirs: e.Code, Ours: e.Name}
			}
			return pageOf(ctx, pairs, in.Limit, func(p list.Pair) string { return p.Theirs }), nil
		})
}

// listFiles are lists and crosswalks as files that people edit.
func (s *Service) listFiles(h huma.API) {
	const tag = "Lists"
	type importing struct {
		Name string `path:"name" doc:"Small letters, digits, _ and -"`
		Add  bool   `query:"add" doc:"Keep what is there; rows of a known code replace it"`

		RawBody []byte
	}
	type exporting struct {
		Name   string `path:"name"`
		Format string `query:"format" enum:"csv,xlsx" default:"csv"`
	}
	for _, kind := range []struct {
		path, word string
		crosswalk  bool
	}{{"/lists", "list", false}, {"/crosswalks", "crosswalk", true}} {
		put := op(http.MethodPut, kind.path+"/{name}/file", "import-"+kind.word+"-file", tag, "admin",
			"Replace a "+kind.word+", or add to it, from a CSV or workbook")
		put.Description = "The first row names the columns: code and name of a list, theirs and ours of a crosswalk; " +
			"further ones are attributes."
		put.RequestBody = &huma.RequestBody{Required: true,
			Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string",
				Format: "binary"}}}}
		put.MaxBodyBytes, put.BodyReadTimeout = mostListBody, listReadTime
		put.Errors = append(put.Errors, http.StatusUnprocessableEntity)
		handle(s, h, put, func(ctx context.Context, in *importing) (*answer[api.ListInfo], error) {
			if err := checkName(in.Name); err != nil {
				return nil, err
			}
			entries, err := listfile.Read(bytes.NewReader(in.RawBody), int64(len(in.RawBody)), kind.crosswalk)
			if err != nil {
				return nil, err
			}
			if in.Add {
				before, err := s.store.Entries(ctx, in.Name, kind.crosswalk, "", 0)
				if err != nil && !errors.Is(err, store.ErrNotFound) {
					return nil, err
				}
				entries = listfile.Merge(before, entries)
			}
			if kind.crosswalk {
				err = s.store.PutCrosswalk(ctx, in.Name, listfile.Pairs(entries), s.now())
			} else {
				err = s.store.PutList(ctx, in.Name, entries, s.now())
			}
			if err != nil {
				return nil, err
			}
			all, err := s.store.Lists(ctx, kind.crosswalk)
			i := slices.IndexFunc(all, func(l api.ListInfo) bool { return l.Name == in.Name })
			if err != nil || i < 0 {
				return nil, cmp.Or(err, store.ErrNotFound)
			}
			return &answer[api.ListInfo]{all[i]}, nil
		})

		get := op(http.MethodGet, kind.path+"/{name}/file", "export-"+kind.word+"-file", tag, "read",
			"A "+kind.word+" as a CSV or workbook")
		get.Responses = file("The "+kind.word, "text/csv", xlsxType)
		handle(s, h, get, func(ctx context.Context, in *exporting) (*huma.StreamResponse, error) {
			entries, err := s.store.Entries(ctx, in.Name, kind.crosswalk, "", 0)
			if err != nil {
				return nil, err
			}
			mime := map[string]string{"csv": "text/csv", "xlsx": xlsxType}[in.Format]
			return stream(mime, in.Name+"."+in.Format, func(w io.Writer) error {
				return listfile.Write(w, entries, kind.crosswalk, in.Format == "xlsx")
			}, s), nil
		})
	}
}

func checkName(name string) error {
	if listName.MatchString(name) {
		return nil
	}
	p := problem("invalid_request", "A name is of small letters, digits, _ and -, at most 64.")
	p.Invalid = []api.Invalid{{Where: "path.name", Message: name}}
	return p
}

// once makes sure that no code occurs twice in a list, because nobody could tell which entry counts.
func once[E any](word string, all []E, code func(E) string) error {
	seen := make(map[string]int, len(all))
	for i, e := range all {
		if before, twice := seen[code(e)]; twice {
			p := problem("invalid_request", fmt.Sprintf("The %s %q stands twice.", word, code(e)))
			p.Invalid = []api.Invalid{{Where: fmt.Sprintf("body[%d]", i),
				Message: fmt.Sprintf("It stands at %d too, counted from 0.", before)}}
			return p
		}
		seen[code(e)] = i
	}
	return nil
}
