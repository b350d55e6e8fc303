package backup

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/mattn/go-sqlite3"

	"koinos/store"
)

// Manifest is what a backup says about itself, in backup.json.
type Manifest struct {
	Made      time.Time `json:"made"`
	Version   string    `json:"version"`   // of the Koinos that made it
	Documents int       `json:"documents"` // that the database names and that are files
	Bytes     int64     `json:"bytes"`     // of them
	Copied    int       `json:"copied"`    // that an earlier backup in the same folder did not have
	Damaged   []string  `json:"damaged"`   // by their SHA-256: these are not in it, or were not brought back
}

const (
	database = store.DatabaseFile
	manifest = "backup.json"
	secrets  = "secrets"
)

// ErrNoData says that a folder is no data folder.
var ErrNoData = errors.New("there is no koinos.db")

func open(file, options string) (*sql.DB, error) {
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", filepath.Dir(file), ErrNoData)
	}
	return sql.Open("sqlite3", "file:"+(&url.URL{Path: file}).EscapedPath()+"?"+options)
}

// Make copies the data folder data into dir, while a service may be using data. Documents that dir has from an earlier
// backup are not copied again. The new database replaces the earlier one when it is complete. progress is told how many
// of the documents are there.
func Make(ctx context.Context, data, dir, version string, progress func(done, of int)) (m Manifest, err error) {
	m = Manifest{Made: time.Now().UTC(), Version: version, Damaged: []string{}}
	if err := noData(dir); err != nil {
		return m, err
	}
	if err := os.MkdirAll(filepath.Join(dir, "documents"), 0o700); err != nil {
		return m, err
	}
	fresh := filepath.Join(dir, database+store.Unfinished)
	if err := errors.Join(gone(fresh), copyDatabase(ctx, filepath.Join(data, database), fresh,
		"mode=ro&_busy_timeout=10000")); err != nil {
		return m, err
	}
	db, err := open(fresh, "mode=ro&immutable=1")
	if err != nil {
		return m, err
	}
	defer db.Close()
	if err := integrity(ctx, db, func(problem string) { err = errors.Join(err, errors.New(problem)) }); err != nil {
		return m, err
	}
	if err != nil {
		return m, fmt.Errorf("the copy of the database is damaged, and so is %s, probably: %w", data, err)
	}
	all, err := documents(ctx, db)
	if err != nil {
		return m, err
	}
	for i, d := range all {
		if err := ctx.Err(); err != nil {
			return m, err
		}
		progress(i, len(all))
		m.Documents++
		m.Bytes += d.size
		to := store.DocumentPath(dir, d.sha)
		if info, err := os.Stat(to); err == nil && info.Size() == d.size {
			continue
		}
		err := copyDocument(store.DocumentPath(data, d.sha), to, d)
		switch {
		case errors.Is(err, errDamaged) || errors.Is(err, fs.ErrNotExist):
			m.Damaged = append(m.Damaged, d.sha) // the others are worth a backup all the same
		case err != nil:
			return m, err
		default:
			m.Copied++
		}
	}
	progress(len(all), len(all))
	if err := copyFolder(filepath.Join(data, secrets), filepath.Join(dir, secrets)); err != nil {
		return m, err
	}
	if err := os.Rename(fresh, filepath.Join(dir, database)); err != nil {
		return m, err
	}
	b, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return m, err
	}
	return m, writeFile(filepath.Join(dir, manifest), append(b, '\n'))
}

// noData makes sure that a folder for backups is not a data folder, whose database the copy would replace.
func noData(dir string) error {
	_, isBackup := os.Stat(filepath.Join(dir, manifest))
	_, hasData := os.Stat(filepath.Join(dir, database))
	if hasData == nil && isBackup != nil {
		return fmt.Errorf("%s is a data folder, or a backup that was not finished: choose another folder for the backup", dir)
	}
	return nil
}

// copyDatabase copies a database as it is at one moment, with SQLite's own backup. options are added to SQLite's
// address of the database that is read.
func copyDatabase(ctx context.Context, from, to, options string) error {
	src, err := open(from, options)
	if err != nil {
		return err
	}
	defer src.Close()
	if err := writeFile(to, nil); err != nil {
		return err
	}
	dst, err := open(to, "")
	if err != nil {
		return err
	}
	defer dst.Close()
	return raw(ctx, src, func(s *sqlite3.SQLiteConn) error {
		return raw(ctx, dst, func(d *sqlite3.SQLiteConn) error {
			b, err := d.Backup("main", s, "main")
			if err != nil {
				return err
			}
			_, err = b.Step(-1) // in one go: what is written meanwhile belongs to the next backup
			return errors.Join(err, b.Finish())
		})
	})
}

func raw(ctx context.Context, db *sql.DB, do func(*sqlite3.SQLiteConn) error) error {
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(c any) error {
		lite, ok := c.(*sqlite3.SQLiteConn)
		if !ok {
			return errors.New("the database's driver is another one")
		}
		return do(lite)
	})
}

var errDamaged = errors.New("its bytes are not those that came")

type document struct {
	sha  string
	size int64
}

