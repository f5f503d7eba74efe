// Package channels holds the page of a channel: its messages as they come, its readers, and its settings.
package channels

import (
	"embed"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector/apicall"
	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type pages struct{ base.Pages }

// Routes adds the addresses of channels.
func Routes(r gin.IRouter, s *page.Site) {
	b := pages{base.Pages{Site: s}}
	r.GET("/bench/channels/:id", s.Do(b.channel))
	r.POST("/bench/channels/:id", s.Do(b.setChannel))
	r.POST("/bench/channels/:id/release", s.Do(b.release))
	r.POST("/bench/channels/:id/copies", s.Do(b.setCopies))
	r.POST("/bench/channels/:id/bridge", s.Do(b.addBridge))
	r.POST("/bench/channels/:id/messages", s.Do(b.put))
	r.POST("/bench/channels/:id/messages/again", s.Do(b.putAgain))
	r.POST("/bench/channels/:id/readers/:reader", s.Do(b.changeReader))
	r.POST("/bench/channels", s.Do(b.addChannel))
}

var view = page.Parse(files, "channel.html")

// shown bounds the messages on the page.
const shown = 50

// channelPage is a channel with its newest messages.
type channelPage struct {
	page.Frame
	ID, Path     string
	Channel      *channel.Channel
	Draft        store.Draft
	Faults       fault.List
	Release      int
	Differs      bool
	Fields, Rare []form.Field
	Copies       []copyRow
	Others       []project.Part // channels to copy, bridge or put to
	Readers      []readerRow
	Publishers   []project.Part
	Messages     []messageRow
	Chosen       *chosenMessage
	Find         string
	Paused       bool
	More         string // the place before which older messages stand; empty: none do
	Bars         []bar
	Rate         int // messages in the last hour
	Sample       string
	OOB          bool
}

type copyRow struct {
	To, Title, Where string
	Index            int
}

// readerRow is a reader with how far it is behind.
type readerRow struct {
	store.ChannelReader
	store.Lag
	Flow      *project.Part // that reads with it; nil where programs do
	AsideList []asideRow
}

type asideRow struct {
	Place, Reason, Key string
	At                 time.Time
}

type messageRow struct {
	store.ChannelMessage
	Place, Start string
}

// chosenMessage is a message with all that is to be seen of it.
type chosenMessage struct {
	messageRow
	Headers []running.Pair
	Text    string // empty where it is none
	Code    string
	Run     string // that has published it
	Faults  fault.List
}

// bar is the messages of a minute, in a drawing of 60 by 40.
type bar struct{ X, Y, Height, Messages int }

func place(p store.ChannelPlace) string { return fmt.Sprintf("%d-%d", p.Xid, p.ID) }

// placeOf reads a place as place writes it; false where it is none.
func placeOf(text string) (p store.ChannelPlace, ok bool) {
	xid, id, _ := strings.Cut(text, "-")
	var err, other error
	p.Xid, err = strconv.ParseInt(xid, 10, 64)
	p.ID, other = strconv.ParseInt(id, 10, 64)
	return p, err == nil && other == nil
}

func (b pages) pageOf(c *gin.Context) (*project.Project, *channelPage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, nil, err
	}
	ch := p.Channel(c.Param("id"))
	if ch == nil {
		return nil, nil, store.ErrNotFound
	}
	d := &channelPage{Frame: b.Frame(c, "bench", ch.Title), ID: ch.ID, Path: project.Path(project.Channels, ch.ID), Channel: ch, Fields: form.Fields(ch.Settings)}
	d.Faults = base.FaultsIn(p, d.Path)
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path); err != nil {
		return nil, nil, err
	}
	if d.Release, d.Differs, err = b.Released(c, p, project.ReleaseID(project.Channels, ch.ID)); err != nil {
		return nil, nil, err
	}
	d.settings(p)
	return p, d, nil
}

// settings fills what is set, with what can be chosen and what is wrong.
func (d *channelPage) settings(p *project.Project) {
	left := slices.Clone(d.Faults)
	for i := range d.Fields {
		f := &d.Fields[i]
		f.Faults, left = base.FaultsAt(left, d.Channel.Settings.Text(f.Name))
		if f.Name == "schema" {
			f.Options = form.Parts(p, f.Setting, f.Value, func(id string) bool { return p.Schema(id) != nil && p.Schema(id).Notation.Bytes })
		}
	}
	var all []form.Field
	for _, f := range d.Fields {
		if f.Folded() {
			d.Rare = append(d.Rare, f)
		} else {
			all = append(all, f)
		}
	}
	d.Fields = all
	for _, k := range d.Channel.Copies {
		d.Copies = append(d.Copies, copyRow{k.To.Value, p.TitleOf(project.Channels, k.To.Value), k.Setting.Get("where"), k.Index})
	}
	for _, part := range p.Parts(project.Channels) {
		if part.ID != d.ID {
			d.Others = append(d.Others, part)
		}
	}
	for _, part := range p.Parts(project.Flows) {
		if slices.Contains(p.Flow(part.ID).Publishes, d.ID) {
			d.Publishers = append(d.Publishers, part)
		}
	}
	if v, err := p.Example(d.Channel.Message()); err == nil && d.Channel.Schema != nil {
		d.Sample = sampleText(d.Channel, v)
	}
}

