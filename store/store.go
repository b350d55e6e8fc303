package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/mattn/go-sqlite3" // docs/decisions/0001-sqlite-driver.md
)

// ErrNotFound says that nothing has that name or id. Errors that wrap it name what was looked for: "load 7: not found".
var ErrNotFound = errors.New("not found")

// Store is an open data folder.
type Store struct {
	dir   string
	lock  *os.File
	turns turns // of the one writer

	queueMu sync.Mutex
	filesMu sync.Mutex // held where a document's file is removed, or found to be there
	queue   []*shared  // work that waits to share a transaction

	w     *sqlx.DB
	conn  *sqlx.Conn // the writer's only connection
	r     *sqlx.DB
	stmts map[string]*sql.Stmt // the writer's, prepared once
	wrote atomic.Uint64        // transactions that were committed
	woken signal               // told of each
	work  signal               // of jobs

	unwell atomic.Pointer[error] // why the last write failed

	answering sync.Map // requests that name themselves, by caller and name, while they are answered

	lists atomic.Uint64          // changes of lists and crosswalks
	set   atomic.Pointer[cached] // every list and crosswalk, as of one of them
}

// DatabaseFile is the name of the database in a data folder.
const DatabaseFile = "koinos.db"

// Unfinished is added to the database's name while a data folder is being restored from a backup. Such a folder is not
// opened.
const Unfinished = ".new"

// readers is how many connections read at the same time.
const readers = 8

// Open opens the data folder dir. It makes the folder and brings its database up to date as needed.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(filepath.Join(dir, "documents"), 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	file := filepath.Join(dir, DatabaseFile)
	if _, err := os.Stat(file + Unfinished); err == nil {
		return nil, fmt.Errorf("data folder %s: a backup was not brought back to its end here; remove the folder, "+
			"and restore "+
			"the backup again", dir)
	}
	if err := private(dir, file); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if err := Migrate(context.Background(), file); err != nil {
		return nil, fmt.Errorf("database %s: %w", file, err)
	}
	dsn := address(file, "on") + "&_stmt_cache_size=100"
	w, err := sqlx.Open("sqlite3", dsn+"&_txlock=immediate")
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	w.SetMaxOpenConns(1)
	r, err := sqlx.Open("sqlite3", dsn+"&mode=ro&_query_only=1")
	if err != nil {
		w.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	r.SetMaxOpenConns(readers)
	r.SetMaxIdleConns(readers) // opening one anew costs more than what it is asked
	conn, err := w.Connx(context.Background())
	if err != nil {
		return nil, errors.Join(fmt.Errorf("database: %w", err), w.Close(), r.Close())
	}
	s := &Store{dir: dir, w: w, r: r}
	if err := s.use(conn); err != nil {
		return nil, errors.Join(fmt.Errorf("database: %w", err), conn.Close(), w.Close(), r.Close())
	}
	return s, nil
}

// private makes sure that only the service's own user can read the data folder. SQLite gives its other files the mode
// of the database.
func private(dir, file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	for name, most := range map[string]os.FileMode{dir: 0o700, file: 0o600, file + "-wal": 0o600,
		file + "-shm": 0o600} {
		info, err := os.Stat(name)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if info.Mode().Perm()&^most != 0 {
			if err := os.Chmod(name, info.Mode().Perm()&most); err != nil {
				return err
			}
		}
	}
	return nil
}

// walPages is how long the write-ahead log may become before it is copied into the database: pages that are written
// repeatedly are copied once. 4,000 pages are 16 MiB.
const walPages = 4_000

// use makes a connection the writer's.
func (s *Store) use(conn *sqlx.Conn) error {
	s.conn, s.stmts = conn, map[string]*sql.Stmt{}
	_, err := conn.ExecContext(context.Background(), fmt.Sprintf(`PRAGMA wal_autocheckpoint = %d`, walPages))
	return err
}

// Close closes the database. koinos.db is then complete in one file.
func (s *Store) Close() error {
	defer s.turns.turn(long)()
	err := s.r.Close()
	// An open statement would keep the connection, and with it the latest changes in the write-ahead log instead of the
	// database.
	for _, stmt := range s.stmts {
		err = errors.Join(err, stmt.Close())
	}
	s.stmts = map[string]*sql.Stmt{}
	err = errors.Join(err, s.conn.Close(), s.w.Close())
	if s.lock != nil {
		err = errors.Join(err, s.lock.Close())
	}
	return err
}

