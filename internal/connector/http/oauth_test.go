package http

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/driftbox"
)

// keeper keeps secrets in memory.
type keeper struct {
	mu   sync.Mutex
	one  sync.Mutex
	kept map[string]string
}

func (k *keeper) Get(_ context.Context, name string) (string, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.kept[name], nil
}

func (k *keeper) Set(_ context.Context, name, v string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.kept[name] = v
	return nil
}

func (k *keeper) Lock(ctx context.Context, _ string, do func(context.Context) error) error {
	k.one.Lock()
	defer k.one.Unlock()
	return do(ctx)
}

func box(t *testing.T, change map[string]string) (*driftbox.Box, system.Env) {
	t.Helper()
	b := driftbox.New()
	address, err := standin.HTTP(t.Context(), &b.Moods, &b.Log, b.Handler())
	require.NoError(t, err)
	values := driftbox.Settings(address)
	for name, v := range change {
		values[name] = v
	}
	env := contract.Env("http", values)
	env.Secrets = &keeper{kept: map[string]string{}}
	return b, env
}

const callback = "http://127.0.0.1:1/oauth/callback"

// consent goes through the consent page as a person would and gives what it sent back.
func consent(t *testing.T, c *Consent, answer string) url.Values {
	t.Helper()
	at, err := url.Parse(c.At)
	require.NoError(t, err)
	page, err := http.Get(c.At)
	require.NoError(t, err)
	page.Body.Close()
	require.Equal(t, 200, page.StatusCode)
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.PostForm("http://"+at.Host+"/consent", url.Values{"asked": {at.RawQuery}, "answer": {answer}})
	require.NoError(t, err)
	res.Body.Close()
	back, err := res.Location()
	require.NoError(t, err)
	require.Equal(t, c.State, back.Query().Get("state"))
	return back.Query()
}

func connected(t *testing.T, env system.Env) *Service {
	t.Helper()
	c, err := Ask(env, callback, "a-state")
	require.NoError(t, err)
	require.NoError(t, Take(t.Context(), env, c, callback, consent(t, c, "yes").Get("code")))
	s, err := Open(env)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s.(*Service)
}

func listing(t *testing.T) system.Request {
	r := asking(t, "read", "records: /files\npages: next field\nnext: /next")
	op := *r.Op
	op.Settings.Texts["path"] = partfile.Text{Value: "/files"}
	r.Op = &op
	return r
}

// TestLooksDoNotRenewForEver: where the base address answers 401 to every sign-in, looks at it do not ask for new tokens each time.
func TestLooksDoNotRenewForEver(t *testing.T) {
	never := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) }))
	t.Cleanup(never.Close)
	b, env := box(t, map[string]string{"address": never.URL})
	s := connected(t, env)
	for range 3 {
		require.Error(t, s.Check(t.Context()))
	}
	require.Equal(t, 1, b.Refreshed())
}

// TestRequestsThatAreRefusedTogetherRefreshOnce: two requests went out with one token, and both are refused: the second uses the
// token that the first has got, in place of ending it with another.
func TestRequestsThatAreRefusedTogetherRefreshOnce(t *testing.T) {
	b, env := box(t, nil)
	s := connected(t, env)
	var sent [2]*http.Request
	for i := range sent {
		sent[i] = httptest.NewRequestWithContext(t.Context(), http.MethodGet, "/files", nil)
		require.NoError(t, s.sign.sign(sent[i]))
	}
	require.Equal(t, sent[0].Header, sent[1].Header)
	b.Expire()
	for _, req := range sent {
		again, err := s.sign.renew(req)
		require.NoError(t, err)
		require.True(t, again)
	}
	require.Equal(t, 1, b.Refreshed())
	require.Len(t, contract.All(t, s, listing(t)), 5)
}

