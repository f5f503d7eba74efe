package step

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

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

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

var encodeKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "encode", Older: []string{"pack"}, Title: "Encode, decode, hash", Group: flow.GroupTransform, Concurrent: true, About: "Compresses, encodes or hashes a text or bytes, or takes that back.",
		Begin: func(flow.Offering) partfile.Ordered { return yields("packed") },
		Settings: setting.List{
			{Name: "value", Label: "Text or bytes", Type: setting.Formula, Required: true},
			{Name: "operation", Older: []string{"do"}, Label: "Do", Type: setting.Choice, Default: packingNames[0], Choices: packingNames},
			{Name: "name", Label: "Name of the file inside", Type: setting.Text, Default: "content", Rare: true, Help: "Of a zip"},
			{Name: "result type", Older: []string{"gives"}, Label: "What comes of it is", Type: setting.Choice, Default: "what it usually is", Choices: []string{"what it usually is", "text", "bytes"}, Rare: true},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "packed"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return s.Setting("operation") },
	},
	Compile: compileEncode,
}

func compileEncode(c *compile.Compiler, s *flow.Step) running.Runner {
	prog, how := c.Formula(s.Place("value")), packings[s.Setting("operation")]
	raw := s.Setting("result type") == "bytes" || s.Setting("result type") != "text" && how.bytes
	kind := value.Text
	if raw {
		kind = value.Binary
	}
	slot := c.Yield(s, "as", running.Named{}, formula.Type{Kind: kind})
	if prog == nil || how.does == nil {
		return running.PassOn
	}
	wantBytes(c, s, "value", prog)
	return func(_ context.Context, _ *running.Batch, items []*running.Item) error {
		for _, it := range items {
			b, ok := bytesAt(it, s, prog)
			if !ok {
				continue
			}
			out, err := how.does(b, s.Setting("name"))
			if err != nil {
				it.Aside(s.ID, fault.From(err, fault.Syntax).InField(s.Name))
				continue
			}
			it.Frame.Slots[slot] = bytesOf(out, raw)
		}
		return nil
	}
}
