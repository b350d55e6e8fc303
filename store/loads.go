package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/origin"
	"koinos/core/outcome"
	"koinos/core/reading"
	"koinos/core/report"
)

// loadRow receives the columns of selectLoad. Columns that are named like a field of outcome.Load, in small letters, go
// into that field.
type loadRow struct {
	outcome.Load
	Started string         `db:"started_at"`
	Ended   sql.NullString `db:"ended_at"`
	Asked   string         `db:"asked"`
	Gone    sql.NullString `db:"gone"`
}

func (r *loadRow) load() (outcome.Load, error) {
	l := r.Load
	if err := json.Unmarshal([]byte(r.Asked), &l.Options); err != nil {
		return l, fmt.Errorf("load %d: %w", l.ID, err)
	}
	l.StartedAt = parseTime(r.Started)
	l.EndedAt, l.TakenAwayAt = momentOf(r.Ended), momentOf(r.Gone)
	if l.Status.Ended() && l.Status != outcome.Paused {
		l.Share = 1
	}
	return l, nil
}

const selectLoad = `SELECT l.id, l.document, d.name AS documentname, l.mapping, l.mapping_version AS version, l.options AS asked, l.status, l.reason, l.share,
  l.rows, l.orders, l.lines, l.loaded, l.changed, l.ready, l.differs, l.unchanged, l.refused, l.held, l.withheld, l.undone, l.errors, l.warnings, l.saved, l.left_out, l.rows_left_out,
  coalesce(l.run, 0) AS run, l.step, l.started_at, l.ended_at, l.taken_away_at AS gone, l.by
  FROM loads l JOIN documents d ON d.sha = l.document `

