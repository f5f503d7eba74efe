// Package sftp reads and writes files on another machine over SSH. The host must show the key that is kept
// with the connection: another one is refused, loudly.
package sftp

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"net"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"hollowreed/internal/connector/file"
	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// Host is one machine.
type Host struct {
	env    system.Env
	config *ssh.ClientConfig
	adding sync.Mutex
	mu     sync.Mutex
	ssh    *ssh.Client
	open   *sftp.Client
}

var (
	_ system.Caller          = (*Host)(nil)
	_ system.Reader          = (*Host)(nil)
	_ system.Folder          = (*Host)(nil)
	_ system.CatalogueReader = (*Host)(nil)
)

// keyError is a host that shows another key than the one that is known, or one where none is known.
type keyError struct{ shown, known ssh.PublicKey }

func (e *keyError) Error() string {
	if e.known == nil {
		return fmt.Sprintf("the host shows a key that nobody has compared yet: %s %s", e.shown.Type(), ssh.FingerprintSHA256(e.shown))
	}
	return fmt.Sprintf("THE HOST SHOWS ANOTHER KEY than the one that is known: %s %s, known is %s", e.shown.Type(), ssh.FingerprintSHA256(e.shown), ssh.FingerprintSHA256(e.known))
}

func (e *keyError) mend() string {
	if e.known == nil {
		return "Compare this print with what the host's owner says. If they are the same, keep this as the host's key: " + line(e.shown)
	}
	return "Somebody may stand between, or the host was set up anew. Ask its owner before you keep another key"
}

func line(k ssh.PublicKey) string {
	return k.Type() + " " + base64.StdEncoding.EncodeToString(k.Marshal())
}

// Open makes a host of its settings.
func Open(env system.Env) (system.System, error) {
	v := env.Values
	for _, name := range []string{"host", "user"} {
		if v[name] == "" {
			return nil, fault.New(fault.Required, "the connection has no %s", name).WithFix("Fill it in and save")
		}
	}
	h := &Host{env: env, config: &ssh.ClientConfig{User: v["user"], Timeout: v.Timeout()}}
	if v["key"] != "" {
		signer, err := ssh.ParsePrivateKey([]byte(v["key"] + "\n"))
		if err != nil {
			return nil, fault.Expect(fault.Setting, "a private key in OpenSSH's or PEM form, without a passphrase", "one that cannot be read").InField("Private key")
		}
		h.config.Auth = append(h.config.Auth, ssh.PublicKeys(signer))
	}
	if v["password"] != "" {
		h.config.Auth = append(h.config.Auth, ssh.Password(v["password"]))
	}
	known, err := knownKeys(v["host key"])
	if err != nil {
		return nil, err
	}
	for _, k := range known {
		h.config.HostKeyAlgorithms = append(h.config.HostKeyAlgorithms, algorithms(k.Type())...)
	}
	h.config.HostKeyCallback = func(_ string, _ net.Addr, shown ssh.PublicKey) error {
		for _, k := range known {
			if bytes.Equal(k.Marshal(), shown.Marshal()) {
				return nil
			}
		}
		if len(known) == 0 {
			return &keyError{shown: shown}
		}
		return &keyError{shown: shown, known: known[0]}
	}
	return h, nil
}

