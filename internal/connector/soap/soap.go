// Package soap calls SOAP 1.1 and 1.2 services over HTTP: bodies are written and read by their schemas,
// faults of a service are faults of the request, and a user name token signs in where one is set.
package soap

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	service "hollowreed/internal/connector/http"
	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/soap/envelope"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/api"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	xmlnotation "hollowreed/internal/core/notation/xml"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Service is one SOAP service.
type Service struct {
	env  system.Env
	http *service.Service
	now  func() time.Time
}

var (
	_ system.Caller  = (*Service)(nil)
	_ system.Reader  = (*Service)(nil)
	_ system.Fetcher = (*Service)(nil)

	_ system.Forwarder = (*Service)(nil)
)

// Open makes a service of its settings.
func Open(env system.Env) (system.System, error) {
	values := system.Values{}
	for name, v := range env.Values {
		values[name] = v
	}
	values["sign in"] = "none"
	h, err := service.Open(system.Env{ID: env.ID, Values: values, Net: env.Net, Secrets: env.Secrets})
	if err != nil {
		return nil, err
	}
	s := &Service{env: env, http: h.(*service.Service), now: time.Now}
	s.http.Hide = hidden
	return s, nil
}

var password = regexp.MustCompile(`(<w:Password [^>]*>)[^<]*`)

// hidden hides the password of an envelope, or its digest, from which a short one could be guessed.
func hidden(envelope string) string {
	return password.ReplaceAllString(envelope, "$1••••••")
}

// Close closes idle connections.
func (s *Service) Close() { s.http.Close() }

// Check says whether the service answers at all.
func (s *Service) Check(ctx context.Context) error { return s.http.Check(ctx) }

// Probe tries the service stage by stage.
func (s *Service) Probe(ctx context.Context, r *probe.Run) { s.http.Probe(ctx, r) }

// Address is that of the service.
func (s *Service) Address() *url.URL { return s.http.Address() }

// Forward hands an envelope on to the service as it is, and its response back. Where that is said, it gets the user name token of the
// connection in place of the caller's, or none.
func (s *Service) Forward(w http.ResponseWriter, r *http.Request, f system.Forwarding) error {
	if r.Method != http.MethodPost || f.Token == "" || f.Token == api.TokenStays {
		return s.http.Forward(w, r, f)
	}
	body, err := io.ReadAll(r.Body) // bounded by who hands it on
	if err != nil {
		f.Failed(w, err)
		return nil
	}
	e, err := contract.ReadEnvelope(body)
	if err != nil {
		f.Failed(w, err)
		return nil
	}
	token := ""
	if f.Token == api.TokenOfConnection {
		token = strings.Replace(s.token(), ` soap:mustUnderstand="1"`, "", 1) // its prefix may be another one there
	}
	body = e.WithSecurity([]byte(token))
	r.Body, r.ContentLength, r.TransferEncoding = io.NopCloser(bytes.NewReader(body)), int64(len(body)), nil
	return s.http.Forward(w, r, f)
}

// Fetch reads a document of the service: its WSDL.
func (s *Service) Fetch(ctx context.Context, at string) ([]byte, error) { return s.http.Fetch(ctx, at) }

// media are the media types of envelopes.
var media = map[string]string{"1.1": "text/xml; charset=utf-8", "1.2": "application/soap+xml; charset=utf-8"}

// Call calls an operation of the service.
func (s *Service) Call(ctx context.Context, r system.Request) (value.Value, error) {
	text, err := s.envelope(r)
	if err != nil {
		return value.Value{}, err
	}
	status, body, err := s.http.Post(ctx, header(r.Op), text, r.Op.Kind.Reads)
	if err != nil {
		return value.Value{}, err
	}
	return s.answer(ctx, r.Op, status, body)
}

// Preview is the envelope that an operation would send.
func (s *Service) Preview(ctx context.Context, r system.Request) (running.Turn, error) {
	text, err := s.envelope(r)
	if err != nil {
		return running.Turn{}, err
	}
	return s.http.PreviewPost(ctx, header(r.Op), text)
}

// header names the operation (SOAP 1.1, section 6.1; SOAP 1.2 part 2, section 6.5).
func header(op *connection.Operation) http.Header {
	version, action := op.Setting("version"), op.Setting("action")
	h := http.Header{"Content-Type": {media[version]}, "Accept-Encoding": {"gzip"}}
	switch {
	case version == "1.1":
		h.Set("SOAPAction", `"`+action+`"`)
	case action != "":
		h.Set("Content-Type", media[version]+`; action="`+action+`"`)
	}
	return h
}

