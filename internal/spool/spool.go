// Package spool holds content of any size on its way: in memory while it is small, in a temporary file when it is not.
package spool

import (
	"bytes"
	"errors"
	"io"
	"os"
)

// Small is how much is held in memory, in bytes.
const Small = 1 << 20

// Spool is content that is written first and read then. The zero Spool is empty.
type Spool struct {
	Memory int // how much of it is held in memory, in bytes; 0: Small
	mem    bytes.Buffer
	file   *os.File
	size   int64
}

// Of is content that is there already.
func Of(content []byte) *Spool {
	s := &Spool{size: int64(len(content))}
	s.mem.Write(content)
	return s
}

// Write appends to the content.
func (s *Spool) Write(p []byte) (int, error) {
	most := s.Memory
	if most == 0 {
		most = Small
	}
	if s.file == nil && s.mem.Len()+len(p) <= most {
		s.size += int64(len(p))
		return s.mem.Write(p)
	}
	if s.file == nil {
		f, err := os.CreateTemp("", "hollowreed-spool-")
		if err != nil {
			return 0, err
		}
		os.Remove(f.Name()) // it lives as long as it is open
		s.file = f
		if _, err := f.Write(s.mem.Bytes()); err != nil {
			return 0, err
		}
		s.mem = bytes.Buffer{}
	}
	n, err := s.file.Write(p)
	s.size += int64(n)
	return n, err
}

// OnDisk says whether the content is in a file: it keeps one open until it is let go.
func (s *Spool) OnDisk() bool { return s.file != nil }

// Reader reads the content from its beginning. There may be several.
func (s *Spool) Reader() io.Reader {
	if s.file == nil {
		return bytes.NewReader(s.mem.Bytes())
	}
	return io.NewSectionReader(s.file, 0, s.size)
}

// Size is how much was written, in bytes.
func (s *Spool) Size() int64 { return s.size }

// Chunks gives the content in pieces of at most Small bytes, in their order, to use. An empty content has none.
func (s *Spool) Chunks(use func(chunk []byte) error) error {
	if s.file == nil {
		for rest := s.mem.Bytes(); len(rest) > 0; {
			n := min(len(rest), Small)
			if err := use(rest[:n]); err != nil {
				return err
			}
			rest = rest[n:]
		}
		return nil
	}
	if _, err := s.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	chunk := make([]byte, Small)
	for {
		n, err := io.ReadFull(s.file, chunk)
		if n > 0 {
			if err := use(chunk[:n]); err != nil {
				return err
			}
		}
		switch {
		case err == io.EOF, errors.Is(err, io.ErrUnexpectedEOF):
			return nil
		case err != nil:
			return err
		}
	}
}

// Close lets the content go. It may be called on nil.
func (s *Spool) Close() error {
	if s == nil || s.file == nil {
		return nil
	}
	return s.file.Close()
}
