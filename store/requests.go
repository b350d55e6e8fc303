package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"time"
)

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

// BeginRequest records that a request has come. If it was answered before, it returns the answer and the SHA-256 of the
// request's body. ErrOtherUse says that the key was used for something else, ErrInProgress that this store has begun
// the request and not ended it. A request without a stored answer, because the service or the disk ended before, is
// done again.
func (s *Store) BeginRequest(ctx context.Context, r Request, now time.Time) (answer *Answered, body []byte, err error) {
	name := [2]string{r.Caller, r.Key}
	if _, answering := s.answering.LoadOrStore(name, true); answering {
		return nil, nil, ErrInProgress
	}
	defer func() {
		if err != nil || answer != nil {
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
		}
		err := t.GetContext(t.ctx, &row,
			`SELECT what, body, status, headers, answer FROM requests WHERE caller = ? AND key = ?`, r.Caller,
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
			answer, body = &Answered{int(row.Status.Int64), row.Headers.String, row.Answer}, row.Body
			return nil
		}
		_, err = t.exec(`UPDATE requests SET at = ? WHERE caller = ? AND key = ?`, at(now), r.Caller, r.Key)
		return err
	})
	return answer, body, err
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
