package standin

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Slipway's webhooks, signed as Standard Webhooks has it.

type shopHook struct {
	ID     string `json:"id"`
	URL    string `json:"url"`
	Secret string `json:"secret,omitempty"`
	key    []byte
}

// hookTries is how often a message is sent, a tenth of a second apart and then longer.
const hookTries = 6

func (s *Slipway) addHook(w http.ResponseWriter, r *http.Request) {
	var h shopHook
	if err := json.NewDecoder(r.Body).Decode(&h); err != nil {
		s.fail(w, http.StatusBadRequest, "bad_body", err.Error())
		return
	}
	u, err := url.Parse(h.URL)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		s.fail(w, http.StatusUnprocessableEntity, "bad_url", "url is an address of http or https.")
		return
	}
	if h.key, err = base64.StdEncoding.DecodeString(strings.TrimPrefix(h.Secret, "whsec_")); err != nil ||
		len(h.key) < 24 {
		s.fail(w, http.StatusUnprocessableEntity, "bad_secret", "secret is whsec_ and 24 bytes or more in base64.")
		return
	}
	h.ID = rand.Text()[:8]
	s.mu.Lock()
	s.hooks = append(s.hooks, h)
	s.mu.Unlock()
	h.Secret = ""
	answer(w, http.StatusCreated, "application/json", h)
}

func (s *Slipway) listHooks(w http.ResponseWriter, _ *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := make([]shopHook, len(s.hooks))
	for i, h := range s.hooks {
		all[i] = shopHook{ID: h.ID, URL: h.URL}
	}
	s.answer(w, map[string]any{"webhooks": all})
}

// tell sends everybody who asked for it a message about an order.
func (s *Slipway) tell(event string, o *shopOrder) {
	body, err := json.Marshal(map[string]any{"type": event, "timestamp": s.now().UTC().Format(micros),
		"data": map[string]any{"id": o.ID, "reference": o.Reference}})
	if err != nil {
		return // plain values
	}
	s.mu.Lock()
	hooks, times := append([]shopHook{}, s.hooks...), 1+s.twice
	s.mu.Unlock()
	id := "msg_" + rand.Text()
	for i := range hooks {
		for range times {
			go hooks[i].send(id, body, s.now)
		}
	}
}

func (h *shopHook) send(id string, body []byte, now func() time.Time) {
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	for try := range hookTries {
		stamp := strconv.FormatInt(now().Unix(), 10)
		mac := hmac.New(sha256.New, h.key)
		fmt.Fprintf(mac, "%s.%s.%s", id, stamp, body)
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, h.URL, bytes.NewReader(body))
		if err != nil {
			return
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("webhook-id", id)
		req.Header.Set("webhook-timestamp", stamp)
		req.Header.Set("webhook-signature", "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
		res, err := http.DefaultClient.Do(req)
		if err == nil {
			res.Body.Close()
			if res.StatusCode < http.StatusMultipleChoices {
				return
			}
		}
		select {
		case <-time.After(100 * time.Millisecond << try):
		case <-ctx.Done():
			return
		}
	}
}
