package page

import (
	"crypto/rand"
	"io"
	"log/slog"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/loopback"
)

// Nonce is the word of a page with which the editor of texts may add its styles (Content Security Policy Level 3, section 2.3.1). It
// is another one for every page.
func Nonce(c *gin.Context) string {
	const key = "nonce"
	if c.GetString(key) == "" {
		c.Set(key, rand.Text())
	}
	return c.GetString(key)
}

// bodyTime is how long the body of a request may take to come in.
const bodyTime = 30 * time.Second

// restTime is for what is left of a body that nobody reads: the server takes it in before it sends the answer.
const restTime = 250 * time.Millisecond

// Loopback answers only to names of this machine, so that no other site can reach what is served through a name of its own.
func Loopback(c *gin.Context) {
	if !loopback.Is(c.Request.Host) {
		c.AbortWithStatus(http.StatusMisdirectedRequest)
		return
	}
	c.Next()
}

// Bounded bounds the body of a request in bytes, and the time in which it has to come in.
func Bounded(c *gin.Context, most int64) { bounded(c, most, bodyTime) }

func bounded(c *gin.Context, most int64, within time.Duration) {
	body := &timedBody{ReadCloser: http.MaxBytesReader(c.Writer, c.Request.Body, most), conn: http.NewResponseController(c.Writer)}
	if c.Request.Body != http.NoBody {
		body.conn.SetReadDeadline(time.Now().Add(within)) // a writer without connection, as in tests, has none
	}
	c.Request.Body = body
}

// Unread gives a caller its answer although its body has not come in, which it need not any more.
func Unread(c *gin.Context) {
	http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(restTime)) // as above
}

// Answered bounds the time in which a request has to be answered and its answer taken, so that who does not read holds nothing
// for ever.
func Answered(c *gin.Context, within time.Duration) {
	http.NewResponseController(c.Writer).SetWriteDeadline(time.Now().Add(within)) // as above
}

// Streamed bounds a request that is handed on while it comes in, and its answer: each side waits for the other, and neither may stand
// still for longer than a body may take. The answer is to be written with what is given.
func Streamed(c *gin.Context) http.ResponseWriter {
	conn := http.NewResponseController(c.Writer)
	c.Request.Body = &steadyBody{c.Request.Body, conn}
	return &steadyWriter{c.Writer, conn}
}

// steadyBody is a body of which the next piece has to come in time.
type steadyBody struct {
	io.ReadCloser
	conn *http.ResponseController
}

func (b *steadyBody) Read(p []byte) (int, error) {
	b.conn.SetReadDeadline(time.Now().Add(bodyTime)) // as above
	return b.ReadCloser.Read(p)
}

// steadyWriter is an answer of which the next piece has to be taken in time.
type steadyWriter struct {
	http.ResponseWriter
	conn *http.ResponseController
}

func (w *steadyWriter) Write(p []byte) (int, error) {
	w.conn.SetWriteDeadline(time.Now().Add(bodyTime)) // as above
	return w.ResponseWriter.Write(p)
}

// Unwrap gives the writer below, which can be flushed.
func (w *steadyWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// timedBody is a body whose time is over once it was read.
type timedBody struct {
	io.ReadCloser
	conn *http.ResponseController
}

// Read reads on; behind the end the connection may wait as long as it likes.
func (b *timedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err == io.EOF {
		b.conn.SetReadDeadline(time.Time{})
	}
	return n, err
}

// Logged writes each request into the log.
func Logged(log *slog.Logger) gin.HandlerFunc {
	return func(c *gin.Context) {
		began := time.Now()
		c.Next()
		log.Debug("request", "method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(), "took", time.Since(began))
		for _, err := range c.Errors {
			log.Error("request", "path", c.Request.URL.Path, "error", err)
		}
	}
}

// Recovered keeps the server alive when a request fails beyond all expectation.
func Recovered(log *slog.Logger, tell func(*gin.Context)) gin.HandlerFunc {
	return gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, err any) {
		log.Error("panic", "path", c.Request.URL.Path, "error", err)
		tell(c)
	})
}
