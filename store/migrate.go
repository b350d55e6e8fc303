package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"io/fs"
	"net/url"
	"strconv"
	"strings"

	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrOlder and ErrNewer say that a data folder belongs to another version of Koinos.
var (
	ErrOlder = errors.New("an earlier version of Koinos left this data folder; start the service over it once, which brings it " +
		"up to date")
	ErrNewer = errors.New("a later version of Koinos has worked on this data folder; use that version, or a backup " +
		"from before it")
)

// Fits returns ErrOlder or ErrNewer if a database is not of this version.
func Fits(ctx context.Context, db *sql.DB) error {
	all, err := migrations.ReadDir("migrations")
	if err != nil {
		return err
	}
	newest, _, _ := strings.Cut(all[len(all)-1].Name(), "_")
	want, err := strconv.ParseInt(newest, 10, 64)
	if err != nil {
		return err
	}
	var has, some int64
	if err := db.QueryRowContext(ctx,
		`SELECT count(*) FROM sqlite_schema WHERE name = 'goose_db_version'`).Scan(&some); err != nil {
		return err
	}
	if some > 0 {
		if err := db.QueryRowContext(ctx, `SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied`).
			Scan(&has); err != nil {
			return err
		}
	}
	switch {
	case has < want:
		return ErrOlder
	case has > want:
		return ErrNewer
	}
	return nil
}

// Migrate brings a database up to date. Each migration is one commit together with its version. If it is interrupted,
// the next start continues after the last migration that was done.
func Migrate(ctx context.Context, file string) (err error) {
	// Some migrations rebuild a table that others refer to.
	db, err := sql.Open("sqlite3", address(file, "off")+"&_txlock=immediate&_auto_vacuum=incremental")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	db.SetMaxOpenConns(1)
	if err := Fits(ctx, db); err == nil || !errors.Is(err, ErrOlder) {
		return err
	}
	all, err := migrator(db)
	if err == nil {
		_, err = all.Up(ctx)
	}
	return err
}

// migrator has all migrations of a database.
func migrator(db *sql.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectSQLite3, db, files,
		goose.WithGoMigrations(goose.NewGoMigration(6, &goose.GoFunc{RunTx: carryOver}, nil)))
}

// address is a database's address in the form that the driver needs.
func address(file, references string) string {
	return "file:" + (&url.URL{Path: file}).EscapedPath() + "?_journal_mode=WAL&_foreign_keys=" + references +
		"&_busy_timeout=10000&_synchronous=FULL"
}