// algorithms are the signatures that a key of a type may make; others come after, so that another key is seen
// and told, not only "no common algorithm".
func algorithms(kind string) []string {
	list := []string{kind}
	if kind == ssh.KeyAlgoRSA {
		list = []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return append(list, ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
}

// knownKeys reads keys as they stand in known_hosts, or as type and key alone.
func knownKeys(text string) ([]ssh.PublicKey, error) {
	var list []ssh.PublicKey
	for l := range strings.SplitSeq(text, "\n") {
		if l = strings.TrimSpace(l); l == "" || strings.HasPrefix(l, "#") {
			continue
		}
		k, _, _, _, err := ssh.ParseAuthorizedKey([]byte(l))
		if err != nil {
			_, _, k, _, _, err = ssh.ParseKnownHosts([]byte(l))
		}
		if err != nil {
			return nil, fault.Expect(fault.Setting, "a line of known_hosts, or type and key", fault.Quote(l)).InField("The host's key")
		}
		list = append(list, k)
	}
	return list, nil
}

// Close ends the connection.
func (h *Host) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.drop()
}

func (h *Host) drop() {
	if h.open != nil {
		h.open.Close()
		h.ssh.Close()
		h.open, h.ssh = nil, nil
	}
}

func (h *Host) dial(ctx context.Context) (*ssh.Client, error) {
	v := h.env.Values
	conn, err := h.env.Net.Dial(ctx, v["host"], v.Int("port", 22))
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	c, chans, reqs, err := ssh.NewClientConn(conn, net.JoinHostPort(v["host"], v["port"]), h.config)
	if err != nil {
		conn.Close()
		return nil, err
	}
	return ssh.NewClient(c, chans, reqs), nil
}

// client gives the connection, made anew where it broke.
func (h *Host) client(ctx context.Context) (*sftp.Client, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.open != nil {
		return h.open, nil
	}
	s, err := h.dial(ctx)
	if err != nil {
		return nil, told(err)
	}
	c, err := sftp.NewClient(s)
	if err != nil {
		s.Close()
		return nil, told(err)
	}
	h.ssh, h.open = s, c
	go func() { // a connection that breaks is not used again
		c.Wait()
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.open == c {
			h.drop()
		}
	}()
	return c, nil
}

// told makes a fault of what waiting does not mend.
func told(err error) error {
	var key *keyError
	switch {
	case errors.As(err, &key):
		return fault.New(fault.Setting, "%s", key).WithFix("%s", key.mend())
	case err != nil && strings.Contains(err.Error(), "unable to authenticate"):
		return fault.New(fault.Setting, "the host does not take the sign-in").WithFix("Check user, password and private key")
	}
	return err
}

// within does something with the connection, within the time of one answer.
func (h *Host) within(ctx context.Context, do func(c *sftp.Client) error) error {
	ctx, cancel := context.WithTimeout(ctx, h.env.Values.Timeout())
	defer cancel()
	c, err := h.client(ctx)
	if err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() { done <- do(c) }()
	select {
	case err = <-done:
	case <-ctx.Done():
		h.Close() // what hangs ends with the connection
		<-done
		err = errors.New("it did not answer in time")
	}
	if errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, io.EOF) || errors.Is(err, net.ErrClosed) {
		h.Close()
		return errors.New("it ended the connection")
	}
	return err
}

// Check says whether the folder can be read.
func (h *Host) Check(ctx context.Context) error {
	return h.within(ctx, func(c *sftp.Client) error {
		_, err := c.Stat(h.env.Values["folder"])
		return err
	})
}

// Probe tries the host stage by stage.
func (h *Host) Probe(ctx context.Context, r *probe.Run) {
	v := h.env.Values
	r.Reach(ctx, h.env.Net.Dialer(), v["host"], v.Int("port", 22))
	if !r.Passed() {
		return
	}
	h.Close() // what is open already says nothing
	c, err := h.dial(ctx)
	if c != nil {
		defer c.Close()
	}
	var key *keyError
	var bad error
	shown := "the host's key is the one that is known"
	if errors.As(err, &key) {
		bad, shown = err, key.Error()
	}
	r.Did("host key compared", 0, shown, bad, func(error) string { return key.mend() })
	r.Do("signed in", func() (string, error) {
		if err != nil {
			return told(err).Error(), err
		}
		return "as " + v["user"], nil
	}, func(error) string { return "Check user, password and private key" })
	r.Do("folder found", func() (string, error) {
		list, err := h.List(ctx, "")
		if err != nil {
			return v["folder"] + " cannot be read", err
		}
		return fmt.Sprintf("%s, with %d files", v["folder"], len(list)), nil
	}, func(error) string { return "Check the folder, and what the user may read" })
}

// at is where a file of the folder stands.
func (h *Host) at(name string) string { return path.Join(h.env.Values["folder"], name) }

// List gives the regular files whose names fit a mask.
func (h *Host) List(ctx context.Context, mask string) (list []system.File, err error) {
	err = h.within(ctx, func(c *sftp.Client) error {
		entries, err := c.ReadDir(h.env.Values["folder"])
		for _, e := range entries {
			if e.Mode().IsRegular() && file.Fits(mask, e.Name()) {
				list = append(list, system.File{Name: e.Name(), Size: e.Size(), Changed: e.ModTime(), Identity: fmt.Sprintf("%d-%d", e.Size(), e.ModTime().Unix())})
			}
		}
		return err
	})
	file.Sort(list, h.env.Values["order"])
	return list, err
}

// Open opens a file of the folder.
func (h *Host) Open(ctx context.Context, name string) (in io.ReadCloser, err error) {
	err = h.within(ctx, func(c *sftp.Client) error {
		in, err = c.Open(h.at(name))
		return err
	})
	return in, err
}

// MarkFetched moves or removes a file that was fetched, as the settings say.
func (h *Host) MarkFetched(ctx context.Context, name string) error {
	return h.within(ctx, func(c *sftp.Client) error {
		switch h.env.Values.Or("after", "move") {
		case "leave":
			return nil
		case "delete":
			return ignoreGone(c.Remove(h.at(name)))
		}
		to := path.Join(h.env.Values["done"], name)
		if _, err := c.Stat(to); err == nil {
			to += "." + fmt.Sprint(time.Now().UnixNano()) // one of its name that is there is not replaced
		}
		return ignoreGone(c.Rename(h.at(name), to))
	})
}

func ignoreGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Call reads, writes or removes one file.
func (h *Host) Call(ctx context.Context, r system.Request) (v value.Value, err error) {
	name := r.Value.Field("name").String()
	if err := file.CheckName(name); err != nil {
		return v, err
	}
	x := system.ExchangeOf(ctx)
	x.Sent(r.Op.Kind.Name, h.at(name))
	err = h.within(ctx, func(c *sftp.Client) error {
		switch r.Op.Kind.Name {
		case "read":
			in, err := c.Open(h.at(name))
			if err != nil {
				return err
			}
			defer in.Close()
			v, err = file.Content(r.Op, name, in, h.env.Values.Largest())
			return err
		case "delete":
			return c.Remove(h.at(name))
		}
		w, err := file.Written(r)
		if err != nil {
			return err
		}
		defer w.Close(r)
		if err := h.put(c, w); err != nil {
			return err
		}
		info, err := c.Stat(h.at(w.Name))
		if err != nil {
			return err
		}
		v, err = w.Done(r.Op, info.Size())
		return err
	})
	switch {
	case errors.Is(err, fs.ErrNotExist):
		err = fault.Expect(fault.NotFound, "the file "+name, "none of that name")
	case errors.Is(err, fs.ErrPermission):
		err = fault.New(fault.Outside, "the host does not allow it for %s", name)
	}
	if err != nil {
		x.Received("refused", err.Error())
		return value.Value{}, err
	}
	x.Received("done", "")
	return v, nil
}

// put writes beside the name and gives the file its name when it is whole.
func (h *Host) put(c *sftp.Client, w *file.Write) error {
	to := h.at(w.Name)
	if dir := path.Dir(to); dir != "." {
		if err := c.MkdirAll(dir); err != nil {
			return err
		}
	}
	if w.There == "append" {
		h.adding.Lock() // a server has no lock: what others add at the same moment would be overwritten
		defer h.adding.Unlock()
		out, err := c.OpenFile(to, os.O_WRONLY|os.O_CREATE)
		if err != nil {
			return err
		}
		if _, err = out.Seek(0, io.SeekEnd); err == nil { // not every server knows the flag to append
			_, err = io.Copy(out, w.Content.Reader())
		}
		return errors.Join(err, out.Close())
	}
	temp := file.TempName(to)
	out, err := c.OpenFile(temp, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, w.Content.Reader())
	switch err = errors.Join(err, out.Close()); {
	case err != nil:
	case w.There == "fail":
		err = named(c, temp, to, w.Name)
	default:
		err = replaced(c, temp, to)
	}
	if err != nil {
		c.Remove(temp)
	}
	return err
}

// The extensions of OpenSSH for links and for renames over a file (OpenSSH, PROTOCOL, 4.3 and 4.6).
const (
	hardLinks   = "hardlink@openssh.com"
	posixRename = "posix-rename@openssh.com"
)

// named gives a whole file its name if there is none of it: by a link, of which only one of several that write at once comes
// about; where a server makes none, by a rename, which many servers refuse over a file.
func named(c *sftp.Client, temp, to, name string) error {
	there := fault.New(fault.Outside, "there is a file %s already", name).WithFix("Choose another name, or let it be replaced")
	if _, links := c.HasExtension(hardLinks); links && c.Link(temp, to) == nil {
		c.Remove(temp) // what stays of it is hidden; the file is whole and has its name
		return nil
	}
	if isThere(c, to) {
		return there
	}
	return c.Rename(temp, to)
}

func isThere(c *sftp.Client, name string) bool {
	_, err := c.Lstat(name)
	return err == nil
}

// replaced gives a whole file its name, in place of one that may have it. A server without the extension for that needs the
// name free first; what was there stands under another name meanwhile.
func replaced(c *sftp.Client, temp, to string) error {
	if _, ok := c.HasExtension(posixRename); ok {
		return c.PosixRename(temp, to)
	}
	was := file.TempName(to)
	kept := c.Rename(to, was) == nil
	err := c.Rename(temp, to)
	switch {
	case err != nil && kept:
		err = errors.Join(err, c.Rename(was, to))
	case kept:
		err = c.Remove(was)
	}
	return err
}

// Read lists the folder as records.
func (h *Host) Read(ctx context.Context, r system.Request) iter.Seq2[value.Value, error] {
	list, err := h.List(ctx, r.Value.Field("mask").String())
	return file.Entries(r.Op, list, err)
}

// Catalogue lists the folder's files.
func (h *Host) Catalogue(ctx context.Context, find string) ([]system.CatalogueEntry, error) {
	list, err := h.List(ctx, "")
	var out []system.CatalogueEntry
	for _, f := range list {
		if strings.Contains(strings.ToLower(f.Name), strings.ToLower(find)) && len(out) < 500 {
			out = append(out, system.CatalogueEntry{Name: f.Name, Kind: "file", Detail: fmt.Sprintf("%d bytes", f.Size)})
		}
	}
	return out, err
}
