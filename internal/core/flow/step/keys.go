package step

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/openpgp"
	"hollowreed/internal/core/value"
)

// keyOf opens a private key that stands in a secret.
func keyOf(ctx context.Context, b *running.Batch, s *flow.Step, named string) (*openpgp.Key, *fault.Fault, error) {
	name := s.Setting(named)
	if name == "" {
		return nil, nil, nil
	}
	text, err := b.Runtime.Secret(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	if text == "" {
		return nil, fault.New(fault.Setting, "there is no secret %q in this environment", name).WithFix("Add it under Estate, Secrets"), nil
	}
	k := &openpgp.Key{Armored: text}
	if phrase := s.Setting("passphrase"); phrase != "" {
		if k.Passphrase, err = b.Runtime.Secret(ctx, phrase); err != nil {
			return nil, nil, err
		}
	}
	return k, nil, nil
}

func worldOf(b *running.Batch) openpgp.World {
	return openpgp.World{Random: b.Runtime.Random(), Now: b.Runtime.Now()}
}

// withPublicKeys is the content that an item brings, and the public keys that a formula gives for it; none without a formula. ok is
// false where the item is set aside.
func withPublicKeys(it *running.Item, s *flow.Step, content, of *formula.Program) (text []byte, keys string, ok bool) {
	if text, ok = bytesAt(it, s, content); ok && of != nil {
		keys, ok = textOf(it, s, of)
	}
	return text, keys, ok
}

// withKey does a step to each record with the key that a setting names; what comes of it goes into a slot, and a record
// that it cannot be done to is set aside.
func withKey(s *flow.Step, named string, do func(*running.Batch, *running.Item, *openpgp.Key) (value.Value, *fault.Fault), slot int) running.Runner {
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		key, f, err := keyOf(ctx, b, s, named)
		if err != nil {
			return err
		}
		for _, it := range items {
			if f != nil {
				it.Aside(s.ID, copied(f))
				continue
			}
			if v, f := do(b, it, key); f != nil {
				it.Aside(s.ID, f.InField(s.Name))
			} else if it.State == running.Live {
				it.Frame.Slots[slot] = v
			}
		}
		return nil
	}
}

func copied(f *fault.Fault) *fault.Fault {
	c := *f
	return &c
}
