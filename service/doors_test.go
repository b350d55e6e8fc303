package service

import (
	"net/http"
	"testing"
	"time"
)

// TestWrongTokens slows an address down after ten wrong tokens a minute, and no other one.
func TestWrongTokens(t *testing.T) {
	var s strangers
	now := time.Date(2026, 3, 14, 9, 30, 0, 0, time.UTC)
	for i := range 12 {
		want := time.Duration(0)
		if i >= freeTries {
			want = slowedBy
		}
		if wait := s.came("10.0.0.9", now); wait != want {
			t.Errorf("try %d waits %v, wanted %v", i+1, wait, want)
		}
	}
	if wait := s.came("10.0.0.8", now); wait != 0 {
		t.Errorf("another address waits %v", wait)
	}
	if wait := s.came("10.0.0.9", now.Add(triesEvery+time.Second)); wait != 0 {
		t.Errorf("a minute later it waits %v", wait)
	}
	for i := range 3 * mostKnown {
		s.came(string(rune(i)), now)
	}
	if len(s.tries) > mostKnown {
		t.Errorf("%d addresses are remembered", len(s.tries))
	}
}

// TestTokenNeeded says why callers need tokens, by how the service was started.
func TestTokenNeeded(t *testing.T) {
	for _, c := range []struct {
		cfg        Config
		host, want string
	}{
		{Config{}, "127.0.0.1", ""}, {Config{}, "localhost", ""}, {Config{}, "::1", ""},
		{Config{Outside: "http://127.0.0.1:9000"}, "127.0.0.1", ""},
		{Config{}, "0.0.0.0", "it listens beyond loopback"}, {Config{}, "", "it listens beyond loopback"},
		{Config{Hosts: []string{"localhost"}}, "127.0.0.1", "--host"},
		{Config{Outside: "https://koinos.quillmere.example"}, "127.0.0.1", "--outside"},
		{Config{RequireToken: true}, "127.0.0.1", "--require-token"},
	} {
		if why := c.cfg.tokenNeeded(c.host); why != c.want {
			t.Errorf("%+v on %q: %q, wanted %q", c.cfg, c.host, why, c.want)
		}
	}
	for _, name := range []string{"Forwarded", "via", "X-Forwarded-For", "x-real-ip"} {
		h := http.Header{}
		h.Set(name, "10.0.0.1")
		if !forwarded(h) {
			t.Errorf("%s is no sign of a proxy", name)
		}
	}
}
