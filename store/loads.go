package store

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"koinos/core/finding"
	"koinos/core/mapping"
	"koinos/core/report"
)

// loadRow takes the columns of selectLoad; those that are named like a field
// of report.Load in small letters go there.
type loadRow struct {
	report.Load
	Started string         `db:"started_at"`
	Ended   sql.NullString `db:"ended_at"`
}

func (r *loadRow) load() report.Load {
	l := r.Load
	l.StartedAt = parseTime(r.Started)
	if r.Ended.Valid {
		end := parseTime(r.Ended.String)
		l.EndedAt = &end
	}
	if l.Status != report.Running {
		l.Share = 1
	}
	return l
}

const selectLoad = `SELECT l.id, l.document, d.name AS documentname, l.mapping, l.mapping_version AS version, l.dry_run AS dryrun, l.all_or_none AS allornone, l.status,
  l.rows, l.orders, l.lines, l.loaded, l.ready, l.unchanged, l.refused, l.withheld, l.errors, l.warnings, l.started_at, l.ended_at, l.by
  FROM loads l JOIN documents d ON d.sha = l.document `

// StartLoad records a load that begins and gives its id.
func (s *Store) StartLoad(ctx context.Context, l report.Load) (id int64, err error) {
	err = s.Write(ctx, func(t *Tx) error {
		res, err := t.exec(`INSERT INTO loads (document, mapping, mapping_version, dry_run, all_or_none, status, started_at, by) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			l.Document, l.Mapping, l.Version, l.DryRun, l.AllOrNone, report.Running, at(l.StartedAt), l.By)
		if err != nil {
			return err
		}
		id, err = res.LastInsertId()
		return err
	})
	return id, err
}

// SaveCounts brings a load's figures up to date; with an end time the load has
// ended with the given status.
func (t *Tx) SaveCounts(l *report.Load) error {
	var ended any
	if l.EndedAt != nil {
		ended = at(*l.EndedAt)
	}
	_, err := t.exec(`UPDATE loads SET status = ?, ended_at = ?, rows = ?, orders = ?, lines = ?, loaded = ?, ready = ?, unchanged = ?,
	  refused = ?, withheld = ?, errors = ?, warnings = ? WHERE id = ?`,
		l.Status, ended, l.Rows, l.Orders, l.Lines, l.Loaded, l.Ready, l.Unchanged, l.Refused, l.Withheld, l.Errors, l.Warnings, l.ID)
	return err
}

// InterruptRunning marks loads that were running when the service ended.
func (s *Store) InterruptRunning(ctx context.Context, now time.Time) (n int64, err error) {
	err = s.Write(ctx, func(t *Tx) error {
		res, err := t.exec(`UPDATE loads SET status = ?, ended_at = ? WHERE status = ?`, report.Interrupted, at(now), report.Running)
		if err != nil {
			return err
		}
		n, err = res.RowsAffected()
		return err
	})
	return n, err
}

// Load gives a load by its id.
func (s *Store) Load(ctx context.Context, id int64) (report.Load, error) {
	var row loadRow
	err := s.r.GetContext(ctx, &row, selectLoad+`WHERE l.id = ?`, id)
	return row.load(), named(err, "load %d", id)
}

// LoadFilter narrows a list of loads.
type LoadFilter struct {
	Document string
	Before   int64 // 0 is from the newest on
	Limit    int
}

// Loads lists loads, newest first.
func (s *Store) Loads(ctx context.Context, f LoadFilter) ([]report.Load, error) {
	var rows []loadRow
	err := s.r.SelectContext(ctx, &rows, selectLoad+`WHERE (? = 0 OR l.id < ?) AND (? = '' OR l.document = ?) ORDER BY l.id DESC LIMIT ?`,
		f.Before, f.Before, f.Document, f.Document, f.Limit)
	list := make([]report.Load, len(rows))
	for i := range rows {
		list[i] = rows[i].load()
	}
	return list, err
}

// OrderResult is an order's outcome with its rows, as a load writes it.
type OrderResult struct {
	report.OrderOutcome
	Spans    []report.SpanOutcome
	Findings []finding.Finding
}

// AddResults records outcomes and findings; next is the number of the load's
// next finding and is moved on.
func (t *Tx) AddResults(load int64, results []OrderResult, next *int) error {
	orders := t.bulk("load_orders", "load_id", "seq", "outcome", "order_id", "number", "sender_number", "lines", "errors", "warnings")
	spans := t.bulk("load_spans", "load_id", "sheet", "first", "last", "seq")
	for i := range results {
		r := &results[i]
		var order any
		if r.OrderID != 0 {
			order = r.OrderID
		}
		orders.add(load, r.Seq, string(r.Outcome), order, null(r.Number), null(r.SenderNumber), r.Lines, r.Errors, r.Warnings)
		for _, s := range r.Spans {
			spans.add(load, s.Sheet, s.First, s.Last, r.Seq)
		}
		if err := t.AddFindings(load, r.Findings, next); err != nil {
			return err
		}
	}
	if err := orders.done(); err != nil {
		return err
	}
	return spans.done()
}

// AddFindings records findings of a load.
func (t *Tx) AddFindings(load int64, findings []finding.Finding, next *int) error {
	if len(findings) == 0 {
		return nil
	}
	b := t.bulk("findings", "load_id", "n", "seq", "line", "code", "severity", "sheet", "row", "col", "in_mapping", "field", "value", "message", "hint", "pointer", "source_line", "list")
	for _, f := range findings {
		*next++
		b.add(load, *next, f.Order, f.Line, string(f.Code), string(f.Severity), f.Place.Sheet, f.Place.Row, f.Place.Column, f.Place.Mapping, f.Field, f.Value, f.Message, f.Hint, f.Place.Pointer, f.Place.Line, f.List)
	}
	return b.done()
}

// SetOutcomes changes the outcome of a load's orders from one to another.
func (t *Tx) SetOutcomes(load int64, from, to report.Outcome) error {
	_, err := t.exec(`UPDATE load_orders SET outcome = ? WHERE load_id = ? AND outcome = ?`, to, load, from)
	return err
}

// Forget takes back what a load recorded of its orders and findings, so that it can be run anew.
func (t *Tx) Forget(load int64) error {
	for _, table := range []string{"load_orders", "load_spans", "findings"} {
		if _, err := t.exec(`DELETE FROM `+table+` WHERE load_id = ?`, load); err != nil {
			return err
		}
	}
	return nil
}

type findingRow struct {
	N         int    `db:"n"`
	Seq       int    `db:"seq"`
	Line      int    `db:"line"`
	Code      string `db:"code"`
	Severity  string `db:"severity"`
	Sheet     string `db:"sheet"`
	Row       int    `db:"row"`
	Col       int    `db:"col"`
	InMapping bool   `db:"in_mapping"`
	Field     string `db:"field"`
	Value     string `db:"value"`
	Message   string `db:"message"`
	Hint      string `db:"hint"`
	Pointer   string `db:"pointer"`
	SourceLn  int    `db:"source_line"`
	List      string `db:"list"`
}

func (r *findingRow) finding() finding.Finding {
	p := finding.Place{Sheet: r.Sheet, Row: r.Row, Column: r.Col, Mapping: r.InMapping, Pointer: r.Pointer, Line: r.SourceLn}
	return finding.Finding{Code: finding.Code(r.Code), Severity: finding.Severity(r.Severity), Place: p, At: p.String(),
		Order: r.Seq, Line: r.Line, Field: r.Field, Value: r.Value, Message: r.Message, Hint: r.Hint, List: r.List}
}

const findingColumns = `n, seq, line, code, severity, sheet, row, col, in_mapping, field, value, message, hint, pointer, source_line, list`

// FindingFilter narrows a list of findings. Blank fields do not narrow.
type FindingFilter struct {
	After    int // the number of the last finding seen
	Limit    int
	Code     string
	Severity string
	Field    string
	Order    int
	Sheet    *string // with FromRow and ToRow: findings at rows of a sheet, by place
	FromRow  int
	ToRow    int
}

// Numbered is a finding with its number in the load, which pages go by.
type Numbered struct {
	N int
	finding.Finding
}

// Findings lists a load's findings in the order in which they were found, or
// by place where rows of a sheet are asked for.
func (s *Store) Findings(ctx context.Context, load int64, f FindingFilter) ([]Numbered, error) {
	where, args := []string{"load_id = ?", "n > ?"}, []any{load, f.After}
	add := func(condition string, values ...any) {
		where, args = append(where, condition), append(args, values...)
	}
	if f.Code != "" {
		add("code = ?", f.Code)
	}
	if f.Severity != "" {
		add("severity = ?", f.Severity)
	}
	if f.Field != "" {
		add("field = ?", f.Field)
	}
	if f.Order != 0 {
		add("seq = ?", f.Order)
	}
	by := "n"
	if f.Sheet != nil {
		add("sheet = ? AND row BETWEEN ? AND ? AND NOT in_mapping", *f.Sheet, f.FromRow, f.ToRow)
		by = "row, col, n"
	}
	if f.Limit == 0 {
		f.Limit = -1
	}
	var rows []findingRow
	err := s.r.SelectContext(ctx, &rows, `SELECT `+findingColumns+` FROM findings WHERE `+strings.Join(where, " AND ")+` ORDER BY `+by+` LIMIT ?`, append(args, f.Limit)...)
	list := make([]Numbered, len(rows))
	for i := range rows {
		list[i] = Numbered{rows[i].N, rows[i].finding()}
	}
	return list, err
}

// Reasons groups a load's findings by code and field, errors first, then most first.
func (s *Store) Reasons(ctx context.Context, load int64) ([]report.Reason, error) {
	var rows []struct {
		report.Reason
		First int `db:"first"`
	}
	err := s.r.SelectContext(ctx, &rows, `SELECT code, severity, field, count(*) AS count, count(DISTINCT seq) AS orders,
	  count(DISTINCT value) AS "values", min(n) AS first FROM findings WHERE load_id = ?
	  GROUP BY severity, code, field ORDER BY severity, count(*) DESC, code, field`, load)
	if err != nil {
		return nil, err
	}
	list := make([]report.Reason, len(rows))
	for i, r := range rows {
		var first findingRow
		if err := s.r.GetContext(ctx, &first, `SELECT `+findingColumns+` FROM findings WHERE load_id = ? AND n = ?`, load, r.First); err != nil {
			return nil, err
		}
		list[i] = r.Reason
		list[i].Title, list[i].Example = finding.Catalogue[r.Code].Title, first.finding()
	}
	return list, nil
}

const outcomeColumns = `seq, outcome, coalesce(order_id, 0) AS orderid, coalesce(number, '') AS number, coalesce(sender_number, '') AS sendernumber, lines, errors, warnings`

// OutcomeFilter narrows a list of outcomes.
type OutcomeFilter struct {
	After   int // seq
	Limit   int
	Outcome string
}

// Outcomes lists what became of a load's orders, in the document's order.
func (s *Store) Outcomes(ctx context.Context, load int64, f OutcomeFilter) ([]report.OrderOutcome, error) {
	list := []report.OrderOutcome{}
	err := s.r.SelectContext(ctx, &list, `SELECT `+outcomeColumns+` FROM load_orders WHERE load_id = ? AND seq > ? AND (? = '' OR outcome = ?) ORDER BY seq LIMIT ?`,
		load, f.After, f.Outcome, f.Outcome, f.Limit)
	return list, err
}

// Outcome gives what became of one order of a load's document.
func (s *Store) Outcome(ctx context.Context, load int64, seq int) (report.OrderOutcome, error) {
	var o report.OrderOutcome
	err := s.r.GetContext(ctx, &o, `SELECT `+outcomeColumns+` FROM load_orders WHERE load_id = ? AND seq = ?`, load, seq)
	return o, named(err, "order %d of load %d", seq, load)
}

// Spans lists runs of rows with their orders' outcomes, in the order of rows,
// that touch the rows from first to last; limit 0 is all.
func (s *Store) Spans(ctx context.Context, load int64, sheet string, first, last, limit int) ([]report.SpanOutcome, error) {
	if limit == 0 {
		limit = -1
	}
	list := []report.SpanOutcome{}
	err := s.r.SelectContext(ctx, &list, `SELECT s.sheet, s.first, s.last, `+strings.NewReplacer("seq,", "o.seq,").Replace(outcomeColumns)+`
	  FROM load_spans s JOIN load_orders o ON o.load_id = s.load_id AND o.seq = s.seq
	  WHERE s.load_id = ? AND s.sheet = ? AND s.first <= ? AND s.last >= ? ORDER BY s.first LIMIT ?`, load, sheet, last, first, limit)
	return list, err
}

// FirstRow is the first row of a sheet that belongs to an order of the load; 0 is none.
func (s *Store) FirstRow(ctx context.Context, load int64, sheet string) (row int, err error) {
	err = s.r.GetContext(ctx, &row, `SELECT coalesce(min(first), 0) FROM load_spans WHERE load_id = ? AND sheet = ?`, load, sheet)
	return row, err
}

// Sheets lists the sheets in which the load found orders, by name; a CSV has
// one of no name.
func (s *Store) Sheets(ctx context.Context, load int64) ([]string, error) {
	sheets := []string{}
	err := s.r.SelectContext(ctx, &sheets, `SELECT DISTINCT sheet FROM load_spans WHERE load_id = ? ORDER BY sheet`, load)
	return sheets, err
}

// Misses groups what lists and crosswalks did not know during a load, by list,
// the most frequent first.
func (s *Store) Misses(ctx context.Context, load int64) ([]mapping.Miss, error) {
	var rows []struct {
		List  string `db:"list"`
		Code  string `db:"code"`
		Value string `db:"value"`
		Count int    `db:"count"`
		Hint  string `db:"hint"`
	}
	err := s.r.SelectContext(ctx, &rows, `SELECT list, code, value, count(*) AS count, min(hint) AS hint FROM findings
	  WHERE load_id = ? AND list <> '' AND code IN (?, ?, ?) GROUP BY list, code, value ORDER BY list, count(*) DESC, value`,
		load, string(finding.CrosswalkMissing), string(finding.UnknownCode), string(finding.UnknownUnit))
	list := make([]mapping.Miss, len(rows))
	for i, r := range rows {
		list[i] = mapping.Miss{List: r.List, Crosswalk: r.Code == string(finding.CrosswalkMissing), Value: r.Value, Count: r.Count, Nearest: mapping.NearestOf(r.Hint)}
	}
	return list, err
}
