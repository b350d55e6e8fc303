package backup

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"koinos/api"
	"koinos/store"
)

// mostTroubles is how many troubles a check reports.
const mostTroubles = 1000

// Check checks whether a data folder is whole, while a service may be using it: the database, what its rows refer to,
// the numbers that were used, and every stored document by its size and SHA-256. progress is told how many documents
// were read.
func Check(ctx context.Context, data string, progress func(done, of int)) (troubles []api.Trouble, err error) {
	db, err := open(filepath.Join(data, database), "mode=ro&_busy_timeout=10000")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	if err := store.Fits(ctx, db); err != nil {
		return nil, fmt.Errorf("%s: %w", data, err)
	}
	add := func(t api.Trouble) {
		if len(troubles) < mostTroubles {
			troubles = append(troubles, t)
		}
	}
	if err := integrity(ctx, db, func(problem string) {
		add(api.Trouble{What: "database",
			Message: problem})
	}); err != nil {
		return troubles, err
	}
	if err := references(ctx, db, add); err != nil {
		return troubles, err
	}
	if err := numbers(ctx, db, add); err != nil {
		return troubles, err
	}
	all, err := documents(ctx, db)
	if err != nil {
		return troubles, err
	}
	for i, d := range all {
		progress(i, len(all))
		if message, err := whole(ctx, data, d); err != nil {
			return troubles, err
		} else if message != "" {
			add(api.Trouble{What: "document", Document: d.sha, Message: message})
		}
	}
	progress(len(all), len(all))
	return troubles, nil
}

func integrity(ctx context.Context, db *sql.DB, add func(problem string)) error {
	rows, err := db.QueryContext(ctx, `PRAGMA integrity_check(100)`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return err
		}
		if text != "ok" {
			add(text)
		}
	}
	return rows.Err()
}

func references(ctx context.Context, db *sql.DB, add func(api.Trouble)) error {
	rows, err := db.QueryContext(ctx, `PRAGMA foreign_key_check`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var table, parent string
		var row sql.NullInt64
		var key int
		if err := rows.Scan(&table, &row, &parent, &key); err != nil {
			return err
		}
		add(api.Trouble{What: "reference", Message: fmt.Sprintf("Row %d of the table %s refers to a row of %s that is not there.",
			row.Int64, table, parent)})
	}
	return rows.Err()
}

// numbers checks whether a number that was used could be used again.
func numbers(ctx context.Context, db *sql.DB, add func(api.Trouble)) error {
	rows, err := db.QueryContext(ctx, `SELECT i.partner, max(i.control), c.last FROM interchanges i
		JOIN control_numbers c ON c.partner = i.partner AND c.what = 'interchange'
		WHERE i.direction = 'out' GROUP BY i.partner HAVING max(i.control) > c.last`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var partner string
		var given, last int64
		if err := rows.Scan(&partner, &given, &last); err != nil {
			return err
		}
		add(api.Trouble{What: "number", Message: fmt.Sprintf("The interchange %d went to %s, but the last number that is noted is %d: "+
			"numbers would be used twice.", given, partner, last)})
	}
	return rows.Err()
}

// whole says in a sentence what is wrong with a kept document.
func whole(ctx context.Context, data string, d document) (string, error) {
	f, err := os.Open(store.DocumentPath(data, d.sha))
	if errors.Is(err, fs.ErrNotExist) {
		return "Its file is not there. Send the same file once more, and it is kept again.", nil
	}
	if err != nil {
		return "", err
	}
	defer f.Close()
	hash := sha256.New()
	n, err := io.Copy(hash, stoppable{ctx, f})
	switch {
	case ctx.Err() != nil:
		return "", ctx.Err()
	case err != nil:
		return fmt.Sprintf("Its file cannot be read: %v.", err), nil
	case n != d.size:
		return fmt.Sprintf("Its file has %d bytes, not %d. Send the same file once more, and it is kept again.", n, d.size),
			nil
	case hex.EncodeToString(hash.Sum(nil)) != d.sha:
		return "The bytes of its file are others than those that came. Send the same file once more, and it is kept again.",
			nil
	}
	return "", nil
}

// stoppable ends reading when ctx ends.
type stoppable struct {
	ctx context.Context
	io.Reader
}

func (s stoppable) Read(p []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.Reader.Read(p)
}
