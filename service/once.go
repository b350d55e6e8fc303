package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"hash"
	"io"
	"mime"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/outcome"
	"koinos/store"
)

// mostKeptAnswer is how long a stored answer can be. Only files are longer, and making one again changes nothing.
const mostKeptAnswer = 1 << 20

const earlierKey contextKey = "earlier"

// requestName is the name under which a request's work is done only once; blank if the request has no idempotency key.
func requestName(ctx context.Context) string {
	r := store.RequestOf(ctx)
	if r.Key == "" {
		return ""
	}
	return r.Caller + " " + r.Key
}

// madeBefore is what a request made of an order when it came before and was not answered; nil if it made nothing. body
// is what it says now.
func (s *Service) madeBefore(ctx context.Context, body []byte) (*api.Posted, error) {
	was, _ := ctx.Value(earlierKey).(store.Earlier)
	if was.Order == 0 {
		return nil, nil
	}
	o, err := s.store.Order(ctx, was.Order)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil // it was taken back, and can be made again
	}
	if err != nil {
		return nil, err
	}
	p := &api.Posted{Outcome: outcome.Changed, OrderID: o.Order.ID, Number: o.Order.Number, Revision: was.Revision,
		Findings: []finding.Finding{}}
	if was.Revision == 1 {
		p.Outcome = outcome.Loaded
	}
	sum := sha256.Sum256(body)
	for i := range o.Events {
		if e := &o.Events[i]; e.Revision == was.Revision {
			p.Document, p.Changes = e.Origin.Document, e.Changes
		}
	}
	if p.Document != hex.EncodeToString(sum[:]) {
		return nil, problem("key_reused", "The same Idempotency-Key came with another body before.")
	}
	return p, nil
}

// once answers a changing request that comes again with the same Idempotency-Key as it was answered the first time, and
// does its work once (the header is that of the IETF draft of the same name).
func (s *Service) once(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		key := ctx.Header("Idempotency-Key")
		if key == "" || ctx.Method() == http.MethodGet {
			next(ctx)
			return
		}
		refuse := func(p *api.Problem) {
			p.Request = requestID(ctx.Context())
			write(h, ctx, p)
		}
		if len(key) > 255 {
			refuse(problem("invalid_request", "An Idempotency-Key may have 255 characters."))
			return
		}
		u := ctx.URL()
		r := store.Request{Caller: callerOf(ctx.Context()).key(), Key: key, What: ctx.Method() + " " + u.RequestURI()}
		was, err := s.store.BeginRequest(ctx.Context(), r, s.now())
		if err != nil {
			if p, ok := s.fail(ctx.Context(), err).(*api.Problem); ok {
				refuse(p)
			}
			return
		}
		c := humagin.Unwrap(ctx)
		sum := &summed{ReadCloser: c.Request.Body, hash: sha256.New()}
		sum.boundary = boundaryOf(ctx.Header("Content-Type"))
		if was.Answer != nil {
			if _, err := io.Copy(io.Discard, sum); err != nil || !bytes.Equal(sum.sum(), was.Body) {
				refuse(problem("key_reused", "The same Idempotency-Key came with another body before."))
				return
			}
			visitOf(ctx.Context()).did = "" // it was done, and noted, the first time
			resend(c, was.Answer)
			return
		}
		c.Request.Body = sum
		kept := &keeping{ResponseWriter: c.Writer}
		c.Writer = kept
		done := false
		defer func() {
			c.Writer = kept.ResponseWriter
			var answer *store.Answered
			// A failure here, or a possible one, is worth trying again.
			if status := kept.Status(); done && status < 500 && status != http.StatusTooManyRequests && !kept.long {
				headers, err := json.Marshal(map[string]string{"Content-Type": kept.Header().Get("Content-Type"),
					"ETag": kept.Header().Get("ETag"), "Content-Disposition": kept.Header().Get("Content-Disposition"),
					"Location": kept.Header().Get("Location")})
				if err == nil {
					answer = &store.Answered{Status: status, Headers: string(headers),
						Body: secretless(ctx.Operation().OperationID, kept.body.Bytes())}
				}
			}
			if _, err := io.Copy(io.Discard, sum); err != nil { // what the handler left unread belongs to the body too
				answer = nil
			}
			if was.Order != 0 && kept.Status() >= 300 { // what was made stays made, whatever was wrong now
				s.store.LeaveRequest(r)
				return
			}
			if err := s.store.EndRequest(context.WithoutCancel(ctx.Context()), r, sum.sum(), answer); err != nil {
				s.log.ErrorContext(ctx.Context(), "answer could not be kept", "error", err)
			}
		}()
		next(huma.WithContext(ctx, context.WithValue(store.WithRequest(ctx.Context(), r), earlierKey, was)))
		done = true
	}
}

// secretless is an answer in the form in which it is stored: without the secret of a new token, which is shown only
// once.
func secretless(operation string, body []byte) []byte {
	var made api.CreatedToken
	if operation != "create-token" || json.Unmarshal(body, &made) != nil {
		return body
	}
	made.Secret = ""
	kept, err := json.Marshal(made)
	if err != nil {
		return nil
	}
	return kept
}

// key distinguishes callers, because two tokens may have the same name.
func (c caller) key() string {
	if c.token == 0 {
		return c.name
	}
	return "token " + strconv.FormatInt(c.token, 10)
}

// resend returns a kept answer.
func resend(c *gin.Context, a *store.Answered) {
	headers := map[string]string{}
	_ = json.Unmarshal([]byte(a.Headers), &headers) // ours; without them the answer is still the answer
	for name, value := range headers {
		if value != "" {
			c.Header(name, value)
		}
	}
	c.Header("Idempotency-Replayed", "true")
	c.Status(a.Status)
	_, _ = c.Writer.Write(a.Body) // the connection is gone
}

// summed computes the SHA-256 of a body while it is read. It ignores the boundary between the parts of a form, which
// differs each time the form is sent.
type summed struct {
	io.ReadCloser
	hash     hash.Hash
	boundary []byte
	held     []byte // end of what was read, which a boundary may begin in
}

func boundaryOf(contentType string) []byte {
	kind, more, err := mime.ParseMediaType(contentType)
	if err != nil || !strings.HasPrefix(kind, "multipart/") || more["boundary"] == "" {
		return nil
	}
	return []byte("--" + more["boundary"])
}

func (s *summed) Read(p []byte) (int, error) {
	n, err := s.ReadCloser.Read(p)
	if s.boundary == nil {
		s.hash.Write(p[:n])
		return n, err
	}
	s.held = append(s.held, p[:n]...)
	for {
		before, after, found := bytes.Cut(s.held, s.boundary)
		if !found {
			break
		}
		s.hash.Write(before)
		s.held = append([]byte{}, after...)
	}
	if keep := len(s.boundary) - 1; len(s.held) > keep {
		cut := len(s.held) - keep
		s.hash.Write(s.held[:cut])
		s.held = append([]byte{}, s.held[cut:]...)
	}
	return n, err
}

// sum is the digest of the body as far as it was read.
func (s *summed) sum() []byte {
	s.hash.Write(s.held)
	s.held = nil
	return s.hash.Sum(nil)
}

// keeping stores an answer while it is sent.
type keeping struct {
	gin.ResponseWriter
	body bytes.Buffer
	long bool
}

func (k *keeping) Write(p []byte) (int, error) {
	if k.body.Len()+len(p) > mostKeptAnswer {
		k.long = true
	} else {
		k.body.Write(p)
	}
	return k.ResponseWriter.Write(p)
}
