package notify

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/system"
	"koinos/remote"
	"koinos/store"
)

// Notifier tells subscribers. Its methods may be called by several goroutines.
type Notifier struct {
	store   *store.Store
	secrets string // folder of secrets that were made here
	now     func() time.Time
	log     *slog.Logger
	post    func(ctx context.Context, address string, header http.Header, body []byte) (status int, err error)
	nudge   chan struct{}

	mu     sync.Mutex
	busy   map[int64]bool      // subscriptions that somebody is at work for
	probes map[int64]probe     // of those that are away
	later  map[int64]time.Time // before that nothing is sent
	failed map[int64]int       // attempts that failed one after another, by subscription
}

// New makes a notifier for a store. Secrets that it makes are stored in a folder that only its owner can read.
func New(s *store.Store, secrets string, now func() time.Time, log *slog.Logger) *Notifier {
	return &Notifier{store: s, secrets: secrets, now: now, log: log, post: remote.Post, nudge: make(chan struct{}, 1),
		busy: map[int64]bool{}, probes: map[int64]probe{}, failed: map[int64]int{},
		later: map[int64]time.Time{}}
}

// RefusedError says why a subscription cannot be as it was requested.
type RefusedError struct{ Why string }

func (e *RefusedError) Error() string { return e.Why }

// Add stores a subscription, which begins now. Its secret is shown this once, if it is made here.
func (n *Notifier) Add(ctx context.Context, asked api.NewSubscription, by string) (api.CreatedSubscription, error) {
	var out api.CreatedSubscription
	if err := system.CheckAddress(asked.URL); err != nil {
		return out, &RefusedError{finding.Capital(err.Error()) + "."}
	}
	for _, e := range asked.Events {
		if !slices.Contains(api.EventTypes, e) {
			return out, &RefusedError{fmt.Sprintf("%q is no type of event; there are %s.", e,
				strings.Join(api.EventTypes, ", "))}
		}
	}
	now := n.now().UTC()
	out.Subscription = api.Subscription{Name: asked.Name, URL: asked.URL, Events: append([]string{}, asked.Events...),
		Partner: asked.Partner, State: api.SubscriptionActive, Since: now, CreatedAt: now, CreatedBy: by,
		SecretIn: "env:" + asked.SecretEnv}
	if asked.SecretEnv == "" {
		key := make([]byte, 24)
		rand.Read(key)
		out.Secret = "whsec_" + base64.StdEncoding.EncodeToString(key)
		out.SecretIn = "file:" + filepath.Join(n.secrets, asked.Name)
	}
	if _, err := n.store.Subscription(ctx, asked.Name); err == nil { // its secret stays as it is
		return out, store.ErrNameTaken
	}
	if out.Secret != "" {
		if err := errors.Join(os.MkdirAll(n.secrets, 0o700),
			os.WriteFile(filepath.Join(n.secrets, asked.Name), []byte(out.Secret+"\n"), 0o600)); err != nil {
			return out, err
		}
	} else if _, err := key(out.SecretIn); err != nil {
		return out, err
	}
	err := n.store.AddSubscription(ctx, &out.Subscription)
	n.wake()
	return out, err
}