// Read takes the records of an operation's answer.
func (s *Service) Read(ctx context.Context, r system.Request) iter.Seq2[value.Value, error] {
	return func(yield func(value.Value, error) bool) {
		v, err := s.Call(ctx, r)
		if err != nil {
			yield(v, err)
			return
		}
		at := service.Pointer(v, r.Op.Setting("records"))
		items := []value.Value{at}
		switch {
		case at.IsMissing():
			return
		case at.Kind() == value.ListKind:
			items = at.Items()
		}
		for _, item := range items {
			if !yield(item, nil) {
				return
			}
		}
	}
}

func escaped(s string) string {
	var b bytes.Buffer
	xml.EscapeText(&b, []byte(s))
	return b.String()
}

// envelope writes the request.
func (s *Service) envelope(r system.Request) ([]byte, error) {
	header, err := service.Filled(r.Op.Setting("header"), r.Value, escaped)
	if err != nil {
		return nil, err
	}
	header += s.token()
	body, err := written(r)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, `<?xml version="1.0" encoding="UTF-8"?><soap:Envelope xmlns:soap=%q>`, envelope.Spaces[r.Op.Setting("version")])
	if header != "" {
		b.WriteString("<soap:Header>" + header + "</soap:Header>")
	}
	b.WriteString("<soap:Body>" + body + "</soap:Body></soap:Envelope>")
	return b.Bytes(), nil
}

// written is the request's element, or an empty one where nothing is asked with.
func written(r system.Request) (string, error) {
	if r.Op.Request == nil {
		return fmt.Sprintf("<q:%s xmlns:q=%q/>", r.Op.Setting("request element"), r.Op.Setting("namespace")), nil
	}
	var b bytes.Buffer
	w, err := xmlnotation.Kind.NewWriter(&b, notation.Options{Schema: r.Op.Request})
	if err == nil {
		err = errors.Join(w.Write(r.Value), w.Close())
	}
	text := b.String()
	if strings.HasPrefix(text, "<?xml") {
		_, text, _ = strings.Cut(text, "?>")
	}
	return strings.TrimSpace(text), err
}

// Namespaces of WS-Security (OASIS, 1.0).
const (
	wsse = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
	wsu  = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
	upt  = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#"
	b64  = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary"
)

// token is the header that signs in with user name and password; empty where no user is set. The digest is that
// of nonce, time and password (UsernameToken Profile 1.0, 3.1).
func (s *Service) token() string {
	user, password := s.env.Values["user"], s.env.Values["password"]
	if user == "" {
		return ""
	}
	nonce := make([]byte, 16)
	rand.Read(nonce)
	created := s.now().UTC().Format("2006-01-02T15:04:05Z")
	kind, sent := "PasswordText", escaped(password)
	if s.env.Values["digest"] != "text" {
		sum := sha1.Sum([]byte(string(nonce) + created + password))
		kind, sent = "PasswordDigest", base64.StdEncoding.EncodeToString(sum[:])
	}
	return fmt.Sprintf(`<w:Security xmlns:w=%q xmlns:u=%q soap:mustUnderstand="1"><w:UsernameToken><w:Username>%s</w:Username><w:Password Type="%s%s">%s</w:Password><w:Nonce EncodingType=%q>%s</w:Nonce><u:Created>%s</u:Created></w:UsernameToken></w:Security>`,
		wsse, wsu, escaped(user), upt, kind, sent, b64, base64.StdEncoding.EncodeToString(nonce), created)
}

// answer reads the body of an answer, or its fault.
func (s *Service) answer(ctx context.Context, op *connection.Operation, status int, text []byte) (value.Value, error) {
	e, err := envelope.Open(text)
	if err != nil {
		if status >= 400 {
			return value.Value{}, fault.New(fault.Outside, "it answers %d %s and no envelope", status, http.StatusText(status))
		}
		return value.Value{}, err
	}
	if e.Fault != nil {
		return value.Value{}, e.Fault
	}
	if want := op.Setting("response element"); want != "" && e.Name != "" && e.Name != want {
		return value.Value{}, fault.Expect(fault.Type, "the element "+want, e.Name).InField("Body")
	}
	if op.Response == nil || e.Body == "" {
		return value.Value{}, nil
	}
	return read(ctx, op.Response, e.Body)
}

func read(ctx context.Context, s *schema.Schema, text string) (value.Value, error) {
	var ignored notation.Ignored
	defer system.PassOver(ctx, &ignored)
	r, err := xmlnotation.Kind.NewReader(strings.NewReader(text), notation.Options{Source: "the answer", Schema: s, Check: true, Ignored: &ignored})
	if err != nil {
		return value.Value{}, err
	}
	v, err := r.Next()
	if err == io.EOF {
		return value.Value{}, nil
	}
	if err != nil {
		return v, fault.From(err, fault.Type)
	}
	return v, nil
}
