package connections

import (
	"net/url"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector/http"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/web/page"
)

// consents are those that somebody is being asked for, by their state.
type consents struct {
	mu    sync.Mutex
	asked map[string]asking
}

type asking struct {
	consent *http.Consent
	id, env string
	at      time.Time
}

// askedFor is how long somebody may take to consent.
const askedFor = 15 * time.Minute

func (s *consents) add(a asking) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.asked == nil {
		s.asked = map[string]asking{}
	}
	for state, old := range s.asked {
		if time.Since(old.at) > askedFor {
			delete(s.asked, state)
		}
	}
	s.asked[a.consent.State] = a
}

// take gives what was asked for, once.
func (s *consents) take(state string) (asking, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, ok := s.asked[state]
	delete(s.asked, state)
	return a, ok && time.Since(a.at) < askedFor
}

// callbackAt is where the authorization server sends people back to.
func callbackAt(c *gin.Context) string { return "http://" + c.Request.Host + page.Callback }

// askConsent leads to the consent page of a connection's system.
func (b pages) askConsent(c *gin.Context) error {
	_, d, err := b.connectionOf(c)
	if err != nil {
		return err
	}
	env, err := b.opened(c, d.In, d.ID)
	if err != nil {
		return err
	}
	consent, err := http.Ask(env, callbackAt(c), page.StateOf(b.Project))
	if err != nil {
		return err
	}
	b.consents.add(asking{consent: consent, id: d.ID, env: d.In, at: time.Now()})
	c.Redirect(303, consent.At)
	return nil
}

// opened is what a connection is opened in.
func (b pages) opened(c *gin.Context, env, id string) (system.Env, error) {
	pool := b.poolOf(env)
	return pool.Env(c, id)
}

// consented takes the code that came back, changes it for tokens and keeps them.
func (b pages) consented(c *gin.Context) error {
	a, ok := b.consents.take(c.Query("state"))
	if !ok {
		return fault.New(fault.InputGone, "nobody was asked for this consent, or too long ago").WithFix("Open the connection and press Connect again")
	}
	if code := c.Query("error"); code != "" {
		said := "No consent: " + code
		if text := c.Query("error_description"); text != "" {
			said += ", " + text
		}
		c.Redirect(303, connectionAt(a.id, a.env, said))
		return nil
	}
	env, err := b.opened(c, a.env, a.id)
	if err != nil {
		return err
	}
	if err := http.Take(c, env, a.consent, callbackAt(c), c.Query("code")); err != nil {
		return fault.From(err, fault.Outside)
	}
	c.Redirect(303, "/bench/connections/"+url.PathEscape(a.id)+"?env="+url.QueryEscape(a.env)+"&said="+url.QueryEscape("Connected: consent was given and the tokens are kept"))
	return nil
}
