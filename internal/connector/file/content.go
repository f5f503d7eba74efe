package file

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"path"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// Write is a file as it is to be written.
type Write struct {
	Name  string
	Bytes []byte
	There string // what happens when there is one of that name: replace, refuse or append
}

// Written makes of a request what is to be written: compressed, and with the ending for that.
func Written(r system.Request) (*Write, error) {
	w := &Write{Name: r.Value.Field("name").String(), There: r.Op.Setting("there")}
	content := r.Value.Field("content")
	if content.Missing() {
		content = r.Value.Field("text")
	}
	if !content.Missing() {
		w.Bytes = []byte(content.Text())
	}
	return w, w.compress(r.Op.Setting("compress"))
}

func (w *Write) compress(how string) error {
	var out bytes.Buffer
	var in io.WriteCloser
	inner := path.Base(w.Name)
	switch how {
	case "gzip":
		z := gzip.NewWriter(&out)
		z.Name = inner
		in = z
		w.Name += ".gz"
	case "zip":
		z := zip.NewWriter(&out)
		f, err := z.Create(inner)
		if err != nil {
			return err
		}
		_, err = f.Write(w.Bytes)
		w.Name += ".zip"
		err = errors.Join(err, z.Close())
		w.Bytes = out.Bytes()
		return err
	default:
		return nil
	}
	_, err := in.Write(w.Bytes)
	err = errors.Join(err, in.Close())
	w.Bytes = out.Bytes()
	return err
}

// Done is the answer to having written.
func (w *Write) Done(op *connection.Operation) value.Value {
	return value.Rec(op.Response.Root.Shape(), []value.Value{value.Str(w.Name), value.Int(int64(len(w.Bytes)))})
}

// Content is a file with what is in it; one that ends in .gz is unpacked.
func Content(op *connection.Operation, name string, in io.Reader, largest int64) (value.Value, error) {
	content, err := io.ReadAll(system.Bounded(in, largest))
	if err != nil {
		return value.Value{}, err
	}
	if strings.HasSuffix(name, ".gz") {
		z, err := gzip.NewReader(bytes.NewReader(content))
		if err != nil {
			return value.Value{}, fault.New(fault.Syntax, "%s cannot be unpacked: %s", name, err)
		}
		if content, err = io.ReadAll(system.Bounded(z, largest)); err != nil {
			return value.Value{}, err
		}
	}
	text := value.Value{}
	if utf8.Valid(content) {
		text = value.Str(string(content))
	}
	return value.Rec(op.Response.Root.Shape(), []value.Value{value.Str(name), value.Int(int64(len(content))), text, value.Bytes(string(content))}), nil
}

// CheckName refuses names that no file below a folder can have.
func CheckName(name string) error {
	switch {
	case name == "":
		return fault.New(fault.Required, "the file has no name").In("name")
	case strings.ContainsRune(name, 0), strings.HasPrefix(name, "/"), len(name) > 1000, strings.Contains(name, `\`):
		return fault.Expect(fault.Setting, "the name of a file below the folder", fault.Quote(name)).In("name")
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == ".." || part == "" || part == "." {
			return fault.New(fault.Setting, "%s leads out of the folder", fault.Quote(name)).In("name")
		}
	}
	return nil
}
