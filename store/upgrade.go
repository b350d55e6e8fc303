package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
)

// carryOver converts what earlier versions stored differently, after migration 5: shipped and invoiced quantities
// become movements and invoices, what partners answered becomes answers, and changes and traces name places by their
// parts.
func carryOver(ctx context.Context, tx *sql.Tx) error {
	u := upgrade{ctx, tx}
	for _, step := range []func() error{u.mappings, u.orders, u.events, u.changes, u.sets, u.held} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

type upgrade struct {
	ctx context.Context
	tx  *sql.Tx
}

// each reads all rows of a query, as texts, before it passes them to f, because f may write.
func (u *upgrade) each(query string, f func(row []string) error, args ...any) error {
	rows, err := u.tx.QueryContext(u.ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	var all [][]string
	for rows.Next() {
		values := make([]sql.NullString, len(columns))
		into := make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		row := make([]string, len(columns))
		for i := range values {
			row[i] = values[i].String
		}
		all = append(all, row)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, row := range all {
		if err := f(row); err != nil {
			return err
		}
	}
	return nil
}

func (u *upgrade) exec(query string, args ...any) error {
	_, err := u.tx.ExecContext(u.ctx, query, args...)
	return err
}

// oldNotice and ownWord find, in a mapping that copied a standard one, what its records were called before notices had
// kinds of their own.
var (
	oldNotice = regexp.MustCompile(`(?m)^\s*set: "?(855|856|860|865|810)"?\s*$`)
	ownWord   = regexp.MustCompile(`(?m)^(\s*)custom\.(answer|answered_on|accepted|accepted_unit|due_on|change|change_number|changed_on|shipment|shipped_on|shipped_at|told_on|shipped_to_date|invoice|invoiced_on|packages|carrier|tracking):(.*)$`)
	typeWord  = regexp.MustCompile(`, type: \w+`)
)

var noticeKind = map[string]string{"855": "answer", "865": "answer", "856": "shipment", "860": "change",
	"810": "invoice"}

// mappings makes a next version of mappings of notices that say kind: sales; it states the notices' kind.
func (u *upgrade) mappings() error {
	return u.each(`SELECT name, version, text, stored_at FROM mappings m WHERE version = (SELECT max(version)
		FROM mappings WHERE name = m.name) AND text LIKE '%kind: sales%'`, func(r []string) error {
		set := oldNotice.FindStringSubmatch(r[2])
		if set == nil {
			return nil
		}
		text := strings.Replace(r[2], "kind: sales", "kind: "+noticeKind[set[1]], 1)
		text = strings.Replace(text, "  again: {do: update, lines: number}\n", "", 1)
		text = ownWord.ReplaceAllStringFunc(text, func(line string) string {
			line = typeWord.ReplaceAllString(strings.Replace(line, "custom.", "", 1), "")
			if set[1] == "810" {
				line = strings.Replace(line, "shipment:", "billed_shipment:", 1)
			}
			return line
		})
		if _, err := mapping.Parse([]byte(text)); err != nil {
			return nil // it stays as it is, and says what is wrong when it is used
		}
		return u.exec(`INSERT INTO mappings SELECT name, version + 1, ?, stored_at, 'koinos' FROM mappings
			WHERE name = ? AND version = ?`, text, r[0], r[1])
	})
}

// Words that notices stored in custom fields of orders and of lines.
var (
	orderWords = []string{"answer", "answered_on", "change_number", "changed_on", "shipment", "shipped_on",
		"shipped_at", "told_on", "invoice", "invoiced_on", "packages", "carrier", "tracking", "due_on"}
	lineWords = []string{"answer", "accepted", "accepted_unit", "due_on", "change", "shipped_to_date", "invoiced"}
)

// taken are the custom fields that a notice had filled; they are removed from list.
func taken(list *[]order.Custom, words []string) map[string]string {
	found := map[string]string{}
	*list = slices.DeleteFunc(*list, func(c order.Custom) bool {
		if slices.Contains(words, c.Name) {
			found[c.Name] = c.Value
			return true
		}
		return false
	})
	if len(*list) == 0 {
		*list = nil
	}
	return found
}

// orders gives orders their movements, invoices and answers.
func (u *upgrade) orders() error {
	return u.each(`SELECT o.id, o.kind, o.number, o.partner, o.revision, o.more, (SELECT at FROM events e WHERE e.order_id = o.id ORDER BY n DESC LIMIT 1),
	  (SELECT group_concat(DISTINCT s.kind) FROM sets s JOIN interchanges i ON i.id = s.interchange WHERE s.order_id = o.id AND i.direction = 'in' AND s.state = 'done')
	  FROM orders o WHERE EXISTS (SELECT 1 FROM lines l WHERE l.order_id = o.id AND (l.more LIKE '%"shipped"%' OR l.more LIKE '%"received"%'))
	  OR EXISTS (SELECT 1 FROM sets s WHERE s.order_id = o.id)`, u.order)
}

func (u *upgrade) order(r []string) error {
	var head order.Order
	if r[5] != "" {
		if err := json.Unmarshal([]byte(r[5]), &head); err != nil {
			return fmt.Errorf("order %s: %w", r[0], err)
		}
	}
	notices := r[7] != ""
	said := map[string]string{}
	if notices {
		said = taken(&head.Custom, orderWords)
	}
	answer := order.Answered{Code: said["answer"], On: order.Date(said["answered_on"])}
	moved := map[order.MovementKind]map[int]order.Number{order.Shipment: {}, order.Receipt: {}}
	var numbers = map[string]int{} // id of a line by its number
	err := u.each(`SELECT n, id, quantity, more FROM lines WHERE order_id = ? AND more IS NOT NULL`,
		func(l []string) error {
			var line order.Line
			if err := json.Unmarshal([]byte(l[3]), &line); err != nil {
				return fmt.Errorf("order %s line %s: %w", r[0], l[0], err)
			}
			n := atoi(l[0])
			id := atoi(l[1])
			for kind := range moved {
				if q := line.Moved(kind); q.Sign() > 0 {
					moved[kind][id] = *q
				}
			}
			line.Shipped, line.Received = order.Number{}, order.Number{}
			if notices {
				own := taken(&line.Custom, lineWords)
				if own["answer"] != "" {
					quantity, err := order.ParseNumber(own["accepted"])
					if err != nil {
						return err
					}
					answer.Lines = append(answer.Lines, order.AnsweredLine{Line: id, Code: own["answer"],
						Quantity: quantity, Unit: own["accepted_unit"], DueOn: order.Date(own["due_on"])})
				}
			}
			more, err := appendLine(nil, &line, n)
			if err != nil {
				return err
			}
			return u.exec(`UPDATE lines SET more = ? WHERE order_id = ? AND n = ?`, null(string(more)), r[0], n)
		}, r[0])
	if err != nil {
		return err
	}
	if err := u.each(`SELECT id, coalesce(json_extract(more, '$.number'), n) FROM lines WHERE order_id = ?`,
		func(l []string) error {
			numbers[l[1]] = atoi(l[0])
			return nil
		}, r[0]); err != nil {
		return err
	}
	head.Statement = nil
	more, err := appendHeader(nil, &head)
	if err != nil {
		return err
	}
	if err := u.exec(`UPDATE orders SET more = ? WHERE id = ?`, null(string(more)), r[0]); err != nil {
		return err
	}
	if answer.Code != "" || len(answer.Lines) > 0 {
		if err := u.answer(r[0], answer); err != nil {
			return err
		}
	}
	if err := u.notices(r, numbers, moved[order.Shipment]); err != nil {
		return err
	}
	for kind, lines := range moved {
		if err := u.rest(r, kind, lines); err != nil {
			return err
		}
	}
	return nil
}

func (u *upgrade) answer(id string, a order.Answered) error {
	return u.each(`SELECT max(revision) FROM events WHERE order_id = ? AND action IN ('855 received', '865 received')`,
		func(r []string) error {
			a.Revision = atoi(r[0])
			text, err := json.Marshal(a)
			if err != nil {
				return err
			}
			return u.exec(`INSERT INTO answers (order_id, revision, content) VALUES (?, ?, ?)`, id, a.Revision,
				string(text))
		}, id)
}

// notices makes movements and invoices of the shipments and invoices that a partner was told about, and deducts what
// they shipped from left.
func (u *upgrade) notices(o []string, numbers map[string]int, left map[int]order.Number) error {
	return u.each(`SELECT s.kind, s.said, s.order_revision FROM sets s JOIN interchanges i ON i.id = s.interchange
	  WHERE s.order_id = ? AND i.direction = 'in' AND s.state = 'done' AND s.kind IN ('856', '810') AND s.said IS NOT NULL ORDER BY s.interchange, s.seq`, func(s []string) error {
		var view order.Order
		if err := json.Unmarshal([]byte(s[1]), &view); err != nil {
			return fmt.Errorf("order %s: %w", o[0], err)
		}
		said := taken(&view.Custom, orderWords)
		number, day := said["shipment"], said["shipped_on"]
		if s[0] == "810" {
			number, day = said["invoice"], said["invoiced_on"]
		}
		table, id := "movement", int64(0)
		if s[0] == "810" {
			table = "invoice"
			if err := u.exec(`INSERT INTO invoices (partner, number, invoiced_on, currency, total)
				VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`, o[3], number, null(day), null(view.Currency), null(view.StatedTotal.String())); err != nil {
				return err
			}
		} else if err := u.exec(`INSERT INTO movements (kind, partner, number, moved_on) VALUES ('shipment', ?, ?, ?)
			ON CONFLICT DO NOTHING`, o[3], number, null(day)); err != nil {
			return err
		}
		if err := u.tx.QueryRowContext(u.ctx, `SELECT max(id) FROM `+table+`s WHERE partner = ? AND number = ?`, o[3],
			number).Scan(&id); err != nil {
			return err
		}
		for n := range view.Lines {
			l := &view.Lines[n]
			line := numbers[l.Number]
			if line == 0 || l.Quantity.Sign() <= 0 {
				continue
			}
			if s[0] == "810" {
				if err := u.exec(`INSERT INTO invoice_lines (invoice_id, order_id, line_id, n, revision, quantity, unit_price, amount) VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
					id, o[0], line, n+1, s[2], l.Quantity.String(), null(l.UnitPrice.String()),
					null(l.Amount.String())); err != nil {
					return err
				}
				continue
			}
			if l.Quantity.Cmp(left[line]) > 0 {
				continue // it was counted twice, or taken back by hand; what is left is carried over as it stood
			}
			rest, err := left[line].Sub(l.Quantity)
			if err != nil {
				return err
			}
			left[line] = rest
			if err := u.exec(`INSERT INTO movement_lines (movement_id, order_id, line_id, n, revision, quantity)
				VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`, id, o[0], line, n+1, s[2], l.Quantity.String()); err != nil {
				return err
			}
		}
		return nil
	}, o[0])
}

// rest carries over what moved without a notice.
func (u *upgrade) rest(o []string, kind order.MovementKind, lines map[int]order.Number) error {
	var ids []int
	for id, q := range lines {
		if q.Sign() > 0 {
			ids = append(ids, id)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	slices.Sort(ids)
	res, err := u.tx.ExecContext(u.ctx, `INSERT INTO movements (kind, partner, number, moved_on) VALUES (?, ?, ?, ?)`,
		string(kind), o[3], o[2]+"/"+o[4], o[6][:min(10, len(o[6]))])
	if err != nil {
		return err
	}
	movement, err := res.LastInsertId()
	if err != nil {
		return err
	}
	for n, id := range ids {
		if err := u.exec(`INSERT INTO movement_lines (movement_id, order_id, line_id, n, revision, quantity)
			VALUES (?, ?, ?, ?, ?, ?)`, movement, o[0], id, n+1, o[4], lines[id].String()); err != nil {
			return err
		}
	}
	return nil
}

// events converts the places in traces into parts, gives lines of earlier contents their ids, and names what notices
// did.
func (u *upgrade) events() error {
	for from, to := range map[string]string{"860 received": "changed", "855 received": "answered",
		"865 received": "answered", "856 received": "moved", "810 received": "invoiced"} {
		if err := u.exec(`UPDATE events SET action = ? WHERE action = ?`, to, from); err != nil {
			return err
		}
	}
	if err := u.exec(`UPDATE events SET document = (SELECT i.document FROM sets s JOIN interchanges i ON i.id = s.interchange WHERE s.order_id = events.order_id AND s.order_revision = events.revision AND i.direction = 'in' LIMIT 1)
	  WHERE load_id IS NULL`); err != nil {
		return err
	}
	return u.each(`SELECT n, trace, was, changes FROM events WHERE trace IS NOT NULL OR was IS NOT NULL
		OR changes IS NOT NULL`, func(r []string) error {
		trace, err := newTrace(r[1])
		if err != nil {
			return fmt.Errorf("event %s: %w", r[0], err)
		}
		was, err := withLineIDs(r[2])
		if err != nil {
			return fmt.Errorf("event %s: %w", r[0], err)
		}
		changes, err := newChanges(r[3])
		if err != nil {
			return fmt.Errorf("event %s: %w", r[0], err)
		}
		return u.exec(`UPDATE events SET trace = ?, was = ?, changes = ? WHERE n = ?`, null(trace), null(was),
			null(changes), r[0])
	})
}

func (u *upgrade) changes() error {
	return u.each(`SELECT load_id, seq, changes FROM load_changes`, func(r []string) error {
		changes, err := newChanges(r[2])
		if err != nil {
			return fmt.Errorf("load %s: %w", r[0], err)
		}
		return u.exec(`UPDATE load_changes SET changes = ? WHERE load_id = ? AND seq = ?`, changes, r[0], r[1])
	})
}

// newTrace converts a trace of the old form.
func newTrace(text string) (string, error) {
	if text == "" || text == "{}" {
		return "", nil
	}
	var old struct {
		origin.Trace
		Pointers []string `json:"pointers"`
	}
	if err := json.Unmarshal([]byte(text), &old); err != nil {
		return "", err
	}
	t := old.Trace
	t.Records = old.Pointers
	for _, list := range [][]origin.Cell{t.Header, t.Cells} {
		for i := range list {
			if p := list[i].Pointer; strings.HasPrefix(p, "ST ") {
				t.Segments = true
				at := strings.LastIndex(p, " / ")
				list[i].Segment, list[i].Element, list[i].Pointer = p[:max(at, 0)], p[at+3:], ""
			}
		}
	}
	if len(t.Records) > 0 && strings.HasPrefix(t.Records[0], "ST ") {
		t.Segments = true
	}
	if t.Segments {
		for i := range t.Cells {
			if c := &t.Cells[i]; c.Segment == "" && c.Column > 1 {
				c.Element = fmt.Sprintf("%02d", c.Column-1)
			}
		}
		for field, path := range t.Paths {
			t.Paths[field] = strings.TrimPrefix(path, " / ")
		}
	}
	return string(t.AppendJSON(nil)), nil
}

// withLineIDs gives the lines of an earlier content of an order the ids that they have now.
func withLineIDs(text string) (string, error) {
	if text == "" {
		return "", nil
	}
	var o order.Order
	if err := json.Unmarshal([]byte(text), &o); err != nil {
		return "", err
	}
	for i := range o.Lines {
		o.Lines[i].ID = i + 1
	}
	b, err := json.Marshal(&o)
	return string(b), err
}

func newChanges(text string) (string, error) {
	if text == "" || text == "null" {
		return "", nil
	}
	var old []struct {
		order.Change
		Row int `json:"row"`
	}
	if err := json.Unmarshal([]byte(text), &old); err != nil {
		return "", err
	}
	list := make([]order.Change, len(old))
	for i := range old {
		list[i] = old[i].Change
		list[i].LineID, list[i].Place.Row = list[i].Line, old[i].Row
		if strings.HasPrefix(list[i].At, "ST ") {
			list[i].Place.Segment = list[i].At
		}
	}
	b, err := json.Marshal(list)
	return string(b), err
}

// sets converts what sets say into a Statement.
func (u *upgrade) sets() error {
	return u.each(`SELECT interchange, seq, kind, said FROM sets WHERE said IS NOT NULL AND kind <> '850'`,
		func(r []string) error {
			var o order.Order
			if err := json.Unmarshal([]byte(r[3]), &o); err != nil {
				return fmt.Errorf("set %s of interchange %s: %w", r[1], r[0], err)
			}
			o.Statement = &order.Statement{Kind: noticeKind[r[2]]}
			set := func(level order.Level, l *order.Line, fields map[string]string) error {
				for name, value := range fields {
					if r[2] == "810" && name == "shipment" {
						name = "billed_shipment"
					}
					f, ok := order.LookupOf(o.Statement.Kind, level, name)
					if !ok || f.Kinds == nil {
						continue
					}
					switch f.Type {
					case order.Decimal:
						n, err := order.ParseNumber(value)
						if err != nil {
							return err
						}
						f.SetNumber(&o, l, n)
					case order.Day:
						f.SetDate(&o, l, order.Date(value))
					default:
						f.SetText(&o, l, value)
					}
				}
				return nil
			}
			if err := set(order.Header, nil, taken(&o.Custom, orderWords)); err != nil {
				return err
			}
			for i := range o.Lines {
				if err := set(order.Lines, &o.Lines[i], taken(&o.Lines[i].Custom, lineWords)); err != nil {
					return err
				}
			}
			b, err := json.Marshal(&o)
			if err != nil {
				return err
			}
			return u.exec(`UPDATE sets SET said = ? WHERE interchange = ? AND seq = ?`, string(b), r[0], r[1])
		})
}

// held lists what is held.
func (u *upgrade) held() error {
	if err := u.exec(`INSERT INTO held (kind, interchange, set_seq, order_id, partner, number, code, reason, since)
	  SELECT CASE i.direction WHEN 'in' THEN 'set' ELSE 'notice' END, s.interchange, s.seq, s.order_id, i.partner, s.number,
	  coalesce(json_extract(s.findings, '$[0].code'), ''), coalesce(json_extract(s.findings, '$[0].message'), ''), i.at
	  FROM sets s JOIN interchanges i ON i.id = s.interchange WHERE s.state = 'held' AND i.state = 'held' ORDER BY i.id, s.seq`); err != nil {
		return err
	}
	return u.exec(`INSERT INTO held (kind, load_id, load_seq, partner, number, code, reason, since)
	  SELECT 'order', o.load_id, o.seq, '', coalesce(o.sender_number, ''), coalesce(f.code, ''), coalesce(f.message, ''), l.started_at
	  FROM load_orders o JOIN loads l ON l.id = o.load_id
	  LEFT JOIN findings f ON f.load_id = o.load_id AND f.n = (SELECT min(n) FROM findings WHERE load_id = o.load_id AND seq = o.seq)
	  WHERE o.outcome = 'held' AND NOT l.dry_run AND NOT EXISTS (SELECT 1 FROM loads n WHERE json_extract(n.options, '$.retry') = l.id) ORDER BY l.id, o.seq`)
}

func atoi(s string) int {
	n := 0
	for i := 0; i < len(s) && s[i] >= '0' && s[i] <= '9'; i++ {
		n = n*10 + int(s[i]-'0')
	}
	return n
}
