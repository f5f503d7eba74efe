package page

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/design"
	"hollowreed/internal/store"
)

// Hub passes on to the open pages what has changed, as server-sent events: of what the database announces the topics that pages
// show.
type Hub struct {
	project   string
	mu        sync.Mutex
	listeners map[*listener]bool
}

// listener is one open page with what has changed and was not sent to it yet.
type listener struct {
	client string // its address
	wake   chan struct{}
	topics map[string]bool
}

// maxTopics bounds what is kept for one page: where more has changed, anything may have.
const maxTopics = 200

// Anything is the topic of a page that must look at all that it shows.
const Anything = "*"

// Bounds on the open pages: all of them, and those of one address, which shuts out no other.
const (
	maxListeners = 500
	maxOfOne     = 200
)

// NewHub listens until the context ends, connecting anew when the database goes away.
func NewHub(ctx context.Context, w *design.Workspace) *Hub {
	h := &Hub{project: w.Project, listeners: map[*listener]bool{}}
	go func() {
		for ctx.Err() == nil {
			_ = store.Listen(ctx, w.DB, h.tellAnything, h.tell) // it is tried again
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}()
	return h
}

// topicsOf are what pages of the project may show of a change that is announced: a kind, and mostly of what.
func (h *Hub) topicsOf(announced string) (topics []string) {
	kind, rest, _ := strings.Cut(announced, " ")
	switch kind {
	case "runs":
		if rest == "" {
			return []string{"runs"}
		}
		for run := range strings.SplitSeq(rest, " ") {
			project, run, _ := strings.Cut(run, "/")
			flow, id, _ := strings.Cut(run, "/")
			switch {
			case project != "" && project != h.project:
				continue
			case flow == "":
				topics = append(topics, "runs")
			default:
				topics = append(topics, "runs:"+flow)
			}
			topics = append(topics, "run:"+id)
		}
		return topics
	case "part", "release", "trigger", "setting", "health":
		if project, of, _ := strings.Cut(rest, " "); project == h.project {
			return []string{kind + ":" + url.PathEscape(of)}
		}
	case "secret":
		if project, _, _ := strings.Cut(rest, " "); project == h.project {
			return []string{kind} // its name is nobody's business
		}
	}
	return nil
}

func (h *Hub) tell(announced string) {
	if topics := h.topicsOf(announced); len(topics) > 0 {
		h.changed(topics)
	}
}

// tellAnything tells all pages that anything may have changed, as it may have while the database was not listened to.
func (h *Hub) tellAnything() { h.changed([]string{Anything}) }

func (h *Hub) changed(topics []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for l := range h.listeners {
		for _, topic := range topics {
			if len(l.topics) >= maxTopics {
				clear(l.topics)
				topic = Anything
			}
			l.topics[topic] = true
		}
		select {
		case l.wake <- struct{}{}:
		default: // it is awake already
		}
	}
}

// take gives what has changed for a page since it was asked last.
func (h *Hub) take(l *listener) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	topics := slices.Sorted(maps.Keys(l.topics))
	clear(l.topics)
	return strings.Join(topics, " ")
}

func (h *Hub) join(client string) *listener {
	h.mu.Lock()
	defer h.mu.Unlock()
	ofOne := 0
	for other := range h.listeners {
		if other.client == client {
			ofOne++
		}
	}
	if len(h.listeners) >= maxListeners || ofOne >= maxOfOne {
		return nil
	}
	l := &listener{client: client, wake: make(chan struct{}, 1), topics: map[string]bool{}}
	h.listeners[l] = true
	return l
}

func (h *Hub) leave(l *listener) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.listeners, l)
}

// eventTime is how long a live page may take for one event.
const eventTime = 30 * time.Second

// Serve is the stream of one open page.
func (h *Hub) Serve(c *gin.Context) {
	client, _, _ := net.SplitHostPort(c.Request.RemoteAddr)
	l := h.join(client)
	if l == nil {
		c.Header("Retry-After", "5")
		c.Status(http.StatusTooManyRequests)
		return
	}
	defer h.leave(l)
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
		case <-l.wake:
			event = ": nothing new"
			if topics := h.take(l); topics != "" {
				event = "event: change\ndata: " + topics
			}
		case <-beat.C:
			event = ": still here"
		}
	}
}
