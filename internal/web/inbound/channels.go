package inbound

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

// Bounds on the use of channels.
const (
	maxPut    = 16 << 20 // bytes of messages that are put at once
	mostShown = 100      // messages of one look
	beatEvery = 15 * time.Second
	streams   = 30 * time.Minute // after which a stream ends; who reads it comes again
)

// channelCall is a program that uses a channel.
type channelCall struct {
	c  *gin.Context
	s  *page.Site
	ch *channel.Channel
	id int
}

// message is a message as programs see it.
type message struct {
	Place    string            `json:"place"`
	ID       string            `json:"id"`
	PutAt    time.Time         `json:"put_at"`
	Key      string            `json:"key,omitempty"`
	Headers  map[string]string `json:"headers,omitempty"`
	Media    string            `json:"media,omitempty"`
	Body     json.RawMessage   `json:"body,omitempty"`
	Text     *string           `json:"text,omitempty"`  // of a body that is no JSON
	Bytes    []byte            `json:"bytes,omitempty"` // of one that is no text: Base64
	Attempts int               `json:"attempts,omitempty"`
}

// newMessage is a message as programs put it.
type newMessage struct {
	ID      string            `json:"id"`
	Key     string            `json:"key"`
	Headers map[string]string `json:"headers"`
	Media   string            `json:"media"`
	Body    json.RawMessage   `json:"body"`
	Text    *string           `json:"text"`
	Bytes   []byte            `json:"bytes"`
}

// channelRoutes adds the addresses at which programs use channels.
func channelRoutes(r gin.IRouter, s *page.Sites) {
	with := func(do func(*channelCall) error) gin.HandlerFunc {
		return func(c *gin.Context) {
			site, err := s.Of(c, c.Param("project"))
			if err != nil {
				nowhere(c, s, err)
				return
			}
			usesChannel(c, site, do)
		}
	}
	const at = "/p/:project/channels/:channel"
	r.POST(at+"/messages", with((*channelCall).put))
	r.GET(at+"/messages", with((*channelCall).look))
	r.GET(at+"/stream", with((*channelCall).stream))
	for _, of := range []string{at, at + "/subscriptions/:subscription"} {
		r.POST(of+"/take", with((*channelCall).take))
		r.POST(of+"/acknowledge", with((*channelCall).acknowledge))
		r.POST(of+"/return", with((*channelCall).giveBack))
	}
	r.GET(at+"/openapi", func(c *gin.Context) { // what a channel is may be known
		site, err := s.Of(c, c.Param("project"))
		if err != nil {
			nowhere(c, s, err)
			return
		}
		openAPI(c, site)
	})
	r.GET("/p/:project/asyncapi", func(c *gin.Context) {
		site, err := s.Of(c, c.Param("project"))
		if err != nil {
			nowhere(c, s, err)
			return
		}
		asyncAPI(c, site)
	})
}

// usesChannel does one thing with a channel, for who may.
func usesChannel(c *gin.Context, s *page.Site, do func(*channelCall) error) {
	page.Bounded(c, maxPut)
	ch, id, err := s.Engine.Channel(c, s.Scope, c.Param("channel"))
	if err == nil && ch == nil {
		page.Unread(c)
		tell(c, problem{Status: http.StatusNotFound, Detail: "there is no channel of this name that is released"})
		return
	}
	if err == nil && foreign(c.Request) {
		page.Unread(c)
		tell(c, problem{Status: http.StatusForbidden, Detail: "a page of another site sent this"})
		return
	}
	if err == nil {
		_, err = s.Engine.ChannelCaller(c, s.Scope, ch, c.GetHeader("Api-Key"))
	}
	if err == nil {
		err = do(&channelCall{c, s, ch, id})
	}
	var f *fault.Fault
	var large *http.MaxBytesError
	switch {
	case err == nil:
	case errors.As(err, new(*engine.Rejected)):
		page.Unread(c)
		refuse(c, s, nil, err)
	case errors.As(err, &large):
		tell(c, problem{Status: http.StatusRequestEntityTooLarge, Detail: "the body is larger than " + strconv.Itoa(maxPut>>20) + " MB"})
	case errors.As(err, &f):
		tell(c, problem{Status: http.StatusUnprocessableEntity, Detail: f.What(), Faults: reasonsAt(fault.List{f}, func(*fault.Fault) string { return "" })})
	default:
		refuse(c, s, nil, err)
	}
}

