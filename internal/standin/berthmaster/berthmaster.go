// Package berthmaster is the stand-in for Berthmaster, the port authority's old berth service: SOAP 1.1
// in the document style and SOAP 1.2 in the rpc style, each with its WSDL, signed in to with a user
// name token.
package berthmaster

import (
	"context"
	"crypto/sha1"
	_ "embed"
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"

	"hollowreed/internal/standin"
)

//go:embed berths.wsdl
var berths string

//go:embed tides.wsdl
var tides string

// User and Password of the service.
const (
	User     = "skerry-line"
	Password = "slack-water-3"
)

type berth struct {
	Number int
	Harbor string
	Length string
	Vessel string
}

// Service is the berth service.
type Service struct {
	Moods  standin.FaultInjection
	Log    standin.Log
	mu     sync.Mutex
	berths []berth
}

// New makes a service with the same berths each time.
func New() *Service {
	return &Service{berths: []berth{{1, "Ling Castle", "84.5", ""}, {2, "Ling Castle", "110.0", "Skua"}, {3, "Orma", "62.0", ""}, {4, "Havra", "71.5", "Fulmar"}}}
}

// Handler serves both ports and their documents.
func (s *Service) Handler() http.Handler {
	mux := http.NewServeMux()
	document := func(text string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/xml")
			io.WriteString(w, strings.ReplaceAll(text, "http://berthmaster.example", "http://"+r.Host))
		}
	}
	mux.HandleFunc("GET /berths", document(berths))
	mux.HandleFunc("GET /tides", document(tides))
	mux.HandleFunc("POST /berths", func(w http.ResponseWriter, r *http.Request) { s.serve(w, r, "1.1") })
	mux.HandleFunc("POST /tides", func(w http.ResponseWriter, r *http.Request) { s.serve(w, r, "1.2") })
	return mux
}

type envelope struct {
	XMLName xml.Name
	Header  struct {
		Security struct {
			Token struct {
				User     string `xml:"Username"`
				Password struct {
					Type string `xml:"Type,attr"`
					Text string `xml:",chardata"`
				} `xml:"Password"`
				Nonce   string `xml:"Nonce"`
				Created string `xml:"Created"`
			} `xml:"UsernameToken"`
		} `xml:"Security"`
	} `xml:"Header"`
	Body struct {
		List struct {
			Harbor string `xml:"harbour"`
		} `xml:"ListBerths"`
		Reserve *struct {
			Number int    `xml:"number"`
			Vessel string `xml:"vessel"`
		} `xml:"ReserveBerth"`
		Tide *struct {
			Harbor string `xml:"harbour"`
			Hours  int    `xml:"hours"`
		} `xml:"nextTide"`
	} `xml:"Body"`
}

var spaces = map[string]string{"1.1": "http://schemas.xmlsoap.org/soap/envelope/", "1.2": "http://www.w3.org/2003/05/soap-envelope"}

func (s *Service) serve(w http.ResponseWriter, r *http.Request, version string) {
	var e envelope
	if err := xml.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&e); err != nil || e.XMLName.Space != spaces[version] {
		s.fault(w, version, "VersionMismatch", "an envelope of SOAP "+version+" is wanted", "")
		return
	}
	if !s.known(&e) {
		s.fault(w, version, "Client", "the user name token is not known", "<reason>sign in</reason>")
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case e.Body.Tide != nil:
		s.answer(w, version, fmt.Sprintf(`<t:nextTideResponse xmlns:t="urn:berthmaster:tides"><tide><harbour>%s</harbour><high>2031-03-09T11:%02d:00Z</high><metres>3.42</metres></tide></t:nextTideResponse>`, escaped(e.Body.Tide.Harbor), e.Body.Tide.Hours))
	case e.Body.Reserve != nil:
		s.reserve(w, version, e.Body.Reserve.Number, e.Body.Reserve.Vessel)
	default:
		var b strings.Builder
		for _, one := range s.berths {
			if e.Body.List.Harbor == "" || e.Body.List.Harbor == one.Harbor {
				fmt.Fprintf(&b, `<b:berth number="%d"><b:harbour>%s</b:harbour><b:length>%s</b:length>`, one.Number, one.Harbor, one.Length)
				if one.Vessel != "" {
					fmt.Fprintf(&b, `<b:vessel>%s</b:vessel>`, escaped(one.Vessel))
				}
				b.WriteString("</b:berth>")
			}
		}
		s.answer(w, version, `<ListBerthsResponse xmlns="urn:berthmaster:berths">`+b.String()+`</ListBerthsResponse>`)
	}
}

