package connector

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
)

// counted is a keeper that counts how often it is asked.
type counted struct {
	kept  map[string]string
	asked int
}

func (c *counted) Get(_ context.Context, name string) (string, error) {
	c.asked++
	return c.kept[name], nil
}

func (c *counted) Set(_ context.Context, name, text string) error {
	c.kept[name] = text
	return nil
}

func (c *counted) Lock(ctx context.Context, _ string, do func(context.Context) error) error {
	return do(ctx)
}

// TestASecretThatIsNotThereIsAskedForOnce: until something changes, and only while changes are heard of.
func TestASecretThatIsNotThereIsAskedForOnce(t *testing.T) {
	p := NewPool(StaticSettings{}, Rules{})
	source := &counted{kept: map[string]string{}}
	k := keeping{source, p}
	get := func(name string) string {
		text, err := k.Get(t.Context(), name)
		require.NoError(t, err)
		return text
	}
	get("token")
	get("token")
	require.Equal(t, 2, source.asked, "nobody tells of changes")
	p.Hears(true)
	for range 5 {
		require.Empty(t, get("token"))
	}
	require.Equal(t, 2, source.asked)
	require.NoError(t, k.Set(t.Context(), "token", "x"))
	require.Equal(t, "x", get("token"), "this process has set it")
	source.kept = map[string]string{}
	require.Empty(t, get("token"))
	source.kept["token"] = "y"
	require.Empty(t, get("token"))
	p.Reload("")
	require.Equal(t, "y", get("token"), "another process has set it")

	_, asked := p.absent.has("late")
	p.absent.forget()
	p.absent.note("late", asked)
	gone, _ := p.absent.has("late")
	require.False(t, gone, "it may have been set while it was asked for")
}