// documents lists those that are files.
func documents(ctx context.Context, db *sql.DB) (all []document, err error) {
	where := "true"
	for column, is := range map[string]string{"body": "body IS NULL", "taken_away_at": "taken_away_at IS NULL"} {
		var there bool // early versions had none of these
		if err := db.QueryRowContext(ctx, `SELECT count(*) FROM pragma_table_info('documents') WHERE name = ?`, column).
			Scan(&there); err != nil {
			return nil, err
		}
		if there {
			where += " AND " + is
		}
	}
	rows, err := db.QueryContext(ctx, `SELECT sha, size FROM documents WHERE `+where+` ORDER BY sha`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var d document
		if err := rows.Scan(&d.sha, &d.size); err != nil {
			return nil, err
		}
		all = append(all, d)
	}
	return all, rows.Err()
}

// copyDocument copies a document completely, and only if its bytes have the SHA-256 in its name.
func copyDocument(from, to string, d document) (err error) {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(to), "copying-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	hash := sha256.New()
	n, err := io.Copy(io.MultiWriter(tmp, hash), f)
	if err = errors.Join(err, tmp.Sync(), tmp.Close()); err != nil {
		return err
	}
	if n != d.size || hex.EncodeToString(hash.Sum(nil)) != d.sha {
		return fmt.Errorf("document %s (%s): %w", d.sha[:12], from, errDamaged)
	}
	return os.Rename(tmp.Name(), to)
}

// copyFolder copies the files of a folder, if it exists.
func copyFolder(from, to string) error {
	files, err := os.ReadDir(from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	for _, f := range files {
		b, err := os.ReadFile(filepath.Join(from, f.Name()))
		if err == nil {
			err = writeFile(filepath.Join(to, f.Name()), b)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func writeFile(name string, b []byte) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	return errors.Join(err, f.Sync(), f.Close())
}

func gone(file string) error {
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Number is a number that was used last, as a backup knows it and as it is after the restore.
type Number struct {
	Partner string `json:"partner,omitempty"` // of control numbers
	What    string `json:"what"`              // interchange, group, shipment, invoice, or the kind of orders
	Last    int64  `json:"last"`
	Now     int64  `json:"now"`
}

// Restore restores the backup in dir into data, which must not exist or must be empty. What was numbered after the
// backup is not in it, so every number is raised by skip, and none is used twice.
func Restore(ctx context.Context, dir, data string, skip int64, progress func(done, of int)) (m Manifest,
	numbers []Number, err error) {
	b, err := os.ReadFile(filepath.Join(dir, manifest))
	if err != nil {
		return m, nil, fmt.Errorf("%s is no backup that is whole: %w", dir, err)
	}
	if err := json.Unmarshal(b, &m); err != nil {
		return m, nil, fmt.Errorf("%s: %w", manifest, err)
	}
	if files, err := os.ReadDir(data); err == nil && len(files) > 0 {
		return m, nil, fmt.Errorf("%s is not empty: a backup is brought back into a folder of its own, and never "+
			"mixed with other data", data)
	}
	if err := os.MkdirAll(filepath.Join(data, "documents"), 0o700); err != nil {
		return m, nil, err
	}
	fresh := filepath.Join(data, database+store.Unfinished)
	if err := copyDatabase(ctx, filepath.Join(dir, database), fresh, "mode=ro&immutable=1"); err != nil {
		return m, nil, err
	}
	if err := store.Migrate(ctx, fresh); err != nil { // an earlier version may have made the backup
		return m, nil, err
	}
	db, err := open(fresh, "_foreign_keys=on&_synchronous=FULL")
	if err != nil {
		return m, nil, err
	}
	defer db.Close()
	all, err := documents(ctx, db)
	if err != nil {
		return m, nil, err
	}
	for i, d := range all {
		if err := ctx.Err(); err != nil {
			return m, nil, err
		}
		progress(i, len(all))
		err := copyDocument(store.DocumentPath(dir, d.sha), store.DocumentPath(data, d.sha), d)
		switch known := slices.Contains(m.Damaged, d.sha); {
		case err == nil:
		case !errors.Is(err, errDamaged) && !errors.Is(err, fs.ErrNotExist):
			return m, nil, err
		case !known: // the others are worth to have all the same
			m.Damaged = append(m.Damaged, d.sha)
		}
	}
	progress(len(all), len(all))
	if err := copyFolder(filepath.Join(dir, secrets), filepath.Join(data, secrets)); err != nil {
		return m, nil, err
	}
	if numbers, err = goOn(ctx, db, skip); err != nil {
		return m, nil, err
	}
	if err := db.Close(); err != nil {
		return m, nil, err
	}
	return m, numbers, os.Rename(fresh, filepath.Join(data, database))
}

// goOn raises every number.
func goOn(ctx context.Context, db *sql.DB, skip int64) (all []Number, err error) {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	rows, err := tx.QueryContext(ctx, `SELECT partner, what, last FROM control_numbers
		UNION ALL SELECT '', kind, next - 1 FROM series ORDER BY 1, 2`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var n Number
		if err := rows.Scan(&n.Partner, &n.What, &n.Last); err != nil {
			return nil, err
		}
		n.Now = n.Last + skip
		all = append(all, n)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	for _, q := range []string{`UPDATE control_numbers SET last = last + ?`, `UPDATE series SET next = next + ?`,
		`UPDATE sqlite_sequence SET seq = seq + ?`} { // ids too: other systems may know them
		if _, err := tx.ExecContext(ctx, q, skip); err != nil {
			return nil, err
		}
	}
	return all, tx.Commit()
}
