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

	"hollowreed/internal/store"
)

// Hub passes on to the open pages what has changed, as server-sent events: of what the database announces the topics that pages
// show.
type Hub struct {
	mu        sync.Mutex
	listeners map[*listener]bool
}

// listener is one open page with what has changed and was not sent to it yet.
type listener struct {
	scope  store.Scope // whose pages
	client string      // its address
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
func NewHub(ctx context.Context, db *store.Pool) *Hub {
	h := &Hub{listeners: map[*listener]bool{}}
	go func() {
		for ctx.Err() == nil {
			_ = store.Listen(ctx, db, h.tellAnything, h.tell) // it is tried again
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}()
	return h
}

// change is a topic that has changed, and in which scope; an empty project or environment is any.
type change struct {
	scope store.Scope
	topic string
}

func (c change) concerns(s store.Scope) bool {
	return (c.scope.Project == "" || c.scope.Project == s.Project) && (c.scope.Environment == "" || c.scope.Environment == s.Environment)
}

// changesOf are what pages may show of a change that is announced: a kind, in which scope, and mostly of what.
func changesOf(announced string) []change {
	kind, rest, _ := strings.Cut(announced, " ")
	in, of, _ := strings.Cut(rest, " ")
	var c change
	c.scope.Project, c.scope.Environment, _ = strings.Cut(in, "/")
	switch kind {
	case "runs":
		return runChanges(rest)
	case "secret":
		c.topic = kind // its name is nobody's business
	case "deployment":
		c.topic = "release:" + url.PathEscape(of)
	case "part", "release", "trigger", "setting", "health", "debug", "message":
		c.topic = kind + ":" + url.PathEscape(of)
	}
	if c.topic == "" || in == "" {
		return nil
	}
	return []change{c}
}

// runChanges are those of runs, each as project/environment/flow/run, of which anything but the run may be unknown.
func runChanges(runs string) (list []change) {
	if runs == "" {
		return []change{{topic: "runs"}}
	}
	for run := range strings.SplitSeq(runs, " ") {
		var s store.Scope
		var flow, id string
		s.Project, run, _ = strings.Cut(run, "/")
		s.Environment, run, _ = strings.Cut(run, "/")
		flow, id, _ = strings.Cut(run, "/")
		topic := "runs"
		if flow != "" {
			topic = "runs:" + flow
		}
		list = append(list, change{s, topic}, change{s, "run:" + id})
	}
	return list
}

func (h *Hub) tell(announced string) {
	if list := changesOf(announced); len(list) > 0 {
		h.changed(list)
	}
}

// tellAnything tells all pages that anything may have changed, as it may have while the database was not listened to.
func (h *Hub) tellAnything() { h.changed([]change{{topic: Anything}}) }

func (h *Hub) changed(list []change) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for l := range h.listeners {
		l.note(list)
	}
}

// note keeps what concerns the page, and wakes it.
func (l *listener) note(list []change) {
	for _, c := range list {
		if !c.concerns(l.scope) {
			continue
		}
		if len(l.topics) >= maxTopics {
			clear(l.topics)
			c.topic = Anything
		}
		l.topics[c.topic] = true
	}
	if len(l.topics) == 0 {
		return
	}
	select {
	case l.wake <- struct{}{}:
	default: // it is awake already
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

func (h *Hub) join(s store.Scope, client string) *listener {
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
	l := &listener{scope: s, client: client, wake: make(chan struct{}, 1), topics: map[string]bool{}}
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

// Serve is the stream of one open page of a scope.
func (h *Hub) Serve(c *gin.Context, s store.Scope) {
	client, _, _ := net.SplitHostPort(c.Request.RemoteAddr)
	l := h.join(s, client)
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
