package step

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/openpgp"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var encryptKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "encrypt", Older: []string{"seal"}, Title: "Encrypt or sign", Group: flow.GroupTransform, Concurrent: true, About: "Encrypts a text for the owners of OpenPGP keys, signs it with ours, or both (RFC 9580).",
		Begin: func(flow.Offering) partfile.Ordered { return yields("sealed") },
		Settings: setting.List{
			{Name: "value", Label: "Text or bytes", Type: setting.Formula, Required: true},
			{Name: "for", Label: "For the owners of", Type: setting.Formula, Help: "Their public keys as armored text: from a table, a record. Empty: it is only signed"},
			{Name: "signed by", Label: "Signed with the secret", Type: setting.Text, Help: "The name of a secret that holds a private key. Empty: it is not signed"},
			{Name: "passphrase", Label: "Its passphrase is the secret", Type: setting.Text, Rare: true},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "sealed"},
			onFault,
		},
		Detail: func(s *flow.Step) string {
			switch {
			case s.Setting("for") == "":
				return "signed"
			case s.Setting("signed by") == "":
				return "encrypted"
			}
			return "encrypted and signed"
		},
	},
	Compile: compileEncrypt,
}

func compileEncrypt(c *compile.Compiler, s *flow.Step) running.Runner {
	prog, to := c.Formula(s.Place("value")), c.Optional(s, "for")
	slot := c.Yield(s, "as", running.Named{}, formula.Type{Kind: value.Text})
	if s.Setting("for") == "" && s.Setting("signed by") == "" {
		c.Fault(s.At, fault.New(fault.Required, "it is neither encrypted nor signed").WithFix("Say for whom, or with which secret"))
	}
	if prog == nil || s.Setting("for") != "" && to == nil {
		return running.PassOn
	}
	wantBytes(c, s, "value", prog)
	return withKey(s, "signed by", func(b *running.Batch, it *running.Item, key *openpgp.Key) (value.Value, *fault.Fault) {
		text, keys, ok := withPublicKeys(it, s, prog, to)
		if !ok {
			return value.Value{}, nil
		}
		sealed, f := openpgp.Seal(worldOf(b), text, keys, key)
		return value.NewText(sealed), f
	}, slot)
}
