package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"koinos/api"
)

// Nobody who comes through a proxy is taken for somebody at this machine.
func TestDoors(t *testing.T) {
	for _, c := range []struct {
		name     string
		args     []string
		requests []struct {
			header string
			status int
		}
	}{
		{"as it starts", nil, []struct {
			header string
			status int
		}{{"", 200}, {"X-Forwarded-For: 10.0.0.7", 401}, {"Forwarded: for=10.0.0.7", 401}, {"Via: 1.1 front", 401},
			{"X-Real-IP: 10.0.0.7", 401}, {"Host: koinos.quillmere.example", 403}}},
		{"behind a name", []string{"--host", "koinos.quillmere.example"}, []struct {
			header string
			status int
		}{{"", 401}, {"Host: koinos.quillmere.example", 401}, {"Host: other.example", 403}}},
		{"reached from outside", []string{"--outside", "https://koinos.quillmere.example"}, []struct {
			header string
			status int
		}{{"", 401}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			data := filepath.Join(t.TempDir(), "data")
			if err := os.Mkdir(data, 0o755); err != nil {
				t.Fatal(err)
			}
			s := start(t, data, append([]string{"serve"}, c.args...)...)
			for _, r := range c.requests {
				var headers []string
				if r.header != "" {
					headers = append(headers, r.header)
				}
				for _, path := range []string{"/api/v1/orders", "/metrics"} {
					if res, body := s.do("GET", path, "", headers...); res.StatusCode != r.status {
						t.Errorf("%s with %q: %d, wanted %d\n%.200s", path, r.header, res.StatusCode, r.status, body)
					}
				}
			}
			if res, body := s.do("GET", "/healthz", ""); res.StatusCode != 200 || !strings.HasPrefix(body, "ok ") {
				t.Errorf("healthz: %d %q", res.StatusCode, body)
			}
			for name, want := range map[string]os.FileMode{"": 0o700, "koinos.db": 0o600, "koinos.db-wal": 0o600} {
				info, err := os.Stat(filepath.Join(data, name))
				if err != nil || info.Mode().Perm() != want {
					t.Errorf("%q: %v %v, wanted %v", name, info.Mode().Perm(), err, want)
				}
			}
		})
	}
}

// Tokens end by themselves, are shown once, and what administrators change is listed under their names.
func TestTokensEnd(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	token := func(args ...string) string {
		out, errOut, code := koinos(t, nil, append([]string{"token", "create", "--data", data}, args...)...)
		if code != 0 {
			t.Fatal(errOut)
		}
		return strings.TrimSpace(out)
	}
	admin := "Authorization: Bearer " + token("--name", "first", "--scope", "admin", "--expires", "1d")
	short := "Authorization: Bearer " + token("--name", "visitor", "--scope", "read", "--expires", "1s")
	for _, wrong := range []string{"yesterday", "2020-01-01", "-3h", "0d"} {
		if _, errOut, code := koinos(t, nil, "token", "create", "--data", data, "--name", "x", "--scope", "read",
			"--expires="+
				wrong); code != 2 || !strings.Contains(errOut, wrong) {
			t.Errorf("--expires %s: %d %s", wrong, code, errOut)
		}
	}
	s := start(t, data, "serve", "--require-token")
	waitFor(t, "the end of a token", func() bool {
		res, body := s.do("GET", "/api/v1/orders", "", short)
		return res.StatusCode == 401 && strings.Contains(body, "The token 2 (visitor) ended on ")
	})
	var made, again api.CreatedToken
	for i, into := range []*api.CreatedToken{&made, &again} {
		res, body := s.do("POST", "/api/v1/tokens", `{"name":"shop","scope":"load"}`, admin,
			"Content-Type: application/json",
			"Idempotency-Key: k1")
		if err := json.Unmarshal([]byte(body), into); err != nil || res.StatusCode != 201 {
			t.Fatalf("%d: %d %s", i, res.StatusCode, body)
		}
	}
	if made.Secret == "" || again.Secret != "" || again.ID != made.ID {
		t.Errorf("a token is shown twice, or made twice: %+v %+v", made, again)
	}
	if res, body := s.do("POST", "/api/v1/tokens", `{"name":"late","scope":"read","expires_at":"2020-01-01T00:00:00Z"}`,
		admin,
		"Content-Type: application/json"); res.StatusCode != 422 {
		t.Errorf("a token that has ended: %d %s", res.StatusCode, body)
	}
	s.do("PUT", "/api/v1/lists/colours", `{"entries":[{"code":"r"}]}`, admin, "Content-Type: application/json")
	s.do("PUT", "/api/v1/lists/Colours!", `{"entries":[]}`, admin, "Content-Type: application/json")
	s.do("POST", "/api/v1/lists/colours/rename", `{"to":"shades"}`, admin, "Content-Type: application/json")
	out, _, _ := koinos(t, []string{"KOINOS_ADDRESS=" + s.address, "KOINOS_TOKEN=" + strings.TrimPrefix(admin,
		"Authorization: Bearer ")}, "audit")
	want := "when by from did to\n" +
		"T first (token 1) 127.0.0.1 rename-list /lists/colours/rename → shades\n" +
		"T first (token 1) 127.0.0.1 import-list /lists/colours\n" +
		"T first (token 1) 127.0.0.1 create-token /tokens\n" +
		"T a command the data folder create-token /tokens\n" +
		"T a command the data folder create-token /tokens\n"
	got := regexp.MustCompile(`(?m)^\d\S+ \S+`).ReplaceAllString(regexp.MustCompile(` +`).ReplaceAllString(out, " "),
		"T")
	if got != want {
		t.Errorf("audit:\n%s\nwanted\n%s", got, want)
	}
	s.stop()
	if log := s.log.String(); !strings.Contains(log,
		"from=127.0.0.1 by=first token=1 method=PUT path=/api/v1/lists/colours") {
		t.Errorf("the log does not say who did it:\n%s", log)
	}
}

