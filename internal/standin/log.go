package standin

import (
	"compress/gzip"
	"net/http"
	"sync"
	"time"
)

// Log is what a stand-in received, the newest first.
type Log struct {
	mu   sync.Mutex
	rows [][]string
}

// mostLogged bounds a log.
const mostLogged = 100

// Add notes something with the time.
func (l *Log) Add(what ...string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	row := append([]string{time.Now().UTC().Format("15:04:05")}, what...)
	l.rows = append([][]string{row}, l.rows[:min(len(l.rows), mostLogged-1)]...)
}

// Rows gives a copy of the log.
func (l *Log) Rows() [][]string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([][]string(nil), l.rows...)
}

// handler notes the requests of an HTTP service and what they were answered.
func (l *Log) handler(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s := &statusWriter{ResponseWriter: w, status: 200}
		defer func() { l.Add(r.Method, r.URL.RequestURI(), http.StatusText(s.status)) }()
		next.ServeHTTP(s, r)
	})
}

type statusWriter struct {
	http.ResponseWriter
	status int
}

func (s *statusWriter) WriteHeader(status int) {
	s.status = status
	s.ResponseWriter.WriteHeader(status)
}

// Unwrap gives what is written to, for those that steer it.
func (s *statusWriter) Unwrap() http.ResponseWriter { return s.ResponseWriter }

// writeBomb writes zeros that pack well.
func writeBomb(w http.ResponseWriter) {
	z, err := gzip.NewWriterLevel(w, gzip.BestCompression)
	if err != nil {
		return
	}
	block := make([]byte, 1<<20)
	for range 4096 {
		if _, err := z.Write(block); err != nil {
			return
		}
	}
	z.Close()
}
