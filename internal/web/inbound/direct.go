package inbound

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine"
)

// called answers with an operation of a connection, without a flow.
func (a *apiCall) called() {
	out, ok := a.steps()
	if !ok {
		return
	}
	if out.Reply == nil {
		tell(a.c, problem{Status: http.StatusNotFound, Detail: "there is nothing that this asks for"})
		return
	}
	a.sent = answer(a.c, a.s, a.call.Way.In, "", out.Reply, func(*schema.Schema) (value.Value, error) { return out.Message, nil })
}

// steps does the steps of the way; what they refuse is answered, and false.
func (a *apiCall) steps() (out engine.Answered, ok bool) {
	w := a.call.Way
	if w.In == nil || len(w.In.Faults) > 0 {
		tell(a.c, problem{Status: http.StatusNotImplemented, Detail: "what answers this operation is not set up"})
		return out, false
	}
	var err error
	if !a.held {
		if a.body, err = read(a.c.Request); err != nil {
			unread(a.c, err)
			return out, false
		}
	}
	a.call.Brings(pairs(a.c.Request.URL.Query(), nil), pairs(a.c.Request.Header, map[string]bool{"authorization": true, "cookie": true}))
	ctx, cancel := context.WithTimeout(a.c, a.call.API.Guards.Timeout)
	defer cancel()
	out, err = a.s.Engine.Direct(ctx, a.s.Scope, a.call, a.body)
	if err != nil {
		a.stepsFailed(err)
		return out, false
	}
	return out, true
}

// stepsFailed tells a caller why steps came to nothing. What a system says is for those who look after the API, in its log of calls.
func (a *apiCall) stepsFailed(err error) {
	var un *engine.Unanswered
	if !errors.As(err, &un) {
		refuse(a.c, a.s, a.call, err)
		return
	}
	p := problem{Status: http.StatusBadGateway, Detail: "the system behind this cannot be asked, or does not answer as it should"}
	switch {
	case un.Refused && un.Fault.Code == fault.Stopped:
		p.Status, p.Detail = a.refusal(), un.Fault.What()
	case un.Refused:
		p.Status, p.Detail, p.Faults = http.StatusUnprocessableEntity, un.Fault.What(), reasons(a.c, a.call, fault.List{un.Fault})
	case un.Slow:
		p.Status, p.Detail = http.StatusGatewayTimeout, system.ErrSlow.Error()
	}
	tell(a.c, p)
	if !un.Refused {
		a.c.Set(faultKey, a.s.Outside.Mask(un.Fault.What()))
		a.s.Log.Warn("not answered", "api", a.call.API.ID, "operation", a.call.Operation.ID, "error", a.s.Outside.Mask(un.Fault.Error()))
	}
}

// refusal is the status with which the steps refuse.
func (a *apiCall) refusal() int {
	if status, err := strconv.Atoi(a.call.Way.Setting("refusal status")); err == nil {
		return status
	}
	return http.StatusUnprocessableEntity
}

// before does the steps before a backend: they refuse a request, which is answered, and false; or they make the one that goes on. It
// gives the headers that they set.
func (a *apiCall) before() (header http.Header, ok bool) {
	w := a.call.Way
	if w.In == nil {
		return nil, true
	}
	out, ok := a.steps()
	if !ok {
		return nil, false
	}
	media := ""
	if of := w.In.AnswerSchema(out.Reply); of != nil && out.Reply != nil {
		body, err := written(of, out.Message)
		if err != nil {
			tell(a.c, problem{Status: http.StatusInternalServerError, Detail: "the request cannot be written for the backend"})
			return nil, false
		}
		a.body, media = body, all.Of(of).ContentType()
	}
	a.replay()
	return set(a.c.Request.Header, media, out.Reply), true
}

// set puts the headers of a reply in place of those that are there, and gives what was set.
func set(header http.Header, media string, reply *running.Reply) http.Header {
	changed := http.Header{}
	if media != "" {
		changed.Set("Content-Type", media)
	}
	if reply != nil {
		for _, h := range reply.Headers {
			changed.Add(h.Name, h.Value)
		}
	}
	for name, values := range changed {
		header[name] = values
	}
	return changed
}

// behind does the steps behind a backend, where it says that all is well.
func (a *apiCall) behind(res *http.Response) error {
	w := a.call.Way
	if w.Back == nil || res.StatusCode < 200 || res.StatusCode > 299 {
		return nil
	}
	if len(w.Back.Faults) > 0 {
		return errors.New("the steps behind the backend have faults")
	}
	var body []byte
	if w.Back.Input != nil {
		var err error
		if body, err = a.mappable(res); err != nil {
			return err
		}
	}
	out, err := a.s.Engine.DirectBack(a.c, a.s.Scope, a.call, body)
	if err != nil {
		return err
	}
	media := ""
	if of := w.Back.AnswerSchema(out.Reply); of != nil && w.Back.Input != nil {
		text, err := written(of, out.Message)
		if err != nil {
			return err
		}
		media = all.Of(of).ContentType()
		res.Body, res.ContentLength = io.NopCloser(bytes.NewReader(text)), int64(len(text))
		res.Header.Set("Content-Length", strconv.Itoa(len(text)))
		for _, name := range []string{"Content-Encoding", "Etag", "Content-Md5", "Digest", "Content-Digest", "Repr-Digest", "Accept-Ranges"} { // of the body that it was
			res.Header.Del(name)
		}
	}
	set(res.Header, media, out.Reply)
	return nil
}

// mappable is the body of a response, whole and without its encoding.
func (a *apiCall) mappable(res *http.Response) ([]byte, error) {
	body, whole, err := beginning(res)
	if err != nil {
		return nil, err
	}
	plain, ok := unpacked(body, res.Header.Get("Content-Encoding"))
	if !whole || !ok {
		return nil, fmt.Errorf("the response is larger than %d bytes or in an encoding that cannot be read, and is to be mapped", mostChecked)
	}
	return plain, nil
}
