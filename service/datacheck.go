package service

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"koinos/api"
	"koinos/backup"
)

// checkEvery is how often the service checks its data automatically.
const checkEvery = 24 * time.Hour

// checking is the check of the data that is running, or that ran last.
type checking struct {
	mu    sync.Mutex
	state api.DataCheck
	asked chan struct{}
}

func (c *checking) get() api.DataCheck {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state
}

func (c *checking) set(f func(*api.DataCheck)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.state)
}

// dataChecks checks the data once a day, and on request, until ctx ends.
func (s *Service) dataChecks(ctx context.Context) {
	daily := time.NewTicker(checkEvery)
	defer daily.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-daily.C:
			s.check.set(func(c *api.DataCheck) {
				if !c.Running { // else it is asked for already
					begin(c, s.now())
				}
			})
		case <-s.check.asked:
		}
		troubles, err := backup.Check(ctx, s.cfg.Data, func(done, of int) {
			s.check.set(func(c *api.DataCheck) { c.Checked, c.Documents = done, of })
		})
		if ctx.Err() != nil {
			return
		}
		s.check.set(func(c *api.DataCheck) {
			now := s.now().UTC()
			c.Running, c.Ended = false, &now
			if c.Troubles = troubles; troubles == nil {
				c.Troubles = []api.Trouble{}
			}
			if err != nil {
				c.Failed = err.Error()
			}
		})
		for _, t := range troubles {
			s.log.Error("the data is not whole", "what", t.What, "document", t.Document, "message", t.Message)
		}
		if err != nil {
			s.log.Error("the data could not be checked", "error", err)
		}
	}
}

func begin(c *api.DataCheck, now time.Time) {
	now = now.UTC()
	*c = api.DataCheck{Running: true, Started: &now, Troubles: []api.Trouble{}}
}

func (s *Service) dataCheck(h huma.API) {
	const tag = "Operation"
	start := op(http.MethodPost, "/data-check", "start-data-check", tag, "admin", "Check whether the data is whole")
	start.Description = "The database, what its rows refer to, the numbers that were given, and every kept document by its " +
		"SHA-256. The answer comes at once; get-data-check says how it goes. The service does this by itself once a day."
	start.DefaultStatus = http.StatusAccepted
	handle(s, h, start, func(context.Context, *none) (*answer[api.DataCheck], error) {
		s.check.set(func(c *api.DataCheck) {
			if !c.Running {
				begin(c, s.now())
				select {
				case s.check.asked <- struct{}{}:
				default: // one is asked for already
				}
			}
		})
		return &answer[api.DataCheck]{s.check.get()}, nil
	})
	handle(s, h, op(http.MethodGet, "/data-check", "get-data-check", tag, "admin",
		"How the check of the data goes, or how the last one ended"),
		func(context.Context, *none) (*answer[api.DataCheck], error) {
			return &answer[api.DataCheck]{s.check.get()}, nil
		})
}