// Remove deletes a subscription, with its secret if it was made here.
func (n *Notifier) Remove(ctx context.Context, name string) error {
	y, err := n.store.Subscription(ctx, name)
	if err != nil {
		return err
	}
	if err := n.store.DropSubscription(ctx, y.ID); err != nil {
		return err
	}
	if file, ok := strings.CutPrefix(y.SecretIn, "file:"); ok {
		if err := os.Remove(file); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Set pauses or resumes a subscription. When it is resumed, everything that waits is due at once.
func (n *Notifier) Set(ctx context.Context, name string, active bool, by string) (api.Subscription, error) {
	y, err := n.store.Subscription(ctx, name)
	if err != nil {
		return y, err
	}
	state, reason := api.SubscriptionPaused, "Paused by "+by+"."
	if active {
		state, reason = api.SubscriptionActive, ""
	}
	if err := n.store.SetSubscription(ctx, y.ID, state, reason, n.now().UTC(), active); err != nil {
		return y, err
	}
	n.wake()
	return n.store.Subscription(ctx, name)
}

// Resend makes messages due again, with the ids that they had.
func (n *Notifier) Resend(ctx context.Context, name string, r api.Resend) (int, error) {
	y, err := n.store.Subscription(ctx, name)
	if err != nil {
		return 0, err
	}
	count, err := n.store.Resend(ctx, y.ID, r, n.now().UTC())
	n.wake()
	return count, err
}

func (n *Notifier) wake() {
	select {
	case n.nudge <- struct{}{}:
	default:
	}
}

// key reads a secret: whsec_ and base64, or any text.
func key(in string) ([]byte, error) {
	where, name, _ := strings.Cut(in, ":")
	text := ""
	if where == "file" {
		b, err := os.ReadFile(name)
		if err != nil {
			return nil, &RefusedError{"The secret cannot be read: " + err.Error() + "."}
		}
		text = strings.TrimSpace(string(b))
	} else if text = os.Getenv(name); text == "" {
		return nil, &RefusedError{fmt.Sprintf("The environment variable %s, which should hold the secret, is not set.",
			name)}
	}
	if secret, is := strings.CutPrefix(text, "whsec_"); is {
		b, err := base64.StdEncoding.DecodeString(secret)
		if err != nil {
			return nil, &RefusedError{"A secret of Standard Webhooks is whsec_ and base64."}
		}
		return b, nil
	}
	return []byte(text), nil
}

// look is how often the events are read.
const look = 300 * time.Millisecond

// Run tells subscribers until ctx ends.
func (n *Notifier) Run(ctx context.Context) {
	var work sync.WaitGroup
	defer work.Wait()
	tick := time.NewTicker(look)
	defer tick.Stop()
	for {
		if err := n.round(ctx, &work); err != nil && ctx.Err() == nil {
			n.log.Error("subscribers are not told", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-n.nudge:
		}
	}
}

// round reads what happened, and begins to send what is due.
func (n *Notifier) round(ctx context.Context, work *sync.WaitGroup) error {
	all, err := n.store.Subscribers(ctx)
	if err != nil || len(all) == 0 {
		return err
	}
	last, err := n.store.LastEvent(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		y := &all[i]
		for y.Position < last {
			if err := n.spread(ctx, y); err != nil {
				return err
			}
		}
		if y.State == api.SubscriptionPaused || !n.take(y.ID) {
			continue
		}
		work.Go(func() {
			defer n.free(y.ID)
			defer func() {
				if p := recover(); p != nil {
					n.log.Error("telling a subscriber crashed", "subscription", y.Name, "panic", fmt.Sprint(p))
				}
			}()
			if err := n.send(ctx, y); err != nil && ctx.Err() == nil {
				n.log.Error("a subscriber is not told", "subscription", y.Name, "error", err)
				n.wait(y.ID)
			}
		})
	}
	return nil
}

func (n *Notifier) take(id int64) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.busy[id] || n.now().Before(n.later[id]) {
		return false
	}
	n.busy[id] = true
	return true
}

// afterTrouble is how long nothing is sent if it cannot be recorded that something was sent, because everything would
// be sent again at once.
const afterTrouble = 30 * time.Second

func (n *Notifier) wait(id int64) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.later[id] = n.now().Add(afterTrouble)
}

func (n *Notifier) free(id int64) {
	n.mu.Lock()
	defer n.mu.Unlock()
	delete(n.busy, id)
}

// spreadAtOnce is how many events are processed in one transaction.
const spreadAtOnce = 500

// message is the body of a webhook (Standard Webhooks, 1.0).
type message struct {
	Type      string          `json:"type"`
	Timestamp string          `json:"timestamp"`
	Data      *store.Happened `json:"data"`
}

// spread makes messages of the next events for a subscription.
func (n *Notifier) spread(ctx context.Context, y *api.Subscription) error {
	events, err := n.store.Happened(ctx, y.Position, spreadAtOnce)
	if err != nil || len(events) == 0 {
		return err
	}
	now := n.now().UTC()
	var all []api.Delivery
	for i := range events {
		e := &events[i]
		kind := "order." + strings.ReplaceAll(e.Action, " ", "_")
		if len(y.Events) > 0 && !slices.Contains(y.Events, kind) || y.Partner != "" && e.Partner != y.Partner {
			continue
		}
		body, err := json.Marshal(message{kind, e.At, e})
		if err != nil {
			return err
		}
		sum := sha256.Sum256(fmt.Appendf(nil, "%d %s %d", y.ID, y.CreatedAt.Format(time.RFC3339Nano), e.N))
		all = append(all, api.Delivery{Event: e.N, Type: kind, HookID: "msg_" + hex.EncodeToString(sum[:12]),
			Body:   string(body),
			MadeAt: now})
	}
	to := events[len(events)-1].N
	if err := n.store.Spread(ctx, y.ID, y.Position, to, all); err != nil {
		return err
	}
	y.Position = to
	return nil
}
