package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"koinos/api"
	"time"
)

type documentRow struct {
	SHA        string `db:"sha"`
	Name       string `db:"name"`
	Size       int64  `db:"size"`
	Shape      string `db:"shape"`
	ReceivedAt string `db:"received_at"`
	ReceivedBy string `db:"received_by"`
	Loads      int    `db:"loads"`

	TakenAwayAt sql.NullString `db:"taken_away_at"`
}

func (r *documentRow) document() (api.Document, error) {
	d := api.Document{SHA: r.SHA, Name: r.Name, Size: r.Size, ReceivedAt: parseTime(r.ReceivedAt),
		ReceivedBy: r.ReceivedBy, Loads: r.Loads, TakenAwayAt: momentOf(r.TakenAwayAt)}
	return d, json.Unmarshal([]byte(r.Shape), &d.Shape)
}

const selectDocument = `SELECT sha, name, size, shape, received_at, received_by, taken_away_at,
  (SELECT count(*) FROM loads WHERE document = sha) AS loads FROM documents `

// documentsQuery lists documents before a time and a SHA-256, without those that were posted, that systems brought,
// that only acknowledge, or that were sent.
const documentsQuery = selectDocument +
	`WHERE posted = 0 AND (received_at, sha) < (?, ?) AND NOT EXISTS (SELECT 1 FROM interchanges i WHERE i.document = sha AND (i.direction = 'out' OR i.kinds IN ('997', '999', 'TA1')))
	  AND NOT EXISTS (SELECT 1 FROM arrivals a WHERE a.document = sha) AND NOT EXISTS (SELECT 1 FROM files f WHERE f.document = sha)
	  ORDER BY received_at DESC, sha DESC LIMIT ?`

// PutDocument records a document whose file is stored. A document that is known already keeps its first record; known
// is then true, if its bytes had been stored too.
func (s *Store) PutDocument(ctx context.Context, d api.Document) (known bool, err error) {
	err = s.Write(ctx, func(t *Tx) (err error) {
		known, err = t.PutDocument(d)
		return err
	})
	return known, err
}

// PutDocument is Store.PutDocument within a transaction.
func (t *Tx) PutDocument(d api.Document) (known bool, err error) {
	shape, err := json.Marshal(d.Shape)
	if err != nil {
		return false, err
	}
	res, err := t.exec(`INSERT INTO documents (sha, name, size, shape, received_at, received_by)
		VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET taken_away_at = NULL WHERE taken_away_at IS NOT NULL`,
		d.SHA, d.Name, d.Size, string(shape), at(d.ReceivedAt), d.ReceivedBy)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 0, err
}

// Body is a small document with its bytes.
type Body struct {
	api.Document
	Bytes  []byte
	Posted bool // the body of a request
}

var bodyColumns = columnsOf("documents", "sha", "name", "size", "shape", "received_at", "received_by", "body",
	"posted").onConflict("UPDATE SET body = excluded.body, taken_away_at = NULL WHERE taken_away_at IS NOT NULL")

// PutBodies stores small documents with their bytes in the same commit. An existing document does not change, unless
// its bytes were removed.
func (t *Tx) PutBodies(bodies ...Body) error {
	rows := t.bulk(bodyColumns)
	for i := range bodies {
		b := &bodies[i]
		shape, err := json.Marshal(b.Shape)
		if err != nil {
			return err
		}
		rows.row().Text(b.SHA).Text(b.Name).Int(len(b.Bytes)).Text(string(shape)).Text(at(b.ReceivedAt)).
			Text(b.ReceivedBy).Bytes(b.Bytes).Bool(b.Posted)
	}
	return rows.done()
}

// Document returns the document whose SHA-256 begins with prefix (at least eight letters).
func (s *Store) Document(ctx context.Context, prefix string) (api.Document, error) {
	if len(prefix) < 8 {
		return api.Document{}, fmt.Errorf("document %q: %w", prefix, ErrNotFound)
	}
	var rows []documentRow
	if err := s.r.SelectContext(ctx, &rows, selectDocument+`WHERE sha >= ? AND sha < ? LIMIT 2`, prefix,
		prefix+"g"); err != nil {
		return api.Document{}, err
	}
	if len(rows) != 1 {
		return api.Document{}, fmt.Errorf("document %q: %w", prefix, ErrNotFound)
	}
	return rows[0].document()
}

// Documents lists at most limit documents, newest first, before the named one. It leaves out what the exchange wrote,
// acknowledgements that came, and the bodies of requests: these are shown with their interchanges and orders.
func (s *Store) Documents(ctx context.Context, beforeTime time.Time, beforeSHA string, limit int) ([]api.Document,
	error) {
	if beforeSHA == "" {
		beforeTime = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	var rows []documentRow
	if err := s.r.SelectContext(ctx, &rows, documentsQuery,
		at(beforeTime), beforeSHA, limit); err != nil {
		return nil, err
	}
	list := make([]api.Document, len(rows))
	for i := range rows {
		var err error
		if list[i], err = rows[i].document(); err != nil {
			return nil, err
		}
	}
	return list, nil
}
