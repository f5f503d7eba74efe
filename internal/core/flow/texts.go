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

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var templateKind = &Kind{
	Name: "template", Title: "Fill in a template", Group: Shape, About: "Writes a text in which ${formula} stands for what the formula yields.",
	Begin: func(Offering) doc.Out { return yields("text") },
	Settings: setting.List{
		{Name: "text", Label: "Template", Type: setting.Template, Required: true, Help: "${formula} is replaced by what it yields, nothing where that is absent; \\${ stays as ${"},
		{Name: "as", Label: "The text is called", Type: setting.Text, Default: "text"},
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
	Name: "pack", Title: "Encode, decode, hash", Group: Shape, About: "Compresses, encodes or hashes a text or bytes, or takes that back.",
	Begin: func(Offering) doc.Out { return yields("packed") },
	Settings: setting.List{
		{Name: "value", Label: "Text or bytes", Type: setting.Formula, Required: true},
		{Name: "do", Label: "Do", Type: setting.Choice, Default: packingNames[0], Choices: packingNames},
		{Name: "name", Label: "Name of the file inside", Type: setting.Text, Default: "content", Rare: true, Help: "Of a zip"},
		{Name: "gives", Label: "What comes of it is", Type: setting.Choice, Default: "what it usually is", Choices: []string{"what it usually is", "text", "bytes"}, Rare: true},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "packed"},
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
