package compiled

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/project"
)

// TestAReleaseIsCompiledOnce: however many ask for it at the same time; who gives up waits for nobody.
func TestAReleaseIsCompiledOnce(t *testing.T) {
	c := lru[*project.Project]{most: 10}
	var made atomic.Int32
	begun, goOn := make(chan struct{}), make(chan struct{})
	compile := func() (*project.Project, error) {
		if made.Add(1) == 1 {
			close(begun)
		}
		<-goOn
		return &project.Project{ID: "p"}, nil
	}
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			p, err := c.of(context.Background(), "a", compile)
			if err != nil || p.ID != "p" {
				t.Error(p, err)
			}
		})
	}
	<-begun
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := c.of(gone, "a", compile)
	require.ErrorIs(t, err, context.Canceled)
	close(goOn)
	all.Wait()
	require.EqualValues(t, 1, made.Load())
}

// TestTheReleasesUsedLastAreKept: what fails is tried again, and what was not used for longest goes first.
func TestTheReleasesUsedLastAreKept(t *testing.T) {
	c := lru[*project.Project]{most: 3}
	made := map[string]int{}
	use := func(key string) {
		_, err := c.of(t.Context(), key, func() (*project.Project, error) {
			made[key]++
			return &project.Project{}, nil
		})
		require.NoError(t, err)
	}
	for _, key := range []string{"a", "b", "c", "a", "d", "a", "b", "a"} { // b goes for d, c for b
		use(key)
	}
	require.Equal(t, map[string]int{"a": 1, "b": 2, "c": 1, "d": 1}, made)
	require.Len(t, c.kept, 3)

	away := errors.New("away")
	for i := range 2 {
		_, err := c.of(t.Context(), "x", func() (*project.Project, error) { return nil, fmt.Errorf("%w %d", away, i) })
		require.EqualError(t, err, fmt.Sprintf("away %d", i))
	}
	use("x")
	require.Equal(t, 1, made["x"])
}