// It serves HTTPS by itself, and takes up a renewed certificate without a start.
func TestHTTPS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "c.pem"), filepath.Join(dir, "k.pem")
	renew := func(serial int64) {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		is := &x509.Certificate{SerialNumber: big.NewInt(serial), NotAfter: time.Now().Add(time.Hour),
			DNSNames: []string{"localhost"}}
		c, err := x509.CreateCertificate(rand.Reader, is, is, k.Public(), k)
		if err != nil {
			t.Fatal(err)
		}
		b, err := x509.MarshalPKCS8PrivateKey(k)
		if err != nil {
			t.Fatal(err)
		}
		for name, block := range map[string]*pem.Block{key: {Type: "PRIVATE KEY", Bytes: b}, cert: {Type: "CERTIFICATE",
			Bytes: c}} {
			if err := os.WriteFile(name, pem.EncodeToMemory(block), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Chtimes(cert, time.Time{}, time.Now().Add(time.Duration(serial)*time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	if _, errOut, code := koinos(t, nil, "serve", "--data", dir+"/d", "--tls-cert", cert, "--tls-key",
		key); code == 0 ||
		!strings.Contains(errOut, "the certificate cannot be read") {
		t.Errorf("no certificate: %d %s", code, errOut)
	}
	if _, errOut, code := koinos(t, nil, "serve", "--data", dir+"/d", "--tls-cert", cert); code != 2 {
		t.Errorf("no key: %d %s", code, errOut)
	}
	renew(1)
	s := start(t, filepath.Join(dir, "data"), "serve", "--tls-cert", cert, "--tls-key", key)
	serial := func() int64 {
		c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true,
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
		res, err := c.Get(s.address + "/readyz")
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		if b, err := io.ReadAll(res.Body); err != nil || string(b) != "ready\n" || res.TLS == nil {
			t.Fatalf("%q %v", b, err)
		}
		return res.TLS.PeerCertificates[0].SerialNumber.Int64()
	}
	if n := serial(); n != 1 {
		t.Errorf("certificate %d", n)
	}
	renew(2)
	if n := serial(); n != 2 {
		t.Errorf("certificate %d was not renewed", n)
	}
	if err := os.WriteFile(cert, []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if n := serial(); n != 2 {
		t.Errorf("certificate %d while the file is being written", n)
	}
}

// TestWatchedFigures makes sure that the rules for alerts and the dashboard ask only for figures that there are.
func TestWatchedFigures(t *testing.T) {
	dir := t.TempDir()
	s := start(t, t.TempDir(), "demo")
	in := filepath.Join(dir, "in")
	mapping := filepath.Join(dir, "plain.yaml")
	if err := os.WriteFile(mapping, []byte(csvMapping), 0o600); err != nil {
		t.Fatal(err)
	}
	_, demo := s.do("GET", "/metrics", "")
	s.stop()
	data := t.TempDir()
	s = start(t, data, "serve")
	if _, said, code := s.koinos("mapping", "keep", mapping); code != 0 {
		t.Fatal(said)
	}
	s.stop()
	s = start(t, data, "serve", "--folder", in+"=plain")
	if err := os.MkdirAll(in, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(in, "half.csv.part"), []byte("Order\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if res, said := s.do("POST", "/api/v1/subscriptions", `{"name":"shed","url":"http://127.0.0.1:9/hooks"}`,
		"Content-Type: application/json"); res.StatusCode != 201 {
		t.Fatal(said)
	}
	_, is := s.do("GET", "/metrics", "")
	if want := fmt.Sprintf("koinos_folder_files{folder=%q} 1\n", in); !strings.Contains(is, want) {
		t.Errorf("no %s", want)
	}
	for _, want := range []string{`koinos_held{kind="order"} `, "koinos_orders ", "koinos_disk_free_bytes ",
		"koinos_writes_total "} {
		if _, value, there := strings.Cut(demo, "\n"+want); !there || strings.HasPrefix(value, "0\n") {
			t.Errorf("%s is %.10s", want, value)
		}
	}
	asked := regexp.MustCompile(`\b(?:koinos|process)_[a-z_]+`)
	for _, name := range []string{"../docs/operation/alerts.yaml", "../docs/operation/dashboard.json"} {
		b, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, figure := range asked.FindAllString(string(b), -1) {
			n++
			if !strings.Contains(demo+is, "\n"+figure+"{") && !strings.Contains(demo+is, "\n"+figure+" ") {
				t.Errorf("%s asks for %s, which there is not", name, figure)
			}
		}
		if n < 10 {
			t.Errorf("%s asks for %d figures", name, n)
		}
	}
}