func (s *Service) reserve(w http.ResponseWriter, version string, number int, vessel string) {
	i := slices.IndexFunc(s.berths, func(b berth) bool { return b.Number == number })
	switch {
	case i < 0:
		s.fault(w, version, "Client", fmt.Sprintf("there is no berth %d", number), "")
	case s.berths[i].Vessel != "" && s.berths[i].Vessel != vessel:
		s.fault(w, version, "Client", fmt.Sprintf("berth %d is taken", number), "<b:Taken xmlns:b=\"urn:berthmaster:berths\"><b:vessel>"+escaped(s.berths[i].Vessel)+"</b:vessel></b:Taken>")
	default:
		s.berths[i].Vessel = vessel
		s.answer(w, version, fmt.Sprintf(`<b:ReserveBerthResponse><b:reservation>R-%d-%s</b:reservation></b:ReserveBerthResponse>`, number, escaped(strings.ToUpper(vessel))))
	}
}

func escaped(s string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(s))
	return b.String()
}

// known checks the user name token: its password as text, or as a digest.
func (s *Service) known(e *envelope) bool {
	t := e.Header.Security.Token
	want := Password
	if strings.HasSuffix(t.Password.Type, "#PasswordDigest") {
		nonce, err := base64.StdEncoding.DecodeString(t.Nonce)
		if err != nil {
			return false
		}
		sum := sha1.Sum([]byte(string(nonce) + t.Created + Password))
		want = base64.StdEncoding.EncodeToString(sum[:])
	}
	return t.User == User && t.Password.Text == want && !s.Moods.Is(standin.Expire)
}

func (s *Service) answer(w http.ResponseWriter, version, body string) {
	w.Header().Set("Content-Type", map[string]string{"1.1": "text/xml; charset=utf-8", "1.2": "application/soap+xml; charset=utf-8"}[version])
	fmt.Fprintf(w, `<?xml version="1.0"?><s:Envelope xmlns:s=%q xmlns:b="urn:berthmaster:berths"><s:Header><b:Served>here</b:Served></s:Header><s:Body>%s</s:Body></s:Envelope>`, spaces[version], body)
}

func (s *Service) fault(w http.ResponseWriter, version, code, why, detail string) {
	w.Header().Set("Content-Type", "text/xml; charset=utf-8")
	w.WriteHeader(http.StatusInternalServerError)
	body := fmt.Sprintf(`<s:Fault><faultcode>s:%s</faultcode><faultstring>%s</faultstring><detail>%s</detail></s:Fault>`, code, why, detail)
	if version == "1.2" {
		body = fmt.Sprintf(`<s:Fault><s:Code><s:Value>s:%s</s:Value></s:Code><s:Reason><s:Text xml:lang="en">%s</s:Text></s:Reason><s:Detail>%s</s:Detail></s:Fault>`, map[string]string{"Client": "Sender"}[code]+"", why, detail)
	}
	fmt.Fprintf(w, `<s:Envelope xmlns:s=%q><s:Body>%s</s:Body></s:Envelope>`, spaces[version], body)
}

// Page shows the berths.
func (s *Service) Page(context.Context) (standin.Page, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := standin.Table{Title: "Berths", Head: []string{"number", "harbour", "length", "vessel"}}
	for _, b := range s.berths {
		t.Rows = append(t.Rows, []string{fmt.Sprint(b.Number), b.Harbor, b.Length, b.Vessel})
	}
	return standin.Page{
		Title: "Berthmaster", About: "The port authority's old berth service. Its documents are at /berths?wsdl (SOAP 1.1) and /tides?wsdl (SOAP 1.2, rpc).",
		Actions: s.Moods.Actions(standin.Slow, standin.Refuse, standin.Wrong, standin.Drop, standin.Expire),
		Tables:  []standin.Table{t, {Title: "Asked for", Head: []string{"at", "method", "path", "answered"}, Rows: s.Log.Rows()}},
	}, nil
}

// Standin is Berthmaster.
var Standin = standin.Standin{
	Name: "berthmaster", About: "the berth service: SOAP 1.1 and 1.2 with WSDL",
	Start: func(ctx context.Context, _ string) (*standin.Running, error) {
		s := New()
		address, err := standin.HTTP(ctx, &s.Moods, &s.Log, s.Handler())
		if err != nil {
			return nil, err
		}
		page, err := standin.Serve(ctx, s.Page)
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{
			"berthmaster": {Kind: "soap", Values: map[string]string{"address": address + "/berths", "user": User, "password": Password}},
		}}, err
	},
}
