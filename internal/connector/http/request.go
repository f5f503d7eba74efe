package http

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"slices"
	"sort"
	"strings"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/value"
)

// wire is a request as it is sent, as often as need be.
type wire struct {
	method string
	url    *url.URL
	header http.Header
	body   []byte
	safe   bool // may be sent again: it changes nothing, or says by a key that it is the same
}

func (w *wire) make(ctx context.Context) (*http.Request, error) {
	var body io.Reader
	if w.body != nil {
		body = bytes.NewReader(w.body)
	}
	req, err := http.NewRequestWithContext(ctx, w.method, w.url.String(), body)
	if err != nil {
		return nil, err
	}
	req.Header = w.header.Clone()
	return req, nil
}

// turn is the request as it goes over the wire.
func (s *Service) turn(w *wire, req *http.Request) running.Turn {
	body := string(w.body)
	if s.Hide != nil {
		body = s.Hide(body)
	}
	return running.Turn{Sent: true, Head: w.method + " " + shown(req.URL), Text: headers(req.Header) + "\n\n" + body}
}

// Preview is the request that an operation would send. A token that would have to be fetched first is only named.
func (s *Service) Preview(ctx context.Context, r system.Request) (running.Turn, error) {
	w, err := s.request(r, nil)
	if err != nil {
		return running.Turn{}, err
	}
	return s.preview(ctx, w)
}

// PreviewPost is what Post would send.
func (s *Service) PreviewPost(ctx context.Context, h http.Header, text []byte) (running.Turn, error) {
	return s.preview(ctx, &wire{method: http.MethodPost, url: s.base, header: h, body: text})
}

func (s *Service) preview(ctx context.Context, w *wire) (running.Turn, error) {
	req, err := w.make(ctx)
	if err != nil {
		return running.Turn{}, err
	}
	if known, is := s.sign.(fixed); is {
		known(req)
	} else {
		req.Header.Set("Authorization", "Bearer (a token that is fetched when it is sent)")
	}
	return s.turn(w, req), nil
}

// request makes the request of an operation's settings and formulas.
func (s *Service) request(r system.Request, at *url.URL) (*wire, error) {
	op := r.Op
	fr := &formula.Frame{Slots: []value.Value{r.Value}}
	w := &wire{method: op.Setting("method"), url: at, header: http.Header{}}
	if at == nil {
		u, err := s.address(op, r.Value, fr)
		if err != nil {
			return nil, err
		}
		w.url = u
	}
	w.header.Set("Accept", "application/json, application/xml;q=0.9, */*;q=0.5")
	w.header.Set("Accept-Encoding", "gzip")
	w.header.Set("User-Agent", "HollowReed")
	for _, h := range op.Fields["headers"] {
		v, err := eval(h.Value, fr, h.Name)
		if err != nil {
			return nil, err
		}
		if !v.IsMissing() {
			text := v.String()
			if strings.ContainsAny(text, "\r\n") {
				return nil, fault.New(fault.Setting, "the header %s cannot hold a line break", h.Name)
			}
			w.header.Set(h.Name, text)
		}
	}
	if err := w.fill(op, fr); err != nil {
		return nil, err
	}
	w.safe = slices.Contains([]string{"GET", "HEAD", "PUT", "DELETE", "OPTIONS"}, w.method)
	if key := op.Setting("key"); key != "" && r.Key != "" {
		w.header.Set(key, r.Key)
		w.safe = true
	}
	return w, nil
}

func eval(p *formula.Program, fr *formula.Frame, what string) (value.Value, error) {
	if p == nil {
		return value.Value{}, fault.New(fault.Setting, "the formula of %s has faults", what)
	}
	fr.Reset()
	v, f := p.Eval(fr)
	if f != nil {
		return v, f.InField(what)
	}
	return v, nil
}

// address puts the request's fields into the path and the formulas into the query.
func (s *Service) address(op *connection.Operation, request value.Value, fr *formula.Frame) (*url.URL, error) {
	path, err := Filled(op.Setting("path"), request, url.PathEscape)
	if err != nil {
		return nil, err
	}
	u, err := url.Parse(s.base.String() + "/" + strings.TrimPrefix(path, "/"))
	if err != nil || u.Host != s.base.Host {
		return nil, fault.Expect(fault.Setting, "a path below the connection's address", fault.Quote(path))
	}
	q := u.Query()
	for _, p := range op.Fields["query"] {
		v, err := eval(p.Value, fr, p.Name)
		if err != nil {
			return nil, err
		}
		for _, item := range listed(v) {
			q.Add(p.Name, item.String())
		}
	}
	u.RawQuery = q.Encode()
	return u, nil
}

func listed(v value.Value) []value.Value {
	switch {
	case v.IsMissing():
		return nil
	case v.Kind() == value.ListKind:
		return v.Items()
	}
	return []value.Value{v}
}

