package page

import (
	"bytes"
	"context"
	"net/http"
	"net/url"
	"strings"

	"github.com/google/uuid"

	"hollowreed/internal/store"
)

// Pages are written as if their project stood at the root of the server: a link to its bench is /bench. Where the project is
// served below an address of its own, that address is put before these links here, and nowhere else.

// places are the beginnings of the addresses of a project.
var places = []string{"bench", "traffic", "estate", "releases", "find", "live"}

// linked are the attributes that hold addresses.
var linked = []string{"href", "action", "formaction", "hx-get", "hx-post", "data-stream", "data-help"}

// asking is what comes with a request: who asks, and below which address the project's pages are.
type asking struct {
	person store.Person
	base   string
}

type askingKey struct{}

// As makes a context of a request of somebody.
func As(ctx context.Context, by store.Person) context.Context {
	return context.WithValue(ctx, askingKey{}, asking{person: by})
}

// Person is who asks.
func Person(ctx context.Context) store.Person {
	a, _ := ctx.Value(askingKey{}).(asking)
	return a.person
}

func base(ctx context.Context) string {
	a, _ := ctx.Value(askingKey{}).(asking)
	return a.base
}

// Below is the route of all that is below the address of a project.
const Below = "/p/:project/*path"

// Base is the address below which a project's pages are.
func Base(projectID string) string { return "/p/" + url.PathEscape(projectID) }

// Mount serves pages of a project below its address, for a person.
func Mount(w http.ResponseWriter, r *http.Request, projectID string, by store.Person, h http.Handler) {
	a := asking{person: by, base: Base(projectID)}
	m := &mountedWriter{ResponseWriter: w, base: a.base}
	http.StripPrefix(a.base, h).ServeHTTP(m, r.WithContext(context.WithValue(r.Context(), askingKey{}, a)))
}

// Callback is where an authorization server sends people back to (RFC 6749, section 3.1.2). It is one address for all projects,
// since it is registered there; the state says of which project it is.
const Callback = "/oauth/callback"

// StateOf makes the state of a request for consent (RFC 6749, section 10.12).
func StateOf(projectID string) string { return projectID + "." + uuid.NewString() }

// ProjectOf is the project of a state.
func ProjectOf(state string) string { return state[:max(0, strings.LastIndexByte(state, '.'))] }

// within says whether an address is one of a project, as its pages write it.
func within(address string) bool {
	rest, rooted := strings.CutPrefix(address, "/")
	if !rooted {
		return false
	}
	end := strings.IndexAny(rest, "/?#\"")
	if end < 0 {
		end = len(rest)
	}
	for _, place := range places {
		if rest[:end] == place {
			return true
		}
	}
	return false
}

// mounted puts the base before the links of a page. The text of a page has no quotes, which are escaped there: what looks like
// an attribute is one.
func mounted(base string, page []byte) []byte {
	if base == "" {
		return page
	}
	const begins = `="/`
	out := make([]byte, 0, len(page)+len(page)/16)
	for {
		i := bytes.Index(page, []byte(begins))
		if i < 0 {
			return append(out, page...)
		}
		out = append(out, page[:i+2]...)
		page = page[i+2:]
		if isLink(out) && within(string(page[:min(len(page), longestPlace)])) {
			out = append(out, base...)
		}
	}
}

// longestPlace is how much of an address has to be looked at.
const longestPlace = 16

// isLink says whether a page ends with the beginning of an attribute that holds an address.
func isLink(page []byte) bool {
	page = bytes.TrimSuffix(page, []byte(`="`))
	for _, name := range linked {
		if before, ok := bytes.CutSuffix(page, []byte(name)); ok && len(before) > 0 && strings.IndexByte(" \n\t", before[len(before)-1]) >= 0 {
			return true
		}
	}
	return false
}

// mountedWriter puts the base before the addresses to which an answer leads.
type mountedWriter struct {
	http.ResponseWriter
	base string
}

// WriteHeader sends the headers.
func (m *mountedWriter) WriteHeader(status int) {
	for _, name := range []string{"Location", "HR-Location", "HX-Push-Url", "HX-Redirect"} {
		if to := m.Header().Get(name); within(to) {
			m.Header().Set(name, m.base+to)
		}
	}
	m.ResponseWriter.WriteHeader(status)
}

// Flush sends what was written.
func (m *mountedWriter) Flush() { http.NewResponseController(m.ResponseWriter).Flush() }

// Unwrap is the writer below.
func (m *mountedWriter) Unwrap() http.ResponseWriter { return m.ResponseWriter }
