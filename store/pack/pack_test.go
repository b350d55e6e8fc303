package pack_test

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"koinos/store/pack"
)

func open(t testing.TB) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(t.TempDir(), "rows.db"))
	if err != nil {
		t.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	t.Cleanup(func() {
		if err := db.Close(); err != nil {
			t.Error(err)
		}
	})
	if _, err := db.Exec(`CREATE TABLE v (n INTEGER PRIMARY KEY, a, b, c)`); err != nil {
		t.Fatal(err)
	}
	return db
}

// add adds a value of any type.
func add(r *pack.Rows, v any) {
	switch v := v.(type) {
	case nil:
		r.Null()
	case int64:
		r.Int64(v)
	case string:
		r.Text(v)
	case []byte:
		r.Bytes(v)
	}
}

// What unpack stores, the driver reads as it was, and pack gives again: each with its type.
func TestThereAndBack(t *testing.T) {
	db := open(t)
	long := strings.Repeat("Größe ", 20_000)
	want := [][]any{
		{nil, "", []byte{}},
		{int64(0), "0", []byte("0")},
		{int64(-1), int64(1<<63 - 1), int64(-1 << 63)},
		{"00417", "4.00638E+12", "a\x00b"},
		{long, []byte(long), nil},
		{"\xff\xfe", "'; DROP TABLE v", "NULL"},
	}
	rng := rand.New(rand.NewPCG(4, 2))
	for range 500 {
		row := make([]any, 3)
		for i := range row {
			switch b := make([]byte, rng.IntN(40)); rng.IntN(4) {
			case 0:
				row[i] = rng.Int64() - rng.Int64()
			case 1:
				row[i] = fmt.Sprint(rng.Int32())
			case 2:
				for k := range b {
					b[k] = byte(rng.Uint32())
				}
				row[i] = b
			}
		}
		want = append(want, row)
	}
	rows := pack.NewRows(4, 0)
	for n, row := range want {
		rows.Int(n)
		for _, v := range row {
			add(rows, v)
		}
	}
	value, err := rows.Value()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(`INSERT INTO v SELECT c1, c2, c3, c4 FROM unpack(?)`, value); err != nil {
		t.Fatal(err)
	}
	stored, err := db.Query(`SELECT a, b, c, typeof(a) FROM v ORDER BY n`)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for ; stored.Next(); n++ {
		got := make([]any, 3)
		var kind string
		if err := stored.Scan(&got[0], &got[1], &got[2], &kind); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(got, want[n]) {
			t.Fatalf("row %d: stored %q; want %q", n, got, want[n])
		}
		if _, text := want[n][0].(string); text != (kind == "text") {
			t.Fatalf("row %d: %q is stored as %s", n, want[n][0], kind)
		}
	}
	if err := stored.Err(); err != nil || n != len(want) {
		t.Fatalf("%d rows of %d, %v", n, len(want), err)
	}
	var packed []byte
	if err := db.QueryRow(`SELECT pack(n, a, b, c) FROM v`).Scan(&packed); err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(packed, value) {
		t.Fatalf("pack gives %d bytes, which differ from the %d that unpack took", len(packed), len(value))
	}
}

// A statement with unpack inserts all of its rows or, where one of them does not fit, none.
func TestAllOrNone(t *testing.T) {
	db := open(t)
	rows := pack.NewRows(1, 0)
	for _, n := range []int{1, 2, 1} {
		rows.Int(n)
	}
	value, err := rows.Value()
	if err != nil {
		t.Fatal(err)
	}
	const insert = `INSERT INTO v (n) SELECT c1 FROM unpack(?) WHERE true`
	if _, err = db.Exec(insert, value); err == nil {
		t.Error("a key went in twice")
	}
	var count int
	if err := db.QueryRow(`SELECT count(*) FROM v`).Scan(&count); err != nil || count != 0 {
		t.Errorf("%d rows are left of a statement that failed, %v", count, err)
	}
	if _, err := db.Exec(insert+` ON CONFLICT DO UPDATE SET a = coalesce(a, 0) + 1`, value); err != nil {
		t.Fatal(err)
	}
	var twice int
	if err := db.QueryRow(`SELECT count(*), max(a) FROM v`).Scan(&count, &twice); err != nil || count != 2 || twice != 1 {
		t.Errorf("%d rows, %d of them again, %v", count, twice, err)
	}
}

