// Package sftpdrop is the stand-in for partners' files over SFTP: Northsound, Ormlet and Vane & Co leave
// consignment documents, the pier loggers their tide files.
package sftpdrop

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"hollowreed/internal/standin"
	"hollowreed/internal/standin/gauges"
)

// Who may come in.
const (
	User     = "skerry"
	Password = "gangway-77-word"
)

// Drop is the machine with the files.
type Drop struct {
	Moods   standin.FaultInjection
	Log     standin.Log
	Folder  string
	mu      sync.Mutex
	key     ssh.Signer // the host's
	other   ssh.Signer // the one that it shows in its mood
	allowed []byte     // the public key that may sign in
	Private string     // with which one may sign in, as OpenSSH writes it
}

// New makes a machine whose files stand in a folder.
func New(folder string) (*Drop, error) {
	d := &Drop{Folder: folder}
	var err error
	if d.key, _, err = newKey(); err != nil {
		return nil, err
	}
	if d.other, _, err = newKey(); err != nil {
		return nil, err
	}
	client, private, err := newKey()
	if err != nil {
		return nil, err
	}
	d.allowed, d.Private = client.PublicKey().Marshal(), private
	return d, nil
}

func newKey() (ssh.Signer, string, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, "", err
	}
	block, err := ssh.MarshalPrivateKey(key, "stand-in")
	if err != nil {
		return nil, "", err
	}
	signer, err := ssh.NewSignerFromKey(key)
	return signer, string(pem.EncodeToMemory(block)), err
}

// HostKey is the host's key as it is kept with a connection.
func (d *Drop) HostKey() string {
	k := d.key.PublicKey()
	return k.Type() + " " + base64.StdEncoding.EncodeToString(k.Marshal())
}

// Serve serves SFTP until the context ends and gives its port.
func (d *Drop) Serve(ctx context.Context) (port int, err error) {
	l, err := standin.Listen(ctx)
	if err != nil {
		return 0, err
	}
	go func() {
		moody := d.Moods.Listener(l)
		for {
			c, err := moody.Accept()
			if err != nil {
				return
			}
			context.AfterFunc(ctx, func() { c.Close() })
			go d.serve(c)
		}
	}()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// Config is that of the SSH server: who may come in, and which key it shows.
func (d *Drop) Config() *ssh.ServerConfig {
	c := &ssh.ServerConfig{
		PasswordCallback: func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if m.User() != User || string(password) != Password || d.Moods.Is(standin.Expire) {
				return nil, errors.New("no")
			}
			return nil, nil
		},
		PublicKeyCallback: func(m ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if m.User() != User || !bytes.Equal(key.Marshal(), d.allowed) {
				return nil, errors.New("no")
			}
			return nil, nil
		},
	}
	if d.Moods.Is(standin.HostKey) {
		c.AddHostKey(d.other)
	} else {
		c.AddHostKey(d.key)
	}
	return c
}

func (d *Drop) serve(c net.Conn) {
	defer c.Close()
	conn, channels, requests, err := ssh.NewServerConn(c, d.Config())
	if err != nil {
		return
	}
	d.Log.Add("signed in", conn.User())
	go ssh.DiscardRequests(requests)
	for ch := range channels {
		if ch.ChannelType() != "session" {
			ch.Reject(ssh.UnknownChannelType, "sessions only")
			continue
		}
		channel, requests, err := ch.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				r.Reply(r.Type == "subsystem" && bytes.HasSuffix(r.Payload, []byte("sftp")), nil)
			}
		}()
		go d.session(channel)
	}
}

// session serves the files of the folder, and nothing outside of it.
func (d *Drop) session(channel ssh.Channel) {
	defer channel.Close()
	root, err := os.OpenRoot(d.Folder)
	if err != nil {
		return
	}
	defer root.Close()
	h := &handler{root: root, drop: d}
	s := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h})
	s.Serve()
	s.Close()
}

type handler struct {
	root *os.Root
	drop *Drop
}

func inside(p string) string {
	if p = strings.TrimPrefix(filepath.Clean("/"+p), "/"); p == "" {
		return "."
	}
	return p
}

func (h *handler) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	h.drop.Log.Add("read", r.Filepath)
	return h.root.Open(inside(r.Filepath))
}