// Filled puts fields of a request in place of their names in braces, each escaped.
func Filled(text string, request value.Value, escape func(string) string) (string, error) {
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(text, "{")
		b.WriteString(before)
		if !ok {
			return b.String(), nil
		}
		name, after, ok := strings.Cut(rest, "}")
		if !ok {
			return "", fault.New(fault.Syntax, "a brace in %s is not ended", fault.Quote(text))
		}
		v := request.Field(name)
		if v.IsMissing() || v.String() == "" {
			return "", fault.New(fault.Required, "the request has no %s", name).InField(name)
		}
		b.WriteString(escape(v.String()))
		text = after
	}
}

// fill writes the body in its notation.
func (w *wire) fill(op *connection.Operation, fr *formula.Frame) error {
	prog := op.Formulas["body"]
	if prog == nil {
		if op.Setting("body") != "" {
			return fault.New(fault.Setting, "the formula of the body has faults")
		}
		return nil
	}
	v, err := eval(prog, fr, "body")
	if err != nil || v.IsMissing() {
		return err
	}
	media := op.Setting("media")
	w.body, err = written(v, media, w)
	if err == nil && w.header.Get("Content-Type") == "" {
		w.header.Set("Content-Type", media)
	}
	return err
}

func written(v value.Value, media string, w *wire) ([]byte, error) {
	if v.Kind() == value.Text || v.Kind() == value.Binary {
		return []byte(v.Text()), nil
	}
	switch media {
	case "application/x-www-form-urlencoded":
		return []byte(form(v).Encode()), nil
	case "multipart/form-data":
		return parts(v, w)
	}
	n, known := all.OfMedia(media)
	if !known || n.Columns {
		return nil, fault.Expect(fault.Type, "a text or bytes for "+media, v.Kind().String()).InField("body")
	}
	var out bytes.Buffer
	items, many := []value.Value{v}, v.Kind() == value.ListKind
	if many {
		items = v.Items()
	}
	to, err := n.NewWriter(&out, notation.Options{Many: many})
	if err != nil {
		return nil, err
	}
	for _, item := range items {
		if err := to.Write(item); err != nil {
			return nil, err
		}
	}
	err = to.Close()
	return bytes.TrimRight(out.Bytes(), "\n"), err
}

func form(v value.Value) url.Values {
	f := url.Values{}
	if r := v.Record(); r != nil {
		for i, field := range r.Fields {
			for _, item := range listed(field) {
				f.Add(r.Layout.Names[i], item.String())
			}
		}
	}
	return f
}

// parts writes a record as a form of several parts (RFC 7578). Bytes, and records of name, type and content,
// are files.
func parts(v value.Value, w *wire) ([]byte, error) {
	var out bytes.Buffer
	m := multipart.NewWriter(&out)
	r := v.Record()
	if r == nil {
		return nil, fault.Expect(fault.Type, "a record for a form", v.Kind().String()).InField("body")
	}
	for i, field := range r.Fields {
		for _, item := range listed(field) {
			if err := part(m, r.Layout.Names[i], item); err != nil {
				return nil, err
			}
		}
	}
	w.header.Set("Content-Type", m.FormDataContentType())
	err := m.Close()
	return out.Bytes(), err
}

func part(m *multipart.Writer, name string, v value.Value) error {
	h := textproto.MIMEHeader{}
	content, file, media := v, "", ""
	switch {
	case v.Kind() == value.RecordKind:
		content, file, media = v.Field("content"), v.Field("name").String(), v.Field("type").String()
		if content.IsMissing() {
			content = v.Field("text")
		}
	case v.Kind() == value.Binary:
		file = name
	}
	clean := strings.NewReplacer("\\", "\\\\", `"`, `\"`, "\r", "", "\n", "")
	disposition := fmt.Sprintf(`form-data; name="%s"`, clean.Replace(name))
	if file != "" {
		disposition += fmt.Sprintf(`; filename="%s"`, clean.Replace(file))
		if media == "" {
			media = "application/octet-stream"
		}
	}
	h.Set("Content-Disposition", disposition)
	if media != "" {
		h.Set("Content-Type", clean.Replace(media))
	}
	p, err := m.CreatePart(h)
	if err != nil {
		return err
	}
	text := content.String()
	if content.Kind() == value.Text || content.Kind() == value.Binary {
		text = content.Text()
	}
	_, err = io.WriteString(p, text)
	return err
}

// headers writes headers as they are sent, in the order of their names.
func headers(h http.Header) string {
	names := make([]string, 0, len(h))
	for name := range h {
		names = append(names, name)
	}
	sort.Strings(names)
	var b strings.Builder
	for _, name := range names {
		for _, v := range h[name] {
			fmt.Fprintf(&b, "%s: %s\n", name, v)
		}
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// shown is an address as it may be told; keys in its query are masked by whoever shows it.
func shown(u *url.URL) string {
	c := *u
	c.User = nil
	return c.String()
}
