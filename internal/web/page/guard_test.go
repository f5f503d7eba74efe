package page

import (
	"bufio"
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/store"
)

// asks sends the beginning of a request to a handler, which tells how what it does ends.
func asks(t *testing.T, request string, h func(*gin.Context) error) (net.Conn, chan error) {
	t.Helper()
	done := make(chan error, 1)
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.Any("/", func(c *gin.Context) { done <- h(c) })
	server := httptest.NewServer(r)
	t.Cleanup(server.Close)
	conn, err := net.Dial("tcp", server.Listener.Addr().String())
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	_, err = io.WriteString(conn, request)
	require.NoError(t, err)
	return conn, done
}

func TestABodyThatDoesNotComeIsGivenUp(t *testing.T) {
	read := func(c *gin.Context) error {
		bounded(c, 100, 50*time.Millisecond)
		_, err := io.ReadAll(c.Request.Body)
		return err
	}
	_, done := asks(t, "POST / HTTP/1.1\r\nHost: localhost\r\nContent-Length: 10\r\n\r\n{", read)
	var late net.Error
	require.ErrorAs(t, <-done, &late)
	require.True(t, late.Timeout())
}

func TestABodyThatIsTooLargeIsRefused(t *testing.T) {
	_, done := asks(t, "POST / HTTP/1.1\r\nHost: localhost\r\nContent-Length: 5\r\n\r\n12345", func(c *gin.Context) error {
		bounded(c, 4, time.Minute)
		_, err := io.ReadAll(c.Request.Body)
		return err
	})
	var large *http.MaxBytesError
	require.ErrorAs(t, <-done, &large)
}

// TestAConnectionOutlivesABody: the time for a body is over once it was read; the next request on the connection may come late.
func TestAConnectionOutlivesABody(t *testing.T) {
	const within = 50 * time.Millisecond
	request := "POST / HTTP/1.1\r\nHost: localhost\r\nContent-Length: 2\r\n\r\n{}"
	conn, done := asks(t, request, func(c *gin.Context) error {
		bounded(c, 100, within)
		_, err := io.ReadAll(c.Request.Body)
		time.Sleep(2 * within) // longer than the body had
		return err
	})
	answers := bufio.NewReader(conn)
	for range 2 {
		require.NoError(t, <-done)
		resp, err := http.ReadResponse(answers, nil)
		require.NoError(t, err)
		require.Equal(t, 200, resp.StatusCode)
		_, err = io.WriteString(conn, request)
		require.NoError(t, err)
	}
}

func TestAnAnswerThatNobodyTakesIsGivenUp(t *testing.T) {
	_, done := asks(t, "GET / HTTP/1.1\r\nHost: localhost\r\n\r\n", func(c *gin.Context) error {
		Answered(c, 50*time.Millisecond)
		some := make([]byte, 64<<10)
		for {
			if _, err := c.Writer.Write(some); err != nil {
				return err
			}
		}
	})
	var late net.Error
	require.ErrorAs(t, <-done, &late)
	require.True(t, late.Timeout())
}

var quay = store.Scope{Project: "quay", Environment: "Live"}

// TestALivePageHears: of every change, until it is closed.
func TestALivePageHears(t *testing.T) {
	hub := &Hub{listeners: map[*listener]bool{}}
	conn, done := asks(t, "GET / HTTP/1.1\r\nHost: localhost\r\n\r\n", func(c *gin.Context) error { hub.Serve(c, quay); return nil })
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	lines := bufio.NewScanner(resp.Body)
	hears := func(want string) {
		t.Helper()
		for lines.Scan() {
			if lines.Text() == want {
				return
			}
		}
		t.Fatalf("%s was not heard: %v", want, lines.Err())
	}
	hears("retry: 1000")
	for range 2 {
		hub.tell("part quay flows/a.yaml")
		hears("event: change")
		hears("data: part:flows%2Fa.yaml")
	}
	conn.Close()
	<-done
}

