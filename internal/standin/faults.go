package standin

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"
)

// FaultInjection are the ways in which a stand-in can misbehave; the zero Moods behaves.
type FaultInjection struct {
	mu     sync.Mutex
	on     map[string]bool
	down   time.Time
	recent []time.Time
	slow   time.Duration // how long an answer takes in the mood; 0 is slowBy
}

// The moods that all stand-ins know.
const (
	Slow    = "slow"    // every answer takes a while
	Refuse  = "refuse"  // nobody may do anything
	Wrong   = "wrong"   // answers that make no sense
	Drop    = "drop"    // the connection ends in the middle of an answer
	Limit   = "limit"   // few calls a second
	Bomb    = "bomb"    // an answer that unpacks to gigabytes
	Expire  = "expire"  // tokens that were given are not taken any more
	HostKey = "hostkey" // another host key than before
)

// slowBy is how long a slow stand-in waits, unless SlowFor says otherwise.
const slowBy = 3 * time.Second

// SlowFor sets how long every answer takes in the mood Slow.
func (m *FaultInjection) SlowFor(d time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.slow = d
}

func (m *FaultInjection) pause() time.Duration {
	m.mu.Lock()
	defer m.mu.Unlock()
	return cmp.Or(m.slow, slowBy)
}

// DownFor is how long a stand-in stays away that goes down.
const DownFor = 10 * time.Second

// Is says whether a mood is on.
func (m *FaultInjection) Is(mood string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.on[mood]
}

// Set puts a mood on or off.
func (m *FaultInjection) Set(mood string, on bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.on == nil {
		m.on = map[string]bool{}
	}
	m.on[mood] = on
}

// TakeDown makes the stand-in unreachable for a while.
func (m *FaultInjection) TakeDown(d time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.down = time.Now().Add(d)
}

// Reset ends all moods.
func (m *FaultInjection) Reset() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.on, m.down = nil, time.Time{}
}

// Down says whether the stand-in is away.
func (m *FaultInjection) Down() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return time.Now().Before(m.down)
}

// busy counts a call and says whether there were too many within a second.
func (m *FaultInjection) busy() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.on[Limit] {
		return false
	}
	now := time.Now()
	kept := m.recent[:0]
	for _, t := range m.recent {
		if now.Sub(t) < time.Second {
			kept = append(kept, t)
		}
	}
	m.recent = append(kept, now)
	return len(m.recent) > 3
}

var moodLabels = map[string][2]string{
	Slow: {"Be slow", "every answer takes 3 seconds"}, Refuse: {"Refuse", "nobody may do anything"}, Wrong: {"Answer nonsense", "answers that make no sense"},
	Drop: {"Drop in mid-answer", "the connection ends in the middle of an answer"}, Limit: {"Limit the rate", "3 calls a second, then 429 with Retry-After"},
	Bomb: {"Send a bomb", "a small answer that unpacks to gigabytes"}, Expire: {"Expire tokens", "tokens that were given are not taken any more"},
	HostKey: {"Change the host key", "another key than before"},
}

// Actions are buttons for moods, and for going down and behaving again.
func (m *FaultInjection) Actions(moods ...string) []Action {
	var list []Action
	for _, mood := range moods {
		label := moodLabels[mood]
		if m.Is(mood) {
			label[0] = "✓ " + label[0]
		}
		list = append(list, Action{Name: mood, Label: label[0], About: label[1], Do: func(context.Context) (string, error) {
			m.Set(mood, !m.Is(mood))
			return "", nil
		}})
	}
	down := Action{Name: "down", Label: "Go down", About: fmt.Sprintf("for %s", DownFor), Do: func(context.Context) (string, error) {
		m.TakeDown(DownFor)
		return fmt.Sprintf("Down for %s.", DownFor), nil
	}}
	behave := Action{Name: "behave", Label: "Behave", About: "end all moods", Do: func(context.Context) (string, error) {
		m.Reset()
		return "As it should be.", nil
	}}
	return append(list, down, behave)
}

