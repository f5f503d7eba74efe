package connector

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/standin/postroom"
)

// TestEveryKindCanBeOpened: what can be described can be reached, and nothing else.
func TestEveryKindCanBeOpened(t *testing.T) {
	require.Equal(t, slices.Sorted(slices.Values(connection.Names())), Kinds())
	for _, kind := range Kinds() {
		p := NewPool(StaticSettings{"it": {Kind: kind, Values: system.Values{}}}, Rules{Roots: []string{t.TempDir()}})
		err := p.Check(t.Context(), "it")
		require.Error(t, err, kind)
		run := p.Probe(t.Context(), "it", nil)
		require.False(t, run.Passed(), kind)
		require.NotEmpty(t, run.Stages[len(run.Stages)-1].Advice, "%s: what mends it is said", kind)
		p.Close()
	}
}

// changing are settings that are asked for slowly and change meanwhile.
type changing struct {
	StaticSettings
	mu     sync.Mutex
	folder string
	asked  chan struct{}
	goOn   chan struct{}
}

// Settings waits until it may answer, with what held when it was asked.
func (c *changing) Settings(context.Context, string) (*Settings, error) {
	c.mu.Lock()
	folder := c.folder
	c.mu.Unlock()
	if c.asked != nil {
		c.asked <- struct{}{}
		<-c.goOn
	}
	return &Settings{Kind: "file", Values: system.Values{"folder": folder}}, nil
}

// TestAChangeThatComesWhileSettingsAreAskedForIsSeen by the next use, though the old ones have just come.
func TestAChangeThatComesWhileSettingsAreAskedForIsSeen(t *testing.T) {
	old, now := t.TempDir(), t.TempDir()
	c := &changing{folder: old}
	p := NewPool(c, Rules{})
	t.Cleanup(p.Close)
	up, err := p.Settings(t.Context(), "drop")
	require.NoError(t, err)
	require.Equal(t, old, up.Values["folder"])
	p.Reload("drop")
	c.asked, c.goOn = make(chan struct{}), make(chan struct{})
	first := make(chan *Settings)
	go func() {
		up, _ := p.Settings(context.Background(), "drop")
		first <- up
	}()
	<-c.asked
	c.mu.Lock()
	c.folder = now
	c.mu.Unlock()
	p.Reload("drop")
	c.goOn <- struct{}{}
	require.Equal(t, old, (<-first).Values["folder"], "it was asked for before")
	second := make(chan *Settings)
	go func() {
		up, _ := p.Settings(context.Background(), "drop")
		second <- up
	}()
	<-c.asked
	c.goOn <- struct{}{}
	require.Equal(t, now, (<-second).Values["folder"])
	third, err := p.Settings(t.Context(), "drop") // would hang if it asked again
	require.NoError(t, err)
	require.Equal(t, now, third.Values["folder"])
	p.Reload("unknown")
}

// TestWhatASystemCannotDoIsSaid: by its connection, and as a fault that no waiting mends.
func TestWhatASystemCannotDoIsSaid(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.txt"), []byte("x"), 0o644))
	p := NewPool(StaticSettings{"drop": {Kind: "file", Values: system.Values{"folder": dir, "after": "leave"}}, "secrets": {Values: system.Values{"pgp": "word"}}}, Rules{})
	t.Cleanup(p.Close)
	var f *fault.Fault
	_, err := p.Tables(t.Context(), "drop")
	require.ErrorAs(t, err, &f)
	require.Equal(t, "the connection drop cannot look up rows", f.Message)
	require.ErrorAs(t, p.FetchMails(t.Context(), "drop", "", "", nil), &f)
	require.Equal(t, "the connection drop cannot bring mail", f.Message)
	_, err = p.Fetch(t.Context(), "drop", "/openapi.json")
	require.ErrorAs(t, err, &f)
	_, err = p.Folder(t.Context(), "nothing")
	require.ErrorAs(t, err, &f)
	require.Contains(t, f.What(), "has no settings in this environment")
	folder, err := p.Folder(t.Context(), "drop")
	require.NoError(t, err)
	files, err := folder.List(t.Context(), "*.txt")
	require.NoError(t, err)
	require.Len(t, files, 1)
	env, err := p.Env(t.Context(), "drop")
	require.NoError(t, err)
	require.Equal(t, "64", env.Values["largest"], "with the defaults of its kind")
	_, err = p.Env(t.Context(), "nothing")
	require.Error(t, err)
	require.Empty(t, p.Breaker("drop"))
	require.Empty(t, p.Breaker("nothing"))
	secret, err := p.Secret(t.Context(), "pgp")
	require.NoError(t, err)
	require.Equal(t, "word", secret)
	require.NotContains(t, p.Mask("the word is word"), "word", "it is hidden from then on")
}

// TestUsesAreObserved: how long each took and whether it failed; a mail that is refused here is no failure of the mailbox.
func TestUsesAreObserved(t *testing.T) {
	desk := postroom.New().Desk
	port, authority, err := desk.Serve(t.Context())
	require.NoError(t, err)
	p := NewPool(StaticSettings{"desk": {Kind: "mailbox", Values: postroom.DeskSettings(port, authority)}}, Rules{})
	t.Cleanup(p.Close)
	var seen []bool
	p.Observe(func(id string, _ time.Duration, failed bool) {
		require.Equal(t, "desk", id)
		seen = append(seen, failed)
	})
	desk.Deliver(postroom.Wrote(0))
	var got []string
	require.NoError(t, p.FetchMails(t.Context(), "desk", "lind", "", func(l system.Mail) error {
		got = append(got, l.Value.Field("subject").String())
		return nil
	}))
	require.Equal(t, []string{"About booking B-20417"}, got)
	desk.Moods.TakeDown(time.Minute)
	require.Error(t, p.FetchMails(t.Context(), "desk", "", "", nil))
	require.Equal(t, []bool{false, true}, seen)
}

// TestSettingsAreReadFromAFile: kinds that nobody knows are said with their connection, secrets are known to be some.
func TestSettingsAreReadFromAFile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "settings.yaml")
	write := func(text string) (StaticSettings, error) {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return ReadStaticSettings(file)
	}
	f, err := write("desk:\n  kind: mailbox\n  host: h\n  user: u\n  password: letter-box\nsecrets:\n  key: k\n")
	require.NoError(t, err)
	up, err := f.Settings(t.Context(), "desk")
	require.NoError(t, err)
	require.Equal(t, []string{"letter-box"}, up.Secrets)
	none, err := f.Settings(t.Context(), "other")
	require.NoError(t, err)
	require.Nil(t, none)
	word, err := f.Get(t.Context(), "key")
	require.NoError(t, err)
	require.Equal(t, "k", word)
	require.NoError(t, f.Set(t.Context(), "key", "other"))
	done := false
	require.NoError(t, f.Lock(t.Context(), "key", func(context.Context) error { done = true; return nil }))
	require.True(t, done)
	_, err = write("desk: {kind: pigeon}\n")
	require.ErrorContains(t, err, `desk: expected a kind of system, found "pigeon"`)
	_, err = write("desk: [1\n")
	require.ErrorContains(t, err, "cannot be read")
	_, err = ReadStaticSettings(filepath.Join(t.TempDir(), "none.yaml"))
	require.ErrorIs(t, err, os.ErrNotExist)
}
