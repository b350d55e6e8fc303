package notify

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strconv"
	"sync"
	"time"

	"koinos/api"
	"koinos/core/finding"
	"koinos/remote"
)

const (
	atOnce     = 4                // messages under way to one subscriber
	dueAtOnce  = 40               // that are read at once
	awayAfter  = 5                // attempts that failed one after another
	triedFor   = 24 * time.Hour   // a message
	firstGap   = 5 * time.Second  // between attempts; it doubles
	widestGap  = 2 * time.Hour    // and is not wider than this
	awayGap    = 30 * time.Second // between attempts while they are away; it doubles too
	longestWhy = 300
)

// gap is the time until the next attempt, by the number of attempts so far, with jitter.
func gap(attempts int) time.Duration {
	d := firstGap << min(attempts-1, 20)
	if d > widestGap || d <= 0 {
		d = widestGap
	}
	return d*3/4 + rand.N(d/2)
}

// send sends what is due to a subscriber until nothing is.
func (n *Notifier) send(ctx context.Context, y *api.Subscription) error {
	n.mu.Lock()
	failed := n.failed[y.ID]
	n.mu.Unlock()
	defer func() {
		n.mu.Lock()
		n.failed[y.ID] = failed
		n.mu.Unlock()
	}()
	for ctx.Err() == nil {
		many := dueAtOnce
		if y.State == api.SubscriptionAway {
			if !n.probing(y.ID) {
				return nil
			}
			many = 1 // whether they are back is seen by one
		}
		if paused, err := n.store.Paused(ctx, y.ID); err != nil || paused {
			return err
		}
		due, err := n.store.Due(ctx, y.ID, n.now(), many)
		if err != nil || len(due) == 0 {
			return err
		}
		secret, err := key(y.SecretIn)
		if err != nil {
			return n.set(ctx, y, api.SubscriptionPaused, err.Error())
		}
		results := make([]result, len(due))
		var work sync.WaitGroup
		slots := make(chan struct{}, atOnce)
		for i := range due {
			slots <- struct{}{}
			work.Go(func() {
				defer func() { <-slots }()
				results[i] = n.attempt(ctx, y, &due[i], secret)
			})
		}
		work.Wait()
		if ctx.Err() != nil {
			return nil // an attempt that the end cut off is none
		}
		for i := range due {
			if err := n.store.SaveDelivery(ctx, &due[i]); err != nil {
				return err
			}
			switch {
			case results[i].gone:
				return n.set(ctx, y, api.SubscriptionPaused, "They answered 410: they want no more.")
			case results[i].done:
				failed = 0
			default:
				failed++
			}
		}
		switch {
		case failed == 0 && y.State == api.SubscriptionAway:
			if err := n.set(ctx, y, api.SubscriptionActive, ""); err != nil {
				return err
			}
		case failed >= awayAfter && y.State == api.SubscriptionActive:
			return n.set(ctx, y, api.SubscriptionAway, due[len(due)-1].Why)
		case failed > 0 && y.State == api.SubscriptionAway:
			return nil
		}
	}
	return nil
}

// probing reports whether a subscriber that is away is to be tried again, and notes when next.
func (n *Notifier) probing(id int64) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	p, now := n.probes[id], n.now()
	if now.Before(p.next) {
		return false
	}
	n.probes[id] = probe{now.Add(min(awayGap<<min(p.tries, 8), widestGap)), p.tries + 1}
	return true
}

func (n *Notifier) set(ctx context.Context, y *api.Subscription, state, reason string) error {
	back := y.State == api.SubscriptionAway && state == api.SubscriptionActive
	y.State = state
	n.mu.Lock()
	n.probes[y.ID] = probe{next: n.now().Add(awayGap)}
	n.mu.Unlock()
	n.log.Info("subscription", "name", y.Name, "state", state, "reason", reason)
	return n.store.SetSubscription(ctx, y.ID, state, reason, n.now().UTC(), back)
}

// probe is when a subscriber that is away is tried again, by the number of trials.
type probe struct {
	next  time.Time
	tries int
}

// result is what an attempt came to.
type result struct{ done, gone bool }

// attempt sends a message and records the result in it.
func (n *Notifier) attempt(ctx context.Context, y *api.Subscription, d *api.Delivery, secret []byte) result {
	now := n.now().UTC()
	stamp := strconv.FormatInt(now.Unix(), 10)
	header := http.Header{"Content-Type": {"application/json"}, "Webhook-Id": {d.HookID}, "Webhook-Timestamp": {stamp},
		"Webhook-Signature": {"v1," + remote.Sign(secret, d.HookID, stamp, []byte(d.Body))}}
	status, err := n.post(ctx, y.URL, header, []byte(d.Body))
	d.Attempts++
	d.LastAt, d.Status, d.Why = &now, status, ""
	switch {
	case err != nil:
		d.Why = finding.Capital(err.Error()) + "."
	case status < 200 || status > 299:
		d.Why = fmt.Sprintf("They answered %d.", status)
	default:
		d.State = api.DeliveryDelivered
		return result{done: true}
	}
	d.Why = string([]rune(d.Why)[:min(longestWhy, len([]rune(d.Why)))])
	d.DueAt = now.Add(gap(d.Attempts))
	if d.DueAt.Sub(d.MadeAt) > triedFor {
		d.State, d.DueAt = api.DeliveryFailed, now
	}
	return result{gone: status == http.StatusGone}
}