// Claim makes sure that no other service uses the data folder; it lasts until Close.
func (s *Store) Claim() error {
	f, err := os.OpenFile(filepath.Join(s.dir, "service.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return fmt.Errorf("the data folder %s is used by another running service", s.dir)
	}
	s.lock = f
	// What was arriving when an earlier service was killed has not arrived.
	left, err := filepath.Glob(filepath.Join(s.dir, "documents", "arriving-*"))
	for _, name := range left {
		err = errors.Join(err, os.Remove(name))
	}
	return err
}

// Ready reports whether the database answers, and whether it and the folder of documents can be written.
func (s *Store) Ready(ctx context.Context) error {
	if err := errors.Join(s.r.PingContext(ctx), s.documentsReady()); err != nil {
		return err
	}
	if s.unwell.Load() == nil {
		return nil
	}
	// The last write failed, and the next one may not have happened yet. It needs as much room.
	return s.Write(ctx, func(t *Tx) error {
		if _, err := t.exec(`UPDATE pulse SET at = zeroblob(65536)`); err != nil {
			return err
		}
		_, err := t.exec(`UPDATE pulse SET at = ?`, at(time.Now()))
		return err
	})
}

func (s *Store) documentsReady() error {
	f, err := os.CreateTemp(filepath.Join(s.dir, "documents"), "arriving-*")
	if err != nil {
		return fmt.Errorf("folder of documents: %w", err)
	}
	_, err = f.Write(make([]byte, 64<<10))
	if err := errors.Join(err, f.Close(), os.Remove(f.Name())); err != nil {
		return fmt.Errorf("folder of documents: %w", err)
	}
	return nil
}

// Write runs f in the writer's transaction: everything that it did is stored, or nothing. A transaction that has begun
// is not interrupted when ctx ends, because the driver would give its connection up. f can end it by returning ctx's
// error. A panic of f rolls the transaction back and becomes an error.
func (s *Store) Write(ctx context.Context, f func(*Tx) error) error {
	defer s.turns.turn(long)()
	return s.write(ctx, f)
}

func (s *Store) write(ctx context.Context, f func(*Tx) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	tx, err := s.begin(ctx)
	if err != nil {
		s.unwell.Store(&err)
		return fmt.Errorf("begin: %w", err)
	}
	t := &Tx{s: s, tx: tx, ctx: ctx, began: time.Now()}
	err = caught(func() error { return f(t) })
	if err == nil && t.broken == nil {
		err = t.alive()
	}
	if err = errors.Join(err, t.broken); err != nil {
		err = errors.Join(err, t.rollback())
		if t.broken != nil || Blocked(err) != "" {
			s.unwell.Store(&err)
		}
		return err
	}
	if err := tx.Commit(); err != nil {
		err = errors.Join(fmt.Errorf("commit: %w", err), t.rollback())
		s.unwell.Store(&err)
		return err
	}
	for _, f := range t.after {
		f()
	}
	s.unwell.Store(nil)
	s.wrote.Add(1)
	s.woken.Broadcast()
	return nil
}

// Commits counts the writer's transactions since the store was opened. While it stays the same, nothing has changed.
func (s *Store) Commits() uint64 { return s.wrote.Load() }

// Woken returns a channel that is closed by the next commit.
func (s *Store) Woken() <-chan struct{} { return s.woken.Wait() }

// WorkAdded returns a channel that is closed by the next commit that makes a new job ready.
func (s *Store) WorkAdded() <-chan struct{} { return s.work.Wait() }

// signal wakes everybody who waits for it.
type signal struct {
	mu sync.Mutex
	c  chan struct{}
}

// Wait returns a channel that the next Broadcast closes.
func (s *signal) Wait() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.c == nil {
		s.c = make(chan struct{})
	}
	return s.c
}

// Broadcast wakes everybody who waits.
func (s *signal) Broadcast() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.c != nil {
		close(s.c)
		s.c = nil
	}
}

// begin opens a transaction, on a new connection if the old one was lost.
func (s *Store) begin(ctx context.Context) (*sqlx.Tx, error) {
	tx, err := s.conn.BeginTxx(ctx, nil)
	if !errors.Is(err, sql.ErrConnDone) && !errors.Is(err, driver.ErrBadConn) {
		return tx, err
	}
	conn, err := s.w.Connx(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.use(conn); err != nil {
		return nil, err
	}
	return s.conn.BeginTxx(ctx, nil)
}

func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) {
		return nil
	}
	return err
}

// Tx is the writer's transaction. After an error that may have ended the transaction, no further statement runs in it:
// SQLite rolls a transaction back by itself when the disk is full, and later statements would be committed on their
// own.
type Tx struct {
	s            *Store
	tx           *sqlx.Tx
	ctx          context.Context
	broken       error    // what ended the transaction
	last         int64    // highest id of an order that was ever given; 0 where it was not asked yet
	lastMovement int64    // the same of movements
	after        []func() // done once it is committed
	began        time.Time
}

