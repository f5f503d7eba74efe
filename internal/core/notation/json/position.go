package json

import (
	"errors"
	"io"
)

// lineCounter notes where lines begin as bytes pass through, so that an offset of the record at
// hand can be told as line and column. What lies before the record is forgotten.
type lineCounter struct {
	r      io.Reader
	off    int64   // bytes passed so far
	line   int     // line number of the record's begin
	start  int64   // offset at which that line begins
	breaks []int64 // offsets behind line ends since then
	first  int64   // offset of the record
	limit  int
}

var errLimit = errors.New("over the limit of one value")

func (c *lineCounter) Read(p []byte) (int, error) {
	if c.limit > 0 && c.off-c.first > int64(c.limit)+int64(len(p)) {
		return 0, errLimit
	}
	n, err := c.r.Read(p)
	for i, b := range p[:n] {
		if b == '\n' {
			c.breaks = append(c.breaks, c.off+int64(i)+1)
		}
	}
	c.off += int64(n)
	return n, err
}

// begin says that a record starts at an offset.
func (c *lineCounter) begin(offset int64) {
	i := 0
	for i < len(c.breaks) && c.breaks[i] <= offset {
		c.start = c.breaks[i]
		i++
	}
	c.line += i
	c.breaks = append(c.breaks[:0], c.breaks[i:]...)
	c.first = offset
}

// position tells an offset at or behind the record's begin as line and column, in bytes from 1.
func (c *lineCounter) position(offset int64) (line, column int) {
	line, start := c.line, c.start
	for _, b := range c.breaks {
		if b > offset {
			break
		}
		line++
		start = b
	}
	return line, int(offset-start) + 1
}
