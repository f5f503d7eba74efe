package secret

import (
	"encoding/base64"
	"encoding/json"
	"html"
	"net/url"
	"slices"
	"strings"
	"sync"
)

// Masked stands in place of a secret.
const Masked = "••••••"

// shortest is the least length of what is masked: a text of two letters is everywhere.
const shortest = 4

// Mask knows secrets and hides them in texts, also where they are written in one of the usual ways:
// base64, percent-encoded, as JSON or as HTML.
type Mask struct {
	mu    sync.RWMutex
	known []string
}

// Add makes a secret known. Parts are known by themselves: the lines of a key, the password of an address.
func (m *Mask) Add(secrets ...string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, s := range secrets {
		for _, form := range forms(s) {
			if len(form) >= shortest && !slices.Contains(m.known, form) {
				m.known = append(m.known, form)
			}
		}
	}
	slices.SortStableFunc(m.known, func(a, b string) int { return len(b) - len(a) })
}

func forms(s string) []string {
	list := []string{s, strings.TrimSpace(s), url.QueryEscape(s), url.PathEscape(s), html.EscapeString(s), base64.StdEncoding.EncodeToString([]byte(s)), base64.RawURLEncoding.EncodeToString([]byte(s))}
	if j, err := json.Marshal(s); err == nil {
		list = append(list, string(j[1:len(j)-1]))
	}
	if u, err := url.Parse(s); err == nil && u.User != nil {
		if p, ok := u.User.Password(); ok {
			list = append(list, p, url.QueryEscape(p))
		}
	}
	for _, line := range strings.Split(s, "\n") {
		if line = strings.TrimSpace(line); len(line) >= 20 && !strings.HasPrefix(line, "-----") {
			list = append(list, line)
		}
	}
	return list
}

// Text gives a text with all that is known hidden.
func (m *Mask) Text(s string) string {
	m.mu.RLock()
	defer m.mu.RUnlock()
	for _, k := range m.known {
		s = strings.ReplaceAll(s, k, Masked)
	}
	return s
}