// live fills what changes while messages come.
func (b pages) live(c *gin.Context, p *project.Project, d *channelPage) error {
	id, err := store.ChannelID(c, b.DB, b.Scope, d.ID)
	if err != nil {
		return err
	}
	d.Find, d.Paused = strings.TrimSpace(c.Query("find")), c.Query("paused") != ""
	before, _ := placeOf(c.Query("before"))
	list, err := store.LookAtMessages(c, b.DB, id, before, d.Find[:min(len(d.Find), 200)], shown)
	if err != nil {
		return err
	}
	for _, m := range list {
		d.Messages = append(d.Messages, rowOf(m))
	}
	if len(list) == shown {
		d.More = place(list[len(list)-1].ChannelPlace)
	}
	if at, ok := placeOf(c.Query("message")); ok {
		if err := b.choose(c, d, id, at); err != nil {
			return err
		}
	}
	if err := b.readers(c, p, d, id); err != nil {
		return err
	}
	return b.bars(c, d, id)
}

func rowOf(m store.ChannelMessage) messageRow {
	start := "(" + page.Bytes(int64(len(m.Body))) + " that are no text)"
	if utf8.Valid(m.Body) {
		start = strings.Join(strings.Fields(string(m.Body[:min(len(m.Body), 400)])), " ")
	}
	return messageRow{m, place(m.ChannelPlace), start}
}

func (b pages) choose(c *gin.Context, d *channelPage, id int, at store.ChannelPlace) error {
	m, err := store.MessageAt(c, b.DB, id, at)
	if err != nil {
		return err
	}
	d.Chosen = &chosenMessage{messageRow: rowOf(m), Headers: b.Engine.MessageHeaders(m.Headers), Code: page.Code(m.Media)}
	if utf8.Valid(m.Body) {
		d.Chosen.Text = apicall.Pretty(m.Body[:min(len(m.Body), 256<<10)])
	}
	if kind, rest, _ := strings.Cut(m.Origin, " "); kind == "run" {
		d.Chosen.Run, _, _ = strings.Cut(rest, " ")
	}
	_, d.Chosen.Faults = b.Engine.MessageOf(d.Channel, m.Body)
	return nil
}

func (b pages) readers(c *gin.Context, p *project.Project, d *channelPage, id int) error {
	list, err := store.Readers(c, b.DB, id)
	if err != nil {
		return err
	}
	flows := map[string]project.Part{}
	for _, part := range p.Parts(project.Flows) {
		if plan := p.Flow(part.ID); plan.Channel != nil && plan.Channel.ID == d.ID {
			name := plan.Flow.Trigger.Settings.Get("subscription")
			if d.Channel.Kind == channel.Topic && name == "" {
				name = part.ID
			}
			flows[name] = part
		}
	}
	for _, r := range list {
		row := readerRow{ChannelReader: r}
		if row.Lag, err = store.LagOf(c, b.DB, r.ID); err != nil {
			return err
		}
		if part, is := flows[r.Name]; is {
			row.Flow = &part
		}
		if row.Aside > 0 {
			aside, err := store.AsideMessages(c, b.DB, r, 20)
			if err != nil {
				return err
			}
			for _, a := range aside {
				row.AsideList = append(row.AsideList, asideRow{place(a.ChannelPlace), a.Reason, a.Key, a.At})
			}
		}
		d.Readers = append(d.Readers, row)
	}
	return nil
}

// bars draws the messages of the last hour by minute.
func (b pages) bars(c *gin.Context, d *channelPage, id int) error {
	now := time.Now().Truncate(time.Minute)
	counts, err := store.ChannelCounts(c, b.DB, id, now.Add(-59*time.Minute))
	if err != nil {
		return err
	}
	most := 1
	for _, n := range counts {
		most = max(most, n.Messages)
		d.Rate += n.Messages
	}
	for _, n := range counts {
		height := max(1, n.Messages*38/most)
		d.Bars = append(d.Bars, bar{X: 59 - int(now.Sub(n.At).Minutes()), Y: 40 - height, Height: height, Messages: n.Messages})
	}
	return nil
}