func (h *handler) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	h.drop.Log.Add("write", r.Filepath)
	flags := os.O_CREATE | os.O_WRONLY
	f := r.Pflags()
	if f.Excl {
		flags |= os.O_EXCL
	}
	if f.Trunc {
		flags |= os.O_TRUNC
	}
	return h.root.OpenFile(inside(r.Filepath), flags, 0o644)
}

func (h *handler) Filecmd(r *sftp.Request) error {
	h.drop.Log.Add(strings.ToLower(r.Method), r.Filepath+" "+r.Target)
	switch r.Method {
	case "Rename":
		if _, err := h.root.Lstat(inside(r.Target)); err == nil {
			return os.ErrExist
		}
		return h.root.Rename(inside(r.Filepath), inside(r.Target))
	case "Link":
		return h.root.Link(inside(r.Filepath), inside(r.Target))
	case "PosixRename":
		return h.root.Rename(inside(r.Filepath), inside(r.Target))
	case "Remove", "Rmdir":
		return h.root.Remove(inside(r.Filepath))
	case "Mkdir":
		return h.root.Mkdir(inside(r.Filepath), 0o755)
	case "Setstat":
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename replaces a file.
func (h *handler) PosixRename(r *sftp.Request) error {
	r.Method = "PosixRename"
	return h.Filecmd(r)
}

type listed []os.FileInfo

func (l listed) ListAt(out []os.FileInfo, from int64) (int, error) {
	if from >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(out, l[from:])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}

func (h *handler) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	at := inside(r.Filepath)
	if r.Method != "List" {
		info, err := h.root.Stat(at)
		return listed{info}, err
	}
	dir, err := h.root.Open(at)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	list, err := dir.Readdir(-1)
	return listed(list), err
}

// Page drops files and lists the folder.
func (d *Drop) Page(context.Context) (standin.Page, error) {
	p := standin.Page{Title: "Partner files", About: "Files of partners and loggers over SFTP. Host key: " + d.HostKey()}
	p.Actions = append([]standin.Action{{Name: "leave", Label: "Leave a tide file", About: "12 readings", Do: func(context.Context) (string, error) {
		d.mu.Lock()
		defer d.mu.Unlock()
		name := fmt.Sprintf("hv_%d.tide", len(d.Log.Rows()))
		return "Left " + name, gauges.Drop(filepath.Join(d.Folder, "outbox"), name, gauges.Readings(5, 3))
	}}}, d.Moods.Actions(standin.Slow, standin.Refuse, standin.Drop, standin.Expire, standin.HostKey)...)
	for _, dir := range []string{"outbox", "done", "inbox"} {
		t := standin.Table{Title: dir, Head: []string{"file", "bytes"}}
		entries, err := os.ReadDir(filepath.Join(d.Folder, dir))
		if err != nil {
			return p, err
		}
		for _, e := range entries {
			if info, err := e.Info(); err == nil {
				t.Rows = append(t.Rows, []string{e.Name(), fmt.Sprint(info.Size())})
			}
		}
		p.Tables = append(p.Tables, t)
	}
	p.Tables = append(p.Tables, standin.Table{Title: "Asked for", Head: []string{"at", "what", "where"}, Rows: d.Log.Rows()})
	return p, nil
}

// Settings are those of a connection to the machine at a port.
func (d *Drop) Settings(port int) map[string]string {
	return map[string]string{
		"host": "127.0.0.1", "port": fmt.Sprint(port), "user": User, "password": Password, "host key": d.HostKey(),
		"folder": "outbox", "after": "move", "done": "done",
	}
}

// Standin is the machine with partners' files.
var Standin = standin.Standin{
	Name: "partner-files", About: "files of partners and pier loggers over SFTP",
	Start: func(ctx context.Context, data string) (*standin.Running, error) {
		folder := filepath.Join(data, "stand-ins", "partner-files")
		for _, dir := range []string{"outbox", "done", "inbox"} {
			if err := os.MkdirAll(filepath.Join(folder, dir), 0o755); err != nil {
				return nil, err
			}
		}
		d, err := New(folder)
		if err != nil {
			return nil, err
		}
		port, err := d.Serve(ctx)
		if err != nil {
			return nil, err
		}
		page, err := standin.Serve(ctx, d.Page)
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{"partner-files": {Kind: "sftp", Values: d.Settings(port)}}}, err
	},
}
