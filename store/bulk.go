package store

import (
	"context"
	"database/sql"
	"strings"
)

// bulkRows is how many rows one statement inserts. Fifty together cost a fifth less than one at a time; more gain
// nothing (docs/performance.md).
const bulkRows = 50

// columns is a table into which many rows are inserted, with the columns that are filled.
type columns struct {
	n      int
	insert [bulkRows + 1]string // by number of rows: a statement for each, compiled once
}

func columnsOf(table string, names ...string) *columns {
	c := &columns{n: len(names)}
	insert := "INSERT INTO " + table + " (" + strings.Join(names, ", ") + ") VALUES "
	row := "(?" + strings.Repeat(", ?", len(names)-1) + ")"
	for rows := 1; rows <= bulkRows; rows++ {
		c.insert[rows] = insert + row + strings.Repeat(", "+row, rows-1)
	}
	return c
}

// orElse updates some columns of rows whose key exists already.
func (c *columns) orElse(names ...string) *columns {
	sets := make([]string, len(names))
	for i, name := range names {
		sets[i] = name + " = excluded." + name
	}
	return c.onConflict("UPDATE SET " + strings.Join(sets, ", "))
}

func (c *columns) onConflict(do string) *columns {
	for rows := range c.insert[1:] {
		c.insert[rows+1] += " ON CONFLICT DO " + do
	}
	return c
}

// bulk inserts many rows of one table with few statements.
type bulk struct {
	tx    *Tx
	into  *columns
	args  []any
	err   error
	first *bulk // whose rows these point at; nil is none
}

// bulk prepares the insertion of rows, about as many as expected says.
func (t *Tx) bulk(into *columns, expected int) *bulk {
	return &bulk{tx: t, into: into, args: make([]any, 0, min(bulkRows, expected)*into.n)}
}

func (b *bulk) add(values ...any) {
	b.args = append(b.args, values...)
	if len(b.args) == bulkRows*b.into.n {
		b.flush()
	}
}

func (b *bulk) flush() {
	if b.first != nil && b.err == nil && len(b.args) > 0 {
		b.first.flush()
		b.err = b.first.err
	}
	if b.err == nil && len(b.args) > 0 {
		b.err = b.tx.run(b.into.insert[len(b.args)/b.into.n], b.args...)
	}
	b.args = b.args[:0]
}

// done inserts what is left.
func (b *bulk) done() error {
	b.flush()
	return b.err
}

// prepared returns a statement that is compiled once in the writer's life. It is prepared on the writer's connection,
// so it runs inside the open transaction.
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