func (b pages) channel(c *gin.Context) error {
	p, d, err := b.pageOf(c)
	if err != nil {
		return err
	}
	if err := b.live(c, p, d); err != nil {
		return err
	}
	if page.Partial(c) {
		view.Part(c, "live", d)
		return nil
	}
	view.Page(c, d)
	return nil
}

// addChannel begins a channel by its title.
func (b pages) addChannel(c *gin.Context) error {
	id, err := b.Designer(c).AddChannel(c, strings.TrimSpace(c.PostForm("title")), c.PostForm("kind"))
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, href(id))
	return nil
}

func href(id string) string { return "/bench/channels/" + url.PathEscape(id) }

func (b pages) setChannel(c *gin.Context) error {
	_, d, err := b.pageOf(c)
	if err != nil {
		return err
	}
	if err := b.Save(c, d.Path, func(text []byte) ([]byte, error) { return form.Write(c, text, d.Channel.Settings) }); err != nil {
		return err
	}
	if _, d, err = b.pageOf(c); err != nil {
		return err
	}
	d.OOB = true
	view.Part(c, "changed", d)
	return nil
}

// setCopies adds a copy to another channel, or takes one out.
func (b pages) setCopies(c *gin.Context) error {
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	if err := b.Designer(c).SetCopy(c, c.Param("id"), c.PostForm("to"), strings.TrimSpace(c.PostForm("where")), c.PostForm("remove") != "", from); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, href(c.Param("id")))
	return nil
}

// addBridge makes a flow that moves messages to another channel.
func (b pages) addBridge(c *gin.Context) error {
	id, err := b.Designer(c).AddBridge(c, c.Param("id"), c.PostForm("to"))
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/flows/"+url.PathEscape(id))
	return nil
}

func (b pages) release(c *gin.Context) error {
	note := strings.TrimSpace(c.PostForm("note"))
	if _, err := b.Designer(c).Release(c, project.ReleaseID(project.Channels, c.Param("id")), note[:min(len(note), 500)]); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, href(c.Param("id")))
	return nil
}

// put puts a message into the channel by hand.
func (b pages) put(c *gin.Context) error {
	m := engine.NewMessage{Key: strings.TrimSpace(c.PostForm("key")), Media: "application/json", Body: []byte(base.UnixLines(c.PostForm("body")))}
	for line := range strings.Lines(base.UnixLines(c.PostForm("headers"))) {
		if name, v, is := strings.Cut(strings.TrimSpace(line), ":"); is {
			m.Headers = append(m.Headers, running.Pair{Name: strings.ToLower(strings.TrimSpace(name)), Value: strings.TrimSpace(v)})
		}
	}
	if err := b.Operator(c).PutMessage(c, c.Param("id"), m); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, href(c.Param("id")))
	return nil
}

func (b pages) putAgain(c *gin.Context) error {
	at, ok := placeOf(c.PostForm("message"))
	if !ok {
		return store.ErrNotFound
	}
	if err := b.Operator(c).PutAgain(c, c.Param("id"), c.PostForm("to"), at); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, href(c.PostForm("to")))
	return nil
}

// changeReader does what a button of a reader says.
func (b pages) changeReader(c *gin.Context) error {
	reader, err := strconv.Atoi(c.Param("reader"))
	if err != nil {
		return store.ErrNotFound
	}
	id, o, reason := c.Param("id"), b.Operator(c), strings.TrimSpace(c.PostForm("reason"))
	switch do := c.PostForm("do"); do {
	case "pause":
		err = o.PauseReader(c, id, reader, reason)
	case "resume":
		err = o.ResumeReader(c, id, reader)
	case "move":
		var to time.Time
		if to, err = time.Parse("2006-01-02T15:04", c.PostForm("to")); err != nil {
			return fault.Expect(fault.Setting, "a time as 2031-03-09T06:00, in UTC", fault.Quote(c.PostForm("to"))).InField("to")
		}
		err = o.MoveReader(c, id, reader, to)
	case "skip":
		err = o.SkipMessage(c, id, reader, reason)
	case "again":
		at, _ := placeOf(c.PostForm("message"))
		_, err = o.AgainMessages(c, id, reader, at)
	case "remove":
		err = o.RemoveReader(c, id, reader)
	default:
		err = fault.Expect(fault.Unknown, "something to do", fault.Quote(do))
	}
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, href(id))
	return nil
}
