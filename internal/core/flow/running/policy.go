package running

import (
	"time"

	"hollowreed/internal/core/flow"
)

// Policy is how often a step is tried, and for how long.
type Policy struct {
	tries          int
	pause, longest time.Duration
	growth         float64
	limit          time.Duration
}

// PolicyOf reads the settings of a step about attempts and delays.
func PolicyOf(s *flow.Step) Policy {
	seconds := func(name string) time.Duration { return time.Duration(s.Number(name) * float64(time.Second)) }
	return Policy{tries: int(s.Number("attempts")), pause: seconds("delay"), longest: seconds("longest delay"), growth: s.Number("backoff"), limit: seconds("timeout")}
}

// Failed is what a step could not do because a system cannot be reached.
type Failed struct {
	Step *PlannedStep
	Err  error
}

// Error is the text of the cause.
func (f *Failed) Error() string { return f.Err.Error() }

// Unwrap is the cause.
func (f *Failed) Unwrap() error { return f.Err }

// Attempts is how often the step is tried; standard where it does not say.
func (f *Failed) Attempts(standard int) int {
	if n := f.Step.Policy.tries; n > 0 {
		return n
	}
	return standard
}

// Delay is how long to wait after a number of tries; ok is false where the step does not say. The chance in it is
// a number from 0 to 1.
func (f *Failed) Delay(tried int, chance float64) (pause time.Duration, ok bool) {
	p := f.Step.Policy
	if p.pause == 0 {
		return 0, false
	}
	d := float64(p.pause)
	for range tried - 1 {
		if d *= max(p.growth, 1); d > float64(p.longest) {
			break
		}
	}
	d = min(d, float64(max(p.longest, p.pause)))
	return time.Duration(d * (0.8 + 0.4*chance)), true
}

// Waiting is the error of a batch that goes on later: nothing of it counts yet, and its next try finds that the
// time has come.
type Waiting struct{ Until time.Time }

// Error says so.
func (w *Waiting) Error() string { return "waits until " + w.Until.Format(time.RFC3339) }

// StandardTries is how often a step inside an attempt is tried that does not say.
const StandardTries = 6
