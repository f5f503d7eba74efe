package step

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/openpgp"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// openedRecord is the shape of a message that was opened.
var openedRecord = schema.Record("opened", schema.Scalar("text", value.Text), schema.Scalar("signed", value.Boolean), schema.Scalar("signer", value.Text).Optional())

var decryptKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "decrypt", Older: []string{"open"}, Title: "Decrypt or verify", Group: flow.GroupTransform, Concurrent: true, About: "Decrypts an OpenPGP message and verifies who has signed it (RFC 9580).",
		Begin: func(flow.Offering) partfile.Ordered { return yields("opened") },
		Settings: setting.List{
			{Name: "value", Label: "Message", Type: setting.Formula, Required: true, Help: "As armored text, or bytes"},
			{Name: "with", Label: "With the secret", Type: setting.Text, Help: "The name of a secret that holds our private key. Empty: it is only verified"},
			{Name: "passphrase", Label: "Its passphrase is the secret", Type: setting.Text, Rare: true},
			{Name: "signed by", Label: "Signed by the owner of", Type: setting.Formula, Help: "The sender's public key as armored text. Empty: signatures do not matter"},
			{Name: "unsigned", Label: "If the signature does not match", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "continue"}},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "opened", Help: "A record with text, signed and signer"},
			onFault,
		},
		Detail: func(s *flow.Step) string {
			if s.Setting("with") == "" {
				return "verified"
			}
			return "decrypted with " + s.Setting("with")
		},
	},
	Compile: compileDecrypt,
}

func compileDecrypt(c *compile.Compiler, s *flow.Step) running.Runner {
	prog, from := c.Formula(s.Place("value")), c.Optional(s, "signed by")
	slot := c.Define(s, "as", running.Described(s.Setting("as"), openedRecord))
	if s.Setting("with") == "" && s.Setting("signed by") == "" {
		c.Fault(s.At, fault.New(fault.Required, "it is neither decrypted nor verified").WithFix("Name the secret with our key, or give the sender's"))
	}
	if prog == nil || s.Setting("signed by") != "" && from == nil {
		return running.PassOn
	}
	wantBytes(c, s, "value", prog)
	return withKey(s, "with", func(b *running.Batch, it *running.Item, key *openpgp.Key) (value.Value, *fault.Fault) {
		return openedOf(b, s, it, prog, from, key)
	}, slot)
}

func openedOf(b *running.Batch, s *flow.Step, it *running.Item, prog, from *formula.Program, key *openpgp.Key) (value.Value, *fault.Fault) {
	text, signers, ok := withPublicKeys(it, s, prog, from)
	if !ok {
		return value.Value{}, nil
	}
	o, f := openpgp.Open(worldOf(b), text, key, signers)
	if f != nil {
		return value.Value{}, f
	}
	if from != nil && !o.Signed && s.Setting("unsigned") == "set aside" {
		return value.Value{}, fault.New(fault.Pattern, "the message is not signed by the owner of the key").WithFix("Ask the sender which key it was signed with")
	}
	signer := value.Value{}
	if o.Signed {
		signer = value.NewText(o.Signer)
	}
	return value.NewRecord(openedRecord.Layout(), []value.Value{bytesOf(o.Message, false), value.Bool(o.Signed), signer}), nil
}
