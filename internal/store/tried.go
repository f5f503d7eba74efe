package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"time"

	"hollowreed/internal/core/flow"
)

// What tries remember: the manner that is chosen for a step, and what systems answered.
const (
	chosenSpace = "try/choices"
	heardSpace  = "try/heard/" // and the flow
	withSpace   = "try/with"
	maxHeard    = 5000
	heardFor    = 90 * 24 * time.Hour
)

// Chosen lists the manners in which tries deal with steps, by flow/step.
func Chosen(ctx context.Context, db DB, project string) (map[string]flow.Manner, error) {
	notes, err := KeptIn(ctx, db, project, chosenSpace, maxHeard)
	chosen := map[string]flow.Manner{}
	for _, n := range notes {
		chosen[n.Key] = flow.Manner(n.Content)
	}
	return chosen, err
}

// Choose keeps the manner in which tries deal with a step, as flow/step.
func Choose(ctx context.Context, db DB, project, step string, m flow.Manner) error {
	return Remember(ctx, db, project, chosenSpace, []flow.Noted{{Key: step, Text: string(m)}})
}

// Hear keeps what systems answered in tries of a flow.
func Hear(ctx context.Context, db DB, project string, list []flow.Heard) error {
	byFlow := map[string][]flow.Noted{}
	for _, h := range list {
		text, err := json.Marshal(h)
		if err != nil {
			return err
		}
		hash := sha256.Sum256([]byte(h.Key()))
		byFlow[h.Flow] = append(byFlow[h.Flow], flow.Noted{Key: hex.EncodeToString(hash[:]), Text: string(text), Until: time.Now().Add(heardFor)})
	}
	for id, notes := range byFlow {
		if err := Remember(ctx, db, project, heardSpace+id, notes); err != nil {
			return err
		}
	}
	return nil
}

// HeardOf gives what systems answered in tries of flows.
func HeardOf(ctx context.Context, db DB, project string, flows ...string) (*flow.Recording, error) {
	rec := &flow.Recording{}
	for _, id := range flows {
		notes, err := KeptIn(ctx, db, project, heardSpace+id, maxHeard)
		if err != nil {
			return nil, err
		}
		for _, n := range notes {
			var h flow.Heard
			if err := json.Unmarshal([]byte(n.Content), &h); err != nil {
				return nil, err
			}
			rec.Add(h)
		}
	}
	return rec, nil
}

// TypeTry keeps what somebody has typed for the tries of a flow; what is empty is forgotten.
func TypeTry(ctx context.Context, db DB, project, id string, with flow.TriedWith) error {
	if with.Empty() {
		return Forget(ctx, db, project, withSpace, id)
	}
	text, err := json.Marshal(with)
	if err != nil {
		return err
	}
	return Remember(ctx, db, project, withSpace, []flow.Noted{{Key: id, Text: string(text)}})
}

// TypedTry is what somebody has typed for the tries of a flow; nil where nobody has.
func TypedTry(ctx context.Context, db DB, project, id string) (*flow.TriedWith, error) {
	kept, err := Recall(ctx, db, project, withSpace, []string{id})
	if err != nil || kept[id] == "" {
		return nil, err
	}
	var with flow.TriedWith
	return &with, json.Unmarshal([]byte(kept[id]), &with)
}
