package watch

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAlertsAreLookedAtWhenSomethingHappens: at every look for a while behind it, and now and then where nothing does.
func TestAlertsAreLookedAtWhenSomethingHappens(t *testing.T) {
	var a alertsDue
	every := time.Hour
	require.True(t, a.wanted(every, true), "for the first time")
	require.False(t, a.wanted(every, true), "nothing has happened")
	require.True(t, a.wanted(every, false), "nobody would have told")
	a.stir(time.Minute)
	require.True(t, a.wanted(every, true))
	require.True(t, a.wanted(every, true), "what it is about may come yet")
	a.until = time.Now().Add(-time.Second)
	require.False(t, a.wanted(every, true))
	a.last = time.Now().Add(-restful * every)
	require.True(t, a.wanted(every, true), "now and then")
}
