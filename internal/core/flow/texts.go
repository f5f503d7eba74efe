package flow

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"io"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/openpgp"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

var templateKind = &Kind{
	Name: "template", Title: "Fill in a template", Group: Shape, About: "Writes a text in which ${formula} stands for what the formula yields.",
	Settings: []Setting{
		{Name: "text", Label: "Template", Type: Template, Required: true, Help: "${formula} is replaced by what it yields, nothing where that is absent; \\${ stays as ${"},
		{Name: "as", Label: "The text is called", Type: Text, Default: "text"},
		onFault,
	},
	Detail: func(s *Step) string {
		first, _, _ := strings.Cut(strings.TrimSpace(s.Setting("text")), "\n")
		return first
	},
	compile: compileTemplate,
}

// piece is a part of a template: a text as it is, or a formula.
type piece struct {
	text string
	prog *formula.Program
}

// pieces cuts a template; at is where the formula stands that has no end, -1 where all have.
func pieces(source string) (texts, formulas []string, at int) {
	var text strings.Builder
	for i := 0; i < len(source); {
		switch {
		case strings.HasPrefix(source[i:], `\${`):
			text.WriteString("${")
			i += 3
		case strings.HasPrefix(source[i:], "${"):
			n := closing(source[i+2:])
			if n < 0 {
				return nil, nil, i
			}
			texts, formulas = append(texts, text.String()), append(formulas, source[i+2:i+2+n])
			text.Reset()
			i += n + 3
		default:
			text.WriteByte(source[i])
			i++
		}
	}
	return append(texts, text.String()), formulas, -1
}

// closing is where the brace stands that ends a formula: braces in it are paired, those in texts do not count.
func closing(s string) int {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch c := s[i]; c {
		case '"', '\'', '`':
			for i++; i < len(s) && s[i] != c; i++ {
				if s[i] == '\\' && c != '`' {
					i++
				}
			}
		case '{':
			depth++
		case '}':
			if depth == 0 {
				return i
			}
			depth--
		}
	}
	return -1
}

// template compiles a setting that is a template.
func (c *compiler) template(s *Step, setting string) (list []piece, ok bool) {
	at := s.place(setting)
	texts, formulas, open := pieces(s.Setting(setting))
	if open >= 0 {
		c.fault(at, fault.Expect(fault.Syntax, "} behind the formula", "the end of the template"))
		return nil, false
	}
	list = make([]piece, len(texts))
	for i, text := range texts {
		list[i].text = text
		if i == len(formulas) {
			break
		}
		one := at
		one.Value = formulas[i]
		if list[i].prog = c.formula(one); list[i].prog == nil {
			return nil, false
		}
	}
	return list, true
}

func compileTemplate(c *compiler, s *Step) runner {
	list, ok := c.template(s, "text")
	slot := c.yield(s, "as", Named{}, formula.Type{Kind: value.Text})
	if !ok {
		return pass
	}
	return func(_ context.Context, _ *Batch, items []*Item) error {
		for _, it := range items {
			text, f := written(list, it)
			if f != nil {
				it.aside(s.ID, f.In(s.Name))
				continue
			}
			it.Frame.Slots[slot] = value.Str(text)
		}
		return nil
	}
}

func written(list []piece, it *Item) (string, *fault.Fault) {
	var out strings.Builder
	for _, p := range list {
		out.WriteString(p.text)
		if p.prog == nil {
			continue
		}
		it.Frame.Reset()
		v, f := p.prog.Eval(&it.Frame)
		if f != nil {
			return "", f
		}
		if !v.Missing() {
			out.WriteString(v.String())
		}
		if out.Len() > maxText {
			return "", fault.New(fault.Limit, "the text is longer than %d bytes", maxText)
		}
	}
	return out.String(), nil
}

// maxText bounds a text that a step makes, in bytes.
const maxText = 64 << 20

// packing is one way of changing bytes into others.
type packing struct {
	does  func(b []byte, name string) ([]byte, error)
	bytes bool // the result is bytes, not text, unless somebody wants it so
}

