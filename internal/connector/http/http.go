// Package http calls HTTP interfaces: requests made of an operation's settings, answers read in their
// notation, pages followed, and tries repeated where that is safe.
package http

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/time/rate"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/value"
)

// Service is one HTTP interface.
type Service struct {
	Hide     func(body string) string // hides what signs in inside a body, where that is told; nil: nothing does
	env      system.Env
	base     *url.URL
	client   *http.Client
	tls      *tls.Config
	sign     signer
	rate     *rate.Limiter // nil is no limit
	slots    chan struct{} // calls at once
	forwards chan struct{} // requests handed on at once
	vain     atomic.Int64  // when the base address refused a sign-in that was just renewed, in seconds since 1970
}

// vainly is how long looks at the base address renew no sign-in after one was refused there as soon as it was new: some
// services answer 401 there whatever they are sent.
const vainly = 10 * time.Minute

var (
	_ system.Caller = (*Service)(nil)
	_ system.Reader = (*Service)(nil)
)

// Open makes a service of its settings.
func Open(env system.Env) (system.System, error) {
	v := env.Values
	base, err := Address(v["address"])
	if err != nil {
		return nil, err
	}
	t, err := Transport(env, base.Hostname())
	if err != nil {
		return nil, err
	}
	s := &Service{env: env, base: base, slots: make(chan struct{}, v.Int("at once", 4)), forwards: make(chan struct{}, v.Int("forwards at once", 256))}
	over, err := spreadOver(t, base, v["further addresses"])
	if err != nil {
		return nil, err
	}
	s.tls = t.TLSClientConfig
	s.client = &http.Client{Transport: over, Timeout: v.Timeout(), CheckRedirect: sameHost}
	if n := v.Int("rate", 0); n > 0 {
		s.rate = rate.NewLimiter(rate.Limit(n), max(1, n/10))
	}
	s.sign, err = signerOf(env, s.client)
	return s, err
}

// Address reads an address that begins with http:// or https://.
func Address(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fault.Expect(fault.Setting, "an address as https://desk.example/api", fault.Quote(text)).InField("Address")
	}
	u.Path = strings.TrimSuffix(u.Path, "/")
	return u, nil
}

// Transport reaches hosts within the rules of the environment, with the certificates of its settings. What
// answers compressed is not unpacked here: its size is counted as it is unpacked.
func Transport(env system.Env, host string) (*http.Transport, error) {
	c, err := system.TLS("", env.Values["authority"], env.Values["certificate"])
	if err != nil {
		return nil, err
	}
	return &http.Transport{
		DialContext: env.Net.Dialer().DialContext, TLSClientConfig: c, ForceAttemptHTTP2: true, DisableCompression: true,
		TLSHandshakeTimeout: 10 * time.Second, MaxIdleConnsPerHost: 128, IdleConnTimeout: 60 * time.Second, MaxResponseHeaderBytes: 1 << 20,
	}, nil
}

// sameHost follows a few redirects, on the same host only, and never from an encrypted connection to one that is not: what
// signs in must not go elsewhere, nor where others read it.
func sameHost(req *http.Request, via []*http.Request) error {
	if len(via) > 5 {
		return errors.New("it redirects for ever")
	}
	if req.URL.Host != via[0].URL.Host || via[0].URL.Scheme == "https" && req.URL.Scheme != "https" {
		return http.ErrUseLastResponse
	}
	return nil
}

// Close closes idle connections.
func (s *Service) Close() { s.client.CloseIdleConnections() }

// Check says whether the service answers us: it takes the sign-in, and is not broken. What it answers at its own address
// beside that, as 404 or 403, says nothing about the operations.
func (s *Service) Check(ctx context.Context) error {
	res, err := s.baseAnswer(ctx)
	if err != nil {
		return err
	}
	res.Body.Close()
	switch {
	case res.StatusCode == http.StatusUnauthorized:
		return fmt.Errorf("it does not take the sign-in: it answers %s", res.Status)
	case res.StatusCode >= 500:
		return fmt.Errorf("it answers %s", res.Status)
	}
	return nil
}

// baseAnswer is the answer of the base address to a signed-in GET, with the sign-in renewed where the service
// refuses it, unless that was in vain not long ago. The caller closes its body.
func (s *Service) baseAnswer(ctx context.Context) (*http.Response, error) {
	for renewed := false; ; renewed = true {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.base.String(), nil)
		if err != nil {
			return nil, err
		}
		if err := s.sign.sign(req); err != nil {
			return nil, err
		}
		res, err := s.client.Do(req)
		if err != nil {
			return nil, plain(err)
		}
		switch {
		case res.StatusCode != http.StatusUnauthorized:
			s.vain.Store(0)
		case renewed:
			s.vain.Store(time.Now().Unix())
		}
		if res.StatusCode != http.StatusUnauthorized || time.Since(time.Unix(s.vain.Load(), 0)) < vainly {
			return res, nil
		}
		again, err := s.sign.renew(req)
		if err == nil && !again {
			return res, nil
		}
		res.Body.Close()
		if err != nil {
			return nil, err
		}
	}
}

