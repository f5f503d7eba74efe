package connector

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
)

func TestTheBreakerOpensAfterFailuresAndLetsOneThrough(t *testing.T) {
	var b breaker
	gone := errors.New("nobody answers")
	for range breakAfter - 1 {
		require.NoError(t, b.before("desk"))
		b.after(gone)
	}
	b.after(fault.New(fault.Outside, "refused"))
	require.Empty(t, b.told(), "a refusal is an answer")
	for range breakAfter {
		require.NoError(t, b.before("desk"))
		b.after(gone)
	}
	err := b.before("desk")
	require.ErrorContains(t, err, "desk is not called: it failed 5 times in a row (nobody answers)")
	require.Contains(t, b.told(), "not called after 5 failures")
	b.until = time.Now().Add(-time.Second)
	require.NoError(t, b.before("desk"), "one call tries it")
	require.Error(t, b.before("desk"), "others wait for how that ends")
	b.after(nil)
	require.NoError(t, b.before("desk"))
	require.Empty(t, b.told())
}

func TestAPoolTakesNewSettingsAtOnce(t *testing.T) {
	dir, other := t.TempDir(), t.TempDir()
	source := StaticSettings{"drop": {Kind: "file", Values: system.Values{"folder": dir}, Version: 1}}
	p := NewPool(source, Rules{Roots: []string{dir}})
	t.Cleanup(p.Close)
	require.NoError(t, p.Check(t.Context(), "drop"))
	source["drop"] = Settings{Kind: "file", Values: system.Values{"folder": other}, Version: 2}
	require.Eventually(t, func() bool { return p.Check(t.Context(), "drop") != nil }, 5*time.Second, 20*time.Millisecond)
	require.ErrorContains(t, p.Check(t.Context(), "drop"), "is not below a folder that may be used")
	require.ErrorContains(t, p.Check(t.Context(), "none"), "has no settings in this environment")
	_, err := p.Tables(t.Context(), "none")
	require.Error(t, err)
	source["odd"] = Settings{Kind: "nonsense"}
	require.ErrorContains(t, p.Check(t.Context(), "odd"), "no kind of system")
}

func TestSecretsAreHiddenInErrorsAndStages(t *testing.T) {
	word := "harbour-word-8812"
	p := NewPool(StaticSettings{"db": {Kind: "sql", Values: system.Values{"by": "address", "address": "postgres://u:" + word + "@127.0.0.1:1/x"}, Secrets: []string{"postgres://u:" + word + "@127.0.0.1:1/x"}}}, Rules{})
	t.Cleanup(p.Close)
	err := p.Check(t.Context(), "db")
	require.Error(t, err)
	require.NotContains(t, err.Error(), word)
	require.NotContains(t, p.Redact(errors.New("with "+word)).Error(), word)
	require.NotContains(t, p.Redact(fault.New(fault.Outside, "with %s", word)).Error(), word)
	run := p.Probe(t.Context(), "db", nil)
	require.False(t, run.Passed())
	for _, s := range run.Stages {
		require.NotContains(t, s.Finding+s.Advice, word)
	}
}
