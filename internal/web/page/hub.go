package page

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/design"
	"hollowreed/internal/store"
)

// Hub passes what the database announces on to the open pages, as server-sent events.
type Hub struct {
	mu        sync.Mutex
	listeners map[chan string]string // the address of each
}

// Bounds on the open pages: all of them, and those of one address, which shuts out no other.
const (
	maxListeners = 500
	maxOfOne     = 200
)

// NewHub listens until the context ends, connecting anew when the database goes away.
func NewHub(ctx context.Context, w *design.Workspace) *Hub {
	h := &Hub{listeners: map[chan string]string{}}
	go func() {
		for ctx.Err() == nil {
			_ = store.Listen(ctx, w.DB, func() {}, h.tell) // it is tried again
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}()
	return h
}

func (h *Hub) tell(what string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.listeners {
		select {
		case ch <- what:
		default: // it has one waiting already, and will look anew anyway
		}
	}
}

func (h *Hub) join(client string) chan string {
	h.mu.Lock()
	defer h.mu.Unlock()
	ofOne := 0
	for _, other := range h.listeners {
		if other == client {
			ofOne++
		}
	}
	if len(h.listeners) >= maxListeners || ofOne >= maxOfOne {
		return nil
	}
	ch := make(chan string, 1)
	h.listeners[ch] = client
	return ch
}

func (h *Hub) leave(ch chan string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.listeners, ch)
}

// eventTime is how long a live page may take for one event.
const eventTime = 30 * time.Second

// Serve is the stream of one open page.
func (h *Hub) Serve(c *gin.Context) {
	client, _, _ := net.SplitHostPort(c.Request.RemoteAddr)
	ch := h.join(client)
	if ch == nil {
		c.Header("Retry-After", "5")
		c.Status(http.StatusTooManyRequests)
		return
	}
	defer h.leave(ch)
	c.Header("Content-Type", "text/event-stream")
	c.Header("Cache-Control", "no-store")
	tell := func(event string) bool {
		Answered(c, eventTime)
		_, err := fmt.Fprint(c.Writer, event+"\n\n")
		return err == nil && http.NewResponseController(c.Writer).Flush() == nil
	}
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for event := "retry: 1000"; tell(event); {
		select {
		case <-c.Request.Context().Done():
			return
		case <-ch:
			event = "event: change\ndata: 1"
		case <-beat.C:
			event = ": still here"
		}
	}
}
