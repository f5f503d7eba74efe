// Package blockreader reads a stream in large blocks and hands out its text as substrings of them: a
// record costs no copy of its own, and memory stays bounded by the block and the longest record.
package blockreader

import (
	"errors"
	"io"
	"strings"
)

// Size of one block in bytes.
const Size = 128 << 10

// Source is a stream seen through one block of text at a time.
type Source struct {
	r    io.Reader
	buf  []byte
	Text string // what is read and not yet taken
	Off  int64  // byte offset of Text in the stream
	end  bool
	err  error
}

// New starts at the stream's beginning; a UTF-8 byte order mark is dropped.
func New(r io.Reader) *Source {
	s := &Source{r: r, buf: make([]byte, Size)}
	s.More()
	if rest, ok := strings.CutPrefix(s.Text, "\ufeff"); ok {
		s.Text, s.Off = rest, 3
	}
	return s
}

// More reads on behind Text. It is false at the end of the stream or after an error.
func (s *Source) More() bool {
	if s.end {
		return false
	}
	n, err := io.ReadAtLeast(s.r, s.buf, len(s.buf)/2)
	if err != nil {
		s.end = true
		if !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
			s.err = err
		}
	}
	if n == 0 {
		return false
	}
	if s.Text == "" {
		s.Text = string(s.buf[:n])
		return true
	}
	var b strings.Builder
	b.Grow(len(s.Text) + n)
	b.WriteString(s.Text)
	b.Write(s.buf[:n])
	s.Text = b.String()
	return true
}

// Err is the error that ended the reading, other than the stream's end.
func (s *Source) Err() error { return s.err }

// Take removes n bytes from the front and gives them.
func (s *Source) Take(n int) string {
	t := s.Text[:n]
	s.Text = s.Text[n:]
	s.Off += int64(n)
	return t
}

// Line is one line of a stream.
type Line struct {
	Text    string // without its end; the beginning only when Long
	End     string // "\n", "\r\n", or empty at the end of the stream
	Off     int64  // byte offset
	Long    bool   // longer than the limit: the rest was skipped
	Skipped int64  // bytes of the whole line, when Long
}

// Line takes the next line; ok is false at the end of the stream.
func (s *Source) Line(limit int) (l Line, ok bool) {
	l.Off = s.Off
	searched := 0
	for {
		if i := strings.IndexByte(s.Text[searched:], '\n'); i >= 0 {
			return s.line(l, searched+i+1, limit), true
		}
		searched = len(s.Text)
		if searched > limit+2 {
			return s.skip(l), true
		}
		if !s.More() {
			break
		}
	}
	if s.Text == "" {
		return l, false
	}
	l.Text = s.Take(len(s.Text))
	return l, true
}

func (s *Source) line(l Line, n, limit int) Line {
	t := s.Take(n)
	l.Text, l.End = t[:n-1], "\n"
	if strings.HasSuffix(l.Text, "\r") {
		l.Text, l.End = l.Text[:n-2], "\r\n"
	}
	if len(l.Text) > limit {
		l.Long, l.Skipped = true, int64(n)
	}
	return l
}

// skip passes over a line that is too long, keeping only its beginning.
func (s *Source) skip(l Line) Line {
	const kept = 200
	l.Long, l.Text = true, strings.Clone(s.Text[:kept])
	for {
		if i := strings.IndexByte(s.Text, '\n'); i >= 0 {
			s.Take(i + 1)
			l.End = "\n"
			break
		}
		s.Take(len(s.Text))
		if !s.More() {
			break
		}
	}
	l.Skipped = s.Off - l.Off
	return l
}
