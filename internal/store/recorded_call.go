package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"time"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
)

// What tries remember: the manner that is chosen for a step, and what systems answered.
const (
	chosenSpace = "try/choices"
	heardSpace  = "try/heard/" // and the flow
	withSpace   = "try/with"
	maxHeard    = 5000
	heardFor    = 90 * 24 * time.Hour
)

// CallModes lists the manners in which tries deal with steps, by flow/step.
func CallModes(ctx context.Context, db DB, s Scope) (map[string]trial.CallMode, error) {
	notes, err := ListState(ctx, db, s, chosenSpace, maxHeard)
	chosen := map[string]trial.CallMode{}
	for _, n := range notes {
		chosen[n.Key] = trial.CallMode(n.Content)
	}
	return chosen, err
}

// SetCallMode keeps the manner in which tries deal with a step, as flow/step.
func SetCallMode(ctx context.Context, db DB, s Scope, step string, m trial.CallMode) error {
	return PutState(ctx, db, s, chosenSpace, []running.StateEntry{{Key: step, Text: string(m)}})
}

// SaveRecordedCall keeps what systems answered in tries of a flow.
func SaveRecordedCall(ctx context.Context, db DB, s Scope, list []trial.RecordedCall) error {
	byFlow := map[string][]running.StateEntry{}
	for _, h := range list {
		text, err := json.Marshal(h)
		if err != nil {
			return err
		}
		hash := sha256.Sum256([]byte(h.Key()))
		byFlow[h.Flow] = append(byFlow[h.Flow], running.StateEntry{Key: hex.EncodeToString(hash[:]), Text: string(text), ExpiresAt: time.Now().Add(heardFor)})
	}
	for id, notes := range byFlow {
		if err := PutState(ctx, db, s, heardSpace+id, notes); err != nil {
			return err
		}
	}
	return nil
}

// RecordedCalls gives what systems answered in tries of flows.
func RecordedCalls(ctx context.Context, db DB, s Scope, flows ...string) (*trial.Recording, error) {
	rec := &trial.Recording{}
	for _, id := range flows {
		notes, err := ListState(ctx, db, s, heardSpace+id, maxHeard)
		if err != nil {
			return nil, err
		}
		for _, n := range notes {
			var h trial.RecordedCall
			if err := json.Unmarshal([]byte(n.Content), &h); err != nil {
				return nil, err
			}
			rec.Add(h)
		}
	}
	return rec, nil
}

// SaveTestInput keeps what somebody has typed for the tries of a flow; what is empty is forgotten.
func SaveTestInput(ctx context.Context, db DB, s Scope, id string, with trial.TriedWith) error {
	if with.Empty() {
		return DeleteState(ctx, db, s, withSpace, id)
	}
	text, err := json.Marshal(with)
	if err != nil {
		return err
	}
	return PutState(ctx, db, s, withSpace, []running.StateEntry{{Key: id, Text: string(text)}})
}

// TestInput is what somebody has typed for the tries of a flow; nil where nobody has.
func TestInput(ctx context.Context, db DB, s Scope, id string) (*trial.TriedWith, error) {
	kept, err := GetState(ctx, db, s, withSpace, []string{id})
	if err != nil || kept[id] == "" {
		return nil, err
	}
	var with trial.TriedWith
	return &with, json.Unmarshal([]byte(kept[id]), &with)
}