// Probe tries the service stage by stage: name, port, encryption, sign-in, an answer.
func (s *Service) Probe(ctx context.Context, r *probe.Run) {
	port := 80
	if s.base.Scheme == "https" {
		port = 443
	}
	if p := s.base.Port(); p != "" {
		fmt.Sscan(p, &port)
	}
	r.Reach(ctx, s.env.Net.Dialer(), s.base.Hostname(), port)
	if s.base.Scheme == "https" {
		r.TLS(ctx, s.env.Net.Dialer(), s.base.Hostname(), port, s.tls)
	}
	s.sign.probe(ctx, r)
	r.Do("answered", func() (string, error) { return s.answered(ctx) }, func(err error) string {
		if f := (*fault.Fault)(nil); errors.As(err, &f) && f.Fix != "" {
			return f.Fix
		}
		return "Check the address, the sign-in and what the account may do"
	})
}

// answered asks for the base address, signed in.
func (s *Service) answered(ctx context.Context) (string, error) {
	res, err := s.baseAnswer(ctx)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	switch {
	case res.StatusCode == http.StatusUnauthorized, res.StatusCode == http.StatusForbidden:
		return "it answers " + res.Status + ": it does not take the sign-in" + challenge(res), errors.New(res.Status)
	case res.StatusCode >= 500:
		return "it answers " + res.Status, errors.New(res.Status)
	}
	return "with " + res.Status, nil
}

func challenge(res *http.Response) string {
	if c := res.Header.Get("WWW-Authenticate"); c != "" {
		return " (it wants " + c + ")"
	}
	return ""
}

// plain leaves the address, which may hold a key, out of an error.
func plain(err error) error {
	var u *url.Error
	if !errors.As(err, &u) {
		return err
	}
	if u.Timeout() {
		return errors.New("it did not answer in time")
	}
	if why, is := system.Untrusted(u.Err); is {
		return fault.New(fault.Setting, "%s", why).WithFix("%s", system.TrustMends)
	}
	if errors.Is(u.Err, io.EOF) || errors.Is(u.Err, syscall.ECONNRESET) {
		return errors.New("it ended the connection without an answer")
	}
	return u.Err
}

// Call does one request. What the service refuses is a fault; what may pass is tried again.
func (s *Service) Call(ctx context.Context, r system.Request) (value.Value, error) {
	a, err := s.exchange(ctx, r, nil)
	if err != nil || a == nil {
		return value.Value{}, err
	}
	if r.Op.Kind.Name == "download" {
		return value.NewRecord(r.Op.Response.Root.Layout(), []value.Value{value.Bytes(string(a.body)), value.Int(int64(len(a.body))), value.NewText(a.header.Get("Content-Type"))}), nil
	}
	for v, err := range a.records(ctx, r.Op) {
		return v, err
	}
	return value.Value{}, nil
}

// exchange sends a request and reads its answer; nil is no answer where that is what was asked for. at is
// the address of a further page; nil makes it of the settings.
func (s *Service) exchange(ctx context.Context, r system.Request, at *url.URL) (*answer, error) {
	w, err := s.request(r, at)
	if err != nil {
		return nil, err
	}
	select {
	case s.slots <- struct{}{}:
		defer func() { <-s.slots }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	a, err := s.tries(ctx, w)
	if err != nil {
		return nil, err
	}
	if a.status == http.StatusNotModified {
		return nil, nil // it was asked for on a condition (RFC 9110, 13): there is nothing newer
	}
	if a.status == http.StatusNotFound && r.Op.Setting("none") == "no answer" {
		return nil, nil
	}
	return a, s.failed(r, a)
}

// failed says whether an answer counts as a failure, by the operation's formula or its status.
func (s *Service) failed(r system.Request, a *answer) error {
	prog := r.Op.Formulas["fails when"]
	if prog == nil {
		if a.status < 400 {
			return nil
		}
		return a.refusal()
	}
	fr := &formula.Frame{Slots: make([]value.Value, 2)}
	fr.Slots[0], fr.Slots[1] = r.Value, a.asValue()
	v, f := prog.Eval(fr)
	switch {
	case f != nil:
		return f.InField("fails when")
	case v.IsTrue():
		f := a.refusal()
		f.Expected = "not " + prog.Source
		return f
	}
	return nil
}

// tries sends a request until it is answered, or as often as is set.
func (s *Service) tries(ctx context.Context, w *wire) (*answer, error) {
	most := s.env.Values.Int("tries", 4)
	for try := 1; ; try++ {
		a, err := s.once(ctx, w)
		wait, again := pause(try, a, err, w)
		if !again || try >= most {
			return a, settled(a, err, try)
		}
		system.ExchangeOf(ctx).Received("try "+fmt.Sprint(try), fmt.Sprintf("waits %s and tries again", wait.Round(time.Millisecond)))
		t := time.NewTimer(wait)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return nil, ctx.Err()
		}
	}
}