func TestConsentThenRefreshUnseen(t *testing.T) {
	b, env := box(t, nil)
	s := connected(t, env)
	require.Len(t, contract.All(t, s, listing(t)), 5)
	b.Expire()
	require.Len(t, contract.All(t, s, listing(t)), 5, "a token that is not taken any more is refreshed unseen")
	require.Equal(t, 1, b.Refreshed())

	b.Lasts = time.Second // below the time before the end at which a token is refreshed
	b.Expire()
	var wg sync.WaitGroup
	for range 6 {
		wg.Go(func() { contract.All(t, s, listing(t)) })
	}
	wg.Wait()
	well, told := contract.Probe(t, s)
	require.True(t, well, told)
	require.Contains(t, told, "signed in: with a token that is valid until")

	b.Lasts = time.Hour
	b.Expire()
	require.NoError(t, s.Check(t.Context()), "a look renews the sign-in, as a request does")
	b.Expire()
	well, told = contract.Probe(t, s)
	require.True(t, well, told)

	b.Revoke()
	require.ErrorContains(t, s.Check(t.Context()), "the consent was taken back")
	well, told = contract.Probe(t, s)
	require.False(t, well)
	require.Contains(t, told, "the consent was taken back")
	_, err := contract.Some(s, t, listing(t))
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	require.Contains(t, f.What(), "invalid_grant: the consent was taken back")
	require.Contains(t, f.Fix, "The consent is gone")
	gone, err := GoneSince(t.Context(), env.Secrets, env.ID)
	require.NoError(t, err)
	require.WithinDuration(t, time.Now(), gone, time.Minute)
	_, err = contract.Some(s, t, listing(t))
	require.ErrorAs(t, err, &f)
	still, err := GoneSince(t.Context(), env.Secrets, env.ID)
	require.NoError(t, err)
	require.Equal(t, gone, still, "the first time stands")
	s = connected(t, env)
	require.Len(t, contract.All(t, s, listing(t)), 5)
	gone, err = GoneSince(t.Context(), env.Secrets, env.ID)
	require.NoError(t, err)
	require.Zero(t, gone, "a new consent is there")
}

func TestATokenIsRefreshedBeforeItEndsAndOnceForAll(t *testing.T) {
	b, env := box(t, nil)
	b.Lasts = early + 2*time.Second
	s := connected(t, env)
	other, err := Open(env)
	require.NoError(t, err)
	t.Cleanup(other.Close)
	require.Len(t, contract.All(t, s, listing(t)), 5)
	require.Eventually(t, func() bool {
		contract.All(t, s, listing(t))
		return b.Refreshed() == 1
	}, 10*time.Second, 200*time.Millisecond)
	b.Lasts = time.Hour
	contract.All(t, other.(*Service), listing(t))
	require.LessOrEqual(t, b.Refreshed(), 2, "what one process has refreshed, the other takes")
}

func TestConsentThatIsNotGiven(t *testing.T) {
	_, env := box(t, nil)
	s, err := Open(env)
	require.NoError(t, err)
	_, err = contract.Some(s.(*Service), t, listing(t))
	require.ErrorContains(t, err, "nobody has consented yet")
	c, err := Ask(env, callback, "s")
	require.NoError(t, err)
	require.Equal(t, "access_denied", consent(t, c, "no").Get("error"))
	code := consent(t, c, "yes").Get("code")
	other, err := Ask(env, callback, "s")
	require.NoError(t, err)
	require.ErrorContains(t, Take(t.Context(), env, other, callback, code), "its verifier does not fit", "a code is worth nothing without its verifier")
	_, wrong := box(t, map[string]string{"client secret": "no"})
	wrong.Values["token at"] = env.Values["token at"]
	err = Take(t.Context(), wrong, c, callback, consent(t, c, "yes").Get("code"))
	require.ErrorContains(t, err, "invalid_client")
}

func TestClientCredentials(t *testing.T) {
	for _, style := range []string{"the header", "the form"} {
		b, env := box(t, map[string]string{"sign in": "oauth client credentials", "client as": style})
		s, err := Open(env)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		require.Len(t, contract.All(t, s.(*Service), listing(t)), 5)
		b.Expire()
		require.Len(t, contract.All(t, s.(*Service), listing(t)), 5)
		ctx, said := system.Listen(t.Context(), func(s string) string { return s })
		b.Expire()
		for range s.(*Service).Read(ctx, listing(t)) {
		}
		all := ""
		for _, turn := range said.Turns {
			all += turn.Head + "\n" + turn.Text + "\n"
		}
		require.Contains(t, all, "to the token endpoint")
		require.Contains(t, all, `"access_token":"••••••"`)
		require.Contains(t, strings.ToLower(all), "client_credentials")
	}
}

// TestAConsentIsGoneWhenItsTimeIsOver: a token that is refused before its time says nothing of the consent.
func TestAConsentIsGoneWhenItsTimeIsOver(t *testing.T) {
	for left, gone := range map[time.Duration]bool{time.Hour: false, -time.Hour: true} {
		_, env := box(t, nil)
		token := `{"access_token": "made-up", "expiry": "` + time.Now().Add(left).Format(time.RFC3339) + `"}`
		require.NoError(t, env.Secrets.Set(t.Context(), system.TokensOf(env.ID), token))
		s, err := Open(env)
		require.NoError(t, err)
		defer s.Close()
		require.ErrorContains(t, s.Check(t.Context()), "there is no refresh token")
		since, err := GoneSince(t.Context(), env.Secrets, env.ID)
		require.NoError(t, err)
		require.Equal(t, gone, !since.IsZero(), left)
	}
}
