package http

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"iter"
	"math/rand/v2"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"hollowreed/internal/connector/soap/envelope"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// answer is what a service has answered, read to its end.
type answer struct {
	status int
	header http.Header
	body   []byte
	url    *url.URL
}

// answerShape is what a formula on an answer reads.
var answerShape = value.NewLayout("status", "body")

func (a *answer) asValue() value.Value {
	return value.NewRecord(answerShape, []value.Value{value.Int(int64(a.status)), value.NewText(string(a.body))})
}

// soapFault is the fault of SOAP in an answer; nil where it is another one.
func (a *answer) soapFault() *fault.Fault {
	media, _, _ := mime.ParseMediaType(a.header.Get("Content-Type"))
	if !strings.HasSuffix(media, "xml") {
		return nil
	}
	if e, err := envelope.Open(a.body); err == nil {
		return e.Fault
	}
	return nil
}

// decided says of an answer with the status 500 that it is what the service has to say, and not that it is broken: problem
// details (RFC 9457), or a fault of SOAP, which comes with that status (SOAP 1.1, section 6.2).
func (a *answer) decided() bool {
	if a.status != http.StatusInternalServerError {
		return false
	}
	media, _, _ := mime.ParseMediaType(a.header.Get("Content-Type"))
	return media == "application/problem+json" || a.soapFault() != nil
}

// refusal is the fault of an answer that counts as a failure, with what it says of itself: as problem
// details (RFC 9457), as a fault of SOAP, or the beginning of its text.
func (a *answer) refusal() *fault.Fault {
	f := fault.New(fault.Outside, "it answers %d %s", a.status, http.StatusText(a.status))
	if said := a.soapFault(); said != nil {
		f.Message += ": " + said.Message
		return f
	}
	if v, err := a.document(); err == nil {
		for _, name := range []string{"detail", "title", "message", "error_description", "error"} {
			if text := v.Field(name); text.Kind() == value.Text {
				f.Message += ": " + text.Text()
				return f
			}
		}
	}
	if text := strings.TrimSpace(string(a.body)); text != "" {
		f.Found = fault.Quote(text)
	}
	return f
}

// document reads the whole answer as one value, as its media type says.
func (a *answer) document() (value.Value, error) {
	media, _, _ := mime.ParseMediaType(a.header.Get("Content-Type"))
	k, known := all.OfMedia(media)
	switch {
	case known && k.Document, media == "":
	case media == "application/octet-stream", strings.HasPrefix(media, "image/"), media == "application/pdf":
		return value.Bytes(string(a.body)), nil
	default:
		if len(bytes.TrimSpace(a.body)) == 0 || a.body[0] != '{' && a.body[0] != '[' {
			return value.NewText(string(a.body)), nil
		}
	}
	if len(bytes.TrimSpace(a.body)) == 0 {
		return value.Value{}, nil
	}
	if k == nil || !k.Document {
		k = &json.Kind
	}
	r, err := k.NewReader(bytes.NewReader(a.body), notation.Options{Source: "the answer"})
	if err != nil {
		return value.Value{}, err
	}
	var items []value.Value
	for {
		v, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return value.Value{}, fault.From(err, fault.Syntax)
		}
		items = append(items, v)
	}
	if r.Many() || len(items) == 0 {
		return value.ListOf(items...), nil
	}
	return items[0], nil
}

// records are those of the answer: where the operation says that they stand, read against its response schema.
func (a *answer) records(ctx context.Context, op *connection.Operation) iter.Seq2[value.Value, error] {
	return func(yield func(value.Value, error) bool) {
		if s := op.Response; s != nil && s.Notation.Elements && op.Setting("records") == "" {
			a.described(ctx, s, yield)
			return
		}
		doc, err := a.document()
		if err != nil {
			yield(value.Value{}, err)
			return
		}
		at := doc
		if path := op.Setting("records"); path != "" {
			if at = Pointer(doc, path); at.IsMissing() {
				if Pointer(doc, parent(path)).Kind() != value.RecordKind {
					yield(value.Value{}, fault.Expect(fault.NotFound, "records at "+path, "none there").InField("records"))
				}
				return
			}
		}
		for _, item := range listed(at) {
			v, err := system.Shaped(ctx, item, op.Response)
			if !yield(v, err) || err != nil {
				return
			}
		}
	}
}

