package base

import (
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/store"
)

// TestOptions says what a try of a flow does at steps that call systems, with the recorded responses.
func (b Pages) TestOptions(c *gin.Context, plan *running.Plan) (tries.TestOptions, error) {
	choices, err := b.CallModes(c)
	if err != nil {
		return tries.TestOptions{}, err
	}
	with, err := store.TestInput(c, b.DB, b.Scope, plan.Flow.ID)
	if err != nil {
		return tries.TestOptions{}, err
	}
	heard, err := store.RecordedCalls(c, b.DB, b.Scope, append([]string{plan.Flow.ID}, plan.Flows...)...)
	return tries.TestOptions{Choices: choices, Recording: heard, With: with}, err
}

// RecordedSince is when the oldest recorded response of a flow's steps was given; zero where there is none.
func RecordedSince(heard *trial.Recording, plan *running.Plan) (at time.Time) {
	for _, ps := range plan.Steps {
		if s := heard.Since(plan.Flow.ID, ps.Step.ID); !s.IsZero() && (at.IsZero() || s.Before(at)) {
			at = s
		}
	}
	return at
}

// CallModes says which steps call their systems in a try, which simulate them and which replay recorded responses.
func (b Pages) CallModes(c *gin.Context) (map[tries.StepRef]trial.CallMode, error) {
	chosen, err := store.CallModes(c, b.DB, b.Scope)
	choices := map[tries.StepRef]trial.CallMode{}
	for key, m := range chosen {
		f, step, _ := strings.Cut(key, "/")
		choices[tries.StepRef{Flow: f, Step: step}] = m
	}
	return choices, err
}
