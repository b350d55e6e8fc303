package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"sync"
	"time"

	"koinos/api"
	"koinos/core/uses"
)

type systemRow struct {
	Name     string `db:"name"`
	Version  int    `db:"version"`
	Text     string `db:"text"`
	StoredAt string `db:"stored_at"`
	StoredBy string `db:"stored_by"`
}

func (r *systemRow) system() api.System {
	return api.System{Name: r.Name, Version: r.Version, Text: r.Text, StoredAt: parseTime(r.StoredAt),
		StoredBy: r.StoredBy}
}

// PutSystem stores a system's description. If its text is new, it becomes a new version.
func (s *Store) PutSystem(ctx context.Context, y api.System) (kept api.System, err error) {
	version, err := s.putText(ctx, uses.System, y.Name, y.Text, y.StoredBy, y.StoredAt)
	if err != nil {
		return kept, err
	}
	return s.System(ctx, y.Name, version)
}

// System returns a version of a description; 0 is the newest.
func (s *Store) System(ctx context.Context, name string, version int) (api.System, error) {
	var row systemRow
	err := s.r.GetContext(ctx, &row, `SELECT * FROM systems WHERE name = ? AND (? = 0 OR version = ?)
	  ORDER BY version DESC LIMIT 1`, name, version, version)
	return row.system(), named(err, "system %s", name)
}

// Systems lists the newest versions of all descriptions, by name.
func (s *Store) Systems(ctx context.Context) ([]api.System, error) {
	var rows []systemRow
	err := s.r.SelectContext(ctx, &rows, `SELECT y.* FROM systems y
	  WHERE version = (SELECT max(version) FROM systems WHERE name = y.name) ORDER BY name`)
	list := make([]api.System, len(rows))
	for i := range rows {
		list[i] = rows[i].system()
	}
	return list, err
}

type pullRow struct {
	api.Pull
	Started string         `db:"started_at"`
	Ended   sql.NullString `db:"ended_at"`
	Besides string         `db:"also"`
	Reads   string         `db:"reading"`
}

const selectPull = `SELECT id, system, version, record, mapping, since, newest, next, state, reason, pages, records,
  unchanged, gone, short, loaded, changed, failed, started_at, ended_at, by, coalesce(hook, 0) hook,
  folder, waiting, refused, key, everything "all", also, reading, passed FROM pulls `

