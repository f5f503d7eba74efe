package inbound

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net/http"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
)

// mostChecked bounds the bodies of backends that are held against the contract, in bytes; larger ones are passed on as they come.
const mostChecked = 4 << 20

// brokenAnswer is an answer of a backend that breaks the contract.
type brokenAnswer struct {
	faults fault.List
	sent   contract.Sent
}

func (b *brokenAnswer) Error() string { return b.faults.Error() }

// answerReasons are the faults of an answer for a program.
func (a *apiCall) answerReasons(b *brokenAnswer) []reason {
	var media []contract.Media
	if of := a.call.Operation.AnswerFor(b.sent.Status); of != nil {
		media = of.Media
	}
	return reasonsAt(b.faults, func(f *fault.Fault) string {
		return a.call.API.Contract.SchemaPlace(a.call.Operation, media, b.sent.Media, f)
	})
}

// replay lets the body be read again that was held against the contract.
func (a *apiCall) replay() {
	r := a.c.Request
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(a.body)), int64(len(a.body))
	if len(a.body) == 0 {
		r.Body = http.NoBody
	}
	r.TransferEncoding = nil
}

// fromBackend looks at an answer before it is handed back: it is held against the contract, as the API says. Of headers that are set
// already the backend's are sent, but for those that make answers harmless in a browser.
func (a *apiCall) fromBackend(res *http.Response) error {
	if err := a.behind(res); err != nil {
		return err
	}
	own := a.c.Writer.Header()
	for name := range res.Header {
		if name != "Content-Security-Policy" && name != "X-Content-Type-Options" && name != "Vary" {
			own.Del(name)
		}
	}
	res.Header.Del("X-Content-Type-Options")
	if len(own["Access-Control-Allow-Origin"]) > 0 {
		res.Header.Del("Access-Control-Allow-Origin")
	}
	verdict := a.call.API.Guards.Answers
	if verdict == api.Off || res.ContentLength > mostChecked || a.call.Operation.Port != nil {
		return nil
	}
	body, whole, err := beginning(res)
	if err != nil || !whole {
		return err
	}
	plain, ok := unpacked(body, res.Header.Get("Content-Encoding"))
	if !ok {
		return nil
	}
	a.sent = plain
	sent := contract.Sent{Status: res.StatusCode, Media: res.Header.Get("Content-Type"), Body: plain}
	for name, values := range res.Header {
		for _, v := range values {
			sent.Headers = append(sent.Headers, [2]string{name, v})
		}
	}
	if res.Request != nil && res.Request.Method == http.MethodHead {
		return nil
	}
	faults := a.call.API.Contract.CheckAnswer(a.call.Operation, sent)
	if len(faults) == 0 {
		return nil
	}
	a.s.Engine.ContractBroken(a.s.Scope, a.call, "response", faults)
	a.c.Set(faultKey, "the response breaks the contract: "+faults[0].What())
	if verdict == api.Refuse {
		return &brokenAnswer{faults, sent}
	}
	return nil
}

// beginning reads the beginning of a body, and says whether that is all of it; it can be read again from its beginning.
func beginning(res *http.Response) (body []byte, whole bool, err error) {
	body, err = io.ReadAll(io.LimitReader(res.Body, mostChecked+1))
	if err != nil {
		return nil, false, fmt.Errorf("the answer breaks off: %w", err)
	}
	rest := res.Body
	res.Body = struct {
		io.Reader
		io.Closer
	}{io.MultiReader(bytes.NewReader(body), rest), rest}
	return body, len(body) <= mostChecked, nil
}

// unpacked is a body without its encoding; false where it cannot be looked into.
func unpacked(body []byte, encoding string) ([]byte, bool) {
	switch encoding {
	case "", "identity":
		return body, true
	case "gzip", "x-gzip":
		z, err := gzip.NewReader(bytes.NewReader(body))
		if err != nil {
			return nil, false
		}
		out, err := io.ReadAll(io.LimitReader(z, 4*mostChecked))
		return out, err == nil && len(out) < 4*mostChecked
	}
	return nil, false
}
