package api

import (
	"net/url"
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/route"
	"hollowreed/internal/core/setting"
)

// WayKind is one kind of what answers operations other than flows.
type WayKind struct {
	Name, Title, About string
	Settings           setting.List
	check              func(d *partfile.Doc, w *Way, kindOf Connections)
}

// The kinds of what answers operations.
var (
	Examples = &WayKind{
		Name: "examples", Title: "Its examples",
		About: "The contract's examples, or values made of its schemas, so that callers can begin before anything is built.",
		Settings: setting.List{
			{Name: "status", Label: "Status", Type: setting.Text, Wide: true, Hint: "200", Help: "Of the response that is sent where no example is asked for by its name. Default: the first that says that all is well"},
		},
		check: checkStatus,
	}
	PassThrough = &WayKind{
		Name: "pass-through", Title: "Passed through to a backend",
		About: "The request goes on to the address of a connection, and its response comes back, byte for byte.",
		Settings: setting.List{
			{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true},
			{Name: "path", Label: "Path", Type: setting.Text, Hint: "/bookings/{number}", Help: "Below the address of the connection; {name} stands for a parameter of the path. Default: as in the contract"},
			{Name: "keep headers", Label: "Headers passed on", Type: setting.Text, Rare: true, Help: "Names with commas between; * is all but those that belong to one hop, the caller's key and its cookies", Default: "*"},
			{Name: "user name token", Label: "User name token", Type: setting.Choice, Default: TokenStays, Choices: []string{TokenStays, TokenOfConnection, TokenRemoved}, Rare: true, Help: "Of envelopes (WS-Security): the connection's own takes the place of the caller's, or none does"},
			{Name: "drop headers", Label: "Response headers removed", Type: setting.Text, Rare: true, Help: "Names with commas between", Default: "Server, X-Powered-By"},
		},
		check: checkPassThrough,
	}
)

// What becomes of the user name token of an envelope that is passed through.
const (
	TokenStays        = "as it comes"
	TokenOfConnection = "of the connection"
	TokenRemoved      = "removed"
)

// WayKinds is the list of them.
var WayKinds = []*WayKind{Examples, PassThrough}

// WayOf finds a kind by its name; the first where there is none.
func WayOf(name string) *WayKind {
	if i := slices.IndexFunc(WayKinds, func(k *WayKind) bool { return k.Name == name }); i >= 0 {
		return WayKinds[i]
	}
	return WayKinds[0]
}

func wayNames() (list []string) {
	for _, k := range WayKinds {
		list = append(list, k.Name)
	}
	return list
}

// tokenOK is what names of headers look like (RFC 9110, section 5.6.2).
var tokenOK = regexp.MustCompile("^[A-Za-z0-9!#$%&'*+.^_`|~-]+$")

// checkStatus finds the answer of the contract that examples are of.
func checkStatus(d *partfile.Doc, w *Way, _ Connections) {
	t := w.Settings.Text("status")
	if t.Value == "" {
		return
	}
	var known []string
	for _, a := range w.Operation.Answers {
		if a.Status == t.Value {
			return
		}
		known = append(known, a.Status)
	}
	d.Fault(t, fault.Expect(fault.Setting, "a status that the contract has ("+strings.Join(known, ", ")+")", fault.Quote(t.Value)).InField("status"))
}

// checkPassThrough checks where a request goes to.
func checkPassThrough(d *partfile.Doc, w *Way, kindOf Connections) {
	at := w.Settings.Text("connection")
	switch kind := kindOf(at.Value); {
	case at.Value == "":
	case kind == "":
		d.Fault(at, fault.New(fault.Unknown, "there is no connection %s", fault.Quote(at.Value)).InField("connection"))
	case kind != "http" && kind != "soap":
		d.Fault(at, fault.Expect(fault.Setting, "a connection of kind http or soap", fault.Quote(kind)).InField("connection"))
	}
	path := w.Settings.Text("path")
	for _, name := range route.Parameters(path.Value) {
		if !slices.Contains(route.Parameters(w.Operation.Path), name) {
			d.Fault(path, fault.Expect(fault.Unknown, "a parameter of the path "+w.Operation.Path, fault.Quote("{"+name+"}")).InField("path"))
		}
	}
	for _, name := range []string{"keep headers", "drop headers"} {
		for _, h := range names(w.Setting(name)) {
			if h != "*" && !tokenOK.MatchString(h) {
				d.Fault(w.Settings.Text(name), fault.Expect(fault.Setting, "names of headers with commas between", fault.Quote(h)).InField(name))
			}
		}
	}
}

// names are texts with commas between.
func names(text string) (list []string) {
	for one := range strings.SplitSeq(text, ",") {
		if one = strings.TrimSpace(one); one != "" {
			list = append(list, one)
		}
	}
	return list
}

// BackendPath is where a request goes to below the address of its connection, with the parameters of the path in it, and escaped.
func (w *Way) BackendPath(values []route.Value) string {
	path := w.Setting("path")
	switch {
	case path == "" && w.Operation.Port != nil: // the address of the connection is that of the port
		return ""
	case path == "":
		path = w.Operation.Path
	}
	escaped := (&url.URL{Path: "/" + strings.TrimPrefix(path, "/")}).EscapedPath()
	var pairs []string
	for _, v := range values {
		pairs = append(pairs, "%7B"+url.PathEscape(v.Name)+"%7D", url.PathEscape(v.Text))
	}
	return strings.NewReplacer(pairs...).Replace(escaped)
}

// PassesOn says whether a header of a request is passed on, by its name in any case.
func (w *Way) PassesOn(name string) bool {
	list := names(w.Setting("keep headers"))
	return slices.ContainsFunc(list, func(n string) bool { return n == "*" || strings.EqualFold(n, name) })
}

// DropsFrom are the headers that are taken out of a backend's answer.
func (w *Way) DropsFrom() []string { return names(w.Setting("drop headers")) }
