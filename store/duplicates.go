package store

import (
	"context"
	"errors"
	"time"

	"koinos/api"
)

// sameContent is the SQL condition that an interchange that came has the content ?4. Interchanges that came before
// contents were stored are compared by the document ?5.
const sameContent = `(content = ?4 OR content = '' AND document = ?5)`

// readBefore is the SQL condition that the interchange i was read before the interchange ?3. One whose sender was
// unknown when it came is read later than those that came after it, once somebody has described the sender.
const readBefore = `(i.id < ?3 OR i.state NOT IN ('arriving', 'unknown', 'doubtful') AND i.ruling <> 'let_in')`

// KnownControl returns the first earlier interchanges from the same partner with the same control number: one with the
// same content, and one with other content; 0 if there is none. Rejected interchanges do not count, because they are to
// be sent again.
func (s *Store) KnownControl(ctx context.Context, i *api.Interchange) (same, other int64, err error) {
	err = s.r.QueryRowxContext(ctx, `SELECT coalesce(min(CASE WHEN `+sameContent+` THEN id END), 0),
		coalesce(min(CASE WHEN NOT `+sameContent+` THEN id END), 0) FROM interchanges i
		WHERE partner = ?1 AND direction = 'in' AND control = ?2 AND id <> ?3 AND state NOT IN ('duplicate', 'rejected')
		AND `+readBefore,
		i.Partner, i.Control, i.ID, i.Content, i.Document).Scan(&same, &other)
	return same, other, err
}

// KnownGroup returns the first other interchange of the partner that contains a functional group with a control number;
// 0 if there is none. Leading zeros are ignored. Rejected interchanges do not count, because they are to be sent again.
func (s *Store) KnownGroup(ctx context.Context, i *api.Interchange, control string) (id int64, err error) {
	err = s.r.GetContext(ctx, &id, `SELECT coalesce(min(i.id), 0) FROM sets s JOIN interchanges i ON i.id = s.interchange
		WHERE ltrim(s.group_control, '0') = ltrim(?1, '0') AND s.state NOT IN ('duplicate', 'doubtful', 'rejected')
		AND i.partner = ?2 AND i.direction = 'in' AND i.id <> ?3 AND `+readBefore, control, i.Partner, i.ID)
	return id, err
}

// Taken returns the interchange that an arrival has become already: it was stored before the service ended, or the same
// is being read right now. 0 is none.
func (t *Tx) Taken(i *api.Interchange) (id int64, err error) {
	err = t.GetContext(t.ctx, &id,
		`SELECT coalesce(min(id), 0) FROM interchanges WHERE partner = ?1 AND direction = 'in'
		AND control = ?2 AND `+sameContent+` AND (?3 <> '' AND arrival = ?3 OR state IN ('arriving', 'received'))`,
		i.Partner, i.Control, i.Arrival, i.Content, i.Document)
	return id, err
}

// Answer sends the answer to an interchange once more, if one was sent before. It reports whether there is one.
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

// Rule stores a person's decision about a doubtful interchange, which is then read again. It reports whether there was
// anything to decide.
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
