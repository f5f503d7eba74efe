package flow

import (
	"context"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/openpgp"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var sealKind = &Kind{
	Name: "seal", Title: "Encrypt or sign", Group: Shape, About: "Encrypts a text for the owners of OpenPGP keys, signs it with ours, or both (RFC 9580).",
	Begin: func(Offering) doc.Out { return yields("sealed") },
	Settings: setting.List{
		{Name: "value", Label: "Text or bytes", Type: setting.Formula, Required: true},
		{Name: "for", Label: "For the owners of", Type: setting.Formula, Help: "Their public keys as armored text: from a table, a record. Empty: it is only signed"},
		{Name: "signed by", Label: "Signed with the secret", Type: setting.Text, Help: "The name of a secret that holds a private key. Empty: it is not signed"},
		{Name: "passphrase", Label: "Its passphrase is the secret", Type: setting.Text, Rare: true},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "sealed"},
		onFault,
	},
	Detail: func(s *Step) string {
		switch {
		case s.Setting("for") == "":
			return "signed"
		case s.Setting("signed by") == "":
			return "encrypted"
		}
		return "encrypted and signed"
	},
	compile: compileSeal,
}

// key opens a private key that stands in a secret.
func (b *Batch) key(ctx context.Context, s *Step, named string) (*openpgp.Key, *fault.Fault, error) {
	name := s.Setting(named)
	if name == "" {
		return nil, nil, nil
	}
	text, err := b.Runtime.Secret(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	if text == "" {
		return nil, fault.New(fault.Setting, "there is no secret %q in this environment", name).Mended("Add it under Estate, Secrets"), nil
	}
	k := &openpgp.Key{Armored: text}
	if phrase := s.Setting("passphrase"); phrase != "" {
		if k.Passphrase, err = b.Runtime.Secret(ctx, phrase); err != nil {
			return nil, nil, err
		}
	}
	return k, nil, nil
}

func (b *Batch) world() openpgp.World {
	return openpgp.World{Random: b.Runtime.Random(), Now: b.Runtime.Now()}
}

func compileSeal(c *compiler, s *Step) runner {
	prog, to := c.formula(s.place("value")), c.optional(s, "for")
	slot := c.yield(s, "as", Named{}, formula.Type{Kind: value.Text})
	if s.Setting("for") == "" && s.Setting("signed by") == "" {
		c.fault(s.At, fault.New(fault.Required, "it is neither encrypted nor signed").Mended("Say for whom, or with which secret"))
	}
	if prog == nil || s.Setting("for") != "" && to == nil {
		return pass
	}
	c.bytes(s, "value", prog)
	return withKey(s, "signed by", func(b *Batch, it *Item, key *openpgp.Key) (value.Value, *fault.Fault) {
		text, ok := it.bytes(s, prog)
		keys := ""
		if ok && to != nil {
			keys, ok = it.text(s, to)
		}
		if !ok {
			return value.Value{}, nil
		}
		sealed, f := openpgp.Seal(b.world(), text, keys, key)
		return value.Str(sealed), f
	}, slot)
}

// withKey does a step to each record with the key that a setting names; what comes of it goes into a slot, and a record
// that it cannot be done to is set aside.
func withKey(s *Step, named string, do func(*Batch, *Item, *openpgp.Key) (value.Value, *fault.Fault), slot int) runner {
	return func(ctx context.Context, b *Batch, items []*Item) error {
		key, f, err := b.key(ctx, s, named)
		if err != nil {
			return err
		}
		for _, it := range items {
			if f != nil {
				it.aside(s.ID, copied(f))
				continue
			}
			if v, f := do(b, it, key); f != nil {
				it.aside(s.ID, f.In(s.Name))
			} else if it.State == Live {
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

// openedRecord is the shape of a message that was opened.
var openedRecord = schema.Record("opened", schema.Scalar("text", value.Text), schema.Scalar("signed", value.Boolean), schema.Scalar("signer", value.Text).Optional())

var openKind = &Kind{
	Name: "open", Title: "Decrypt or verify", Group: Shape, About: "Decrypts an OpenPGP message and verifies who has signed it (RFC 9580).",
	Begin: func(Offering) doc.Out { return yields("opened") },
	Settings: setting.List{
		{Name: "value", Label: "Message", Type: setting.Formula, Required: true, Help: "As armored text, or bytes"},
		{Name: "with", Label: "With the secret", Type: setting.Text, Help: "The name of a secret that holds our private key. Empty: it is only verified"},
		{Name: "passphrase", Label: "Its passphrase is the secret", Type: setting.Text, Rare: true},
		{Name: "signed by", Label: "Signed by the owner of", Type: setting.Formula, Help: "The sender's public key as armored text. Empty: signatures do not matter"},
		{Name: "unsigned", Label: "When it is not signed so", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "continue"}},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "opened", Help: "A record with text, signed and signer"},
		onFault,
	},
	Detail: func(s *Step) string {
		if s.Setting("with") == "" {
			return "verified"
		}
		return "decrypted with " + s.Setting("with")
	},
	compile: compileOpen,
}

func compileOpen(c *compiler, s *Step) runner {
	prog, from := c.formula(s.place("value")), c.optional(s, "signed by")
	slot := c.define(s, "as", described(s.Setting("as"), openedRecord))
	if s.Setting("with") == "" && s.Setting("signed by") == "" {
		c.fault(s.At, fault.New(fault.Required, "it is neither decrypted nor verified").Mended("Name the secret with our key, or give the sender's"))
	}
	if prog == nil || s.Setting("signed by") != "" && from == nil {
		return pass
	}
	c.bytes(s, "value", prog)
	return withKey(s, "with", func(b *Batch, it *Item, key *openpgp.Key) (value.Value, *fault.Fault) {
		return openedOf(b, s, it, prog, from, key)
	}, slot)
}

func openedOf(b *Batch, s *Step, it *Item, prog, from *formula.Program, key *openpgp.Key) (value.Value, *fault.Fault) {
	text, ok := it.bytes(s, prog)
	signers := ""
	if ok && from != nil {
		signers, ok = it.text(s, from)
	}
	if !ok {
		return value.Value{}, nil
	}
	o, f := openpgp.Open(b.world(), text, key, signers)
	if f != nil {
		return value.Value{}, f
	}
	if from != nil && !o.Signed && s.Setting("unsigned") == "set aside" {
		return value.Value{}, fault.New(fault.Pattern, "the message is not signed by the owner of the key").Mended("Ask the sender which key it was signed with")
	}
	signer := value.Value{}
	if o.Signed {
		signer = value.Str(o.Signer)
	}
	return value.Rec(openedRecord.Shape(), []value.Value{bytesOf(o.Message, false), value.Bool(o.Signed), signer}), nil
}
