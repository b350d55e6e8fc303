package e2e

import (
	"context"
	"database/sql"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"koinos/api"
	"koinos/core/outcome"
	"koinos/demo"
)

var faults = flag.Int("faults", 3,
	"how many writes of each kind of work fail in the tests of failing disks; 0 is every one")

// Ways in which a write fails; failingdisk.c has them too.
const (
	noSpace    = 1
	ioError    = 2
	halfOfIt   = 3
	killedAtIt = 4
)

var failings = []struct {
	name string
	how  int64
	many int64 // writes in a row
}{{"one write without space", noSpace, 1}, {"no space for six writes", noSpace, 6},
	{"one input/output error", ioError, 1},
	{"half a write, then no space", halfOfIt, 14}, {"the end of the process", killedAtIt, 1}}

// disk stands between the database of a service and the real disk.
type disk struct {
	env  []string
	said *struct{ writes, from, many, how, failed int64 }
}

// failingDisk builds the library that a service is started with.
func failingDisk(t *testing.T) *disk {
	t.Helper()
	dir := t.TempDir()
	library, control := filepath.Join(dir, "failingdisk.so"), filepath.Join(dir, "control")
	if out, err := exec.Command("cc", "-shared", "-fPIC", "-O1", "-o", library,
		"failingdisk/failingdisk.c").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	d := &disk{env: []string{"LD_PRELOAD=" + library, "FAILING_DISK=" + control}}
	f, err := os.Create(control)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := f.Truncate(int64(unsafe.Sizeof(*d.said))); err != nil {
		t.Fatal(err)
	}
	mem, err := syscall.Mmap(int(f.Fd()), 0, int(unsafe.Sizeof(*d.said)), syscall.PROT_READ|syscall.PROT_WRITE,
		syscall.MAP_SHARED)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = syscall.Munmap(mem) })
	d.said = (*struct{ writes, from, many, how, failed int64 })(unsafe.Pointer(&mem[0]))
	return d
}

// fail lets the nth write from now on fail, and those behind it.
func (d *disk) fail(nth, how, many int64) {
	atomic.StoreInt64(&d.said.from, 0)
	atomic.StoreInt64(&d.said.failed, 0)
	atomic.StoreInt64(&d.said.how, how)
	atomic.StoreInt64(&d.said.many, many)
	atomic.StoreInt64(&d.said.from, d.writes()+nth)
}

func (d *disk) well()         { atomic.StoreInt64(&d.said.from, 0) }
func (d *disk) writes() int64 { return atomic.LoadInt64(&d.said.writes) }
func (d *disk) failed() int64 { return atomic.LoadInt64(&d.said.failed) }

// some are up to so many of the numbers from 1 to n, spread over them; all of them where so many is 0.
func some(n int64, many int) (list []int64) {
	if many <= 0 || int64(many) >= n {
		many = int(n)
	}
	for i := range int64(many) {
		list = append(list, 1+i*n/int64(many)+rand.Int64N(max(1, n/int64(many))))
	}
	return list
}

// everything is all that stands in a database, table by table, but for times and for tokens.
func everything(t *testing.T, data string) string {
	t.Helper()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, "koinos.db")+"?mode=ro")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var out strings.Builder
	rows := func(query string) []string {
		t.Helper()
		return linesOf(t, db, query, func(column string) bool {
			return column == "tstamp" || column == "at" || strings.HasSuffix(column, "_at")
		})
	}
	out.WriteString(strings.Join(rows(`SELECT type, name, tbl_name, sql FROM sqlite_schema ORDER BY type, name`), "\n"))
	for _, table := range rows(`SELECT name FROM sqlite_schema WHERE type = 'table' ORDER BY name`) {
		name := strings.TrimSuffix(table, "|")
		if name == "tokens" || name == "audit" || name == "sqlite_sequence" {
			continue
		}
		all := rows(`SELECT * FROM "` + name + `"`)
		slices.Sort(all)
		fmt.Fprintf(&out, "\n%s\n%s", name, strings.Join(all, "\n"))
	}
	return out.String()
}