// StartLoad records a load that begins and returns its id. A request with a name (not blank) starts only one load as
// long as the load is stored: known is then true. If the name was used for another document, or for a dry run and this
// is none, the error is ErrOtherUse.
func (s *Store) StartLoad(ctx context.Context, l outcome.Load, request string) (id int64, known bool, err error) {
	asked, err := json.Marshal(l.Options)
	if err != nil {
		return 0, false, err
	}
	err = s.Write(ctx, func(t *Tx) error {
		if request != "" {
			var was struct {
				ID       int64  `db:"id"`
				Document string `db:"document"`
				DryRun   bool   `db:"dry_run"`
			}
			err := t.GetContext(t.ctx, &was, `SELECT id, document, dry_run FROM loads WHERE request = ?`, request)
			if known = err == nil; known && (was.Document != l.Document || was.DryRun != l.DryRun) {
				return ErrOtherUse
			}
			if id = was.ID; known || !errors.Is(err, sql.ErrNoRows) {
				return err
			}
		}
		var run any
		if l.Run != 0 {
			run = l.Run
		}
		res, err := t.exec(`INSERT INTO loads (document, mapping, mapping_version, dry_run, all_or_none, options, status, started_at, by, request, run, step) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			l.Document, l.Mapping, l.Version, l.DryRun, l.AllOrNone, string(asked), l.Status, at(l.StartedAt), l.By,
			null(request), run, l.Step)
		if err != nil {
			return err
		}
		if id, err = res.LastInsertId(); err != nil {
			return err
		}
		return t.AddJob(api.Job{Kind: api.LoadJob, Subject: id, DueAt: l.StartedAt})
	})
	return id, known, err
}

// ListsOf returns the versions of lists and crosswalks that a load used; nil if an earlier version of Koinos did not
// store them.
func (s *Store) ListsOf(ctx context.Context, load int64) (versions map[string]int, err error) {
	var kept sql.NullString
	if err := s.r.GetContext(ctx, &kept, `SELECT lists FROM loads WHERE id = ?`, load); err != nil || !kept.Valid {
		return nil, named(err, "load %d", load)
	}
	return versions, json.Unmarshal([]byte(kept.String), &versions)
}

// SaveLoad stores a load's status and figures. With an end time, the load has ended.
func (t *Tx) SaveLoad(l *outcome.Load) error {
	var ended any
	if l.EndedAt != nil {
		ended = at(*l.EndedAt)
	}
	return t.run(`UPDATE loads SET status = ?, reason = ?, share = ?, ended_at = ?, rows = ?, orders = ?, lines = ?, loaded = ?, changed = ?, ready = ?, differs = ?,
	  unchanged = ?, refused = ?, held = ?, withheld = ?, undone = ?, errors = ?, warnings = ?, saved = ?, left_out = ?, rows_left_out = ? WHERE id = ?`,
		string(l.Status), l.Reason, l.Share, ended, l.Rows, l.Orders, l.Lines, l.Loaded, l.Changed, l.Ready, l.Differs,
		l.Unchanged, l.Refused, l.Held, l.Withheld, l.Undone, l.Errors, l.Warnings, l.Saved,
		l.LeftOut, l.RowsOut, l.ID)
}

// Lists returns the versions of lists and crosswalks that a load uses. If the load has none yet, it stores the present
// ones, so that a load that continues after a change of a list uses the same versions.
func (s *Store) LoadLists(ctx context.Context, load int64, now map[string]int) (map[string]int, error) {
	kept, err := s.ListsOf(ctx, load)
	if err != nil || kept != nil {
		return kept, err
	}
	text, err := json.Marshal(now)
	if err != nil {
		return nil, err
	}
	return now, s.Write(ctx, func(t *Tx) error {
		return t.run(`UPDATE loads SET lists = ? WHERE id = ?`, string(text), load)
	})
}

func (s *Store) loads(ctx context.Context, where string, args ...any) ([]outcome.Load, error) {
	var rows []loadRow
	if err := s.r.SelectContext(ctx, &rows, selectLoad+where, args...); err != nil {
		return nil, err
	}
	list := make([]outcome.Load, len(rows))
	for i := range rows {
		var err error
		if list[i], err = rows[i].load(); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Progress is how far a load has come in the store: the number of its last order and of its last finding.
func (s *Store) Progress(ctx context.Context, load int64) (seq, n int, err error) {
	err = s.r.QueryRowxContext(ctx, `SELECT coalesce((SELECT max(seq) FROM load_orders WHERE load_id = ?), 0),
	  coalesce((SELECT max(n) FROM findings WHERE load_id = ?), 0)`, load, load).Scan(&seq, &n)
	return seq, n, err
}

// Load returns a load by its id.
func (s *Store) Load(ctx context.Context, id int64) (outcome.Load, error) {
	list, err := s.loads(ctx, `WHERE l.id = ?`, id)
	if err == nil && len(list) == 0 {
		return outcome.Load{}, fmt.Errorf("load %d: %w", id, ErrNotFound)
	}
	if err != nil {
		return outcome.Load{}, err
	}
	return list[0], nil
}

// LoadFilter narrows a list of loads.
type LoadFilter struct {
	Document string
	Run      int64 // of a sequence
	Before   int64 // 0 is from the newest on
	Limit    int
	Sent     bool // only documents that were sent or came in
	Pulled   bool // only records that were pulled from systems
}

// Loads lists loads, newest first.
func (s *Store) Loads(ctx context.Context, f LoadFilter) ([]outcome.Load, error) {
	query, args := f.query()
	return s.loads(ctx, query, args...)
}

// LoadOf returns the newest load of a document that was no dry run; 0 is none.
func (s *Store) LoadOf(ctx context.Context, document string) (id int64, err error) {
	err = s.r.GetContext(ctx, &id, `SELECT coalesce(max(id), 0) FROM loads WHERE document = ? AND NOT dry_run`, document)
	return id, err
}

func (f LoadFilter) query() (string, []any) {
	where, args := "WHERE l.id < ?", []any{f.Before}
	if f.Before == 0 {
		args[0] = int64(math.MaxInt64)
	}
	if f.Document != "" {
		where, args = where+" AND l.document = ?", append(args, f.Document)
	}
	if f.Run != 0 {
		where, args = where+" AND l.run = ?", append(args, f.Run)
	}
	if f.Sent {
		where += " AND l.options ->> 'hold_system' IS NULL"
	}
	if f.Pulled {
		where += " AND l.options ->> 'hold_system' IS NOT NULL"
	}
	return where + " ORDER BY l.id DESC LIMIT ?", append(args, f.Limit)
}

// OrderResult is an order's outcome with its rows, as a load writes it.
type OrderResult struct {
	outcome.OrderOutcome
	Spans    []outcome.SpanOutcome
	Findings []finding.Finding
}

var (
	ordersOfLoad = columnsOf("load_orders", "load_id", "seq", "outcome", "order_id", "number", "sender_number",
		"lines", "errors", "warnings")
	spansOfLoad    = columnsOf("load_spans", "load_id", "sheet", "first", "last", "seq")
	changesOfLoad  = columnsOf("load_changes", "load_id", "seq", "changes")
	findingsOfLoad = columnsOf("findings", "load_id", "n", "seq", "line", "code", "severity", "sheet", "row", "col",
		"in_mapping", "field", "value", "message", "hint", "pointer", "source_line", "list", "segment", "element",
		"nearest")
)

// AddResults stores outcomes and findings. next is the number of the load's next finding and is increased.
func (t *Tx) AddResults(load int64, results []OrderResult, next *int) error {
	orders, spans, changes := t.bulk(ordersOfLoad), t.bulk(spansOfLoad), t.bulk(changesOfLoad)
	for i := range results {
		r := &results[i]
		orders.row().Int64(load).Int(r.Seq).Text(string(r.Outcome)).Int64OrNull(r.OrderID).TextOrNull(r.Number).
			TextOrNull(r.SenderNumber).Int(r.Lines).Int(r.Errors).Int(r.Warnings)
		if len(r.Changes) > 0 && r.Outcome != outcome.Changed { // what was changed stands with the order's event
			text, err := oneChange.AppendAll(nil, r.Changes)
			if err != nil {
				return err
			}
			changes.row().Int64(load).Int(r.Seq).TextBytes(text)
		}
		for _, s := range r.Spans {
			spans.row().Int64(load).Text(s.Sheet).Int(s.First).Int(s.Last).Int(r.Seq)
		}
		if err := t.AddFindings(load, r.Findings, next); err != nil {
			return err
		}
	}
	if err := orders.done(); err != nil {
		return err
	}
	return errors.Join(spans.done(), changes.done())
}

// AddFindings records findings of a load.
func (t *Tx) AddFindings(load int64, findings []finding.Finding, next *int) error {
	if len(findings) == 0 {
		return nil
	}
	b := t.bulk(findingsOfLoad)
	for _, f := range findings {
		*next++
		p := f.Place
		b.row().Int64(load).Int(*next).Int(f.Order).Int(f.Line).Text(string(f.Code)).Text(string(f.Severity)).
			Text(p.Sheet).Int(p.Row).Int(p.Column).Bool(p.Mapping).Text(f.Field).Text(f.Value).Text(f.Message).
			Text(f.Hint).Text(p.Pointer).Int(p.Line).Text(f.List).Text(p.Segment).Text(p.Element).Text(f.Nearest)
	}
	return b.done()
}

// SetOutcomes changes the outcome of a load's orders from one to another.
func (t *Tx) SetOutcomes(load int64, from, to outcome.Outcome) error {
	_, err := t.exec(`UPDATE load_orders SET outcome = ? WHERE load_id = ? AND outcome = ?`, to, load, from)
	return err
}

// Forget deletes what a load recorded about its orders and findings, so that it can run again.
func (t *Tx) Forget(load int64) error {
	for _, table := range []string{"load_orders", "load_spans", "load_changes", "findings", "held"} {
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
	Segment   string `db:"segment"`
	Element   string `db:"element"`
	Nearest   string `db:"nearest"`
	Number    string `db:"number"`
}

func (r *findingRow) finding() finding.Finding {
	p := origin.Place{Sheet: r.Sheet, Row: r.Row, Column: r.Col, Mapping: r.InMapping, Pointer: r.Pointer,
		Line: r.SourceLn, Segment: r.Segment, Element: r.Element}
	return finding.Finding{Code: finding.Code(r.Code), Severity: finding.Severity(r.Severity), Place: p, At: p.String(),
		Order: r.Seq, Line: r.Line, Field: r.Field, Value: r.Value, Message: r.Message, Hint: r.Hint, List: r.List,
		Nearest: r.Nearest, Number: r.Number}
}

const findingColumns = `n, seq, line, code, severity, sheet, row, col, in_mapping, field, value, message, hint, pointer, source_line, list, segment, element, nearest,
  coalesce((SELECT sender_number FROM load_orders o WHERE o.load_id = findings.load_id AND o.seq = findings.seq), '') AS number`

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

// Numbered is a finding with its number in the load, by which pages are addressed.
type Numbered struct {
	N int
	finding.Finding
}

// Findings lists a load's findings in the order in which they were found, or by place if rows of a sheet are requested.
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
	err := s.r.SelectContext(ctx, &rows, `SELECT `+findingColumns+` FROM findings WHERE `+strings.Join(where, " AND ")+
		` ORDER BY `+by+` LIMIT ?`, append(args, f.Limit)...)
	list := make([]Numbered, len(rows))
	for i := range rows {
		list[i] = Numbered{rows[i].N, rows[i].finding()}
	}
	return list, err
}

// Reasons groups a load's findings by code and field, errors first, then by frequency.
func (s *Store) Reasons(ctx context.Context, load int64) ([]report.Reason, error) {
	var rows []struct {
		report.Reason
		First int `db:"first"`
	}
	err := s.r.SelectContext(ctx, &rows,
		`SELECT code, severity, field, count(*) AS count, count(DISTINCT seq) AS orders,
	  count(DISTINCT value) AS "values", min(n) AS first FROM findings WHERE load_id = ?
	  GROUP BY severity, code, field ORDER BY severity, count(*) DESC, code, field`, load)
	if err != nil {
		return nil, err
	}
	list := make([]report.Reason, len(rows))
	for i, r := range rows {
		var first findingRow
		if err := s.r.GetContext(ctx, &first, `SELECT `+findingColumns+` FROM findings WHERE load_id = ? AND n = ?`,
			load, r.First); err != nil {
			return nil, err
		}
		list[i] = r.Reason
		list[i].Title, list[i].Example = finding.Catalogue[r.Code].Title, first.finding()
	}
	return list, nil
}

const outcomeColumns = `seq, outcome, coalesce(order_id, 0) AS orderid, coalesce(number, '') AS number, coalesce(sender_number, '') AS sendernumber, lines, errors, warnings`

// changedInLoad is what an order of a load changed, or would change: what was changed stands with the order's event.
const changedInLoad = `coalesce((SELECT changes FROM load_changes c WHERE c.load_id = o.load_id AND c.seq = o.seq),
  CASE WHEN o.outcome IN ('changed', 'undone') THEN (SELECT changes FROM events e WHERE e.order_id = o.order_id
    AND e.load_id = o.load_id AND e.load_seq = o.seq ORDER BY e.revision LIMIT 1) END)`

// OutcomeFilter narrows a list of outcomes. Blank fields do not narrow.
type OutcomeFilter struct {
	After   int // seq
	Limit   int
	Outcome string
	Seq     int
}

// Outcomes lists what became of a load's orders, in the document's order, and says whether there are more. There may be
// fewer than the limit, where thousands of lines of an order changed.
func (s *Store) Outcomes(ctx context.Context, load int64, f OutcomeFilter) (list []outcome.OrderOutcome, more bool,
	err error) {
	const which = ` FROM load_orders o WHERE load_id = ? AND seq > ? AND (? = '' OR outcome = ?) AND (? = 0 OR seq = ?)`
	args := []any{load, f.After, f.Outcome, f.Outcome, f.Seq, f.Seq}
	last, more, err := within(ctx, s.r, `SELECT seq AS at, coalesce(length(`+changedInLoad+`), 0) AS size`+which+
		` ORDER BY seq LIMIT ?`, f.Limit, args...)
	if err != nil {
		return nil, false, err
	}
	var rows []struct {
		outcome.OrderOutcome
		Changed sql.NullString `db:"changed"`
	}
	err = s.r.SelectContext(ctx, &rows, `SELECT `+outcomeColumns+
		`, `+changedInLoad+` AS changed`+which+` AND seq <= ? ORDER BY seq`, append(args, last)...)
	list = make([]outcome.OrderOutcome, len(rows))
	for i := range rows {
		list[i] = rows[i].OrderOutcome
		if rows[i].Changed.Valid {
			if list[i].Changes, err = changesFrom(rows[i].Changed.String); err != nil {
				return nil, false, fmt.Errorf("changes of order %d of load %d: %w", list[i].Seq, load, err)
			}
		}
	}
	return list, more, err
}

// Outcome returns the outcome of one order of a load's document.
func (s *Store) Outcome(ctx context.Context, load int64, seq int) (outcome.OrderOutcome, error) {
	list, _, err := s.Outcomes(ctx, load, OutcomeFilter{Seq: seq, Limit: 1})
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("order %d of load %d: %w", seq, load, ErrNotFound)
	}
	if err != nil {
		return outcome.OrderOutcome{}, err
	}
	return list[0], nil
}

// FailedSpans lists the rows of a load's orders that were not stored.
func (s *Store) FailedSpans(ctx context.Context, load int64) ([]outcome.SpanOutcome, error) {
	list := []outcome.SpanOutcome{}
	err := s.r.SelectContext(ctx, &list,
		`SELECT s.sheet, s.first, s.last, o.seq, o.outcome FROM load_spans s JOIN load_orders o ON o.load_id = s.load_id AND o.seq = s.seq
	  WHERE s.load_id = ? AND o.outcome IN (?, ?, ?) ORDER BY s.sheet, s.first`, load, outcome.Refused, outcome.Held, outcome.Withheld)
	return list, err
}

// Spans lists runs of rows with their orders' outcomes, in the order of rows, that overlap the rows from first to last;
// limit 0 means all.
func (s *Store) Spans(ctx context.Context, load int64, sheet string, first, last, limit int) ([]outcome.SpanOutcome,
	error) {
	if limit == 0 {
		limit = -1
	}
	list := []outcome.SpanOutcome{}
	err := s.r.SelectContext(ctx, &list, `SELECT s.sheet, s.first, s.last, `+
		strings.NewReplacer("seq,", "o.seq,").Replace(outcomeColumns)+`
	  FROM load_spans s JOIN load_orders o ON o.load_id = s.load_id AND o.seq = s.seq
	  WHERE s.load_id = ? AND s.sheet = ? AND s.first <= ? AND s.last >= ? ORDER BY s.first LIMIT ?`, load, sheet, last, first, limit)
	return list, err
}

// SpansFrom lists at most limit runs of rows with their orders' outcomes behind a row, in the order of rows.
func (s *Store) SpansFrom(ctx context.Context, load int64, after, limit int) ([]outcome.SpanOutcome, error) {
	list := []outcome.SpanOutcome{}
	err := s.r.SelectContext(ctx, &list, `SELECT s.sheet, s.first, s.last, `+
		strings.NewReplacer("seq,", "o.seq,").Replace(outcomeColumns)+`
	  FROM load_spans s JOIN load_orders o ON o.load_id = s.load_id AND o.seq = s.seq
	  WHERE s.load_id = ? AND s.sheet = '' AND s.first > ? ORDER BY s.first LIMIT ?`, load, after, limit)
	return list, err
}

// FirstRow is the first row of a sheet that belongs to an order of the load; 0 if there is none.
func (s *Store) FirstRow(ctx context.Context, load int64, sheet string) (row int, err error) {
	err = s.r.GetContext(ctx, &row, `SELECT coalesce(min(first), 0) FROM load_spans WHERE load_id = ? AND sheet = ?`,
		load, sheet)
	return row, err
}

// Sheets lists the sheets in which the load found orders, by name. A CSV has one without a name.
func (s *Store) Sheets(ctx context.Context, load int64) ([]string, error) {
	sheets := []string{}
	err := s.r.SelectContext(ctx, &sheets, `SELECT DISTINCT sheet FROM load_spans WHERE load_id = ? ORDER BY sheet`,
		load)
	return sheets, err
}

// Misses groups the values that lists and crosswalks did not know during a load, by list, the most frequent first.
func (s *Store) Misses(ctx context.Context, load int64) ([]reading.Miss, error) {
	var rows []struct {
		List  string `db:"list"`
		Code  string `db:"code"`
		Value string `db:"value"`
		Count int    `db:"count"`
		Near  string `db:"nearest"`
	}
	err := s.r.SelectContext(ctx, &rows,
		`SELECT list, code, value, count(*) AS count, max(nearest) AS nearest FROM findings
	  WHERE load_id = ? AND list <> '' AND code IN (?, ?, ?) GROUP BY list, code, value ORDER BY list, count(*) DESC, value`,
		load, string(finding.CrosswalkMissing), string(finding.UnknownCode), string(finding.UnknownUnit))
	list := make([]reading.Miss, len(rows))
	for i, r := range rows {
		list[i] = reading.Miss{List: r.List, Crosswalk: r.Code == string(finding.CrosswalkMissing), Value: r.Value,
			Count: r.Count, Nearest: r.Near}
	}
	return list, err
}