// packings are the ways, by what a person chooses.
var packings = map[string]packing{
	"gzip (RFC 1952)":     {gzipped, true},
	"ungzip":              {ungzipped, false},
	"zip, one file":       {zipped, true},
	"unzip, the one file": {unzipped, false},
	"base64 (RFC 4648)":   {func(b []byte, _ string) ([]byte, error) { return []byte(base64.StdEncoding.EncodeToString(b)), nil }, false},
	"from base64": {func(b []byte, _ string) ([]byte, error) {
		return base64.StdEncoding.DecodeString(string(bytes.TrimSpace(b)))
	}, false},
	"hexadecimal":      {func(b []byte, _ string) ([]byte, error) { return []byte(hex.EncodeToString(b)), nil }, false},
	"from hexadecimal": {func(b []byte, _ string) ([]byte, error) { return hex.DecodeString(string(bytes.TrimSpace(b))) }, false},
	"SHA-256 hash (FIPS 180-4)": {func(b []byte, _ string) ([]byte, error) {
		h := sha256.Sum256(b)
		return []byte(hex.EncodeToString(h[:])), nil
	}, false},
	"SHA-512 hash (FIPS 180-4)": {func(b []byte, _ string) ([]byte, error) {
		h := sha512.Sum512(b)
		return []byte(hex.EncodeToString(h[:])), nil
	}, false},
}

// packingNames in the order in which they are offered.
var packingNames = []string{"gzip (RFC 1952)", "ungzip", "zip, one file", "unzip, the one file", "base64 (RFC 4648)", "from base64", "hexadecimal", "from hexadecimal", "SHA-256 hash (FIPS 180-4)", "SHA-512 hash (FIPS 180-4)"}

func gzipped(b []byte, _ string) ([]byte, error) {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	if _, err := z.Write(b); err != nil {
		return nil, err
	}
	err := z.Close()
	return out.Bytes(), err
}

// bounded reads all, but no bomb.
func bounded(r io.Reader) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, maxText+1))
	if err == nil && len(b) > maxText {
		err = fault.New(fault.Limit, "it unpacks to more than %d bytes", maxText)
	}
	return b, err
}

func ungzipped(b []byte, _ string) ([]byte, error) {
	z, err := gzip.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	return bounded(z)
}

func zipped(b []byte, name string) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	w, err := z.Create(name)
	if err == nil {
		_, err = w.Write(b)
	}
	if err != nil {
		return nil, err
	}
	err = z.Close()
	return out.Bytes(), err
}

func unzipped(b []byte, _ string) ([]byte, error) {
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return nil, err
	}
	if len(z.File) != 1 {
		return nil, fault.Expect(fault.Length, "one file in it", plural(len(z.File), "file"))
	}
	r, err := z.File[0].Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return bounded(r)
}

var packKind = &Kind{
	Name: "pack", Title: "Pack, unpack, hash", Group: Shape, About: "Compresses, encodes or hashes a text or bytes, or takes that back.",
	Settings: []Setting{
		{Name: "value", Label: "Text or bytes", Type: Formula, Required: true},
		{Name: "do", Label: "Do", Type: Choice, Default: packingNames[0], Choices: packingNames},
		{Name: "name", Label: "Name of the file inside", Type: Text, Default: "content", Rare: true, Help: "Of a zip"},
		{Name: "gives", Label: "What comes of it is", Type: Choice, Default: "what it usually is", Choices: []string{"what it usually is", "text", "bytes"}, Rare: true},
		{Name: "as", Label: "Result is called", Type: Text, Default: "packed"},
		onFault,
	},
	Detail:  func(s *Step) string { return s.Setting("do") },
	compile: compilePack,
}

func compilePack(c *compiler, s *Step) runner {
	prog, how := c.formula(s.place("value")), packings[s.Setting("do")]
	raw := s.Setting("gives") == "bytes" || s.Setting("gives") != "text" && how.bytes
	kind := value.Text
	if raw {
		kind = value.Binary
	}
	slot := c.yield(s, "as", Named{}, formula.Type{Kind: kind})
	if prog == nil || how.does == nil {
		return pass
	}
	c.bytes(s, "value", prog)
	return func(_ context.Context, _ *Batch, items []*Item) error {
		for _, it := range items {
			b, ok := it.bytes(s, prog)
			if !ok {
				continue
			}
			out, err := how.does(b, s.Setting("name"))
			if err != nil {
				it.aside(s.ID, fault.From(err, fault.Syntax).In(s.Name))
				continue
			}
			it.Frame.Slots[slot] = bytesOf(out, raw)
		}
		return nil
	}
}

func bytesOf(b []byte, raw bool) value.Value {
	if raw {
		return value.Bytes(string(b))
	}
	return value.Str(strings.ToValidUTF8(string(b), "\uFFFD"))
}

// bytes checks that a formula yields a text or bytes.
func (c *compiler) bytes(s *Step, setting string, prog *formula.Program) {
	if !prog.Type.Fits(value.Text) && !prog.Type.Fits(value.Binary) {
		c.fault(s.place(setting), fault.Expect(fault.Type, "a text or bytes", prog.Type.String()))
	}
}