// put puts one message, the body as it comes, or several as JSON: {"messages": […]} with the media type application/vnd.messages+json.
func (k *channelCall) put() error {
	body, err := read(k.c.Request)
	if err != nil {
		return err
	}
	media := k.c.GetHeader("Content-Type")
	if strings.HasPrefix(media, batchMedia) {
		return k.putBatch(body)
	}
	m := engine.NewMessage{ID: k.c.GetHeader("Message-Id"), Key: k.c.GetHeader("Message-Key"), Media: media, Body: body, Origin: "program"}
	for name, values := range k.c.Request.Header {
		if of, is := strings.CutPrefix(strings.ToLower(name), "message-header-"); is && of != "" {
			m.Headers = append(m.Headers, running.Pair{Name: of, Value: values[0]})
		}
	}
	slices.SortFunc(m.Headers, func(a, b running.Pair) int { return strings.Compare(a.Name, b.Name) })
	done, err := k.s.Engine.PutMessages(k.c, k.s.Scope, k.ch.ID, []engine.NewMessage{m})
	switch {
	case err != nil:
		return err
	case done[0].Fault != nil:
		return done[0].Fault
	}
	k.c.JSON(http.StatusCreated, done[0])
	return nil
}

// batchMedia is the media type of several messages.
const batchMedia = "application/vnd.messages+json"

// outcome is what became of a message of several.
type outcome struct {
	engine.PutMessage
	Refused string `json:"refused,omitempty"`
}

func (k *channelCall) putBatch(body []byte) error {
	var batch struct {
		Messages []newMessage `json:"messages"`
	}
	if err := json.Unmarshal(body, &batch); err != nil {
		return fault.New(fault.Syntax, "the messages cannot be read: %s", err)
	}
	list := make([]engine.NewMessage, len(batch.Messages))
	for i, m := range batch.Messages {
		list[i] = m.plain()
	}
	done, err := k.s.Engine.PutMessages(k.c, k.s.Scope, k.ch.ID, list)
	if err != nil {
		return err
	}
	out := make([]outcome, len(done))
	for i, d := range done {
		if out[i].PutMessage = d; d.Fault != nil {
			out[i].Refused = d.Fault.What()
		}
	}
	k.c.JSON(http.StatusOK, map[string]any{"messages": out})
	return nil
}

