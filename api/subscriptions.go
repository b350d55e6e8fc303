package api

import "time"

// States of subscriptions.
const (
	SubscriptionActive = "active"
	SubscriptionAway   = "away"   // they do not answer: one message is tried now and then
	SubscriptionPaused = "paused" // by somebody, or because they want no more
)

// States of deliveries.
const (
	DeliveryWaiting   = "waiting"
	DeliveryDelivered = "delivered"
	DeliveryFailed    = "failed" // tried for a day
)

// Subscription is a subscriber, who is told what happens to orders by webhooks that are signed according to Standard
// Webhooks.
type Subscription struct {
	Name      string         `json:"name"`
	URL       string         `json:"url"`
	Events    []string       `json:"events" doc:"Types of events; none is every type"`
	Partner   string         `json:"partner,omitempty" doc:"Only orders of this partner"`
	SecretIn  string         `json:"secret_in" doc:"Where the secret is found; never itself"`
	State     string         `json:"state" enum:"active,away,paused"`
	Reason    string         `json:"reason,omitempty"`
	Since     time.Time      `json:"since" doc:"Of the state"`
	Position  int64          `json:"position" doc:"Number of the last event that was looked at"`
	CreatedAt time.Time      `json:"created_at"`
	CreatedBy string         `json:"created_by"`
	Counts    DeliveryCounts `json:"counts"`

	ID int64 `json:"-"`
}

// DeliveryCounts counts deliveries by their state.
type DeliveryCounts struct {
	Waiting   int `json:"waiting"`
	Delivered int `json:"delivered"`
	Failed    int `json:"failed"`
}

// NewSubscription asks for a subscription.
type NewSubscription struct {
	Name      string   `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,63}$" doc:"Small letters, digits and hyphens"`
	URL       string   `json:"url" doc:"https, or http on this machine"`
	Events    []string `json:"events,omitempty" doc:"Types of events, such as order.created; by default every type"`
	Partner   string   `json:"partner,omitempty" doc:"Only orders of this partner"`
	SecretEnv string   `json:"secret_env,omitempty" doc:"Environment variable of the service that holds the secret; by default one is made"`
}

// CreatedSubscription is a subscription with its secret, which is not shown again.
type CreatedSubscription struct {
	Subscription
	Secret string `json:"secret,omitempty" doc:"Absent if it is in an environment variable"`
}

// Delivery is one message to a subscriber.
type Delivery struct {
	ID       int64      `json:"id"`
	Event    int64      `json:"event" doc:"Number of the event"`
	Type     string     `json:"type"`
	HookID   string     `json:"webhook_id" doc:"The same at every attempt"`
	State    string     `json:"state" enum:"waiting,delivered,failed"`
	Attempts int        `json:"attempts"`
	MadeAt   time.Time  `json:"made_at"`
	DueAt    time.Time  `json:"due_at" doc:"When a waiting one is tried next"`
	LastAt   *time.Time `json:"last_at,omitempty" doc:"Of the last attempt"`
	Status   int        `json:"status,omitempty" doc:"Of the last answer"`
	Why      string     `json:"why,omitempty" doc:"What was wrong with the last attempt"`
	Body     string     `json:"body"`

	Subscription int64 `json:"-"`
}

// Resend asks for messages to be sent again.
type Resend struct {
	IDs    []int64 `json:"ids,omitempty" doc:"Deliveries"`
	Failed bool    `json:"failed,omitempty" doc:"All that failed"`
}

// Resent says how many messages are sent again.
type Resent struct {
	Count int `json:"count"`
}

// EventTypes are the types of events that subscribers can receive.
var EventTypes = []string{"order.created", "order.changed", "order.revised", "order.answered", "order.moved",
	"order.invoiced", "order.taken_back", "order.removed"}