// fairTurn is how long a transaction may use the writer before others wait too long.
const fairTurn = 50 * time.Millisecond

// Long reports whether the transaction has used the writer for so long that others should have their turn. A caller
// that can continue in another transaction ends this one.
func (t *Tx) Long() bool { return time.Since(t.began) > fairTurn }

// alive returns an error if SQLite has rolled the transaction back.
func (t *Tx) alive() error {
	if t.broken != nil {
		return t.broken
	}
	auto := false
	err := t.s.conn.Raw(func(c any) error {
		if c, ok := c.(*sqlite3.SQLiteConn); ok {
			auto = c.AutoCommit()
		}
		return nil
	})
	if err == nil && auto {
		err = errGone
	}
	t.broken = err
	return err
}

var errGone = errors.New("the database has undone the transaction")

// rollback ends a transaction, even one that SQLite has rolled back by itself.
func (t *Tx) rollback() error {
	err := t.tx.Rollback()
	if errors.Is(t.broken, errGone) || err != nil && strings.Contains(err.Error(), "no transaction is active") {
		return nil
	}
	return ignoreDone(err)
}

// failed examines a statement's error: one that ended the transaction makes it unusable. So does a full disk, after
// which SQLite undoes the statement alone where it can.
func (t *Tx) failed(err error) error {
	if err == nil || errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if t.broken == nil && (t.alive() != nil || Blocked(err) != "") {
		t.broken = errors.Join(err, t.broken) // also whoever overlooks this error ends with it
	}
	if t.broken != nil {
		return t.broken
	}
	return err
}

func (t *Tx) exec(query string, args ...any) (sql.Result, error) {
	if t.broken != nil {
		return nil, t.broken
	}
	res, err := t.tx.ExecContext(t.ctx, query, args...)
	return res, t.failed(err)
}

// run executes a statement that is compiled once.
func (t *Tx) run(query string, args ...any) error {
	if t.broken != nil {
		return t.broken
	}
	stmt, err := t.prepared(query)
	if err == nil {
		_, err = stmt.ExecContext(t.ctx, args...)
	}
	return t.failed(err)
}

// SelectContext and GetContext read within the transaction.
func (t *Tx) SelectContext(ctx context.Context, dest any, query string, args ...any) error {
	if t.broken != nil {
		return t.broken
	}
	return t.failed(t.tx.SelectContext(ctx, dest, query, args...))
}

// GetContext is described at SelectContext.
func (t *Tx) GetContext(ctx context.Context, dest any, query string, args ...any) error {
	if t.broken != nil {
		return t.broken
	}
	return t.failed(t.tx.GetContext(ctx, dest, query, args...))
}

// QueryContext is described at SelectContext; errors of the rows must be passed to failed.
func (t *Tx) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if t.broken != nil {
		return nil, t.broken
	}
	rows, err := t.tx.QueryContext(ctx, query, args...)
	return rows, t.failed(err)
}

// stamp is the form in which times are stored: UTC, to the millisecond, sortable as text.
const stamp = "2006-01-02T15:04:05.000Z"

func at(t time.Time) string { return t.UTC().Format(stamp) }

func parseTime(s string) time.Time {
	t, _ := time.Parse(stamp, s)
	return t
}

// momentOf is a time that may be absent.
func momentOf(s sql.NullString) *time.Time {
	if !s.Valid {
		return nil
	}
	t := parseTime(s.String)
	return &t
}

// null stores blank text as NULL.
func null(s string) any {
	if s == "" {
		return nil
	}
	return s
}

// named turns "no rows" into ErrNotFound with the name of what was looked for.
func named(err error, format string, args ...any) error {
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf(format+": %w", append(args, ErrNotFound)...)
	}
	return err
}

// Blocked says why the disk or the database cannot be written for now, for reasons that have nothing to do with what is
// written, so that it can be tried again later. "" means another error, or none.
func Blocked(err error) string {
	const full = "the disk is full or cannot be written"
	var db sqlite3.Error
	if errors.As(err, &db) {
		switch db.Code {
		case sqlite3.ErrFull, sqlite3.ErrIoErr, sqlite3.ErrReadonly:
			return full
		case sqlite3.ErrBusy, sqlite3.ErrLocked:
			return "another program holds the database"
		}
		return ""
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EROFS) || errors.Is(err, syscall.EDQUOT) {
		return full
	}
	return ""
}