// Handler puts the moods before an HTTP service.
func (m *FaultInjection) Handler(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if m.Is(Slow) {
			select {
			case <-time.After(m.pause()):
			case <-r.Context().Done():
				return
			}
		}
		switch {
		case m.Down():
			panic(http.ErrAbortHandler) // a connection that was open before
		case m.busy():
			w.Header().Set("Retry-After", "1")
			http.Error(w, `{"title": "too many calls"}`, http.StatusTooManyRequests)
		case m.Is(Refuse):
			http.Error(w, `{"title": "not today"}`, http.StatusForbidden)
		case m.Is(Wrong):
			w.Header().Set("Content-Type", "application/json")
			w.Write([]byte(`{"this is": [not what`))
		case m.Is(Bomb):
			w.Header().Set("Content-Type", "application/json")
			w.Header().Set("Content-Encoding", "gzip")
			writeBomb(w)
		case m.Is(Drop):
			w.Header().Set("Content-Length", "4096")
			w.Write([]byte(`{"items": [`))
			http.NewResponseController(w).Flush()
			panic(http.ErrAbortHandler)
		default:
			next.ServeHTTP(w, r)
		}
	})
}

// Listener puts the moods before a service that speaks over TCP: one that is down or refuses ends each
// connection at once, a slow one waits before each answer, one that drops ends in the middle of an answer.
func (m *FaultInjection) Listener(l net.Listener) net.Listener { return &faultyListener{l, m} }

type faultyListener struct {
	net.Listener
	moods *FaultInjection
}

func (l *faultyListener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if l.moods.Down() || l.moods.Is(Refuse) {
			c.Close()
			continue
		}
		return &faultyConn{Conn: c, moods: l.moods}, nil
	}
}

type faultyConn struct {
	net.Conn
	moods   *FaultInjection
	written int
}

// dropAfter is how many bytes one that drops still sends.
const dropAfter = 600

func (c *faultyConn) Write(b []byte) (int, error) {
	if c.moods.Down() {
		c.Close()
		return 0, errors.New("down")
	}
	if c.moods.Is(Slow) {
		time.Sleep(c.moods.pause())
	}
	if c.moods.Is(Wrong) {
		b = bytes.Repeat([]byte{'?'}, len(b))
	}
	if c.moods.Is(Drop) && c.written+len(b) > dropAfter {
		n, _ := c.Conn.Write(b[:max(0, min(len(b), dropAfter-c.written))])
		c.Close()
		return n, errors.New("dropped")
	}
	n, err := c.Conn.Write(b)
	c.written += n
	return n, err
}

// Listen takes a free port of this machine until the context ends.
func Listen(ctx context.Context) (net.Listener, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, func() { l.Close() })
	return l, nil
}

// away ends each connection at once while the stand-in is down; the other moods of an HTTP service are those of
// its Handler.
type away struct {
	net.Listener
	moods *FaultInjection
}

func (l *away) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil || !l.moods.Down() {
			return c, err
		}
		c.Close()
	}
}

// HTTP serves a service with its moods on a free port of this machine until the context ends, and gives its
// address. What it is asked is written into the log.
func HTTP(ctx context.Context, m *FaultInjection, log *Log, h http.Handler) (string, error) {
	l, err := Listen(ctx)
	if err != nil {
		return "", err
	}
	server := &http.Server{Handler: log.handler(m.Handler(h)), ReadHeaderTimeout: 5 * time.Second}
	go server.Serve(&away{l, m})
	context.AfterFunc(ctx, func() { server.Close() })
	return "http://" + l.Addr().String(), nil
}

// Relay passes connections on to a server inside, with the moods of the listener on the way back.
func Relay(l net.Listener, inside string) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			to, err := net.Dial("tcp", inside)
			if err != nil {
				return
			}
			defer to.Close()
			go func() {
				io.Copy(to, c)
				to.Close()
			}()
			io.Copy(c, to)
		}()
	}
}

// Reachable waits until something listens.
func Reachable(ctx context.Context, at string) error {
	for {
		c, err := net.Dial("tcp", at)
		if err == nil {
			return c.Close()
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}
