// Package crew is the demo's worker. It takes jobs from the relays, does them, which takes a while, and records each
// result in the wardens before it tells the relays that the job is done. It is ready while it reaches both.
//
// A job's body is "KEY=WORK"; its result is written under jobs/KEY as "NAME did WORK".
package crew

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"lanternfield/internal/demo/part"
	"lanternfield/internal/demo/relay"
)

// Options are what a crew is started with.
type Options struct {
	part.Options
	Takes time.Duration // how long a job takes
}

// Config is a crew's config file: the URLs of those it works with.
type Config struct {
	Stores []string `json:"stores"`
	Relays []string `json:"relays"`
}

type crew struct {
	*part.Part
	takes  time.Duration
	config atomic.Pointer[Config]
	http   *http.Client
	did    atomic.Int64
}

// jobWait is how long a relay is asked to keep the question for a job open.
const jobWait = 2 * time.Second

// Run is a crew from start to end.
func Run(ctx context.Context, o Options) error {
	return part.Run(ctx, "crew", o.Options, func(ctx context.Context, p *part.Part) error { return play(ctx, p, o) })
}

func play(ctx context.Context, p *part.Part, o Options) error {
	c := &crew{Part: p, takes: o.Takes, http: &http.Client{}}
	if err := part.Configured(ctx, p, func(n Config) { c.config.Store(&n) }); err != nil {
		return err
	}
	l, err := p.Listen()
	if err != nil {
		return err
	}
	p.Measure("jobs_done_total", func() float64 { return float64(c.did.Load()) })
	p.ReadyWhen(c.reaches)
	go c.work(ctx)
	return p.Serve(ctx, l)
}

// reaches tells whether a relay answers and the wardens can take a write: somebody leads them.
func (c *crew) reaches(ctx context.Context) error {
	n := c.config.Load()
	if err := c.any(ctx, n.Relays, func(url string) error {
		return part.Call(ctx, c.http, http.MethodGet, url+"/health", nil, nil)
	}); err != nil {
		return fmt.Errorf("no relay: %w", err)
	}
	if err := c.any(ctx, n.Stores, func(url string) error {
		return part.Call(ctx, c.http, http.MethodGet, url+"/health", nil, nil)
	}); err != nil {
		return fmt.Errorf("no warden: %w", err)
	}
	return nil
}

// any tries one after the other, from a random one on, until one succeeds.
func (c *crew) any(ctx context.Context, urls []string, try func(url string) error) error {
	if len(urls) == 0 {
		return errors.New("none is known")
	}
	first := rand.IntN(len(urls))
	var err error
	for i := range urls {
		if err = try(urls[(first+i)%len(urls)]); err == nil || ctx.Err() != nil {
			return err
		}
	}
	return err
}

func (c *crew) work(ctx context.Context) {
	for ctx.Err() == nil {
		var j relay.Job
		from := ""
		err := c.any(ctx, c.config.Load().Relays, func(url string) error {
			from = url
			return part.Call(ctx, c.http, http.MethodGet, url+"/jobs/next?wait="+jobWait.String(), nil, &j)
		})
		switch {
		case err != nil:
			part.Sleep(ctx, 100*time.Millisecond)
		case j.ID != "" && part.Sleep(ctx, c.takes):
			c.finish(ctx, from, j)
		}
	}
}

// finish records the result first: a job that is told to be done is done. One that cannot be recorded is handed out
// again by its relay.
func (c *crew) finish(ctx context.Context, from string, j relay.Job) {
	key, work, _ := strings.Cut(j.Body, "=")
	err := c.any(ctx, c.config.Load().Stores, func(url string) error {
		return part.Call(ctx, c.http, http.MethodPut, url+"/kv/jobs/"+key, strings.NewReader(c.Name+" did "+work), nil)
	})
	if err != nil {
		fmt.Printf("job %s could not be recorded: %v\n", j.ID, err)
		return
	}
	if err := part.Call(ctx, c.http, http.MethodPost, from+"/jobs/"+j.ID+"/done", nil, nil); err == nil {
		c.did.Add(1)
	}
}
