package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// Shipments without a number of their own count once under their keys, whenever the service is killed: a caller that
// got no answer sends the same request again until it gets one.
func TestKeyedPostsKilled(t *testing.T) {
	t.Parallel()
	data := filepath.Join(t.TempDir(), "data")
	s := start(t, data, "serve")
	res, body := s.do("POST", "/api/v1/orders", `{"kind":"sales","sender_number":"A-1","partner":"OSTRAND","currency":"EUR",`+
		`"lines":[{"item":"00417","quantity":"100000","unit_price":"1"}]}`)
	if res.StatusCode != http.StatusCreated {
		t.Fatal(body)
	}
	const callers, each, kills = 8, 100, 6
	var mu sync.RWMutex // the service is replaced under it
	address := s.address
	var wait sync.WaitGroup
	answers := make(chan string, callers*each)
	for c := range callers {
		wait.Go(func() {
			for n := range each {
				for end := time.Now().Add(time.Minute); ; {
					mu.RLock()
					at := address
					mu.RUnlock()
					req, _ := http.NewRequest("POST", at+"/api/v1/orders/1/shipments", bytes.NewReader([]byte(`{"lines":[{"number":"1","quantity":"1"}]}`)))
					req.Header.Set("Content-Type", "application/json")
					req.Header.Set("Idempotency-Key", fmt.Sprintf("%d-%d", c, n))
					if res, err := http.DefaultClient.Do(req); err == nil {
						res.Body.Close()
						if res.StatusCode == http.StatusOK {
							answers <- res.Status
							break
						}
					}
					if time.Now().After(end) {
						answers <- "no answer in a minute"
						break
					}
					time.Sleep(20 * time.Millisecond)
				}
			}
		})
	}
	done := make(chan struct{})
	go func() { wait.Wait(); close(done) }()
	rnd, killed := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3)), 0
	for running := true; running; {
		select {
		case <-done:
			running = false
		case <-time.After(time.Duration(20+rnd.IntN(100)) * time.Millisecond):
			if killed == kills {
				<-done
				continue
			}
			s.kill()
			killed++
			next := start(t, data, "serve")
			mu.Lock()
			s, address = next, next.address
			mu.Unlock()
		}
	}
	close(answers)
	for a := range answers {
		if a != "200 OK" {
			t.Fatal(a)
		}
	}
	o, err := s.api().Order(context.Background(), 1)
	if err != nil {
		t.Fatal(err)
	}
	want := strconv.Itoa(callers * each)
	if got := o.Lines[0].Shipped.Plain(); got != want || len(o.Movements) != callers*each || killed == 0 {
		t.Errorf("%s shipped in %d movements by %s requests, %d kills", got, len(o.Movements), want, killed)
	}
}

// What a request has made is told again as it was told, also if the service ended before it answered, and when its
// answer was forgotten; another body under the key is refused.
func TestKeyedUnanswered(t *testing.T) {
	t.Parallel()
	data := filepath.Join(t.TempDir(), "data")
	s := start(t, data, "serve")
	requests := []struct{ key, path, body, other string }{
		{"order", "/api/v1/orders", `{"kind":"sales","sender_number":"A-1","partner":"OSTRAND","currency":"EUR",` +
			`"lines":[{"item":"00417","quantity":"10","unit_price":"1"}]}`, `{"kind":"sales","sender_number":"A-2","partner":"OSTRAND"}`},
		{"ship", "/api/v1/orders/1/shipments", `{"lines":[{"number":"1","quantity":"4"}]}`, `{"lines":[{"number":"1","quantity":"5"}]}`},
		{"change", "/api/v1/orders/1/changes", `{"header":{"notes":"soon"}}`, `{"header":{"notes":"late"}}`},
	}
	var first []string
	for _, r := range requests {
		res, body := s.do("POST", r.path, r.body, "Content-Type: application/json", "Idempotency-Key: "+r.key)
		first = append(first, res.Status+" "+res.Header.Get("Location")+" "+body)
	}
	for round, forget := range []string{`UPDATE requests SET status = NULL, headers = NULL, answer = NULL, body = NULL`,
		`UPDATE requests SET at = '2026-01-01T00:00:00.000Z'`} {
		s.stop()
		db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, "koinos.db"))
		if err == nil {
			_, err = db.Exec(forget)
		}
		if err != nil || db.Close() != nil {
			t.Fatal(err)
		}
		s = start(t, data, "serve")
		for round == 1 { // until the old answers are forgotten
			db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, "koinos.db")+"?mode=ro")
			if err != nil {
				t.Fatal(err)
			}
			left := linesOf(t, db, `SELECT key FROM requests WHERE status IS NOT NULL`, func(string) bool { return false })
			db.Close()
			if len(left) == 0 {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		for i, r := range requests {
			if res, body := s.do("POST", r.path, r.other, "Content-Type: application/json", "Idempotency-Key: "+r.key); res.StatusCode != http.StatusUnprocessableEntity ||
				!strings.Contains(body, "key_reused") {
				t.Errorf("%s: %s %s", r.key, res.Status, body)
			}
			res, body := s.do("POST", r.path, r.body, "Content-Type: application/json", "Idempotency-Key: "+r.key)
			if got := res.Status + " " + res.Header.Get("Location") + " " + body; got != first[i] {
				t.Errorf("%s: %s\nnot %s", r.key, got, first[i])
			}
		}
	}
	if o, err := s.api().Order(context.Background(), 1); err != nil || o.Revision != 3 || o.Lines[0].Shipped.Plain() != "4" {
		t.Errorf("%+v %v", o, err)
	}
}