// A data folder of an early version is brought up to date whichever write fails meanwhile, or ends
// the process: the next start has what an undisturbed one has.
func TestMigrationsOnAFailingDisk(t *testing.T) {
	t.Parallel()
	d := failingDisk(t)
	migrate := func(data string) (string, int) {
		_, errOut, code := koinos(t, d.env, "token", "create", "--name", "one", "--scope", "read", "--data", data)
		return errOut, code
	}
	old := func() string {
		dir := t.TempDir()
		unpack(t, dir)
		return filepath.Join(dir, "olddata")
	}
	calm := old()
	if said, code := migrate(calm); code != 0 {
		t.Fatal(code, said)
	}
	n, want := d.writes(), everything(t, calm)
	for _, f := range failings {
		for _, nth := range some(n, *faults) {
			data := old()
			d.fail(nth, f.how, f.many)
			_, code := migrate(data)
			failed := d.failed()
			d.well()
			if failed > 0 && code == 0 && f.how == killedAtIt {
				t.Fatalf("%s at write %d of %d: it ends well", f.name, nth, n)
			}
			if said, code := migrate(data); code != 0 {
				t.Fatalf("%s at write %d of %d: the next start says %s", f.name, nth, n, said)
			}
			if got := everything(t, data); got != want {
				t.Fatalf("%s at write %d of %d: the data are not those of an undisturbed start", f.name, nth, n)
			}
			os.RemoveAll(data)
		}
	}
	t.Logf("%d writes", n)
}

// work is something that is asked of a service under a number, and that has come to its end or not.
type work struct {
	name  string
	first func(t *testing.T, s *service, n int64) // on a disk that is well
	ask   func(t *testing.T, s *service, n int64) error
	done  func(t *testing.T, s *service, n int64) (bool, error)
	rows  string // SQL that gives, in a row for each number, what must be the same for all
}

// problem is an answer that is no success.
func problem(res *http.Response, body string, err error) error {
	if err == nil && res.StatusCode >= 300 {
		err = fmt.Errorf("%s %.300s", res.Status, body)
	}
	return err
}

