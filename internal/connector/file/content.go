package file

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
	"hollowreed/internal/spool"
)

// Write is a file as it is to be written.
type Write struct {
	Name    string
	Content *spool.Spool
	There   string // what happens when there is one of that name: replace, refuse or append
}

// Written makes of a request what is to be written: compressed, and with the ending for that.
func Written(r system.Request) (*Write, error) {
	w := &Write{Name: r.Value.Field("name").String(), There: r.Op.Setting("if exists"), Content: r.Content}
	if w.Content == nil {
		content := r.Value.Field("content")
		if content.IsMissing() {
			content = r.Value.Field("text")
		}
		w.Content = spool.Of([]byte(content.Text()))
	}
	if err := w.compress(r.Op.Setting("compress")); err != nil {
		w.Close(r)
		return nil, err
	}
	return w, nil
}

func (w *Write) compress(how string) error {
	inner := path.Base(w.Name)
	switch how {
	case "gzip":
		out := &spool.Spool{}
		z := gzip.NewWriter(out)
		z.Name = inner
		_, err := io.Copy(z, w.Content.Reader())
		w.Name, w.Content = w.Name+".gz", out
		return errors.Join(err, z.Close())
	case "zip":
		out := &spool.Spool{}
		z := zip.NewWriter(out)
		f, err := z.Create(inner)
		if err == nil {
			_, err = io.Copy(f, w.Content.Reader())
		}
		w.Name, w.Content = w.Name+".zip", out
		return errors.Join(err, z.Close())
	}
	return nil
}

// Close lets go of what was compressed.
func (w *Write) Close(r system.Request) {
	if w.Content != r.Content {
		w.Content.Close()
	}
}

// Done is the answer to having written: the name, and the size that was found there afterwards. It is an error where that
// is not what was sent; a file that was added to has had more before.
func (w *Write) Done(op *connection.Operation, found int64) (value.Value, error) {
	if sent := w.Content.Size(); found != sent && (w.There != "append" || found < sent) {
		return value.Value{}, fmt.Errorf("%s has %d bytes there after %d were written", w.Name, found, sent)
	}
	return value.NewRecord(op.Response.Root.Layout(), []value.Value{value.NewText(w.Name), value.Int(found)}), nil
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
		text = value.NewText(string(content))
	}
	return value.NewRecord(op.Response.Root.Layout(), []value.Value{value.NewText(name), value.Int(int64(len(content))), text, value.Bytes(string(content))}), nil
}

// CheckName refuses names that no file below a folder can have.
func CheckName(name string) error {
	switch {
	case name == "":
		return fault.New(fault.Required, "the file has no name").InField("name")
	case strings.ContainsRune(name, 0), strings.HasPrefix(name, "/"), len(name) > 1000, strings.Contains(name, `\`):
		return fault.Expect(fault.Setting, "the name of a file below the folder", fault.Quote(name)).InField("name")
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == ".." || part == "" || part == "." {
			return fault.New(fault.Setting, "%s leads out of the folder", fault.Quote(name)).InField("name")
		}
	}
	return nil
}
