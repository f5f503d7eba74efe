package api

import (
	"net/url"
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
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
			{Name: "refuse if", Label: "Refuse if", Type: setting.Formula, Rare: true, Redraw: true, Hint: "request.parameters.number < 0", Help: "Such requests do not reach the backend: a formula over request and input, the body of the contract"},
			{Name: "refusal status", Label: "Status of a refusal", Type: setting.Number, Default: "403", Least: 400, Greatest: 499, Rare: true},
			{Name: "refusal text", Label: "Reason of a refusal", Type: setting.Formula, Rare: true, Hint: `"no such number"`, Help: "A formula that gives a text"},
			{Name: "request mapping", Label: "Request mapping", Type: setting.Part, Of: "mapping", Rare: true, Help: "From the body of the contract to the backend's. Default: it goes on as it is"},
			{Name: "request headers", Label: "Request headers set", Type: setting.Template, Rare: true, Help: "One a line, as X-Plate: ${request.parameters.plate}"},
			{Name: "response mapping", Label: "Response mapping", Type: setting.Part, Of: "mapping", Rare: true, Help: "Of responses that say that all is well, to the body of the contract. Default: they come back as they are"},
			{Name: "response headers", Label: "Response headers set", Type: setting.Template, Rare: true, Help: "One a line, as Cache-Control: max-age=60"},
		},
		check: checkPassThrough,
	}
	Called = &WayKind{
		Name: "operation", Title: "An operation of a connection",
		About: "A connection's operation is asked with what the caller sent, and the caller gets its answer; no flow, and no run is kept.",
		Settings: setting.List{
			{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true, Redraw: true},
			{Name: "calls", Label: "Operation", Type: setting.Operation, Required: true, Redraw: true},
			{Name: "records", Label: "If it gives several records", Type: setting.Choice, Default: string(running.OneRow), Choices: []string{string(running.OneRow), string(running.FirstRow), string(running.AllRows)}, Rare: true, Help: "Of an operation that reads"},
			{Name: "request mapping", Label: "Request mapping", Type: setting.Part, Of: "mapping", None: "by fields", Redraw: true, Help: "From the body of the contract to what the operation is asked with"},
			{Name: "with", Label: "Request fields", Type: setting.Pairs, When: "request mapping=", Help: "Formulas over request and input, the body of the contract"},
			{Name: "response mapping", Label: "Response mapping", Type: setting.Part, Of: "mapping", None: "by fields", Redraw: true, Help: "From the operation's answer to the body of the contract"},
			{Name: "respond", Label: "Response fields", Type: setting.Pairs, When: "response mapping=", Help: "Formulas over response, request and input"},
			{Name: "missing status", Label: "Status if it gives nothing", Type: setting.Number, Hint: "404", Least: 200, Greatest: 599, Rare: true, Help: "Default: 404"},
		},
		check: checkCalled,
	}
)

// checkCalled checks which connection is asked.
func checkCalled(d *partfile.Doc, w *Way, kindOf Connections) {
	at := w.Settings.Text("connection")
	if at.Value != "" && kindOf(at.Value) == "" {
		d.Fault(at, fault.New(fault.Unknown, "there is no connection %s", fault.Quote(at.Value)).InField("connection"))
	}
}

// What becomes of the user name token of an envelope that is passed through.
const (
	TokenStays        = "as it comes"
	TokenOfConnection = "of the connection"
	TokenRemoved      = "removed"
)

// WayKinds is the list of them.
var WayKinds = []*WayKind{Examples, PassThrough, Called}

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

// passing is how requests go on to a backend, made once of the settings.
type passing struct {
	path     []string // escaped; the names of parameters stand at odd places, and are empty where there is no path of its own
	all      bool     // headers of any name go on
	keep     map[string]bool
	dropping []string
}

// passing reads the settings of a way that passes through.
func (w *Way) readPassing() {
	path := w.Setting("path")
	if path == "" {
		path = w.Operation.Path
	}
	if w.Setting("path") != "" || w.Operation.Port == nil { // else the address of the connection is that of the port
		rest := (&url.URL{Path: "/" + strings.TrimPrefix(path, "/")}).EscapedPath()
		for _, name := range route.Parameters(path) {
			before, after, _ := strings.Cut(rest, "%7B"+url.PathEscape(name)+"%7D")
			w.passing.path, rest = append(w.passing.path, before, name), after
		}
		w.passing.path = append(w.passing.path, rest)
	}
	w.passing.keep = map[string]bool{}
	for _, name := range names(w.Setting("keep headers")) {
		w.passing.all = w.passing.all || name == "*"
		w.passing.keep[strings.ToLower(name)] = true
	}
	w.passing.dropping = names(w.Setting("drop headers"))
}

// BackendPath is where a request goes to below the address of its connection, with the parameters of the path in it, and escaped.
func (w *Way) BackendPath(values []route.Value) string {
	switch len(w.passing.path) {
	case 0:
		return ""
	case 1:
		return w.passing.path[0]
	}
	var b strings.Builder
	for i, piece := range w.passing.path {
		if i%2 == 0 {
			b.WriteString(piece)
			continue
		}
		for _, v := range values {
			if v.Name == piece {
				b.WriteString(url.PathEscape(v.Text))
			}
		}
	}
	return b.String()
}

// PassesAll says whether headers of any name are passed on.
func (w *Way) PassesAll() bool { return w.passing.all }

// PassesOn says whether a header of a request is passed on, by its name in any case.
func (w *Way) PassesOn(name string) bool {
	return w.passing.all || w.passing.keep[strings.ToLower(name)]
}

// DropsFrom are the headers that are taken out of a backend's answer.
func (w *Way) DropsFrom() []string { return w.passing.dropping }