// Values that no Rows has made are an error of the statement, not of the process.
func TestWrongValues(t *testing.T) {
	db := open(t)
	for _, c := range []struct {
		value any
		rows  int
		err   string
	}{
		{nil, 0, ""},
		{[]byte{}, 0, ""},
		{[]byte{3}, 0, ""},
		{[]byte{2, 5, 5, 5, 5}, 2, ""},
		{"text", 0, "row 0 is not whole"},
		{12, 0, "row 0 is not whole"},
		{[]byte{0, 5}, 0, "row 0 is not whole"},
		{[]byte{49, 5}, 0, "row 0 is not whole"},
		{[]byte{1, 9}, 0, "row 1 is not whole"},
		{[]byte{2, 5, 5, 5}, 1, "row 2 is not whole"},
		{[]byte{1, 1, 0, 0, 0}, 0, "row 1 is not whole"},
		{[]byte{1, 3, 0, 0, 0}, 0, "row 1 is not whole"},
		{[]byte{1, 3, 4, 0, 0, 0, 'a', 'b', 'c'}, 0, "row 1 is not whole"},
		{[]byte{1, 4, 255, 255, 255, 255, 'a'}, 0, "row 1 is not whole"},
	} {
		rows, err := db.Query(`SELECT c1, c48 FROM unpack(?)`, c.value)
		n := 0
		for ; err == nil && rows.Next(); n++ {
		}
		if err == nil {
			err = errors.Join(rows.Err(), rows.Close())
		}
		if n != c.rows || (err == nil) != (c.err == "") || err != nil && err.Error() != "unpack: "+c.err {
			t.Errorf("%v: %d rows, %v; want %d, %q", c.value, n, err, c.rows, c.err)
		}
	}
	if _, err := db.Query(`SELECT * FROM unpack`); err == nil {
		t.Error("there are rows without a value")
	}
	var none any = "?"
	if err := db.QueryRow(`SELECT pack(n) FROM v`).Scan(&none); err != nil || none != nil {
		t.Errorf("no rows are packed as %v, %v", none, err)
	}
}

// Rows that are not filled, and parts of rows, are told apart from whole ones.
func TestRows(t *testing.T) {
	part := pack.NewRows(2, 64)
	part.Text("a").Int(1).TextOrNull("").Bool(true)
	rows := pack.NewRows(3, 0)
	for i := range part.Len() {
		rows.Int64OrNull(int64(i)).Append(part, i)
	}
	value, err := rows.Value()
	if err != nil {
		t.Fatal(err)
	}
	type row struct {
		n    int
		text string
		flag int64
	}
	var got []row
	r := pack.Read(value)
	for r.Next() {
		got = append(got, row{r.Int(), r.Text(), r.Int64()})
	}
	if want := []row{{0, "a", 1}, {1, "", 1}}; r.Err() != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%v, %v; want %v", got, r.Err(), want)
	}
	var first []int // what is not read of a row is skipped
	for r = pack.Read(value); r.Next(); {
		first = append(first, r.Int())
	}
	if r.Err() != nil || !reflect.DeepEqual(first, []int{0, 1}) {
		t.Errorf("%d, %v", first, r.Err())
	}
	if r = pack.Read(value); !r.Next() || r.Text() != "" || r.Text() != "a" || r.Text() != "" ||
		!errors.Is(r.Err(), pack.ErrForm) || r.Next() {
		t.Errorf("a number was read as text: %v", r.Err())
	}
	rows.Int(3)
	if _, err := rows.Value(); err == nil || err.Error() != "7 values do not fill rows of 3 columns" {
		t.Error(err)
	}
	if rows.Reset(); rows.Size() != 0 || rows.Len() != 0 {
		t.Error("rows are left")
	}
	fails := errors.New("cannot be written")
	rows.TextBy(func(b []byte) ([]byte, error) { return append(b, "half"...), fails }).Null().Null()
	if _, err := rows.Value(); !errors.Is(err, fails) {
		t.Error(err)
	}
}

// Whatever bytes it is given, a Reader ends, and SQLite and it agree on how many rows there are.
func FuzzRead(f *testing.F) {
	f.Add([]byte{2, 5, 5, 3, 1, 0, 0, 0, 'a', 1, 0, 0, 0, 0, 0, 0, 0, 1})
	f.Add([]byte{1, 4, 255, 255, 255, 127})
	db := open(f)
	f.Fuzz(func(t *testing.T, value []byte) {
		r := pack.Read(value)
		n := 0
		for r.Next() {
			n++
		}
		var there int
		err := db.QueryRow(`SELECT count(*) FROM unpack(?)`, value).Scan(&there)
		if len(value) > 0 && value[0] > pack.Widest {
			return
		}
		if (err == nil) != (r.Err() == nil) || err == nil && there != n {
			t.Errorf("%d rows, %v; SQLite: %d, %v", n, r.Err(), there, err)
		}
	})
}
