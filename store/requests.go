package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"time"
)

// Earlier is what is known about a request that came before: its answer with the SHA-256 of its body or, if nothing was
// answered, the order that it made or changed.
type Earlier struct {
	Answer   *Answered // nil if it was not answered
	Body     []byte
	Order    int64 // 0 if it made nothing
	Revision int   // of the order that it made
}

// Answered is the stored answer to a request.
type Answered struct {
	Status  int    `db:"status"`
	Headers string `db:"headers"` // JSON of an http.Header
	Body    []byte `db:"answer"`
}

// Errors of requests with an idempotency key.
var (
	ErrInProgress = errors.New("a request of this name has not been answered yet")
	ErrOtherUse   = errors.New("the name was used for another request")
)

// Request is a request with an idempotency key, which can be sent again without doing its work twice.
type Request struct {
	Caller string
	Key    string
	What   string // method and path
}

// BeginRequest records that a request has come, and returns what is known of it from before. ErrOtherUse says that the
// key was used for something else, ErrInProgress that this store has begun the request and not ended it. A request
// without a stored answer, because the service or the disk ended before, and that has not made anything, is done
// again.
func (s *Store) BeginRequest(ctx context.Context, r Request, now time.Time) (was Earlier, err error) {
	name := [2]string{r.Caller, r.Key}
	if _, answering := s.answering.LoadOrStore(name, true); answering {
		return was, ErrInProgress
	}
	defer func() {
		if err != nil || was.Answer != nil {
			s.answering.Delete(name)
		}
	}()
	err = s.Share(ctx, func(t *Tx) error {
		var row struct {
			What    string         `db:"what"`
			Body    []byte         `db:"body"`
			Status  sql.NullInt64  `db:"status"`
			Headers sql.NullString `db:"headers"`
			Answer  []byte         `db:"answer"`
			Order   sql.NullInt64  `db:"order_id"`
			Made    sql.NullInt64  `db:"revision"`
		}
		err := t.GetContext(t.ctx, &row,
			`SELECT what, body, status, headers, answer, order_id, revision FROM requests WHERE caller = ? AND key = ?`, r.Caller,
			r.Key)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			_, err = t.exec(`INSERT INTO requests (caller, key, what, at) VALUES (?, ?, ?, ?)`, r.Caller, r.Key, r.What,
				at(now))
			return err
		case err != nil:
			return err
		case row.What != r.What:
			return ErrOtherUse
		case row.Status.Valid:
			was = Earlier{Answer: &Answered{int(row.Status.Int64), row.Headers.String, row.Answer}, Body: row.Body}
			return nil
		}
		was = Earlier{Order: row.Order.Int64, Revision: int(row.Made.Int64)}
		_, err = t.exec(`UPDATE requests SET at = ? WHERE caller = ? AND key = ?`, at(now), r.Caller, r.Key)
		return err
	})
	return was, err
}

// LeaveRequest ends a request, and leaves what is known of it as it was before it came again.
func (s *Store) LeaveRequest(r Request) { s.answering.Delete([2]string{r.Caller, r.Key}) }

type requestKey struct{}

// WithRequest returns a context in which the work of a request with an idempotency key is done.
func WithRequest(ctx context.Context, r Request) context.Context {
	return context.WithValue(ctx, requestKey{}, r)
}

// RequestOf returns the request of WithRequest; the zero Request if there is none.
func RequestOf(ctx context.Context) Request {
	r, _ := ctx.Value(requestKey{}).(Request)
	return r
}

// Made records what the request of a context makes of an order, in the commit that makes it.
func (t *Tx) Made(ctx context.Context, order int64, revision int) error {
	r := RequestOf(ctx)
	if r.Key == "" {
		return nil
	}
	return t.run(`UPDATE requests SET order_id = ?, revision = ? WHERE caller = ? AND key = ?`, order, revision, r.Caller, r.Key)
}

// EndRequest stores a request's answer. A nil answer deletes the request: it failed in a way that is worth trying
// again.
func (s *Store) EndRequest(ctx context.Context, r Request, body []byte, a *Answered) error {
	defer s.answering.Delete([2]string{r.Caller, r.Key}) // whatever the disk says
	return s.Share(ctx, func(t *Tx) error {
		if a == nil {
			_, err := t.exec(`DELETE FROM requests WHERE caller = ? AND key = ?`, r.Caller, r.Key)
			return err
		}
		_, err := t.exec(`UPDATE requests SET body = ?, status = ?, headers = ?, answer = ? WHERE caller = ?
			AND key = ?`,
			body, a.Status, a.Headers, bytes.Clone(a.Body), r.Caller, r.Key)
		return err
	})
}