var works = []work{
	{
		name: "an order is posted",
		ask: func(t *testing.T, s *service, n int64) error {
			return problem(s.try("POST", "/api/v1/orders",
				fmt.Sprintf(`{"kind": "sales", "sender_number": "P-%d", "partner": "PELLOW",
				"ordered_on": "2026-03-02", "currency": "EUR", "lines": [{"item": "00113", "quantity": "2", "unit_price": "1.50"},
				{"item": "00110", "quantity": "3", "unit_price": "2.50"}]}`, n), fmt.Sprint("Idempotency-Key: post-", n)))
		},
		rows: `SELECT revision || ' ' || line_count || ' ' || total || ' ' || (SELECT group_concat(item || ':' || quantity) FROM lines
			WHERE order_id = o.id) || ' ' || (SELECT count(*) FROM events WHERE order_id = o.id) FROM orders o
			WHERE sender_number = 'P-%d'`,
	},
	{
		name: "an interchange comes",
		ask: func(t *testing.T, s *service, n int64) error {
			return problem(s.try("POST", "/api/v1/interchanges", fmt.Sprintf(arriving, n, "A"),
				fmt.Sprint("Idempotency-Key: edi-", n)))
		},
		done: func(t *testing.T, s *service, n int64) (bool, error) {
			page, err := s.api().Interchanges(context.Background(), url.Values{"limit": {"200"}})
			states := map[string]string{}
			id := int64(0)
			for _, i := range slices.Backward(page.Items) { // an answer is younger than what it answers
				if i.Direction == "in" && i.Control == n {
					id = i.ID
				}
				if i.ID == id || id > 0 && i.Answers == id {
					states[i.Direction] = i.State
				}
			}
			return states["in"] == api.StateDone && states["out"] == api.StateDone, err
		},
		rows: `SELECT i.state || ' ' || (SELECT group_concat(state) FROM sets WHERE interchange = i.id) || ' ' ||
			(SELECT group_concat(state || kinds) FROM interchanges a WHERE a.answers = i.id) || ' ' ||
			(SELECT count(*) || ':' || sum(line_count) || ':' || sum(revision) FROM orders WHERE sender_number = 'A-' || i.control)
			FROM interchanges i WHERE direction = 'in' AND control = %d`,
	},
	{
		name: "a document is loaded",
		ask:  loaded("L"),
		done: func(t *testing.T, s *service, n int64) (bool, error) {
			l, err := loadOf(s, fmt.Sprintf("L-%d.csv", n))
			return l.Status == outcome.Done, err
		},
		rows: `SELECT (SELECT count(*) || ':' || sum(line_count) || ':' || sum(revision) || ':' || sum((SELECT count(*) FROM lines
			WHERE order_id = o.id)) FROM orders o WHERE sender_number LIKE 'L-%[1]d-%%') || ' ' || l.status || ' ' || loaded || ' ' ||
			(SELECT count(*) FROM load_orders WHERE load_id = l.id) FROM loads l JOIN documents d ON d.sha = l.document
			WHERE d.name = 'L-%[1]d.csv'`,
	},
	{
		name: "a load is undone",
		first: func(t *testing.T, s *service, n int64) {
			if err := loaded("U")(t, s, n); err != nil {
				t.Fatal(err)
			}
			waitFor(t, "a load to undo", func() bool {
				l, err := loadOf(s, fmt.Sprintf("U-%d.csv", n))
				return err == nil && l.Status == outcome.Done
			})
		},
		ask: func(t *testing.T, s *service, n int64) error {
			l, err := loadOf(s, fmt.Sprintf("U-%d.csv", n))
			if err == nil && l.Undone < 20 {
				_, err = s.api().UndoLoad(context.Background(), l.ID, false)
			}
			return err
		},
		done: func(t *testing.T, s *service, n int64) (bool, error) {
			l, err := loadOf(s, fmt.Sprintf("U-%d.csv", n))
			return l.Undone == 20, err
		},
		rows: `SELECT (SELECT count(*) FROM orders WHERE sender_number LIKE 'U-%[1]d-%%') || ' ' || status || ' ' || loaded || ' ' || undone
			FROM loads l JOIN documents d ON d.sha = l.document WHERE d.name = 'U-%[1]d.csv'`,
	},
}

// arriving is an interchange with one order, by its control number and the beginning of the order's.
const arriving = `ISA*00*          *00*          *ZZ*PELLOW         *ZZ*QUILLMERE      *260316*0930*U*00401*%09[1]d*0*P*>~` +
	`GS*PO*PELLOW*QUILLMERE*20260316*0930*%[1]d*X*004010~ST*850*0001~BEG*00*SA*%[2]s-%[1]d**20260316~CUR*BY*EUR~` +
	`N1*ST*Pellow Marina*92*0040~PO1*1*20*MR*1.33**VP*00113~CTT*1~SE*7*0001~GE*1*%[1]d~IEA*1*%09[1]d~`

// loaded sends a document of twenty orders in and starts its load.
func loaded(prefix string) func(t *testing.T, s *service, n int64) error {
	return func(t *testing.T, s *service, n int64) error {
		var doc strings.Builder
		doc.WriteString("Order,Item,Qty,Price\n")
		for i := range 20 {
			fmt.Fprintf(&doc, "%s-%d-%d,0012,2,9.50\n%[1]s-%[2]d-%[3]d,0013,1,1.25\n", prefix, n, i)
		}
		name := fmt.Sprintf("%s-%d", prefix, n)
		d, err := s.api().SendDocument(context.Background(), name+".csv", strings.NewReader(doc.String()))
		if err != nil {
			return err
		}
		return problem(s.try("POST", "/api/v1/loads", fmt.Sprintf(`{"document": %q, "mapping": "plain"}`, d.SHA),
			"Idempotency-Key: "+name))
	}
}