// described reads the answer by a schema that says how it is written.
func (a *answer) described(ctx context.Context, s *schema.Schema, yield func(value.Value, error) bool) {
	var ignored notation.Ignored
	defer system.PassOver(ctx, &ignored)
	r, err := all.Of(s).NewReader(bytes.NewReader(a.body), notation.Options{Source: "the answer", Schema: s, Check: true, Ignored: &ignored})
	if err != nil {
		yield(value.Value{}, err)
		return
	}
	for {
		v, err := r.Next()
		if err == io.EOF {
			return
		}
		if err != nil {
			err = fault.From(err, fault.Syntax)
		}
		if !yield(v, err) || err != nil {
			return
		}
	}
}

func parent(path string) string {
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		return path[:i]
	}
	return ""
}

// Pointer finds a value by its path (RFC 6901); absent where there is none.
func Pointer(v value.Value, path string) value.Value {
	for _, step := range strings.Split(strings.TrimPrefix(path, "/"), "/") {
		if step == "" {
			continue
		}
		step = strings.ReplaceAll(strings.ReplaceAll(step, "~1", "/"), "~0", "~")
		if v.Kind() == value.ListKind {
			n, err := strconv.Atoi(step)
			if err != nil || n < 0 || n >= len(v.Items()) {
				return value.Value{}
			}
			v = v.Items()[n]
			continue
		}
		v = v.Field(step)
	}
	return v
}

// unpacked is the body of an answer as it was before it was compressed for the way.
func unpacked(res *http.Response, largest int64) (io.Reader, error) {
	raw := system.Bounded(res.Body, largest)
	switch enc := res.Header.Get("Content-Encoding"); enc {
	case "", "identity":
		return raw, nil
	case "gzip":
		z, err := gzip.NewReader(raw)
		if errors.Is(err, io.EOF) {
			return bytes.NewReader(nil), nil
		}
		if err != nil {
			return nil, errors.New("its answer cannot be unpacked")
		}
		return z, nil
	default:
		return nil, fault.Expect(fault.Encoding, "an answer as it is, or in gzip", fault.Quote(enc))
	}
}

// passing are the answers of a service that is busy or broken now.
func passing(status int) bool {
	return status == 408 || status == 425 || status == 429 || status == 500 || status == 502 || status == 503 || status == 504
}

// Bounds on the pauses between tries.
const (
	firstPause = 250 * time.Millisecond
	mostPause  = 30 * time.Second
)

// pause says whether a request is tried again, and when. One that may have changed something is only sent
// again when the service says that it did not take it (429, 503) or when nothing was sent.
func pause(try int, a *answer, err error, w *wire) (wait time.Duration, again bool) {
	var f *fault.Fault
	switch {
	case errors.As(err, &f):
		return 0, false
	case err != nil && !w.safe:
		return 0, false
	case err == nil && (!passing(a.status) || a.decided()):
		return 0, false
	case err == nil && !w.safe && a.status != 429 && a.status != 503:
		return 0, false
	}
	wait = min(firstPause<<(try-1), mostPause)
	wait = wait/2 + rand.N(wait/2+1)
	if a != nil {
		if asked, ok := retryAfter(a.header); ok {
			return min(asked, mostPause), asked <= mostPause
		}
	}
	return wait, true
}

// retryAfter reads for how long the service asks to wait: seconds or a date (RFC 9110, 10.2.3).
func retryAfter(h http.Header) (time.Duration, bool) {
	text := h.Get("Retry-After")
	if n, err := strconv.Atoi(text); err == nil && n >= 0 {
		return time.Duration(n) * time.Second, true
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, time.Until(at)), true
	}
	return 0, false
}