func (m newMessage) plain() engine.NewMessage {
	out := engine.NewMessage{ID: m.ID, Key: m.Key, Media: m.Media, Body: m.Body, Origin: "program"}
	switch {
	case m.Text != nil:
		out.Body = []byte(*m.Text)
	case m.Bytes != nil:
		out.Body = m.Bytes
	case out.Media == "":
		out.Media = "application/json"
	}
	for name, v := range m.Headers {
		out.Headers = append(out.Headers, running.Pair{Name: strings.ToLower(name), Value: v})
	}
	slices.SortFunc(out.Headers, func(a, b running.Pair) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func (k *channelCall) shown(m store.ChannelMessage, attempts int) message {
	out := message{Place: fmt.Sprintf("%d-%d", m.Xid, m.ID), ID: m.MessageID, PutAt: m.PutAt.UTC(), Key: m.Key, Media: m.Media, Attempts: attempts}
	for _, h := range k.s.Engine.MessageHeaders(m.Headers) {
		if out.Headers == nil {
			out.Headers = map[string]string{}
		}
		out.Headers[h.Name] = h.Value
	}
	switch {
	case json.Valid(m.Body) && utf8.Valid(m.Body):
		out.Body = m.Body
	case utf8.Valid(m.Body):
		text := string(m.Body)
		out.Text = &text
	default:
		out.Bytes = m.Body
	}
	return out
}

// look lists messages, the newest first, without taking any.
func (k *channelCall) look() error {
	before, _ := placeOf(k.c.Query("before"))
	most, err := strconv.Atoi(k.c.DefaultQuery("most", "20"))
	if err != nil || most < 1 || most > mostShown {
		return fault.Expect(fault.Range, fmt.Sprintf("1 to %d", mostShown), fault.Quote(k.c.Query("most"))).InField("query most")
	}
	list, err := store.LookAtMessages(k.c, k.s.DB, k.id, before, "", most)
	if err != nil {
		return err
	}
	out := make([]message, len(list))
	for i, m := range list {
		out[i] = k.shown(m, 0)
	}
	k.c.JSON(http.StatusOK, map[string]any{"messages": out})
	return nil
}

func placeOf(text string) (p store.ChannelPlace, ok bool) {
	xid, id, _ := strings.Cut(text, "-")
	var err, other error
	p.Xid, err = strconv.ParseInt(xid, 10, 64)
	p.ID, other = strconv.ParseInt(id, 10, 64)
	return p, err == nil && other == nil
}

// wanted reads what a program wants, as JSON; nothing is everything as it is by default.
func (k *channelCall) wanted(into any) error {
	body, err := read(k.c.Request)
	if err != nil || len(body) == 0 {
		return err
	}
	if err := json.Unmarshal(body, into); err != nil {
		return fault.New(fault.Syntax, "the request cannot be read: %s", err)
	}
	return nil
}

// take hands messages out, and waits for the first for a while.
func (k *channelCall) take() error {
	want := struct {
		Most, Hold, Wait int
		From             string
	}{Most: 10, Hold: 60}
	if err := k.wanted(&want); err != nil {
		return err
	}
	page.Answered(k.c, 2*sendTime)
	token, list, err := k.s.Engine.TakeMessages(k.c, k.s.Scope, k.ch, engine.Take{
		Subscription: k.c.Param("subscription"), From: want.From, Most: want.Most, Hold: time.Duration(want.Hold) * time.Second, Wait: time.Duration(want.Wait) * time.Second,
	})
	if err != nil {
		return err
	}
	out := make([]message, len(list))
	for i, m := range list {
		out[i] = k.shown(m.ChannelMessage, m.Attempts)
	}
	k.c.JSON(http.StatusOK, map[string]any{"token": token, "messages": out})
	return nil
}

// held is what a program says of messages that it has.
type held struct {
	Token    uuid.UUID
	Messages []string // their places
	Reason   string
	After    int // seconds
}

func (k *channelCall) held() (h held, list []store.ChannelPlace, err error) {
	if err := k.wanted(&h); err != nil {
		return h, nil, err
	}
	for _, text := range h.Messages {
		p, ok := placeOf(text)
		if !ok {
			return h, nil, fault.Expect(fault.Setting, "places of messages as they were handed out", fault.Quote(text)).InField("messages")
		}
		list = append(list, p)
	}
	return h, list, nil
}

func (k *channelCall) acknowledge() error {
	h, list, err := k.held()
	if err != nil {
		return err
	}
	n, err := k.s.Engine.Acknowledge(k.c, k.s.Scope, k.ch, k.c.Param("subscription"), h.Token, list)
	if err != nil {
		return err
	}
	k.c.JSON(http.StatusOK, map[string]int{"acknowledged": n})
	return nil
}

func (k *channelCall) giveBack() error {
	h, list, err := k.held()
	if err != nil {
		return err
	}
	n, err := k.s.Engine.ReturnMessages(k.c, k.s.Scope, k.ch, k.c.Param("subscription"), h.Token, list, time.Duration(h.After)*time.Second, h.Reason)
	if err != nil {
		return err
	}
	k.c.JSON(http.StatusOK, map[string]int{"returned": n})
	return nil
}

// stream sends messages as they come, without taking any, as server-sent events. The id of each is its place; who comes again says the
// last one (Last-Event-ID).
func (k *channelCall) stream() error {
	at, ok := placeOf(k.c.GetHeader("Last-Event-ID"))
	if !ok {
		var err error
		if at, err = store.PlaceAt(k.c, k.s.DB, k.id, time.Now()); err != nil {
			return err
		}
	}
	out := page.Streamed(k.c)
	k.c.Header("Content-Type", "text/event-stream")
	k.c.Status(http.StatusOK)
	flush := http.NewResponseController(k.c.Writer)
	until, beat := time.After(streams), time.NewTicker(beatEvery)
	defer beat.Stop()
	for {
		heard := k.s.Engine.Arrival(k.s.Scope.String() + " " + k.ch.ID)
		list, err := store.NextMessages(k.c, k.s.DB, k.id, at, mostShown)
		if err != nil {
			return nil // the stream has begun: who reads it comes again
		}
		for _, m := range list {
			at = m.ChannelPlace
			text, err := json.Marshal(k.shown(m, 0))
			if err != nil {
				continue
			}
			if _, err := fmt.Fprintf(out, "id: %d-%d\ndata: %s\n\n", m.Xid, m.ID, text); err != nil {
				return nil
			}
		}
		if flush.Flush() != nil {
			return nil
		}
		if len(list) == mostShown {
			continue
		}
		select {
		case <-k.c.Done():
			return nil
		case <-until:
			return nil
		case <-heard:
		case <-time.After(time.Second): // what a transaction held back may be there now
		case <-beat.C:
			if _, err := fmt.Fprint(out, ": \n\n"); err != nil {
				return nil
			}
		}
	}
}

// openAPI sends the document by which programs use a channel.
func openAPI(c *gin.Context, s *page.Site) {
	ch, _, err := s.Engine.Channel(c, s.Scope, c.Param("channel"))
	if err == nil && ch == nil {
		tell(c, problem{Status: http.StatusNotFound, Detail: "there is no channel of this name that is released"})
		return
	}
	var text []byte
	if err == nil {
		text, err = ch.OpenAPI(s.Calls + "/channels/" + ch.ID)
	}
	if err != nil {
		refuse(c, s, nil, err)
		return
	}
	c.Data(http.StatusOK, "application/json", text)
}

// asyncAPI sends the document of all channels of a project.
func asyncAPI(c *gin.Context, s *page.Site) {
	list, err := s.Engine.Channels(c, s.Scope)
	var text []byte
	if err == nil {
		text, err = channel.AsyncAPI(s.Workspace.Project, s.Calls, list)
	}
	if err != nil {
		refuse(c, s, nil, err)
		return
	}
	c.Header("Content-Disposition", `attachment; filename="asyncapi.json"`)
	c.Data(http.StatusOK, "application/json", text)
}