// loadOf is the newest load of a document by its name.
func loadOf(s *service, name string) (outcome.Load, error) {
	page, err := s.api().Loads(context.Background(), url.Values{"limit": {"200"}})
	for _, l := range page.Items {
		if l.DocumentName == name {
			return l, err
		}
	}
	return outcome.Load{}, err
}

// Whatever write of the database fails while something is done, once or for a time, and wherever the
// process ends: what was asked, asked again until it is answered, is done once and whole.
func TestEveryWriteFails(t *testing.T) {
	t.Parallel()
	d := failingDisk(t)
	data := filepath.Join(t.TempDir(), "data")
	s := startWith(t, d.env, data, "serve")
	text, err := demo.Files.ReadFile("partners/pellow.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.api().KeepPartner(context.Background(), text); err != nil {
		t.Fatal(err)
	}
	if _, err := s.api().KeepMapping(context.Background(), []byte(csvMapping)); err != nil {
		t.Fatal(err)
	}
	n := int64(0)
	for _, w := range works {
		// one is a number under which the work is done; it says how many writes that took
		one := func(nth, how, many int64) (writes int64) {
			n++
			what := fmt.Sprintf("%s, number %d, %d writes fail from the %d. on (%d)", w.name, n, many, nth, how)
			if w.first != nil {
				w.first(t, s, n)
			}
			before := d.writes()
			if nth > 0 {
				d.fail(nth, how, many)
			}
			asked := false
			var last error
			for end := time.Now().Add(time.Minute); ; time.Sleep(10 * time.Millisecond) {
				if how == killedAtIt && d.failed() > 0 {
					d.well()
					s.kill()
					s = startWith(t, d.env, data, "serve")
					asked, how = false, 0
				}
				if !asked {
					last = w.ask(t, s, n)
					asked = last == nil
				}
				if asked && w.done == nil {
					break
				}
				if asked {
					var done bool
					if done, last = w.done(t, s, n); done {
						break
					}
				}
				if time.Now().After(end) {
					t.Fatalf("%s: it does not come to its end (asked: %t): %v\n%s", what, asked, last, loud(s))
				}
			}
			d.well()
			return d.writes() - before
		}
		writes := one(0, 0, 0)
		want := rowOf(t, data, w.rows, n)
		if want == "" {
			t.Fatalf("%s: nothing came of it undisturbed", w.name)
		}
		first := n + 1
		for _, f := range failings {
			for _, nth := range some(writes, *faults) {
				one(nth, f.how, f.many)
				// What the service knows to be done it may not have been able to keep yet.
				got := ""
				for end := time.Now().Add(30 * time.Second); got != want &&
					time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
					got = rowOf(t, data, w.rows, n)
				}
				if got != want {
					t.Fatalf("%s, %s at write %d of %d: %q, not %q\n%s", w.name, f.name, nth, writes, got, want,
						loud(s))
				}
			}
		}
		for k := first; k <= n; k++ { // and none of them changed later
			if got := rowOf(t, data, w.rows, k); got != want {
				t.Errorf("%s, number %d: %q in the end, not %q", w.name, k, got, want)
			}
		}
		t.Logf("%s: %d writes", w.name, writes)
	}
	if out, errOut, code := s.koinos("check", "data"); code != 0 {
		t.Errorf("check data: %d %s %s", code, out, errOut)
	}
}

// loud are the last lines of a service's log that say more than that a request came.
func loud(s *service) string {
	s.kill()
	lines := slices.DeleteFunc(strings.Split(s.log.String(), "\n"),
		func(l string) bool { return strings.Contains(l, "level=INFO") })
	return strings.Join(lines[max(0, len(lines)-20):], "\n")
}

// rowOf returns what a query says of a number, in a line.
func rowOf(t *testing.T, data, query string, n int64) string {
	t.Helper()
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, "koinos.db")+"?mode=ro&_busy_timeout=10000")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	all := linesOf(t, db, fmt.Sprintf(query, n), func(string) bool { return false })
	return strings.Join(all, " and ")
}