// TestAPageIsToldWhatHasChanged: in its project, each thing once until it was sent; where too much has, anything may have.
func TestAPageIsToldWhatHasChanged(t *testing.T) {
	hub := &Hub{listeners: map[*listener]bool{}}
	l := hub.join(quay, "127.0.0.1")
	for announced, want := range map[string]string{
		"runs": "runs", "runs quay/Live/bill/0195 quay/Live/bill/0196": "run:0195 run:0196 runs:bill", "runs other/Live/bill/0195": "", "runs quay/Trial/bill/0195": "",
		"runs ///0195": "run:0195 runs", "runs quay/Live//0195": "run:0195 runs", "part quay schemas/a b.yaml": "part:schemas%2Fa%20b.yaml", "part other schemas/a.yaml": "",
		"release quay bill": "release:bill", "deployment quay/Live bill": "release:bill", "deployment quay/Trial bill": "", "trigger quay/Live bill": "trigger:bill",
		"trigger quay/Trial bill": "", "setting quay/Live desk": "setting:desk", "health quay/Live desk": "health:desk", "health other/Live desk": "",
		"secret quay/Live the key to all": "secret", "secret quay/Trial the key to all": "", "cancel 0195": "", "something else": "", "": "",
	} {
		hub.tell(announced)
		hub.tell(announced)
		require.Equal(t, want, hub.take(l), announced)
		require.Empty(t, hub.take(l))
	}
	for i := range 3 * maxTopics {
		hub.tell("part quay flows/" + strconv.Itoa(i))
	}
	require.Contains(t, hub.take(l), Anything)
	hub.tellAnything()
	require.Equal(t, Anything, hub.take(l), "the database was not listened to for a while")
	hub.leave(l)
	hub.tell("runs")
	require.Empty(t, hub.take(l), "a page that was closed is told nothing")
}

// TestOneAddressShutsOutNoOther: so many live pages of one address, and no more.
func TestOneAddressShutsOutNoOther(t *testing.T) {
	hub := &Hub{listeners: map[*listener]bool{}}
	for range maxOfOne {
		require.NotNil(t, hub.join(quay, "127.0.0.1"))
	}
	require.NotNil(t, hub.join(quay, "127.0.0.2"))
	conn, done := asks(t, "GET / HTTP/1.1\r\nHost: localhost\r\n\r\n", func(c *gin.Context) error { hub.Serve(c, quay); return nil })
	require.NoError(t, <-done)
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	require.Equal(t, 429, resp.StatusCode)
	require.Equal(t, "5", resp.Header.Get("Retry-After"))
}

// TestTextsThatNothingCanKeepAreRefused: in an address, in a form, and in one with files.
func TestTextsThatNothingCanKeepAreRefused(t *testing.T) {
	form := func(kind, body string) *http.Request {
		r := httptest.NewRequest(http.MethodPost, "/", strings.NewReader(body))
		r.Header.Set("Content-Type", kind)
		return r
	}
	files := func(value string) *http.Request {
		return form("multipart/form-data; boundary=b", "--b\r\nContent-Disposition: form-data; name=\"title\"\r\n\r\n"+value+"\r\n--b\r\nContent-Disposition: form-data; name=\"file\"; filename=\"a\"\r\n\r\n\x00\xff\r\n--b--\r\n")
	}
	const plain = "application/x-www-form-urlencoded"
	require.NoError(t, readable(form(plain, "title=x")))
	r := files("x")
	require.NoError(t, readable(r))
	require.Equal(t, "x", r.PostForm.Get("title"))
	require.Len(t, r.MultipartForm.File["file"], 1, "a file may hold any bytes")
	for what, r := range map[string]*http.Request{
		"a form": form(plain, "title=%00"), "no UTF-8": form(plain, "title=%ff"), "an address": httptest.NewRequest(http.MethodGet, "/?a=%00", nil), "files": files("a\x00"), "files, no UTF-8": files("\xff"),
		"no boundary": form("multipart/form-data", "x"), "cut off": form("multipart/form-data; boundary=b", "--b\r\nContent-Disp"),
	} {
		var f *fault.Fault
		require.ErrorAs(t, readable(r), &f, what)
	}
}

// TestLargeFormsWaitForTheirTurn: they get half of the processors; who goes away waits no longer.
func TestLargeFormsWaitForTheirTurn(t *testing.T) {
	var all []func()
	for range cap(turns) {
		done, err := turn(t.Context())
		require.NoError(t, err)
		all = append(all, done)
	}
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := turn(gone)
	require.ErrorIs(t, err, context.Canceled)
	for _, done := range all {
		done()
	}
	done, err := turn(t.Context())
	require.NoError(t, err)
	done()
}