func (s *Store) pulls(ctx context.Context, q querier, where string, args ...any) ([]api.Pull, error) {
	var rows []pullRow
	if err := q.SelectContext(ctx, &rows, selectPull+where, args...); err != nil {
		return nil, err
	}
	list := make([]api.Pull, len(rows))
	for i := range rows {
		list[i] = rows[i].Pull
		if err := errors.Join(json.Unmarshal([]byte(rows[i].Besides), &list[i].Also),
			json.Unmarshal([]byte(rows[i].Reads), &list[i].Reading)); err != nil {
			return nil, err
		}
		list[i].StartedAt, list[i].EndedAt = parseTime(rows[i].Started), parseTime(rows[i].Ended.String)
		if err := q.SelectContext(ctx, &list[i].Loads, `SELECT DISTINCT load_id FROM arrivals
		  WHERE pull_id = ? AND load_id IS NOT NULL ORDER BY load_id`, list[i].ID); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// AddPull records a pull that begins, with its job; it sets the pull's ID.
func (s *Store) AddPull(ctx context.Context, p *api.Pull) error {
	return s.Write(ctx, func(t *Tx) error { return t.addPull(p) })
}

func (t *Tx) addPull(p *api.Pull) error {
	if err := t.notePull(p); err != nil {
		return err
	}
	return t.AddJob(api.Job{Kind: api.PullJob, Subject: p.ID, DueAt: p.StartedAt, Key: p.System})
}

// NotePull records a pull that has begun without a job; it sets the pull's ID. If the service ends before the pull
// does, AdoptPulls gives it one.
func (s *Store) NotePull(ctx context.Context, p *api.Pull) error {
	before := p.ID
	err := s.Write(ctx, func(t *Tx) error { return t.notePull(p) })
	if err != nil {
		p.ID = before // it is not stored: a commit can fail after the row has its id
	}
	return err
}

// AdoptPulls gives a job to every pull that has not ended and has none.
func (s *Store) AdoptPulls(ctx context.Context, now time.Time) error {
	return s.Write(ctx, func(t *Tx) error {
		t.after = append(t.after, s.work.Broadcast)
		return t.run(`INSERT INTO jobs (kind, subject, state, due_at, key) SELECT 'pull', id, 'ready', ?, system FROM pulls p
		  WHERE state IN ('running', 'away') AND NOT EXISTS (SELECT 1 FROM jobs WHERE kind = 'pull' AND subject = p.id)`, at(now))
	})
}

func (t *Tx) notePull(p *api.Pull) error {
	also, err := json.Marshal(append([]string{}, p.Also...))
	if err != nil {
		return err
	}
	reading, err := json.Marshal(p.Reading)
	if err != nil {
		return err
	}
	res, err := t.exec(`INSERT INTO pulls (system, version, record, mapping, since, state, started_at, by, hook, folder, newest, key, everything, also,
	  reading) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, p.System, p.Version, p.Record, p.Mapping, p.Since, p.State, at(p.StartedAt), p.By,
		ref(p.Hook), p.Folder, p.Newest, p.Key, p.All, string(also), string(reading))
	if err != nil {
		return err
	}
	p.ID, err = res.LastInsertId()
	return err
}

// SaveLinks stores links that a batch brought up to date.
func (t *Tx) SaveLinks(all []api.Link, now time.Time) error {
	for i := range all {
		if err := t.putLink(&all[i], now); err != nil {
			return err
		}
		if err := t.wakeAfter(all[i].OrderID, now); err != nil {
			return err
		}
	}
	return nil
}

// SavePull stores how far a pull has come.
func (t *Tx) SavePull(p *api.Pull) error {
	var ended any
	if !p.EndedAt.IsZero() {
		ended = at(p.EndedAt)
	}
	return t.run(`UPDATE pulls SET newest = ?, next = ?, state = ?, reason = ?, pages = ?, records = ?, unchanged = ?, gone = ?,
	  short = ?, loaded = ?, changed = ?, failed = ?, ended_at = ?, waiting = ?, refused = ?,
	  passed = ? WHERE id = ?`, p.Newest, p.Next, p.State, p.Reason, p.Pages,
		p.Records, p.Unchanged, p.Gone, p.Short, p.Loaded, p.Changed, p.Failed, ended, p.Waiting, p.Refused, p.Passed,
		p.ID)
}

// Pull returns a pull.
func (s *Store) Pull(ctx context.Context, id int64) (api.Pull, error) {
	list, err := s.pulls(ctx, s.r, `WHERE id = ?`, id)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("pull %d: %w", id, ErrNotFound)
	}
	if err != nil {
		return api.Pull{}, err
	}
	return list[0], nil
}

// Pulls lists pulls of a system, or of all if it is blank, newest first.
func (s *Store) Pulls(ctx context.Context, system string, before int64, limit int) ([]api.Pull, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	return s.pulls(ctx, s.r, `WHERE (? = '' OR system = ?) AND id < ? ORDER BY id DESC LIMIT ?`, system, system, before,
		limit)
}

// HurryPulls makes pulls due that wait because their systems were away.
func (s *Store) HurryPulls(ctx context.Context, systems []string, now time.Time) error {
	list, err := json.Marshal(systems)
	if err != nil {
		return err
	}
	return s.Write(ctx, func(t *Tx) error {
		t.after = append(t.after, s.work.Broadcast)
		return t.run(`UPDATE jobs SET due_at = ? WHERE kind = 'pull' AND state = 'ready' AND subject IN (SELECT id FROM pulls
		  WHERE state = 'away' AND system IN (SELECT value FROM json_each(?)))`, at(now), string(list))
	})
}

// OpenPulls counts the pulls of a kind of record that have not ended.
func (s *Store) OpenPulls(ctx context.Context, system, record string) (n int, err error) {
	err = s.r.GetContext(ctx, &n, `SELECT count(*) FROM pulls WHERE system = ? AND record = ?
	  AND state IN ('running', 'away')`, system, record)
	return n, err
}

// Watermark is the newest stamp of a kind of record up to which everything was read; "" if there is none.
func (s *Store) Watermark(ctx context.Context, system, record string, reading api.Reading) (stamp string, err error) {
	text, err := json.Marshal(reading)
	if err == nil {
		err = s.r.GetContext(ctx, &stamp, `SELECT coalesce((SELECT newest FROM pulls WHERE system = ? AND record = ?
		  AND state = 'done' AND newest <> '' AND reading = ? ORDER BY id DESC LIMIT 1), '')`, system, record, string(text))
	}
	return stamp, err
}

// KnownArrival is the newest known arrival of a record.
type KnownArrival struct {
	Key     string `db:"key"`
	Version string `db:"version"`
	Stamp   string `db:"stamp"`
	State   string `db:"state"`
	Digest  []byte `db:"digest"`
	Mapped  bool   `db:"mapped"` // it, or one before it, was mapped
	Here    bool   `db:"-"`      // it came on the page that is at work
}

// ShortArrivals returns the records of a kind that were incomplete when they came last.
func (s *Store) ShortArrivals(ctx context.Context, system, record string) (all []KnownArrival, err error) {
	err = s.r.SelectContext(ctx, &all, `SELECT key, version, stamp, state, digest FROM arrivals n
	  WHERE system = ? AND record = ? AND state = 'short' AND NOT EXISTS (SELECT 1 FROM arrivals m
	    WHERE m.system = n.system AND m.record = n.record AND m.key = n.key AND m.id > n.id) ORDER BY id`, system, record)
	return all, err
}

// KnownArrivals returns the newest arrivals of keys, by key.
func (s *Store) KnownArrivals(ctx context.Context, system, record string, keys []string) (map[string]KnownArrival,
	error) {
	list, err := json.Marshal(keys)
	if err != nil {
		return nil, err
	}
	var rows []KnownArrival
	if err := s.r.SelectContext(ctx, &rows, `SELECT key, version, stamp, state, digest, EXISTS (SELECT 1 FROM arrivals m
	    WHERE m.system = n.system AND m.record = n.record AND m.key = n.key AND m.state = 'mapped') mapped
	  FROM arrivals n WHERE id IN
	  (SELECT max(a.id) FROM arrivals a WHERE a.system = ? AND a.record = ? AND a.key IN (SELECT value FROM json_each(?)) GROUP BY a.key)`,
		system, record, string(list)); err != nil {
		return nil, err
	}
	known := make(map[string]KnownArrival, len(rows))
	for _, r := range rows {
		known[r.Key] = r
	}
	return known, nil
}

var arrivalColumns = columnsOf("arrivals", "system", "record", "key", "number", "version", "stamp", "state", "digest",
	"body", "at",
	"pull_id", "request", "place", "document", "line", "load_id")

// zippers are reused, because each has tables of a megabyte.
var zippers = sync.Pool{New: func() any {
	w, _ := gzip.NewWriterLevel(nil, gzip.BestSpeed) // the level is a good one
	return w
}}

// Zip compresses an arrival's bytes in the form in which they are stored.
func Zip(b []byte) ([]byte, error) {
	var out bytes.Buffer
	w := zippers.Get().(*gzip.Writer)
	defer zippers.Put(w)
	w.Reset(&out)
	if _, err := w.Write(b); err != nil {
		return nil, err
	}
	err := w.Close()
	return out.Bytes(), err
}

// AddArrivals stores arrivals; their bodies are compressed already (Zip).
func (t *Tx) AddArrivals(all []api.Arrival) error {
	rows := t.bulk(arrivalColumns)
	for i := range all {
		a := &all[i]
		rows.row().Text(a.System).Text(a.Record).Text(a.Key).Text(a.Number).Text(a.Version).Text(a.Stamp).
			Text(a.State).Bytes(a.Digest).Bytes(a.Body).Text(at(a.At)).Int64(a.Pull).Text(a.Request).Text(a.Place).
			TextOrNull(a.Document).Int(a.Line).Int64OrNull(a.Load)
	}
	return rows.done()
}

type arrivalRow struct {
	api.Arrival
	Came string         `db:"at"`
	Doc  sql.NullString `db:"document"`
	Took sql.NullInt64  `db:"load_id"`
	Of   int64          `db:"pull_id"`
}

const selectArrival = `SELECT id, system, record, key, number, version, stamp, state, at, pull_id, request, place, document, line, load_id
  FROM arrivals `

func (r *arrivalRow) arrival() api.Arrival {
	a := r.Arrival
	a.At, a.Document, a.Load, a.Pull = parseTime(r.Came), r.Doc.String, r.Took.Int64, r.Of
	return a
}

// ArrivalFilter chooses arrivals.
type ArrivalFilter struct {
	System, Record, Key string
	Pull, Before        int64
	Limit               int
}

// Arrivals lists arrivals without their bytes, newest first.
func (s *Store) Arrivals(ctx context.Context, f ArrivalFilter) ([]api.Arrival, error) {
	if f.Before == 0 {
		f.Before = math.MaxInt64
	}
	where, args := `WHERE id < ?`, []any{f.Before}
	if f.Pull != 0 {
		where, args = where+` AND pull_id = ?`, append(args, f.Pull)
	}
	if f.System != "" {
		where, args = where+` AND system = ?`, append(args, f.System)
	}
	if f.Record != "" {
		where, args = where+` AND record = ?`, append(args, f.Record)
	}
	if f.Key != "" {
		where, args = where+` AND (key = ? OR number = ?)`, append(args, f.Key, f.Key)
	}
	var rows []arrivalRow
	if err := s.r.SelectContext(ctx, &rows, selectArrival+where+` ORDER BY id DESC LIMIT ?`,
		append(args, f.Limit)...); err != nil {
		return nil, err
	}
	list := make([]api.Arrival, len(rows))
	for i := range rows {
		list[i] = rows[i].arrival()
	}
	return list, nil
}

// ArrivalBody returns an arrival's bytes as they came; ErrNotFound if they are not stored any more.
func (s *Store) ArrivalBody(ctx context.Context, id int64) ([]byte, error) {
	var zipped []byte
	err := s.r.GetContext(ctx, &zipped, `SELECT body FROM arrivals WHERE id = ? AND body IS NOT NULL`, id)
	if err != nil {
		return nil, named(err, "arrival %d whose bytes are kept", id)
	}
	return unzip(zipped)
}

// LastArrival returns the newest arrival of a record with its bytes; nil if there is none, and no bytes if they are not
// stored any more.
func (s *Store) LastArrival(ctx context.Context, system, record, key string) (*api.Arrival, []byte, error) {
	var rows []arrivalRow
	if err := s.r.SelectContext(ctx, &rows, selectArrival+`WHERE system = ? AND record = ? AND key = ?
	  ORDER BY id DESC LIMIT 1`, system, record, key); err != nil || len(rows) == 0 {
		return nil, nil, err
	}
	a := rows[0].arrival()
	body, err := s.ArrivalBody(ctx, a.ID)
	if errors.Is(err, ErrNotFound) {
		body, err = nil, nil
	}
	return &a, body, err
}

// MappedKeys lists keys of records behind one that were mapped when they came last.
func (s *Store) MappedKeys(ctx context.Context, system, record, after string, limit int) ([]string, error) {
	var keys []string
	err := s.r.SelectContext(ctx, &keys, `SELECT key FROM (SELECT key, state, max(id) FROM arrivals
	  WHERE system = ? AND record = ? AND key > ? GROUP BY key) WHERE state = 'mapped' ORDER BY key LIMIT ?`, system, record,
		after, limit)
	return keys, err
}

func unzip(zipped []byte) ([]byte, error) {
	r, err := gzip.NewReader(bytes.NewReader(zipped))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// ArrivalAt returns the arrival that is a line of a document; an ID of 0 means none.
func (s *Store) ArrivalAt(ctx context.Context, document string, line int) (api.Arrival, error) {
	var rows []arrivalRow
	if err := s.r.SelectContext(ctx, &rows, selectArrival+`WHERE document = ? AND line = ? ORDER BY id LIMIT 1`,
		document,
		line); err != nil || len(rows) == 0 {
		return api.Arrival{}, err
	}
	return rows[0].arrival(), nil
}
