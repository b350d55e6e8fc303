package service

import (
	"context"
	"io"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"koinos/api"
	"koinos/core/mapping"
	"koinos/core/source"
	"koinos/load"
	"koinos/store"
)

// streamed takes the request's body as a stream.
type streamed struct{ body io.Reader }

// Resolve keeps the body for the handler, who reads it.
func (u *streamed) Resolve(ctx huma.Context) []error {
	u.body = ctx.BodyReader()
	return nil
}

type upload struct {
	streamed
	Name string `query:"name" required:"true" minLength:"1" maxLength:"255" doc:"File name, for people"`
}

type ByDocument struct {
	Document string `path:"document" doc:"SHA-256 of the document, or at least eight of its first letters"`
}

type rowsInput struct {
	ByDocument
	Sheet   string `query:"sheet" doc:"Sheet of a workbook; by default the first visible one"`
	From    int    `query:"from" minimum:"1" default:"1" doc:"First row"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200" doc:"Rows"`
	Mapping string `query:"mapping" doc:"Mapping whose word on encoding and delimiter counts"`
	Version int    `query:"version" minimum:"0" doc:"Its version; by default the newest"`
}

func (s *Service) documents(h huma.API) {
	const tag = "Documents"
	receive := op(http.MethodPost, "/documents", "receive-document", tag, "load", "Upload a document")
	receive.Description = "The body is the file as it is. The same bytes sent again are recognised by their SHA-256."
	receive.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
		"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}},
	}}
	receive.Errors = append(receive.Errors, http.StatusRequestEntityTooLarge, http.StatusUnprocessableEntity)
	receive.BodyReadTimeout = -1 // a large file over a slow line
	handle(s, h, receive, s.receive)

	handle(s, h, op(http.MethodGet, "/documents", "list-documents", tag, "read", "List documents, newest first"),
		func(ctx context.Context, in *Paging) (*paged[api.Document], error) {
			var before time.Time
			sha := ""
			if in.Cursor != "" {
				stamp, rest, _ := strings.Cut(in.Cursor, "~")
				var err error
				if before, err = time.Parse(time.RFC3339Nano, stamp); err != nil || rest == "" {
					return nil, badCursor(in.Cursor)
				}
				sha = rest
			}
			list, err := s.store.Documents(ctx, before, sha, in.Limit+1)
			if err != nil {
				return nil, err
			}
			return pageOf(ctx, list, in.Limit,
				func(d api.Document) string { return d.ReceivedAt.Format(time.RFC3339Nano) + "~" + d.SHA }), nil
		})

	handle(s, h, op(http.MethodGet, "/documents/{document}", "get-document", tag, "read",
		"What is known of a document"),
		func(ctx context.Context, in *ByDocument) (*answer[api.Document], error) {
			d, err := s.store.Document(ctx, in.Document)
			return &answer[api.Document]{d}, err
		})

	content := op(http.MethodGet, "/documents/{document}/content", "get-document-content", tag, "read",
		"The document, byte for byte")
	content.Responses = file("The document's bytes", "application/octet-stream")
	handle(s, h, content, func(ctx context.Context, in *ByDocument) (*huma.StreamResponse, error) {
		d, f, err := s.openDocument(ctx, in.Document)
		if err != nil {
			return nil, err
		}
		return stream("application/octet-stream", d.Name, func(w io.Writer) error {
			defer f.Close()
			_, err := io.Copy(w, f)
			return err
		}, s), nil
	})

	handle(s, h, op(http.MethodGet, "/documents/{document}/rows", "get-document-rows", tag, "read",
		"Rows of a document as they stand"),
		func(ctx context.Context, in *rowsInput) (*answer[api.Rows], error) {
			rows, err := s.rows(ctx, in)
			return &answer[api.Rows]{rows}, err
		})
}

// file describes an answer that is a file.
func file(about string, kinds ...string) map[string]*huma.Response {
	content := map[string]*huma.MediaType{}
	for _, k := range kinds {
		content[k] = &huma.MediaType{Schema: &huma.Schema{Type: "string", Format: "binary"}}
	}
	return map[string]*huma.Response{"200": {Description: about, Content: content}}
}

// stream answers with a file that is made while it is sent.
func stream(kind, name string, write func(io.Writer) error, s *Service) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", kind)
		plain := strings.Map(func(r rune) rune {
			if r < ' ' || r > '~' || r == '"' || r == '\\' || r == '/' {
				return '_'
			}
			return r
		}, name)
		ctx.SetHeader("Content-Disposition", `attachment; filename="`+plain+`"`)
		c := http.NewResponseController(humagin.Unwrap(ctx).Writer)
		defer func() { _ = c.SetWriteDeadline(time.Time{}) }()
		if err := write(&movingReader{ctx.BodyWriter(), c, patience}); err != nil {
			// The answer has begun: only a broken connection can report an error now.
			s.log.Error("file could not be sent whole", "request", requestID(ctx.Context()), "error", err)
			panic(http.ErrAbortHandler)
		}
	}}
}

func (s *Service) receive(ctx context.Context, in *upload) (*answer[api.Received], error) {
	var shape source.Shape
	sha, size, err := s.store.KeepFile(in.body, func(r io.ReaderAt, size int64) (err error) {
		shape, err = source.Sniff(r, size, source.Options{Limits: s.cfg.Limits})
		return err
	})
	if err != nil {
		return nil, err
	}
	doc := api.Document{SHA: sha, Name: path.Base(strings.ReplaceAll(in.Name, `\`, "/")), Size: size, Shape: shape,
		ReceivedAt: s.now().UTC(), ReceivedBy: callerOf(ctx).name}
	known, err := s.store.PutDocument(ctx, doc)
	if err != nil {
		return nil, err
	}
	doc, err = s.store.Document(ctx, sha)
	if err != nil {
		return nil, err
	}
	got := api.Received{Document: doc, Known: known}
	if known {
		got.Load, err = s.store.LoadOf(ctx, sha)
	}
	return &answer[api.Received]{got}, err
}

func (s *Service) openDocument(ctx context.Context, name string) (api.Document, store.File, error) {
	d, err := s.store.Document(ctx, name)
	if err != nil {
		return d, nil, err
	}
	f, err := s.store.OpenFile(d.SHA)
	return d, f, err
}

// rows reads a part of the rows.
func (s *Service) rows(ctx context.Context, in *rowsInput) (api.Rows, error) {
	out := api.Rows{Sheet: in.Sheet, Rows: []api.Row{}}
	d, f, err := s.openDocument(ctx, in.Document)
	if err != nil {
		return out, err
	}
	defer f.Close()
	opt := source.Options{Limits: s.cfg.Limits, Leaves: true}
	if in.Mapping != "" {
		m, err := s.parsed(ctx, in.Mapping, in.Version)
		if err != nil {
			return out, err
		}
		opt = m.Options(s.cfg.Limits)
		opt.Leaves = true
	}
	if in.Sheet != "" {
		opt.Sheets = func(_ int, name string) bool { return name == in.Sheet }
	}
	src, err := source.Open(f, d.Size, opt)
	if err != nil {
		return out, err
	}
	return load.Rows(ctx, src, in.Sheet, in.From, in.Limit)
}

func (s *Service) parsed(ctx context.Context, name string, version int) (*mapping.Mapping, error) {
	kept, err := s.store.Mapping(ctx, name, version)
	if err != nil {
		return nil, err
	}
	return mapping.ParseKept(kept.Text)
}
