package store

import (
	"context"
	"errors"
	"time"

	"koinos/api"
)

// sameContent says in SQL that an interchange that came has the content ?4: of those that came
// before contents were kept, that it is the document ?5.
const sameContent = `(content = ?4 OR content = '' AND document = ?5)`

// KnownControl gives the first interchanges with the control number of one that came from the
// same partner before it: one with the same content, and one with other content; 0 is none. What
// was rejected is none: it is to come again.
func (s *Store) KnownControl(ctx context.Context, i *api.Interchange) (same, other int64, err error) {
	err = s.r.QueryRowxContext(ctx, `SELECT coalesce(min(CASE WHEN `+sameContent+` THEN id END), 0),
		coalesce(min(CASE WHEN NOT `+sameContent+` THEN id END), 0) FROM interchanges
		WHERE partner = ?1 AND direction = 'in' AND control = ?2 AND id < ?3 AND state NOT IN ('duplicate', 'rejected')`,
		i.Partner, i.Control, i.ID, i.Content, i.Document).Scan(&same, &other)
	return same, other, err
}

// KnownGroup gives the first other interchange of the partner in which a functional group of a control number came; 0
// is none. Leading zeros do not count, and what was rejected is to come again.
func (s *Store) KnownGroup(ctx context.Context, i *api.Interchange, control string) (id int64, err error) {
	err = s.r.GetContext(ctx, &id, `SELECT coalesce(min(i.id), 0) FROM sets s JOIN interchanges i ON i.id = s.interchange
		WHERE ltrim(s.group_control, '0') = ltrim(?, '0') AND s.state NOT IN ('duplicate', 'doubtful', 'rejected')
		AND i.partner = ? AND i.direction = 'in' AND i.id < ?`, control, i.Partner, i.ID)
	return id, err
}

// Taken gives the interchange that an arrival is already: it was kept before the service ended,
// or the same is being read right now. 0 is none.
func (t *Tx) Taken(i *api.Interchange) (id int64, err error) {
	err = t.GetContext(t.ctx, &id,
		`SELECT coalesce(min(id), 0) FROM interchanges WHERE partner = ?1 AND direction = 'in'
		AND control = ?2 AND `+sameContent+` AND (?3 <> '' AND arrival = ?3 OR state IN ('arriving', 'received'))`,
		i.Partner, i.Control, i.Arrival, i.Content, i.Document)
	return id, err
}

// Answer makes the answer to an interchange leave once more, where it has one that left. It reports
// whether it has one.
func (t *Tx) Answer(id int64, now time.Time) (bool, error) {
	var answers []int64
	if err := t.SelectContext(t.ctx, &answers, `SELECT id FROM interchanges WHERE answers = ? AND direction = 'out'
		AND control > 0`, id); err != nil {
		return false, err
	}
	for _, a := range answers {
		if err := errors.Join(t.run(`UPDATE interchanges SET state = ? WHERE id = ?`, api.StateReady, a),
			t.AddInterchangeJob(a, now)); err != nil {
			return false, err
		}
	}
	return len(answers) > 0, nil
}

// Rule keeps what a person says of an interchange that is doubtful, which is then read anew. It
// reports whether there was something to say.
func (t *Tx) Rule(id int64, ruling, by string) (bool, error) {
	res, err := t.exec(`UPDATE interchanges SET ruling = ?, ruled_by = ?, state = ? WHERE id = ? AND state = ?`, ruling,
		by,
		api.StateArriving, id, api.StateDoubtful)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}