// settled is what the last try comes to: a service that is busy or broken has not been reached.
func settled(a *answer, err error, tries int) error {
	switch {
	case err != nil && tries > 1:
		var f *fault.Fault
		if errors.As(err, &f) {
			return err
		}
		return fmt.Errorf("%w (tried %d times)", err, tries)
	case err != nil:
		return err
	case passing(a.status) && !a.decided():
		return fmt.Errorf("it answers %d %s (tried %d times)", a.status, http.StatusText(a.status), tries)
	}
	return nil
}

func (s *Service) once(ctx context.Context, w *wire) (*answer, error) {
	if s.rate != nil {
		if err := s.rate.Wait(ctx); err != nil {
			return nil, err
		}
	}
	for renewed := false; ; renewed = true {
		req, err := w.make(ctx)
		if err != nil {
			return nil, err
		}
		if err := s.sign.sign(req); err != nil {
			return nil, err
		}
		x := system.ExchangeOf(ctx)
		t := s.turn(w, req)
		x.Sent(t.Head, t.Text)
		res, err := s.client.Do(req)
		if err != nil {
			x.Received("nothing", plain(err).Error())
			return nil, plain(err)
		}
		a, err := s.read(res)
		if err != nil {
			return nil, err
		}
		x.Received(res.Proto+" "+res.Status, headers(res.Header)+"\n\n"+string(a.body))
		if a.status != http.StatusUnauthorized || renewed {
			return a, nil
		}
		if again, err := s.sign.renew(req); err != nil || !again {
			return a, err
		}
	}
}

// read takes the whole answer, unpacked, within its bounds.
func (s *Service) read(res *http.Response) (*answer, error) {
	defer res.Body.Close()
	body, err := unpacked(res, s.env.Values.Largest())
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(system.Bounded(body, s.env.Values.Largest()))
	if err != nil {
		var f *fault.Fault
		if errors.As(err, &f) {
			return nil, err
		}
		return nil, errors.New("it broke off in the middle of its answer")
	}
	system.ExchangeOf(res.Request.Context()).SetBody(res.Header.Get("Content-Type"), text)
	return &answer{status: res.StatusCode, header: res.Header, body: text, url: res.Request.URL}, nil
}

// Fetch reads a document at an address of the service, signed in.
func (s *Service) Fetch(ctx context.Context, at string) ([]byte, error) {
	u, err := url.Parse(at)
	if err != nil {
		return nil, fault.Expect(fault.Setting, "an address, or a path", fault.Quote(at))
	}
	if u.Host == "" {
		path, query, _ := strings.Cut(at, "?")
		u = s.base.JoinPath(path)
		u.RawQuery = query
	}
	if u.Host != s.base.Host || u.Scheme != s.base.Scheme {
		return nil, fault.Expect(fault.Setting, "a document of "+s.base.Scheme+"://"+s.base.Host, u.Scheme+"://"+u.Host)
	}
	a, err := s.tries(ctx, &wire{method: http.MethodGet, url: u, header: http.Header{"Accept-Encoding": {"gzip"}}, safe: true})
	if err != nil {
		return nil, err
	}
	if a.status != http.StatusOK {
		return nil, a.refusal()
	}
	return a.body, nil
}

// Post sends a text to the service's own address and gives what it answers, whatever its status. One that is
// safe is sent again when it is not answered.
func (s *Service) Post(ctx context.Context, h http.Header, text []byte, safe bool) (status int, body []byte, err error) {
	select {
	case s.slots <- struct{}{}:
		defer func() { <-s.slots }()
	case <-ctx.Done():
		return 0, nil, ctx.Err()
	}
	a, err := s.once(ctx, &wire{method: http.MethodPost, url: s.base, header: h, body: text, safe: safe})
	for try := 1; safe && err != nil && try < s.env.Values.Int("tries", 3); try++ {
		wait, again := pause(try, nil, err, &wire{safe: true})
		if !again {
			break
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return 0, nil, ctx.Err()
		}
		a, err = s.once(ctx, &wire{method: http.MethodPost, url: s.base, header: h, body: text, safe: safe})
	}
	if err != nil {
		return 0, nil, err
	}
	if a.status == 429 || a.status == 502 || a.status == 503 || a.status == 504 {
		return 0, nil, fmt.Errorf("it answers %d %s", a.status, http.StatusText(a.status))
	}
	return a.status, a.body, nil
}
