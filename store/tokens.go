package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"koinos/api"
	"time"
)

type tokenRow struct {
	ID        int64          `db:"id"`
	Name      string         `db:"name"`
	Scope     string         `db:"scope"`
	CreatedAt string         `db:"created_at"`
	UsedAt    sql.NullString `db:"used_at"`
	RevokedAt sql.NullString `db:"revoked_at"`
	ExpiresAt sql.NullString `db:"expires_at"`
	Partners  string         `db:"partners"`
	Mappings  string         `db:"mappings"`
}

func (r *tokenRow) token() (api.Token, error) {
	t := api.Token{ID: r.ID, Name: r.Name, Scope: r.Scope, CreatedAt: parseTime(r.CreatedAt),
		UsedAt: momentOf(r.UsedAt), RevokedAt: momentOf(r.RevokedAt), ExpiresAt: momentOf(r.ExpiresAt)}
	return t, errors.Join(json.Unmarshal([]byte(r.Partners), &t.Partners), json.Unmarshal([]byte(r.Mappings), &t.Mappings))
}

const selectToken = `SELECT id, name, scope, created_at, used_at, revoked_at, expires_at, partners, mappings FROM tokens `

// A plain hash is enough for tokens: they are 256 random bits, not passwords.
func hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// NewToken makes a token and returns its secret, of which only the hash is stored.
func (s *Store) NewToken(ctx context.Context, n api.NewToken, now time.Time) (t api.Token, secret string, err error) {
	t = api.Token{Name: n.Name, Scope: n.Scope, CreatedAt: now.UTC(), ExpiresAt: n.ExpiresAt, Narrowed: n.Narrowed}
	ends := sql.NullString{}
	if n.ExpiresAt != nil {
		ends = sql.NullString{String: at(*n.ExpiresAt), Valid: true}
	}
	partners, err := json.Marshal(append([]string{}, t.Partners...))
	if err != nil {
		return t, "", err
	}
	mappings, err := json.Marshal(append([]string{}, t.Mappings...))
	if err != nil {
		return t, "", err
	}
	secret = "koinos_" + rand.Text() + rand.Text() // twice 128 bits
	err = s.Write(ctx, func(tx *Tx) error {
		res, err := tx.exec(`INSERT INTO tokens (name, scope, hash, created_at, expires_at, partners, mappings)
		  VALUES (?, ?, ?, ?, ?, ?, ?)`, t.Name, t.Scope, hash(secret), at(t.CreatedAt), ends, string(partners), string(mappings))
		if err != nil {
			return err
		}
		t.ID, err = res.LastInsertId()
		return err
	})
	return t, secret, err
}

// FindToken returns the token of a secret that has not been revoked; it may have expired.
func (s *Store) FindToken(ctx context.Context, secret string) (api.Token, error) {
	var row tokenRow
	if err := s.r.GetContext(ctx, &row, selectToken+`WHERE hash = ? AND revoked_at IS NULL`, hash(secret)); err != nil {
		return api.Token{}, named(err, "token")
	}
	return row.token()
}

// UsedToken records when a token was used last, to the minute. While the writer is busy it does not, because no request
// should wait for that.
func (s *Store) UsedToken(ctx context.Context, t api.Token, now time.Time) error {
	if t.UsedAt != nil && now.Sub(*t.UsedAt) < time.Minute {
		return nil
	}
	end, free := s.turns.ifFree()
	if !free {
		return nil
	}
	defer end()
	return s.write(ctx, func(tx *Tx) error {
		_, err := tx.exec(`UPDATE tokens SET used_at = ? WHERE id = ?`, at(now), t.ID)
		return err
	})
}

// Tokens lists all tokens, revoked ones too.
func (s *Store) Tokens(ctx context.Context) ([]api.Token, error) {
	var rows []tokenRow
	err := s.r.SelectContext(ctx, &rows, selectToken+`ORDER BY id`)
	list := make([]api.Token, len(rows))
	for i := range rows {
		var wrong error
		list[i], wrong = rows[i].token()
		err = errors.Join(err, wrong)
	}
	return list, err
}

// RevokeToken revokes a token.
func (s *Store) RevokeToken(ctx context.Context, id int64, now time.Time) error {
	return s.Write(ctx, func(tx *Tx) error {
		res, err := tx.exec(`UPDATE tokens SET revoked_at = ? WHERE id = ? AND revoked_at IS NULL`, at(now), id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("token %d: %w", id, ErrNotFound)
		}
		return nil
	})
}
