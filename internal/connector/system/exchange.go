package system

import (
	"context"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"hollowreed/internal/core/flow/running"
)

// Exchange is what was said between Hollow Reed and a system, as it went over the wire, with secrets
// masked. It is only kept where somebody asked for it with Listen.
type Exchange struct {
	mu    sync.Mutex
	mask  func(string) string
	Turns []running.Turn
	Body  []byte // of the newest answer, unmasked, where it is short enough
	Media string // its media type
	left  int
	brief bool
}

// mostKept bounds the bytes of an exchange, mostBrief those of one that is kept with a record.
const (
	mostKept  = 256 << 10
	mostBrief = 16 << 10
)

type listening struct{}

// mostBody bounds the bytes of an answer that are kept as they came.
const mostBody = 1 << 20

// Listen gives a context in which what is said is kept.
func Listen(ctx context.Context, mask func(string) string) (context.Context, *Exchange) {
	x := &Exchange{mask: mask, left: mostKept}
	return context.WithValue(ctx, listening{}, x), x
}

// ListenBriefly is Listen for what is kept with every record: shorter, and without getting tokens.
func ListenBriefly(ctx context.Context, mask func(string) string) (context.Context, *Exchange) {
	x := &Exchange{mask: mask, left: mostBrief, brief: true}
	return context.WithValue(ctx, listening{}, x), x
}

// Brief says whether only the requests themselves are wanted.
func (x *Exchange) Brief() bool { return x == nil || x.brief }

// ExchangeOf is the exchange that listens; nil when nobody does. A nil Exchange takes everything and keeps nothing.
func ExchangeOf(ctx context.Context) *Exchange {
	x, _ := ctx.Value(listening{}).(*Exchange)
	return x
}

// Sent keeps what was sent.
func (x *Exchange) Sent(head, text string) { x.turn(true, head, text) }

// Received keeps what was answered.
func (x *Exchange) Received(head, text string) { x.turn(false, head, text) }

// SetBody keeps the body of an answer, to make a sample of it.
func (x *Exchange) SetBody(media string, body []byte) {
	if x.Brief() {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.Body, x.Media = nil, media; len(body) <= mostBody {
		x.Body = body
	}
}

func (x *Exchange) turn(sent bool, head, text string) {
	if x == nil {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if !utf8.ValidString(text) {
		text = "(" + strconv.Itoa(len(text)) + " bytes" + " that are no text)"
	}
	if text = x.mask(text); len(text) > x.left {
		text = strings.ToValidUTF8(text[:x.left], "") + "\n… cut off here; only what is shown is"
	}
	x.left -= min(x.left, len(text))
	x.Turns = append(x.Turns, running.Turn{Sent: sent, Head: x.mask(head), Text: text})
}
