package store

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"koinos/store/pack"
)

// bulkBytes is how many bytes of rows one statement inserts, about. A longer value takes no less time for each row.
const bulkBytes = 64 << 10

// columns is a table into which many rows are inserted, with the columns that are filled.
type columns struct {
	n      int
	insert string
}

func columnsOf(table string, names ...string) *columns {
	from := make([]string, len(names))
	for i := range names {
		from[i] = fmt.Sprintf("c%d", i+1)
	}
	return &columns{len(names), "INSERT INTO " + table + " (" + strings.Join(names, ", ") + ") SELECT " +
		strings.Join(from, ", ") + " FROM unpack(?) WHERE true"}
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
	c.insert += " ON CONFLICT DO " + do
	return c
}

// bulk inserts many rows of one table with few statements.
type bulk struct {
	tx    *Tx
	into  *columns
	rows  *pack.Rows
	err   error
	first *bulk // whose rows these point at; nil is none
}

// bulk prepares the insertion of rows.
func (t *Tx) bulk(into *columns) *bulk {
	return &bulk{tx: t, into: into, rows: pack.NewRows(into.n, 0)}
}

// row begins a row, which the caller fills with one value for each column.
func (b *bulk) row() *pack.Rows {
	if b.rows.Size() > bulkBytes {
		b.flush()
	}
	return b.rows
}

func (b *bulk) flush() {
	if b.first != nil && b.err == nil && b.rows.Size() > 0 {
		b.first.flush()
		b.err = b.first.err
	}
	if b.err == nil && b.rows.Size() > 0 {
		var rows []byte
		if rows, b.err = b.rows.Value(); b.err == nil {
			b.err = b.tx.run(b.into.insert, rows)
		}
	}
	b.rows.Reset()
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
