package connections

import (
	"context"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/store"
)

// probing is a test of a connection that is under way, or over.
type probing struct {
	ID     string
	Stages []probe.Stage
	Over   bool
	Well   bool
	at     time.Time
}

// probings keeps the tests that pages look at while they are under way.
type probings struct {
	mu   sync.Mutex
	kept map[string]*probing
}

// keptFor is how long a test is kept after it began.
const keptFor = 5 * time.Minute

func (p *probings) begin() *probing {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.kept == nil {
		p.kept = map[string]*probing{}
	}
	for id, old := range p.kept {
		if time.Since(old.at) > keptFor {
			delete(p.kept, id)
		}
	}
	t := &probing{ID: uuid.NewString(), at: time.Now()}
	p.kept[t.ID] = t
	return t
}

// seen gives a copy of a test as it stands.
func (p *probings) seen(id string) *probing {
	p.mu.Lock()
	defer p.mu.Unlock()
	t := p.kept[id]
	if t == nil {
		return nil
	}
	now := *t
	now.Stages = append([]probe.Stage(nil), t.Stages...)
	return &now
}

func (p *probings) change(do func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	do()
}

// testConnection begins to try a connection; its page shows each stage as it ends.
func (b pages) testConnection(c *gin.Context) error {
	_, d, err := b.connectionOf(c)
	if err != nil {
		return err
	}
	t := b.tests.begin()
	pool := b.poolOf(d.In)
	go func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(c.Request.Context()), probeTime)
		defer cancel()
		began := time.Now()
		run := pool.Probe(ctx, d.ID, func(s probe.Stage) { b.tests.change(func() { t.Stages = append(t.Stages, s) }) })
		h := store.Health{Connection: d.ID, Healthy: run.Passed(), ResponseMS: int(time.Since(began).Milliseconds())}
		if n := len(run.Stages); n > 0 && !run.Passed() {
			h.Fault = run.Stages[n-1].Name + ": " + run.Stages[n-1].Finding
		}
		if err := b.Operator(c).NoteHealth(ctx, d.In, h); err != nil {
			b.Log.Warn("the outcome of a test is not noted", "connection", d.ID, "error", err)
		}
		b.tests.change(func() { t.Over, t.Well = true, run.Passed() })
	}()
	c.Redirect(303, "/bench/connections/"+d.ID+"/test/"+t.ID+"?env="+d.In)
	return nil
}

// testSeen shows how far a test is.
func (b pages) testSeen(c *gin.Context) error {
	_, d, err := b.connectionOf(c)
	if err != nil {
		return err
	}
	if d.Test = b.tests.seen(c.Param("test")); d.Test == nil {
		return store.ErrNotFound
	}
	if c.GetHeader("HX-Request") == "true" {
		connectionView.Part(c, "tested", d)
		return nil
	}
	d.offered(c, b)
	connectionView.Page(c, d)
	return nil
}
