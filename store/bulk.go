package store

import (
	"context"
	"database/sql"
	"strings"
)

// bulkRows is how many rows one statement inserts: fifty cost a fifth less
// than one at a time, more gain nothing (docs/performance.md).
const bulkRows = 50

// bulk inserts many rows of one table with few statements.
type bulk struct {
	tx      *Tx
	insert  string // INSERT INTO t (a, b) VALUES
	row     string // (?, ?)
	columns int
	args    []any
	err     error
}

func (t *Tx) bulk(table string, columns ...string) *bulk {
	return &bulk{
		tx: t, columns: len(columns),
		insert: "INSERT INTO " + table + " (" + strings.Join(columns, ", ") + ") VALUES ",
		row:    "(?" + strings.Repeat(", ?", len(columns)-1) + ")",
		args:   make([]any, 0, bulkRows*len(columns)),
	}
}

func (b *bulk) add(values ...any) {
	b.args = append(b.args, values...)
	if len(b.args) == bulkRows*b.columns {
		b.flush()
	}
}

func (b *bulk) flush() {
	if b.err == nil && len(b.args) > 0 {
		n := len(b.args) / b.columns // a statement for each number of rows: compiled once
		b.err = b.tx.run(b.insert+b.row+strings.Repeat(", "+b.row, n-1), b.args...)
	}
	b.args = b.args[:0]
}

// done inserts what is left.
func (b *bulk) done() error {
	b.flush()
	return b.err
}

// prepared gives a statement that is compiled once in the writer's life. It is
// prepared on the writer's connection, so it runs inside the open transaction.
func (t *Tx) prepared(query string) (*sql.Stmt, error) {
	if stmt := t.s.stmts[query]; stmt != nil {
		return stmt, nil
	}
	stmt, err := t.s.conn.PrepareContext(context.Background(), query)
	if err != nil {
		return nil, err
	}
	t.s.stmts[query] = stmt
	return stmt, nil
}

// row reads one row with a statement that is compiled once.
func (t *Tx) row(query string, args []any, into ...any) error {
	if t.broken != nil {
		return t.broken
	}
	stmt, err := t.prepared(query)
	if err == nil {
		err = stmt.QueryRowContext(t.ctx, args...).Scan(into...)
	}
	return t.failed(err)
}