// bytes evaluates a formula that yields a text or bytes.
func (it *Item) bytes(s *Step, prog *formula.Program) ([]byte, bool) {
	it.Frame.Reset()
	v, f := prog.Eval(&it.Frame)
	if f == nil && v.Kind() != value.Text && v.Kind() != value.Binary {
		f = fault.Expect(fault.Type, "a text or bytes", v.Kind().String())
	}
	if f != nil {
		it.aside(s.ID, f.In(s.Name))
		return nil, false
	}
	return []byte(v.Text()), true
}

var sealKind = &Kind{
	Name: "seal", Title: "Encrypt or sign", Group: Shape, About: "Encrypts a text for the owners of OpenPGP keys, signs it with ours, or both (RFC 9580).",
	Settings: []Setting{
		{Name: "value", Label: "Text or bytes", Type: Formula, Required: true},
		{Name: "for", Label: "For the owners of", Type: Formula, Help: "Their public keys as armored text: from a table, a record. Empty: it is only signed"},
		{Name: "signed by", Label: "Signed with the secret", Type: Text, Help: "The name of a secret that holds a private key. Empty: it is not signed"},
		{Name: "passphrase", Label: "Its passphrase is the secret", Type: Text, Rare: true},
		{Name: "as", Label: "Result is called", Type: Text, Default: "sealed"},
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
	text, err := b.House.Secret(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	if text == "" {
		return nil, fault.New(fault.Setting, "there is no secret %q in this environment", name).Mended("Add it under Estate, Secrets"), nil
	}
	k := &openpgp.Key{Armored: text}
	if phrase := s.Setting("passphrase"); phrase != "" {
		if k.Passphrase, err = b.House.Secret(ctx, phrase); err != nil {
			return nil, nil, err
		}
	}
	return k, nil, nil
}

func (b *Batch) world() openpgp.World {
	return openpgp.World{Random: b.House.Random(), Now: b.House.Now()}
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
	return func(ctx context.Context, b *Batch, items []*Item) error {
		key, f, err := b.key(ctx, s, "signed by")
		if err != nil {
			return err
		}
		for _, it := range items {
			if f != nil {
				it.aside(s.ID, copied(f))
				continue
			}
			text, ok := it.bytes(s, prog)
			keys := ""
			if ok && to != nil {
				keys, ok = it.text(s, to)
			}
			if !ok {
				continue
			}
			sealed, f := openpgp.Seal(b.world(), text, keys, key)
			if f != nil {
				it.aside(s.ID, f.In(s.Name))
				continue
			}
			it.Frame.Slots[slot] = value.Str(sealed)
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
	Settings: []Setting{
		{Name: "value", Label: "Message", Type: Formula, Required: true, Help: "As armored text, or bytes"},
		{Name: "with", Label: "With the secret", Type: Text, Help: "The name of a secret that holds our private key. Empty: it is only verified"},
		{Name: "passphrase", Label: "Its passphrase is the secret", Type: Text, Rare: true},
		{Name: "signed by", Label: "Signed by the owner of", Type: Formula, Help: "The sender's public key as armored text. Empty: signatures do not matter"},
		{Name: "unsigned", Label: "When it is not signed so", Type: Choice, Default: "set aside", Choices: []string{"set aside", "go on"}},
		{Name: "as", Label: "Result is called", Type: Text, Default: "opened", Help: "A record with text, signed and signer"},
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
	slot := c.define(s, "as", &schema.Schema{ID: s.Setting("as"), Notation: "json", Root: openedRecord})
	if s.Setting("with") == "" && s.Setting("signed by") == "" {
		c.fault(s.At, fault.New(fault.Required, "it is neither decrypted nor verified").Mended("Name the secret with our key, or give the sender's"))
	}
	if prog == nil || s.Setting("signed by") != "" && from == nil {
		return pass
	}
	c.bytes(s, "value", prog)
	return func(ctx context.Context, b *Batch, items []*Item) error {
		key, f, err := b.key(ctx, s, "with")
		if err != nil {
			return err
		}
		for _, it := range items {
			if f != nil {
				it.aside(s.ID, copied(f))
				continue
			}
			if v, f := openedOf(b, s, it, prog, from, key); f != nil {
				it.aside(s.ID, f.In(s.Name))
			} else if it.State == Live {
				it.Frame.Slots[slot] = v
			}
		}
		return nil
	}
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
